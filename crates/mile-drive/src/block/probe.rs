//! Asks a drive itself: identity, limits and health, in whichever of the three standards it speaks.

use super::attributes::Transport;
use super::found::{Found, find_link};
use crate::ata::{self, AtaCommand, Identify, SmartData};
use crate::health::{Health, Page, TestKind};
use crate::nvme::extended::{self, Extended};
use crate::nvme::identify::{Controller, Namespace};
use crate::nvme::{self, HealthLog};
use crate::raw::{self, RawError};
use crate::scsi::{self, Inquiry};
use crate::sysfs::Roots;
use crate::{Limits, Link};
use mile_core::Celsius;
use serde::{Deserialize, Serialize};
use std::fs::{File, OpenOptions};
use std::os::unix::fs::OpenOptionsExt;

/// What a drive tells of itself.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Probe {
    /// Model.
    pub model: Option<String>,
    /// Serial number.
    pub serial: Option<String>,
    /// Firmware revision.
    pub firmware: Option<String>,
    /// Limits that it declares.
    pub limits: Limits,
    /// Range in which the host may set the temperatures of thermal management.
    pub managed: Option<(Celsius, Celsius)>,
    /// Share of it in use, 0 to 1, where it keeps count.
    pub fill: Option<f64>,
    /// Turns a minute; 0 for solid state.
    pub rpm: Option<u16>,
    /// Its link, where the drive knows more of it than the kernel.
    pub link: Option<Link>,
    /// Its health.
    pub health: Health,
}

/// Opens a drive to ask it. Neither waits for a medium nor wakes anybody who holds it.
pub(crate) fn open(found: &Found) -> std::io::Result<File> {
    OpenOptions::new().read(true).custom_flags(libc::O_NONBLOCK).open(&found.node)
}

/// Spins a disk up that sleeps, by a read of its first blocks.
///
/// # Errors
/// Where it cannot be read.
pub fn wake(found: &Found) -> std::io::Result<()> {
    use std::os::unix::fs::FileExt;
    let file = OpenOptions::new().read(true).custom_flags(libc::O_DIRECT).open(&found.node)?;
    let mut buffer = crate::io::pattern::Buffer::zeroed(4096);
    file.read_exact_at(buffer.bytes_mut(), 0)
}

/// The serial number that a drive tells on an open descriptor.
pub(crate) fn serial(transport: Transport, file: &File) -> Option<String> {
    let told = match transport {
        Transport::Nvme => {
            raw::nvme_identify(file, 1, 0).ok().and_then(|p| Controller::decode(&p)).map(|c| c.serial)
        }
        Transport::Sata | Transport::Usb | Transport::Sas | Transport::Scsi => {
            let ata = raw::ata(file, &AtaCommand::identify()).ok();
            let ata = ata.and_then(|(page, _)| Identify::decode(&page)).map(|i| i.serial);
            ata.or_else(|| {
                let page = raw::scsi_inquiry(file, Some(0x80)).ok()?;
                scsi::vpd(0x80, &page).map(|s| String::from_utf8_lossy(s).trim().to_owned())
            })
        }
        _ => None,
    };
    told.filter(|s| !s.is_empty())
}

/// What is asked of a drive: what it refuses is noted once, in words.
struct Asked {
    health: Health,
}

impl Asked {
    fn page<T>(
        &mut self,
        name: &str,
        what: &str,
        answer: Result<Vec<u8>, RawError>,
        read: impl Fn(&[u8]) -> Option<T>,
    ) -> Option<T> {
        match answer {
            Ok(bytes) => {
                let decoded = read(&bytes);
                if decoded.is_none() {
                    self.miss(what, "the drive's answer does not hold together");
                } else {
                    self.health.pages.push(Page::new(name, &bytes));
                }
                decoded
            }
            Err(e) => {
                self.miss(what, &e.to_string());
                None
            }
        }
    }

    fn miss(&mut self, what: &str, why: &str) {
        self.health.missing.push(format!("{what}: {why}"));
    }
}

