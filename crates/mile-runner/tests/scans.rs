//! Scans of the simulated drives, held against what the drives know: hollows, recording zones, and that every zone is visited once.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    reason = "a test that cannot go on has failed, and says what it measured"
)]

use crossbeam_channel::unbounded;
use mile_core::surface::Order;
use mile_core::{Bytes, Findings, Nanos, Op, Sample, Trace, findings};
use mile_course::{parse, plan};
use mile_drive::drive::{Failure, Narrowed};
use mile_drive::{Drive, DriveError, Facts, Health, Identity, Pending, Readings, Tally, Transfer};
use mile_runner::{Command, Event, GoOn, Message, Status, Terms, execute, run};
use mile_sim::SimDrive;
use mile_sim::model::Model;

const COURSE: &str = "course \"s\"\nleg scan\n scan, blocks 1 MiB, depth 8, zones 512\n";

/// A small disk with weak stretches of its own for each seed, and what it is made of: from, to, share of the rate.
fn disk(seed: u64) -> (SimDrive, Vec<(f64, f64, f64)>) {
    // Steps of the golden ratio: even, and nothing that the drive or the analysis draws.
    let draw = |k: u64| ((seed * 17 + k) as f64 * 0.618_033_988_749_895).fract();
    let mut weak = Vec::new();
    for k in 0..seed % 4 {
        let from = 0.08 + 0.28 * k as f64 + 0.1 * draw(3 * k);
        weak.push((from, from + 0.006 + 0.05 * draw(3 * k + 1), 1.0 - (0.2 + 0.55 * draw(3 * k + 2))));
    }
    let stretches: String = weak
        .iter()
        .map(|(a, b, share)| {
            format!("[[weak]]\nfrom = {a}\nto = {b}\nread_share = {share}\nwrite_share = 1.0\n")
        })
        .collect();
    let none = if weak.is_empty() { "weak = []\n" } else { "" };
    let text = format!(
        "extends = \"keelson\"\n{none}[disk]\nreallocated = []\n[geometry]\ncapacity_bytes = 128000000000\n{stretches}"
    );
    (SimDrive::of("sim:small", Model::read(&text).unwrap(), seed), weak)
}

/// Runs a course. `stop_after` samples it is asked to stop.
fn scan(
    drive: &mut SimDrive,
    course: &str,
    go_on: Option<GoOn>,
    stop_after: usize,
) -> (Vec<Sample>, Vec<Event>) {
    go(drive, course, go_on, stop_after)
}

fn go(
    drive: &mut dyn Drive,
    course: &str,
    go_on: Option<GoOn>,
    stop_after: usize,
) -> (Vec<Sample>, Vec<Event>) {
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(drive)).unwrap();
    let head = run::head(&plan, course, drive, 1, 0);
    let (send, commands) = unbounded();
    let (mut samples, mut events) = (Vec::new(), Vec::new());
    execute(&plan, head, drive, Terms { go_on, ..Terms::PLAIN }, &commands, &mut |m| match m {
        Message::Sample(s) => {
            samples.push(s);
            if samples.len() > stop_after {
                let _ = send.send(Command::Stop);
            }
        }
        Message::Event(e) => events.push(e),
        _ => {}
    });
    (samples, events)
}

fn shown(samples: &[Sample], course: &str, drive: &SimDrive) -> Findings {
    let plan = plan(&parse(course).unwrap(), &run::plan_facts(drive)).unwrap();
    let head = run::head(&plan, course, drive, 1, 0);
    findings(&Trace::of(samples, &head.first().leg_names()), &head.first().context())
}

