//! Runs in processes of their own: watched, left, killed, and gone on with.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod common;

use common::{Bench, LONG_SOAK};
use mile_core::{Bytes, Nanos};
use mile_logbook::Logbook;
use mile_runner::remote::{Backlog, Client, Frame, Hello, LaneBacklog, MOST_WATCHERS, PROTOCOL};
use mile_runner::{Command as Order, Event, EventKind, Message, Status};
use serde_json::Value;
use std::io::{BufRead, BufReader, Write};
use std::os::unix::fs::{DirBuilderExt, PermissionsExt};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::process::Command;
use std::time::Duration;

/// Starts a runner, and gives its socket.
fn detached(bench: &Bench, args: &[&str]) -> PathBuf {
    let before = bench.sockets();
    assert!(bench.ok(&[args, &["--detach"]].concat()).contains("goes on without this terminal"));
    bench.sockets().into_iter().find(|s| !before.contains(s)).unwrap()
}

fn next_sample(client: &Client) -> mile_core::Sample {
    loop {
        if let Frame::Message(_, Message::Sample(sample)) =
            client.frames.recv_timeout(Duration::from_secs(60)).unwrap()
        {
            return sample;
        }
    }
}

fn outcome(client: &Client) -> mile_runner::Outcome {
    loop {
        if let Frame::Message(_, Message::Ended(outcome)) =
            client.frames.recv_timeout(Duration::from_secs(60)).unwrap()
        {
            return *outcome;
        }
    }
}

/// The run of a logbook whose runner was killed. A process that is killed is there for a moment more.
fn stored(bench: &Bench, book: &str) -> mile_logbook::StoredRun {
    for _ in 0..200 {
        let run = Logbook::open(&bench.path(book)).unwrap().run(1).unwrap();
        if run.status == Status::CutShort {
            return run;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    panic!("the run is not cut short");
}

fn kill(pid: u32) {
    assert!(Command::new("kill").args(["-KILL", &pid.to_string()]).status().unwrap().success());
}

#[test]
fn several_watch_one_run_and_all_of_them_see_all_of_it() {
    let bench = Bench::new();
    let socket = detached(&bench, &["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x60"]);
    for (path, mode) in [(socket.clone(), 0o600), (socket.parent().unwrap().to_owned(), 0o700)] {
        assert_eq!(
            std::fs::metadata(&path).unwrap().permissions().mode() & 0o777,
            mode,
            "{}",
            path.display()
        );
    }
    let first = Client::connect(&socket).unwrap();
    next_sample(&first);
    let second = Client::connect(&socket).unwrap();
    assert!(second.backlog.head.is_some() && second.backlog.lanes[0].first == 0);
    let seen = second.backlog.lanes[0].samples.len();
    // The later one goes on exactly where its backlog ends.
    let (end, next) = (second.backlog.lanes[0].samples[seen - 1].end, next_sample(&second));
    assert_eq!(next.start, end);
    // One who sends nothing more listens still.
    let listens = UnixStream::connect(&socket).unwrap();
    listens.shutdown(std::net::Shutdown::Write).unwrap();
    listens.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    let mut lines = BufReader::new(listens).lines();
    assert!(lines.next().unwrap().unwrap().contains("hello"));
    for _ in 0..3 {
        next_sample(&first);
    }
    second.commands.send(Order::Note("fan on".into())).unwrap();
    assert!(lines.any(|line| line.unwrap().contains("fan on")));
    let note = |client: &Client| {
        loop {
            if let Frame::Message(_, Message::Event(e)) =
                client.frames.recv_timeout(Duration::from_secs(60)).unwrap()
                && e.kind == EventKind::Note("fan on".into())
            {
                return;
            }
        }
    };
    note(&first);
    note(&second);
    drop(second);
    next_sample(&first);
    first.commands.send(Order::Stop).unwrap();
    assert_eq!(outcome(&first).status, Status::Stopped);
    assert!(bench.fails(&["attach"]).contains("no run is underway"));
    assert!(bench.sockets().is_empty());
}

/// Bug: whoever had left held a place until the run told something. A simulated run that waits for the operator tells nothing, so that after eight answers
/// or looks from elsewhere nobody could watch, answer or stop it any more: "no run is underway".
#[test]
fn who_has_left_holds_no_place_while_a_run_has_nothing_to_tell() {
    let bench = Bench::new();
    bench.write("c.course", "course \"c\"\nleg a\n ask \"swap it now\"\n");
    let socket = detached(&bench, &["run", "c.course", "--on", "sim:merrow-k2"]);
    let let_in = || {
        (0..600).find_map(|_| {
            Client::connect(&socket).ok().or_else(|| {
                std::thread::sleep(Duration::from_millis(100));
                None
            })
        })
    };
    let asked = |client: &Client| {
        let told = client.backlog.lanes.iter().flat_map(|l| &l.events);
        told.filter(|e| matches!(e.kind, EventKind::Asked(_))).count() == 1
    };
    while !asked(&let_in().unwrap()) {}
    for round in 0..3 * MOST_WATCHERS {
        assert!(asked(&let_in().unwrap_or_else(|| panic!("nobody is let in after {round}"))));
    }
    // Who is there is not put out for it, and one more than are let in is told why.
    let there: Vec<Client> = (0..MOST_WATCHERS).map(|_| let_in().unwrap()).collect();
    assert!(bench.fails(&["attach", "--answer"]).contains("a run is underway that does not answer"));
    drop(there);
    let answered = (0..600).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        bench.run(&["attach", "--answer"]).stdout == b"It goes on.\n"
    });
    assert!(answered);
}

