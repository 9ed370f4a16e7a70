//! A folder to work in, the program to run in it, and a file system of its own.
#![allow(dead_code, reason = "each test file uses its part")]
#![allow(
    clippy::unwrap_used,
    clippy::print_stderr,
    clippy::panic,
    reason = "a test that cannot go on has failed"
)]

pub(crate) mod bad_target;

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

/// The long soak, from the root of the project.
pub(crate) const LONG_SOAK: &str = concat!(env!("CARGO_MANIFEST_DIR"), "/../../courses/long-soak.course");

/// Path of a ready-made course.
pub(crate) fn course(name: &str) -> String {
    format!("{}/../../courses/{name}.course", env!("CARGO_MANIFEST_DIR"))
}

/// A test that cannot be made here says so: the line is listed when all tests are over (`scripts/test`), and is a failure where
/// `HOLLOW_MILE_SKIPS=never` is set, as in continuous integration.
pub(crate) fn skipped(why: &str) {
    let list = std::env::var("HOLLOW_MILE_SKIPS").unwrap_or_default();
    assert!(list != "never", "skipped: {why}");
    let name = std::thread::current().name().unwrap_or("a test").to_owned();
    eprintln!("SKIPPED {name}: {why}");
    if let Ok(mut file) = std::fs::File::options().append(true).create(true).open(list) {
        let _ = std::io::Write::write_all(&mut file, format!("{name}: {why}\n").as_bytes());
    }
}

/// A folder of its own, with a logbook of its own.
pub(crate) struct Bench {
    folder: tempfile::TempDir,
    /// For sockets, whose paths may not be long.
    runtime: tempfile::TempDir,
}

impl Bench {
    pub(crate) fn new() -> Self {
        Self::in_folder(tempfile::tempdir().unwrap())
    }

    /// On the disk that the build is on; the system's temporary folder may be in memory.
    pub(crate) fn on_disk() -> Self {
        Self::in_folder(tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap())
    }

    pub(crate) fn in_folder(folder: tempfile::TempDir) -> Self {
        Self { folder, runtime: tempfile::tempdir().unwrap() }
    }

    /// The sockets of runners that were started here.
    pub(crate) fn sockets(&self) -> Vec<PathBuf> {
        let folder = self.runtime.path().join("hollow-mile");
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        entries.map(|e| e.path()).filter(|p| p.extension().is_some_and(|e| e == "sock")).collect()
    }

    pub(crate) fn runtime(&self) -> &Path {
        self.runtime.path()
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: &str) {
        std::fs::write(self.path(name), text).unwrap();
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap()
    }

    /// The program with its logbook in the folder, unless another is named.
    pub(crate) fn command(&self, args: &[&str]) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_hollow-mile"));
        command
            .args(args)
            .current_dir(self.folder.path())
            .env("TZ", "UTC")
            .env("XDG_RUNTIME_DIR", self.runtime())
            .env("XDG_STATE_HOME", self.path("state"))
            .env("XDG_DATA_HOME", self.path("data"))
            .stdin(Stdio::null());
        let takes_logbook = matches!(
            args[0],
            "run" | "findings" | "export" | "resume" | "logbook" | "leftovers" | "compare" | "report"
        ) || args.starts_with(&["course", "forecast"]);
        let takes_logbook = takes_logbook && !args.starts_with(&["logbook", "recover"]);
        if takes_logbook && !args.contains(&"--logbook") {
            command.args(["--logbook", "l.logbook"]);
        }
        command
    }

    pub(crate) fn run(&self, args: &[&str]) -> Output {
        self.command(args).output().unwrap()
    }

    /// Starts a run, and kills it when a lane has told so many samples. What it leaves of its socket is taken away.
    pub(crate) fn kill_on_the_way(&self, args: &[&str], lane: u32, samples: usize) {
        use mile_runner::Message;
        use mile_runner::remote::{Client, Frame};
        let said = std::fs::File::create(self.path("said.txt")).unwrap();
        let mut child = self.command(args).stdout(Stdio::null()).stderr(said).spawn().unwrap();
        let client = loop {
            if let Some(client) = self.sockets().iter().find_map(|s| Client::connect(s).ok()) {
                break client;
            }
            assert!(child.try_wait().unwrap().is_none(), "it has ended: {}", self.read("said.txt"));
            std::thread::sleep(std::time::Duration::from_millis(5));
        };
        let is_sample = |f: &Frame| matches!(f, Frame::Message(l, Message::Sample(_)) if *l == lane);
        client.frames.iter().filter(is_sample).take(samples).count();
        child.kill().unwrap();
        child.wait().unwrap();
        for socket in self.sockets() {
            let _ = Client::connect(&socket).is_err() && std::fs::remove_file(&socket).is_ok();
        }
    }

    /// Standard error of a command that must not end well.
    pub(crate) fn fails(&self, args: &[&str]) -> String {
        let out = self.run(args);
        assert!(!out.status.success(), "{args:?}\n{}", String::from_utf8_lossy(&out.stdout));
        String::from_utf8(out.stderr).unwrap()
    }

    /// Standard output of a command that must end well.
    pub(crate) fn ok(&self, args: &[&str]) -> String {
        let out = self.run(args);
        assert!(out.status.success(), "{args:?} {}\n{}", out.status, String::from_utf8_lossy(&out.stderr));
        String::from_utf8(out.stdout).unwrap()
    }
}

