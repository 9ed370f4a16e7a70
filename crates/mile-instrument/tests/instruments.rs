//! Instruments over loopback, files and FIFOs: readings arrive with the time at which they were taken, and each fault has a defined end.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use mile_core::Nanos;
use mile_drive::clock::Monotonic;
use mile_instrument::poll::{Polling, open};
use mile_instrument::simulate::{Fault, StandIn};
use mile_instrument::{Config, InstrumentError};
use mile_runner::EventKind;
use mile_runner::board::{Board, Told};
use std::io::Write;
use std::sync::Arc;
use std::time::Duration;

fn scpi(port: u16, interval: &str) -> Config {
    let channel = |name: &str, unit: &str, query: &str| {
        format!("[[instrument.channel]]\nname = \"{name}\"\nunit = \"{unit}\"\nquery = \"{query}\"\n")
    };
    Config::of(&format!(
        "[[instrument]]\nname = \"logger\"\nkind = \"scpi\"\nhost = \"127.0.0.1\"\nport = {port}\ninterval = \"{interval}\"\ntimeout = \"500 ms\"\n{}{}{}{}",
        channel("probe", "°C", "MEAS:TEMP? (@101)"),
        channel("ambient", "°C", "MEAS:TEMP? (@102)"),
        channel("supply", "W", "MEAS:POW?"),
        channel("clock", "s", "DIAG:CLOC?"),
    ))
    .unwrap()
}

/// What was told, each with the moment on the clock `from` at which it was taken.
fn told(board: &Board, from: &Monotonic) -> Vec<(f64, Told)> {
    let now = from.now().secs();
    board.take(|_| true).into_iter().map(|(age, told)| (now - age.secs(), told)).collect()
}

