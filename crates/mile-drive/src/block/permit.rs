//! Permission to write to a device: the only place of the program that opens one for writing.
//!
//! What always holds of a descriptor that comes from here: a person named the drive and gave its serial number; nobody uses the drive or
//! anything that shares storage with it, in any space of mounts that can be seen, nor has it open for writing; what is on it was
//! looked at, and everything that is not blank or ours was named; the device is held exclusively; and all of that was seen again after
//! the device was opened, by the descriptor, before anything is written.

use super::found::{Found, look};
use super::probe::{self, Probe};
use super::signature;
use super::stack::{in_flight, openers};
use super::survey::{Survey, survey};
use crate::clock::Monotonic;
use crate::drive::DriveError;
use crate::io::new_run;
use crate::raw;
use crate::sysfs::Roots;
use mile_core::{Bytes, Nanos};
use rustix::fs::OFlags;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt, OpenOptionsExt};

/// Longest wait for operations of an earlier process that are still on their way.
const IN_FLIGHT: Nanos = Nanos(30_000_000_000);

/// Time after which a program that has a device open for writing is taken to keep it.
const A_MOMENT: Nanos = Nanos(1_000_000_000);

/// Longest wait for a device that is opened exclusively elsewhere. The kernel tears down the ring of a killed process, and closes what
/// it had open, some time after the process is gone.
const LET_GO: Nanos = Nanos(5_000_000_000);

/// What a person allows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Consent {
    /// The serial number that they typed, or the name of a drive that has none.
    pub arm: Option<String>,
    /// What they name of that which is on the drive and may be written over.
    pub destroy: Vec<String>,
    /// Whether they type it into a form, where nothing has the name of an option.
    #[serde(default)]
    pub in_form: bool,
}

impl Consent {
    /// Whether nothing is allowed.
    pub fn is_none(&self) -> bool {
        self.arm.is_none() && self.destroy.is_empty()
    }
}

/// Who asks, and for what drive.
pub struct Request<'a> {
    /// Where the system tells of its devices.
    pub roots: &'a Roots,
    /// The drive as it was found.
    pub found: &'a Found,
    /// What it told of itself then.
    pub told: &'a Probe,
    /// What a person allows.
    pub consent: &'a Consent,
    /// What will be written over, first byte and length: where it is looked at most closely.
    pub over: &'a [(Bytes, Bytes)],
}

