//! The instruments of the simulated bench: a thermocouple on the hottest spot of a drive, and a power meter in its supply.
//!
//! What the thermocouple shows follows the die as a first-order lag does, with an offset and noise: that law is in the truth. The power meter
//! shows the mean power since it was read last, with noise. Both have randomness of their own, so that a drive behaves the same with and without them.

use mile_drive::drive::InstrumentTruth;
use rand_core::{Rng, SeedableRng};
use rand_xoshiro::Xoshiro256PlusPlus;

/// Time constant of the thermocouple and what it is glued with, seconds.
const LAG_S: f64 = 6.0;
/// What it shows too much, K.
const OFFSET_K: f64 = 0.8;
/// Standard deviation of its noise, K.
const NOISE_K: f64 = 0.12;
/// The same of the power meter, as a share.
const POWER_NOISE: f64 = 0.004;

pub(crate) struct Instruments {
    rng: Xoshiro256PlusPlus,
    probe: f64,
    /// Energy and time since the power meter was read last, and all energy.
    joules: f64,
    seconds: f64,
    energy: f64,
}

impl Instruments {
    pub(crate) fn new(seed: u64, die: f64) -> Self {
        let rng = Xoshiro256PlusPlus::seed_from_u64(seed ^ 0x7072_6f62_6500_0000);
        Self { rng, probe: die, joules: 0.0, seconds: 0.0, energy: 0.0 }
    }

    fn normal(&mut self) -> f64 {
        // Box and Muller, "A note on the generation of random normal deviates", 1958.
        let unit = |bits: u64| ((bits >> 11) as f64 + 0.5) / (1_u64 << 53) as f64;
        let (u, v) = (unit(self.rng.next_u64()), unit(self.rng.next_u64()));
        (-2.0 * u.ln()).sqrt() * (std::f64::consts::TAU * v).cos()
    }

    /// Lets time pass with the die at a temperature, while the drive takes so much energy.
    pub(crate) fn pass(&mut self, seconds: f64, die: f64, joules: f64) {
        self.probe += (die - self.probe) * (1.0 - (-seconds / LAG_S).exp());
        self.joules += joules;
        self.energy += joules;
        self.seconds += seconds;
    }

    /// What the thermocouple shows, °C, and the power meter, W.
    pub(crate) fn read(&mut self) -> [Option<f64>; 2] {
        let probe = self.probe + OFFSET_K + NOISE_K * self.normal();
        let mean = (self.seconds > 0.0).then(|| self.joules / self.seconds);
        let noise = 1.0 + POWER_NOISE * self.normal();
        (self.joules, self.seconds) = (0.0, 0.0);
        // As such instruments show it: hundredths of a degree, milliwatts.
        [Some((probe * 100.0).round() / 100.0), mean.map(|p| (p * noise * 1e3).round() / 1e3)]
    }

    pub(crate) fn truth(&self) -> InstrumentTruth {
        InstrumentTruth {
            probe_lag_s: LAG_S,
            probe_offset_k: OFFSET_K,
            probe_noise_k: NOISE_K,
            energy_j: self.energy,
        }
    }
}
