//! The breaks of a run and their causes: the one implementation, whether the run is underway, has ended, or was imported.
//!
//! A leg that has ended is cut into plateaus once; the leg underway is cut anew at each look. Which breaks there are, and what they are put down to,
//! is worked out from all of the run each time, so that a look at a run that has ended is what its findings say.

use crate::breaks::Break;
use crate::causes::{Scene, Seen};
use crate::context::Context;
use crate::hollow::Hollow;
use crate::leg_name::LegName;
use crate::plateaus::{self, Cut, Edge, Settings, Stretch, Swing};
use crate::sample::Op;
use crate::surface::{self, Surface};
use crate::trace::Trace;
use crate::units::Bytes;
use std::ops::Range;

/// Cuts a run into plateaus and puts its breaks down to causes, again and again while it goes on.
#[derive(Clone, Debug, Default)]
pub struct Engine {
    settings: Settings,
    /// The legs that have ended, as they were cut, and whether they go from zone to zone.
    ended: Vec<(Cut, bool)>,
    /// Whether each of them has addresses that are drawn at random.
    at_random: Vec<bool>,
}

/// What a run shows so far.
#[derive(Clone, Debug, Default)]
pub struct Look {
    /// Each leg of the trace, cut; a rest has no stretches.
    pub cuts: Vec<Cut>,
    /// The edges within legs and between them, in the order of time.
    pub seen: Vec<Seen>,
    /// The same, put down to causes.
    pub breaks: Vec<Break>,
    /// Whether the newest leg goes from zone to zone, where no breaks are looked for.
    pub is_mixed: bool,
    /// The surface, where a leg goes from zone to zone.
    pub surface: Option<(Surface, Vec<Hollow>)>,
    /// Whether each leg has addresses that are drawn at random.
    pub at_random: Vec<bool>,
}

impl Look {
    /// Its breaks with what they say of each other.
    pub(crate) fn scene<'a>(&'a self, trace: &'a Trace, context: &'a Context) -> Scene<'a> {
        Scene::new(trace, context, &self.seen, hollows(self.surface.as_ref()), &self.at_random)
    }
}

fn hollows(surface: Option<&(Surface, Vec<Hollow>)>) -> &[Hollow] {
    surface.map_or(&[][..], |(_, hollows)| hollows)
}

impl Engine {
    /// With settings of what counts as a break.
    pub fn new(settings: Settings) -> Self {
        Self { settings, ended: Vec::new(), at_random: Vec::new() }
    }

    /// What `trace` shows. A trace that was looked at before must have grown only at its end.
    pub fn look(&mut self, trace: &Trace, context: &Context) -> Look {
        let legs = trace.legs();
        let last = legs.len().saturating_sub(1);
        let cut = |i: usize| match legs[i].op {
            Op::Idle => (Cut::default(), false),
            // What changes there is the address, or how much of it cannot be read.
            _ if context.from_zone_to_zone.contains(&legs[i].name)
                || (!context.in_one_go.contains(&legs[i].name)
                    && surface::is_in_mixed_order(trace, &legs[i]))
                || fails_often(trace, &legs[i].samples) =>
            {
                (plateaus::whole(trace, legs[i].samples.clone()), true)
            }
            _ => (plateaus::plateaus(trace, legs[i].samples.clone(), &self.settings), false),
        };
        let fresh: Vec<(Cut, bool)> = (self.ended.len()..last).map(cut).collect();
        let newest = legs.get(last).map(|_| cut(last));
        self.ended.extend(fresh);
        let is_mixed = newest.as_ref().is_some_and(|n| n.1);
        let has_mixed = is_mixed || self.ended.iter().any(|e| e.1);
        let cuts: Vec<Cut> = self.ended.iter().map(|e| e.0.clone()).chain(newest.map(|n| n.0)).collect();
        let seen = seen(trace, &cuts, &self.settings);
        // What a pass from zone to zone shows of an address stands in the hollows.
        let surface = has_mixed.then(|| surface::surface(trace)).flatten();
        let ended = &legs[self.at_random.len().min(last)..last];
        self.at_random.extend(ended.iter().map(|leg| surface::is_at_random(trace, leg)));
        let newest = legs.get(last).map(|leg| surface::is_at_random(trace, leg));
        let at_random: Vec<bool> = self.at_random.iter().copied().chain(newest).collect();
        let mut look = Look { cuts, seen, breaks: Vec::new(), is_mixed, surface, at_random };
        look.breaks = look.scene(trace, context).breaks();
        look
    }
}

/// Whether operations fail in so many samples that the rates are those of the failing.
fn fails_often(trace: &Trace, samples: &Range<usize>) -> bool {
    trace.failed_in(samples) > samples.len() / 5
}

