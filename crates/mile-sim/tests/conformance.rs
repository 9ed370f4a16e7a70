//! What every drive does, real or simulated: the same checks on each.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    clippy::expect_used,
    reason = "a test that cannot go on has failed"
)]

use mile_core::{Access, Bytes, Nanos, Op, RunId, Workload};
use mile_drive::file::{EngineChoice, FileDrive};
use mile_drive::io::pattern;
use mile_drive::{Drive, DriveError, Tally, Transfer};
use mile_sim::SimDrive;
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::PathBuf;

const MIB: u64 = 1 << 20;
const SIZE: u64 = 48 * MIB;

/// A folder on the disk that the build is on; the system's temporary folder may be in memory.
fn folder() -> tempfile::TempDir {
    tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap()
}

fn file(path: PathBuf, choice: EngineChoice) -> FileDrive {
    FileDrive::new(&path, Bytes(SIZE), 7, choice, None).unwrap()
}

fn each(check: impl Fn(&mut dyn Drive, &str)) {
    let folder = folder();
    check(&mut SimDrive::new("sim:merrow-k2", 1).unwrap(), "simulated");
    check(&mut file(folder.path().join("ring.bin"), EngineChoice::Auto), "file, io_uring");
    check(&mut file(folder.path().join("pool.bin"), EngineChoice::Threads), "file, threads");
}

fn writes(random: bool, block: u64, start: u64, length: u64, budget: u64) -> Transfer {
    Transfer {
        load: Workload {
            op: Op::Write,
            access: if random { Access::Random } else { Access::Sequential },
            block: Bytes(block),
            depth: 8,
            ..Workload::default()
        },
        start: Bytes(start),
        length: Bytes(length),
        budget: Bytes(budget),
        ..Transfer::default()
    }
}

fn finish(drive: &mut dyn Drive, tally: &mut Tally) {
    for _ in 0..100_000 {
        let until = drive.now().plus(Nanos(20_000_000));
        if drive.advance(until, tally).unwrap() {
            return;
        }
    }
    panic!("the budget was never used up");
}

#[test]
fn moves_exactly_its_budget_and_stays_in_its_range() {
    each(|drive, name| {
        drive.open().unwrap();
        for (random, block) in [(false, MIB), (true, 4096), (false, 128 << 10)] {
            let mut tally = Tally::default();
            drive.begin(&writes(random, block, 8 * MIB, 16 * MIB, 12 * MIB)).unwrap();
            finish(drive, &mut tally);
            assert_eq!(tally.written, Bytes(12 * MIB), "{name}");
            assert_eq!(tally.ops, 12 * MIB / block, "{name}");
            assert_eq!(tally.latency.len(), tally.ops, "{name}: every operation has a latency");
            assert!(
                tally.first.unwrap() >= Bytes(8 * MIB) && tally.reach.unwrap() <= Bytes(24 * MIB),
                "{name}"
            );
            assert_eq!(tally.errors, 0, "{name}");
        }
        drive.close(false).unwrap();
    });
}

#[test]
fn wraps_within_its_range_when_the_budget_is_larger() {
    each(|drive, name| {
        drive.open().unwrap();
        let mut tally = Tally::default();
        drive.begin(&writes(false, MIB, 4 * MIB, 3 * MIB, 10 * MIB)).unwrap();
        finish(drive, &mut tally);
        assert_eq!((tally.written, tally.reach), (Bytes(10 * MIB), Some(Bytes(7 * MIB))), "{name}");
        drive.close(false).unwrap();
    });
}

#[test]
fn reads_back_what_was_written_and_goes_on_where_it_is_told_to() {
    each(|drive, name| {
        drive.open().unwrap();
        let mut tally = Tally::default();
        drive.begin(&writes(false, MIB, 0, 16 * MIB, 16 * MIB)).unwrap();
        finish(drive, &mut tally);
        for random in [false, true] {
            let mut tally = Tally::default();
            drive
                .begin(&Transfer {
                    load: Workload { op: Op::Read, ..writes(random, 256 << 10, 0, 16 * MIB, 8 * MIB).load },
                    ..writes(random, 256 << 10, 0, 16 * MIB, 8 * MIB)
                })
                .unwrap();
            finish(drive, &mut tally);
            assert_eq!((tally.read, tally.written), (Bytes(8 * MIB), Bytes(0)), "{name}");
        }
        // One at a time: several in flight may come back in any order.
        let mut tally = Tally::default();
        let on = Transfer {
            load: Workload { depth: 1, ..writes(false, MIB, 0, 16 * MIB, 6 * MIB).load },
            skip: Bytes(12 * MIB),
            ..writes(false, MIB, 0, 16 * MIB, 6 * MIB)
        };
        drive.begin(&on).unwrap();
        finish(drive, &mut tally);
        // 12 to 16 MiB, and round again from the front.
        assert_eq!(
            (tally.first, tally.reach, tally.ops),
            (Some(Bytes(12 * MIB)), Some(Bytes(16 * MIB)), 6),
            "{name}"
        );
        drive.close(false).unwrap();
    });
}

