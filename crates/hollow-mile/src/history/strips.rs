//! The story of a drive as strips over time: temperature, what was written, wear, and errors. The terminal draws them, and so does the figure.

use super::Story;
use mile_core::Bytes;
use mile_core::health::{Counter, DAY, History, Snapshot};
use mile_core::units::number;
use mile_figures::{StoryKind, StoryStrip, draw_story};

/// Counters that are errors of one kind or another.
const ERRORS: [Counter; 7] = [
    Counter::PendingSectors,
    Counter::UncorrectableSectors,
    Counter::MediaErrors,
    Counter::ReallocatedSectors,
    Counter::FailedSelfTests,
    Counter::LinkErrors,
    Counter::CommandTimeouts,
];
/// Columns of a figure.
const COLUMNS: usize = 400;
/// Months on the ruler of a figure.
const MOST_MONTHS: usize = 14;

/// The words for both ends of a scale.
fn label_ends(scale: (f64, f64), words: impl Fn(f64) -> String) -> (String, String) {
    (words(scale.0), words(scale.1))
}

/// The first of each month between two moments, as shares of the time between them.
pub(crate) fn months((first, last): (i64, i64)) -> Vec<(f64, String)> {
    let zone = jiff::tz::TimeZone::system();
    let Ok(start) = jiff::Timestamp::from_second(first) else { return Vec::new() };
    let mut month = start.to_zoned(zone.clone()).date().first_of_month();
    let mut all = Vec::new();
    // Two hundred years of months, at the most.
    for _ in 0..2400 {
        let Ok(next) = month.checked_add(jiff::Span::new().months(1)) else { break };
        month = next;
        let Ok(at) = month.to_zoned(zone.clone()) else { break };
        let at = at.timestamp().as_second();
        if at > last {
            break;
        }
        let share = (at - first) as f64 / ((last - first) as f64).max(1.0);
        all.push((share, month.strftime("%Y-%m").to_string()));
    }
    all
}

/// The story as a figure, SVG; `None` where there are not two moments.
pub(crate) fn figure(story: &Story) -> Result<Option<String>, mile_bench::Failure> {
    let Some(span) = ends(&story.snapshots) else { return Ok(None) };
    let title = format!("{}, serial {}", story.drive.model, story.drive.serial);
    let looks = story.snapshots.len();
    let lines = [format!("{looks} looks from {} to {}", super::day(span.0), super::day(span.1))];
    // As many months as have room, evenly left out.
    let months = months(span);
    let every = months.len().div_ceil(MOST_MONTHS).max(1);
    let ruler: Vec<(f64, String)> = months.into_iter().step_by(every).collect();
    Ok(draw_story(&title, &lines, &strips(story, COLUMNS), &ruler)?)
}

pub(crate) fn ends(shots: &[Snapshot]) -> Option<(i64, i64)> {
    let (first, last) = (shots.first()?.at, shots.last()?.at);
    (last > first).then_some((first, last))
}

/// A round number at or above a value: 1, 2 or 5 with zeros.
fn round_up(value: f64) -> f64 {
    if value <= 0.0 {
        return 1.0;
    }
    let unit = 10_f64.powf(value.log10().floor());
    [1.0, 2.0, 5.0, 10.0].into_iter().map(|f| f * unit).find(|v| *v >= value * 0.999_999).unwrap_or(value)
}

