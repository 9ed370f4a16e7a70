//! What the program costs, as ratios within one run: `scripts/bench [FOLDER [PART …]]`, with the parts `files`, `log`, `simulation`, `courses`, `surface` and
//! `day` (findings and frames of a run of 24 hours); all of them where none is named. `writes` and `scan` measure one work of `files` by itself.
//!
//! The file path (runner, sampling at 10 samples a second, logbook) is measured in turns with a bare io_uring loop in this
//! same binary, on the same blocks of the same file, so that what the machine does meanwhile meets both. The median of the
//! pairs' ratios counts; pairs during which the hypervisor stole more than a tenth of the processors are made again.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::disallowed_methods,
    unsafe_code,
    missing_docs,
    reason = "a benchmark speaks, takes the time, drives the ring itself, and has nobody to hand an error to"
)]

use hollow_mile::measure::Screen;
use io_uring::{IoUring, opcode, types};
use mile_core::{
    Access, Bytes, Celsius, Context, Latency, LiveFindings, Nanos, Op, Rate, RunId, Sample, Throttled, Trace,
    Workload, findings,
};
use mile_drive::file::{EngineChoice, FileDrive};
use mile_drive::host::Host;
use mile_drive::io::pattern::{Arena, Pool};
use mile_drive::{Drive, Tally, Transfer};
use mile_logbook::{Block, Entered, Errand, Logbook, Recorder};
use mile_runner::{LaneHead, RunHead, Status, Terms, execute, run};
use mile_sim::SimDrive;
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;
use std::fs::{File, OpenOptions};
use std::os::fd::AsRawFd;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

const SIZE: u64 = 3 << 30;
const PAIRS: usize = 31;
/// Of a work that is measured by itself.
const PAIRS_ALONE: usize = 93;

struct Cost {
    ops: u64,
    seconds: f64,
    cpu: f64,
}

impl Cost {
    fn rate(&self) -> f64 {
        self.ops as f64 / self.seconds
    }

    fn cpu_us(&self) -> f64 {
        self.cpu / self.ops as f64 * 1e6
    }
}

/// All parts of the benchmark are one run, so that they may write to one file.
const RUN: RunId = RunId(1);

fn cpu_seconds() -> f64 {
    let mut t = libc::timespec { tv_sec: 0, tv_nsec: 0 };
    // SAFETY: the pointer is to a local that lives through the call.
    unsafe { libc::clock_gettime(libc::CLOCK_PROCESS_CPUTIME_ID, &mut t) };
    t.tv_sec as f64 + t.tv_nsec as f64 * 1e-9
}

/// What is held against the bare loop.
struct Work {
    name: &'static str,
    /// The leg, without its blocks and depth.
    leg: &'static str,
    reads: bool,
    random: bool,
    block: u64,
    depth: usize,
    /// Operations of the bare loop.
    ops: u64,
    /// Legs that move them, one after the other, where a leg ends by itself: what a run costs once is little then.
    legs: u64,
    /// Share of the bare throughput that is asked for.
    least: f64,
    /// Share of the bare processor time that is allowed.
    most: f64,
}

const WORKS: [Work; 3] = [
    Work {
        name: "writes, 1 MiB, depth 16, sequential",
        leg: "write sequential",
        reads: false,
        random: false,
        block: 1 << 20,
        depth: 16,
        ops: 12_000,
        legs: 1,
        least: 0.99,
        most: 1.1,
    },
    Work {
        name: "writes, 4 KiB, depth 32, random",
        leg: "write random",
        reads: false,
        random: true,
        block: 4096,
        depth: 32,
        ops: 600_000,
        legs: 1,
        least: 0.97,
        most: 1.05,
    },
    Work {
        name: "scan, 1 MiB, depth 16, 8 zones",
        leg: "scan forward, zones 8",
        reads: true,
        random: false,
        block: 1 << 20,
        depth: 16,
        ops: 12_000,
        legs: 4,
        least: 0.97,
        most: 1.1,
    },
];

