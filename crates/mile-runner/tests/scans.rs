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
use mile_runner::{Command, Event, EventKind, GoOn, Message, Status, Terms, execute, run};
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

/// A zone of 250 MB says where a hollow begins to 250 MB: readings of short stretches say it to 1 MiB.
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
            read <= truth.len() as u64 * 20_000_000_000,
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

/// What is read to refine follows from the readings before it. Where it does not, another version has chosen it, and it says nothing about the edges.
#[test]
fn readings_that_do_not_follow_from_those_before_refine_nothing() {
    let course = COURSE.replace("zones 512", "zones 512, refine to 1 MiB");
    let (mut drive, _) = disk(3);
    let (mut samples, _) = scan(&mut drive, &course, None, usize::MAX);
    let refined = shown(&samples, &course, &drive).hollows;
    let first = samples.iter().position(|s| s.leg == 2).unwrap();
    // Every other reading is missing.
    let mut turn = 0;
    samples.retain(|s| {
        turn += usize::from(s.leg == 2);
        s.leg != 2 || turn % 2 == 0
    });
    assert!(samples.len() > first + 10);
    let strayed = shown(&samples, &course, &drive).hollows;
    samples.truncate(first);
    let by_scan = shown(&samples, &course, &drive).hollows;
    assert!(!by_scan.is_empty() && refined.len() == by_scan.len());
    let edges = |all: &[mile_core::findings::Hollow]| -> Vec<(u64, u64, u64)> {
        all.iter().map(|h| (h.start_byte, h.end_byte, h.edge_bytes)).collect()
    };
    assert_eq!(edges(&strayed), edges(&by_scan));
    assert_ne!(edges(&refined), edges(&by_scan));
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
    /// Where an operation takes 1.5 s, and works.
    slow: Vec<(u64, u64)>,
    transfer: Transfer,
    done: u64,
    asked: Vec<u64>,
    /// Operations after which all of it can be read again.
    heals: usize,
    /// Told a stop when it narrows a failure down, which then takes half a minute.
    stopped_by: Option<crossbeam_channel::Sender<Command>>,
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
            let end = offset + t.load.block.0;
            let is_slow = self.slow.iter().any(|(a, b)| offset < *b && *a < end);
            let took = Nanos(if is_slow { 1_500_000_000 } else { 4_000_000 });
            self.drive.idle(self.drive.now().plus(took));
            self.asked.push(offset);
            self.done += t.load.block.0;
            let is_bad = self.asked.len() <= self.heals;
            if is_bad && self.bad.iter().any(|(a, b)| offset < *b && *a < end) {
                tally.errors += 1;
                let (offset, length) = (Bytes(offset), t.load.block);
                tally.failures.push(Failure {
                    op: Op::Read,
                    offset,
                    length,
                    errno: Some(5),
                    took: Nanos(7_000_000),
                });
            } else {
                tally.add(Op::Read, Bytes(offset), t.load.block.0, took);
            }
        }
        Ok(self.done >= t.budget.0)
    }
    fn drain(&mut self, _: Nanos, _: &mut Tally) -> Result<bool, DriveError> {
        Ok(true)
    }
    fn narrow(&mut self, failure: &Failure, _patience: Nanos) -> Pending<Narrowed> {
        let narrowed = Narrowed::unknown(failure);
        let Some(stop) = self.stopped_by.take() else { return Pending::done(narrowed) };
        let _ = stop.send(Command::Stop);
        Pending::on_thread("narrow", move || {
            std::thread::sleep(std::time::Duration::from_secs(30));
            narrowed
        })
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
                slow: Vec::new(),
                transfer: Transfer::default(),
                done: 0,
                asked: Vec::new(),
                heals: usize::MAX,
                stopped_by: None,
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
            let failed = events.iter().filter(|e| matches!(e.kind, EventKind::PassedOver { .. })).count();
            assert_eq!(failed as u64, failing);
        }
    }
}

/// A small disk of which 40 sectors in a row, 3 single ones and a stretch of 60,000 cannot be read: the first sector of each, how many, and how long each
/// is tried, seconds.
const BAD: [(u64, u64, f64); 5] = [
    (1_000_000, 1, 3.0),
    (1_500_000, 40, 0.5),
    (2_000_777, 1, 3.0),
    (2_600_000, 60_000, 3.0),
    (3_100_003, 1, 3.0),
];
const SECTOR: u64 = 4096;

