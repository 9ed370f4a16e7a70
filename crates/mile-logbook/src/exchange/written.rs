//! Traces as text: the rows of all lanes in the order of time, and runs as JSON Lines.

use super::imported::{COLUMNS, Exchange, Extra, LANE};
use csv::WriterBuilder;
use mile_core::channel::Series;
use mile_core::{Bytes, Latency, Nanos, Sample};
use mile_runner::{Event, RunHead};
use std::io::Write;

/// A lane of a trace to be written.
#[derive(Clone, Copy, Debug, Default)]
pub struct LaneRows<'a> {
    /// Its name; where a trace has one lane without a name, no column tells of it.
    pub name: &'a str,
    /// Its samples.
    pub samples: &'a [Sample],
    /// Names of its legs.
    pub legs: &'a [String],
    /// Columns that are not ours, which follow on ours.
    pub extras: &'a [Extra],
}

/// The names of all columns of a trace.
pub(super) fn columns_of<'a>(lanes: &[LaneRows<'a>]) -> Vec<&'a str> {
    let mut names: Vec<&str> = COLUMNS.to_vec();
    if is_told_apart(lanes) {
        names.push(LANE);
    }
    for extra in lanes.iter().flat_map(|l| l.extras) {
        if !names.contains(&extra.name.as_str()) {
            names.push(&extra.name);
        }
    }
    names
}