/// The least that operations through io_uring can cost: fixed buffers and file, no data made, no clock, no counts.
fn bare(path: &Path, work: &Work) -> Cost {
    let &Work { block, depth, random, ops, .. } = work;
    let file: File =
        OpenOptions::new().read(true).write(true).custom_flags(libc::O_DIRECT).open(path).unwrap();
    let mut buffers = Arena::filled(depth, block as usize, &Pool::new(RUN, 0, 0));
    let entries = (depth as u32).next_power_of_two();
    let mut ring: IoUring =
        IoUring::builder().setup_single_issuer().setup_defer_taskrun().build(entries).unwrap();
    ring.submitter().register_files(&[file.as_raw_fd()]).unwrap();
    let vectors: Vec<libc::iovec> = (0..depth)
        .map(|i| libc::iovec { iov_base: buffers.block(i).as_mut_ptr().cast(), iov_len: block as usize })
        .collect();
    // SAFETY: the buffers outlive the ring, which is dropped first, after all operations are back.
    unsafe { ring.submitter().register_buffers(&vectors).unwrap() };
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(1);
    let blocks = SIZE / block - 1;
    let (mut issued, mut back) = (0_u64, 0_u64);
    let mut free: Vec<usize> = (0..depth).collect();
    let (wall, cpu) = (Instant::now(), cpu_seconds());
    while back < ops {
        while issued < ops
            && let Some(slot) = free.pop()
        {
            // The first block is left alone: by it the file is known as ours.
            let index = if random { rng.next_u64() % blocks } else { issued % blocks } + 1;
            let (file, at, index) = (types::Fixed(0), vectors[slot].iov_base.cast::<u8>(), index * block);
            let entry = if work.reads {
                opcode::ReadFixed::new(file, at, block as u32, slot as u16).offset(index).build()
            } else {
                opcode::WriteFixed::new(file, at, block as u32, slot as u16).offset(index).build()
            };
            let entry = entry.user_data(slot as u64);
            // SAFETY: as above; the slot is free, so that its buffer is not in use.
            unsafe { ring.submission().push(&entry).unwrap() };
            issued += 1;
        }
        ring.submitter().submit_and_wait(1).unwrap();
        for entry in ring.completion() {
            assert_eq!(u64::try_from(entry.result()), Ok(block));
            free.push(entry.user_data() as usize);
            back += 1;
        }
    }
    Cost { ops, seconds: wall.elapsed().as_secs_f64(), cpu: cpu_seconds() - cpu }
}

/// What becomes of the log of a run meanwhile.
#[derive(Clone, Copy, PartialEq)]
enum Log {
    Kept,
    /// Another program holds the lock of the logbook, so that nothing can be written to it until the run has ended.
    Locked,
}

