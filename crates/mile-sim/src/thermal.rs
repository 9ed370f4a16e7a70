//! Two thermal nodes, die and body, to ambient, and the throttling that follows from them.
//!
//! Heat balance of each node: C dT/dt = power in - power out, with power between nodes ΔT / R (Newton's law of cooling).
//! The composite reading is the die's temperature in whole degrees, refreshed each second; throttling goes by it.

use crate::model::ThermalModel;

/// How much the drive slows itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Level {
    None,
    Light,
    Heavy,
}

#[derive(Clone, Debug)]
pub(crate) struct Thermal {
    model: ThermalModel,
    pub(crate) die: f64,
    pub(crate) body: f64,
    /// Composite reading, whole degrees.
    pub(crate) composite: f64,
    pub(crate) level: Level,
    pub(crate) light_s: f64,
    pub(crate) heavy_s: f64,
    pub(crate) light_transitions: u32,
    pub(crate) heavy_transitions: u32,
    pub(crate) above_warn_s: f64,
    pub(crate) above_critical_s: f64,
    since_reading: f64,
    /// Seconds that have passed.
    pub(crate) elapsed: f64,
    /// Temperatures of the bodies beside it, °C.
    pub(crate) neighbours: Vec<f64>,
}

impl Thermal {
    pub(crate) fn new(model: &ThermalModel) -> Self {
        let body = model.ambient_c + model.idle_w * model.body_to_ambient_k_per_w;
        let body = model.start_c.map_or(body, |s| s - model.idle_w * model.die_to_body_k_per_w);
        let die = body + model.idle_w * model.die_to_body_k_per_w;
        Self {
            model: model.clone(),
            die,
            body,
            composite: die.round(),
            level: Level::None,
            light_s: 0.0,
            heavy_s: 0.0,
            light_transitions: 0,
            heavy_transitions: 0,
            above_warn_s: 0.0,
            above_critical_s: 0.0,
            since_reading: 0.0,
            elapsed: 0.0,
            neighbours: Vec::new(),
        }
    }

    /// Ambient temperature now, °C.
    pub(crate) fn ambient(&self) -> f64 {
        let schedule = &self.model.ambient_schedule;
        let next = schedule.partition_point(|(at, _)| *at <= self.elapsed);
        let Some(&(from, before)) = next.checked_sub(1).and_then(|i| schedule.get(i)) else {
            return self.model.ambient_c;
        };
        schedule
            .get(next)
            .map_or(before, |&(to, behind)| before + (behind - before) * (self.elapsed - from) / (to - from))
    }

    /// Share of its rate that the drive allows itself.
    pub(crate) fn share(&self) -> f64 {
        match self.level {
            Level::None => 1.0,
            Level::Light => self.model.light_share,
            Level::Heavy => self.model.heavy_share,
        }
    }

    /// Lets `seconds` pass with `joules` of heat from work done, by explicit steps: stable while a step is short against the
    /// die's time constant, which the caller's steps of at most 0.1 s are.
    pub(crate) fn pass(&mut self, seconds: f64, joules: f64) {
        let ambient = self.ambient();
        self.elapsed += seconds;
        let m = &self.model;
        let power = m.idle_w + joules / seconds;
        let to_body = (self.die - self.body) / m.die_to_body_k_per_w;
        let to_neighbours = m
            .body_to_neighbour_k_per_w
            .map_or(0.0, |r| self.neighbours.iter().map(|n| (self.body - n) / r).sum::<f64>());
        let to_ambient = (self.body - ambient) / m.body_to_ambient_k_per_w + to_neighbours;
        self.die += seconds * (power - to_body) / m.die_j_per_k;
        self.body += seconds * (to_body - to_ambient) / m.body_j_per_k;
        match self.level {
            Level::None => {}
            Level::Light => self.light_s += seconds,
            Level::Heavy => self.heavy_s += seconds,
        }
        self.above_warn_s += if self.composite >= m.warn_c { seconds } else { 0.0 };
        self.above_critical_s += if self.composite >= m.critical_c { seconds } else { 0.0 };
        self.since_reading += seconds;
        if self.since_reading >= 1.0 {
            self.since_reading -= 1.0;
            self.composite = self.die.round();
            self.decide();
        }
    }