fn dying() -> SimDrive {
    let bad: String = BAD
        .iter()
        .map(|(sector, sectors, after)| {
            format!("[[disk.unreadable]]\nsector = {sector}\nsectors = {sectors}\nafter_s = {after}\n")
        })
        .collect();
    let text = format!(
        "extends = \"keelson\"\nweak = []\n[disk]\nreallocated = []\n[geometry]\ncapacity_bytes = 16000000000\n{bad}"
    );
    SimDrive::of("sim:dying", Model::read(&text).unwrap(), 4)
}

const DYING: &str = "course \"s\"\nstop if errors above 5000\nleg scan\n scan forward, blocks 1 MiB, depth 8, zones 100, bad stretches 5 min\n";

/// Whether a byte is in a sector that cannot be read.
fn is_bad(byte: u64) -> bool {
    BAD.iter().any(|(sector, sectors, _)| (*sector..sector + sectors).contains(&(byte / SECTOR)))
}

#[test]
fn a_dying_disk_is_read_first_for_what_it_still_gives_and_bad_sectors_are_found_to_the_sector() {
    let mut drive = dying();
    let (samples, events) = go(&mut drive, DYING, None, usize::MAX);
    let mib = 1_u64 << 20;
    let faults = mile_runner::message::faults_of(&events);
    let stretches = &faults[0].stretches;
    // What stands alone is known to the sector.
    for (sector, sectors, _) in BAD.iter().filter(|b| b.1 < 1000) {
        let exact = (sector * SECTOR, (sector + sectors) * SECTOR);
        assert!(stretches.contains(&exact), "{exact:?} in {stretches:?}");
    }
    // Nothing good is said to be bad, but for the rest of a block of 1 MiB that was not narrowed down.
    for (from, to) in stretches {
        assert!((*from..*to).step_by(SECTOR as usize).any(is_bad), "{from} to {to}");
    }
    // All that lies further from what is bad than a zone is read, and read before the second try at the bad.
    let large = (BAD[3].0 * SECTOR, (BAD[3].0 + BAD[3].1) * SECTOR);
    let read: u64 = samples.iter().map(|s| s.read.0).sum();
    let whole = 16_000_000_000 / mib * mib;
    assert!(whole - read <= large.1 - large.0 + 60 * mib, "{read} of {whole}");
    let put_off = events.iter().position(|e| matches!(e.kind, EventKind::PutOff { .. })).unwrap();
    let after = events[put_off].at;
    let first_pass: u64 = samples.iter().filter(|s| s.end > after).map(|s| s.read.0).sum();
    assert!(first_pass > 4_000_000_000, "the rest of the drive came before a second try: {first_pass}");
    // The time for it is kept.
    let ended = samples.last().unwrap().end.secs();
    let plain = whole as f64 / 100e6;
    assert!(ended < plain + 8.0 * 24.0 + 300.0 + 10.0, "{ended}");
    let over = events.iter().find_map(|e| match &e.kind {
        EventKind::LegEnded { why, .. } => Some(why.clone()),
        _ => None,
    });
    assert!(
        over.clone().unwrap().contains("were not looked at, as 5 min for bad stretches are over"),
        "{over:?}"
    );
    // A drive that tries for long is no slow surface, and its tries are no breaks.
    let found = shown(&samples, DYING, &drive);
    assert_eq!((found.hollows.clone(), found.breaks.clone()), (vec![], vec![]));
    // What the drive tells of it follows: each read that fails makes a sector wait for a write.
    let pending = drive.health().unwrap().attributes.iter().find(|a| a.id == 197).unwrap().raw;
    assert!(pending >= BAD.len() as u64, "{pending}");
}