/// A runner that says that it asks the operator, if so, and ends when it has heard one command.
fn hears_one_command(bench: &Bench, asks: bool) -> std::thread::JoinHandle<String> {
    let folder = bench.runtime().join("hollow-mile");
    std::fs::DirBuilder::new().mode(0o700).recursive(true).create(&folder).unwrap();
    let socket = folder.join("runner-1.sock");
    let listener = UnixListener::bind(&socket).unwrap();
    let kind = if asks { EventKind::Asked("swap it".into()) } else { EventKind::Paused };
    let events = [kind, EventKind::Resumed].into_iter().take(if asks { 1 } else { 2 });
    let lane = LaneBacklog {
        events: events.map(|kind| Event { at: Nanos(0), bytes: Bytes(0), kind }).collect(),
        ..LaneBacklog::default()
    };
    let hello = Hello { protocol: PROTOCOL, run: Some(1), ..Hello::default() };
    let backlog = Backlog { lanes: vec![lane], ..Backlog::default() };
    std::thread::spawn(move || {
        let mut heard = String::new();
        // The first who comes only looks which runners there are.
        for stream in listener.incoming().take(2) {
            let mut stream = stream.unwrap();
            for frame in [Frame::Hello(hello.clone()), Frame::Backlog(backlog.clone())] {
                writeln!(stream, "{}", serde_json::to_string(&frame).unwrap()).unwrap();
            }
            heard.clear();
            BufReader::new(&stream).read_line(&mut heard).unwrap();
        }
        std::fs::remove_file(socket).unwrap();
        heard
    })
}

/// Bug: `attach --answer` said "It goes on." and `attach --stop` "The run was stopped." as soon as they had handed over what they had to say, whatever came of it.
#[test]
fn what_became_of_an_answer_or_a_stop_is_said_only_when_the_run_has_told_it() {
    let bench = Bench::new();
    for (option, command, said) in [
        ("--answer", "\"resume\"\n", "the run ended before it said that it goes on"),
        ("--stop", "\"stop\"\n", "the connection to the run ended before it said how the run ended"),
    ] {
        let runner = hears_one_command(&bench, true);
        let out = bench.fails(&["attach", option]);
        assert!(out.contains(said), "{option}: {out}");
        assert_eq!(runner.join().unwrap(), command);
    }
    // Where nothing is asked, nothing is answered.
    let runner = hears_one_command(&bench, false);
    assert!(bench.fails(&["attach", "--answer"]).contains("the run waits for no answer"));
    assert_eq!(runner.join().unwrap(), "");
}

