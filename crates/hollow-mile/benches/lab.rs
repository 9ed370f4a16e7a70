//! How fast the archive of a lab answers, and what it costs a bench: `cargo bench -p hollow-mile --bench lab`. It needs PostgreSQL, which it starts for itself.
//!
//! `cargo bench -p hollow-mile --bench lab -- fill LOGBOOK` fills a logbook or an archive with the runs that are asked for here, to look at.
#![allow(
    clippy::unwrap_used,
    clippy::print_stdout,
    clippy::panic,
    clippy::disallowed_methods,
    missing_docs,
    reason = "a benchmark that cannot go on has failed"
)]

#[path = "../../mile-logbook/tests/common/cluster.rs"]
#[allow(dead_code, reason = "it uses its part")]
mod cluster;

use cluster::Cluster;
use mile_core::{Bytes, Celsius, Digest, Latency, Nanos, Op, Sample};
use mile_drive::Health;
use mile_logbook::lab::forward::Forwarder;
use mile_logbook::lab::{Lab, setup};
use mile_logbook::{Block, Filter, Logbook};
use mile_runner::{LaneHead, Outcome, RunHead, Status};
use rand_core::{Rng, SeedableRng};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

const DRIVES: usize = 500;
const RUNS: usize = 20_000;
const BENCHES: usize = 100;

/// A normally distributed value.
fn normal(random: &mut impl Rng) -> f64 {
    (0..12).map(|_| random.next_u64() as f64 / u64::MAX as f64).sum::<f64>() - 6.0
}

/// Fills a logbook with runs of drives of three models, of which some stand out.
fn fill(book: &mut Logbook, drives: usize, runs: usize) {
    let mut random = rand_xoshiro::Xoshiro256PlusPlus::seed_from_u64(1);
    let models =
        [("Merrow K2 2TB", 118e9, 1050.0), ("Halyard Q4 4TB", 420e9, 480.0), ("Bittern S1 1TB", 38e9, 410.0)];
    let own: Vec<(f64, f64)> =
        (0..drives).map(|_| (1.0 + 0.02 * normal(&mut random), 1.0 + 0.01 * normal(&mut random))).collect();
    for run in 0..runs {
        let drive = run % drives;
        let (model, cache, settled) = models[drive % 3];
        let (mut of_cache, mut of_rate) = own[drive];
        if drive % 97 == 7 {
            of_rate -= 0.12;
        }
        if drive % 101 == 9 {
            of_cache -= 0.3;
        }
        let firmware = if drive.is_multiple_of(4) { "2.1" } else { "2.0" };
        if firmware == "2.1" {
            of_rate += 0.02;
        }
        let mut lane = LaneHead::named(&["soak"]);
        lane.drive.name = format!("/dev/nvme{drive}n1");
        lane.drive.model = model.into();
        lane.drive.serial = Some(format!("{}{drive:05}", &model[..2].to_uppercase()));
        lane.drive.firmware = Some(firmware.into());
        lane.situation.cooling = Some(if run % 10 == 3 { "finned" } else { "bare" }.into());
        let written = (run / drives + 1) as u64 * 2_000_000_000_000;
        lane.health = Some(Health { written: Some(Bytes(written)), ..Health::default() });
        let head = RunHead {
            started: 1_760_000_000 + (run / drives) as i64 * 86_400 * 3 + drive as i64,
            course: if run.is_multiple_of(7) { "quay fill sweep" } else { "quay soak" }.into(),
            course_text: "course \"quay soak\"\n\nleg soak\n  write sequential, blocks 1 MiB, depth 8\n"
                .into(),
            lanes: vec![lane],
            ..RunHead::default()
        };
        let number = book.begin(&head).unwrap();
        let rate = settled * of_rate * (1.0 + 0.004 * normal(&mut random));
        let digest = Digest {
            seconds: 1800.0,
            bytes: 1_600_000_000_000,
            miniature: (0..48).map(|i| if i < 4 { 2880.0 } else { rate as f32 }).collect(),
            max_c: Some(71.0 + 2.0 * normal(&mut random)),
            cache_bytes: Some((cache * of_cache * (1.0 + 0.003 * normal(&mut random))) as u64),
            breaks: vec!["write cache exhausted".into(), "throttled by heat".into()],
            burst_mb_s: Some(2880.0 + 6.0 * normal(&mut random)),
            settled_mb_s: Some(rate),
            throttles_at_c: Some(77.0 + 0.4 * normal(&mut random)),
            throttles_after_s: Some(960.0 + 30.0 * normal(&mut random)),
            ..Digest::default()
        };
        let outcome = Outcome {
            status: Status::Done,
            at: Nanos::from_secs(1800.0),
            bytes: Bytes(digest.bytes),
            why: None,
            health: Some(Health { written: Some(Bytes(written + digest.bytes)), ..Health::default() }),
            digest: Some(Box::new(digest)),
        };
        book.finish(number, Status::Done, &[Some(outcome)]).unwrap();
        if run.is_multiple_of(50) {
            book.tag(number, "reference").unwrap();
        }
    }
}

