//! The health of a drive as one thing, whatever standard it was told in: what is known, what each page said, and what the drive
//! does not offer.

use crate::ata::{Attribute, SmartData, Statistic};
use crate::identity::Identity;
use crate::nvme::HealthLog;
use crate::nvme::errors::ErrorEntry;
pub use crate::selftest::{SelfTest, TestKind, TestResult};
use mile_core::health::{Counter, Origin, Snapshot};
use mile_core::units::thousands;
use mile_core::{Bytes, Celsius};
use serde::{Deserialize, Serialize};

/// Health of a drive at one moment. What is missing is `None`, never 0.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Health {
    /// Where it was read from, in words.
    pub source: String,
    /// Composite temperature.
    pub temperature: Option<Celsius>,
    /// Highest temperature over its life.
    pub highest: Option<Celsius>,
    /// Further sensors by name.
    pub sensors: Vec<(String, Celsius)>,
    /// Share of its rated life used, percent; may pass 100.
    pub used_pct: Option<u8>,
    /// Spare blocks left, percent.
    pub spare_pct: Option<u8>,
    /// Spare below which it warns, percent.
    pub spare_threshold_pct: Option<u8>,
    /// Bytes written over its life.
    pub written: Option<Bytes>,
    /// Bytes written to flash over its life, where it tells.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub flash_written: Option<Bytes>,
    /// Bytes read over its life.
    pub read: Option<Bytes>,
    /// Hours powered on.
    pub power_on_hours: Option<u64>,
    /// Power cycles.
    pub power_cycles: Option<u64>,
    /// Times that it lost power without warning.
    pub unsafe_shutdowns: Option<u64>,
    /// Errors of the medium that could not be corrected.
    pub media_errors: Option<u64>,
    /// Sectors reallocated, waiting for reallocation, uncorrectable offline.
    pub sectors: [Option<u64>; 3],
    /// What the drive itself warns of, in words.
    pub warnings: Vec<String>,
    /// The NVMe health log.
    pub nvme: Option<HealthLog>,
    /// The NVMe error log.
    pub errors: Vec<ErrorEntry>,
    /// The SMART attributes of an ATA drive.
    pub attributes: Vec<Attribute>,
    /// The device statistics of an ATA drive, the starts and loads of a SCSI one.
    pub statistics: Vec<Statistic>,
    /// Self-tests.
    pub self_test: Option<SelfTest>,
    /// Whether it is a disk in standby that was not woken for this.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub asleep: bool,
    /// What could not be had, in sentences.
    pub missing: Vec<String>,
    /// The pages as they were read.
    pub pages: Vec<Page>,
}

/// A page as it was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Page {
    /// Which: `NVMe log 02h`.
    pub name: String,
    /// Its bytes in hexadecimal digits; zeros at its end are cut off.
    pub hex: String,
}

impl Page {
    /// Keeps a page.
    pub fn new(name: &str, bytes: &[u8]) -> Self {
        let used = bytes.iter().rposition(|b| *b != 0).map_or(0, |i| i + 1);
        Self { name: name.to_owned(), hex: bytes[..used].iter().map(|b| format!("{b:02x}")).collect() }
    }
}

impl Health {
    /// Takes in what an ATA drive says of itself. The temperature is that of its statistics only.
    pub fn of_ata(&mut self, smart: &SmartData, statistics: Vec<Statistic>, logical_block: u64) {
        self.statistics = statistics;
        let statistic = |name: &str| self.statistics.iter().find(|s| s.name == name).map(|s| s.value);
        let unsigned = |name: &str| statistic(name).and_then(|v| u64::try_from(v).ok());
        let celsius = |name: &str| statistic(name).map(|v| Celsius(v as f64));
        let sectors = |name: &str| unsigned(name).map(|s| Bytes(s.saturating_mul(logical_block)));
        let [reallocated, pending, offline] = smart.sectors();
        let found = [
            unsigned("reallocated sectors").or(reallocated),
            unsigned("sectors waiting for reallocation").or(pending),
            offline,
        ];
        let used = unsigned("endurance used").and_then(|v| u8::try_from(v).ok());
        let (temperature, highest) = (celsius("temperature"), celsius("highest temperature"));
        let moved = (sectors("logical sectors written"), sectors("logical sectors read"));
        let hours = unsigned("power-on hours").or(smart.power_on_hours());
        let cycles = unsigned("power-on resets").or(smart.power_cycles());
        let errors = unsigned("uncorrectable errors reported");
        (self.temperature, self.highest, self.used_pct) = (temperature, highest, used);
        (self.written, self.read) = moved;
        (self.power_on_hours, self.power_cycles, self.media_errors) = (hours, cycles, errors);
        self.sectors = found;
        self.warnings.extend(smart.attributes.iter().filter(|a| a.failed()).map(|a| {
            let what = a.meaning.as_deref().map_or(String::new(), |m| format!(" ({m})"));
            format!("attribute {}{what} is at its threshold", a.id)
        }));
        self.attributes = smart.attributes.clone();
    }