#[test]
fn hollows_of_a_disk_are_confirmed_where_the_drive_knows_them_and_steps_of_its_zones_are_none() {
    let (mut all, mut found) = (0, 0);
    for seed in 1..=10 {
        let (mut drive, weak) = disk(seed);
        let truth = drive.truth().unwrap().hollows;
        assert_eq!(truth.len(), weak.len());
        let (samples, _) = scan(&mut drive, COURSE, None, usize::MAX);
        let shown = shown(&samples, COURSE, &drive);
        let surface = shown.surface.unwrap();
        assert_eq!(
            surface.passes.iter().map(|p| p.order).collect::<Vec<_>>(),
            [Order::Forward, Order::Other]
        );
        assert_eq!(surface.not_looked_at, []);
        let zone = 128_000_000_000_u64 / 512;
        all += truth.len();
        assert!(shown.hollows.len() <= truth.len(), "{seed}: {:?} of {truth:?}", shown.hollows);
        for ((from, to), (_, _, share)) in truth.iter().zip(&weak) {
            let Some(h) = shown.hollows.iter().find(|h| h.start_byte < *to && *from < h.end_byte) else {
                continue;
            };
            assert!((h.passes_seen, h.passes, h.orders_differ) == (2, 2, true), "{h:?}");
            assert!(
                h.start_byte.abs_diff(*from) <= zone && h.end_byte.abs_diff(*to) <= zone,
                "{h:?} {from} {to}"
            );
            assert!((h.depth_pct - 100.0 * (1.0 - share)).abs() <= 3.0, "{seed}: {h:?} {share}");
            found += 1;
        }
        // 22 zones of 248 to 118 MB/s.
        let zones = &surface.recording_zones;
        assert!((18..=26).contains(&zones.len()), "{seed}: {zones:?}");
        assert!((zones[0].mb_s / 248.0 - 1.0).abs() < 0.02, "{:?}", zones[0]);
        assert!((zones[zones.len() - 1].mb_s / 118.0 - 1.0).abs() < 0.02, "{:?}", zones[zones.len() - 1]);
        assert!(shown.breaks.iter().all(|b| b.cause != mile_core::findings::Cause::ThermalThrottle));
    }
    println!("{found} of {all} hollows");
    assert_eq!(found, all);
}

#[test]
fn a_scan_that_was_cut_off_in_a_random_order_visits_each_zone_once() {
    let course = "course \"s\"\nleg scan\n scan random, blocks 1 MiB, depth 8, zones 100, over 0 % to 10 %\n";
    for after in [3, 17, 40] {
        let (mut drive, _) = disk(1);
        let (first, events) = scan(&mut drive, course, None, after);
        let made = plan(&parse(course).unwrap(), &run::plan_facts(&drive)).unwrap();
        let on = GoOn::of(&made, Status::Stopped, first.clone(), &events, Nanos::from_secs(10.0));
        let (second, _) = scan(&mut drive, course, Some(on), usize::MAX);
        let mut spans: Vec<(u64, u64)> = first
            .iter()
            .chain(&second)
            .filter(|s| s.read.0 > 0)
            .map(|s| (s.offset.unwrap().0, s.offset.unwrap().0 + s.read.0))
            .collect();
        spans.sort_unstable();
        assert!(spans.windows(2).all(|w| w[0].1 == w[1].0), "{after}: a hole, or something twice");
        let mib = 12_800_000_000_u64 >> 20 << 20;
        assert_eq!((spans[0].0, spans[spans.len() - 1].1), (0, mib), "{after}");
    }
}