/// Asks a drive for all that it tells. What it refuses, or what needs more rights, is said in the health's `missing`; the
/// kernel's sensor stands in for the temperature.
pub fn probe(roots: &Roots, found: &Found) -> Probe {
    let mut told = match (found.transport, open(found)) {
        (
            Transport::Loop
            | Transport::Virtio
            | Transport::Mapped
            | Transport::Array
            | Transport::Mmc
            | Transport::Other,
            _,
        ) => {
            let health = Health {
                missing: vec![format!("Health: not offered by a {}", found.transport.words())],
                ..Health::default()
            };
            Probe { health, ..Probe::default() }
        }
        (_, Err(e)) => {
            let why = format!(
                "Health: {} cannot be opened ({e}); it needs the rights of an administrator",
                found.node.display()
            );
            Probe { health: Health { missing: vec![why], ..Health::default() }, ..Probe::default() }
        }
        (Transport::Nvme, Ok(file)) => nvme_drive(&file),
        (_, Ok(file)) => scsi_drive(roots, found, &file),
    };
    if told.health.temperature.is_none() {
        told.health.temperature = found.temperature_file().and_then(|f| crate::sysfs::temperature(&f));
        if told.health.temperature.is_some() && told.health.source.is_empty() {
            told.health.source = "the kernel's sensor".into();
        }
    }
    told.limits.warn = told.limits.warn.or(found.sensor_limits.0);
    told.limits.critical = told.limits.critical.or(found.sensor_limits.1);
    told
}

fn nvme_drive(file: &File) -> Probe {
    let mut asked = Asked { health: Health::default() };
    let controller = asked.page(
        "NVMe Identify Controller",
        "Identity",
        raw::nvme_identify(file, 1, 0),
        Controller::decode,
    );
    let nsid = raw::nvme_namespace(file);
    let namespace = nsid.and_then(|n| raw::nvme_identify(file, 0, n));
    let namespace =
        asked.page("NVMe Identify Namespace", "Use of the namespace", namespace, Namespace::decode);
    let log = raw::nvme_log(file, 0x02, nvme::LENGTH);
    let log = asked.page("NVMe log 02h", "Health log", log, |b| HealthLog::decode(b).ok());
    let entries = usize::from(controller.as_ref().map_or(1, |c| c.error_entries.min(16)));
    let errors = raw::nvme_log(file, 0x01, entries * nvme::errors::ENTRY);
    let errors = asked.page("NVMe log 01h", "Error log", errors, |b| Some(nvme::errors::decode(b)));
    let tests = match controller.as_ref().map(|c| c.self_test) {
        Some(false) => Err(RawError::NotOffered),
        _ => raw::nvme_log(file, 0x06, nvme::selftest::LENGTH),
    };
    let mut tests = asked.page("NVMe log 06h", "Self-tests", tests, nvme::selftest::decode);
    if let Some(tests) = &mut tests {
        // Only that of an extended test is declared.
        let is_extended = tests.running.is_some_and(|r| r.0 == TestKind::Extended);
        tests.takes_min = controller.as_ref().and_then(|c| c.extended_minutes).filter(|_| is_extended);
    }
    let has_extended = controller.as_ref().is_some_and(|c| c.lists_logs)
        && raw::nvme_log(file, 0x00, extended::LIST)
            .is_ok_and(|list| extended::is_listed(&list, extended::LOG) == Some(true));
    let extended = has_extended.then(|| raw::nvme_log(file, extended::LOG, extended::LENGTH));
    // A log of the maker's own is no answer that does not hold together.
    let extended = extended.filter(|page| !page.as_ref().is_ok_and(|p| Extended::decode(p).is_none()));
    let extended =
        extended.and_then(|page| asked.page("OCP log C0h", "Extended health log", page, Extended::decode));
    let Asked { health: told } = asked;
    let health = Health {
        pages: told.pages,
        missing: told.missing,
        flash_written: extended.map(|e| e.media_written),
        errors: errors.unwrap_or_default(),
        self_test: tests,
        ..log.map(Health::of_nvme).unwrap_or_default()
    };
    let c = controller.unwrap_or_default();
    let some = |t: &String| Some(t.clone()).filter(|t| !t.is_empty());
    Probe {
        model: some(&c.model),
        serial: some(&c.serial),
        firmware: some(&c.firmware),
        limits: Limits { warn: c.warn, critical: c.critical },
        managed: c.managed,
        fill: namespace.and_then(|n| n.fill()),
        rpm: Some(0),
        link: None,
        health,
    }
}