/// The same through the program: a course on a file, sampled and logged.
fn ours(path: &Path, place: &Path, work: &Work, log: Log) -> Cost {
    let Work { block, depth, leg, legs, .. } = work;
    let bytes = work.ops / legs * block;
    let range = if work.reads {
        format!("over {block} B to {} B", block + bytes)
    } else {
        // For a time, as only that goes over the range several times: what a run costs once is little then.
        format!("over {block} B to {SIZE} B, for 2 s")
    };
    let mut text = "course \"bench\"\nsample every 100 ms\n".to_owned();
    for number in 1..=*legs {
        text += &format!("leg w{number}\n {leg}, blocks {block} B, depth {depth}, {range}\n");
    }
    let course = mile_course::parse(&text).unwrap();
    let mut drive = FileDrive::new(path, Bytes(SIZE), 1, EngineChoice::Auto, Some(RUN)).unwrap();
    let mut facts = run::plan_facts(&drive);
    // All of the file was written before.
    facts.readable |= work.reads;
    let plan = mile_course::plan(&course, &facts).unwrap();
    let mut head = run::head(&plan, &text, &drive, 1, 0);
    head.identity = Some(RUN);
    let (_commands, obeyed) = crossbeam_channel::unbounded();
    let mut book = Logbook::open(place).unwrap();
    let entered = Entered::new(book.begin(&head).unwrap(), 1);
    let (told, _log) = crossbeam_channel::unbounded();
    let recorder = Recorder::start(book, Errand { entered, told, waits: false, aside: Vec::new() }).unwrap();
    let other = (log == Log::Locked).then(|| {
        let other = rusqlite::Connection::open(place).unwrap();
        other.execute_batch("BEGIN IMMEDIATE").unwrap();
        other
    });
    let mut span: Option<(Nanos, Nanos)> = None;
    let mut ops = 0;
    let mut cpu: Option<(f64, f64)> = None;
    let outcome = execute(&plan, head, &mut drive, Terms { keep: true, ..Terms::PLAIN }, &obeyed, &mut |m| {
        match &m {
            // From the first operation on: making and opening the file is not part of the path.
            mile_runner::Message::Event(e) if matches!(e.kind, mile_runner::EventKind::Engine(_)) => {
                span = span.or(Some((e.at, e.at)));
                cpu = cpu.or_else(|| Some((cpu_seconds(), 0.0)));
            }
            mile_runner::Message::Sample(s) => {
                ops += s.ops;
                span = span.map(|(from, _)| (from, s.end));
            }
            mile_runner::Message::LegLatency(..) => cpu = cpu.map(|(from, _)| (from, cpu_seconds())),
            _ => {}
        }
        recorder.tell(0, m);
    });
    assert_eq!(outcome.status, Status::Done, "{:?}", outcome.why);
    drop(other);
    recorder.finish().unwrap();
    let (from, to) = span.unwrap();
    let (before, behind) = cpu.unwrap();
    Cost { ops, seconds: to.since(from).secs(), cpu: behind - before }
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The file that is measured, written once, and a logbook that is not on the file system that is measured.
fn written(folder: &Path) -> (PathBuf, PathBuf) {
    let path = folder.join("hollow-mile-bench.bin");
    let book = Path::new(env!("CARGO_TARGET_TMPDIR")).join("hollow-mile-bench.logbook");
    // Written once, so that both find blocks that exist. The kernel lets go of the file of the part before some time after it was removed.
    let made = || FileDrive::new(&path, Bytes(SIZE), 1, EngineChoice::Auto, Some(RUN));
    let waits =
        (0..100).find_map(|_| made().inspect_err(|_| std::thread::sleep(Duration::from_millis(100))).ok());
    let mut drive = waits.unwrap_or_else(|| made().unwrap());
    drive.open().unwrap();
    let whole = Transfer {
        load: Workload { op: Op::Write, block: Bytes(1 << 20), depth: 16, ..Workload::default() },
        start: Bytes(0),
        length: Bytes(SIZE),
        budget: Bytes(SIZE),
        ..Transfer::default()
    };
    drive.begin(&whole).unwrap();
    while !drive.advance(drive.now().plus(Nanos(100_000_000)), &mut Tally::default()).unwrap() {}
    drive.close(true).unwrap();
    (path, book)
}

fn remove(path: &Path, book: &Path) {
    std::fs::remove_file(path).unwrap();
    for suffix in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{suffix}", book.display()));
    }
}

/// The order statistics between which the median lies with 97 %: by the normal approximation of the binomial distribution 2.17 standard deviations of
/// sqrt(n)/2 on either side. Of 31 pairs these are the 10th and the 22nd, of 93 the 37th and the 57th.
fn spread(mut values: Vec<f64>) -> std::ops::Range<f64> {
    values.sort_by(f64::total_cmp);
    let n = values.len() as f64;
    let outer = ((n - 2.17 * n.sqrt()) / 2.0).max(0.0) as usize;
    values[outer]..values[values.len() - 1 - outer]
}

/// A run whose log cannot be written, against one whose log is kept.
fn failing_log(folder: &Path) {
    let (path, book) = written(folder);
    for work in &WORKS[..2] {
        let ratios = (0..PAIRS).map(|i| {
            // The order turns, so that neither is always the one that follows.
            let order = if i % 2 == 0 { [Log::Kept, Log::Locked] } else { [Log::Locked, Log::Kept] };
            let rates = order.map(|log| (log, ours(&path, &book, work, log).rate()));
            let of = |log| rates.iter().find(|r| r.0 == log).unwrap().1;
            of(Log::Locked) / of(Log::Kept)
        });
        let ratios: Vec<f64> = ratios.collect();
        let known = spread(ratios.clone());
        println!(
            "{}: throughput while the log cannot be written against while it is kept {:.3}, {:.3} to {:.3} with 97 % (the last at least 1)",
            work.name,
            median(ratios),
            known.start,
            known.end
        );
    }
    remove(&path, &book);
}