impl Request<'_> {
    fn refused(&self, why: impl Into<String>) -> DriveError {
        DriveError::Refused { path: self.found.node.clone(), why: why.into() }
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> DriveError + use<> {
        let path = self.found.node.clone();
        move |source| DriveError::Io { path: path.clone(), doing, source }
    }

    fn serial(&self) -> Option<&str> {
        self.told.serial.as_deref().or(self.found.serial.as_deref())
    }

    /// Says why the drive may not be written to, if so. Nothing is opened for writing.
    ///
    /// # Errors
    /// [`DriveError::Refused`] with every reason that there is, and what to do; [`DriveError::Left`] where the drive is gone.
    pub fn check(&self) -> Result<(), DriveError> {
        self.may_be_armed(self.found)?;
        let file = open(self.found, false).map_err(self.failed("look at what is on the drive"))?;
        self.may_write_over(&file)
    }

    /// Opens the drive for writing.
    ///
    /// # Errors
    /// As [`Request::check`], and where the device is not the one that was looked at, or is held by another program.
    pub fn open_to_write(&self) -> Result<File, DriveError> {
        self.wait_for_what_is_in_flight()?;
        let file = self.open_exclusively().map_err(|e| self.cannot_open(e))?;
        let now = self.still_the_same(&file)?;
        self.may_be_armed(&now)?;
        self.may_write_over(&file)?;
        Ok(file)
    }

    /// Opens the drive for reading.
    ///
    /// # Errors
    /// Where it cannot be opened, or the device is not the one that was looked at.
    pub fn open_to_read(&self) -> Result<File, DriveError> {
        let file = open(self.found, false).map_err(|e| self.cannot_open(e))?;
        self.still_the_same(&file)?;
        Ok(file)
    }

    /// Opens the drive for writing as soon as nobody else has it exclusively, and gives up after [`LET_GO`].
    fn open_exclusively(&self) -> io::Result<File> {
        let clock = Monotonic::start();
        loop {
            match open(self.found, true) {
                Err(e) if e.raw_os_error() == Some(libc::EBUSY) && clock.now() < LET_GO => {
                    clock.sleep_until(clock.now().plus(Nanos(50_000_000)));
                }
                opened => return opened,
            }
        }
    }

    fn cannot_open(&self, e: io::Error) -> DriveError {
        match e.raw_os_error() {
            Some(libc::EBUSY) => {
                self.refused("it is opened exclusively by another program. Nothing was written")
            }
            Some(libc::EACCES | libc::EPERM) => self.refused(
                "you may not open it; run as an administrator, or as a member of the group of its node",
            ),
            _ => self.failed("open the drive")(e),
        }
    }

    /// What a killed process had put in flight still lands; nothing is read or written before it has.
    fn wait_for_what_is_in_flight(&self) -> Result<(), DriveError> {
        let clock = Monotonic::start();
        while in_flight(&self.found.folder) > 0 {
            if clock.now() > IN_FLIGHT {
                return Err(self.refused(
                    "operations of another program, or of one that was killed, have been on their way to it for 30 s. Nothing was written",
                ));
            }
            clock.sleep_until(clock.now().plus(Nanos(20_000_000)));
        }
        Ok(())
    }

    /// Who has it open for writing. Programs that look through all devices have each open for a moment, and do not count.
    fn open_elsewhere(&self, found: &Found) -> Vec<String> {
        let clock = Monotonic::start();
        loop {
            let all = openers(self.roots, &found.related);
            if all.is_empty() || clock.now() > A_MOMENT {
                return all.iter().map(ToString::to_string).collect();
            }
            clock.sleep_until(clock.now().plus(Nanos(50_000_000)));
        }
    }

    /// Refuses what is in use, what is open elsewhere, and what is not armed.
    fn may_be_armed(&self, found: &Found) -> Result<(), DriveError> {
        let mut objections = found.objections();
        objections.extend(self.open_elsewhere(found));
        if !objections.is_empty() {
            return Err(self.refused(format!("{}. Nothing was written", objections.join("; "))));
        }
        let known = signature::names();
        if let Some(unknown) = self.consent.destroy.iter().find(|d| !known.contains(&d.as_str())) {
            return Err(self.refused(format!(
                "`{}{unknown}` names nothing that is ever looked for; what can be named is {}. Nothing was written",
                if self.consent.in_form { "" } else { "--destroy " },
                known.join(", ")
            )));
        }
        let word = self.serial().unwrap_or(&self.found.name);
        let what = if self.serial().is_some() { "serial number" } else { "name (it has no serial number)" };
        match self.consent.arm.as_deref().map(str::trim) {
            Some(said) if said == word => Ok(()),
            Some(said) => {
                Err(self
                    .refused(format!("armed with `{said}`, which is not its {what}. Nothing was written")))
            }
            None => {
                let how = if self.consent.in_form {
                    format!("type its {what}, {word}, into the field arm")
                } else {
                    format!("give its {what} with --arm {word}")
                };
                Err(self.refused(format!(
                    "this course writes to it, and it is not armed: {how}. All that is on it will be lost"
                )))
            }
        }
    }

    /// Refuses to write over what is not blank, unless it was named.
    fn may_write_over(&self, file: &File) -> Result<(), DriveError> {
        // Other places each time.
        let seed = new_run().0 as u64;
        let found = survey(file, self.found.capacity, self.found.logical_block, seed, self.over);
        if found.unreadable > 0 && raw::device_size(file).map_or(0, |b| b.0) == 0 {
            let name = self.found.node.display().to_string();
            return Err(DriveError::Left { name, why: "its size is 0 now".into() });
        }
        self.was_named(&found)
    }

    fn was_named(&self, found: &Survey) -> Result<(), DriveError> {
        let mut on_it = found.to_name();
        if !self.found.partitions.is_empty() && found.recognised.is_empty() {
            on_it.retain(|n| *n != "data");
            on_it.push("partitions");
        }
        let named = |n: &&str| self.consent.destroy.iter().any(|d| d == *n);
        let missing: Vec<&str> = on_it.iter().filter(|n| !named(n)).copied().collect();
        if missing.is_empty() {
            return Ok(());
        }
        let how = if self.consent.in_form {
            format!("write behind its serial number or name: {}", missing.join(" "))
        } else {
            let options: Vec<String> = missing.iter().map(|n| format!("--destroy {n}")).collect();
            format!("name it: {}", options.join(" "))
        };
        let seen = found.words();
        let seen = if seen.is_empty() { seen } else { format!(". {seen}") };
        let what = match missing[..] {
            ["data"] => "data that is not recognised".to_owned(),
            _ => format!("something ({})", missing.join(", ")),
        };
        Err(self
            .refused(format!("it carries {what}{seen}. To have that destroyed, {how}. Nothing was written")))
    }

    /// Makes sure that an open device is the drive that was looked at, and gives it as it is now.
    fn still_the_same(&self, file: &File) -> Result<Found, DriveError> {
        let meta = file.metadata().map_err(self.failed("look at the open drive"))?;
        let changed =
            |what: &str| self.refused(format!("{what} changed since it was looked at. Nothing was written"));
        if !meta.file_type().is_block_device() {
            return Err(changed("the node is no block device any more; it"));
        }
        let Some((now, None)) = look(self.roots, meta.rdev()) else { return Err(changed("the device")) };
        let was = self.found;
        if now.number != was.number || now.capacity != was.capacity || now.backing != was.backing {
            return Err(changed("the device behind the node"));
        }
        if now.serial != was.serial || now.model != was.model {
            return Err(changed("the drive behind the node"));
        }
        if self.told.serial.is_some() && probe::serial(now.transport, file) != self.told.serial {
            return Err(changed("the drive's own serial number"));
        }
        Ok(now)
    }
}

/// Opens the node past the host's cache; for writing, exclusively.
fn open(found: &Found, write: bool) -> io::Result<File> {
    let mut flags = OFlags::DIRECT | OFlags::CLOEXEC | OFlags::NOFOLLOW | OFlags::NONBLOCK;
    if write {
        // Without access first: what lies there now may be no block device, and must not notice.
        let meta = std::fs::symlink_metadata(&found.node)?;
        if !meta.file_type().is_block_device() {
            return Err(io::Error::other("the node is no block device any more"));
        }
        flags |= OFlags::EXCL;
    }
    OpenOptions::new().read(true).write(write).custom_flags(flags.bits() as i32).open(&found.node)
}
