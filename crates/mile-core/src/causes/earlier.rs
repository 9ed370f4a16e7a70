//! What earlier runs of the same drive say about a fall: whether they met the end of the write cache, or the heat, at the same place.

use crate::earlier::EarlierRun;
use crate::units::{Bytes, Celsius, Rate};

/// Two sizes of a cache are the same up to this ratio. One that depends on how full the drive is differs by more.
const SAME_SIZE: f64 = 1.1;
/// One of them is another where it is this many times larger.
const OTHER_SIZE: f64 = 1.25;
/// A write says something about how much a drive takes before it falls where it was as fast as this share of the rate at which the write at hand began.
const AS_FAST: f64 = 0.8;
/// Two shares of a drive in use are the same up to this.
const SAME_FILL: f64 = 0.1;
/// Two temperatures at which a drive is throttled are the same up to this many °C, and it was hotter where it was hotter by more than this.
const SAME_TEMP: f64 = 3.0;
const HOTTER: f64 = 5.0;

/// What earlier runs say about the bytes after which a write fell.
#[derive(Clone, Debug, PartialEq)]
pub(super) enum Size {
    /// These found the cache exhausted after the same bytes.
    Same(Vec<i64>),
    /// This one wrote the most of those that wrote more at such a rate before they fell, and none found the cache exhausted after the same bytes.
    Longer(i64, Bytes),
    /// The same, and what this one wrote ended with its cache: the drive has one that ends, and it was larger then.
    Larger(i64, Bytes),
    /// One found the cache exhausted after fewer, and none after the same or more.
    Sooner(i64, Bytes),
}

/// What earlier runs say about the temperature at which the rate fell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Heat {
    /// One was throttled by heat at the same.
    Same(i64, Celsius),
    /// One was hotter, and not throttled at this temperature.
    Hotter(i64, Celsius),
}

/// Of a fall of a write, after so many bytes of which the first came at such a rate, of a drive of which such a share is in use.
pub(super) fn size(earlier: &[EarlierRun], bytes: Bytes, began: Rate, fill: Option<f64>) -> Option<Size> {
    // A cache may be another where more or less of the drive is in use.
    let alike = |e: &&EarlierRun| e.fill.zip(fill).is_none_or(|(then, now)| (then - now).abs() < SAME_FILL);
    let earlier: Vec<EarlierRun> = earlier.iter().filter(alike).copied().collect();
    let times = |of: Bytes| of.0 as f64 / bytes.0.max(1) as f64;
    let same = |e: &&EarlierRun| e.cache.is_some_and(|c| times(c).ln().abs() < SAME_SIZE.ln());
    let runs: Vec<i64> = earlier.iter().filter(same).map(|e| e.run).collect();
    if !runs.is_empty() {
        return Some(Size::Same(runs));
    }
    let longer = |e: &EarlierRun| {
        let (bytes, rate) = e.unbroken?;
        let ended = e.cache.is_some_and(|c| (c.0 as f64 / bytes.0.max(1) as f64).ln().abs() < SAME_SIZE.ln());
        (times(bytes) > OTHER_SIZE && rate.0 >= AS_FAST * began.0).then_some((bytes, e.run, ended))
    };
    let sooner = |e: &EarlierRun| {
        let cache = e.cache.filter(|c| times(*c) * OTHER_SIZE < 1.0)?;
        Some(Size::Sooner(e.run, cache))
    };
    let size = |(bytes, run, ended)| if ended { Size::Larger(run, bytes) } else { Size::Longer(run, bytes) };
    let longest = earlier.iter().filter_map(longer).max().map(size);
    longest.or_else(|| earlier.iter().find_map(sooner))
}

