//! Made-up traces: rates as a function of time, with noise.
#![allow(dead_code, reason = "each test binary uses its part of it")]

use mile_core::live::News;
use mile_core::{Bytes, Celsius, Context, Findings, LiveFindings, Nanos, Op, Sample, Trace, findings};

/// A drive of 2 TB that warns from 75 °C.
pub(crate) fn limits() -> Context {
    Context {
        warn: Some(Celsius(75.0)),
        critical: Some(Celsius(85.0)),
        capacity: Some(Bytes(2_000_000_000_000)),
        ..Context::default()
    }
}

/// What a leg shows on such a drive.
pub(crate) fn shown(samples: &[Sample]) -> Findings {
    findings(&Trace::of(samples, &["soak".into()]), &limits())
}

/// What is told of a leg while it is underway, and at its end.
pub(crate) fn watched(samples: &[Sample], context: Context) -> (Vec<News>, Findings) {
    let mut live = LiveFindings::new(context);
    let mut news = Vec::new();
    for sample in samples {
        live.push(sample, "soak");
        news.extend(live.news());
    }
    let (late, found) = live.close();
    news.extend(late);
    (news, found)
}

/// A trace of samples of equal length, made from a function of time in seconds.
pub(crate) struct Maker {
    pub(crate) seconds: f64,
    pub(crate) noise: f64,
    pub(crate) seed: u64,
    pub(crate) op: Op,
}

/// Length of a sample, seconds.
pub(crate) const STEP: f64 = 0.5;

impl Maker {
    pub(crate) fn new(seconds: f64) -> Self {
        Self { seconds, noise: 0.01, seed: 1, op: Op::Write }
    }

    pub(crate) fn samples(&self, rate: impl Fn(f64) -> f64) -> Vec<Sample> {
        let mut bits = self.seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
        let mut unit = move || {
            bits ^= bits << 13;
            bits ^= bits >> 7;
            bits ^= bits << 17;
            (bits >> 11) as f64 / (1_u64 << 53) as f64
        };
        (0..(self.seconds / STEP) as u64)
            .map(|i| {
                let start = i as f64 * STEP;
                let mean =
                    (0..20).map(|k| rate(start + STEP * (f64::from(k) + 0.5) / 20.0)).sum::<f64>() / 20.0;
                // A sum of four uniforms: near enough to normal, with a standard deviation of 1.
                let normal = (unit() + unit() + unit() + unit() - 2.0) * 3.0_f64.sqrt();
                let bytes = (mean * 1e6 * STEP * (1.0 + self.noise * normal)).max(0.0) as u64;
                let (written, read) = if self.op == Op::Read { (0, bytes) } else { (bytes, 0) };
                Sample {
                    start: Nanos::from_secs(start),
                    end: Nanos::from_secs(start + STEP),
                    op: self.op,
                    written: Bytes(written),
                    read: Bytes(read),
                    ..Sample::default()
                }
            })
            .collect()
    }
}

pub(crate) fn with(mut samples: Vec<Sample>, change: impl Fn(f64, &mut Sample)) -> Vec<Sample> {
    for sample in &mut samples {
        let at = sample.end.secs();
        change(at, sample);
    }
    samples
}
