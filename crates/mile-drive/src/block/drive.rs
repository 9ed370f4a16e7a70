//! A block device as a drive.
//!
//! What stands between a run and somebody's data: a device that is in use, or carries something that is recognised, is refused;
//! writing needs the drive's serial number from a person; the device is opened exclusively; and all of it is looked at
//! again on the open descriptor, so that nothing that was swapped in between is written to.

use super::found::{Found, Transport, look};
use super::probe::{self, Probe};
use super::signature::{HEAD, TAIL, recognise};
use crate::clock::Monotonic;
use crate::drive::{
    Drive, DriveError, Facts, Failure, Identity, Limits, Narrowed, Readings, Situation, Transfer,
};
use crate::health::Health;
use crate::io::{EngineChoice, Io, pattern};
use crate::raw;
use crate::sensors::{Sensors, Source};
use crate::sysfs::{Disk, Roots, number};
use crate::tally::Tally;
use mile_core::{Bytes, Nanos};
use rustix::fs::OFlags;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt};
use std::path::Path;
use std::time::Duration;

/// Longest wait for the health at the end of a run.
const HEALTH_PATIENCE: Duration = Duration::from_secs(15);
/// Bytes of one discard: a large one may hold a drive for minutes.
const DISCARD: u64 = 1 << 30;

/// What a person allows.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Consent {
    /// The serial number that they typed, or the name of a drive that has none.
    pub arm: Option<String>,
    /// What they name of that which is on the drive and may be written over.
    pub destroy: Vec<String>,
}

/// A block device as a drive.
pub struct BlockDrive {
    roots: Roots,
    found: Found,
    told: Probe,
    identity: Identity,
    consent: Consent,
    io: Io,
    writes: bool,
    file: Option<File>,
    sensors: Option<Sensors>,
    moved_at_open: Option<Bytes>,
    clock: Monotonic,
    start_at: Nanos,
}

/// The identity of a drive, of what the system and the drive itself tell.
pub fn identity(found: &Found, told: &Probe) -> Identity {
    let backing = found.backing.as_ref().map(|b| format!("loop device over {}", b.display()));
    let model = told.model.clone().or_else(|| found.model.clone()).or(backing);
    let kind = match (told.rpm, found.kind()) {
        (Some(rpm), kind) if rpm > 0 => {
            format!("{kind} at {} turns a minute", mile_core::units::thousands(&rpm.to_string()))
        }
        (_, kind) => kind,
    };
    Identity {
        name: found.node.display().to_string(),
        model: model.unwrap_or_else(|| format!("{} disk", found.transport.words())),
        serial: told.serial.clone().or_else(|| found.serial.clone()),
        firmware: told.firmware.clone().or_else(|| found.firmware.clone()),
        kind,
        simulated: false,
        link: told.link.clone().or_else(|| found.link.clone()),
    }
}

/// The device that a path means, and what is known of it.
pub fn find(roots: &Roots, path: &Path) -> Result<Found, DriveError> {
    let refused = |why: String| DriveError::Refused { path: path.to_owned(), why };
    let real = std::fs::canonicalize(path).map_err(|e| refused(format!("cannot be looked at ({e})")))?;
    let meta = std::fs::metadata(&real).map_err(|e| refused(format!("cannot be looked at ({e})")))?;
    if !meta.file_type().is_block_device() {
        return Err(refused("this is no block device".into()));
    }
    match look(roots, meta.rdev()) {
        None => Err(refused("the system does not tell of this device".into())),
        Some((found, Some(part))) => Err(refused(format!(
            "this is partition {part} of {}; name the whole drive",
            found.node.display()
        ))),
        // The node that was named is the one that is opened, and looked at again then.
        Some((found, None)) => Ok(Found { node: real, ..found }),
    }
}

