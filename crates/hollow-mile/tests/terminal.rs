//! The real program in a real terminal: tmux, keys, and what the screen says.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

#[path = "../../mile-logbook/tests/common/cluster.rs"]
#[allow(dead_code, reason = "each test file uses its part")]
mod cluster;
mod common;

use common::{Bench, LONG_SOAK};
use std::process::{Command, Stdio};
use std::time::Duration;

/// A terminal with a shell in it.
struct Terminal {
    bench: Bench,
}

impl Terminal {
    /// Starts the program in a terminal of `columns` by `rows`, in an empty folder, with a home of its own.
    fn start(columns: u16, rows: u16, environment: &str, args: &str) -> Self {
        let terminal = Self { bench: Bench::new() };
        let size = [columns.to_string(), rows.to_string()];
        terminal.tmux(&[
            "-f",
            "/dev/null",
            "new-session",
            "-d",
            "-s",
            "t",
            "-x",
            &size[0],
            "-y",
            &size[1],
            "sh",
        ]);
        let home = terminal.bench.path(".").display().to_string();
        let runtime = terminal.bench.runtime().display().to_string();
        let line = format!(
            "cd {home} && export HOLLOW_MILE_ROOT=/nonexistent XDG_RUNTIME_DIR={runtime} HOME={home} XDG_DATA_HOME={home} XDG_STATE_HOME={home} TZ=UTC LANG=C.UTF-8 PS1='prompt> ' {environment} && clear && {} {args}",
            env!("CARGO_BIN_EXE_hollow-mile")
        );
        terminal.keys(&["-l", &line]);
        terminal.keys(&["Enter"]);
        terminal
    }

    fn tmux(&self, args: &[&str]) -> String {
        let socket = self.bench.path("tmux.sock");
        let out = Command::new("tmux")
            .arg("-S")
            .arg(socket)
            .args(args)
            .stdin(Stdio::null())
            .output()
            .unwrap_or_else(|e| panic!("tmux cannot be run ({e}): scripts/test installs it"));
        String::from_utf8_lossy(&out.stdout).into_owned()
    }

    fn keys(&self, keys: &[&str]) {
        self.tmux(&[&["send-keys", "-t", "t"], keys].concat());
    }

    fn type_text(&self, text: &str) {
        self.keys(&["-l", text]);
    }

    fn screen(&self) -> String {
        self.tmux(&["capture-pane", "-p", "-t", "t"])
    }

    /// Waits until the screen shows `text`, for a minute at the most: how fast it comes is not tested.
    #[track_caller]
    fn until(&self, text: &str) -> String {
        self.until_all(&[text])
    }

    #[track_caller]
    fn until_all(&self, texts: &[&str]) -> String {
        self.until_that(&format!("{texts:?}"), |screen| texts.iter().all(|t| screen.contains(t)))
    }

    #[track_caller]
    fn until_that(&self, what: &str, is: impl Fn(&str) -> bool) -> String {
        for _ in 0..600 {
            let screen = self.screen();
            if is(&screen) {
                return screen;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("the screen never showed {what}:\n{}", self.screen());
    }

    /// The screen once it does not change any more.
    #[track_caller]
    fn settled(&self) -> String {
        let mut before = self.screen();
        for _ in 0..100 {
            std::thread::sleep(Duration::from_millis(300));
            let now = self.screen();
            if now == before {
                return now;
            }
            before = now;
        }
        panic!("the screen never came to rest:\n{before}");
    }

    /// Keys until the screen shows a text: a key that comes while a frame is due is not lost, but may come early.
    #[track_caller]
    fn press(&self, keys: &[&str], text: &str) -> String {
        self.keys(keys);
        self.until(text)
    }

    fn resize(&self, columns: u16, rows: u16) {
        self.tmux(&["resize-window", "-t", "t", "-x", &columns.to_string(), "-y", &rows.to_string()]);
    }

    /// The program has ended, and the shell works as before: what is typed is seen.
    #[track_caller]
    fn shell_is_back(&self) {
        self.until("prompt>");
        self.type_text("echo back-$((40 + 2))");
        self.keys(&["Enter"]);
        let screen = self.until("back-42");
        assert!(screen.contains("echo back-$"), "what is typed is echoed:\n{screen}");
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.tmux(&["kill-server"]);
    }
}

/// Start from the bench, watch, note, pause, stop; findings, logbook, export, quit.
fn whole_way(columns: u16, rows: u16) {
    let t = Terminal::start(columns, rows, "", "demo");
    t.until_all(&["bench", "sim:merrow-k2", "warns from 77 °C", "last run"]);
    t.press(&["Enter"], "Writes at most 1,600 GB, 0.133 % of the rated endurance");
    t.press(&["Left"], "Writes at most 600.0 GB");
    t.press(&["Right"], "Writes at most 1,600 GB");
    t.press(&["Enter"], "Leg 2 of 3, soak: writing 1 MiB blocks, 16 deep.");
    let screen = t.until_all(&["write cache exhausted, 9", "→", "118.0 GB"]);
    assert!(screen.contains("\n  1  ") && screen.contains("▤"), "{screen}");
    t.press(&["n"], "A note for the log");
    t.type_text("fan on");
    t.press(&["Enter"], "Note: fan on");
    // What is found so far, while the run goes on.
    t.press(&["Enter"], "Run 8, long soak on Merrow K2 2TB: underway");
    t.until_all(&["write cache exhausted, ", "first fall of this leg"]);
    t.press(&["3"], "Leg 2 of 3, soak");
    t.press(&["Space"], "Paused.");
    t.press(&["x"], "min");
    t.press(&["x"], "GB");
    t.press(&["Space"], "left; the run ends in about");
    t.press(&["X"], "Stop the run?");
    t.press(&["y"], "The run is stopped");
    t.press(&["4"], "Run 8, long soak on Merrow K2 2TB: stopped");
    // Evidence under the selected break.
    t.until_all(&["write cache exhausted, ", "first fall of this leg"]);
    t.press(&["7"], "8 runs, the newest first.");
    t.press(&["/"], "/ ▏");
    t.type_text("carrier");
    t.until("2 of 8 runs match.");
    t.press(&["Enter", "Down", "Enter"], "Run 4, quay soak on Merrow K2 2TB: done");
    t.press(&["e"], "Written: run-4-quay-soak.svg, run-4-quay-soak.pdf");
    assert!(t.bench.read("run-4-quay-soak.svg").contains("write cache exhausted"));
    assert!(std::fs::read(t.bench.path("run-4-quay-soak.pdf")).unwrap().starts_with(b"%PDF"));
    t.press(&["Escape"], "runs match");
    t.keys(&["q"]);
    t.shell_is_back();
}

#[test]
fn the_whole_way_at_159_by_46() {
    whole_way(159, 46);
}

#[test]
fn the_whole_way_at_80_by_24() {
    whole_way(80, 24);
}

#[test]
fn a_run_that_ends_is_announced_kept_and_shown() {
    let t = Terminal::start(159, 46, "", "demo --speed max");
    t.until("sim:merrow-k2-finned");
    t.press(&["Down", "Enter"], "A run on sim:merrow-k2-finned");
    t.press(&["Enter"], "The run is done; it is run 8 of the logbook");
    t.press(&["Enter"], "Run 8, long soak on Merrow K2 2TB: done, 1,600 GB moved");
    t.until_all(&["write cache exhausted", "finned carrier"]);
    assert!(
        !t.screen().contains('≋') && !t.screen().contains("\n  2  "),
        "the finned carrier does not throttle"
    );
}

#[test]
fn a_place_where_no_run_is_open_opens_the_newest_that_it_can_show() {
    let start = || {
        let t = Terminal::start(159, 46, "", "demo");
        t.until("sim:merrow-k2-finned");
        t
    };
    // Of the seven runs, the fifth is the only one over fill levels, and the last one the only one that scans.
    let t = start();
    t.press(&["5"], "Run 5: 4 levels.");
    // It stays open.
    t.press(&["4"], "Run 5, quay fill sweep on Halyard Q4 4TB: done");
    // Its events are a key away, and lead back to the terrain.
    t.press(&["E"], "Run 5: ");
    t.press(&["f"], "legs only");
    t.press(&["Down", "Enter"], "at the cursor");
    // Where a run is shown, its report is a key away, whatever is marked for a comparison.
    t.press(&["r"], "Written: report-5.pdf");
    t.press(&["5", "r"], "Written: report-5-2.pdf");
    t.press(&["e"], "Written: run-5-quay-fill-sweep.svg");
    let t = start();
    let map = t.press(&["8"], "Run 7");
    assert!(map.contains("hollow"), "{map}");
    let t = start();
    t.press(&["4"], "Run 7, quay surface check on Keelson 8 TB");
}

#[test]
fn the_cursor_reads_all_strips_and_the_breaks_bring_it_along() {
    let t = Terminal::start(159, 46, "", "demo");
    t.press(&["7"], "7 runs");
    t.press(&["Down", "Down", "Down", "Down", "Down", "Enter"], "Run 2, quay soak");
    let screen = t.press(&["j"], "at the cursor");
    assert!(screen.contains("throttled by heat") && screen.contains("77 °C"), "{screen}");
    t.press(&["x"], "min");
    t.press(&["+", "+", "+"], "at the cursor");
    t.press(&["a"], "at the end");
}

#[test]
fn the_story_of_a_drive_is_written_as_a_figure_from_its_place() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("sim:merrow-k2");
    t.press(&["6"], "When limits are reached");
    t.press(&["e"], "Written: health-MK2-0417-00312.svg, health-MK2-0417-00312.pdf");
    let svg = t.bench.read("health-MK2-0417-00312.svg");
    assert!(svg.contains("Merrow K2 2TB") && svg.contains("life used"), "{svg}");
}

#[test]
fn a_fleet_is_shown_with_its_models_and_the_last_run_of_a_drive_is_opened() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("sim:merrow-k2");
    t.press(&["0"], "drives in");
    let screen = t.until("model 1 of 3");
    assert!(screen.contains("Too few to say which stands out."), "{screen}");
    t.press(&["m"], "model 2 of 3");
    t.press(&["m"], "model 3 of 3");
    t.press(&["m"], "model 1 of 3");
    t.until("MK2-0417-00312");
    t.press(&["Enter"], "quay soak on Merrow K2 2TB");
}

