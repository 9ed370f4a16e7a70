//! The health of a simulated drive, in the bytes of the standards, so that what reads real logs reads these too.

use crate::model::HealthKind;
use crate::{SimDrive, Thermal};
use mile_core::Celsius;
use mile_drive::ata::{self, SmartData};
use mile_drive::health::{Health, Page, SelfTest};
use mile_drive::nvme::{DATA_UNIT, HealthLog};

impl SimDrive {
    /// Its health, where it tells.
    pub(crate) fn health_now(&mut self) -> Option<Health> {
        let (hours, block) = (self.hours(), self.model.geometry.logical_block);
        let planted = self.model.health.self_test_fails_at;
        let (medium, end) = (&self.medium, self.model.geometry.capacity_bytes);
        let bad = |from: u64, to: u64| {
            let within = |b: &u64| (from..to.min(end)).contains(&b.saturating_mul(block));
            planted.filter(within).into_iter().chain(medium.first_unreadable(from, to)).min()
        };
        if let Some(failed) = self.tests.step(self.now, hours, block, bad) {
            // The drive remembers the sector, as after a read of the host.
            let _ = self.medium.fails(false, failed * block, block);
        }
        match self.model.health.kind {
            HealthKind::Nvme => {
                let log = self.tests.nvme(self.now);
                let mut all = Health::of_nvme(self.health_log());
                all.self_test = mile_drive::nvme::selftest::decode(&log);
                all.pages.push(Page::new("NVMe log 06h", &log));
                Some(all)
            }
            HealthKind::Ata => Some(self.ata_health()),
            HealthKind::None => None,
        }
    }

    fn used_pct(&self) -> u8 {
        let rated = self.model.claims.endurance_tb * 1e12;
        let worn = (self.written as f64 / rated * 100.0) as u8;
        self.model.health.percentage_used.saturating_add(worn)
    }

    pub(crate) fn hours(&self) -> u64 {
        self.model.health.power_on_hours + self.now / 3_600_000_000_000
    }

    pub(crate) fn health_log(&self) -> HealthLog {
        let health = &self.model.health;
        let units =
            |tb: f64, bytes: u64| ((tb * 1e12) as u128 + u128::from(bytes)).div_ceil(u128::from(DATA_UNIT));
        let total_written = health.written_tb * 1e12 + self.written as f64;
        let rated = self.model.claims.endurance_tb * 1e12;
        let heat: &Thermal = &self.heat;
        let mut sensors = [None; 8];
        sensors[0] = Some(Celsius(heat.die.round()));
        sensors[1] = Some(Celsius(heat.body.round()));
        let page = HealthLog {
            critical_warning: u8::from(heat.composite >= self.model.thermal.warn_c) << 1,
            composite: Some(Celsius(heat.composite)),
            available_spare_pct: if total_written < rated { 100 } else { 90 },
            spare_threshold_pct: 10,
            percentage_used: self.used_pct(),
            data_units_read: units(health.read_tb, self.read),
            data_units_written: units(health.written_tb, self.written),
            host_reads: u128::from(self.ops[0]) + (health.read_tb * 1e12 / 131_072.0) as u128,
            host_writes: u128::from(self.ops[1]) + (health.written_tb * 1e12 / 131_072.0) as u128,
            busy_minutes: u128::from(self.busy_ns / 60_000_000_000),
            power_cycles: u128::from(health.power_cycles),
            power_on_hours: u128::from(self.hours()),
            unsafe_shutdowns: u128::from(health.unsafe_shutdowns),
            media_errors: 0,
            error_entries: 0,
            minutes_above_warning: (heat.above_warn_s / 60.0) as u32,
            minutes_above_critical: (heat.above_critical_s / 60.0) as u32,
            sensors,
            light_transitions: heat.light_transitions,
            heavy_transitions: heat.heavy_transitions,
            light_seconds: heat.light_s as u32,
            heavy_seconds: heat.heavy_s as u32,
        }
        .encode();
        HealthLog::decode(&page).unwrap_or_default()
    }

    /// SMART data and device statistics, ATA Command Set - 4.
    fn ata_health(&self) -> Health {
        let health = &self.model.health;
        let block = self.model.geometry.logical_block;
        let sectors = |tb: f64, bytes: u64| (tb * 1e12) as u64 / block + bytes / block;
        let mut data = [0_u8; 512];
        let (elsewhere, pending) = self.medium.bad_sectors();
        let attributes = [
            (5, elsewhere),
            (9, self.hours()),
            (12, health.power_cycles),
            (192, health.unsafe_shutdowns),
            (194, self.heat.composite as u64),
            (197, pending),
            (198, pending),
        ];
        for (slot, (id, raw)) in data[2..362].chunks_exact_mut(12).zip(attributes) {
            (slot[0], slot[1], slot[3], slot[4]) = (id, 2, 100, 100);
            slot[5..11].copy_from_slice(&raw.to_le_bytes()[..6]);
        }
        let (status, mut log) = self.tests.ata(self.now);
        // That it can test itself, also for damage on the way and a stretch alone, and how that stands.
        (data[363], data[367]) = (status, 0b111 << 4);
        let mut newer = self.tests.ata_extended();
        for page in [&mut data, &mut log, &mut newer] {
            seal(page);
        }
        // Statistics: 56 bits of value under flags that say supported and valid.
        let page = |number: u8, values: &[(usize, u64)]| {
            let mut page = [0_u8; 512];
            (page[0], page[2]) = (1, number);
            for (at, value) in values {
                page[*at..at + 8].copy_from_slice(&(value | 0xc0 << 56).to_le_bytes());
            }
            page
        };
        let general = page(
            1,
            &[
                (8, health.power_cycles),
                (16, self.hours()),
                (24, sectors(health.written_tb, self.written)),
                (40, sectors(health.read_tb, self.read)),
            ],
        );
        let solid = page(7, &[(8, u64::from(self.used_pct()))]);
        let pages =
            [("ATA SMART data", &data), ("ATA log 04h page 1", &general), ("ATA log 04h page 7", &solid)];
        let smart = SmartData::decode(&data, None).unwrap_or_default();
        let statistics = [ata::statistics(&general), ata::statistics(&solid)].concat();
        let mut all = Health {
            source: "ATA SMART".into(),
            pages: pages.iter().map(|(name, bytes)| Page::new(name, *bytes)).collect(),
            self_test: Some(SelfTest {
                results: ata::extended_tests(&newer, &newer),
                ..ata::self_test(&smart, Some(&log))
            }),
            ..Health::default()
        };
        all.of_ata(&smart, statistics, block);
        all.temperature = smart.temperature();
        all
    }
}

/// Makes the sum of all bytes 0, as SMART sectors are checked.
fn seal(sector: &mut [u8; 512]) {
    let sum = sector[..511].iter().fold(0_u8, |sum, b| sum.wrapping_add(*b));
    sector[511] = sum.wrapping_neg();
}