#[test]
fn a_scan_that_was_stopped_amid_errors_goes_on_and_asks_for_nothing_twice() {
    let (all, _) = go(&mut dying(), DYING, None, usize::MAX);
    let made = plan(&parse(DYING).unwrap(), &run::plan_facts(&dying())).unwrap();
    let whole: u64 = all.iter().map(|s| s.read.0).sum();
    for share in [0.4, 0.7, 0.9, 0.97] {
        let stop_after = (all.len() as f64 * share) as usize;
        let (mut samples, mut events) = go(&mut dying(), DYING, None, stop_after);
        let on = GoOn::of(&made, Status::Stopped, samples.clone(), &events, Nanos::from_secs(1.0));
        let (more, happened) = go(&mut dying(), DYING, Some(on), usize::MAX);
        samples.extend(more);
        events.extend(happened);
        let mut asked: Vec<u64> = events
            .iter()
            .filter_map(|e| match &e.kind {
                EventKind::PassedOver { failure, .. } => Some(failure.offset.0),
                _ => None,
            })
            .collect();
        let count = asked.len();
        asked.sort_unstable();
        asked.dedup();
        assert_eq!(asked.len(), count, "no block failed twice");
        let read: u64 = samples.iter().map(|s| s.read.0).sum();
        // The time for bad stretches begins anew, so that more may be read, and never a block twice.
        assert!(
            read >= whole && read + (count as u64) * (1 << 20) <= 16_000_000_000,
            "{share}: {read} {whole}"
        );
        let faults = mile_runner::message::faults_of(&events);
        for (sector, sectors, _) in BAD.iter().filter(|b| b.1 < 1000) {
            let exact = (sector * SECTOR, (sector + sectors) * SECTOR);
            assert!(faults[0].stretches.contains(&exact), "{share}: {exact:?} in {:?}", faults[0].stretches);
        }
    }
}

#[test]
fn old_data_are_told_from_a_weak_place_by_writing_them_anew() {
    let text = "extends = \"bittern-s1\"\n[geometry]\ncapacity_bytes = 60000000000\nfill = 0.0\n[[flash.stale]]\nfrom = 0.2\nto = 0.3\nread_share = 0.35\n";
    let course = include_str!("../../../courses/stale-data.course");
    let mut drive = SimDrive::of("sim:old", Model::read(text).unwrap(), 3);
    let (samples, _) = scan(&mut drive, course, None, usize::MAX);
    let found = shown(&samples, course, &drive);
    let surface = found.surface.unwrap();
    let share = |byte: u64| byte as f64 / 60e9;
    // What the model says is weak stays a hollow, and what was old is none.
    let hollows: Vec<(f64, f64)> =
        found.hollows.iter().map(|h| (share(h.start_byte), share(h.end_byte))).collect();
    assert_eq!(hollows.len(), 2, "{hollows:?}");
    assert!((hollows[0].0 - 0.52).abs() < 0.004 && (hollows[1].1 - 0.74).abs() < 0.004, "{hollows:?}");
    let old: Vec<_> =
        surface.passing.iter().filter(|p| p.instead == mile_core::surface::Instead::StaleData).collect();
    assert_eq!(old.len(), 1, "{:?}", surface.passing);
    assert!((share(old[0].start_byte) - 0.2).abs() < 0.004 && (share(old[0].end_byte) - 0.3).abs() < 0.004);
    assert!((old[0].depth_pct - 65.0).abs() < 3.0 && old[0].leg == "as-found", "{old:?}");
    // Without the write, the same place is a hollow.
    let twice = "course \"s\"\nleg scan\n scan, blocks 1 MiB, depth 8, zones 512\n";
    let mut drive = SimDrive::of("sim:old", Model::read(text).unwrap(), 3);
    let (samples, _) = scan(&mut drive, twice, None, usize::MAX);
    assert_eq!(shown(&samples, twice, &drive).hollows.len(), 3);
}

#[test]
fn a_scan_that_writes_visits_every_zone_once_and_goes_on_where_it_was() {
    let course = "course \"s\"\nleg w\n scan write random, blocks 1 MiB, depth 8, zones 97\n";
    let text = "extends = \"bittern-s1\"\n[geometry]\ncapacity_bytes = 20000000000\nfill = 0.0\n";
    let drive = || SimDrive::of("sim:w", Model::read(text).unwrap(), 3);
    let (all, _) = scan(&mut drive(), course, None, usize::MAX);
    let made = plan(&parse(course).unwrap(), &run::plan_facts(&drive())).unwrap();
    let mile_course::Work::Transfer(work) = &made.legs[0].work else { unreachable!() };
    assert!(work.load.op == Op::Write && made.writes() == work.length && work.zones == 97);
    let starts: std::collections::BTreeSet<u64> = work.visits(0).iter().map(|v| v.0.0).collect();
    let seen = |samples: &[Sample]| -> std::collections::BTreeSet<u64> {
        let zone = |at: u64| *starts.range(..=at).next_back().unwrap();
        samples.iter().filter_map(|s| Some(zone(s.offset?.0))).collect()
    };
    assert_eq!(all.iter().map(|s| s.written.0).sum::<u64>(), work.length.0);
    assert_eq!(seen(&all), starts);
    let (mut samples, events) = scan(&mut drive(), course, None, all.len() / 2);
    let on = GoOn::of(&made, Status::Stopped, samples.clone(), &events, Nanos::from_secs(1.0));
    samples.extend(scan(&mut drive(), course, Some(on), usize::MAX).0);
    assert_eq!((samples.iter().map(|s| s.written.0).sum::<u64>(), seen(&samples)), (work.length.0, starts));
}