impl BlockDrive {
    /// Looks at a device and asks it for what it tells. Nothing is opened for writing.
    pub fn new(
        roots: Roots,
        found: Found,
        consent: Consent,
        seed: u64,
        choice: EngineChoice,
    ) -> Result<Self, DriveError> {
        let told = probe::probe(&roots, &found);
        if found.capacity.0 == 0 {
            return Err(DriveError::Refused { path: found.node, why: "there is no medium in it".into() });
        }
        Ok(Self {
            identity: identity(&found, &told),
            io: Io::new(seed, choice),
            roots,
            found,
            told,
            consent,
            writes: false,
            file: None,
            sensors: None,
            moved_at_open: None,
            clock: Monotonic::start(),
            start_at: Nanos(0),
        })
    }

    fn refused(&self, why: impl Into<String>) -> DriveError {
        DriveError::Refused { path: self.found.node.clone(), why: why.into() }
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> DriveError + use<> {
        let path = self.found.node.clone();
        move |source| DriveError::Io { path: path.clone(), doing, source }
    }

    fn arming_word(&self) -> &str {
        self.identity.serial.as_deref().unwrap_or(&self.found.name)
    }

    /// Refuses to write to what is in use, and what is not armed.
    fn may_be_armed(&self, found: &Found) -> Result<(), DriveError> {
        let objections = found.objections();
        if !objections.is_empty() {
            return Err(self.refused(format!("{}. Nothing was written", objections.join("; "))));
        }
        let word = self.arming_word();
        let what =
            if self.identity.serial.is_some() { "serial number" } else { "name (it has no serial number)" };
        match self.consent.arm.as_deref().map(str::trim) {
            Some(said) if said == word => {}
            Some(said) => {
                return Err(self
                    .refused(format!("armed with `{said}`, which is not its {what}. Nothing was written")));
            }
            None => {
                return Err(self.refused(format!(
                    "this course writes to it, and it is not armed: give its {what} with --arm {word}. All that is on it will be lost"
                )));
            }
        }
        Ok(())
    }

    /// Refuses to write over what is recognised, unless it was named.
    fn may_write_over(&self, file: &File) -> Result<(), DriveError> {
        let on_it = self.recognised(file)?;
        let not_named: Vec<&str> =
            on_it.iter().filter(|n| !self.consent.destroy.iter().any(|d| d == *n)).copied().collect();
        if !not_named.is_empty() {
            let options: Vec<String> = not_named.iter().map(|n| format!("--destroy {n}")).collect();
            return Err(self.refused(format!(
                "it carries something ({}). To have that destroyed, name it: {}. Nothing was written",
                not_named.join(", "),
                options.join(" ")
            )));
        }
        Ok(())
    }

    /// What is recognised on the device.
    fn recognised(&self, file: &File) -> Result<Vec<&'static str>, DriveError> {
        let size = self.found.capacity.0;
        // What cannot be read may be anything.
        let read = |at: u64, length: u64| {
            let mut buffer = pattern::Buffer::zeroed(length as usize);
            file.read_exact_at(buffer.bytes_mut(), at).map(|()| buffer)
        };
        let unit = self.found.logical_block.0.max(512);
        let part = |most: usize| (most as u64).min(size) / unit * unit;
        match (read(0, part(HEAD)), read(size / unit * unit - part(TAIL), part(TAIL))) {
            (Ok(head), Ok(tail)) => {
                let mut names = recognise(head.bytes(), tail.bytes(), self.found.logical_block);
                if !self.found.partitions.is_empty() && names.is_empty() {
                    names.push("partitions");
                }
                Ok(names)
            }
            _ if raw::device_size(file).map_or(0, |b| b.0) == 0 => {
                Err(DriveError::Left { name: self.identity.name.clone(), why: "its size is 0 now".into() })
            }
            _ => Ok(vec!["unreadable"]),
        }
    }