/// The course of the demo's sweep, with its rests and timed legs cut short.
pub(crate) fn quick_sweep() -> String {
    std::fs::read_to_string(course("fill-sweep"))
        .unwrap()
        .replace("rest for 30 min", "rest for 200 ms")
        .replace("for 10 s", "for 300 ms")
        .replace("a break for 2 min or one pass", "one pass")
        .replace("sample every 500 ms", "sample every 50 ms")
}

/// A loop device over a file of zeros; taken down when dropped.
pub(crate) struct LoopDevice {
    folder: tempfile::TempDir,
    device: String,
}

impl LoopDevice {
    /// Of so many MiB. `None` where this user or this machine cannot have one.
    pub(crate) fn new(mib: u64) -> Option<Self> {
        let made = Self::try_new(mib);
        if made.is_none() {
            skipped("a loop device cannot be set up here");
        }
        made
    }

    fn try_new(mib: u64) -> Option<Self> {
        // In memory where that can be had: reads of a device over a disk wait for whatever that disk is busy with, more than half a
        // minute on some, which a run rightly takes for a drive that has stopped answering.
        let folder = tempfile::tempdir_in("/dev/shm")
            .or_else(|_| tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")))
            .ok()?;
        let image = folder.path().join("image");
        std::fs::File::create(&image).ok()?.set_len(mib << 20).ok()?;
        let device = Self::over(&image)?;
        Some(Self { folder, device })
    }

    /// A device over a file. `None` where none can be had.
    fn over(image: &std::path::Path) -> Option<String> {
        let out = Command::new("losetup").args(["--find", "--show"]).arg(image).output().ok()?;
        let device = String::from_utf8(out.stdout).ok()?.trim().to_owned();
        // Partitions that an earlier user of this loop device left in the kernel are on no medium any more.
        done("partx", &["--delete", &device]);
        out.status.success().then_some(device)
    }

    pub(crate) fn node(&self) -> String {
        self.device.clone()
    }

    pub(crate) fn name(&self) -> String {
        self.device.trim_start_matches("/dev/").to_owned()
    }

    /// The file behind it.
    pub(crate) fn image(&self) -> PathBuf {
        self.folder.path().join("image")
    }

    /// Whether it still holds nothing but zeros.
    pub(crate) fn is_untouched(&self) -> bool {
        std::fs::read(self.folder.path().join("image")).unwrap().iter().all(|b| *b == 0)
    }
}

impl Drop for LoopDevice {
    fn drop(&mut self) {
        done("losetup", &["--detach", &self.device]);
    }
}

/// A loop device that stops answering when it is told to: the file behind it lies in a frozen file system.
pub(crate) struct StallingDevice {
    device: LoopDevice,
    mount: LoopMount,
    frozen: std::cell::Cell<bool>,
}

impl StallingDevice {
    /// Of so many MiB. `None` where this user or this machine cannot have one.
    pub(crate) fn new(mib: u64) -> Option<Self> {
        let mount = LoopMount::sized(mib * 2 + 64)?;
        let folder = tempfile::tempdir_in(mount.folder()).ok()?;
        let image = folder.path().join("image");
        std::fs::File::create(&image).ok()?.set_len(mib << 20).ok()?;
        let device = LoopDevice { device: LoopDevice::over(&image)?, folder };
        Some(Self { device, mount, frozen: std::cell::Cell::new(false) })
    }