#[test]
fn buffers_that_would_not_fit_into_memory_and_blocks_that_do_not_align_are_refused() {
    let folder = folder();
    let mut drive = file(folder.path().join("a.bin"), EngineChoice::Auto);
    assert!(drive.begin(&writes(false, MIB, 0, 8 * MIB, 8 * MIB)).is_err(), "not open yet");
    drive.open().unwrap();
    let huge = Transfer {
        load: Workload { depth: 1024, ..writes(false, 16 * MIB, 0, 32 * MIB, 32 * MIB).load },
        ..writes(false, 16 * MIB, 0, 32 * MIB, 32 * MIB)
    };
    let error = drive.begin(&huge).unwrap_err();
    assert!(
        matches!(error, DriveError::TooMuchMemory { .. }) && error.to_string().contains("smaller depth"),
        "{error}"
    );
    let odd = drive.begin(&writes(false, 512, 0, 8 * MIB, 8 * MIB)).unwrap_err();
    assert!(odd.to_string().contains("multiple of 4 KiB"), "{odd}");
    drive.close(false).unwrap();
}

/// A file that was cut short under the run: the kernel gives no whole block from behind its end.
#[test]
fn an_operation_that_moves_less_than_its_block_is_an_error_with_its_address() {
    for choice in [EngineChoice::Auto, EngineChoice::Threads] {
        let folder = folder();
        let path = folder.path().join("a.bin");
        let mut drive = file(path.clone(), choice);
        drive.open().unwrap();
        std::fs::OpenOptions::new().write(true).open(&path).unwrap().set_len(4 * MIB).unwrap();
        drive
            .begin(&Transfer {
                load: Workload { op: Op::Read, depth: 1, ..writes(false, MIB, 0, 8 * MIB, 8 * MIB).load },
                ..writes(false, MIB, 0, 8 * MIB, 8 * MIB)
            })
            .unwrap();
        let mut tally = Tally::default();
        let failed = (0..10_000)
            .find_map(|_| {
                drive.advance(drive.now().plus(Nanos(20_000_000)), &mut tally).unwrap();
                tally.failures.pop()
            })
            .expect("a read behind the end fails");
        assert_eq!((failed.offset, failed.length, failed.errno), (Bytes(4 * MIB), Bytes(MIB), None));
        assert_eq!((tally.read, tally.errors), (Bytes(4 * MIB), 1));
        drive.close(false).unwrap();
        assert!(!path.exists());
    }
}

#[test]
fn stops_for_a_deadline_and_can_be_ended_early() {
    each(|drive, name| {
        drive.open().unwrap();
        let mut tally = Tally::default();
        drive.begin(&writes(true, 4096, 0, 32 * MIB, 1 << 40)).unwrap();
        let before = drive.now();
        let finished = drive.advance(before.plus(Nanos(50_000_000)), &mut tally).unwrap();
        assert!(!finished, "{name}");
        assert!(drive.now() >= before.plus(Nanos(50_000_000)), "{name}");
        while !drive.drain(drive.now().plus(Nanos(10_000_000)), &mut tally).unwrap() {}
        assert_eq!(tally.ops * 4096, tally.written.0, "{name}");
        let rest = drive.now().plus(Nanos(30_000_000));
        drive.idle(rest);
        assert!(drive.now() >= rest, "{name}");
        drive.close(false).unwrap();
    });
}

#[test]
fn a_missing_reading_is_none_and_never_zero() {
    each(|drive, name| {
        drive.open().unwrap();
        let readings = drive.readings();
        assert_eq!(readings.temp.is_some(), drive.facts().has_temperature, "{name}");
        assert!(readings.temp.is_none_or(|t| t.0 > 0.0), "{name}");
        assert_eq!(drive.truth().is_some(), drive.identity().simulated, "{name}");
        drive.close(false).unwrap();
    });
}

