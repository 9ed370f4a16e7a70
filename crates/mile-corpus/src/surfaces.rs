//! Scans of simulated drives with weak stretches drawn at random, while heat or another program slows a part of a pass down: what the analysis finds
//! of the stretches, and what it takes for one.

use crate::bench::{Ran, ran};
use mile_core::findings::Hollow;
use mile_core::{Nanos, Trace, findings};
use mile_drive::Tally;
use mile_drive::drive::{Drive, DriveError, Facts, Failure, Identity, Narrowed, Readings, Transfer};
use mile_drive::pending::Pending;
use mile_drive::pipe::PipeEnd;
use mile_sim::{SimDrive, model::Model};
use rand::{RngExt, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::fmt::Write as _;

/// Zones of each pass.
const ZONES: f64 = 512.0;
/// Two passes in two orders, and the edges of what they show.
const COURSE: &str = "course \"scan\"\nsample every 100 ms\nleg scan\n scan, blocks 1 MiB, depth 8, zones 512, refine to 1 MiB\n";

/// The drives: extended model, capacity in bytes, what is added to it.
const DRIVES: [(&str, f64, &str); 3] = [
    ("keelson", 128e9, "[disk]\nreallocated = []\n"),
    ("bittern-s1", 96e9, "[flash]\n"),
    ("merrow-k2", 512e9, "[flash]\n"),
];

/// A weak stretch: from and to as shares of the drive, and by which share it is slower.
#[derive(Clone, Copy, Debug)]
pub struct WeakStretch {
    /// Where it begins.
    pub from: f64,
    /// Where it ends.
    pub to: f64,
    /// Share by which it is slower than what is beside it.
    pub depth: f64,
}

/// What scans showed, summed up.
#[derive(Clone, Debug, Default)]
pub struct SurfaceScore {
    /// Scans.
    pub scans: usize,
    /// Weak stretches of at least three zones.
    pub there: usize,
    /// Of these, found and confirmed.
    pub confirmed: usize,
    /// Hollows where there is nothing weak.
    pub wrong: usize,
    /// How far the depth of each was off, percent of the baseline.
    pub depth_off: Vec<f64>,
    /// How far the edges of each were off, bytes, and how well they were said to be known.
    pub edge_off: Vec<(u64, u64)>,
    /// What was missed, or found in vain, in words.
    pub notes: Vec<String>,
}

impl SurfaceScore {
    /// The value below which this share of the depths is off, percent of the baseline.
    pub fn depth_off_at(&self, share: f64) -> f64 {
        let mut all = self.depth_off.clone();
        all.sort_by(f64::total_cmp);
        all.get(((all.len() as f64 * share) as usize).min(all.len().saturating_sub(1)))
            .copied()
            .unwrap_or(0.0)
    }

    /// Share of the edges that are within so many bytes of the truth.
    pub fn edges_within(&self, bytes: u64) -> f64 {
        self.share_of_edges(|(off, _)| off <= bytes)
    }

    /// Share of the edges that are within what was said of them.
    pub fn edges_as_said(&self) -> f64 {
        self.share_of_edges(|(off, said)| off <= said)
    }

    fn share_of_edges(&self, holds: impl Fn((u64, u64)) -> bool) -> f64 {
        self.edge_off.iter().filter(|e| holds(**e)).count() as f64 / self.edge_off.len().max(1) as f64
    }
}

/// Scans the drive of a seed, and adds what was found to a score.
///
/// # Errors
/// When its model or the course cannot be read.
pub fn scan(seed: u64, score: &mut SurfaceScore) -> Result<(), String> {
    let mut dice = Xoshiro256PlusPlus::seed_from_u64(seed ^ 0x5ca1_ab1e);
    let (base, capacity, more) = DRIVES[(seed % 3) as usize];
    let weak = stretches(&mut dice, (seed / 3 % 4) as usize);
    let trouble = seed / 12 % 3;
    // About where a pass is at these shares of the whole.
    let (at, length) = (dice.random_range(0.1..0.6), dice.random_range(0.05..0.3));
    let read_mb_s = match base {
        "keelson" => 200.0,
        "bittern-s1" => 531.0,
        _ => 5050.0,
    };
    let pass_s = capacity / read_mb_s / 1e6;
    let (from_s, to_s) = (2.0 * pass_s * at, 2.0 * pass_s * (at + length));
    let mut text = format!(
        "extends = \"{base}\"\n{}{more}noise = {}\n[geometry]\ncapacity_bytes = {capacity}\n",
        if weak.is_empty() { "weak = []\n" } else { "" },
        dice.random_range(0.01..0.05)
    );
    if trouble == 1 {
        let _ = writeln!(
            text,
            "[thermal]\nambient_schedule = [[0.0, 24.0], [{from_s}, 24.0], [{}, 88.0], [{to_s}, 88.0], [{}, 24.0]]",
            from_s + 1.0,
            to_s + 1.0
        );
    }
    for w in &weak {
        let _ = writeln!(
            text,
            "[[weak]]\nfrom = {}\nto = {}\nread_share = {}\nwrite_share = 1.0",
            w.from,
            w.to,
            1.0 - w.depth
        );
    }
    let drive = SimDrive::of("sim:weak", Model::read(&text).map_err(|e| format!("{e}\n{text}"))?, seed);
    let mut drive = Shared {
        drive,
        from: Nanos::from_secs(if trouble == 2 { from_s } else { f64::MAX }),
        to: Nanos::from_secs(to_s),
        left: dice.random_range(0.3..0.8),
    };
    let Ran { samples, head, .. } = ran(&mut drive, COURSE, seed)?;
    let head = head.first();
    let found = findings(&Trace::of(&samples, &head.leg_names()), &head.context());
    hold(score, seed, capacity, &weak, &found.hollows);
    Ok(())
}

/// Holds hollows against the stretches that there are.
fn hold(score: &mut SurfaceScore, seed: u64, capacity: f64, weak: &[WeakStretch], hollows: &[Hollow]) {
    score.scans += 1;
    let mut left: Vec<&Hollow> = hollows.iter().collect();
    for w in weak {
        let (from, to) = ((w.from * capacity) as u64, (w.to * capacity) as u64);
        let wide = w.to - w.from >= 3.0 / ZONES;
        score.there += usize::from(wide);
        let Some(i) = left.iter().position(|h| h.start_byte < to && from < h.end_byte) else {
            if wide {
                score.notes.push(format!("seed {seed}: nothing at {w:?}"));
            }
            continue;
        };
        let h = left.remove(i);
        if !wide {
            continue;
        }
        if h.passes_seen < 2 || !h.orders_differ {
            score.notes.push(format!("seed {seed}: only a candidate at {w:?}"));
            continue;
        }
        score.confirmed += 1;
        score.depth_off.push((h.depth_pct - 100.0 * w.depth).abs());
        let off = [h.start_byte.abs_diff(from), h.end_byte.abs_diff(to)];
        score.edge_off.extend(off.map(|off| (off, h.edge_bytes)));
        if off.iter().any(|off| *off > (1 << 20) || *off > h.edge_bytes) {
            let depth = 100.0 * w.depth;
            let [start, end] = off.map(|off| off as f64 / 1e6);
            let said = h.edge_bytes as f64 / 1e6;
            score.notes.push(format!(
                "seed {seed}: {depth:.0} % deep from {from} to {to}: edges off by {start:.2} and {end:.2} MB, said {said:.2}"
            ));
        }
    }
    score.wrong += left.len();
    score.notes.extend(left.iter().map(|h| format!("seed {seed}: nothing is weak at {}", h.sentence())));
}

/// Stretches of 0.2 to 6 % of the drive that are 15 to 80 % slower, and do not touch.
fn stretches(dice: &mut Xoshiro256PlusPlus, count: usize) -> Vec<WeakStretch> {
    let one = |k: usize| {
        let room = 0.9 / count as f64;
        let width = dice.random_range(0.002..0.06);
        let from = 0.05 + room * k as f64 + dice.random_range(0.0..(room - width - 0.02).max(0.001));
        WeakStretch { from, to: from + width, depth: dice.random_range(0.15..0.8) }
    };
    (0..count).map(one).collect()
}

/// A drive that another program uses for some of the time, of which nothing is told.
struct Shared {
    drive: SimDrive,
    from: Nanos,
    to: Nanos,
    /// Share of the time that is left for the run.
    left: f64,
}

impl Drive for Shared {
    fn identity(&self) -> &Identity {
        self.drive.identity()
    }
    fn facts(&self) -> Facts {
        self.drive.facts()
    }
    fn is_virtual(&self) -> bool {
        true
    }
    fn start_at(&mut self, at: Nanos) {
        self.drive.start_at(at);
    }
    fn open(&mut self) -> Result<(), DriveError> {
        self.drive.open()
    }
    fn engine(&self) -> String {
        self.drive.engine()
    }
    fn now(&self) -> Nanos {
        self.drive.now()
    }
    fn idle(&mut self, until: Nanos) {
        self.drive.idle(until);
    }
    fn join(&mut self, end: Option<PipeEnd>) {
        self.drive.join(end);
    }
    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        self.drive.begin(transfer)
    }
    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let now = self.drive.now();
        let span = until.since(now).0;
        if now < self.from || now >= self.to || span < 1000 {
            return self.drive.advance(until, tally);
        }
        let finished = self.drive.advance(now.plus(Nanos((span as f64 * self.left) as u64)), tally)?;
        if !finished {
            self.drive.idle(until);
        }
        Ok(finished)
    }
    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.drive.drain(until, tally)
    }
    fn narrow(&mut self, failure: &Failure, patience: Nanos) -> Pending<Narrowed> {
        self.drive.narrow(failure, patience)
    }
    fn has_left(&self) -> Option<String> {
        self.drive.has_left()
    }
    fn readings(&mut self) -> Readings {
        self.drive.readings()
    }
    fn health(&mut self) -> Option<mile_drive::Health> {
        self.drive.health()
    }
    fn close(&mut self, keep: bool) -> Result<(), DriveError> {
        self.drive.close(keep)
    }
}
