//! Histories of drives whose laws are known: what is projected is held against when the drive really gets there.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a test that cannot go on has failed")]

use mile_core::health::projection::{Given, Limit, Projection, projections};
use mile_core::health::{Counter, DAY, History, Snapshot, ledger};
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

const SEEDS: u64 = 500;
const TB: f64 = 1e12;
const MONTHS: usize = 24;

struct Dice(Xoshiro256PlusPlus);

impl Dice {
    fn uniform(&mut self) -> f64 {
        (self.0.next_u64() >> 11) as f64 / (1_u64 << 53) as f64
    }

    fn exponential(&mut self) -> f64 {
        -(1.0 - self.uniform()).ln()
    }
}

/// How a drive is used: what a day writes.
#[derive(Clone, Copy)]
enum Use {
    /// Every day something, nothing on weekends.
    Desk,
    /// Bursts of several days, and little between.
    Bursts,
}

struct Life {
    dice: Dice,
    kind: Use,
    burst_left: usize,
    day: usize,
}

impl Life {
    /// Bytes of the next day.
    fn next(&mut self) -> f64 {
        self.day += 1;
        match self.kind {
            Use::Desk if self.day % 7 >= 5 => 0.0,
            Use::Desk => 0.02 * TB * (self.dice.exponential() + self.dice.exponential()),
            Use::Bursts => {
                if self.burst_left == 0 && self.dice.uniform() < 0.08 {
                    self.burst_left = 1 + (4.0 * self.dice.uniform()) as usize;
                }
                let level = if self.burst_left > 0 { 0.1 } else { 0.002 };
                self.burst_left = self.burst_left.saturating_sub(1);
                level * TB * self.dice.exponential()
            }
        }
    }
}

struct Known {
    history: History,
    endurance: f64,
    /// The days on which endurance and 100 % of life are really reached.
    endurance_day: f64,
    life_day: f64,
    amplification: f64,
}

/// Two years of a drive, snapshots about every week but for two months without any; 32 bits of 512 B sectors, which are full now and then; flash counted in units of 32 MiB, life in whole
/// percent; a firmware replaced after a year. It then goes on as before until it has reached everything.
fn drive(seed: u64) -> Known {
    let kind = if seed.is_multiple_of(2) { Use::Desk } else { Use::Bursts };
    let mut life = Life { dice: Dice(Xoshiro256PlusPlus::seed_from_u64(seed)), kind, burst_left: 0, day: 0 };
    let mean = if seed.is_multiple_of(2) { 0.0286 * TB } else { 0.0185 * TB };
    let days = MONTHS * 30;
    // It will be reached one to three years behind the last snapshot.
    let endurance = mean * (days as f64 + 365.0 + 730.0 * life.dice.uniform());
    let amplification = 1.3 + 2.0 * life.dice.uniform();
    let rated_flash = endurance * amplification * (0.9 + 0.3 * life.dice.uniform());
    let (mut written, mut snapshots, mut next, mut day) = (0.0, Vec::new(), 0.0, 0_usize);
    let (mut endurance_day, mut life_day) = (None, None);
    // The counter does not begin at 0: the drive is used.
    let offset = (life.dice.uniform() * 4e9) as u64;
    // Of three drives, one counts in 32 bits, and was looked at all the time.
    let wraps = seed.is_multiple_of(3);
    while endurance_day.is_none() || life_day.is_none() {
        if day < days && day as f64 >= next {
            let flash = written * amplification;
            let sectors = offset + (written / 512.0) as u64;
            let sectors = if wraps { sectors % (1 << 32) } else { sectors };
            snapshots.push(Snapshot {
                at: (day as f64 * DAY) as i64,
                firmware: Some(if day < days / 2 { "1.0" } else { "1.1" }.into()),
                counters: [
                    (Counter::WrittenBytes, sectors * 512),
                    (Counter::FlashWrittenBytes, (flash / f64::from(32 << 20)) as u64 * (32 << 20)),
                    (Counter::UsedPct, (100.0 * flash / rated_flash) as u64),
                    (Counter::SparePct, 100),
                    (Counter::SpareThresholdPct, 10),
                ]
                .into(),
                ..Snapshot::default()
            });
            next += 4.0 + 6.0 * life.dice.uniform();
            // Two months without any.
            if !wraps && (300.0..310.0).contains(&next) {
                next = 365.0;
            }
        }
        let before = written;
        written += life.next();
        let within = |level: f64| (level - before) / (written - before).max(1.0);
        if written >= endurance && endurance_day.is_none() {
            endurance_day = Some(day as f64 + within(endurance));
        }
        let level = rated_flash / amplification;
        if written >= level && life_day.is_none() {
            life_day = Some(day as f64 + within(level));
        }
        day += 1;
    }
    Known {
        history: History::new(snapshots),
        endurance: endurance + offset as f64 * 512.0,
        endurance_day: endurance_day.unwrap(),
        life_day: life_day.unwrap(),
        amplification,
    }
}