/// A zone of 250 MB says where a hollow begins to 250 MB: short stretches, halved again and again, say it to 1 MiB.
#[test]
fn a_scan_that_refines_finds_edges_to_a_mib_and_reads_little_for_it() {
    let course = COURSE.replace("zones 512", "zones 512, refine to 1 MiB");
    let mut worst: Vec<f64> = Vec::new();
    for seed in [2, 3, 4, 10] {
        let (mut drive, _) = disk(seed);
        let truth = drive.truth().unwrap().hollows;
        let (samples, events) = scan(&mut drive, &course, None, usize::MAX);
        let whole = shown(&samples, &course, &drive);
        let read: u64 = samples.iter().filter(|s| s.leg == 2).map(|s| s.read.0).sum();
        assert!(
            read <= truth.len() as u64 * 6_000_000_000,
            "{seed}: {read} bytes to refine {} hollows",
            truth.len()
        );
        // It is no third pass, and no hollow is lost or made by it.
        assert_eq!(whole.surface.unwrap().passes.len(), 2);
        assert_eq!(whole.hollows.len(), truth.len(), "{seed}");
        for (h, (from, to)) in whole.hollows.iter().zip(&truth) {
            // A sector that is read twice now and then is harder to see, and then no more is claimed.
            assert!(h.edge_bytes <= 4 << 20, "{h:?}");
            for off in [h.start_byte.abs_diff(*from), h.end_byte.abs_diff(*to)] {
                assert!(off <= h.edge_bytes + (1 << 19), "{seed}: {off} bytes off: {h:?}");
                worst.push(off as f64 / f64::from(1 << 20));
            }
        }
        // Cut off in the middle of it and gone on with, it comes to the same edges.
        let passes = samples.iter().filter(|s| s.leg < 2).count();
        let (mut again, _) = disk(seed);
        let (first, before) = scan(&mut again, &course, None, passes + 20);
        if first.iter().any(|s| s.leg == 2) {
            let plan = plan(&parse(&course).unwrap(), &run::plan_facts(&again)).unwrap();
            let on = GoOn::of(&plan, Status::Stopped, first.clone(), &before, Nanos(0));
            let (rest, _) = scan(&mut again, &course, Some(on), usize::MAX);
            let all: Vec<Sample> = first.into_iter().chain(rest).collect();
            let same = shown(&all, &course, &again);
            for (a, b) in same.hollows.iter().zip(&whole.hollows) {
                assert!(
                    a.start_byte.abs_diff(b.start_byte) <= a.edge_bytes + b.edge_bytes + (2 << 20),
                    "{a:?} {b:?}"
                );
            }
        }
        let says = format!("{events:?}");
        assert!(
            says.contains(if truth.is_empty() { "no hollow has an edge" } else { "edges are known" }),
            "{seed}"
        );
    }
    worst.sort_by(f64::total_cmp);
    println!(
        "{} edges, half within {:.2} MiB, all within {:.2} MiB",
        worst.len(),
        worst[worst.len() / 2],
        worst[worst.len() - 1]
    );
    assert!(worst[worst.len() / 2] <= 1.0, "{worst:?}");
}

#[test]
fn a_backward_scan_goes_from_the_last_zone_to_the_first() {
    let course =
        "course \"s\"\nleg scan\n scan backward, blocks 1 MiB, depth 8, zones 64, over 0 % to 20 %\n";
    let (mut drive, _) = disk(4);
    let (samples, _) = scan(&mut drive, course, None, usize::MAX);
    let surface = shown(&samples, course, &drive).surface.unwrap();
    assert_eq!(surface.passes[0].order, Order::Backward);
    let zones = &surface.recording_zones;
    assert!(zones.len() >= 3 && zones[0].mb_s > zones[zones.len() - 1].mb_s, "{zones:?}");
}

#[test]
fn a_scan_of_a_drive_that_heats_up_calls_nothing_a_hollow_that_is_heat() {
    // It throttles in the first pass, and lets go; the second goes through the same heat at other addresses.
    let text = "extends = \"merrow-k2\"\n[geometry]\ncapacity_bytes = 400000000000\n[thermal]\nambient_c = 52.0\nread_nj_per_byte = 3.4\n";
    let mut drive = SimDrive::of("sim:hot", Model::read(text).unwrap(), 3);
    let (samples, _) = scan(&mut drive, COURSE, None, usize::MAX);
    let throttled = drive.truth().unwrap().events.len();
    let shown = shown(&samples, COURSE, &drive);
    assert!(throttled > 0, "it does not throttle, and shows nothing");
    assert_eq!(shown.hollows, [], "{:?}", shown.surface.unwrap().passing);
}