/// A process that goes with its test, however that ends.
struct Goes(std::process::Child);

impl Drop for Goes {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// A run of another bench stands at the top of the logbook of a lab, is followed as it goes on, and is asked to pause and to stop.
#[test]
fn a_run_of_another_bench_is_followed_and_stopped_from_the_terminal() {
    let Some(cluster) = cluster::Cluster::start() else {
        return common::skipped("there is no PostgreSQL here (package postgresql)");
    };
    cluster.sql("lab", "CREATE ROLE bench LOGIN; CREATE ROLE anna LOGIN");
    let bench = Bench::new();
    bench.write(
        "long.course",
        "course \"quay soak\"\nsample every 50 ms\nleg soak\n  write sequential, blocks 1 MiB, depth 8\n  for 30 min\n",
    );
    let roles = ["--bench", "bench", "--operator", "anna"];
    bench.ok(&[&["lab", "init", "--run", "--lab", &cluster.address("owner")][..], &roles].concat());
    let own = cluster.address("bench");
    let mut run =
        bench.command(&["run", "long.course", "--on", "sim:merrow-k2", "--speed", "x1", "--logbook", &own]);
    let mut run = Goes(run.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
    let t = Terminal::start(159, 46, "", &format!("--logbook '{}'", cluster.address("anna")));
    t.press(&["7"], "run 1 of bench: underway");
    t.press(&["Enter"], "Leg 1 of 1, soak: writing 1 MiB blocks");
    t.press(&["Space"], "anna through the lab: asked to pause");
    t.until("Paused");
    t.press(&["Space"], "anna through the lab: asked to go on");
    t.press(&["X"], "Stop the run?");
    t.press(&["y"], "The run is stopped; it is run 1 of the logbook");
    assert!(run.0.wait().unwrap().code().is_some());
    t.press(&["7"], "run 1 of bench: stopped");
}

#[test]
fn help_and_commands_list_what_there_is_and_do_it() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("sim:merrow-k2");
    t.press(&["?"], "The place bench, and its keys");
    t.press(&["Escape"], "last run");
    t.press(&[":"], "Commands");
    t.type_text("logb");
    t.until("go to the logbook");
    t.press(&["Enter"], "7 runs, the newest first.");
    t.press(&[":"], "Commands");
    t.type_text("zzzz");
    t.until("nothing here is called that");
    t.press(&["Escape"], "quay soak");
}

#[test]
fn a_run_is_taken_off_the_list_and_brought_back() {
    let t = Terminal::start(159, 46, "", "demo");
    let screen = t.press(&["7"], "7 runs");
    // How each was set up, and all that is known of the selected one.
    assert!(screen.contains("slot 3, plate"), "{screen}");
    t.press(&["Down", "Down"], "quay fill sweep on Halyard Q4 4TB (sim:halyard-q4), run 5: done");
    t.press(&["D"], "Run 5 is off the list; u brings it back.");
    t.until_all(&["6 runs, the newest first.", "run 4: done"]);
    t.press(&["u"], "Run 5 is on the list again.");
    t.until_all(&["7 runs", "run 5: done"]);
    t.press(&["u"], "No run was taken off the list.");
}

#[test]
fn what_is_selected_is_copied_to_the_clipboard_of_the_terminal() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("last run");
    t.tmux(&["set", "-s", "set-clipboard", "on"]);
    t.press(&["7"], "7 runs");
    t.press(&["Down", "Down", "Down", "y"], "Copied to the clipboard of the terminal");
    let wait_for = |words: &[&str]| {
        for _ in 0..600 {
            let copied = t.tmux(&["show-buffer"]);
            if words.iter().all(|w| copied.contains(w)) {
                return;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        panic!("{words:?} {}", t.tmux(&["show-buffer"]));
    };
    wait_for(&[
        "quay soak on Merrow K2 2TB (sim:merrow-k2-finned), run 4: done",
        "finned carrier, 24 °C ambient, rested overnight",
    ]);
    t.press(&["Enter"], "Run 4, quay soak");
    t.press(&["y"], "Copied to the clipboard");
    wait_for(&[
        "Run 4, quay soak on Merrow K2 2TB: done",
        "▤ write cache exhausted",
        "first fall of this leg",
        "1st tenth",
    ]);
}

#[test]
fn the_screen_comes_back_as_it_was_left() {
    let first = Terminal::start(159, 46, "", "");
    first.press(&["1"], "bench");
    let bench = first.bench.path("book.logbook");
    first.bench.ok(&[
        "run",
        &common::course("first-look"),
        "--on",
        "sim:merrow-k2",
        "--logbook",
        bench.to_str().unwrap(),
    ]);
    first.keys(&["q"]);
    first.shell_is_back();
    let open = |t: &Terminal| {
        t.type_text(&format!("{} --logbook {}", env!("CARGO_BIN_EXE_hollow-mile"), bench.display()));
        t.keys(&["Enter"]);
    };
    open(&first);
    first.press(&["7"], "One run.");
    first.press(&["Enter"], "Run 1, first look on Merrow K2 2TB: done");
    first.press(&["x"], "min");
    first.press(&["T", "T"], "min");
    // Zoomed in twice, the ruler counts seconds; a picture that is being drawn is not looked at.
    first.press(&["+", "+"], "╵220");
    let left = first.settled();
    first.keys(&["q"]);
    first.shell_is_back();
    open(&first);
    first.until_all(&["Run 1, first look on Merrow K2 2TB: done", "1st tenth"]);
    assert_eq!(first.settled(), left);
}

#[test]
fn a_resize_is_followed_and_a_window_too_small_is_said() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("last run");
    t.resize(50, 12);
    t.until("Hollow Mile needs 60 × 16 at least.");
    t.resize(80, 24);
    t.until_all(&["1bench", "7logbook", "8surface", "A file"]);
    t.resize(30, 3);
    t.until("This window is 30 × 3.");
    t.keys(&["q"]);
    t.resize(80, 24);
    t.shell_is_back();
}

#[test]
fn a_run_goes_on_when_its_terminal_is_left_and_is_seen_again() {
    let t = Terminal::start(100, 30, "", "--logbook mine.logbook");
    t.until("none in this logbook");
    t.press(&["s"], "A run on sim:merrow-k2");
    t.press(&["Right"], "Writes at most 1,600 GB");
    t.press(&["Enter"], "Leg 2 of 3, soak");
    t.until("MB/s");
    t.press(&["q"], "l leaves it running");
    t.press(&["Escape"], "Leg 2 of 3, soak");
    t.press(&["q"], "l leaves it running");
    t.press(&["l"], "Run 1 goes on without the terminal.");
    t.shell_is_back();
    assert!(t.bench.ok(&["logbook", "list", "--logbook", "mine.logbook"]).contains("underway"));
    assert!(t.bench.ok(&["attach", "1", "--stop"]).contains("stopped"));
    // A run that was started elsewhere: the terminal finds it by its logbook, or is told its number.
    let started =
        ["run", LONG_SOAK, "--on", "sim:merrow-k2", "--speed", "x1", "--detach", "--logbook", "mine.logbook"];
    assert!(t.bench.ok(&started).contains("Run 2 goes on"));
    t.type_text(&format!("clear; {} --logbook mine.logbook", env!("CARGO_BIN_EXE_hollow-mile")));
    t.press(&["Enter"], "Leg 2 of 3, soak");
    t.press(&["q"], "l leaves it running");
    t.press(&["l"], "Run 2 goes on without the terminal");
    t.shell_is_back();
    t.type_text(&format!("clear; {} attach 2", env!("CARGO_BIN_EXE_hollow-mile")));
    t.press(&["Enter"], "Leg 2 of 3, soak");
    t.press(&["q"], "s stops it and leaves");
    t.press(&["s"], "Run 2 is stopped.");
    t.shell_is_back();
    assert!(!t.bench.ok(&["logbook", "list", "--logbook", "mine.logbook"]).contains("underway"));
    assert!(t.bench.sockets().is_empty());
}

#[test]
fn a_runner_that_is_killed_is_seen_at_once_and_a_terminal_that_is_killed_is_nothing_to_it() {
    let t = Terminal::start(100, 30, "", "--logbook mine.logbook");
    t.until("none in this logbook");
    t.press(&["s"], "A run on sim:merrow-k2");
    t.press(&["Right"], "Writes at most 1,600 GB");
    t.press(&["Enter"], "Leg 2 of 3, soak");
    t.until("MB/s");
    t.tmux(&["kill-session", "-t", "t"]);
    let socket = &t.bench.sockets()[0];
    let client = mile_runner::remote::Client::connect(socket).unwrap();
    assert!(client.frames.recv().is_ok(), "it goes on");
    assert!(Command::new("kill").args(["-KILL", &client.hello.pid.to_string()]).status().unwrap().success());
    while client.frames.recv().is_ok() {}
    let list = || t.bench.ok(&["logbook", "list", "--logbook", "mine.logbook"]);
    let marked = |_| {
        std::thread::sleep(Duration::from_millis(20));
        list().contains("cut short")
    };
    assert!((0..100).any(marked));
    // Another terminal goes on with it.
    let again =
        Terminal::start(100, 30, "", &format!("--logbook {}", t.bench.path("mine.logbook").display()));
    again.until("sim:merrow-k2");
    again.press(&["7"], "cut short");
    again.press(&["g"], "Leg 2 of 3, soak");
    again.until("The run was interrupted here, and goes on");
    again.press(&["X"], "Stop the run?");
    again.press(&["y"], "The run is stopped");
}

#[test]
fn a_file_is_measured_from_the_bench_and_what_cannot_be_is_said() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("sim:merrow-k2");
    t.press(&["End", "Enter"], "A run on a file that is made for it");
    t.keys(&["C-u"]);
    t.type_text("/no/such/folder/a.bin");
    t.until("the folder /no/such/folder does not exist");
    t.press(&["Enter"], "does not exist");
    t.keys(&["C-u"]);
    let target = format!("{}/terminal-{}.bin", env!("CARGO_TARGET_TMPDIR"), std::process::id());
    t.type_text(&target);
    t.keys(&["Tab", "C-u"]);
    t.type_text("64MB");
    t.until("it ends after one pass");
    t.keys(&["BTab", "BTab"]);
    t.press(&["Left"], "← first look →");
    t.press(&["Enter"], "The run is done; it is run 8 of the logbook");
    assert!(!std::path::Path::new(&target).exists());
}

