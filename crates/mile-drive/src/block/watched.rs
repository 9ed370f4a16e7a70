//! The drives below a stacked device while a run is on it: their temperatures, what each moves, and how busy each is.

use super::attributes::sensor_file;
use super::members::Member;
use crate::clock::Monotonic;
use crate::sensors::{Sensors, Source};
use crate::sysfs::{Counters, Disk, Roots};
use mile_core::{Bytes, Celsius, Nanos};
use std::fs;

/// The members of a device while a run is on it.
pub(super) struct Watched {
    /// Whether it may have a temperature, its counters, and its sensor.
    members: Vec<(bool, Option<Counters>, Option<Sensors>)>,
    /// What each had moved, and for how long it had been busy, when it was asked last.
    before: Vec<Option<(Bytes, Nanos)>>,
    clock: Monotonic,
    asked: Nanos,
}

impl Watched {
    /// Begins to watch them.
    pub(super) fn start(roots: &Roots, members: &[Member]) -> Self {
        let one = |m: &Member| {
            let kernel = sensor_file(&m.name, &m.folder).map(Source::Kernel);
            // A SATA drive of which the kernel shows no sensor is asked itself.
            let asked =
                || fs::File::open(roots.dev.join(&m.name)).ok().filter(|_| m.tells()).map(Source::Ata);
            let sensors = kernel.or_else(asked).map(|source| Sensors::start(source, None));
            let disk = Disk { name: m.name.clone(), folder: m.folder.clone() };
            (m.tells(), Counters::of(&disk), sensors)
        };
        let members: Vec<_> = members.iter().map(one).collect();
        let before = members.iter().map(|(_, counters, _)| counters.as_ref()?.since_start()).collect();
        Self { members, before, clock: Monotonic::start(), asked: Nanos(0) }
    }

    /// The temperature of the warmest of them.
    pub(super) fn warmest(&self) -> Option<Celsius> {
        let all = self.members.iter().filter_map(|(_, _, s)| s.as_ref()?.reading().temp);
        all.max_by(|a, b| a.0.total_cmp(&b.0))
    }

    /// The readings of [`channels`], in their order. What each moved, MB/s, and for what share of the time it had anything to do, %, are since the last
    /// call.
    pub(super) fn readings(&mut self) -> Vec<Option<f64>> {
        let now = self.clock.now();
        let seconds = now.since(self.asked).secs();
        self.asked = now;
        let mut all = Vec::new();
        for ((tells, counters, sensors), before) in self.members.iter().zip(&mut self.before) {
            if *tells {
                all.push(sensors.as_ref().and_then(|s| s.reading().temp).map(|t| t.0));
            }
            let now = counters.as_ref().and_then(Counters::since_start);
            let both = now.zip(*before).filter(|_| seconds > 0.0);
            all.push(both.map(|(now, then)| now.0.0.saturating_sub(then.0.0) as f64 / 1e6 / seconds));
            // The kernel counts its time in ticks of its own, and so may be a tick ahead.
            all.push(both.map(|(now, then)| (now.1.since(then.1).secs() / seconds * 100.0).min(100.0)));
            *before = now;
        }
        all
    }
}

/// Names and units of the channels that the members of a device give: a temperature where there is one, what each moves, and how busy it is.
pub(super) fn channels(members: &[Member]) -> Vec<(String, String)> {
    let of = |m: &Member| {
        let temp = m.tells().then(|| (m.name.clone(), "°C".to_owned()));
        let io = [("io", "MB/s"), ("busy", "%")];
        temp.into_iter().chain(io.map(|(what, unit)| (format!("{}-{what}", m.name), unit.to_owned())))
    };
    members.iter().flat_map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::super::attributes::Transport;
    use super::*;
    use std::path::Path;

    /// The counters of a disk that has moved so many bytes, and was busy for so many ms.
    fn stat(folder: &Path, bytes: u64, busy_ms: u64) {
        let half = bytes / 1024;
        fs::write(folder.join("stat"), format!("1 0 {half} 0 1 0 {half} 0 0 {busy_ms} 0\n")).unwrap();
    }

    #[test]
    fn what_each_member_moves_how_busy_and_how_warm_it_is_become_channels() {
        let tree = tempfile::tempdir().unwrap();
        let member = |name: &str| {
            let folder = tree.path().join(name);
            fs::create_dir_all(folder.join("device/hwmon/hwmon0")).unwrap();
            stat(&folder, 1 << 20, 5000);
            Member {
                name: name.into(),
                transport: Transport::Virtio,
                model: None,
                serial: None,
                link: None,
                temperature: None,
                folder,
            }
        };
        let all = [member("sda"), member("sdb")];
        fs::write(tree.path().join("sdb/device/hwmon/hwmon0/temp1_input"), "38000\n").unwrap();
        let names: Vec<String> =
            channels(&all).into_iter().map(|(name, unit)| format!("{name} {unit}")).collect();
        assert_eq!(names, ["sda-io MB/s", "sda-busy %", "sdb °C", "sdb-io MB/s", "sdb-busy %"]);
        let mut watched = Watched::start(&Roots::below(tree.path()), &all);
        watched.readings();
        let began = watched.asked;
        // Busy for 8 ms of at least 20, and for longer than the time that has passed: a tick ahead.
        stat(&tree.path().join("sda"), (1 << 20) + 50_003_968, 5008);
        stat(&tree.path().join("sdb"), 1 << 20, 1_000_000_000);
        watched.clock.sleep_until(began.plus(Nanos(20_000_000)));
        let readings = watched.readings();
        let [Some(a), Some(a_busy), Some(temp), Some(b), Some(b_busy)] = readings.as_slice() else {
            panic!("{readings:?}")
        };
        let seconds = watched.asked.since(began).secs();
        assert!((a * seconds - 50.0).abs() < 0.1, "{a} MB/s in {seconds} s");
        assert!((a_busy * seconds - 0.8).abs() < 1e-9, "{a_busy} % in {seconds} s");
        assert_eq!((*temp, *b, *b_busy), (38.0, 0.0, 100.0));
        assert_eq!(watched.warmest(), Some(Celsius(38.0)));
        // Counters that cannot be read are no reading, and not 0.
        fs::write(tree.path().join("sdb/stat"), "").unwrap();
        assert_eq!(watched.readings()[3..], [None, None]);
    }
}