fn file_path(folder: &Path, works: &[Work], pairs: usize) {
    let (path, book) = written(folder);
    for work in works {
        let &Work { name, block, least, most, .. } = work;
        let (mut rate, mut cpu, mut costs) = (Vec::new(), Vec::new(), Vec::new());
        let mut tries = 0;
        while rate.len() < pairs && tries < 3 * pairs {
            tries += 1;
            let mut host = Host::new();
            // The order turns, so that neither is always the one that follows.
            let (a, b) = if tries % 2 == 0 {
                let b = bare(&path, work);
                (ours(&path, &book, work, Log::Kept), b)
            } else {
                let a = ours(&path, &book, work, Log::Kept);
                (a, bare(&path, work))
            };
            if host.read().steal.is_some_and(|s| s > 0.1) && tries + pairs < 3 * pairs + rate.len() {
                continue;
            }
            rate.push(a.rate() / b.rate());
            cpu.push(a.cpu_us() / b.cpu_us());
            costs.push((a.rate() * block as f64 / 1e6, a.cpu_us(), b.cpu_us()));
        }
        let (r, c) = (spread(rate.clone()), spread(cpu.clone()));
        println!("file path, {name}:");
        println!(
            "    throughput against the bare loop  {:.3}  ({:.3} to {:.3} with 97 %; at least {least})",
            median(rate),
            r.start,
            r.end
        );
        println!(
            "    processor time against it         {:.3}  ({:.3} to {:.3} with 97 %; at most {most})",
            median(cpu),
            c.start,
            c.end
        );
        let middle = |f: fn(&(f64, f64, f64)) -> f64| median(costs.iter().map(f).collect());
        println!(
            "    {:.0} MB/s; {:.2} µs an operation, {:.2} µs bare",
            middle(|c| c.0),
            middle(|c| c.1),
            middle(|c| c.2)
        );
    }
    remove(&path, &book);
}

fn simulation() {
    for (name, block, random) in [
        ("sequential 128 KiB, a fill of 2 TB", 128_u64 << 10, false),
        ("random 4 KiB, 20 million", 4096, true),
    ] {
        let mut drive = SimDrive::new("sim:merrow-k2", 1).unwrap();
        let length = 2_000_398_934_016 / block * block;
        let budget = if random { 20_000_000 * block } else { length };
        let t = Transfer {
            load: Workload {
                op: Op::Write,
                access: if random { Access::Random } else { Access::Sequential },
                block: Bytes(block),
                depth: 16,
                ..Workload::default()
            },
            start: Bytes(0),
            length: Bytes(length),
            budget: Bytes(budget),
            ..Transfer::default()
        };
        drive.begin(&t).unwrap();
        let mut tally = Tally::default();
        let start = Instant::now();
        while !drive.advance(drive.now().plus(Nanos(1_000_000_000)), &mut tally).unwrap() {}
        let rate = tally.ops as f64 / start.elapsed().as_secs_f64() / 1e6;
        println!("simulated drive, {name}: {rate:.1} million operations a second (at least 10)");
    }
}

/// A day at 10 samples a second, with all channels.
fn day() -> Vec<Sample> {
    let mut rng = Xoshiro256PlusPlus::seed_from_u64(3);
    (0..864_000_u64)
        .map(|i| {
            let level = if i < 4000 {
                2900.0
            } else if i % 200_000 < 150_000 {
                1050.0
            } else {
                740.0
            };
            let noise = 1.0 + 0.03 * ((rng.next_u64() >> 11) as f64 / (1_u64 << 53) as f64 - 0.5);
            let l = Nanos(15_000_000 + rng.next_u64() % 1_000_000);
            Sample {
                start: Nanos(i * 100_000_000),
                end: Nanos((i + 1) * 100_000_000),
                written: Bytes((level * noise * 1e5) as u64),
                ops: 100,
                offset: Some(Bytes(i * 1000)),
                reach: Some(Bytes(i * 1000 + 9)),
                latency: Some(Latency { p50: l, p99: l, p999: l, max: l }),
                temp: Some(Celsius((40.0 + 30.0 * (i as f64 / 80_000.0).min(1.0)).round())),
                ambient: Some(Celsius(24.0)),
                throttled: Some(Throttled { light_s: (i / 20) as f64, heavy_s: 0.0 }),
                foreign: Some(Rate(1e6)),
                host: mile_core::Host { steal: Some(0.01), cpu: Some(0.2) },
                fill: Some(0.5),
                ..Sample::default()
            }
        })
        .collect()
}