/// Bug: beside a run that lets nobody in, the only one that answered was taken for the only one, and stopped; and the other was "not underway".
#[test]
fn a_run_that_does_not_answer_is_one_of_those_that_are_underway() {
    let bench = Bench::new();
    bench.write("c.course", "course \"c\"\nleg a\n ask \"swap it now\"\n");
    let socket = detached(&bench, &["run", "c.course", "--on", "sim:merrow-k2"]);
    while Client::connect(&socket).unwrap().hello.run != Some(1) {}
    let quiet = UnixListener::bind(bench.runtime().join("hollow-mile/runner-1.sock")).unwrap();
    std::thread::spawn(move || quiet.incoming().for_each(drop));
    assert!(bench.fails(&["attach", "--stop"]).contains("several runs are underway"));
    assert!(bench.fails(&["attach", "2", "--stop"]).contains("run 2 does not answer, or is not underway"));
    assert_eq!(bench.ok(&["attach", "1", "--stop"]), "The run was stopped.\n");
}

#[test]
fn signals_end_a_runner_cleanly() {
    for signal in ["-TERM", "-HUP"] {
        let bench = Bench::new();
        let socket = detached(&bench, &["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x60"]);
        let client = Client::connect(&socket).unwrap();
        next_sample(&client);
        assert!(
            Command::new("kill").args([signal, &client.hello.pid.to_string()]).status().unwrap().success()
        );
        assert_eq!(outcome(&client).status, Status::Stopped, "{signal}");
    }
}

#[test]
fn what_cannot_be_run_is_refused_before_it_is_detached() {
    let bench = Bench::new();
    bench.write("bad.course", "course \"x\"\nleg a\n wrote sequential\n");
    assert!(
        bench
            .fails(&["run", "bad.course", "--on", "sim:merrow-k2", "--detach"])
            .contains("did you mean `write`?")
    );
    assert!(
        bench
            .fails(&["run", LONG_SOAK, "--on", "/no/such/file", "--size", "1GB", "--detach"])
            .contains("does not exist")
    );
    assert!(bench.sockets().is_empty());
}

/// Runs that are killed at random moments: what their watcher had seen is kept, but for the last second.
#[test]
fn a_runner_killed_at_any_of_200_moments_loses_a_second_at_the_most() {
    let memory = std::path::Path::new("/dev/shm");
    let folder = if memory.is_dir() { tempfile::tempdir_in(memory) } else { tempfile::tempdir() };
    let bench = Bench::in_folder(folder.unwrap());
    let mut state = 1_u64;
    let mut random = || {
        // The generator of Lehmer with the multiplier of L'Ecuyer, 1999.
        state = state.wrapping_mul(3_935_559_000_370_003_845).wrapping_add(2_691_343_689_449_507_681);
        (state >> 33) as f64 / (1_u64 << 31) as f64
    };
    let mut worst = 0.0_f64;
    for batch in 0..20 {
        let runs: Vec<(String, Client)> = (0..10)
            .map(|i| {
                let book = format!("{batch}-{i}.logbook");
                let args = ["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x1", "--logbook", &book];
                (book.clone(), Client::connect(&detached(&bench, &args)).unwrap())
            })
            .collect();
        for (book, client) in runs {
            std::thread::sleep(Duration::from_secs_f64(random() * 0.2));
            kill(client.hello.pid);
            let mut seen =
                client.backlog.lanes.first().and_then(|l| l.samples.last()).map_or(Nanos(0), |s| s.end);
            for frame in client.frames.iter() {
                if let Frame::Message(_, Message::Sample(s)) = frame {
                    seen = s.end;
                }
            }
            let run = stored(&bench, &book);
            let kept = run.first().samples.last().map_or(Nanos(0), |s| s.end);
            worst = worst.max(seen.secs() - kept.secs());
        }
    }
    assert!(worst <= 1.0, "{worst} s were lost");
    assert!(worst > 0.0, "the moments were none");
}