#[test]
fn the_list_of_errors_says_how_often_each_was_seen_and_which_a_later_leg_could_read() {
    let course = "course \"s\"\nstop if errors above 100\nleg a\n scan forward, blocks 1 MiB, depth 8, zones 10, over 0 % to 0.1 %\nleg b\n scan random, blocks 1 MiB, depth 8, zones 10, over 0 % to 0.1 %\n";
    let mib = 1_u64 << 20;
    let bad = vec![(3 * mib, 3 * mib + 512), (40 * mib, 41 * mib)];
    let listed = |heals: usize| {
        let (drive, _) = disk(1);
        let mut drive = Scratched {
            drive,
            bad: bad.clone(),
            slow: Vec::new(),
            transfer: Transfer::default(),
            done: 0,
            asked: Vec::new(),
            heals,
            stopped_by: None,
        };
        let (_, events) = go(&mut drive, course, None, usize::MAX);
        let made = plan(&parse(course).unwrap(), &run::plan_facts(&drive)).unwrap();
        let head = run::head(&made, course, &drive, 1, 0);
        mile_runner::errors::bad_stretches(head.first(), &events)
    };
    let stays = listed(usize::MAX);
    assert_eq!(
        stays.iter().map(|b| (b.start_byte, b.end_byte)).collect::<Vec<_>>(),
        [(3 * mib, 4 * mib), (40 * mib, 41 * mib)]
    );
    for b in &stays {
        // This drive cannot narrow: the operation is all that is known.
        assert!(b.attempts == 2 && !b.is_exact && b.read_again_in.is_none() && b.legs == ["a", "b"], "{b:?}");
        assert!(b.error.contains("EIO") && b.first_s < b.last_s);
        assert_eq!(b.time_s, Some(0.014));
    }
    // Readable again after the first pass: the second one says so.
    let blocks = 121;
    for b in listed(blocks) {
        assert!(b.attempts == 1 && b.legs == ["a"] && b.read_again_in.as_deref() == Some("b"), "{b:?}");
        assert_eq!(b.time_s, Some(0.007));
    }
}

/// Nothing fails there, but it is read at a 375th of the rate of all the rest: it would hold the scan up for 75 s, or on a real drive for hours.
#[test]
fn a_zone_in_which_hardly_anything_comes_is_read_last() {
    let course = |time: &str| {
        format!(
            "course \"s\"\nleg scan\n scan forward, blocks 1 MiB, depth 8, zones 40, bad stretches {time}, over 0 B to 8388608000 B\n"
        )
    };
    let mib = 1_u64 << 20;
    let slow = (2000 * mib, 2050 * mib);
    let read = |time: &str| {
        let mut drive = Scratched {
            drive: disk(1).0,
            bad: Vec::new(),
            slow: vec![slow],
            transfer: Transfer::default(),
            done: 0,
            asked: Vec::new(),
            heals: usize::MAX,
            stopped_by: None,
        };
        let (_, events) = go(&mut drive, &course(time), None, usize::MAX);
        (drive.asked, events)
    };
    let (asked, events) = read("10 min");
    let off = events.iter().find_map(|e| match &e.kind {
        EventKind::PutOff { at, failures, slower, .. } => Some((e.kind.words(), at.0, *failures, *slower)),
        _ => None,
    });
    let (words, at, failures, slower) = off.unwrap();
    assert!(words.contains("times more slowly than the others"), "{words}");
    // At the first look it is 20 s behind the rate of the others, or at the next.
    assert!(failures == 0 && slower.unwrap() >= 20, "{slower:?}");
    assert!((slow.0 + 13 * mib..slow.0 + 48 * mib).contains(&at), "{at}");
    let nothing = EventKind::PutOff { at: Bytes(0), end: Bytes(1), failures: 0, slower: Some(u32::MAX) };
    assert!(nothing.words().starts_with("Nothing came of a zone for 20 s"));
    // Every block was asked for once; those behind where it was left, last.
    let mut all = asked.clone();
    all.sort_unstable();
    all.dedup();
    assert_eq!(all.len(), asked.len());
    assert_eq!(asked.len() as u64, 8000);
    let place = |address: u64| asked.iter().position(|a| *a == address).unwrap();
    assert!(place(slow.1 - mib) > place(asked.iter().max().copied().unwrap()));
    // With little time for it, what was not read is told.
    let (asked, events) = read("20 s");
    let why = events.iter().find_map(|e| match &e.kind {
        EventKind::LegEnded { why, .. } => Some(why.clone()),
        _ => None,
    });
    let left = 8000 - asked.len() as u64;
    // The second half of what was put off is good, and was read first.
    assert!(left > 0 && left < 100, "{left}");
    assert!(why.as_ref().unwrap().contains("in bad stretches were not looked at, as 20.0 s"), "{why:?}");
}

