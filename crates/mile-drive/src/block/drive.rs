//! A block device as a drive.
//!
//! What stands between a run and somebody's data is in `permit.rs`; the descriptor comes from there.

use super::attributes::Transport;
use super::found::{Found, look};
use super::members;
use super::permit::{Consent, Request};
use super::probe::{self, Probe, TestRequest};
use super::watched::{self, Watched};
use crate::clock::Monotonic;
use crate::drive::{
    Drive, DriveError, Facts, Failure, Identity, Limits, Narrowed, Readings, Situation, Transfer,
};
use crate::health::{Health, TestKind};
use crate::io::{EngineChoice, Io};
use crate::pending::Pending;
use crate::pipe::PipeEnd;
use crate::raw::{self, RawError};
use crate::sensors::{Sensors, Source};
use crate::sysfs::{Counters, Disk, Roots, number};
use crate::tally::Tally;
use mile_core::{Bytes, Nanos, RunId};
use std::fs::File;
use std::io;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;
use std::time::Duration;

/// Longest wait for the health at the end of a run.
const HEALTH_PATIENCE: Duration = Duration::from_secs(15);
/// Bytes of one discard: a large one may hold a drive for minutes.
const DISCARD: u64 = 1 << 30;

/// A block device as a drive.
pub struct BlockDrive {
    roots: Roots,
    found: Found,
    told: Probe,
    identity: Identity,
    consent: Consent,
    io: Io,
    writes: bool,
    /// What the run will write over.
    over: Vec<(Bytes, Bytes)>,
    file: Option<File>,
    sensors: Option<Sensors>,
    /// The drives that it is built on.
    watched: Option<Watched>,
    counters: Option<Counters>,
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
            over: Vec::new(),
            file: None,
            sensors: None,
            watched: None,
            counters: None,
            clock: Monotonic::start(),
            start_at: Nanos(0),
        })
    }

    fn failed(&self, doing: &'static str) -> impl Fn(io::Error) -> DriveError + use<> {
        let path = self.found.node.clone();
        move |source| DriveError::Io { path: path.clone(), doing, source }
    }

    fn request(&self) -> Request<'_> {
        Request {
            roots: &self.roots,
            found: &self.found,
            told: &self.told,
            consent: &self.consent,
            over: &self.over,
        }
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
            has_temperature: self.told.health.temperature.or(self.found.temperature).is_some(),
            readable: true,
            cache: None,
            files: None,
            in_use: None,
        }
    }

    fn limits(&self) -> Limits {
        self.told.limits
    }

    fn situation(&self) -> Situation {
        let degraded =
            self.identity.link.as_ref().filter(|l| l.is_degraded()).map(|l| format!("link {}", l.sentence()));
        let members: Vec<String> = self.found.members.iter().map(members::Member::line).collect();
        let notes = degraded.or_else(|| (!members.is_empty()).then(|| members.join("; ")));
        Situation { slot: self.found.slot.clone(), notes, ..Situation::default() }
    }

    fn is_virtual(&self) -> bool {
        false
    }

    fn will_write_over(&mut self, stretches: &[(Bytes, Bytes)]) {
        self.over = stretches.to_vec();
    }

    fn check_consent(&mut self, writes: bool) -> Result<(), DriveError> {
        self.writes = writes;
        if !writes {
            return Ok(());
        }
        self.request().check()
    }

    fn set_run(&mut self, run: RunId) {
        self.io.set_run(run);
    }

    fn holds(&mut self, at: Bytes) -> Result<bool, DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the drive is not open".into() });
        };
        self.io.holds(file, at, self.found.logical_block).map_err(self.failed("read back from the drive"))
    }

    fn start_at(&mut self, at: Nanos) {
        self.start_at = at;
    }

    fn set_clock(&mut self, clock: Monotonic) {
        self.clock = clock;
    }

    fn open(&mut self) -> Result<(), DriveError> {
        let file =
            if self.writes { self.request().open_to_write()? } else { self.request().open_to_read()? };
        let source = match (self.found.transport, probe::open(&self.found)) {
            (Transport::Nvme, Ok(raw)) if self.told.health.nvme.is_some() => Source::Nvme(raw),
            (_, raw) => match (self.found.temperature_file(), raw) {
                (Some(file), _) => Source::Kernel(file),
                (None, Ok(raw)) if !self.told.health.attributes.is_empty() => Source::Ata(raw),
                _ => Source::None,
            },
        };
        self.sensors = Some(Sensors::start(source, Some((self.roots.clone(), self.found.clone()))));
        self.watched =
            Some(&self.found.members).filter(|m| !m.is_empty()).map(|m| Watched::start(&self.roots, m));
        self.file = Some(file);
        self.clock = Monotonic::start_at(self.start_at);
        self.counters = Counters::of(&self.disk());
        Ok(())
    }

    fn channels(&self) -> Vec<(String, String)> {
        watched::channels(&self.found.members)
    }

    fn channel_readings(&mut self) -> Vec<Option<f64>> {
        self.watched.as_mut().map(Watched::readings).unwrap_or_default()
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

    fn join(&mut self, end: Option<PipeEnd>) {
        self.io.join(end);
    }

    fn begin(&mut self, transfer: &Transfer) -> Result<(), DriveError> {
        let Some(file) = &self.file else {
            return Err(DriveError::Unusable { why: "the drive is not open".into() });
        };
        if !self.writes && transfer.load.op != mile_core::Op::Read {
            return Err(DriveError::Unusable { why: "the drive is open for reading only".into() });
        }
        self.io.begin(file, transfer, self.found.capacity, self.found.logical_block, self.clock)
    }

    fn advance(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.io.advance(&self.clock, until, tally)
    }

    fn drain(&mut self, until: Nanos, tally: &mut Tally) -> Result<bool, DriveError> {
        self.io.drain(&self.clock, until, tally)
    }

    fn abandon(&mut self) {
        self.io.abandon();
    }

    fn narrow(&mut self, failure: &Failure, patience: Nanos) -> Pending<Narrowed> {
        let Some(file) = &self.file else { return Pending::done(Narrowed::default()) };
        self.io.narrow(file, failure, self.found.logical_block, patience)
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

    fn waiting(&self) -> Option<(Nanos, Option<Bytes>, usize)> {
        self.io.waiting(&self.clock)
    }

    fn begin_self_test(&mut self, kind: TestKind, over: (Bytes, Bytes)) -> Result<(), DriveError> {
        let block = self.found.logical_block.0.max(1);
        let request = match kind {
            TestKind::Selective => TestRequest::Selective(over.0.0 / block, (over.1.0 / block).max(1) - 1),
            kind => TestRequest::Start(kind),
        };
        probe::request_test(&self.found, request).map_err(|e| match e {
            RawError::NotOffered => DriveError::NotOffered { what: "self-tests of this kind" },
            other => DriveError::Unusable { why: format!("self-tests: {other}") },
        })
    }

    fn end_self_test(&mut self) {
        // It was asked for as a courtesy; how the test ended stands in the drive's own log.
        let _ = probe::request_test(&self.found, TestRequest::Abort);
    }

    fn flush(&mut self) -> Pending<Result<(), DriveError>> {
        self.io.flush(self.file.as_ref().filter(|_| self.writes), self.failed("flush the drive"))
    }

    fn discard(&mut self, start: Bytes, length: Bytes) -> Pending<Result<(), DriveError>> {
        let unusable = |why: &str| Pending::done(Err(DriveError::Unusable { why: why.into() }));
        let Some(file) = self.file.as_ref().filter(|_| self.writes) else {
            return unusable("the drive is not open for writing");
        };
        if start.0.checked_add(length.0).is_none_or(|end| end > self.found.capacity.0) {
            return unusable("a discard reaches behind the end of the drive");
        }
        if !self.found.discard {
            return Pending::done(Err(DriveError::NotOffered { what: "discard" }));
        }
        let failed = self.failed("discard a part of the drive");
        let file = match file.try_clone() {
            Ok(file) => file,
            Err(e) => return Pending::done(Err(failed(e))),
        };
        let end = start.0 + length.0;
        Pending::on_thread("discard", move || {
            (start.0..end).step_by(DISCARD as usize).try_for_each(|at| {
                raw::discard(&file, Bytes(at), Bytes(DISCARD.min(end - at))).map_err(|e| {
                    match e.raw_os_error() {
                        Some(libc::EOPNOTSUPP) => DriveError::NotOffered { what: "discard" },
                        _ => failed(e),
                    }
                })
            })
        })
    }

    fn readings(&mut self) -> Readings {
        let reading = self.sensors.as_ref().map(Sensors::reading).unwrap_or_default();
        Readings {
            temp: reading.temp.or_else(|| self.watched.as_ref()?.warmest()),
            throttled: reading.throttled,
            warning: reading.warning,
            fill: self.told.fill,
            disk_moved: self.counters.as_ref().and_then(Counters::moved),
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
        self.watched = None;
        self.file = None;
        Ok(())
    }
}

impl BlockDrive {
    fn disk(&self) -> Disk {
        Disk { name: self.found.name.clone(), folder: self.found.folder.clone() }
    }
}
