//! Loop devices of this machine, and what is done to them.
#![allow(dead_code, reason = "each test file uses its part")]
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    clippy::expect_used,
    reason = "a test that cannot go on has failed"
)]

use mile_core::RunId;
use mile_drive::Drive;
use mile_drive::block::{BlockDrive, Consent, drive::find};
use mile_drive::io::EngineChoice;
use mile_drive::sysfs::Roots;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Bytes of a device.
pub(crate) const SIZE: u64 = 96 << 20;

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

/// A loop device over a file of zeros; taken down when dropped.
pub(crate) struct Loop {
    pub(crate) folder: tempfile::TempDir,
    pub(crate) device: PathBuf,
}

pub(crate) fn output(program: &str, args: &[&str]) -> Option<String> {
    let out = Command::new(program).args(args).stderr(Stdio::null()).output().ok()?;
    out.status.success().then(|| String::from_utf8_lossy(&out.stdout).trim().to_owned())
}

impl Loop {
    pub(crate) fn new() -> Option<Self> {
        Self::sized(SIZE)
    }

    /// Of so many bytes.
    pub(crate) fn sized(bytes: u64) -> Option<Self> {
        // In memory where that can be had: a device over a disk is as slow as whatever that disk is busy with.
        let folder = tempfile::tempdir_in("/dev/shm")
            .or_else(|_| tempfile::tempdir_in(env!("CARGO_TARGET_TMPDIR")))
            .unwrap();
        let image = folder.path().join("image");
        File::create(&image).unwrap().set_len(bytes).unwrap();
        let device = output("losetup", &["--find", "--show", &image.display().to_string()]);
        if device.is_none() {
            skipped("loop devices cannot be set up here");
        }
        let device = device?;
        // What an earlier user of this loop device left in the kernel: partitions that are on no medium any more, a read-only mark.
        let _ = output("partx", &["--delete", &device]);
        let _ = output("blockdev", &["--setrw", &device]);
        Some(Self { folder, device: device.into() })
    }

    pub(crate) fn name(&self) -> String {
        self.device.file_name().unwrap().to_string_lossy().into_owned()
    }

    pub(crate) fn node(&self) -> String {
        self.device.display().to_string()
    }

    /// A checksum of all of it, as the device shows it; of a swap area of 40 KiB, without the nine pages behind its header, which the kernel
    /// writes to when it is short of memory.
    pub(crate) fn sum(&self) -> String {
        let node = self.node();
        let mut mark = [0; 10];
        File::open(&self.device).unwrap().read_exact_at(&mut mark, 4086).unwrap();
        let bytes = match &mark == b"SWAPSPACE2" {
            true => format!("(head -c 4096 {node} && tail -c +40961 {node}) | sha256sum"),
            false => format!("sha256sum < {node}"),
        };
        output("sh", &["-c", &bytes]).unwrap()
    }

    pub(crate) fn drive(&self, consent: Consent) -> BlockDrive {
        drive_at(&self.device, consent)
    }

    pub(crate) fn armed(&self) -> Consent {
        Consent { arm: Some(self.name()), destroy: Vec::new(), in_form: false }
    }

    /// Why writing is refused; the device is as it was.
    pub(crate) fn refusal(&self, consent: Consent) -> String {
        let before = self.sum();
        let mut drive = self.drive(consent);
        let checked = drive.check_consent(true).unwrap_err().to_string();
        let opened = drive.open().unwrap_err().to_string();
        drop(drive);
        assert_eq!(self.sum(), before, "something was written");
        // Other places are looked at each time, so that only the reason is the same.
        let reason = |text: &str| text.split(". ").next().unwrap_or_default().to_owned();
        assert!(reason(&checked) == reason(&opened) || opened.contains("exclusively"), "{checked}\n{opened}");
        checked
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        // The kernel keeps partitions of a device whose file is taken away, and the next user of its number has them.
        let _ = output("partx", &["--delete", &self.node()]);
        let _ = output("losetup", &["--detach", &self.node()]);
    }
}

pub(crate) fn drive_at(path: &Path, consent: Consent) -> BlockDrive {
    let roots = Roots::system();
    let found = find(&roots, path).unwrap();
    let mut drive = BlockDrive::new(roots, found, consent, 5, EngineChoice::Auto).unwrap();
    // One run, however often its drive is opened.
    drive.set_run(RunId(5));
    drive
}