#[test]
fn without_colours_nothing_is_coloured() {
    let t = Terminal::start(120, 40, "NO_COLOR=1", "demo");
    t.press(&["7"], "7 runs");
    t.press(&["Down", "Down", "Enter"], "Run 5");
    t.until("█");
    let escapes = t.tmux(&["capture-pane", "-p", "-e", "-t", "t"]);
    assert!(!escapes.contains("[38;") && !escapes.contains("[48;") && !escapes.contains("[33m"), "{escapes}");
}

#[test]
fn a_termination_signal_gives_the_terminal_back() {
    let t = Terminal::start(100, 30, "", "demo");
    t.until("sim:merrow-k2");
    let shell: u32 = t.tmux(&["display-message", "-p", "-t", "t", "#{pane_pid}"]).trim().parse().unwrap();
    let children = std::fs::read_to_string(format!("/proc/{shell}/task/{shell}/children")).unwrap();
    let program = children.split_whitespace().next().unwrap();
    assert!(Command::new("kill").args(["-TERM", program]).status().unwrap().success());
    t.shell_is_back();
}

#[test]
fn a_panic_gives_the_terminal_back_and_says_what_it_was() {
    let t = Terminal::start(100, 30, "HOLLOW_MILE_PANIC_ON=F12", "demo");
    t.until("sim:merrow-k2");
    // Keys that come together: the second is taken in with the rest of what there is, not by itself.
    t.keys(&["F11", "F12"]);
    t.until("panicked at");
    t.shell_is_back();
}