/// Mean over two addresses drawn uniformly from a stretch of length `s` of what a way of length `d` costs: the density of `d` is 2 (s - d) / s².
fn mean_over_ways(s: f64, cost: impl Fn(f64) -> f64) -> f64 {
    let n = 20_000;
    (0..n)
        .map(|i| {
            let d = s * (f64::from(i) + 0.5) / f64::from(n);
            cost(d) * 2.0 * (s - d) / (s * s) * s / f64::from(n)
        })
        .sum()
}

#[test]
fn the_span_of_a_disk_gains_what_the_arm_of_its_model_says() {
    let course = include_str!("../../../courses/span-disk.course");
    let model = Model::find("keelson").unwrap();
    let disk = model.disk.clone().unwrap();
    let mut drive = SimDrive::of("sim:keelson", model, 5);
    let (samples, _) = scan(&mut drive, course, None, usize::MAX);
    let found = shown(&samples, course, &drive).span.unwrap();
    assert_eq!(found.shares.len(), 9);
    let seek_ms = |d: f64| {
        let root = |x: f64| disk.settle_ms + disk.root_ms * x.sqrt();
        if d <= disk.knee_share {
            root(d)
        } else {
            root(disk.knee_share) + disk.line_ms * (d - disk.knee_share)
        }
    };
    // Half a rotation, and what the controller takes: known to a few hundredths of a millisecond.
    let other_ms = 0.5 * 60_000.0 / disk.rotation_per_min + 0.2;
    for share in &found.shares {
        let expected = other_ms + mean_over_ways(share.share_pct / 100.0, seek_ms);
        let off = share.mean_us / 1e3 / expected - 1.0;
        assert!(off.abs() < 0.03, "{share:?}: {expected} ms");
        assert!(
            share.n == 3 && share.low_us.unwrap() < share.mean_us && share.mean_us < share.high_us.unwrap()
        );
    }
    assert_eq!(found.shares.iter().filter(|s| s.from == "end").count(), 1);
    let law = found.seek.unwrap();
    assert!((law.root_us / 1e3 / disk.root_ms - 1.0).abs() < 0.05, "{law:?}");
    assert!((law.fixed_us / 1e3 / (other_ms + disk.settle_ms) - 1.0).abs() < 0.05, "{law:?}");
    assert!(!found.is_flat && found.enough_share_pct.is_none(), "{found:?}");
}

#[test]
fn where_random_access_gains_nothing_that_is_said() {
    let text = "extends = \"merrow-k2\"\n[controller]\nmap_span_gb = 4000.0\n";
    let course = include_str!("../../../courses/span-flash.course");
    let mut drive = SimDrive::of("sim:flat", Model::read(text).unwrap(), 2);
    let (samples, _) = scan(&mut drive, course, None, usize::MAX);
    let found = shown(&samples, course, &drive).span.unwrap();
    assert!(found.is_flat && found.seek.is_none(), "{found:?}");
    assert_eq!(found.enough_share_pct, Some(100.0));
    assert!(found.sentences()[0].contains("makes no difference"));
    // A map that misses beyond 480 GB: a quarter of 2 TB is enough, half is not.
    let mut drive = SimDrive::new("sim:merrow-k2", 2).unwrap();
    let (samples, _) = scan(&mut drive, course, None, usize::MAX);
    let found = shown(&samples, course, &drive).span.unwrap();
    assert_eq!(found.enough_share_pct, Some(25.0), "{found:?}");
}

/// A drive on which some stretches cannot be read. It notes what it was asked for.
struct Scratched {
    drive: SimDrive,
    bad: Vec<(u64, u64)>,
    transfer: Transfer,
    done: u64,
    asked: Vec<u64>,
}