#[test]
fn a_pass_in_a_random_order_announces_no_break_of_its_own() {
    for seed in [1, 2, 3] {
        let (mut drive, _) = disk(seed);
        let (_, events) = scan(&mut drive, COURSE, None, usize::MAX);
        let second = events
            .iter()
            .find(|e| matches!(&e.kind, EventKind::LegBegan { name, .. } if name.starts_with("pass 2")))
            .unwrap();
        let announced: Vec<f64> = events
            .iter()
            .filter_map(|e| match &e.kind {
                EventKind::BreakSeen(b) => Some(b.at_s).filter(|at| *at >= second.at.secs()),
                _ => None,
            })
            .collect();
        assert!(announced.is_empty(), "seed {seed}: {announced:?}");
    }
}

/// A stop that came while a failure was narrowed down ended the narrowing only: the run went on with its next leg.
#[test]
fn a_stop_while_a_failure_is_narrowed_down_ends_the_run_at_once_and_it_goes_on_there() {
    let course = "course \"s\"\nstop if errors above 100\nleg a\n scan forward, blocks 1 MiB, depth 8, zones 10, over 0 % to 0.1 %\nleg b\n scan random, blocks 1 MiB, depth 8, zones 10, over 0 % to 0.1 %\n";
    let mib = 1_u64 << 20;
    let scratched = |stopped_by| Scratched {
        drive: disk(1).0,
        bad: vec![(3 * mib, 4 * mib), (60 * mib, 61 * mib)],
        slow: Vec::new(),
        transfer: Transfer::default(),
        done: 0,
        asked: Vec::new(),
        heals: usize::MAX,
        stopped_by,
    };
    let mut drive = scratched(None);
    let made = plan(&parse(course).unwrap(), &run::plan_facts(&drive)).unwrap();
    let head = run::head(&made, course, &drive, 1, 0);
    let (send, commands) = unbounded();
    drive.stopped_by = Some(send);
    let (mut samples, mut events) = (Vec::new(), Vec::new());
    let begun = mile_drive::clock::Monotonic::start();
    let outcome = execute(&made, head, &mut drive, Terms::PLAIN, &commands, &mut |m| match m {
        Message::Sample(s) => samples.push(s),
        Message::Event(e) => events.push(e),
        _ => {}
    });
    assert_eq!(outcome.status, Status::Stopped, "{events:?}");
    assert!(begun.now() < Nanos::from_secs(25.0), "the stop waited for what was narrowed down");
    assert!(!events.iter().any(|e| matches!(&e.kind, EventKind::LegBegan { leg: 1, .. })));
    let on = GoOn::of(&made, Status::Stopped, samples, &events, Nanos::from_secs(1.0));
    assert_eq!((on.leg, on.later.len()), (0, 2), "both failures are still to be looked at");
    let (_, more) = go(&mut scratched(None), course, Some(on), usize::MAX);
    let narrowed = more.iter().filter(|e| matches!(e.kind, EventKind::Narrowed { .. })).count();
    assert_eq!(narrowed, 2 + 2, "those of the first leg, and those of the second");
}