fn scsi_drive(roots: &Roots, found: &Found, file: &File) -> Probe {
    // A disk that sleeps would be woken by most questions; whether it does is one that it answers asleep.
    let asleep =
        raw::ata(file, &AtaCommand::power_mode()).ok().and_then(|(_, r)| r).is_some_and(|r| r.count == 0);
    if asleep {
        let why = "Health: the disk is in standby and is not woken for it; it can be read once the disk runs";
        return Probe {
            health: Health { missing: vec![why.into()], asleep: true, ..Health::default() },
            ..Probe::default()
        };
    }
    match raw::ata(file, &AtaCommand::identify()).map(|(page, _)| (Identify::decode(&page), page)) {
        Ok((Some(identify), page)) => ata_drive(roots, found, file, identify, &page),
        _ => scsi_only(file),
    }
}

fn ata_drive(roots: &Roots, found: &Found, file: &File, id: Identify, page: &[u8]) -> Probe {
    let mut asked = Asked { health: Health { source: "ATA SMART".into(), ..Health::default() } };
    asked.health.pages.push(Page::new("ATA IDENTIFY DEVICE", page));
    let sector = |command: AtaCommand| raw::ata(file, &command).map(|(bytes, _)| bytes);
    let mut smart = None;
    if id.smart == (true, true) {
        let thresholds = sector(AtaCommand::smart(0xd1, 0, true)).ok();
        if let Some(t) = &thresholds {
            asked.health.pages.push(Page::new("ATA SMART thresholds", t));
        }
        let data = sector(AtaCommand::smart(0xd0, 0, true));
        smart =
            asked.page("ATA SMART data", "SMART data", data, |b| SmartData::decode(b, thresholds.as_deref()));
        match raw::ata(file, &AtaCommand::smart_status()).map(|(_, r)| r.and_then(|r| r.threshold_exceeded()))
        {
            Ok(Some(true)) => {
                asked
                    .health
                    .warnings
                    .push("a threshold is exceeded: it foretells its own failure (SMART status)".into());
            }
            Ok(Some(false)) => {}
            Ok(None) => asked.miss("SMART status", "the drive's answer does not hold together"),
            Err(e) => asked.miss("SMART status", &e.to_string()),
        }
    } else {
        let why = if id.smart.0 { "it is switched off in this drive" } else { "not offered by this drive" };
        asked.miss("SMART", why);
    }
    let list =
        if id.general_logs { sector(AtaCommand::read_log(0x04, 0)) } else { Err(RawError::NotOffered) };
    if let Some(pages) =
        asked.page("ATA log 04h page 0", "Device statistics", list, |b| Some(ata::statistics_pages(b)))
    {
        for number in pages {
            let name = format!("ATA log 04h page {number}");
            let answer = sector(AtaCommand::read_log(0x04, number.into()));
            let read = asked.page(&name, "Device statistics", answer, |b| Some(ata::statistics(b)));
            asked.health.statistics.extend(read.unwrap_or_default());
        }
    }
    let sct = if id.sct { sector(AtaCommand::smart(0xd5, 0xe0, true)) } else { Err(RawError::NotOffered) };
    let sct = asked
        .page("ATA log E0h", "SCT temperature", sct, |b| Some(ata::sct_temperatures(b)))
        .unwrap_or_default();
    let tests = smart.as_ref().filter(|s| s.self_test).map(|data| {
        let log = sector(AtaCommand::smart(0xd5, 0x06, true)).ok();
        if let Some(log) = &log {
            asked.health.pages.push(Page::new("ATA log 06h", log));
        }
        let mut tests = ata::self_test(data, log.as_deref());
        // The newer log has room for the address of any block.
        if id.general_logs
            && let Ok(first) = sector(AtaCommand::read_log(0x07, 0))
            && let Some(number) = ata::extended_tests_page(&first)
        {
            let page =
                if number == 0 { Ok(first.clone()) } else { sector(AtaCommand::read_log(0x07, number)) };
            let results = page.map(|page| ata::extended_tests(&first, &page)).unwrap_or_default();
            if !results.is_empty() {
                asked.health.pages.push(Page::new("ATA log 07h", &first));
                tests.results = results;
            }
        }
        tests
    });
    if tests.is_none() {
        asked.miss("Self-tests", "not offered by this drive");
    }
    let mut health = asked.health;
    let smart = smart.unwrap_or_default();
    let statistics = std::mem::take(&mut health.statistics);
    health.of_ata(&smart, statistics, u64::from(id.logical_block));
    health.temperature = health.temperature.or(sct.0).or(smart.temperature());
    health.highest = health.highest.or(sct.1);
    let warn = health.statistics.iter().find(|s| s.name == "specified maximum temperature");
    let limits = Limits { warn: warn.map(|s| Celsius(s.value as f64)), critical: None };
    health.self_test = tests;
    let some = |t: &String| Some(t.clone()).filter(|t| !t.is_empty());
    Probe {
        model: some(&id.model),
        serial: some(&id.serial),
        firmware: some(&id.firmware),
        limits,
        managed: None,
        fill: None,
        rpm: id.rpm,
        link: find_link(roots, found, id.sata_gb_s),
        health,
    }
}