impl Drive for Scratched {
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
    fn join(&mut self, _: Option<mile_drive::pipe::PipeEnd>) {}
    fn idle(&mut self, until: Nanos) {
        self.drive.idle(until);
    }
    fn begin(&mut self, t: &Transfer) -> Result<(), DriveError> {
        (self.transfer, self.done) = (*t, 0);
        Ok(())
    }
    fn advance(&mut self, _: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        let t = self.transfer;
        for _ in 0..16 {
            if self.done >= t.budget.0 {
                return Ok(true);
            }
            let offset = t.start.0 + (t.skip.0 + self.done) % t.length.0;
            self.drive.idle(self.drive.now().plus(Nanos(4_000_000)));
            self.asked.push(offset);
            self.done += t.block.0;
            let end = offset + t.block.0;
            if self.bad.iter().any(|(a, b)| offset < *b && *a < end) {
                tally.errors += 1;
                let (offset, length) = (Bytes(offset), t.block);
                tally.failures.push(Failure { op: Op::Read, offset, length, errno: Some(5) });
            } else {
                tally.add(Op::Read, Bytes(offset), t.block.0, Nanos(4_000_000));
            }
        }
        Ok(self.done >= t.budget.0)
    }
    fn drain(&mut self, _: Nanos, _: &mut Tally) -> Result<bool, DriveError> {
        Ok(true)
    }
    fn narrow(&mut self, failure: &Failure) -> Pending<Narrowed> {
        Pending::done(Narrowed::unknown(failure))
    }
    fn has_left(&self) -> Option<String> {
        None
    }
    fn readings(&mut self) -> Readings {
        self.drive.readings()
    }
    fn health(&mut self) -> Option<Health> {
        None
    }
    fn close(&mut self, keep: bool) -> Result<(), DriveError> {
        self.drive.close(keep)
    }
}

/// What fails moves no bytes. A scan that counted bytes read the end of a zone again for each failure in it, and a zone that nothing could be read of
/// until the guard on errors ended the run.
#[test]
fn a_scan_goes_past_what_cannot_be_read_and_asks_for_nothing_twice() {
    for order in ["forward", "random"] {
        let course = format!(
            "course \"s\"\nstop if errors above 100\nleg scan\n scan {order}, blocks 1 MiB, depth 8, zones 10, over 0 % to 0.1 %\n"
        );
        let (drive, _) = disk(1);
        let mib = 1_u64 << 20;
        let made = plan(&parse(&course).unwrap(), &run::plan_facts(&drive)).unwrap();
        let mile_course::Work::Transfer(work) = &made.legs[0].work else { unreachable!() };
        let blocks = work.length.0 / mib;
        let mut zones = work.visits(0);
        zones.sort_unstable();
        // One block in the middle of a zone, the last one of another, and all of a third.
        let end = zones[3].0.0 + zones[3].1.0;
        let whole = (zones[6].0.0, zones[6].0.0 + zones[6].1.0);
        let bad = vec![(zones[1].0.0 + 3 * mib, zones[1].0.0 + 3 * mib + 512), (end - 512, end), whole];
        let failing = 2 + zones[6].1.0 / mib;
        for stop_after in [usize::MAX, 2] {
            let mut drive = Scratched {
                drive: disk(1).0,
                bad: bad.clone(),
                transfer: Transfer::default(),
                done: 0,
                asked: Vec::new(),
            };
            let (mut samples, mut events) = go(&mut drive, &course, None, stop_after);
            if stop_after != usize::MAX {
                let on = GoOn::of(&made, Status::Stopped, samples.clone(), &events, Nanos::from_secs(1.0));
                let (more, happened) = go(&mut drive, &course, Some(on), usize::MAX);
                samples.extend(more);
                events.extend(happened);
            }
            let mut asked = drive.asked.clone();
            asked.sort_unstable();
            let all: Vec<u64> = (0..blocks).map(|b| work.start.0 + b * mib).collect();
            assert_eq!(asked, all, "{order}, {stop_after}: each block once");
            assert_eq!(samples.iter().map(|s| s.read.0).sum::<u64>(), (blocks - failing) * mib);
            let failed =
                events.iter().filter(|e| matches!(e.kind, mile_runner::EventKind::Error { .. })).count();
            assert_eq!(failed as u64, failing);
        }
    }
}
