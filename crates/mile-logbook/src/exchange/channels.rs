//! Channels as columns of a trace, and columns as channels.

use super::imported::{COLUMNS, Extra, LANE};
use mile_core::Sample;
use mile_core::channel::{Channel, Reading, Series, Source};
use std::collections::HashMap;

/// The readings of channels as columns beside the samples of a lane: in each row the mean of those that were taken in its interval, and
/// nothing where there was none. Channels of other lanes are left out; a name that is taken gets a number behind it.
pub fn columns_of_series(series: &[Series], lane: u32, samples: &[Sample]) -> Vec<Extra> {
    let mut all: Vec<Extra> = Vec::new();
    for one in series.iter().filter(|s| s.channel.of.is_none_or(|of| of == lane)) {
        let taken =
            |name: &str| COLUMNS.contains(&name) || name == LANE || all.iter().any(|e| e.name == name);
        let numbered =
            |i: u32| Channel { name: format!("{}_{i}", one.channel.name), ..one.channel.clone() }.column();
        let name = std::iter::once(one.channel.column()).chain((2..).map(numbered)).find(|n| !taken(n));
        let labels = &one.channel.labels;
        let label = |s: &Sample| {
            let last = one.within(s.start, s.end).last().map(|r| r.value as usize);
            last.and_then(|i| labels.get(i)).cloned().unwrap_or_default()
        };
        let number =
            |s: &Sample| one.summary(s.start, s.end).map_or(String::new(), |(mean, _)| format!("{mean}"));
        let value = |s: &Sample| if labels.is_empty() { number(s) } else { label(s) };
        all.push(Extra { name: name.unwrap_or_default(), values: samples.iter().map(value).collect() });
    }
    all
}

/// Most different texts that a column of texts may have to be kept.
const MOST_LABELS: usize = 10_000;

/// Columns that are not ours as channels of a lane, each reading taken at the end of its row's interval. A column that holds anything but numbers becomes
/// one of texts, unless it has more than 10,000 different ones; an empty one becomes none.
pub fn series_of_columns(extras: &[Extra], lane: u32, samples: &[Sample]) -> Vec<Series> {
    let is_number = |v: &String| v.trim().is_empty() || v.trim().parse::<f64>().is_ok_and(f64::is_finite);
    let filled = extras.iter().filter(|e| e.values.iter().any(|v| !v.trim().is_empty()));
    let series = |extra: &Extra| {
        if !extra.values.iter().all(is_number) {
            return labelled(extra, lane, samples);
        }
        let reading = |(value, sample): (&String, &Sample)| {
            Some(Reading { at: sample.end, value: value.trim().parse().ok()? })
        };
        let readings = extra.values.iter().zip(samples).filter_map(reading).collect();
        Some(Series { channel: Channel { of: Some(lane), ..Channel::of_column(&extra.name) }, readings })
    };
    filled.filter_map(series).collect()
}

/// A column of texts: its readings are the places of its texts in the list of them.
fn labelled(extra: &Extra, lane: u32, samples: &[Sample]) -> Option<Series> {
    let mut places: HashMap<&str, usize> = HashMap::new();
    let mut labels: Vec<String> = Vec::new();
    let mut readings = Vec::new();
    for (text, sample) in extra.values.iter().zip(samples).filter(|(v, _)| !v.trim().is_empty()) {
        let place = *places.entry(text).or_insert_with(|| {
            labels.push(text.clone());
            labels.len() - 1
        });
        if labels.len() > MOST_LABELS {
            return None;
        }
        readings.push(Reading { at: sample.end, value: place as f64 });
    }
    // A unit belongs to numbers, so that the whole name is that of the channel.
    let channel = Channel {
        name: extra.name.clone(),
        of: Some(lane),
        source: Source::File,
        labels,
        ..Channel::default()
    };
    Some(Series { channel, readings })
}