    /// Opens the node, and makes sure that it is the drive that was looked at.
    fn open_node(&self) -> Result<File, DriveError> {
        let mut flags = OFlags::DIRECT | OFlags::CLOEXEC;
        if self.writes {
            flags |= OFlags::EXCL;
        }
        let file = OpenOptions::new()
            .read(true)
            .write(self.writes)
            .custom_flags(flags.bits() as i32)
            .open(&self.found.node)
            .map_err(|e| match e.raw_os_error() {
                Some(libc::EBUSY) => {
                    self.refused("it is opened exclusively by another program. Nothing was written")
                }
                Some(libc::EACCES | libc::EPERM) => self.refused(
                    "you may not open it; run as an administrator, or as a member of the group of its node",
                ),
                _ => self.failed("open the drive")(e),
            })?;
        let meta = file.metadata().map_err(self.failed("look at the open drive"))?;
        let changed =
            |what: &str| self.refused(format!("{what} changed since it was looked at. Nothing was written"));
        if !meta.file_type().is_block_device() {
            return Err(changed("the node is no block device any more; it"));
        }
        let Some((now, None)) = look(&self.roots, meta.rdev()) else { return Err(changed("the device")) };
        if now.number != self.found.number
            || now.capacity != self.found.capacity
            || now.backing != self.found.backing
        {
            return Err(changed("the device behind the node"));
        }
        if now.serial != self.found.serial || now.model != self.found.model {
            return Err(changed("the drive behind the node"));
        }
        if self.told.serial.is_some() && probe::serial(now.transport, &file) != self.told.serial {
            return Err(changed("the drive's own serial number"));
        }
        if self.writes {
            self.may_be_armed(&now)?;
            self.may_write_over(&file)?;
        }
        Ok(file)
    }
}

impl Drive for BlockDrive {
    fn identity(&self) -> &Identity {
        &self.identity
    }

    fn facts(&self) -> Facts {
        Facts {
            capacity: self.found.capacity,
            logical_block: self.found.logical_block,
            has_temperature: self.told.health.temperature.is_some(),
            readable: true,
            cache: None,
        }
    }

    fn limits(&self) -> Limits {
        self.told.limits
    }

    fn situation(&self) -> Situation {
        let degraded =
            self.identity.link.as_ref().filter(|l| l.is_degraded()).map(|l| format!("link {}", l.sentence()));
        Situation { slot: self.found.slot.clone(), notes: degraded, ..Situation::default() }
    }

    fn is_virtual(&self) -> bool {
        false
    }

    fn check_consent(&mut self, writes: bool) -> Result<(), DriveError> {
        self.writes = writes;
        if !writes {
            return Ok(());
        }
        self.may_be_armed(&self.found)?;
        // Only to look: it is opened for writing when the run begins.
        let file = OpenOptions::new()
            .read(true)
            .custom_flags(OFlags::DIRECT.bits() as i32)
            .open(&self.found.node)
            .map_err(self.failed("look at what is on the drive"))?;
        self.may_write_over(&file)
    }

    fn start_at(&mut self, at: Nanos) {
        self.start_at = at;
    }

    fn open(&mut self) -> Result<(), DriveError> {
        let file = self.open_node()?;
        let source = match (self.found.transport, probe::open(&self.found)) {
            (Transport::Nvme, Ok(raw)) if self.told.health.nvme.is_some() => Source::Nvme(raw),
            (_, raw) => match (self.found.temperature_file(), raw) {
                (Some(file), _) => Source::Kernel(file),
                (None, Ok(raw)) if !self.told.health.attributes.is_empty() => Source::Ata(raw),
                _ => Source::None,
            },
        };
        self.sensors = Some(Sensors::start(source, Some((self.roots.clone(), self.found.clone()))));
        self.file = Some(file);
        self.clock = Monotonic::start_at(self.start_at);
        self.moved_at_open = self.disk().moved();
        Ok(())
    }

    fn engine(&self) -> String {
        self.io.words().to_owned()
    }

    fn now(&self) -> Nanos {
        if self.file.is_some() { self.clock.now() } else { Nanos(0) }
    }