#[test]
fn a_damaged_logbook_is_said_before_the_screen_is_taken_over() {
    let t = Terminal::start(120, 30, "", "--version");
    t.until("prompt>");
    t.bench.write("bad.logbook", &"not a logbook ".repeat(500));
    t.type_text(&format!("clear; {} --logbook bad.logbook; echo code-$?", env!("CARGO_BIN_EXE_hollow-mile")));
    t.keys(&["Enter"]);
    t.until_all(&["is damaged or no logbook", "code-2"]);
}

/// A made-up tree of the kernel's files with one drive in it, which can be pulled.
fn plug(bench: &Bench, plugged: bool) {
    let root = bench.path("root");
    let disk = root.join("sys/devices/pci0000:00/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0/block/sda");
    for (file, text) in [
        ("../../model", "Keelson 8TB"),
        ("../../../../../link3/ata_link/link3/sata_spd", "3.0 Gbps"),
        ("../../../../../link3/ata_link/link3/hw_sata_spd_limit", "6.0 Gbps"),
        ("dev", "8:0"),
        ("size", "15628053168"),
        ("queue/rotational", "1"),
    ] {
        std::fs::create_dir_all(disk.join("queue")).unwrap();
        let path = disk.join(file);
        let parent = path.parent().unwrap();
        std::fs::create_dir_all(parent).unwrap();
        std::fs::write(path, text).unwrap();
    }
    std::fs::create_dir_all(root.join("sys/block")).unwrap();
    let _ = std::os::unix::fs::symlink("../..", disk.join("device"));
    let link = root.join("sys/block/sda");
    let _ = std::fs::remove_file(&link);
    if plugged {
        std::os::unix::fs::symlink(&disk, link).unwrap();
    }
}

#[test]
fn drives_come_and_go_on_the_bench_without_a_key() {
    let t = Terminal::start(159, 46, "HOLLOW_MILE_ROOT=$PWD/root", "--logbook l.logbook");
    t.until("6 simulated drives, and any file");
    plug(&t.bench, true);
    t.until_all(&[
        "One real drive",
        "Keelson 8TB",
        "SATA 3 Gb/s, degraded: drive and port could do SATA 6 Gb/s",
    ]);
    t.until("at most 300 MB/s instead of 600 MB/s");
    plug(&t.bench, false);
    for _ in 0..600 {
        if !t.screen().contains("Keelson 8TB") {
            return;
        }
        std::thread::sleep(Duration::from_millis(100));
    }
    panic!("it stays on the screen:\n{}", t.screen());
}

#[test]
fn a_drive_is_armed_by_typing_its_name_and_what_it_changed_is_shown() {
    let Some(device) = common::LoopDevice::new(64) else { return };
    let t = Terminal::start(159, 46, "HOLLOW_MILE_ROOT=", "--logbook l.logbook");
    let node = device.node();
    t.until(&node);
    for _ in 0..60 {
        let screen = t.screen();
        let selected = screen.lines().find(|l| l.contains('▸')).unwrap_or_default();
        if selected.contains(&format!("{node},")) {
            break;
        }
        t.keys(&["Down"]);
        std::thread::sleep(Duration::from_millis(100));
    }
    t.press(&["s"], &format!("A run on {node}"));
    t.until("All that is on this drive will be lost.");
    t.press(&["Enter"], "into the field arm");
    t.keys(&["Tab"]);
    t.type_text("loop999");
    t.press(&["Enter"], "which is not its name");
    assert!(device.is_untouched());
    t.keys(&["C-u"]);
    t.type_text(&device.name());
    // What is claimed of it is the last field.
    t.keys(&["Tab", "Tab", "Tab", "Tab", "Tab", "Tab"]);
    t.type_text("write fast");
    t.until("the claim `write fast`: expected a rate");
    t.keys(&["C-u"]);
    t.type_text("write 1 MB/s");
    t.press(&["Enter"], "The run is done");
    assert!(!device.is_untouched());
    t.press(&["6"], "What run 1, the last on this drive, changed");
    t.press(&["7"], "One run.");
    t.press(&["Enter"], "Run 1, first look on");
    t.keys(&["p", "p"]);
    t.until("write, first plateau");
    // It is known for the next run.
    t.press(&["1"], &node);
    t.press(&["s"], "claims");
    t.until("write 1 MB/s");
}