    /// From an NVMe health log.
    pub fn of_nvme(log: HealthLog) -> Self {
        let small = |v: u128| u64::try_from(v).ok();
        let sensors =
            log.sensors.iter().enumerate().filter_map(|(i, t)| Some((format!("sensor {}", i + 1), (*t)?)));
        Self {
            source: "NVMe health log".into(),
            temperature: log.composite,
            sensors: sensors.collect(),
            used_pct: Some(log.percentage_used),
            spare_pct: Some(log.available_spare_pct),
            spare_threshold_pct: Some(log.spare_threshold_pct),
            written: Some(log.written()),
            read: Some(log.read()),
            power_on_hours: small(log.power_on_hours),
            power_cycles: small(log.power_cycles),
            unsafe_shutdowns: small(log.unsafe_shutdowns),
            media_errors: small(log.media_errors),
            warnings: log.warnings(),
            pages: vec![Page::new("NVMe log 02h", &log.encode())],
            nvme: Some(log),
            ..Self::default()
        }
    }

    /// What is different `after` it, in sentences without full stops. Temperatures, and counters that every second of use moves
    /// (bytes, commands, hours), are no change.
    pub fn changes(&self, after: &Self) -> Vec<String> {
        let mut said = Vec::new();
        for warning in after.warnings.iter().filter(|w| !self.warnings.contains(w)) {
            said.push(format!("The drive warns: {warning}"));
        }
        for warning in self.warnings.iter().filter(|w| !after.warnings.contains(w)) {
            said.push(format!("The drive no longer warns: {warning}"));
        }
        let mut counter = |name: &str, before: Option<u64>, now: Option<u64>| {
            if let (Some(a), Some(b)) = (before, now)
                && a != b
            {
                said.push(format!("{name}: {a}, now {b}"));
            }
        };
        let wide = |p: Option<u8>| p.map(u64::from);
        counter("Life used, %", wide(self.used_pct), wide(after.used_pct));
        counter("Spare left, %", wide(self.spare_pct), wide(after.spare_pct));
        counter("Power cycles", self.power_cycles, after.power_cycles);
        counter("Unsafe shutdowns", self.unsafe_shutdowns, after.unsafe_shutdowns);
        counter("Media errors", self.media_errors, after.media_errors);
        let names =
            ["Reallocated sectors", "Sectors waiting for reallocation", "Sectors uncorrectable offline"];
        for (i, name) in names.iter().enumerate() {
            counter(name, self.sectors[i], after.sectors[i]);
        }
        if let (Some(a), Some(b)) = (&self.nvme, &after.nvme) {
            let pairs = [
                ("Minutes above the warning temperature", a.minutes_above_warning, b.minutes_above_warning),
                (
                    "Minutes above the critical temperature",
                    a.minutes_above_critical,
                    b.minutes_above_critical,
                ),
                ("Times lightly throttled", a.light_transitions, b.light_transitions),
                ("Times heavily throttled", a.heavy_transitions, b.heavy_transitions),
            ];
            for (name, x, y) in pairs {
                counter(name, Some(x.into()), Some(y.into()));
            }
            let entries = |log: &HealthLog| u64::try_from(log.error_entries).ok();
            counter("Entries in the error log", entries(a), entries(b));
        }
        for now in &after.attributes {
            // Those are counted above, or move with every use.
            if matches!(now.id, 5 | 9 | 190 | 194 | 197 | 198 | 12 | 241 | 242) {
                continue;
            }
            let Some(before) = self.attributes.iter().find(|a| a.id == now.id) else { continue };
            if before.raw != now.raw
                && now.meaning.is_some()
                && matches!(now.id, 184 | 187 | 188 | 196 | 199 | 10)
            {
                let name = now.meaning.as_deref().unwrap_or_default();
                said.push(format!("Attribute {} ({name}): {}, now {}", now.id, before.raw, now.raw));
            }
            if now.failed() && !before.failed() {
                said.push(format!("Attribute {} has fallen to its threshold: {}", now.id, now.value));
            }
        }
        said
    }