/// Two passes over 100,000 zones, forward and in steps that visit each once.
fn surface_of_many_zones() {
    let sample = |i: u64| {
        let zone = if i < 100_000 { i } else { i * 7919 % 100_000 };
        let slow = if (40_000..41_000).contains(&zone) { 3 } else { 1 };
        Sample {
            start: Nanos(i * 5_000_000),
            end: Nanos(i * 5_000_000 + 2_000_000 * slow + i * 7919 % 101 * 300),
            leg: u32::from(i >= 100_000),
            op: Op::Read,
            read: Bytes(1 << 20),
            offset: Some(Bytes(zone << 20)),
            ..Sample::default()
        }
    };
    let samples: Vec<Sample> = (0..200_000).map(sample).collect();
    let head = RunHead::of_lane(LaneHead::named(&["one", "two"]));
    let trace = Trace::of(&samples, &head.first().leg_names());
    let start = Instant::now();
    let hollows = mile_core::surface::surface(&trace).map_or(0, |s| s.1.len());
    println!(
        "surface of 2 passes x 100,000 zones: {:.2} s (under 0.5 s), {hollows} hollow",
        start.elapsed().as_secs_f64()
    );
    for (width, height) in [(159, 46), (80, 24)] {
        let mut screen = Screen::findings(&samples, head.clone(), width, height);
        screen.show_surface();
        frames(&mut screen, &format!("a frame of that map at {width}x{height}"), "both under 8 ms");
    }
}

/// Draws 300 frames, and says how long they took.
fn frames(screen: &mut Screen, what: &str, limits: &str) {
    let n = 300;
    let mut times: Vec<f64> = (0..n)
        .map(|_| {
            let start = Instant::now();
            assert!(screen.draw() > 500);
            start.elapsed().as_secs_f64() * 1e3
        })
        .collect();
    times.sort_by(f64::total_cmp);
    println!("{what}: median {:.2} ms, p99 {:.2} ms ({limits})", times[n / 2], times[n * 99 / 100]);
}