    fn decide(&mut self) {
        let m = &self.model;
        let t = self.composite;
        let next = match self.level {
            Level::None if t >= m.heavy_on_c => Level::Heavy,
            Level::None if t >= m.light_on_c => Level::Light,
            Level::Light if t >= m.heavy_on_c => Level::Heavy,
            Level::Light if t <= m.light_off_c => Level::None,
            Level::Heavy if t <= m.heavy_off_c => Level::Light,
            same => same,
        };
        if next > self.level {
            match next {
                Level::Heavy => self.heavy_transitions += 1,
                _ => self.light_transitions += 1,
            }
        }
        self.level = next;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Model;

    /// Under constant power the body settles at ambient + P R and the die P R' above it; a single node on the way
    /// follows 1 - exp(-t / RC).
    #[test]
    fn it_settles_where_ohms_law_of_heat_says() {
        let mut model = Model::find("merrow-k2").unwrap().thermal;
        model.light_on_c = 500.0;
        model.heavy_on_c = 500.0;
        let mut node = Thermal::new(&model);
        let watts = 3.0;
        for _ in 0..(12_000 * 20) {
            node.pass(0.05, watts * 0.05);
        }
        let power = watts + model.idle_w;
        let body = model.ambient_c + power * model.body_to_ambient_k_per_w;
        assert!((node.body - body).abs() < 0.05, "{} {body}", node.body);
        assert!((node.die - body - power * model.die_to_body_k_per_w).abs() < 0.05);
    }

    /// Two bodies that are joined settle where the two sums of heat flows are zero: a pair of linear equations.
    #[test]
    fn bodies_beside_each_other_settle_where_all_flows_balance() {
        let mut model = Model::find("merrow-k2").unwrap().thermal;
        (model.light_on_c, model.heavy_on_c, model.idle_w) = (500.0, 500.0, 0.0);
        let r = 30.0;
        model.body_to_neighbour_k_per_w = Some(r);
        let (mut hot, mut cold) = (Thermal::new(&model), Thermal::new(&model));
        let watts = 4.0;
        for _ in 0..(12_000 * 20) {
            (hot.neighbours, cold.neighbours) = (vec![cold.body], vec![hot.body]);
            hot.pass(0.05, watts * 0.05);
            cold.pass(0.05, 0.0);
        }
        // a (1/ra + 1/r) - b/r = P and b (1/ra + 1/r) - a/r = 0, in degrees above ambient.
        let ra = model.body_to_ambient_k_per_w;
        let (diagonal, off) = (1.0 / ra + 1.0 / r, 1.0 / r);
        let determinant = diagonal * diagonal - off * off;
        let (a, b) = (watts * diagonal / determinant, watts * off / determinant);
        assert!((hot.body - model.ambient_c - a).abs() < 0.05, "{} {a}", hot.body);
        assert!((cold.body - model.ambient_c - b).abs() < 0.05, "{} {b}", cold.body);
    }

    #[test]
    fn a_body_alone_heats_exponentially() {
        let mut model = Model::find("merrow-k2").unwrap().thermal;
        // A die that is hardly there: its heat goes straight to the body.
        (model.die_j_per_k, model.die_to_body_k_per_w, model.idle_w) = (0.01, 1.0, 0.0);
        let mut node = Thermal::new(&model);
        let (watts, tau) = (4.0, model.body_j_per_k * model.body_to_ambient_k_per_w);
        for i in 1..=(300 * 1000) {
            node.pass(0.001, watts * 0.001);
            if i % 60_000 == 0 {
                let t = f64::from(i) * 0.001;
                let expected =
                    model.ambient_c + watts * model.body_to_ambient_k_per_w * (1.0 - (-t / tau).exp());
                assert!((node.body - expected).abs() < 0.05, "after {t} s: {} {expected}", node.body);
            }
        }
    }

    #[test]
    fn an_ambient_that_rises_is_followed_with_the_lag_of_the_body() {
        let mut model = Model::find("merrow-k2").unwrap().thermal;
        (model.die_j_per_k, model.die_to_body_k_per_w, model.idle_w) = (0.01, 1.0, 0.0);
        // Level for 100 s, then 6 K in 600 s, then level.
        model.ambient_schedule = vec![(100.0, 24.0), (700.0, 30.0)];
        let mut node = Thermal::new(&model);
        let tau = model.body_j_per_k * model.body_to_ambient_k_per_w;
        let at = |seconds: f64, node: &mut Thermal| {
            while node.elapsed < seconds - 1e-6 {
                node.pass(0.001, 0.0);
            }
            (node.ambient(), node.body)
        };
        let (ambient, body) = at(100.0, &mut node);
        assert!((ambient - 24.0).abs() < 0.01 && (body - 24.0).abs() < 0.01);
        // Behind a ramp of s kelvin a second, a single node lags by s τ (1 - e^(-t/τ)).
        let slope = 6.0 / 600.0;
        let (ambient, body) = at(400.0, &mut node);
        let lag = slope * tau * (1.0 - (-300.0 / tau).exp());
        assert!((ambient - 27.0).abs() < 0.01, "{ambient}");
        assert!((body - (27.0 - lag)).abs() < 0.02, "{body} {lag}");
        assert_eq!(at(705.0, &mut node).0, 30.0);
    }
}
