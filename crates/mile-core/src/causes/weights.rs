//! What each row of the evidence weighs. Made by `cargo run --release -p mile-corpus -- fit`; not edited by hand.

/// A row: its name, the sign that physics gives it, its weight (log-odds) and the standard error of that. There is no error where the corpus has too few
/// cases of it, and the weight is what was argued, and none where the weight is at the end of what its sign allows.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Row {
    /// Its name: the cause, and the fact.
    pub id: &'static str,
    /// 1 where the fact can only speak for the cause, -1 where only against it, 0 where it may do either.
    pub sign: i8,
    /// What physics and experience say of its weight, before the fit.
    pub argued: f64,
    /// What it adds to the logarithm of the odds.
    pub weight: f64,
    /// Standard error of that.
    pub error: Option<f64>,
}

/// The row of a name.
pub(super) fn of(id: &str) -> Option<&'static Row> {
    let at = TABLE.binary_search_by(|r| r.id.cmp(id)).ok()?;
    TABLE.get(at)
}

/// The weight of a row, 0 where there is none of this name.
pub fn weight_of(id: &str) -> f64 {
    of(id).map_or(0.0, |r| r.weight)
}

/// All rows, by name.
#[rustfmt::skip]
pub const TABLE: &[Row] = &[
    Row { id: "cache.at-limit", sign: -1, argued: -1.95, weight: 0.00, error: None },
    Row { id: "cache.back-after-rest", sign: 1, argued: 2.00, weight: 2.28, error: Some(1.33) },
    Row { id: "cache.came-back-before", sign: -1, argued: -2.60, weight: -4.03, error: Some(0.98) },
    Row { id: "cache.changes-soon", sign: -1, argued: -1.30, weight: 0.00, error: None },
    Row { id: "cache.comes-back", sign: -1, argued: -2.60, weight: -5.79, error: Some(0.74) },
    Row { id: "cache.comes-back-briefly", sign: -1, argued: -0.60, weight: -1.76, error: Some(0.29) },
    Row { id: "cache.cool", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "cache.cooler-than-drives-throttle", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "cache.counter", sign: -1, argued: -3.90, weight: -3.90, error: Some(1.50) },
    Row { id: "cache.deep", sign: 1, argued: 0.50, weight: 0.75, error: Some(0.13) },
    Row { id: "cache.earlier-larger", sign: -1, argued: -5.00, weight: -8.00, error: None },
    Row { id: "cache.earlier-longer", sign: -1, argued: -5.00, weight: -8.00, error: None },
    Row { id: "cache.earlier-same", sign: 1, argued: 3.00, weight: 3.60, error: Some(0.38) },
    Row { id: "cache.earlier-sooner", sign: 0, argued: 0.00, weight: 1.41, error: Some(0.33) },
    Row { id: "cache.exhausted-before", sign: 1, argued: 4.00, weight: 4.47, error: Some(1.26) },
    Row { id: "cache.first-fall", sign: 1, argued: 2.21, weight: 4.60, error: Some(0.54) },
    Row { id: "cache.further-fall", sign: 1, argued: 0.39, weight: 0.00, error: None },
    Row { id: "cache.hot", sign: -1, argued: -1.56, weight: 0.00, error: None },
    Row { id: "cache.latency-alike", sign: -1, argued: -0.70, weight: 0.00, error: None },
    Row { id: "cache.latency-few", sign: 0, argued: 0.00, weight: 0.25, error: Some(0.25) },
    Row { id: "cache.latency-spreads", sign: 1, argued: 0.70, weight: 0.05, error: Some(0.20) },
    Row { id: "cache.near-critical", sign: -1, argued: -1.30, weight: 0.00, error: None },
    Row { id: "cache.no-counter", sign: 1, argued: 1.30, weight: 0.16, error: Some(0.14) },
    Row { id: "cache.once", sign: -1, argued: -0.50, weight: -3.98, error: Some(0.54) },
    Row { id: "cache.other-bytes-again", sign: -1, argued: -1.00, weight: 0.00, error: None },
    Row { id: "cache.others", sign: -1, argued: -3.90, weight: -3.98, error: Some(1.45) },
    Row { id: "cache.power-falls", sign: -1, argued: -0.50, weight: -1.02, error: Some(0.22) },
    Row { id: "cache.power-stays", sign: 1, argued: 0.70, weight: 0.32, error: Some(0.21) },
    Row { id: "cache.prior", sign: 0, argued: 0.00, weight: 0.67, error: Some(0.15) },
    Row { id: "cache.same-bytes-again", sign: 1, argued: 3.00, weight: 3.28, error: Some(1.33) },
    Row { id: "cache.same-place", sign: -1, argued: -3.90, weight: -6.03, error: Some(0.95) },
    Row { id: "cache.same-temperature-again", sign: -1, argued: -1.40, weight: -1.40, error: None },
    Row { id: "cache.shallow", sign: -1, argued: -1.00, weight: -0.60, error: Some(0.26) },
    Row { id: "cache.standstill", sign: -1, argued: -3.90, weight: -4.01, error: Some(1.43) },
    Row { id: "cache.stays", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "cache.too-large", sign: -1, argued: -4.55, weight: -5.34, error: Some(1.14) },
    Row { id: "cache.too-large-in-all", sign: -1, argued: -1.30, weight: -2.54, error: Some(1.03) },
    Row { id: "fill.cache-gone", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "fill.comes-back", sign: -1, argued: -2.60, weight: -3.02, error: Some(1.27) },
    Row { id: "fill.cool", sign: 1, argued: 1.04, weight: 0.00, error: None },
    Row { id: "fill.cooler-than-drives-throttle", sign: 1, argued: 1.04, weight: 0.73, error: Some(0.84) },
    Row { id: "fill.counter", sign: -1, argued: -3.90, weight: -3.90, error: Some(1.50) },
    Row { id: "fill.full", sign: 1, argued: 2.60, weight: 7.26, error: Some(0.72) },
    Row { id: "fill.half-full", sign: 1, argued: 0.39, weight: 0.11, error: Some(1.34) },
    Row { id: "fill.little", sign: -1, argued: -2.60, weight: -2.74, error: Some(1.41) },
    Row { id: "fill.no-cache-as-large", sign: 1, argued: 2.60, weight: 1.98, error: Some(0.72) },
    Row { id: "fill.no-counter", sign: 1, argued: 1.04, weight: 0.00, error: None },
    Row { id: "fill.others", sign: -1, argued: -3.25, weight: -3.25, error: Some(1.50) },
    Row { id: "fill.prior", sign: -1, argued: -2.60, weight: -5.28, error: Some(0.57) },
    Row { id: "other-side.waits-more", sign: 1, argued: 10.40, weight: 10.40, error: None },
    Row { id: "other-side.waits-no-more", sign: -1, argued: -7.80, weight: -7.80, error: None },
    Row { id: "others.hardly-moved", sign: -1, argued: -3.90, weight: -3.07, error: Some(0.61) },
    Row { id: "others.hardly-stolen", sign: -1, argued: -1.30, weight: -3.33, error: Some(0.78) },
    Row { id: "others.moved", sign: 1, argued: 5.20, weight: 6.29, error: Some(1.08) },
    Row { id: "others.moved-most", sign: 1, argued: 6.50, weight: 8.00, error: None },
    Row { id: "others.prior", sign: 0, argued: 0.00, weight: -1.52, error: Some(0.57) },
    Row { id: "others.repeats", sign: 0, argued: 0.00, weight: -0.73, error: Some(0.87) },
    Row { id: "others.stolen", sign: 1, argued: 5.85, weight: 8.00, error: None },
    Row { id: "others.undoes-others", sign: 1, argued: 1.30, weight: 3.74, error: Some(1.31) },
    Row { id: "others.unseen", sign: -1, argued: -2.60, weight: -5.47, error: Some(0.87) },
    Row { id: "recovered.after-pause", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "recovered.undoes-cache", sign: 1, argued: 4.55, weight: 6.79, error: Some(0.84) },
    Row { id: "recovered.undoes-throttle", sign: -1, argued: -3.25, weight: -3.25, error: None },
    Row { id: "release.ambient-fell", sign: 1, argued: 0.70, weight: 1.21, error: Some(1.19) },
    Row { id: "release.blind", sign: -1, argued: -1.95, weight: -0.33, error: Some(0.65) },
    Row { id: "release.cooler", sign: 1, argued: 1.69, weight: 1.14, error: Some(0.66) },
    Row { id: "release.cooler-than-drives-throttle", sign: -1, argued: -3.00, weight: -3.62, error: Some(1.20) },
    Row { id: "release.counter", sign: 1, argued: 5.20, weight: 5.23, error: Some(1.48) },
    Row { id: "release.falling", sign: 1, argued: 1.30, weight: 0.61, error: Some(0.56) },
    Row { id: "release.far-below-limit", sign: -1, argued: -3.00, weight: -2.96, error: Some(0.58) },
    Row { id: "release.hysteresis", sign: 1, argued: 3.00, weight: 2.33, error: Some(0.66) },
    Row { id: "release.no-cooler", sign: -1, argued: -2.60, weight: -2.01, error: Some(0.79) },
    Row { id: "release.no-counter", sign: -1, argued: -4.55, weight: -4.82, error: Some(1.33) },
    Row { id: "release.others", sign: -1, argued: -2.60, weight: -2.60, error: Some(1.50) },
    Row { id: "release.prior", sign: 0, argued: 0.00, weight: -1.46, error: Some(0.63) },
    Row { id: "release.rising", sign: -1, argued: -1.95, weight: -1.20, error: Some(1.06) },
    Row { id: "release.same-place", sign: -1, argued: -3.90, weight: -3.90, error: Some(1.50) },
    Row { id: "release.undoes-other", sign: -1, argued: -1.95, weight: 0.00, error: None },
    Row { id: "release.undoes-throttle", sign: 1, argued: 3.90, weight: 5.57, error: Some(0.53) },
    Row { id: "stall.others", sign: -1, argued: -5.20, weight: -5.20, error: None },
    Row { id: "stall.silent", sign: 1, argued: 7.80, weight: 7.89, error: Some(1.44) },
    Row { id: "surface.begins-elsewhere", sign: 1, argued: 6.50, weight: 8.00, error: None },
    Row { id: "surface.brings-back", sign: 1, argued: 2.60, weight: 1.10, error: Some(0.87) },
    Row { id: "surface.comes-back", sign: 1, argued: 2.60, weight: 1.94, error: Some(0.60) },
    Row { id: "surface.counter", sign: -1, argued: -3.90, weight: -3.90, error: Some(1.50) },
    Row { id: "surface.counter-stops", sign: -1, argued: -3.90, weight: -3.90, error: Some(1.50) },
    Row { id: "surface.latency-alike", sign: 0, argued: 0.00, weight: -0.74, error: Some(0.37) },
    Row { id: "surface.latency-few", sign: 0, argued: 0.00, weight: -1.07, error: Some(1.05) },
    Row { id: "surface.latency-spreads", sign: 1, argued: 0.50, weight: 0.00, error: None },
    Row { id: "surface.once", sign: -1, argued: -1.30, weight: -4.53, error: Some(0.84) },
    Row { id: "surface.others", sign: -1, argued: -3.25, weight: -3.25, error: Some(1.50) },
    Row { id: "surface.pass-unlike", sign: -1, argued: -3.25, weight: -1.47, error: Some(0.71) },
    Row { id: "surface.passes-alike", sign: 1, argued: 6.50, weight: 8.00, error: None },
    Row { id: "surface.passes-fall-alike", sign: 1, argued: 1.30, weight: 6.06, error: Some(0.62) },
    Row { id: "surface.power-falls", sign: -1, argued: -0.40, weight: -1.18, error: Some(0.60) },
    Row { id: "surface.power-stays", sign: 1, argued: 0.40, weight: 0.01, error: Some(0.62) },
    Row { id: "surface.prior", sign: -1, argued: -1.95, weight: -3.43, error: Some(0.24) },
    Row { id: "surface.read", sign: 1, argued: 0.65, weight: 0.00, error: None },
    Row { id: "surface.sinks", sign: 1, argued: 3.25, weight: 6.82, error: Some(0.43) },
    Row { id: "surface.undoes-other", sign: -1, argued: -2.60, weight: -2.60, error: Some(1.50) },
    Row { id: "surface.undoes-surface", sign: 1, argued: 2.60, weight: 4.84, error: Some(1.09) },
    Row { id: "throttle.ambient-rose", sign: 1, argued: 0.70, weight: 1.66, error: Some(0.72) },
    Row { id: "throttle.at-limit", sign: 1, argued: 3.25, weight: 5.43, error: Some(0.59) },
    Row { id: "throttle.begins-hottest", sign: 1, argued: 2.00, weight: 1.88, error: Some(0.37) },
    Row { id: "throttle.below-critical", sign: 1, argued: 1.00, weight: 1.39, error: Some(0.75) },
    Row { id: "throttle.blind", sign: -1, argued: -1.30, weight: 0.00, error: None },
    Row { id: "throttle.cool", sign: -1, argued: -4.55, weight: -0.63, error: Some(0.69) },
    Row { id: "throttle.cooled", sign: -1, argued: -1.95, weight: -0.55, error: Some(1.03) },
    Row { id: "throttle.cooled-far", sign: -1, argued: -3.25, weight: -2.79, error: Some(1.30) },
    Row { id: "throttle.cooler-than-drives-throttle", sign: -1, argued: -3.25, weight: -3.79, error: Some(0.83) },
    Row { id: "throttle.counter", sign: 1, argued: 5.85, weight: 6.01, error: Some(1.39) },
    Row { id: "throttle.counter-as-before", sign: -1, argued: -1.30, weight: 0.00, error: None },
    Row { id: "throttle.counts-slow-times", sign: 1, argued: 8.00, weight: 8.00, error: None },
    Row { id: "throttle.earlier-hotter", sign: -1, argued: -2.00, weight: -2.97, error: Some(1.08) },
    Row { id: "throttle.earlier-same", sign: 1, argued: 1.50, weight: 2.68, error: Some(0.36) },
    Row { id: "throttle.fall-follows", sign: -1, argued: -2.50, weight: -4.47, error: Some(0.99) },
    Row { id: "throttle.falling", sign: -1, argued: -2.60, weight: -0.88, error: Some(0.86) },
    Row { id: "throttle.far-below-limit", sign: -1, argued: -5.00, weight: -4.75, error: Some(0.73) },
    Row { id: "throttle.goes-on-rising", sign: -1, argued: -1.95, weight: -0.51, error: Some(0.68) },
    Row { id: "throttle.held", sign: 1, argued: 1.30, weight: 2.59, error: Some(0.72) },
    Row { id: "throttle.hot", sign: 1, argued: 3.25, weight: 3.62, error: Some(0.68) },
    Row { id: "throttle.hotter-elsewhere", sign: -1, argued: -2.60, weight: -1.20, error: Some(0.54) },
    Row { id: "throttle.hysteresis", sign: 1, argued: 4.50, weight: 6.59, error: Some(0.62) },
    Row { id: "throttle.latency-alike", sign: 0, argued: 0.00, weight: 0.48, error: Some(0.22) },
    Row { id: "throttle.latency-few", sign: 0, argued: 0.00, weight: 0.46, error: Some(0.40) },
    Row { id: "throttle.latency-spreads", sign: 0, argued: 0.00, weight: -0.94, error: Some(0.44) },
    Row { id: "throttle.level", sign: -1, argued: -1.30, weight: -0.98, error: Some(0.45) },
    Row { id: "throttle.much-hotter-elsewhere", sign: -1, argued: -4.00, weight: -2.50, error: Some(0.78) },
    Row { id: "throttle.near-critical", sign: 1, argued: 1.95, weight: 3.72, error: Some(0.97) },
    Row { id: "throttle.near-limit", sign: 1, argued: 2.50, weight: 1.67, error: Some(0.71) },
    Row { id: "throttle.no-counter", sign: -1, argued: -4.55, weight: -5.67, error: Some(1.07) },
    Row { id: "throttle.no-hotter", sign: -1, argued: -3.00, weight: -5.95, error: Some(1.03) },
    Row { id: "throttle.others", sign: -1, argued: -2.60, weight: -3.25, error: Some(1.25) },
    Row { id: "throttle.power-falls", sign: 1, argued: 0.50, weight: 0.99, error: Some(0.30) },
    Row { id: "throttle.power-stays", sign: -1, argued: -1.20, weight: -1.64, error: Some(0.64) },
    Row { id: "throttle.prior", sign: 0, argued: 0.00, weight: -0.33, error: Some(0.17) },
    Row { id: "throttle.repeats", sign: -1, argued: -2.00, weight: -1.53, error: Some(0.34) },
    Row { id: "throttle.repeats-at-limit", sign: 1, argued: 1.50, weight: 0.00, error: None },
    Row { id: "throttle.repeats-cool", sign: -1, argued: -2.50, weight: -0.32, error: Some(0.42) },
    Row { id: "throttle.repeats-warm", sign: 1, argued: 0.70, weight: 0.70, error: None },
    Row { id: "throttle.rising", sign: 1, argued: 1.30, weight: 0.00, error: None },
    Row { id: "throttle.same-place", sign: -1, argued: -3.90, weight: -3.92, error: Some(1.49) },
    Row { id: "throttle.same-temperature", sign: 1, argued: 1.95, weight: 2.19, error: Some(0.62) },
    Row { id: "throttle.same-temperature-again", sign: 1, argued: 3.40, weight: 3.40, error: None },
    Row { id: "throttle.standstill", sign: -1, argued: -1.95, weight: -2.56, error: Some(1.20) },
    Row { id: "throttle.stops-rising", sign: 1, argued: 0.91, weight: 0.55, error: Some(0.49) },
    Row { id: "throttle.warm", sign: 1, argued: 1.69, weight: 0.85, error: Some(0.72) },
    Row { id: "unexplained.halved", sign: 1, argued: 1.00, weight: 1.05, error: Some(0.52) },
    Row { id: "unexplained.link-part", sign: 1, argued: 2.00, weight: 1.19, error: Some(0.35) },
    Row { id: "workload.gap", sign: -1, argued: -1.30, weight: -1.30, error: None },
    Row { id: "workload.next-leg", sign: 1, argued: 4.55, weight: 6.22, error: Some(0.92) },
];

#[cfg(test)]
mod tests {
    use super::*;

    /// A row without a weight would count as nothing, and a weight without a row would be fitted to nothing.
    #[test]
    fn each_row_of_the_evidence_has_its_weight_and_each_weight_its_row() {
        let source = [
            include_str!("rows.rs"),
            include_str!("rows/heat.rs"),
            include_str!("rows/media.rs"),
            include_str!("rows/place.rs"),
            include_str!("rows/row.rs"),
        ]
        .concat();
        let is_id = |text: &&str| {
            let (cause, fact) = text.split_once('.').unwrap_or_default();
            let word = |w: &str| !w.is_empty() && w.chars().all(|c| c.is_ascii_lowercase() || c == '-');
            word(cause) && word(fact)
        };
        let mut used: Vec<&str> = source.split('"').filter(is_id).collect();
        used.sort_unstable();
        used.dedup();
        let table: Vec<&str> = TABLE.iter().map(|r| r.id).collect();
        assert_eq!(used, table);
        for row in TABLE {
            assert!(f64::from(row.sign) * row.weight >= 0.0, "{row:?} speaks against physics");
        }
    }
}