/// On real input: a run that is killed in a leg goes on before any hole that it may have left, and ends with the course's bytes
/// and those that it moved again.
#[test]
fn a_run_that_was_killed_goes_on_and_keeps_to_its_budget() {
    let bench = Bench::on_disk();
    bench.write(
        "c.course",
        "course \"c\"\nsample every 50 ms\nleg first\n write sequential, blocks 256 KiB, depth 2, over 0 % to 25 %\nleg slow\n write sequential, blocks 256 KiB, depth 2, rate 16 MB/s, over 25 % to 100 %\nleg check\n verify, blocks 256 KiB, depth 2\n",
    );
    let size = 64 << 20;
    let socket = detached(&bench, &["run", "c.course", "--on", "./scratch.bin", "--size", "64MiB"]);
    let client = Client::connect(&socket).unwrap();
    while next_sample(&client).leg != 1 {}
    for _ in 0..20 {
        next_sample(&client);
    }
    kill(client.hello.pid);
    while client.frames.recv().is_ok() {}
    let before = stored(&bench, "l.logbook");
    let moved: u64 = before.first().samples.iter().map(|s| s.moved().0).sum();
    assert!(moved < size);
    // Another course's file in its place, or none: it does not go on there.
    let out = bench.ok(&["resume", "last", "--format", "json"]);
    let printed: Value = serde_json::from_str(&out).unwrap();
    assert_eq!((&printed["status"], &printed["run"]), (&"done".into(), &1.into()));
    let after = Logbook::open(&bench.path("l.logbook")).unwrap().run(1).unwrap();
    assert_eq!(
        after.first().samples[..before.first().samples.len()],
        before.first().samples[..],
        "what was kept stays"
    );
    let of_leg =
        |leg: u32| after.first().samples.iter().filter(|s| s.leg == leg).map(|s| s.moved().0).sum::<u64>();
    assert_eq!((of_leg(0), of_leg(2)), (size / 4, size));
    // What it had moved in its last seconds is moved again.
    let again = of_leg(1) - size / 4 * 3;
    assert!(again > 0 && again <= moved - size / 4, "{again} of {moved}");
    assert!(after.first().samples.windows(2).all(|p| p[0].end == p[1].start), "time has no hole");
    let went_on = after.first().events.iter().any(|e| matches!(&e.kind, EventKind::WentOn { leg: 1, .. }));
    assert!(
        went_on && after.first().events.iter().all(|e| !matches!(e.kind, EventKind::Wrong(_))),
        "{:?}",
        after.first().events
    );
    assert!(bench.fails(&["resume", "last"]).contains("it is done"));
}

#[test]
fn a_run_does_not_go_on_on_another_drive() {
    let bench = Bench::new();
    let model = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../mile-sim/src/models/merrow-k2.toml"
    ))
    .unwrap();
    bench.write("mine.toml", &model);
    let socket = detached(&bench, &["run", LONG_SOAK, "--on", "sim:mine.toml", "--speed", "x60"]);
    let client = Client::connect(&socket).unwrap();
    next_sample(&client);
    kill(client.hello.pid);
    while client.frames.recv().is_ok() {}
    bench.write("mine.toml", &model.replace("MK2-0417-00312", "MK2-0417-99999"));
    let said = bench.fails(&["resume", "last"]);
    assert!(said.contains("serial number was MK2-0417-00312, now MK2-0417-99999"), "{said}");
    bench.write("mine.toml", &model);
    assert!(bench.ok(&["resume", "last"]).contains("The run is done"));
}