    pub(crate) fn node(&self) -> String {
        self.device.node()
    }

    pub(crate) fn name(&self) -> String {
        self.device.name()
    }

    fn freeze(&self, how: &str) {
        assert!(done("fsfreeze", &[how, &self.mount.folder().display().to_string()]), "fsfreeze {how}");
    }

    /// Writes do not come back from now on.
    pub(crate) fn stall(&self) {
        self.freeze("--freeze");
        self.frozen.set(true);
    }

    /// They do again.
    pub(crate) fn go_on(&self) {
        if self.frozen.replace(false) {
            self.freeze("--unfreeze");
        }
    }
}

impl Drop for StallingDevice {
    fn drop(&mut self) {
        self.go_on();
    }
}

/// A file system on a loop device over a file, mounted in a folder; taken down when dropped.
pub(crate) struct LoopMount {
    folder: tempfile::TempDir,
    device: String,
    mounted: bool,
}

fn done(program: &str, args: &[&str]) -> bool {
    Command::new(program)
        .args(args)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .is_ok_and(|s| s.success())
}

impl LoopMount {
    /// `None` where this user or this machine cannot have one.
    pub(crate) fn new() -> Option<Self> {
        Self::sized(768)
    }

    /// Of so many MiB.
    pub(crate) fn sized(mib: u64) -> Option<Self> {
        let made = Self::try_sized(mib);
        if made.is_none() {
            skipped("a file system on a loop device cannot be set up here");
        }
        made
    }

    fn try_sized(mib: u64) -> Option<Self> {
        // In memory where that can be had, as `LoopDevice`.
        let folder = tempfile::tempdir_in("/dev/shm")
            .or_else(|_| tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")))
            .ok()?;
        let image = folder.path().join("image");
        std::fs::File::create(&image).ok()?.set_len(mib << 20).ok()?;
        std::fs::create_dir(folder.path().join("mount")).ok()?;
        let out = Command::new("losetup")
            .args(["--find", "--show"])
            .arg(&image)
            .stderr(Stdio::null())
            .output()
            .ok()?;
        if !out.status.success() {
            return None;
        }
        let device = String::from_utf8(out.stdout).ok()?.trim().to_owned();
        let mut mount = Self { folder, device, mounted: false };
        // Blocks as large as a page, as on any disk: with smaller ones, which mkfs takes for a small file system, SQLite cannot make sure
        // of the space of its shared index when the disk is full, and is then ended by SIGBUS.
        let blocks = ["-q", "-b", "4096", "-E", "lazy_itable_init=0,lazy_journal_init=0", &mount.device];
        let made = done("mkfs.ext4", &blocks);
        let at = mount.folder().display().to_string();
        mount.mounted = made && done("mount", &[&mount.device, &at]);
        mount.mounted.then_some(mount)
    }

    pub(crate) fn folder(&self) -> PathBuf {
        self.folder.path().join("mount")
    }

    pub(crate) fn node(&self) -> String {
        self.device.clone()
    }

    pub(crate) fn read_only(&self) {
        assert!(done("mount", &["-o", "remount,ro", &self.folder().display().to_string()]));
    }

    /// Sectors of 512 bytes that the kernel says were written to the device.
    pub(crate) fn sectors_written(&self) -> u64 {
        assert!(done("sync", &["-f", &self.folder().display().to_string()]));
        let name = Path::new(&self.device).file_name().unwrap().to_string_lossy().into_owned();
        let all = std::fs::read_to_string("/proc/diskstats").unwrap();
        let line = all.lines().find(|l| l.split_whitespace().nth(2) == Some(&name)).unwrap();
        line.split_whitespace().nth(9).unwrap().parse().unwrap()
    }
}

impl Drop for LoopMount {
    fn drop(&mut self) {
        if self.mounted {
            // The kernel lets go of a ring's file a moment after the process that had it.
            let at = self.folder().display().to_string();
            let mut tries = 0..100;
            while !done("umount", &[&at]) {
                if tries.next().is_none() {
                    // A process that has read a logbook keeps a descriptor of it until it ends, for its locks. The kernel takes the file
                    // system down with that, and the loop device with it.
                    done("umount", &["--lazy", &at]);
                    break;
                }
                std::thread::sleep(std::time::Duration::from_millis(50));
            }
        }
        done("losetup", &["--detach", &self.device]);
    }
}