fn scsi_only(file: &File) -> Probe {
    let mut asked = Asked { health: Health { source: "SCSI log pages".into(), ..Health::default() } };
    let inquiry = asked
        .page("SCSI INQUIRY", "Identity", raw::scsi_inquiry(file, None), Inquiry::decode)
        .unwrap_or_default();
    let serial = raw::scsi_inquiry(file, Some(0x80)).ok();
    let serial =
        serial.and_then(|p| scsi::vpd(0x80, &p).map(|s| String::from_utf8_lossy(s).trim().to_owned()));
    let rpm = raw::scsi_inquiry(file, Some(0xb1)).ok().and_then(|p| scsi::rpm(&p));
    let list =
        asked.page("SCSI log 00h", "Health", raw::scsi_log(file, 0), |b| Some(scsi::supported_logs(b)));
    let mut logs = scsi::Logs::default();
    if let Some(list) = list {
        let wanted = [
            (0x0d, "Temperature"),
            (0x2f, "Informational exceptions"),
            (0x0e, "Starts and stops"),
            (0x02, "Write errors"),
            (0x03, "Read errors"),
            (0x11, "Endurance"),
            (0x15, "Hours powered on"),
        ];
        for (page, what) in wanted {
            let answer =
                if list.contains(&page) { raw::scsi_log(file, page) } else { Err(RawError::NotOffered) };
            if let Some(bytes) =
                asked.page(&format!("SCSI log {page:02x}h"), what, answer, |b| Some(b.to_vec()))
            {
                logs.add(page, &bytes);
            }
        }
    }
    let mut health = asked.health;
    health.temperature = logs.temperature;
    health.used_pct = logs.used_pct;
    health.written = logs.processed.0;
    health.read = logs.processed.1;
    health.power_on_hours = logs.power_on_minutes.map(|m| m / 60);
    health.media_errors = match logs.uncorrected {
        (None, None) => None,
        (a, b) => Some(a.unwrap_or(0) + b.unwrap_or(0)),
    };
    for (name, value) in [("starts and stops", logs.starts), ("head loads", logs.loads)] {
        let value = value.and_then(|v| i64::try_from(v).ok());
        health.statistics.extend(value.map(|value| ata::Statistic {
            name: name.into(),
            value,
            unit: String::new(),
        }));
    }
    health.warnings.extend(logs.exception.map(scsi::exception_words));
    health.missing.push("Self-tests: not offered here for SCSI drives".into());
    let model = format!("{} {}", inquiry.vendor, inquiry.product).trim().to_owned();
    Probe {
        model: Some(model).filter(|m| !m.is_empty()),
        serial: serial.filter(|s| !s.is_empty()),
        firmware: Some(inquiry.revision).filter(|r| !r.is_empty()),
        limits: Limits { warn: logs.reference, critical: None },
        rpm,
        health,
        ..Probe::default()
    }
}

