//! One interval of a run, as it is measured, logged and analysed.

use crate::units::{Bytes, Celsius, Nanos, Rate};
use serde::{Deserialize, Serialize};

/// What a leg does to the drive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Op {
    /// Writes only.
    #[default]
    Write,
    /// Reads only.
    Read,
    /// Reads and writes together.
    Mixed,
    /// No load from the run.
    Idle,
}

impl Op {
    /// The word used in files and on screens.
    pub fn word(self) -> &'static str {
        match self {
            Self::Write => "write",
            Self::Read => "read",
            Self::Mixed => "mixed",
            Self::Idle => "idle",
        }
    }
}

impl std::str::FromStr for Op {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        [Self::Write, Self::Read, Self::Mixed, Self::Idle]
            .into_iter()
            .find(|op| op.word().eq_ignore_ascii_case(text))
            .ok_or(())
    }
}

/// Latency of the operations that completed in one interval. Values are in nanoseconds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Latency {
    /// Median.
    pub p50: Nanos,
    /// 99th percentile.
    pub p99: Nanos,
    /// 99.9th percentile.
    pub p999: Nanos,
    /// Slowest operation.
    pub max: Nanos,
}

/// Cumulative time that the drive counts as throttled, since the start of the run.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Throttled {
    /// Seconds of light throttling.
    pub light_s: f64,
    /// Seconds of heavy throttling.
    pub heavy_s: f64,
}

/// Processor time of the host in one interval.
#[derive(Clone, Copy, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Host {
    /// Share stolen by the hypervisor, 0 to 1.
    pub steal: Option<f32>,
    /// What this process used, as a share of one processor.
    pub cpu: Option<f32>,
}

/// One interval of a run. A missing reading is `None`, never 0.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Sample {
    /// Monotonic start of the interval, since the start of the run.
    pub start: Nanos,
    /// Monotonic end of the interval.
    pub end: Nanos,
    /// Index of the leg in the run's list of legs.
    pub leg: u32,
    /// What the leg does.
    pub op: Op,
    /// Bytes written in the interval.
    pub written: Bytes,
    /// Bytes read in the interval.
    pub read: Bytes,
    /// Operations completed in the interval.
    pub ops: u64,
    /// Address at which the first operation of the interval began.
    pub offset: Option<Bytes>,
    /// One past the highest byte touched in the interval.
    pub reach: Option<Bytes>,
    /// Latency of the operations, where any completed.
    pub latency: Option<Latency>,
    /// Composite temperature of the drive.
    pub temp: Option<Celsius>,
    /// Temperature of the air around it.
    pub ambient: Option<Celsius>,
    /// Throttle counters, where the drive keeps them.
    pub throttled: Option<Throttled>,
    /// Bytes a second that others moved on the same drive.
    pub foreign: Option<Rate>,
    /// What the host did meanwhile.
    pub host: Host,
    /// Share of the drive in use, 0 to 1.
    pub fill: Option<f32>,
    /// Failed operations in the interval.
    pub errors: u32,
}

impl Sample {
    /// Bytes moved in the interval, in either direction.
    pub fn moved(&self) -> Bytes {
        Bytes(self.written.0 + self.read.0)
    }

    /// Mean rate in the interval, or `None` for an interval of no length.
    pub fn rate(&self) -> Option<Rate> {
        Rate::over(self.moved(), self.end.since(self.start))
    }
}

/// Latest time that a sample can have: 300 years, within what nanoseconds can count.
const LATEST: Nanos = Nanos(9_400_000_000_000_000_000);
/// Most that a run can have moved: more than any drive in its life, and sums of two can still be counted.
const MOST_MOVED: u64 = 1 << 62;

/// Looks at samples that come from outside of this process, in their order: from a file or a socket that may be damaged.
#[derive(Clone, Copy, Debug, Default)]
pub struct Order {
    end: Nanos,
    moved: u64,
}

impl Order {
    /// Takes the next sample.
    ///
    /// # Errors
    /// Why it cannot be one of a run that follows on those before.
    pub fn take(&mut self, sample: &Sample) -> Result<(), &'static str> {
        if sample.start < self.end || sample.end < sample.start || sample.end > LATEST {
            return Err("the times of its samples are not in order");
        }
        let sum = [sample.written.0, sample.read.0].into_iter().try_fold(self.moved, u64::checked_add);
        let Some(moved) = sum.filter(|m| *m <= MOST_MOVED) else {
            return Err("its samples moved more bytes than can be counted");
        };
        let (throttled, shares) =
            (sample.throttled.unwrap_or_default(), [sample.host.steal, sample.host.cpu, sample.fill]);
        let numbers = [
            sample.temp.map_or(0.0, |t| t.0),
            sample.ambient.map_or(0.0, |t| t.0),
            sample.foreign.map_or(0.0, |r| r.0),
            throttled.light_s,
            throttled.heavy_s,
        ];
        if !numbers.into_iter().chain(shares.into_iter().flatten().map(f64::from)).all(f64::is_finite) {
            return Err("a reading of its samples is no number");
        }
        (self.end, self.moved) = (sample.end, moved);
        Ok(())
    }
}

/// Samples as a logbook keeps them: in postcard's encoding, in the order of their fields.
///
/// # Errors
/// Where they cannot be written in it.
pub fn packed(samples: &[Sample]) -> Result<Vec<u8>, String> {
    postcard::to_stdvec(samples).map_err(|e| e.to_string())
}

/// Samples of what [`packed`] gave.
///
/// # Errors
/// Where it is something else.
pub fn unpacked(bytes: &[u8]) -> Result<Vec<Sample>, String> {
    postcard::from_bytes(bytes).map_err(|e| e.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn samples_that_cannot_be_of_a_run_are_refused_and_leave_the_order_as_it_was() {
        let good = |from: u64, to: u64| Sample { start: Nanos(from), end: Nanos(to), ..Sample::default() };
        let mut order = Order::default();
        order.take(&good(0, 5)).unwrap();
        for bad in [
            good(4, 8),
            good(9, 8),
            good(5, u64::MAX),
            Sample { written: Bytes(1 << 62), read: Bytes(1), ..good(5, 8) },
            Sample { written: Bytes(u64::MAX), read: Bytes(u64::MAX), ..good(5, 8) },
            Sample { temp: Some(Celsius(f64::NAN)), ..good(5, 8) },
            Sample { fill: Some(f32::INFINITY), ..good(5, 8) },
        ] {
            assert!(order.take(&bad).is_err(), "{bad:?}");
        }
        order.take(&Sample { written: Bytes(1 << 62), ..good(5, 8) }).unwrap();
        assert!(order.take(&Sample { written: Bytes(1), ..good(8, 9) }).is_err(), "sums count");
    }
}