/// All breaks of a run: those within its legs, and those from one leg to the next where both write or both read: the course changed something, or
/// the drive had recovered meanwhile. Legs of a sweep are held against each other elsewhere.
fn seen(trace: &Trace, cuts: &[Cut], settings: &Settings) -> Vec<Seen> {
    let mut all = Vec::new();
    let mut before: Option<usize> = None;
    for (index, cut) in cuts.iter().enumerate() {
        let leg = &trace.legs()[index];
        if leg.op == Op::Idle {
            continue;
        }
        let last = before.replace(index).filter(|&b| trace.legs()[b].op == leg.op);
        // A leg of the other kind between them is a pause for this one.
        let last = last.or_else(|| {
            let earlier = (0..index).rev().find(|&b| trace.legs()[b].op == leg.op)?;
            (leg.op == Op::Write && index - earlier == 2).then_some(earlier)
        });
        if let Some(edge) = last.and_then(|l| {
            between(trace, l, cuts[l].stretches.last()?, index, cut.stretches.first()?, settings)
        }) {
            all.push(edge);
        }
        for (i, &edge) in cut.edges.iter().enumerate() {
            let from = cut.stretches[i].samples.start;
            let until = cut.stretches[i + 1].samples.end;
            let swing = cut.swings.iter().find(|s| edge.to.0 < edge.from.0 && begins(trace, edge.sample, s));
            all.push(Seen { leg: index, edge, from, until, across: false, swing: swing.cloned() });
        }
    }
    all
}

/// So many samples before a pattern its first fall may be, as both are found by themselves.
const NEAR: usize = 4;

/// Whether a fall at a sample is the one with which a pattern begins: its own first fall, or one that leads into it.
fn begins(trace: &Trace, at: usize, swing: &Swing) -> bool {
    let first = trace.start(swing.samples.start.min(trace.len().saturating_sub(1)));
    let soon = at < swing.samples.end && trace.start(at).since(first).secs() <= swing.period_s;
    soon && at + NEAR >= swing.samples.start
}

/// Whether the leg before had the same rate at the address at which the next one begins: then only the address changed. Held against each other is
/// what lies there in both: the rate of a disk goes on changing behind it.
fn as_there(trace: &Trace, earlier: usize, first: &Range<usize>, settings: &Settings) -> bool {
    let sample = first.start;
    let Some(at) = trace.offset.get(sample) else { return false };
    let range = trace.legs()[earlier].samples.clone();
    let Some(there) = range.clone().find(|&i| trace.offset.get(i).is_some_and(|o| o >= at)) else {
        return false;
    };
    let Some(near) = trace.offset.get(there).filter(|_| there + 1 < range.end) else { return false };
    // Far from where it is now, or it is no other address.
    let last = trace.offset.get(range.end - 1).unwrap_or(near);
    let some = (range.len() / 50).max(8);
    let then = trace.mean_rate(there..(there + some).min(range.end)).unwrap_or_default();
    // As many bytes from the same address on.
    let bytes = trace.moved((there + some).min(range.end)).0 - trace.moved(there).0;
    let until = trace.index_at_bytes(Bytes(trace.moved(sample).0 + bytes)).clamp(sample + 1, first.end);
    let rate = trace.mean_rate(sample..until).unwrap_or_default();
    last - at > 0.05 * last && (rate.0.max(1.0) / then.0.max(1.0)).ln().abs() < settings.least_step()
}

fn between(
    trace: &Trace,
    earlier: usize,
    before: &Stretch,
    index: usize,
    behind: &Stretch,
    settings: &Settings,
) -> Option<Seen> {
    let sweep = |i: usize| !LegName::read(&trace.legs()[i].name).steps.is_empty();
    if sweep(earlier) || sweep(index) {
        return None;
    }
    let sample = behind.samples.start;
    let paused = index - earlier > 1;
    if !paused && as_there(trace, earlier, &behind.samples, settings) {
        return None;
    }
    let change = (behind.mean.0.max(1.0) / before.mean.0.max(1.0)).ln();
    let spread =
        (before.sd_mb_s / before.mean.mb_s().max(1e-9)).hypot(behind.sd_mb_s / behind.mean.mb_s().max(1e-9));
    let least = settings.least(trace.end(sample).since(trace.start(sample)).secs());
    let lasts = behind.samples.len() >= least && before.samples.len() >= least;
    let large = change.abs() > settings.least_step().max(0.5 * spread);
    // After a pause only a rise is the drive's doing; a fall would be that it had less to give than before.
    (lasts && large && (!paused || change > 0.0)).then(|| Seen {
        leg: index,
        edge: Edge {
            sample,
            at: trace.start(sample),
            bytes: trace.moved(sample),
            low: trace.moved(sample),
            high: trace.moved(sample),
            span: (sample, sample),
            from: before.mean,
            to: behind.mean,
            repeats: false,
        },
        from: sample,
        until: behind.samples.end,
        across: true,
        swing: None,
    })
}
