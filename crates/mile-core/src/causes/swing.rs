//! A drive that is slow from one temperature on until it has cooled to another: what shows heat at whatever temperature that is.

use super::seen::{Mark, Seen};
use crate::stats;
use crate::trace::Trace;
use crate::units::{Celsius, Nanos};
use std::ops::Range;

/// How near two temperatures are the same, °C: whole degrees, and the lag of a sensor.
pub(super) const SAME_TEMP: f64 = 1.6;
/// How much cooler is clearly so, °C: two steps of a sensor of whole degrees.
const COOLER: f64 = 2.0;
/// Less than a step of such a sensor, °C.
const STEP_C: f64 = 0.6;
/// Share of the time before a fall that a drive that warms may be within a step of where it falls.
const AT_THE_TOP: f64 = 0.4;
/// Seconds behind a turn of a pattern in which its temperature is looked for: a sensor lags, and the next turn may come soon.
const BEHIND_S: f64 = 5.0;
/// Above or below the middle of a pattern by this share, a rate is one of its high or of its low ones.
const CLEARLY: f64 = 0.1;

/// Falls at one temperature and returns at a lower one.
#[derive(Clone, Copy, Debug)]
pub(super) struct Swing {
    /// At which temperature it falls, and at which it comes back, °C.
    pub(super) hot: f64,
    pub(super) cool: f64,
    /// How often it fell as soon as it was so warm.
    pub(super) times: usize,
}

/// A fall or a return at a temperature, °C.
#[derive(Clone, Copy)]
struct Turn {
    falls: bool,
    temp: f64,
    /// It fell as soon as it was so warm.
    climbs: bool,
}

impl Swing {
    /// Where a run returns clearly cooler than it falls, and most of its falls come as soon as the drive is warm enough.
    pub(super) fn of(trace: &Trace, seen: &[Seen], marks: &[Mark]) -> Option<Self> {
        let own = |(s, m): (&Seen, &Mark)| {
            let temp = m.temp.filter(|_| !s.across)?.0;
            Some(Turn { falls: m.falls, temp, climbs: m.climbs })
        };
        let mut turns: Vec<Turn> = seen.iter().zip(marks).filter_map(own).collect();
        turns.extend(seen.iter().filter(|s| s.edge.repeats).flat_map(|s| repeated(trace, s)));
        let temps =
            |falls: bool| -> Vec<f64> { turns.iter().filter(|t| t.falls == falls).map(|t| t.temp).collect() };
        let falls = temps(true).len();
        let (hot, cool) = (stats::median(&mut temps(true))?, stats::median(&mut temps(false))?);
        let times = turns.iter().filter(|t| t.climbs && (t.temp - hot).abs() <= SAME_TEMP).count();
        (hot - cool >= COOLER && 2 * times > falls).then_some(Self { hot, cool, times })
    }
}

/// Whether a fall at a temperature at the end of some samples comes as soon as the drive is so warm: it was clearly cooler in them, and at about that
/// temperature for less than a part of the time.
pub(super) fn climbs(trace: &Trace, samples: Range<usize>, temp: Celsius) -> bool {
    let Range { start: from, end: at } = samples;
    if from >= at || trace.temp.extent(from, at).is_none_or(|e| e.min > temp.0 - COOLER) {
        return false;
    }
    let is_there = |i: &usize| trace.temp.get(*i).is_none_or(|t| t >= temp.0 - STEP_C);
    let reached = (from..at).rev().take_while(is_there).last().unwrap_or(at);
    let seconds = |a: usize, b: usize| trace.end(b.max(a + 1) - 1).since(trace.start(a)).secs();
    reached == at || seconds(reached, at) <= AT_THE_TOP * seconds(from, at)
}

/// The further falls and the returns of a pattern that begins with a fall.
fn repeated(trace: &Trace, seen: &Seen) -> Vec<Turn> {
    let (high, low) = (seen.edge.from.mb_s(), seen.edge.to.mb_s());
    if low >= high || low <= 0.0 {
        return Vec::new();
    }
    let middle = (high * low).sqrt();
    let (mut turns, mut is_slow, mut since) = (Vec::new(), true, seen.edge.sample);
    for i in seen.edge.sample..seen.until.min(trace.len()) {
        let Some(rate) = trace.rate.get(i) else { continue };
        let turned = if is_slow { rate > middle * (1.0 + CLEARLY) } else { rate < middle * (1.0 - CLEARLY) };
        if !turned {
            continue;
        }
        is_slow = !is_slow;
        let until = trace.index_at_time(trace.end(i).plus(Nanos::from_secs(BEHIND_S)));
        let around = trace.temp.extent(i, until.max(i + 1));
        if let Some(temp) = around.map(|e| if is_slow { e.max } else { e.min }) {
            let climbs = is_slow && climbs(trace, since..i, Celsius(temp));
            turns.push(Turn { falls: is_slow, temp, climbs });
        }
        since = i;
    }
    turns
}