#[test]
fn a_course_is_begun_mended_forecast_armed_started_left_and_read_as_a_sweep() {
    let Some(device) = common::LoopDevice::new(192) else { return };
    let t = Terminal::start(159, 46, "HOLLOW_MILE_ROOT=", "--logbook l.logbook");
    let node = device.node();
    t.until(&node);
    // From a ready-made course, made out for the drive that is selected; d looks at it on the next.
    t.press(&["2"], "The course \"first look\"");
    t.press(&["n"], "Ready-made courses");
    t.press(&["Down", "Down", "Enter"], "for fill in 0 %, 25 %, 50 %, 75 %, 90 %");
    t.until("# claim write");
    let target = || {
        let screen = t.screen();
        screen.lines().nth(3).and_then(|l| l.split("   On ").nth(1)).unwrap_or_default().trim().to_owned()
    };
    for _ in 0..60 {
        let before = target();
        if before.starts_with(&format!("{node}: ")) {
            break;
        }
        t.keys(&["d"]);
        let changed = |_: &i32| {
            std::thread::sleep(Duration::from_millis(50));
            target() != before
        };
        assert!((0..1200).any(|i| changed(&i)), "{}", t.screen());
    }
    t.until(&format!("On {node}: "));
    // A course from a file, with a mistake that is told at its place and mended.
    t.bench.write("quick.course", &common::quick_sweep().replace("sample every", "smaple every"));
    t.press(&["o"], "Read a course from a file");
    // Over the folder that stands there.
    t.type_text("./quick.course");
    t.until("./quick.course");
    t.press(&["Enter"], "▸ line 8, column 1: expected a setting or a leg, found `smaple`");
    t.until("One thing in the course cannot be read yet.");
    t.press(&["s"], "The course cannot be read yet");
    t.press(&["i"], "What you type goes into it");
    t.keys(&["Down", "Down", "Down", "Down", "Down", "Down", "Down", "Home"]);
    t.keys(&["Delete", "Delete", "Delete", "Delete", "Delete", "Delete"]);
    t.type_text("sample");
    // Forecast and preflight.
    let screen = t.until_all(&[
        "burst × 15",
        "Before the start",
        "wear: the rated endurance of the drive is not known",
        "writes",
    ]);
    assert!(screen.contains("prepare × 5") && !screen.contains('▸'), "{screen}");
    t.press(&["Escape"], "s starts it");
    t.press(&["w"], "Write the course to a file");
    t.press(&["Enter"], "Written: ./quick.course");
    assert!(t.bench.read("quick.course").contains("\nsample every 50 ms\n"));
    // Armed and started.
    t.press(&["s"], &format!("A run on {node}"));
    t.until("All that is on this drive will be lost.");
    t.press(&["Enter"], "into the field arm");
    assert!(device.is_untouched());
    t.type_text(&device.name());
    t.press(&["Enter"], "of 110, fill 0 %");
    t.until("the run ends in about");
    t.press(&["q"], "l leaves it running");
    t.press(&["l"], "Run 1 goes on without the terminal.");
    t.shell_is_back();
    t.type_text(&format!("clear; {} attach", env!("CARGO_BIN_EXE_hollow-mile")));
    t.press(&["Enter"], "fill");
    t.until("The run is done; it is run 1 of the logbook.");
    t.press(&["5"], "Run 1: 5 levels.");
    // A screen may be captured while its frame is still being written.
    t.until_all(&["figure, at a fill level of", "random-write, MB/s", "Means of 3 repeats", "90 %"]);
}

/// A trace from elsewhere with a full cache, throttling, and a fall that nothing explains, as CSV.
fn three_breaks() -> String {
    let mut text = String::from(
        "elapsed_s,leg,op,write_mb_s,read_mb_s,temp_c,throttle_light_s,throttle_heavy_s,foreign_mb_s\n",
    );
    for i in 1..=700 {
        let wobble = f64::from(i * 37 % 11) * 0.05;
        let (leg, op, write, read) = match i {
            _ if i <= 60 => ("soak", "write", 100.0, 0.0),
            _ if i <= 250 => ("soak", "write", 40.0, 0.0),
            _ if i <= 400 => ("soak", "write", 25.0, 0.0),
            _ if i <= 550 => ("again", "write", 20.0, 0.0),
            _ => ("again", "write", 28.0, 0.0),
        };
        let temp = if i <= 250 { 40 + i * 35 / 250 } else { 74 - (i - 250) / 40 };
        let ticks = (i.clamp(250, 400) - 250).max(0);
        text += &format!("{i},{leg},{op},{},{read},{temp},{ticks},0,0.1\n", write + wobble);
    }
    text
}

#[test]
fn each_break_says_why_and_what_would_settle_it_and_that_is_started_from_there() {
    let t = Terminal::start(159, 46, "", "--version");
    t.until("prompt>");
    t.bench.write("three.csv", &three_breaks());
    let program = env!("CARGO_BIN_EXE_hollow-mile");
    t.type_text(&format!(
        "{program} logbook import three.csv --capacity 64GB --warn 75 --rated-write 120 && {program}"
    ));
    t.press(&["Enter"], "bench");
    t.press(&["7"], "an imported trace");
    t.press(&["Enter"], "Run 1, three on an imported trace: done");
    t.until_all(&["write cache exhausted", "throttled by heat", "unexplained"]);
    t.until("first fall of this leg");
    t.press(&["j"], "a throttle counter began to tick at the break");
    t.press(&["n"], "A note");
    t.type_text("no fan");
    t.press(&["Enter"], "The note is kept with the run.");
    t.until("noted on break 2: no fan");
    t.press(&["p"], "[heat]");
    t.until_all(&["throttled", "lost to it"]);
    t.press(&["p"], "[claims]");
    t.until_all(&["write, first plateau", "120", "the write cache was exhausted"]);
    // The last one: nothing was logged that would explain it.
    t.press(&["j", "j", "p"], "[what next]");
    t.until_all(&["unexplained, ", "g starts this course:"]);
    t.press(&["g"], "as the findings suggest");
    let target = format!("{}/next-{}.bin", env!("CARGO_TARGET_TMPDIR"), std::process::id());
    t.keys(&["C-u"]);
    t.type_text(&target);
    t.keys(&["Tab", "C-u"]);
    t.type_text("64MB");
    t.until("it ends after one pass, 64.0 MB");
    // The rest in which a cache would come back is not waited for.
    t.press(&["Enter"], "rest: resting for 30 min");
    // It was at its limit by then, so that heat has to be told from a cache. Nor are the reads that warm the drive waited for.
    t.press(&["S"], "warm: reading 1 MiB blocks");
    t.press(&["S"], "The run is done; it is run 2 of the logbook");
    assert!(!std::path::Path::new(&target).exists());
}