/// Waits until something is told that fits, at most half a minute.
fn wait_for(board: &Board, what: &str, fits: impl Fn(&Told) -> bool) {
    let clock = Monotonic::start();
    while clock.now() < Nanos(30_000_000_000) {
        if board.take(|_| true).iter().any(|(_, t)| fits(t)) {
            return;
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    panic!("{what} was not told");
}

#[test]
fn each_reading_is_stamped_when_it_was_taken_by_the_clock_of_the_instrument() {
    let stand_in = StandIn::start(0, "sim:merrow-k2").unwrap();
    let (own, before) = (Monotonic::start(), stand_in.clock());
    let board = Arc::new(Board::default());
    let polling = Polling::start(&scpi(stand_in.address().port(), "50 ms"), 3, &board).unwrap();
    let mut all = Vec::new();
    while all.iter().filter(|(_, t)| matches!(t, Told::Reading(6, _))).count() < 60 {
        std::thread::sleep(Duration::from_millis(100));
        all.extend(told(&board, &own));
        assert!(own.now() < Nanos(60_000_000_000), "{all:?}");
    }
    drop(polling);
    let mut errors: Vec<f64> = all
        .iter()
        .filter_map(|(at, t)| match t {
            Told::Reading(6, clock) => Some(((clock - before) - at).abs()),
            _ => None,
        })
        .collect();
    errors.sort_by(f64::total_cmp);
    // A machine that is busy may hold up single answers, and what was taken then is known no better than that.
    assert!(errors[errors.len() / 2] < 0.05, "{errors:?}");
    let of = |channel: u32| -> Vec<f64> {
        let value = |(_, t): &(f64, Told)| match t {
            Told::Reading(c, v) if *c == channel => Some(*v),
            _ => None,
        };
        all.iter().filter_map(value).collect()
    };
    assert!(of(3).iter().all(|t| (24.0..90.0).contains(t)) && of(4).iter().all(|t| *t == 24.0), "{all:?}");
    assert!(of(5).iter().all(|w| (1.0..12.0).contains(w)));
    // None is told twice, and none is missing between two.
    let clocks = of(6);
    assert!(clocks.windows(2).all(|w| w[1] > w[0]));
    assert!(all.iter().all(|(_, t)| matches!(t, Told::Reading(3..=6, _))));
}

/// A power meter that was asked before its first step said 0 W.
#[test]
fn the_power_meter_of_the_stand_in_measures_before_it_is_asked() {
    use std::io::{BufRead, BufReader, Write};
    let stand_in = StandIn::start(0, "sim:merrow-k2").unwrap();
    let mut stream = std::net::TcpStream::connect(stand_in.address()).unwrap();
    stream.write_all(b"MEAS:POW?\n").unwrap();
    let mut answer = String::new();
    BufReader::new(stream).read_line(&mut answer).unwrap();
    let power: f64 = answer.trim().parse().unwrap();
    assert!((1.0..12.0).contains(&power), "{power} W");
}

#[test]
fn each_fault_of_an_instrument_is_told_once_and_it_comes_back() {
    let stand_in = StandIn::start(0, "sim:merrow-k2").unwrap();
    let board = Arc::new(Board::default());
    let _polling = Polling::start(&scpi(stand_in.address().port(), "20 ms"), 0, &board).unwrap();
    let lost = |words: &'static str| move |t: &Told| matches!(t, Told::Event(EventKind::InstrumentLost { name, why }) if name == "logger" && why.contains(words));
    let back = |t: &Told| matches!(t, Told::Event(EventKind::InstrumentBack { .. }));
    wait_for(&board, "a reading", |t| matches!(t, Told::Reading(..)));
    for (fault, words) in [
        (Fault::Silent, "no answer"),
        (Fault::Garbage, "is no number"),
        (Fault::Close, "closed the connection"),
    ] {
        stand_in.set_fault(fault);
        wait_for(&board, words, lost(words));
        std::thread::sleep(Duration::from_millis(300));
        let more = board.take(|_| true);
        assert!(
            !more
                .iter()
                .any(|(_, t)| matches!(t, Told::Reading(..) | Told::Event(EventKind::InstrumentLost { .. }))),
            "{more:?}"
        );
        stand_in.set_fault(Fault::None);
        wait_for(&board, "its return", back);
        wait_for(&board, "a reading", |t| matches!(t, Told::Reading(..)));
    }
    // Nobody listens at all any more.
    drop(stand_in);
    wait_for(&board, "that it is gone", |t| matches!(t, Told::Event(EventKind::InstrumentLost { .. })));
}

fn text(path: &std::path::Path) -> Config {
    Config::of(&format!(
        "[[instrument]]\nname = \"room\"\nkind = \"text\"\npath = \"{}\"\ninterval = \"10 ms\"\n[[instrument.channel]]\nname = \"ambient\"\nunit = \"°C\"\n",
        path.display()
    ))
    .unwrap()
}

#[test]
fn lines_of_a_file_that_grows_are_readings_and_what_was_in_it_is_not() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("room.txt");
    std::fs::write(&path, "99\n").unwrap();
    let config = text(&path);
    let (mut source, _) = open(&config.instruments[0]).unwrap();
    let mut read =
        || source.read(&config.instruments[0]).map(|all| all.into_iter().map(|r| r.2).collect::<Vec<_>>());
    assert_eq!(read().unwrap(), Vec::<f64>::new());
    let mut file = std::fs::File::options().append(true).open(&path).unwrap();
    file.write_all(b"21.5\n22.0 C\n2").unwrap();
    assert_eq!(read().unwrap(), [21.5, 22.0]);
    file.write_all(b"3.5\n\n").unwrap();
    assert_eq!(read().unwrap(), [23.5], "a line that was not whole waits for its rest");
    // It begins anew.
    std::fs::write(&path, "7\n").unwrap();
    assert_eq!(read().unwrap(), [7.0]);
    file.write_all(b"warm\n").unwrap();
    assert!(matches!(read(), Err(InstrumentError::NoNumber { .. })));
    file.write_all(&[b'1'; 10_000]).unwrap();
    assert!(read().unwrap_err().to_string().contains("no end"));
}

#[test]
fn lines_with_a_time_keep_the_distances_of_the_source_and_a_fifo_without_a_writer_waits_for_nobody() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("fifo");
    assert!(std::process::Command::new("mkfifo").arg(&path).status().unwrap().success());
    let config = text(&path);
    let (mut source, _) = open(&config.instruments[0]).unwrap();
    assert!(source.read(&config.instruments[0]).unwrap().is_empty());
    let mut writer = std::fs::File::options().write(true).open(&path).unwrap();
    let own = Monotonic::start();
    writer.write_all(b"100.0,1\n").unwrap();
    let first = source.read(&config.instruments[0]).unwrap();
    std::thread::sleep(Duration::from_millis(400));
    // Told late, and together: what was taken 0.1 s and 0.3 s after the first.
    writer.write_all(b"100.1,2\n100.3,3\n").unwrap();
    let rest = source.read(&config.instruments[0]).unwrap();
    let at = |taken: &Monotonic| own.now().secs() - taken.now().secs();
    let (a, b, c) = (at(&first[0].1), at(&rest[0].1), at(&rest[1].1));
    assert!((b - a - 0.1).abs() < 0.03 && (c - a - 0.3).abs() < 0.03, "{a} {b} {c}");
    assert!(
        open(&text(std::path::Path::new("/dev/null")).instruments[0]).is_err(),
        "neither a file nor a FIFO"
    );
}

