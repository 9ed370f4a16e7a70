//! What the host did meanwhile: processor time stolen from it, and used by this process.

use crate::clock::nanoseconds;
use mile_core::Bytes;
use rustix::time::ClockId;
use std::fs::File;
use std::os::unix::fs::FileExt;
use std::sync::OnceLock;

/// Shares of processor time between two readings.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct HostReadings {
    /// Stolen by the hypervisor, share of all processors' time.
    pub steal: Option<f64>,
    /// Used by this process, share of one processor.
    pub cpu: Option<f64>,
}

/// Time after which the system is asked again, ns: it counts in ticks of 10 ms, and on a large computer takes long to list all its counters. Less than the
/// tenth of a second that samples often take.
const LEAST: u64 = 90_000_000;

/// Reads `/proc/stat` and the process's own processor time.
#[derive(Debug)]
pub struct Host {
    stat: Option<File>,
    last: Option<(u64, u64)>,
    last_cpu: Option<(u64, u64)>,
    told: Option<HostReadings>,
}

impl Host {
    /// Opens the readings; where a source is missing its reading will be `None`.
    pub fn new() -> Self {
        let mut host = Self { stat: File::open("/proc/stat").ok(), last: None, last_cpu: None, told: None };
        host.ask(nanoseconds(ClockId::Monotonic));
        host
    }

    /// Shares since the last reading; where that was just now, those of then.
    pub fn read(&mut self) -> HostReadings {
        self.read_when(nanoseconds(ClockId::Monotonic))
    }

    fn read_when(&mut self, now: u64) -> HostReadings {
        let is_fresh = self.last_cpu.is_some_and(|(then, _)| now.saturating_sub(then) < LEAST);
        if let Some(told) = self.told.filter(|_| is_fresh) {
            return told;
        }
        let told = self.ask(now);
        self.told = Some(told);
        told
    }

    fn ask(&mut self, wall_now: u64) -> HostReadings {
        let mut buffer = [0; 512];
        let now = self
            .stat
            .as_ref()
            .and_then(|f| f.read_at(&mut buffer, 0).ok())
            .and_then(|n| parse_stat(std::str::from_utf8(&buffer[..n]).ok()?));
        let steal = now.zip(self.last).and_then(|((all, stolen), (all_before, stolen_before))| {
            let passed = all.saturating_sub(all_before);
            (passed > 0).then(|| stolen.saturating_sub(stolen_before) as f64 / passed as f64)
        });
        self.last = now;
        let cpu_now = (wall_now, nanoseconds(ClockId::ProcessCPUTime));
        let cpu = self.last_cpu.and_then(|(wall, used)| {
            let passed = cpu_now.0.saturating_sub(wall);
            (passed > 0).then(|| cpu_now.1.saturating_sub(used) as f64 / passed as f64)
        });
        self.last_cpu = Some(cpu_now);
        HostReadings { steal, cpu }
    }
}

/// This machine's memory, as it was when it was asked for first; 0 where the system does not tell.
pub fn memory() -> Bytes {
    static MEMORY: OnceLock<Bytes> = OnceLock::new();
    *MEMORY.get_or_init(|| {
        let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
        let total =
            text.lines().find_map(|l| l.strip_prefix("MemTotal:")?.split_whitespace().next()?.parse().ok());
        Bytes(total.unwrap_or(0_u64) * 1024)
    })
}

impl Default for Host {
    fn default() -> Self {
        Self::new()
    }
}

/// All and stolen processor time, in ticks, from the first line of `/proc/stat` (user nice system idle iowait irq
/// softirq steal; guest time is counted in user time already).
fn parse_stat(text: &str) -> Option<(u64, u64)> {
    let mut fields =
        text.lines().next()?.strip_prefix("cpu ")?.split_whitespace().map_while(|f| f.parse::<u64>().ok());
    let times: Vec<u64> = fields.by_ref().take(8).collect();
    (times.len() == 8).then(|| (times.iter().sum(), times[7]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steal_is_the_eighth_field() {
        assert_eq!(parse_stat("cpu  10 20 30 40 50 60 70 80 90 100\ncpu0 1\n"), Some((360, 80)));
        assert_eq!(parse_stat("cpu  10 20\n"), None);
        assert_eq!(parse_stat(""), None);
    }

    #[test]
    fn the_system_is_asked_ten_times_a_second_at_most() {
        let mut host = Host::new();
        let (began, _) = host.last_cpu.unwrap();
        let before = HostReadings { steal: Some(0.5), cpu: Some(1e9) };
        host.told = Some(before);
        assert_eq!(host.read_when(began + LEAST - 1), before);
        let after = host.read_when(began + LEAST);
        assert!(after != before && after.cpu.is_some(), "{after:?}");
        assert_eq!(host.read_when(began + LEAST + 1), after);
    }
}