fn is_told_apart(lanes: &[LaneRows<'_>]) -> bool {
    lanes.len() > 1 || lanes.iter().any(|l| !l.name.is_empty())
}

/// Writes a trace of one lane, with `extras` behind our own columns.
pub fn write_csv(
    target: impl Write,
    samples: &[Sample],
    legs: &[String],
    extras: &[Extra],
) -> Result<(), Exchange> {
    write_csv_lanes(target, &[LaneRows { name: "", samples, legs, extras }])
}

/// Writes a trace, its lanes row by row in the order of time.
pub fn write_csv_lanes(target: impl Write, lanes: &[LaneRows<'_>]) -> Result<(), Exchange> {
    write_table(target, columns_of(lanes), written_rows(lanes))
}

/// Writes a table: the names of its columns, then its rows, each with as many fields.
pub fn write_table<'a>(
    target: impl Write,
    columns: impl IntoIterator<Item = &'a str>,
    rows: impl IntoIterator<Item = Vec<String>>,
) -> Result<(), Exchange> {
    let mut writer = WriterBuilder::new().from_writer(target);
    let wrap = |e: csv::Error| Exchange::Write(std::io::Error::other(e));
    writer.write_record(columns).map_err(wrap)?;
    for row in rows {
        writer.write_record(row).map_err(wrap)?;
    }
    writer.flush().map_err(Exchange::Write)
}

/// The rows of a trace as text, field by field, in the order of time.
pub(super) fn written_rows<'a>(lanes: &'a [LaneRows<'a>]) -> impl Iterator<Item = Vec<String>> + 'a {
    let columns = columns_of(lanes);
    let more = columns[COLUMNS.len()..].to_vec();
    let mut of_lanes: Vec<_> = lanes.iter().map(|l| (lane_rows(l, more.clone()).peekable(), l)).collect();
    std::iter::from_fn(move || {
        let due = |(i, (rows, _)): (usize, &mut (std::iter::Peekable<_>, &LaneRows<'_>))| {
            rows.peek().map(|(end, _): &(Nanos, Vec<String>)| (*end, i))
        };
        let (_, next) = of_lanes.iter_mut().enumerate().filter_map(due).min()?;
        of_lanes[next].0.next().map(|(_, row)| row)
    })
}

/// The rows of a lane, each with its time; `more` are the columns that follow on ours.
fn lane_rows<'a>(
    lane: &LaneRows<'a>,
    more: Vec<&'a str>,
) -> impl Iterator<Item = (Nanos, Vec<String>)> + use<'a> {
    let LaneRows { name, samples, legs, extras } = *lane;
    let (mut written, mut read) = (0, 0);
    let places: Vec<Option<usize>> = more.iter().map(|m| extras.iter().position(|e| e.name == *m)).collect();
    samples.iter().enumerate().map(move |(i, s)| {
        written += s.written.0;
        read += s.read.0;
        let seconds = s.end.since(s.start).secs();
        let rate = |b: Bytes| {
            if seconds > 0.0 { format!("{:.4}", b.0 as f64 / seconds / 1e6) } else { String::new() }
        };
        // What is no number is no reading.
        let number = |v: Option<f64>| v.filter(|v| v.is_finite()).map_or(String::new(), |v| format!("{v}"));
        let share = |v: Option<f32>| {
            v.filter(|v| v.is_finite()).map_or(String::new(), |v| format!("{:.4}", v.max(0.0) * 100.0))
        };
        let us = |f: fn(&Latency) -> Nanos| {
            s.latency.as_ref().map_or(String::new(), |l| format!("{:.3}", f(l).0 as f64 / 1e3))
        };
        let fields = [
            format!("{:.9}", s.end.secs()),
            legs.get(s.leg as usize).cloned().unwrap_or_default(),
            s.op.word().to_owned(),
            rate(s.written),
            rate(s.read),
            written.to_string(),
            read.to_string(),
            s.offset.map_or(String::new(), |b| b.0.to_string()),
            number(s.temp.map(|t| t.0)),
            number(s.ambient.map(|t| t.0)),
            us(|l| l.p50),
            us(|l| l.p99),
            us(|l| l.p999),
            us(|l| l.max),
            s.foreign
                .filter(|r| r.0.is_finite())
                .map_or(String::new(), |r| format!("{:.4}", r.mb_s().max(0.0))),
            share(s.host.steal),
            share(s.host.cpu),
            share(s.fill),
            number(s.throttled.map(|t| t.light_s)),
            number(s.throttled.map(|t| t.heavy_s)),
            s.ops.to_string(),
            s.errors.to_string(),
        ];
        let more = more.iter().zip(&places).map(|(column, place)| match place {
            Some(place) => extras[*place].values.get(i).cloned().unwrap_or_default(),
            None if *column == LANE => name.to_owned(),
            None => String::new(),
        });
        (s.end, fields.into_iter().chain(more).collect())
    })
}

/// Writes a run as JSON Lines: one object with the head (`{"run": …}`), then one for each sample (`{"sample": …}`) and each
/// event (`{"event": …}`) in the order of time, with the number of its lane beside it where that is not 0; then the
/// readings of each channel (`{"channel": …, "reading": …}`).
pub fn write_jsonl(
    mut target: impl Write,
    head: &RunHead,
    lanes: &[(&[Sample], &[Event])],
    series: &[Series],
) -> Result<(), Exchange> {
    let mut line = |value: serde_json::Value| writeln!(target, "{value}").map_err(Exchange::Write);
    line(serde_json::json!({"format": "hollow-mile/run", "version": 2, "run": head}))?;
    // An event comes before the sample in whose interval it lies.
    let mut at = vec![(0, 0); lanes.len()];
    let due = |at: &[(usize, usize)]| {
        let of_lane = |(lane, (samples, events)): (usize, &(&[Sample], &[Event]))| {
            let (sample, event) = (samples.get(at[lane].0), events.get(at[lane].1));
            match (sample.map(|s| s.end), event.map(|e| e.at)) {
                (Some(end), Some(at)) if at >= end => Some((end, lane, false)),
                (Some(end), None) => Some((end, lane, false)),
                (_, Some(at)) => Some((at, lane, true)),
                (None, None) => None,
            }
        };
        lanes.iter().enumerate().filter_map(of_lane).min()
    };
    while let Some((_, lane, is_event)) = due(&at) {
        let (samples, events) = lanes[lane];
        let mut value = if is_event {
            at[lane].1 += 1;
            serde_json::json!({"event": events[at[lane].1 - 1]})
        } else {
            at[lane].0 += 1;
            serde_json::json!({"sample": samples[at[lane].0 - 1]})
        };
        if lane > 0 {
            value["lane"] = lane.into();
        }
        line(value)?;
    }
    for (channel, one) in series.iter().enumerate() {
        for reading in &one.readings {
            line(serde_json::json!({"channel": channel, "reading": reading}))?;
        }
    }
    Ok(())
}