fn long_run(folder: &Path) {
    let samples = day();
    let head = RunHead::of_lane(LaneHead::named(&["soak"]));
    let start = Instant::now();
    let trace = Trace::of(&samples, &head.first().leg_names());
    let columns = start.elapsed();
    let start = Instant::now();
    let found = findings(&trace, &Context { warn: Some(Celsius(77.0)), ..Context::default() });
    println!(
        "findings of 864,000 samples: {:.2} s, {} breaks; into columns before that: {:.2} s (both under 1 s)",
        start.elapsed().as_secs_f64(),
        found.breaks.len(),
        columns.as_secs_f64()
    );
    let mut live = LiveFindings::new(Context::default());
    let start = Instant::now();
    for sample in &samples {
        live.push(sample, "soak");
        live.news();
    }
    println!("live findings: {:.2} µs a sample", start.elapsed().as_secs_f64() * 1e6 / samples.len() as f64);
    for (width, height) in [(240, 67), (159, 46), (80, 24)] {
        let mut screen = Screen::findings(&samples, head.clone(), width, height);
        frames(&mut screen, &format!("a frame at {width}x{height} with that run"), "under 2 ms and 8 ms");
    }
    let two = RunHead {
        lanes: ["a", "b"].map(|lane| LaneHead { name: lane.into(), ..LaneHead::named(&["soak"]) }).into(),
        ..RunHead::default()
    };
    let mut screen = Screen::underway(two, &[&samples, &samples], 240, 67);
    for (width, height) in [(240, 67), (159, 46), (80, 24)] {
        screen.resize(width, height);
        frames(
            &mut screen,
            &format!("a frame at {width}x{height} with two lanes of it underway"),
            "under 2 ms and 8 ms",
        );
    }
    let path = folder.join("hollow-mile-bench-day.logbook");
    let mut book = Logbook::open(&path).unwrap();
    let run = book.begin(&head).unwrap();
    for (i, block) in samples.chunks(10).enumerate() {
        book.append(run, &[Block { lane: 0, first: i as u64 * 10, samples: block, events: &[] }]).unwrap();
        if i == 2000 {
            break;
        }
    }
    for (i, block) in samples[20_010..].chunks(4096).enumerate() {
        book.append(run, &[Block { lane: 0, first: 20_010 + i as u64 * 4096, samples: block, events: &[] }])
            .unwrap();
    }
    drop(book);
    let start = Instant::now();
    let stored = Logbook::open(&path).unwrap().run(run).unwrap();
    let read = start.elapsed();
    assert_eq!(stored.first().samples.len(), samples.len());
    println!("reading that run from the logbook: {:.2} s", read.as_secs_f64());
    drop(stored);
    // What the place of findings draws first has no findings yet.
    let mut first: Vec<f64> = (0..5)
        .map(|_| {
            let start = Instant::now();
            let (stored, traces) = Logbook::reading(&path, |b| b.traced(run)).unwrap();
            let mut screen = Screen::read(traces.into_iter().next().unwrap(), stored.head, 240, 67);
            assert!(screen.draw() > 1000);
            start.elapsed().as_secs_f64()
        })
        .collect();
    first.sort_by(f64::total_cmp);
    println!(
        "opening it up to the first frame: median {:.2} s, at most {:.2} s (under 0.3 s)",
        first[2], first[4]
    );
    for suffix in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(format!("{}{suffix}", path.display()));
    }
}

/// A course of 10,000 legs, written out and as a sweep.
fn course_checks() {
    let leg = |i: u32| {
        format!(
            "leg l{i}\n  write sequential, blocks 1 MiB, depth 16, over 0 % to 50 %\n  until 1 GB written or 10 min\n"
        )
    };
    let written: String = (0..10_000).map(leg).collect();
    let swept = "for a in 1 to 100 by 1\n for b in 1 to 100 by 1\n  leg l\n   write random, blocks 4 KiB, depth a, for 1 s\n end\nend\n";
    for (name, body) in [("written out", written.as_str()), ("as a sweep", swept)] {
        let text = format!("course \"many\"\n{body}");
        let times = (0..9).map(|_| {
            let start = Instant::now();
            assert_eq!(mile_course::parse(&text).unwrap().legs.len(), 10_000);
            start.elapsed().as_secs_f64() * 1e3
        });
        println!("course of 10,000 legs, {name}: checked in {:.1} ms (at most 50)", median(times.collect()));
    }
}

type Part = (&'static str, fn(&Path));

const PARTS: [Part; 8] = [
    ("files", |folder| file_path(folder, &WORKS, PAIRS)),
    // The first of them alone, which costs least beside what it moves: what a run costs in each second shows there most.
    ("writes", |folder| file_path(folder, &WORKS[..1], PAIRS_ALONE)),
    ("scan", |folder| file_path(folder, &WORKS[2..], PAIRS_ALONE)),
    ("log", failing_log),
    ("simulation", |_| simulation()),
    ("courses", |_| course_checks()),
    ("surface", |_| surface_of_many_zones()),
    ("day", long_run),
];

/// Those that repeat what `files` holds, with more pairs.
const ALONE: [&str; 2] = ["writes", "scan"];

fn main() {
    // `cargo bench` hands over flags of its own.
    let said: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    let is_part = |a: &&String| PARTS.iter().any(|p| p.0 == a.as_str());
    let (parts, folders): (Vec<&String>, Vec<&String>) = said.iter().partition(is_part);
    let folder = folders.first().map_or_else(|| PathBuf::from(env!("CARGO_TARGET_TMPDIR")), PathBuf::from);
    std::thread::sleep(Duration::from_millis(200));
    for (_, part) in PARTS
        .iter()
        .filter(|p| (parts.is_empty() && !ALONE.contains(&p.0)) || parts.iter().any(|a| *a == p.0))
    {
        part(&folder);
    }
}