fn sample(i: u64, every: Nanos) -> Sample {
    let l = Nanos(7_900_000 + i % 1000);
    Sample {
        start: Nanos(i * every.0),
        end: Nanos((i + 1) * every.0),
        op: Op::Write,
        written: Bytes(if i < 400 { 288_000_000 } else { 105_000_000 } + i % 977),
        ops: 100,
        latency: Some(Latency { p50: l, p99: l, p999: l, max: l }),
        temp: Some(Celsius(37.0 + (i % 400) as f64 / 10.0)),
        ..Sample::default()
    }
}

/// The shortest of some tries, milliseconds.
fn ms<T>(tries: usize, mut work: impl FnMut() -> T) -> f64 {
    let once = |_| {
        let start = Instant::now();
        std::hint::black_box(work());
        start.elapsed().as_secs_f64() * 1e3
    };
    (0..tries).map(once).fold(f64::INFINITY, f64::min)
}

fn started() -> Cluster {
    let cluster =
        Cluster::start().unwrap_or_else(|| panic!("there is no PostgreSQL here (package postgresql)"));
    let lab = Lab::parse(&cluster.address("owner")).unwrap();
    cluster.sql("lab", "CREATE ROLE bench LOGIN");
    lab.carry_out(&setup::statements(&["owner".into(), "bench".into()], &[], &[])).unwrap();
    cluster
}

fn answers() {
    let cluster = started();
    let at = PathBuf::from(cluster.address("owner"));
    let mut book = Logbook::open(&at).unwrap();
    fill(&mut book, DRIVES, RUNS);
    cluster.sql("lab", "VACUUM ANALYZE");
    println!("{RUNS} runs of {DRIVES} drives in an archive:");
    let book = Logbook::read(&at).unwrap();
    for (what, filter) in [
        ("list, the newest 200", Filter { newest: Some(200), ..Filter::default() }),
        (
            "list, by a word (one model), the newest 200",
            Filter { word: Some("halyard".into()), newest: Some(200), ..Filter::default() },
        ),
        ("list, by a tag (400 runs)", Filter { tag: Some("reference".into()), ..Filter::default() }),
        (
            "list, by days (500 runs)",
            Filter {
                since: Some(1_760_000_000 + 86_400 * 60),
                before: Some(1_760_000_000 + 86_400 * 62),
                ..Filter::default()
            },
        ),
        ("list, all", Filter::default()),
    ] {
        let found = book.list_of(&filter).unwrap().len();
        println!("  {what}: {found} runs in {:.0} ms", ms(5, || book.list_of(&filter).unwrap()));
    }
    let fleet = || {
        let models = book.models().unwrap();
        let (seen, worn) = (book.seen_of(&models[0].name).unwrap(), book.worn_of(&models[0].name).unwrap());
        mile_core::fleet::fleet(&models[0].name, &seen, &worn, None).unwrap()
    };
    println!("  fleet of {} drives: {:.0} ms", fleet().drives.len(), ms(5, fleet));
    // A day at 10 samples a second.
    let mut writing = Logbook::open(&at).unwrap();
    let run =
        writing.begin(&RunHead { lanes: vec![LaneHead::named(&["soak"])], ..RunHead::default() }).unwrap();
    let all: Vec<Sample> = (0..864_000).map(|i| sample(i, Nanos(100_000_000))).collect();
    for (i, samples) in all.chunks(30).enumerate() {
        writing.append(run, &[Block { lane: 0, first: (i * 30) as u64, samples, events: &[] }]).unwrap();
    }
    writing.finish(run, Status::Done, &[]).unwrap();
    println!(
        "  a run of a day, 864,000 samples in 28,800 blocks: read in {:.0} ms",
        ms(3, || book.run(run).unwrap())
    );
}