    fn idle(&mut self, until: Nanos) {
        self.io.stop();
        self.clock.sleep_until(until);
    }

    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the drive is not open".into() });
        };
        if !self.writes && transfer.op != mile_core::Op::Read {
            return Err(DriveError::Unusable { why: "the drive is open for reading only".into() });
        }
        self.io.begin(file, transfer, self.found.capacity, self.found.logical_block, self.clock)
    }

    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.io.advance(&self.clock, until, tally)
    }

    fn drain(&mut self, tally: &mut Tally) -> Result<(), DriveError> {
        self.io.drain(&self.clock, tally)
    }

    fn narrow(&mut self, failure: &Failure) -> Narrowed {
        let file = self.file.as_ref();
        file.map_or_else(Narrowed::default, |f| self.io.narrow(f, failure, self.found.logical_block))
    }

    fn has_left(&self) -> Option<String> {
        let folder = self.roots.sys.join("dev/block").join(&self.found.number);
        if !folder.exists() {
            return Some("the system no longer knows the device".into());
        }
        match self.file.as_ref().map(raw::device_size) {
            Some(Ok(Bytes(0))) => Some("its size is 0 now".into()),
            Some(Err(e)) => Some(format!("its size can no longer be read ({e})")),
            _ => match number::<u64>(folder.join("size")) {
                Some(0) => Some("its size is 0 now".into()),
                _ => None,
            },
        }
    }

    fn waiting(&self) -> Option<(Nanos, Bytes, usize)> {
        self.io.waiting(&self.clock)
    }

    fn flush(&mut self) -> Result<(), DriveError> {
        self.file.as_ref().map_or(Ok(()), File::sync_all).map_err(self.failed("flush the drive"))
    }

    fn discard(&mut self, start: Bytes, length: Bytes) -> Result<(), DriveError> {
        let Some(file) = self.file.as_ref().filter(|_| self.writes) else {
            return Err(DriveError::Unusable { why: "the drive is not open for writing".into() });
        };
        if start.0.checked_add(length.0).is_none_or(|end| end > self.found.capacity.0) {
            return Err(DriveError::Unusable { why: "a discard reaches behind the end of the drive".into() });
        }
        if !self.found.discard {
            return Err(DriveError::NotOffered { what: "discard" });
        }
        let end = start.0 + length.0;
        for at in (start.0..end).step_by(DISCARD as usize) {
            raw::discard(file, Bytes(at), Bytes(DISCARD.min(end - at))).map_err(|e| {
                match e.raw_os_error() {
                    Some(libc::EOPNOTSUPP) => DriveError::NotOffered { what: "discard" },
                    _ => self.failed("discard a part of the drive")(e),
                }
            })?;
        }
        Ok(())
    }

    fn readings(&mut self) -> Readings {
        let moved = self.disk().moved().zip(self.moved_at_open);
        let reading = self.sensors.as_ref().map(Sensors::reading).unwrap_or_default();
        Readings {
            temp: reading.temp,
            throttled: reading.throttled,
            warning: reading.warning,
            fill: self.told.fill,
            disk_moved: moved.map(|(now, then)| Bytes(now.0.saturating_sub(then.0))),
            ..Readings::default()
        }
    }

    fn ask_health(&mut self) {
        if let Some(sensors) = &mut self.sensors {
            sensors.ask();
        }
    }

    fn health_answer(&mut self) -> Option<Health> {
        self.sensors.as_mut()?.answer()
    }

    fn health(&mut self) -> Option<Health> {
        match &mut self.sensors {
            Some(_) if self.io.is_stalled() => None,
            Some(sensors) => sensors.wait(HEALTH_PATIENCE),
            None => Some(self.told.health.clone()),
        }
    }

    fn close(&mut self, _keep: bool) -> Result<(), DriveError> {
        self.io.stop();
        if let Some(file) = self.file.take().filter(|_| self.writes && !self.io.is_stalled()) {
            file.sync_all().map_err(self.failed("flush the drive"))?;
        }
        Ok(())
    }
}

impl BlockDrive {
    fn disk(&self) -> Disk {
        Disk { name: self.found.name.clone(), folder: self.found.folder.clone() }
    }
}