    /// As a snapshot of a history: the same counters whatever standard they were told in.
    pub fn snapshot(&self, at: i64, origin: Origin, identity: &Identity, port: Option<&str>) -> Snapshot {
        let statistic = |name: &str| {
            self.statistics.iter().find(|s| s.name == name).and_then(|s| u64::try_from(s.value).ok())
        };
        let attribute = |id: u8| self.attributes.iter().find(|a| a.id == id).map(|a| a.raw);
        let failed =
            |t: &SelfTest| t.results.iter().filter(|r| !r.passed && is_failure(&r.words)).count() as u64;
        let nvme =
            |of: &dyn Fn(&HealthLog) -> u128| self.nvme.as_ref().and_then(|log| u64::try_from(of(log)).ok());
        let all = [
            (Counter::PendingSectors, self.sectors[1]),
            (Counter::UncorrectableSectors, self.sectors[2]),
            (Counter::MediaErrors, self.media_errors.or_else(|| attribute(187))),
            (Counter::ReallocatedSectors, self.sectors[0]),
            (Counter::FailedSelfTests, self.self_test.as_ref().map(failed)),
            (Counter::LinkErrors, statistic("interface checksum errors").or_else(|| attribute(199))),
            // Three counts of 16 bits; the lowest is that of commands.
            (Counter::CommandTimeouts, attribute(188).map(|raw| raw & 0xffff)),
            (Counter::ErrorLogEntries, nvme(&|l| l.error_entries)),
            (Counter::SparePct, self.spare_pct.map(u64::from)),
            (Counter::SpareThresholdPct, self.spare_threshold_pct.map(u64::from)),
            (Counter::UnsafeShutdowns, self.unsafe_shutdowns.or_else(|| attribute(192))),
            (Counter::MinutesAboveCritical, nvme(&|l| l.minutes_above_critical.into())),
            (Counter::MinutesAboveWarning, nvme(&|l| l.minutes_above_warning.into())),
            (Counter::HeavyThrottles, nvme(&|l| l.heavy_transitions.into())),
            (Counter::HeavyThrottleSeconds, nvme(&|l| l.heavy_seconds.into())),
            (Counter::LightThrottles, nvme(&|l| l.light_transitions.into())),
            (Counter::LightThrottleSeconds, nvme(&|l| l.light_seconds.into())),
            (Counter::UsedPct, self.used_pct.map(u64::from)),
            (Counter::WrittenBytes, self.written.map(|b| b.0)),
            (Counter::ReadBytes, self.read.map(|b| b.0)),
            (Counter::FlashWrittenBytes, self.flash_written.map(|b| b.0)),
            (Counter::PowerCycles, self.power_cycles),
            (Counter::PowerOnHours, self.power_on_hours),
        ];
        Snapshot {
            at,
            origin,
            firmware: identity.firmware.clone(),
            port: port.map(str::to_owned),
            temperature_c: self.temperature.map(|t| t.0),
            highest_c: self.highest.map(|t| t.0),
            warnings: self.warnings.clone(),
            counters: all.into_iter().filter_map(|(c, v)| Some((c, v?))).collect(),
        }
    }

    /// One line: the figures that are known.
    pub fn line(&self) -> String {
        let mut parts = Vec::new();
        parts.extend(self.used_pct.map(|p| format!("{p} % of its life used")));
        parts.extend(self.spare_pct.map(|p| format!("{p} % spare")));
        parts.extend(self.written.map(|b| format!("{b} written")));
        parts.extend(self.power_on_hours.map(|h| format!("{} h powered on", thousands(&h.to_string()))));
        parts.extend(self.sectors[0].map(|s| format!("{s} sectors reallocated")));
        parts.extend(self.media_errors.filter(|e| *e > 0).map(|e| format!("{e} media errors")));
        if parts.is_empty() { "the drive tells nothing of its health".into() } else { parts.join(", ") }
    }
}

/// Whether a self-test that did not pass failed, and was not ended by somebody.
fn is_failure(words: &str) -> bool {
    !["aborted", "interrupted", "in progress"].iter().any(|w| words.contains(w))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_changed_is_said_and_what_did_not_is_not() {
        let before =
            Health::of_nvme(HealthLog { percentage_used: 4, host_writes: 1, ..HealthLog::default() });
        assert!(before.changes(&before).is_empty());
        let after = Health::of_nvme(HealthLog {
            percentage_used: 5,
            critical_warning: 4,
            media_errors: 2,
            light_transitions: 3,
            host_writes: 99,
            composite: Some(Celsius(70.0)),
            ..HealthLog::default()
        });
        assert_eq!(
            before.changes(&after),
            [
                "The drive warns: reliability is degraded by media or internal errors",
                "Life used, %: 4, now 5",
                "Media errors: 0, now 2",
                "Times lightly throttled: 0, now 3",
            ]
        );
        assert_eq!(
            after.changes(&before)[0],
            "The drive no longer warns: reliability is degraded by media or internal errors"
        );
    }

    #[test]
    fn a_page_keeps_its_bytes() {
        assert_eq!(Page::new("x", &[0, 255, 16, 0, 0]).hex, "00ff10");
        assert_eq!(Page::new("x", &[0, 0]).hex, "");
    }
}