/// Processor time of this process so far.
fn processor() -> Duration {
    let t = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    Duration::new(t.tv_sec as u64, t.tv_nsec as u32)
}

/// Many benches at 10 samples a second, each into a file and from there into one archive.
fn benches(seconds: u64) {
    let folder = tempfile::tempdir().unwrap();
    let cluster = started();
    let address = cluster.address("bench");
    let each = |archive: bool| {
        let spools: Vec<PathBuf> =
            (0..BENCHES).map(|i| folder.path().join(format!("{archive}-{i}.logbook"))).collect();
        let mut books: Vec<(Logbook, i64)> = spools
            .iter()
            .map(|path| {
                let mut book = Logbook::open(path).unwrap();
                let run =
                    book.begin(&RunHead { lanes: vec![LaneHead::named(&["soak"])], ..RunHead::default() });
                (book, run.unwrap())
            })
            .collect();
        let mut forwarders: Vec<Forwarder> = if archive {
            spools.iter().map(|s| Forwarder::new(s, Lab::parse(&address).unwrap()).unwrap()).collect()
        } else {
            Vec::new()
        };
        let (mut most, before, start) = (0, processor(), Instant::now());
        for second in 0..seconds {
            for (book, run) in &mut books {
                // As the recorder does: a block every third of a second.
                for third in 0..3 {
                    let first = second * 10 + [0, 3, 6][third];
                    let samples: Vec<Sample> =
                        (first..first + [3, 3, 4][third]).map(|i| sample(i, Nanos(100_000_000))).collect();
                    book.append(*run, &[Block { lane: 0, first, samples: &samples, events: &[] }]).unwrap();
                }
            }
            for forwarder in &mut forwarders {
                // Five times in four seconds, as a run does.
                for _ in 0..if second.is_multiple_of(4) { 2 } else { 1 } {
                    most = most.max(forwarder.step().unwrap().waiting);
                }
            }
        }
        let samples = (BENCHES as u64 * seconds * 10) as f64;
        (processor() - before, start.elapsed(), most, samples)
    };
    let (alone, ..) = each(false);
    let (both, took, most, samples) = each(true);
    let us = |d: Duration| d.as_secs_f64() * 1e6 / samples;
    println!("{BENCHES} benches, 10 samples a second for {seconds} s, {samples} samples:");
    println!(
        "  processor time a sample: {:.1} µs for the file alone, {:.1} µs with the archive, ratio {:.2}",
        us(alone),
        us(both),
        us(both) / us(alone)
    );
    println!("  all of it took {:.0} s; the backlog was at most {most} samples", took.as_secs_f64());
    let counted = cluster
        .sql("lab", "SELECT sum(count), count(DISTINCT (run, first)), count(*) FROM hollow_mile.samples");
    println!("  in the archive (samples, blocks that differ, blocks): {counted}");
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).filter(|a| a != "--bench").collect();
    match args.as_slice() {
        [word, path] if word == "fill" => fill(&mut Logbook::open(Path::new(path)).unwrap(), 60, 600),
        [word, seconds] if word == "benches" => benches(seconds.parse().unwrap()),
        _ => {
            answers();
            benches(60);
        }
    }
}