/// A hundred kilobytes that are pasted are there at once; Ctrl-Z gives the shell its turn; a terminal that hangs up in the middle of a run of
/// the demo leaves neither a folder nor a runner.
#[test]
fn pasted_text_a_suspended_program_and_a_terminal_that_hangs_up() {
    let temporary = tempfile::tempdir().unwrap();
    let t = Terminal::start(100, 30, &format!("TMPDIR={}", temporary.path().display()), "demo");
    t.until("Merrow K2");
    t.keys(&["2"]);
    t.until("i enter edit");
    t.keys(&["i"]);
    t.until("What you type goes into it");
    let pasted = "# a line of a course that was pasted\n".repeat(2700) + "# the last line\n";
    t.bench.write("pasted", &pasted);
    t.tmux(&["load-buffer", &t.bench.path("pasted").display().to_string()]);
    t.tmux(&["paste-buffer", "-p", "-t", "t"]);
    t.until_all(&["# the last line", "2701"]);
    t.keys(&["C-z"]);
    t.until("prompt>");
    t.type_text("fg");
    t.keys(&["Enter"]);
    t.until("# the last line");
    // Escape and a digit that are read at once are one key.
    t.press(&["Escape"], "i changes it");
    t.press(&["1"], "Halyard Q4");
    t.keys(&["Enter"]);
    t.until("long soak");
    t.keys(&["Enter"]);
    t.until("60 times real time");
    assert_eq!(t.bench.sockets().len(), 1);
    t.tmux(&["kill-session", "-t", "t"]);
    let is_clean = || {
        let left = std::fs::read_dir(temporary.path()).unwrap().flatten();
        left.filter(|e| e.file_name().to_string_lossy().starts_with("hollow-mile-demo")).count() == 0
            && t.bench.sockets().is_empty()
    };
    let mut tries = 0..3000;
    while !is_clean() && tries.next().is_some() {
        std::thread::sleep(Duration::from_millis(20));
    }
    assert!(is_clean(), "the demo's folder and its runner are gone");
}

/// From the bench of the demo: two drives side by side with probe and power, a second run beside them, from one to the other, and out.
#[test]
fn two_drives_side_by_side_and_another_run_beside_them() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo --speed x60");
        t.until_all(&["bench", "sim:merrow-k2"]);
        t.press(&["b"], "A run on 2 drives");
        t.press(&["Enter"], "On upper: Leg 2 of 6, upper-alone");
        let screen = t.until_all(&["▸ upper", "lower", "no load", "now "]);
        if columns > 100 {
            t.until_all(&["┆upper-alone", "upper probe", "lower supply", "warn 77", "write cache exhausted"]);
            assert!(screen.contains("quay bench, slot 1, bare"), "{screen}");
        }
        t.press(&["]"], "▸ lower");
        t.press(&["1"], "sim:halyard-q4");
        t.keys(&["Down", "Down"]);
        t.press(&["s"], "A run on sim:halyard-q4");
        t.press(&["Enter"], "Leg 2 of 3, soak");
        t.until_all(&["▸ Run 9", "Run 8"]);
        t.press(&["r"], "▸ Run 8");
        t.until("▸ lower");
        t.press(&["q"], "2 runs are underway and end with the demo");
        t.press(&["s"], "Run 8 is stopped.");
        t.until("Run 8 is stopped.");
        t.shell_is_back();
        assert!(t.bench.sockets().is_empty());
    }
}

/// A course for two real drives from its place: a drive is chosen for each lane, each is armed by itself, and nothing is written before both are.
#[test]
fn two_real_drives_are_chosen_armed_one_by_one_and_run_from_the_terminal() {
    let (Some(left), Some(right)) = (common::LoopDevice::new(48), common::LoopDevice::new(64)) else {
        return;
    };
    let t = Terminal::start(159, 46, "HOLLOW_MILE_ROOT=", "--logbook l.logbook");
    let leg = "write sequential, blocks 1 MiB, depth 4\n    until one pass";
    let text = format!(
        "course \"both\"\nlane left\nlane right\ntogether\n  leg a on left\n    {leg}\n  leg b on right\n    {leg}\nend\n"
    );
    std::fs::write(t.bench.path("both.course"), text).unwrap();
    t.until(&left.node());
    t.until(&right.node());
    t.press(&["2"], "The course \"first look\"");
    t.press(&["o"], "./");
    t.type_text("both.course");
    t.press(&["Enter"], "Read from");
    t.until_all(&["left on ", ", right on "]);
    t.press(&["s"], "A run on 2 drives");
    for (lane, device) in [("left", &left), ("right", &right)] {
        let row = |screen: &str| {
            let mut rows = screen.lines().filter(|l| l.trim_start().starts_with(&format!("{lane} ")));
            rows.next_back().unwrap_or_default().to_owned()
        };
        // To the drive of this lane, which other devices may stand before, and to the field below it.
        for _ in 0..8 {
            if row(&t.screen()).contains('←') {
                break;
            }
            t.keys(&["Tab"]);
            std::thread::sleep(Duration::from_millis(200));
        }
        for _ in 0..60 {
            let before = row(&t.screen());
            if before.contains(&format!("← {} →", device.node())) {
                break;
            }
            t.keys(&["Right"]);
            let mut tries = 0..40;
            while row(&t.screen()) == before && tries.next().is_some() {
                std::thread::sleep(Duration::from_millis(50));
            }
        }
        assert!(row(&t.screen()).contains(&device.node()), "{}", t.screen());
    }
    t.until(&format!("All that is on {} will be lost.", right.node()));
    // The left one alone is armed: field by field backwards from the right drive.
    t.keys(&["BTab"]);
    t.type_text(&left.name());
    t.press(&["Enter"], "! lane right: ");
    assert!(
        left.is_untouched() && right.is_untouched(),
        "one that is armed was written before the other was"
    );
    t.keys(&["Tab", "Tab"]);
    t.type_text(&right.name());
    t.press(&["Enter"], "it is run 1 of the logbook");
    assert!(!left.is_untouched() && !right.is_untouched());
    t.press(&["4"], "lane 1 of 2, ] shows the next");
}