/// The strips of a story, each of so many columns.
pub(crate) fn strips(story: &Story, width: usize) -> Vec<StoryStrip> {
    let Some((first, last)) = ends(&story.snapshots) else { return Vec::new() };
    let (from, days) = (first as f64 / DAY, (last - first) as f64 / DAY);
    let column = |day: f64| (((day - from) / days * width as f64) as usize).min(width - 1);
    let history = History::new(story.snapshots.clone());
    let mut all = Vec::new();
    let mut temperatures: Vec<Option<(f64, f64)>> = vec![None; width];
    for s in &story.snapshots {
        if let Some(t) = s.temperature_c {
            let range = &mut temperatures[column(s.at as f64 / DAY)];
            *range = Some(range.map_or((t, t), |(a, b)| (a.min(t), b.max(t))));
        }
    }
    let known = || temperatures.iter().flatten();
    if known().next().is_some() {
        let low = known().map(|r| r.0).fold(f64::INFINITY, f64::min);
        let high = known().map(|r| r.1).fold(f64::NEG_INFINITY, f64::max);
        let (low, high) = ((low / 5.0 - 0.01).floor() * 5.0, (high / 5.0 + 0.01).ceil() * 5.0);
        let scale = (low, high);
        all.push(StoryStrip {
            name: "temperature when it was read, lowest to highest".into(),
            kind: StoryKind::Temperature,
            scale,
            labels: label_ends(scale, |v| format!("{v:.0} °C")),
            columns: temperatures,
        });
    }
    // What a day wrote, from one snapshot to the next.
    let mut written: Vec<Option<(f64, f64)>> = vec![None; width];
    for pair in history.series(Counter::WrittenBytes).iter().flat_map(|s| s.windows(2)) {
        let rate = (pair[1].1 - pair[0].1) / (pair[1].0 - pair[0].0).max(1e-6);
        // Of snapshots within an hour, what a day would write is not known.
        if pair[1].0 - pair[0].0 < 1.0 / 24.0 {
            continue;
        }
        for bar in &mut written[column(pair[0].0)..=column(pair[1].0)] {
            *bar = Some((0.0, bar.map_or(rate, |b: (f64, f64)| b.1.max(rate))));
        }
    }
    if let Some(most) = written.iter().flatten().map(|b| b.1).reduce(f64::max) {
        let scale = (0.0, round_up(most));
        all.push(StoryStrip {
            name: "written in a day, between two looks".into(),
            kind: StoryKind::Written,
            scale,
            labels: label_ends(scale, |v| if v == 0.0 { "0".into() } else { Bytes(v as u64).to_string() }),
            columns: written,
        });
    }
    if let Some(used) = levels(&history, width, &column, |s| s.get(Counter::UsedPct).map(|v| v as f64)) {
        let most = used.iter().flatten().map(|b| b.1).fold(0.0, f64::max);
        let scale = (0.0, round_up(most.max(1.0)));
        all.push(StoryStrip {
            name: "life used".into(),
            kind: StoryKind::Life,
            scale,
            labels: label_ends(scale, |v| format!("{} %", number(v))),
            columns: used,
        });
    }
    let errors = |s: &Snapshot| {
        let told: Vec<u64> = ERRORS.iter().filter_map(|c| s.get(*c)).collect();
        (!told.is_empty()).then(|| told.iter().sum::<u64>() as f64)
    };
    if let Some(errors) = levels(&history, width, &column, errors) {
        let most = errors.iter().flatten().map(|b| b.1).fold(0.0, f64::max);
        if most > 0.0 {
            let scale = (0.0, round_up(most));
            all.push(StoryStrip {
                name: "errors of medium and link, failed self-tests, together".into(),
                kind: StoryKind::Errors,
                scale,
                labels: label_ends(scale, |v| format!("{v:.0}")),
                columns: errors.into_iter().map(|c| c.filter(|c| c.1 > 0.0)).collect(),
            });
        }
    }
    all
}

/// A level over time, that of the last snapshot in each column; it stays until the next.
fn levels(
    history: &History,
    width: usize,
    column: &dyn Fn(f64) -> usize,
    of: impl Fn(&Snapshot) -> Option<f64>,
) -> Option<Vec<Option<(f64, f64)>>> {
    let mut all: Vec<Option<(f64, f64)>> = vec![None; width];
    let told: Vec<(usize, f64)> =
        history.snapshots().iter().filter_map(|s| Some((column(s.at as f64 / DAY), of(s)?))).collect();
    for (i, (at, value)) in told.iter().enumerate() {
        let end = told.get(i + 1).map_or(width, |n| n.0.max(at + 1));
        all[*at..end].fill(Some((0.0, *value)));
    }
    (!told.is_empty()).then_some(all)
}