/// A request about self-tests.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TestRequest {
    /// Begin one that reads what the drive reads for it.
    Start(TestKind),
    /// Begin one of a stretch: its first and its last block. ATA only.
    Selective(u64, u64),
    /// End the one underway.
    Abort,
}

/// Asks a drive to begin or end a self-test. It runs in the drive; reads and writes go on.
pub fn request_test(found: &Found, request: TestRequest) -> Result<(), RawError> {
    use Transport::{Nvme, Sas, Sata, Scsi, Usb};
    if !matches!(found.transport, Nvme | Sata | Usb | Sas | Scsi) {
        return Err(RawError::NotOffered);
    }
    let file = open(found).map_err(|e| match e.kind() {
        std::io::ErrorKind::PermissionDenied => RawError::NotAllowed(e),
        _ => RawError::Io(e),
    })?;
    // An ATA drive would silently end the one underway (ACS-4, SMART EXECUTE OFF-LINE IMMEDIATE); an NVMe drive refuses.
    if request != TestRequest::Abort
        && let Some((kind, done)) = test_underway(found.transport, &file)
    {
        return Err(RawError::Underway { kind: kind.word(), done });
    }
    match found.transport {
        Transport::Nvme => {
            let page = raw::nvme_identify(&file, 1, 0)?;
            let ata_only = matches!(
                request,
                TestRequest::Start(TestKind::Conveyance | TestKind::Selective) | TestRequest::Selective(..)
            );
            if ata_only || Controller::decode(&page).is_some_and(|c| !c.self_test) {
                return Err(RawError::NotOffered);
            }
            raw::nvme_self_test(
                &file,
                match request {
                    TestRequest::Start(TestKind::Extended) => 2,
                    TestRequest::Start(_) | TestRequest::Selective(..) => 1,
                    TestRequest::Abort => 0xf,
                },
            )
        }
        _ => {
            if let TestRequest::Selective(first, last) = request {
                let (data, _) = raw::ata(&file, &AtaCommand::smart(0xd0, 0, true))?;
                if !SmartData::decode(&data, None).is_some_and(|d| d.selective) {
                    return Err(RawError::NotOffered);
                }
                raw::ata_give(&file, &AtaCommand::write_selective_log(), &ata::selective_log(first, last))?;
            }
            let code = match request {
                TestRequest::Selective(..) => 0x04,
                TestRequest::Start(TestKind::Extended) => 0x02,
                TestRequest::Start(TestKind::Conveyance) => 0x03,
                TestRequest::Start(_) => 0x01,
                TestRequest::Abort => 0x7f,
            };
            raw::ata(&file, &AtaCommand::smart(0xd4, code, false)).map(|_| ())
        }
    }
}

/// The kind, and percent done, of a self-test that is underway; `None` where none is, or the drive does not say.
fn test_underway(transport: Transport, file: &File) -> Option<(TestKind, u8)> {
    let tests = if transport == Transport::Nvme {
        nvme::selftest::decode(&raw::nvme_log(file, 0x06, nvme::selftest::LENGTH).ok()?)?
    } else {
        let (data, _) = raw::ata(file, &AtaCommand::smart(0xd0, 0, true)).ok()?;
        let log = raw::ata(file, &AtaCommand::smart(0xd5, 0x06, true)).ok();
        ata::self_test(&SmartData::decode(&data, None)?, log.as_ref().map(|(log, _)| log.as_slice()))
    };
    tests.running
}