/// The run on two drives in the demonstration logbook: its findings lane by lane.
#[test]
fn the_findings_of_a_run_on_two_drives_are_seen_lane_by_lane() {
    let t = Terminal::start(159, 46, "", "demo");
    t.until("bench");
    t.press(&["7"], "two slots");
    t.press(&["Down", "Enter"], "Run 6, two slots on Merrow K2 2TB, upper");
    t.until_all(&["lane 1 of 2, ] shows the next", "write cache exhausted"]);
    t.press(&["]"], "Run 6, two slots on Merrow K2 2TB, lower");
    t.until("lane 2 of 2");
    t.press(&["e"], "Written: run-6-two-slots-lower.svg, run-6-two-slots-lower.pdf");
    t.press(&["]"], "two slots on Merrow K2 2TB, upper");
    let svg = t.bench.read("run-6-two-slots-lower-lanes.svg");
    for words in ["upper-alone", "below warning", "lower supply", "upper probe", "critical 86 °C"] {
        assert!(svg.contains(words), "{words}");
    }
    t.keys(&["q"]);
    t.shell_is_back();
}

/// Two passes over 1 TB in two orders, as a log of another program: a flat 500 MB/s, a stretch from 600 to 640 GB at 200, and other I/O for a while in the
/// first pass only.
fn two_passes() -> String {
    let mut text = "elapsed_s,leg,op,read_mb_s,offset_bytes,temp_c,foreign_mb_s\n".to_owned();
    let mut at = 0.0;
    for pass in [1_usize, 2] {
        for step in 0..250_usize {
            // Steps of 77 visit all of 250 zones once.
            let zone = if pass == 1 { step } else { step * 77 % 250 };
            let others = pass == 1 && (50..60).contains(&step);
            let wobble = 1.0 + 0.01 * ((zone * 7919 + pass * 31) % 101) as f64 / 50.0 - 0.01;
            let rate = if (150..160).contains(&zone) { 200.0 } else { 500.0 }
                * wobble
                * if others { 0.6 } else { 1.0 };
            at += 4e9 / (rate * 1e6);
            let foreign = if others { 200 } else { 0 };
            text.push_str(&format!(
                "{at:.6},pass {pass},read,{rate:.3},{},40,{foreign}\n",
                zone as u64 * 4_000_000_000
            ));
        }
    }
    text
}

#[test]
fn a_scan_is_read_on_the_map_of_the_surface_and_handed_over_as_a_figure() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "--version");
        t.until("prompt>");
        t.bench.write("scan.csv", &two_passes());
        let program = env!("CARGO_BIN_EXE_hollow-mile");
        t.type_text(&format!("{program} logbook import scan.csv --capacity 1TB && {program}"));
        t.press(&["Enter"], "bench");
        // Nothing is open: the newest run that the place can show is opened.
        t.press(&["8"], "Run 1: 1 hollow confirmed, no unreadable stretches.");
        t.press(&["7"], "One run.");
        t.press(&["Enter"], "Run 1, scan on");
        t.press(&["8"], "Run 1: 1 hollow confirmed, no unreadable stretches.");
        let screen = t.until_all(&[
            "forward, in mixed order",
            " 1 600.0 GB to 640.0 GB: 200 instead of 500 MB/s",
            "└",
        ]);
        assert!(screen.contains("█"), "the strips show it\n{screen}");
        // What others did in one pass is no hollow; at 80 columns it is further down the list.
        t.press(&["End"], "Strips:");
        if columns > 100 {
            t.until("No hollow: 200.0 GB to 240.0 GB was 40 % slow in pass 1: other I/O on the drive");
        }
        t.press(&["Home"], " 1 600.0 GB");
        t.press(&["l"], "pass 1 ");
        t.until_all(&["pass 2 ", "baseline 50"]);
        t.press(&["+", "+"], "╵");
        t.press(&["a"], " 1 600.0 GB");
        t.press(&["e"], "surface.svg");
        let written = t.bench.read("run-1-scan-surface.svg");
        assert!(
            written.contains("1  600.0 GB to 640.0 GB") && written.contains("in mixed order"),
            "{written}"
        );
    }
}

#[test]
fn runs_are_marked_compared_and_reported_without_leaving_the_terminal() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo");
        t.until("6 simulated drives");
        t.press(&["9"], "Nothing is compared yet. In the logbook (7) a and b mark runs");
        t.press(&["7"], "7 runs, the newest first.");
        t.press(&["c"], "Mark runs in the logbook");
        // Runs 3 and 2 were bare, run 4 was finned.
        t.keys(&["Down", "Down", "Down"]);
        t.press(&["b"], "Side A: none. Side B: 4.");
        // One side alone is held against what is claimed.
        t.press(&["c"], "B  run 4");
        t.until_all(&["A  claims", "rate, MB/s"]);
        t.press(&["7"], "7 runs, the newest first.");
        t.keys(&["Down"]);
        t.press(&["a"], "Side A: 3. Side B: 4.");
        t.keys(&["Down"]);
        let screen = t.press(&["a"], "Side A: 2, 3. Side B: 4. c compares them.");
        assert_eq!(
            screen.lines().filter(|l| l.starts_with(" A ") || l.starts_with(" B ")).count(),
            3,
            "{screen}"
        );
        t.press(&["c"], "too few repeats to test a difference");
        t.until_all(&[
            "A  run 2, run 3",
            "B  run 4",
            "cooling differs: A bare; B finned carrier",
            "rate, MB/s",
        ]);
        t.press(&["End"], "fewer than 3 values on a side");
        t.press(&["Home"], "A  run 2, run 3");
        // The rates of both sides: in time, along the bytes, along the addresses.
        // A small screen has no room for them until they are asked for.
        if rows < 40 {
            t.press(&["x"], "from its start on: A, run 2, above; B, run 4, below");
        }
        t.press(&["x", "x"], "by address: A, run 2, above; B, run 4, below");
        t.until("A  run 2, run 3");
        t.press(&["r"], "Written: report-2-3-against-4.pdf");
        assert!(std::fs::read(t.bench.path("report-2-3-against-4.pdf")).unwrap().starts_with(b"%PDF-"));
        // A run is on one side; the mark is taken away again.
        t.press(&["7"], "7 runs, the newest first.");
        t.press(&["b"], "Side A: 3. Side B: 2, 4.");
        t.press(&["a"], "Side A: 2, 3. Side B: 4.");
        t.press(&["a"], "Side A: 3. Side B: 4.");
        t.keys(&["q"]);
        t.shell_is_back();
    }
}