fn holds(p: &Projection, day: f64) -> bool {
    let at = |t: Option<i64>| t.map(|t| t as f64 / DAY);
    at(p.earliest).unwrap() <= day && at(p.latest).is_none_or(|l| day <= l)
}

#[test]
fn the_interval_of_a_projection_holds_the_truth_in_93_to_97_of_100() {
    let mut held = [(0, 0); 2];
    let mut wide = Vec::new();
    for seed in 0..SEEDS {
        let known = drive(seed);
        let all =
            projections(&known.history, &Given { endurance: Some(known.endurance as u64), per_day: None });
        for p in &all {
            let (place, day) = match p.limit {
                Limit::Endurance => (0, known.endurance_day),
                Limit::Life => (1, known.life_day),
                Limit::Spare => {
                    assert_eq!(p.why_not.as_deref(), Some("the spare has not fallen in this history"));
                    continue;
                }
            };
            assert!(p.why_not.is_none(), "{seed}: {p:?}");
            held[place].0 += u32::from(holds(p, day));
            held[place].1 += 1;
            wide.push((p.latest.unwrap() - p.earliest.unwrap()) as f64 / DAY / (day - 720.0));
        }
    }
    wide.sort_by(f64::total_cmp);
    println!("{held:?}, median width {:.2} of the time left", wide[wide.len() / 2]);
    for (n, of) in held {
        let share = f64::from(n) / f64::from(of);
        assert!((0.93..=0.97).contains(&share), "{share}");
    }
}

#[test]
fn a_counter_that_wraps_and_a_replaced_firmware_are_told_and_amplification_is_within_3_percent() {
    let mut wraps = 0;
    for seed in 0..100 {
        let known = drive(seed);
        let remarks = known.history.remarks();
        assert_eq!(remarks.iter().filter(|r| r.what == "the firmware was replaced: 1.0 by 1.1").count(), 1);
        let gap = remarks.iter().any(|r| r.what.starts_with("nothing was read for"));
        assert_eq!(gap, !seed.is_multiple_of(3), "{seed}: {remarks:?}");
        assert!(!remarks.iter().any(|r| r.what.contains("anew")), "{seed}: {remarks:?}");
        wraps += remarks.iter().filter(|r| r.what.contains("was full")).count();
        let found = ledger::amplification(&known.history).unwrap();
        assert!(
            (found.ratio / known.amplification - 1.0).abs() < 0.03,
            "{seed}: {found:?} {}",
            known.amplification
        );
        assert!(found.low <= known.amplification && known.amplification <= found.high, "{seed}");
    }
    assert!(wraps > 200, "{wraps}");
}

#[test]
fn a_history_that_is_too_short_says_so_and_a_given_rate_needs_none() {
    let shot = |day: i64, written: f64| Snapshot {
        at: day * 86_400,
        counters: [(Counter::WrittenBytes, written as u64), (Counter::UsedPct, 10)].into(),
        ..Snapshot::default()
    };
    let history = History::new(vec![shot(0, 10.0 * TB), shot(2, 11.0 * TB), shot(4, 12.0 * TB)]);
    let given = Given { endurance: Some(100 * 1_000_000_000_000), per_day: Some(0.1 * TB) };
    let all = projections(&history, &given);
    let endurance = all.iter().find(|p| p.limit == Limit::Endurance).unwrap();
    assert!(
        endurance.at.is_none() && endurance.why_not.as_ref().unwrap().contains("too short"),
        "{endurance:?}"
    );
    // 88 TB at 0.1 TB a day are 880 days behind the last snapshot.
    assert_eq!(endurance.at_given, Some((4 + 880) * 86_400));
    let life = all.iter().find(|p| p.limit == Limit::Life).unwrap();
    assert!(life.why_not.as_ref().unwrap().contains("fewer than 7 steps"), "{life:?}");
    assert!(life.at_given.is_none(), "what a percent takes is not known");
    // Steady use has an interval of no width about the only date that there is.
    let steady = History::new((0..60).map(|i| shot(i * 7, i as f64 * 0.7 * TB)).collect());
    let all = projections(&steady, &Given { endurance: Some(100 * 1_000_000_000_000), per_day: None });
    let day = |t: Option<i64>| t.unwrap() as f64 / DAY;
    assert!(
        (day(all[0].at) - 1000.0).abs() < 0.01 && day(all[0].latest) - day(all[0].earliest) < 0.1,
        "{:?}",
        all[0]
    );
    assert!((all[0].typical_per_day.unwrap() / TB - 0.1).abs() < 1e-9);
}