/// Of a fall at a temperature.
pub(super) fn heat(earlier: &[EarlierRun], temp: Celsius) -> Option<Heat> {
    let same = |e: &EarlierRun| {
        let at = e.throttled_at.filter(|at| (at.0 - temp.0).abs() <= SAME_TEMP)?;
        Some(Heat::Same(e.run, at))
    };
    let hotter = |e: &EarlierRun| {
        let hottest = e.hottest.filter(|h| h.0 > temp.0 + HOTTER)?;
        e.throttled_at.is_none_or(|at| at.0 > temp.0 + HOTTER).then_some(Heat::Hotter(e.run, hottest))
    };
    earlier.iter().find_map(same).or_else(|| earlier.iter().find_map(hotter))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn run(run: i64, cache: Option<f64>, unbroken: Option<(f64, f64)>) -> EarlierRun {
        EarlierRun {
            run,
            cache: cache.map(|gb| Bytes((gb * 1e9) as u64)),
            unbroken: unbroken.map(|(gb, mb_s)| (Bytes((gb * 1e9) as u64), Rate(mb_s * 1e6))),
            ..EarlierRun::default()
        }
    }

    #[test]
    fn a_size_is_the_same_in_some_run_or_larger_or_smaller_in_all() {
        let of = |all: &[EarlierRun]| size(all, Bytes(100_000_000_000), Rate(2000e6), Some(0.3));
        assert_eq!(of(&[]), None);
        assert_eq!(of(&[run(1, Some(104.0), None), run(2, Some(95.0), None)]), Some(Size::Same(vec![1, 2])));
        // One that is full to another level has another cache, and one that agrees counts.
        assert_eq!(of(&[run(1, Some(40.0), None), run(2, Some(99.0), None)]), Some(Size::Same(vec![2])));
        let longer = run(3, None, Some((300.0, 1900.0)));
        assert_eq!(of(&[run(1, Some(40.0), None), longer]), Some(Size::Longer(3, Bytes(300_000_000_000))));
        // The longest of them says the most.
        let longest = run(4, None, Some((800.0, 1700.0)));
        assert_eq!(of(&[longer, longest, longer]), Some(Size::Longer(4, Bytes(800_000_000_000))));
        // Behind a cache that was full already, a long write says nothing.
        assert_eq!(of(&[run(3, None, Some((300.0, 900.0)))]), None);
        assert_eq!(of(&[run(1, Some(40.0), None)]), Some(Size::Sooner(1, Bytes(40_000_000_000))));
        // What ended with the cache shows a larger cache, and not that there is none.
        let ended = run(5, Some(290.0), Some((300.0, 1900.0)));
        assert_eq!(of(&[ended]), Some(Size::Larger(5, Bytes(300_000_000_000))));
        assert_eq!(of(&[ended, longest]), Some(Size::Longer(4, Bytes(800_000_000_000))));
        // A write that came after a smaller cache had ended did not end with that.
        assert_eq!(
            of(&[run(6, Some(30.0), Some((300.0, 1900.0)))]),
            Some(Size::Longer(6, Bytes(300_000_000_000)))
        );
        // At another fill level, both say nothing.
        assert_eq!(of(&[EarlierRun { fill: Some(0.8), ..longer }]), None);
        assert_eq!(
            of(&[EarlierRun { fill: Some(0.35), ..run(1, Some(99.0), None) }]),
            Some(Size::Same(vec![1]))
        );
        // Neither the same nor another.
        assert_eq!(of(&[run(1, Some(85.0), Some((110.0, 2000.0)))]), None);
    }

    #[test]
    fn a_temperature_is_one_that_throttled_before_or_one_that_did_not() {
        let run = |throttled: Option<f64>, hottest: f64| EarlierRun {
            run: 4,
            throttled_at: throttled.map(Celsius),
            hottest: Some(Celsius(hottest)),
            ..EarlierRun::default()
        };
        let of = |e: EarlierRun| heat(&[e], Celsius(70.0));
        assert_eq!(of(run(Some(72.0), 74.0)), Some(Heat::Same(4, Celsius(72.0))));
        assert_eq!(of(run(Some(78.0), 79.0)), Some(Heat::Hotter(4, Celsius(79.0))));
        assert_eq!(of(run(None, 80.0)), Some(Heat::Hotter(4, Celsius(80.0))));
        assert_eq!(of(run(None, 74.0)), None);
        // It was throttled cooler, by another firmware or elsewhere, and says nothing about this one.
        assert_eq!(of(run(Some(60.0), 80.0)), None);
    }
}