#[test]
fn the_other_side_of_a_run_is_run_and_compared_with_it() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo");
        t.until("6 simulated drives");
        t.press(&["7"], "7 runs, the newest first.");
        t.keys(&["End"]);
        t.press(&["Enter"], "Run 1, first look");
        t.press(&["o"], "The other side of run 1");
        t.until("Say what was changed");
        t.type_text("ambient warm");
        t.until("The ambient temperature is a number of °C");
        t.keys(&["C-u"]);
        t.type_text("cooling desk fan");
        t.press(&["Enter"], "Leg 2 of");
        t.until_all(&["it is run 8 of the logbook.", "compares it with run 1"]);
        t.press(&["9"], "cooling differs: A bare; B desk fan");
        t.until_all(&["A  run 1", "B  run 8"]);
        t.keys(&["q"]);
        t.shell_is_back();
    }
}

/// A terminal that reads nothing for a time, as where it is suspended by a debugger or starved, is left out by the runner. It said of its run, which went on and
/// ended well, that the runner had ended unexpectedly.
#[test]
fn a_terminal_that_was_left_out_says_how_its_run_ended() {
    let t = Terminal::start(159, 46, "", "demo --speed max");
    t.until("6 simulated drives");
    t.press(&["s"], "A run on sim:merrow-k2");
    t.press(&["Enter"], "Leg 2 of");
    let shell = t.tmux(&["display-message", "-p", "-t", "t", "#{pane_pid}"]);
    let children = format!("/proc/{0}/task/{0}/children", shell.trim());
    let program: i32 = std::fs::read_to_string(children).unwrap().trim().parse().unwrap();
    let signal = |signal| {
        rustix::process::kill_process(rustix::process::Pid::from_raw(program).unwrap(), signal).unwrap();
    };
    signal(rustix::process::Signal::STOP);
    // Its runner, which is the program's child, is done with it and ends.
    let is_runner = |process: std::fs::DirEntry| {
        let stat = std::fs::read_to_string(process.path().join("stat")).unwrap_or_default();
        // State and parent, behind the name.
        let mut fields = stat.rsplit(')').next().unwrap_or_default().split_whitespace();
        fields.next().is_some_and(|state| state != "Z") && fields.next() == Some(&program.to_string())
    };
    let is_over = (0..1200).any(|_| {
        std::thread::sleep(Duration::from_millis(100));
        !std::fs::read_dir("/proc").unwrap().flatten().any(is_runner)
    });
    signal(rustix::process::Signal::CONT);
    assert!(is_over, "the run ends");
    // The shell has taken the terminal back meanwhile, so that only what is written tells.
    t.until("it is run 8 of the logbook.");
}

/// A run that was started in the terminal could have no instruments, and its other side none of those of the first.
#[test]
fn instruments_are_named_in_the_form_and_taken_over_into_the_other_side() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo --speed max");
        t.until("6 simulated drives");
        t.press(&["s"], "A run on sim:merrow-k2");
        // It is the last field.
        t.keys(&["BTab"]);
        t.type_text("nothing.toml");
        t.until("so that real instruments cannot");
        t.keys(&["C-u"]);
        t.type_text("bench");
        t.press(&["Enter"], "it is run 8 of the logbook.");
        t.press(&["4"], "Run 8, long soak");
        t.press(&["o"], "The other side of run 8");
        t.type_text("cooling finned carrier");
        t.until("enter starts it");
        t.keys(&["Enter"]);
        t.until("it is run 9 of the logbook.");
        t.press(&["9"], "cooling differs: A bare; B finned carrier");
        // The probe is beside both drives, and that of the second is cooler by more than a few degrees.
        for _ in 0..100 {
            if !t.screen().contains("probe peak, °C") {
                t.keys(&["Down"]);
            }
        }
        let screen = t.screen();
        let row = screen.lines().find(|l| l.contains("probe peak, °C")).unwrap();
        let values: Vec<f64> = row.split_whitespace().filter_map(|w| w.parse().ok()).collect();
        assert!(values.len() >= 2 && values[0] > values[1] + 3.0, "{row}");
        t.keys(&["q"]);
        t.shell_is_back();
    }
}

#[test]
fn the_story_of_a_drive_is_shown_and_kept_without_leaving_the_terminal() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo");
        t.until("6 simulated drives");
        t.keys(&["Down", "Down", "Down"]);
        t.press(&["6"], "Bittern S1 960GB, serial BS1-1808-04471.");
        // What changed, worst first; the strips with their ruler; and when limits are reached.
        t.until_all(&[
            "Since the look before, 2026-09-13",
            "errors on the link: 16, after 15",
            "life used",
            "2026-0",
        ]);
        if rows > 40 {
            t.until_all(&[
                "When limits are reached",
                "366.0 TB of the rated 600.0 TB are written.",
                "The rest lasts until about 2030-",
            ]);
        } else {
            t.press(&["End"], "Self-tests");
        }
        t.press(&["a"], "logical sectors written");
        t.press(&["End"], "attribute 198");
        t.keys(&["a"]);
        t.press(&["w"], "Kept: Bittern S1 960GB");
        t.until("Nothing that matters has changed");
        t.keys(&["q"]);
        t.shell_is_back();
    }
}

#[test]
fn lines_that_do_not_fit_below_the_terrain_can_be_reached() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo");
        t.until("6 simulated drives");
        t.press(&["7"], "7 runs, the newest first.");
        t.keys(&["Down", "Down"]);
        let first = t.press(&["Enter"], "Run 5, quay fill sweep");
        assert!(!first.contains("write cache      412"), "{first}");
        // More pages than there are, so that the end is reached whatever the size.
        t.keys(&["NPage"; 40]);
        t.until("worst 1 s");
        t.until_that("all lines can be reached", |s| !s.contains("more\n") || !s.contains("…"));
        t.keys(&["PPage"; 40]);
        t.until("1 to 5 of 21 breaks");
        t.keys(&["q"]);
        t.shell_is_back();
    }
}

#[test]
fn a_simulated_drive_tests_itself_from_the_place_of_its_health() {
    for (columns, rows) in [(159, 46), (80, 24)] {
        let t = Terminal::start(columns, rows, "", "demo");
        t.until("6 simulated drives");
        t.keys(&["Down", "Down", "Down"]);
        t.press(&["6"], "Bittern S1 960GB, serial BS1-1808-04471.");
        t.press(&["t"], "A simulated drive tests itself in a run of its own.");
        t.press(&["x"], "extended self-test");
        t.until("How long it takes is not known.");
        t.press(&["Enter"], "the drive tests itself (extended)");
        // Of 960 GB at 500 MB/s it takes half an hour of simulated time.
        t.until("% done, about");
        t.until("Self-test (extended): completed without an error");
        t.press(&["6"], "Bittern S1 960GB, serial BS1-1808-04471.");
        t.press(&["r"], "Bittern S1 960GB");
        if rows < 40 {
            t.keys(&["End"]);
        }
        t.until("completed without an error, in run 8");
        t.keys(&["q"]);
        t.shell_is_back();
    }
}