#[test]
fn what_is_written_to_a_file_is_there_and_says_where_it_belongs() {
    for choice in [EngineChoice::Auto, EngineChoice::Threads] {
        let folder = folder();
        let path = folder.path().join("kept.bin");
        let mut drive = file(path.clone(), choice);
        drive.open().unwrap();
        let mut tally = Tally::default();
        drive.begin(&writes(false, MIB, 0, 32 * MIB, 32 * MIB)).unwrap();
        finish(&mut drive, &mut tally);
        drive.close(true).unwrap();
        drop(drive);
        let kept = std::fs::File::open(&path).unwrap();
        assert_eq!(kept.metadata().unwrap().len(), SIZE);
        let mut stretch = vec![0; pattern::STRIDE];
        for at in (0..32 * MIB).step_by(pattern::STRIDE) {
            kept.read_exact_at(&mut stretch, at).unwrap();
            assert!(pattern::is_stamped(&stretch, at), "stretch at {at}");
        }
        // It is no other run's, and its own goes on with it.
        let run = pattern::read_stamp(&stretch).unwrap().run;
        let again = |run| FileDrive::new(&path, Bytes(SIZE), 7, choice, run);
        assert!(again(None).is_err() && again(Some(RunId(run.0 ^ 1))).is_err());
        let mut again = again(Some(run)).unwrap();
        again.open().unwrap();
        assert!(again.holds(Bytes(31 * MIB)).unwrap() && !again.holds(Bytes(33 * MIB)).unwrap());
        again.close(false).unwrap();
        assert!(!path.exists());
    }
}

#[test]
fn the_whole_size_is_reserved_before_anything_is_written() {
    let folder = folder();
    let path = folder.path().join("a.bin");
    let mut drive = file(path.clone(), EngineChoice::Auto);
    drive.open().unwrap();
    assert!(std::fs::metadata(&path).unwrap().blocks() * 512 >= SIZE);
    // Nothing but its mark is in it yet, and a run that was killed here is known by that.
    let head = std::fs::read(&path).unwrap();
    assert!(pattern::is_stamped(&head, 0) && head[4096..].iter().all(|b| *b == 0));
    drop(drive);
    assert!(path.exists(), "what is dropped without a word may go on");
    assert!(mile_drive::file::run_of(&std::fs::File::open(&path).unwrap()).is_some());
}

#[test]
fn what_would_harm_or_not_measure_is_refused_and_left_as_it_is() {
    let folder = folder();
    let refusal =
        |path: PathBuf, size: u64| match FileDrive::new(&path, Bytes(size), 1, EngineChoice::Auto, None) {
            Err(e @ (DriveError::Refused { .. } | DriveError::Io { .. })) => e.to_string(),
            other => panic!("{:?}", other.map(|_| ())),
        };
    let mine = folder.path().join("thesis.txt");
    std::fs::write(&mine, b"do not touch").unwrap();
    assert!(refusal(mine.clone(), SIZE).contains("was not made by Hollow Mile"));
    assert_eq!(std::fs::read(&mine).unwrap(), b"do not touch");
    std::fs::write(&mine, b"").unwrap();
    assert!(refusal(mine, SIZE).contains("was not made by Hollow Mile"), "an empty file is somebody's too");
    assert!(refusal(folder.path().join("no/such/a.bin"), SIZE).contains("does not exist"));
    assert!(refusal(folder.path().to_owned(), SIZE).contains("folder"));
    assert!(refusal(folder.path().join("a.bin"), 1 << 60).contains("stay free in any case"));
    assert!(refusal(folder.path().join("a.bin"), 0).contains("--size"));
    assert!(refusal(PathBuf::from("/dev/null"), SIZE).contains("no regular file"));
    let link = folder.path().join("link.bin");
    std::os::unix::fs::symlink(folder.path().join("elsewhere"), &link).unwrap();
    assert!(refusal(link, SIZE).contains("symbolic link"));
    let memory = PathBuf::from("/dev/shm");
    if memory.is_dir() {
        assert!(refusal(memory.join("a.bin"), SIZE).contains("lives in memory"));
    } else {
        eprintln!("SKIPPED: there is no /dev/shm here to refuse");
    }
}
