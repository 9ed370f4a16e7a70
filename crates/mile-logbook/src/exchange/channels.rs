//! Channels as columns of a trace, and columns as channels.

use super::{COLUMNS, Extra, LANE};
use mile_core::Sample;
use mile_core::channel::{Channel, Reading, Series};

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
        let value =
            |s: &Sample| one.summary(s.start, s.end).map_or(String::new(), |(mean, _)| format!("{mean}"));
        all.push(Extra { name: name.unwrap_or_default(), values: samples.iter().map(value).collect() });
    }
    all
}

/// Columns that are not ours as channels of a lane: those that hold nothing but numbers, each taken at the end of its row's interval.
pub fn series_of_columns(extras: &[Extra], lane: u32, samples: &[Sample]) -> Vec<Series> {
    let is_number = |v: &String| v.trim().is_empty() || v.trim().parse::<f64>().is_ok_and(f64::is_finite);
    let numeric = extras
        .iter()
        .filter(|e| e.values.iter().all(is_number) && e.values.iter().any(|v| !v.trim().is_empty()));
    let series = |extra: &Extra| {
        let reading = |(value, sample): (&String, &Sample)| {
            Some(Reading { at: sample.end, value: value.trim().parse().ok()? })
        };
        let readings = extra.values.iter().zip(samples).filter_map(reading).collect();
        Series { channel: Channel { of: Some(lane), ..Channel::of_column(&extra.name) }, readings }
    };
    numeric.map(series).collect()
}