#[test]
fn a_file_with_a_number_is_read_at_its_interval_and_a_counter_gives_its_rise() {
    let folder = tempfile::tempdir().unwrap();
    let (temp, count) = (folder.path().join("temp"), folder.path().join("count"));
    std::fs::write(&temp, "30500\n").unwrap();
    std::fs::write(&count, "1000000\n").unwrap();
    let channel = |name: &str, unit: &str, file: &std::path::Path, rest: &str| {
        format!(
            "[[instrument.channel]]\nname = \"{name}\"\nunit = \"{unit}\"\nfile = \"{}\"\n{rest}",
            file.display()
        )
    };
    let config = Config::of(&format!(
        "[[instrument]]\nname = \"kernel\"\nkind = \"value\"\ninterval = \"20 ms\"\n{}{}",
        channel("board", "°C", &temp, "times = 0.001\n"),
        channel("power", "W", &count, "times = 1e-6\nper_second = true\n"),
    ))
    .unwrap();
    // By itself: a counter that stands rises by nothing, and has no reading before that.
    let (mut opened, _) = open(&config.instruments[0]).unwrap();
    let read = |opened: &mut mile_instrument::poll::Open| -> Vec<(usize, f64)> {
        opened.read(&config.instruments[0]).unwrap().into_iter().map(|(i, _, value)| (i, value)).collect()
    };
    assert_eq!(read(&mut opened), [(0, 30.5)]);
    assert_eq!(read(&mut opened), [(0, 30.5), (1, 0.0)]);
    // 5 J in a time that the clock says: the mean power is known.
    let clock = Monotonic::start();
    std::thread::sleep(Duration::from_millis(50));
    std::fs::write(&count, "6000000\n").unwrap();
    let longest = clock.now();
    let [(0, _), (1, watts)] = read(&mut opened)[..] else { panic!("two channels give a reading each") };
    assert!(watts > 0.0 && watts <= 5.0 / 0.05, "{watts} W in at least 50 ms");
    assert!(watts >= 5.0 / (longest.secs() + 30.0), "{watts} W");
    // In a run, as all instruments: a file that goes is told, and one that comes back too.
    let board = Arc::new(Board::default());
    let polling = Polling::start(&config, 0, &board).unwrap();
    wait_for(&board, "a reading of the board", |t| matches!(t, Told::Reading(0, 30.5)));
    std::fs::remove_file(&temp).unwrap();
    wait_for(
        &board,
        "the loss",
        |t| matches!(t, Told::Event(EventKind::InstrumentLost { name, .. }) if name == "kernel"),
    );
    std::fs::write(&temp, "31000\n").unwrap();
    wait_for(&board, "its return", |t| matches!(t, Told::Event(EventKind::InstrumentBack { .. })));
    wait_for(&board, "a reading behind it", |t| matches!(t, Told::Reading(0, 31.0)));
    drop(polling);
}
