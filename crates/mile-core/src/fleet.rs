//! All drives of a model beside each other: how far their figures spread, which drive stands out, and whether firmware makes a difference.
//!
//! Only runs of one course are held against each other: a figure that depends on what was asked of the drive is no property of the drive alone. The
//! value of a drive is the mean over its runs of that course, so that a drive that was run often counts once.
//!
//! A drive stands out by the generalized extreme Studentized deviate test (B. Rosner, "Percentage points for a generalized ESD many-outlier procedure",
//! *Technometrics* 25, 1983): the value furthest from the mean is taken out again and again, and each is held against what the furthest of so many
//! normally distributed values exceeds with a chance of 5 %. It needs 15 drives for more than one that stands out; with 7 to 14 drives only the
//! furthest is looked at (the test of F. E. Grubbs, *Technometrics* 11, 1969); with fewer nothing is said.

use crate::compare::welch::{self, Difference};
use crate::repeats::Figure as Mean;
use crate::stats::{mean_sd, median};
use crate::{Digest, repeats};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// Chance with which a drive is said to stand out, of a model whose drives are all alike.
const ALPHA: f64 = 0.05;
/// Fewest drives among which one is said to stand out.
pub const FEWEST: usize = 7;
/// Fewest among which several are.
const SEVERAL: usize = 15;
/// Largest share of the drives that may stand out.
const MOST: f64 = 0.1;

/// What a run found of one drive.
#[derive(Clone, Debug, PartialEq)]
pub struct Seen {
    /// The run.
    pub run: i64,
    /// When it began, seconds since 1970-01-01 UTC.
    pub started: i64,
    /// Serial number of the drive.
    pub serial: String,
    /// Its firmware then, where it told.
    pub firmware: Option<String>,
    /// The course.
    pub course: String,
    /// How the run was set up, in one line.
    pub situation: String,
    /// What it came to.
    pub digest: Digest,
}

/// How far the life of a drive is used, as it told at two moments.
#[derive(Clone, Debug, PartialEq)]
pub struct Worn {
    /// Serial number.
    pub serial: String,
    /// Seconds from the first moment to the last.
    pub over_s: f64,
    /// Percent of its rated life used at the first and the last, where it told.
    pub used: [Option<u64>; 2],
    /// Bytes written by the host at the first and the last.
    pub written: [Option<u64>; 2],
}

/// A figure of a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "`words` says it")]
pub enum Quantity {
    Burst,
    Cache,
    Settled,
    ThrottlesAt,
    ThrottlesAfter,
    Highest,
    Used,
    WrittenADay,
    LifeLeft,
}

impl Quantity {
    /// All of them, in the order in which they are shown.
    pub const ALL: [Self; 9] = [
        Self::Burst,
        Self::Cache,
        Self::Settled,
        Self::ThrottlesAt,
        Self::ThrottlesAfter,
        Self::Highest,
        Self::Used,
        Self::WrittenADay,
        Self::LifeLeft,
    ];

    /// What it is called, and its unit.
    pub fn words(self) -> (&'static str, &'static str) {
        match self {
            Self::Burst => ("first plateau", "MB/s"),
            Self::Cache => ("write cache", "GB"),
            Self::Settled => ("settled rate", "MB/s"),
            Self::ThrottlesAt => ("throttles at", "°C"),
            Self::ThrottlesAfter => ("throttles after", "s"),
            Self::Highest => ("highest temperature", "°C"),
            Self::Used => ("rated life used", "%"),
            Self::WrittenADay => ("written a day", "GB"),
            Self::LifeLeft => ("rated life left at this pace", "days"),
        }
    }

    /// Decimals in which it is shown.
    pub fn decimals(self) -> usize {
        match self {
            Self::Cache | Self::ThrottlesAt | Self::Highest | Self::WrittenADay => 1,
            _ => 0,
        }
    }

    /// Of a run; the last three come from the health of drives.
    fn of(self, digest: &Digest) -> Option<f64> {
        match self {
            Self::Burst => digest.burst_mb_s,
            Self::Cache => digest.cache_bytes.map(|b| b as f64 / 1e9),
            Self::Settled => digest.settled_mb_s,
            Self::ThrottlesAt => digest.throttles_at_c,
            Self::ThrottlesAfter => digest.throttles_after_s,
            Self::Highest => digest.max_c,
            Self::Used | Self::WrittenADay | Self::LifeLeft => None,
        }
    }

    fn of_life(self, worn: &Worn) -> Option<f64> {
        let days = worn.over_s / 86_400.0;
        let a_day = |from: Option<u64>, to: Option<u64>| {
            let grown = to?.checked_sub(from?)? as f64;
            (days >= 1.0).then(|| grown / days)
        };
        match self {
            Self::Used => worn.used[1].map(|u| u as f64),
            Self::WrittenADay => a_day(worn.written[0], worn.written[1]).map(|b| b / 1e9),
            Self::LifeLeft => {
                // The share comes in whole percent: from three of them the pace is known to a third either way.
                let (first, last) = (worn.used[0]?, worn.used[1]?);
                let pace = a_day(Some(first), Some(last)).filter(|_| last >= first + 3)?;
                Some((100.0 - last as f64).max(0.0) / pace)
            }
            _ => None,
        }
    }
}

/// A drive that stands out.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct StandsOut {
    /// Serial number.
    pub serial: String,
    /// Its value.
    pub value: f64,
    /// Its distance from the mean of those that were not taken out before it, in their standard deviations.
    pub deviates: f64,
    /// What the furthest of so many exceeds with a chance of 5 %.
    pub critical: f64,
}

/// A figure over the drives of a model.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Spread {
    /// Which.
    pub quantity: Quantity,
    /// Drives that have it.
    pub drives: usize,
    /// Median of these.
    pub median: f64,
    /// Lowest.
    pub min: f64,
    /// Highest.
    pub max: f64,
    /// Their mean, with its interval.
    pub mean: Mean,
    /// The drives that stand out, the furthest first; `None` where there are too few to say.
    pub stands_out: Option<Vec<StandsOut>>,
}

/// A drive of a model.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Drive {
    /// Serial number.
    pub serial: String,
    /// Firmware in the last run.
    pub firmware: Option<String>,
    /// Runs of the course.
    pub runs: usize,
    /// The last of them.
    pub last_run: i64,
    /// Its figures: means over these runs.
    pub figures: BTreeMap<Quantity, f64>,
}

/// Two versions of firmware against each other.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Firmware {
    /// The version that most drives have.
    pub from: String,
    /// The other.
    pub to: String,
    /// Which figure.
    pub quantity: Quantity,
    /// Drives of each.
    pub drives: [usize; 2],
    /// Means of each.
    pub means: [f64; 2],
    /// `to` less `from`.
    pub difference: Difference,
    /// Chance of such a difference without a cause, corrected for the number of figures and versions (Holm).
    pub corrected: Option<f64>,
    /// Whether it is established: a corrected chance below 5 %.
    pub established: bool,
}

/// All drives of a model, over the runs of one course.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Fleet {
    /// The model.
    pub model: String,
    /// The course.
    pub course: String,
    /// Courses of the model's runs, with how many drives and runs each has.
    pub courses: Vec<(String, usize, usize)>,
    /// Runs of the course.
    pub runs: usize,
    /// Its drives, by serial number.
    pub drives: Vec<Drive>,
    /// The figures, where a drive has any.
    pub spreads: Vec<Spread>,
    /// Versions of firmware against each other, where several have three drives.
    pub firmware: Vec<Firmware>,
    /// What else differs among the runs, and what is left out.
    pub notes: Vec<String>,
}

/// Puts the drives of a model beside each other. Without a course, that with the most drives is taken; `None` where there is no run.
pub fn fleet(model: &str, seen: &[Seen], worn: &[Worn], course: Option<&str>) -> Option<Fleet> {
    let mut by_course: BTreeMap<&str, (std::collections::BTreeSet<&str>, usize)> = BTreeMap::new();
    for s in seen {
        let (drives, runs) = by_course.entry(&s.course).or_default();
        drives.insert(&s.serial);
        *runs += 1;
    }
    let mut courses: Vec<(String, usize, usize)> =
        by_course.iter().map(|(name, (drives, runs))| ((*name).to_owned(), drives.len(), *runs)).collect();
    courses.sort_by(|a, b| (b.1, b.2).cmp(&(a.1, a.2)).then(a.0.cmp(&b.0)));
    let course = match course {
        Some(named) => courses.iter().find(|c| c.0 == named)?.0.clone(),
        None => courses.first()?.0.clone(),
    };
    let of_course: Vec<&Seen> = seen.iter().filter(|s| s.course == course).collect();
    let drives = drives_of(&of_course, worn);
    let mut notes = Vec::new();
    if let Some(note) = set_up(&of_course) {
        notes.push(note);
    }
    let spreads: Vec<Spread> = Quantity::ALL.into_iter().filter_map(|q| spread(q, &drives)).collect();
    if drives.len() < FEWEST {
        notes.push(format!("With fewer than {FEWEST} drives it is not said which stands out."));
    }
    Some(Fleet {
        model: model.to_owned(),
        course,
        courses,
        runs: of_course.len(),
        firmware: firmware(&drives),
        spreads,
        drives,
        notes,
    })
}

fn drives_of(seen: &[&Seen], worn: &[Worn]) -> Vec<Drive> {
    let mut by_drive: BTreeMap<&str, Vec<&Seen>> = BTreeMap::new();
    for s in seen {
        by_drive.entry(&s.serial).or_default().push(s);
    }
    let life: BTreeMap<&str, &Worn> = worn.iter().map(|w| (w.serial.as_str(), w)).collect();
    let drive = |(serial, runs): (&str, Vec<&Seen>)| {
        let last = runs.iter().max_by_key(|s| (s.started, s.run))?;
        let figure = |quantity: Quantity| {
            let values: Vec<f64> = runs.iter().filter_map(|s| quantity.of(&s.digest)).collect();
            let of_life = || life.get(serial).and_then(|w| quantity.of_life(w));
            let value = repeats::Figure::of(&values).map(|f| f.mean).or_else(of_life)?;
            value.is_finite().then_some((quantity, value))
        };
        Some(Drive {
            serial: serial.to_owned(),
            firmware: last.firmware.clone(),
            runs: runs.len(),
            last_run: last.run,
            figures: Quantity::ALL.into_iter().filter_map(figure).collect(),
        })
    };
    by_drive.into_iter().filter_map(drive).collect()
}

/// Says how many of the runs were set up differently from most.
fn set_up(seen: &[&Seen]) -> Option<String> {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for s in seen {
        *counts.entry(&s.situation).or_default() += 1;
    }
    let (usual, most) = counts.iter().max_by_key(|(_, n)| **n)?;
    let others = seen.len() - most;
    let usual = if usual.is_empty() { "not said how" } else { usual };
    let all = seen.len();
    match counts.len() {
        0 | 1 => None,
        // There is no most.
        n if 2 * most <= all => Some(format!(
            "The {all} runs were set up in {n} different ways; temperatures and throttling depend on that."
        )),
        _ => Some(format!(
            "{others} of {all} runs were set up differently from most ({usual}); temperatures and throttling depend on that."
        )),
    }
}

fn spread(quantity: Quantity, drives: &[Drive]) -> Option<Spread> {
    let named: Vec<(&str, f64)> =
        drives.iter().filter_map(|d| Some((d.serial.as_str(), *d.figures.get(&quantity)?))).collect();
    let values: Vec<f64> = named.iter().map(|n| n.1).collect();
    let mean = Mean::of(&values)?;
    Some(Spread {
        quantity,
        drives: values.len(),
        median: median(&mut values.clone())?,
        min: values.iter().copied().fold(f64::INFINITY, f64::min),
        max: values.iter().copied().fold(f64::NEG_INFINITY, f64::max),
        mean,
        stands_out: outliers(&values).map(|found| {
            found
                .into_iter()
                .map(|o| StandsOut {
                    serial: named[o.at].0.to_owned(),
                    value: o.value,
                    deviates: o.deviates,
                    critical: o.critical,
                })
                .collect()
        }),
    })
}

/// A value that is further from the others than chance has it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Outlier {
    /// Its place in the list.
    pub at: usize,
    /// The value.
    pub value: f64,
    /// See [`StandsOut::deviates`].
    pub deviates: f64,
    /// See [`StandsOut::critical`].
    pub critical: f64,
}

/// The values that stand out, the furthest first, by the generalized extreme Studentized deviate test at 5 %; `None` of fewer than seven values, or of values that
/// do not vary.
pub fn outliers(values: &[f64]) -> Option<Vec<Outlier>> {
    let n = values.len();
    let most = if n < SEVERAL { 1 } else { (n as f64 * MOST).ceil() as usize };
    outliers_up_to(values, most)
}

/// The same, for at most so many.
fn outliers_up_to(values: &[f64], most: usize) -> Option<Vec<Outlier>> {
    let n = values.len();
    if n < FEWEST {
        return None;
    }
    let mut left: Vec<(usize, f64)> = values.iter().copied().enumerate().collect();
    let (mut taken, mut found) = (Vec::new(), 0);
    for i in 1..=most {
        let (mean, sd) = mean_sd(&left.iter().map(|v| v.1).collect::<Vec<_>>())?;
        if sd <= 0.0 {
            break;
        }
        let furthest =
            (0..left.len()).max_by(|a, b| (left[*a].1 - mean).abs().total_cmp(&(left[*b].1 - mean).abs()))?;
        let (at, value) = left.swap_remove(furthest);
        let (deviates, critical) = ((value - mean).abs() / sd, critical(n, i)?);
        taken.push(Outlier { at, value, deviates, critical });
        // As many stand out as the last test says that does not hold: one far value may hide behind another.
        if deviates > critical {
            found = i;
        }
    }
    if taken.is_empty() {
        return None;
    }
    taken.truncate(found);
    Some(taken)
}

/// What the i-th furthest of n values exceeds with a chance of 5 % (Rosner, equation 2.5).
fn critical(n: usize, i: usize) -> Option<f64> {
    let rest = (n - i) as f64;
    let chance = 1.0 - ALPHA / (2.0 * (rest + 1.0));
    let t = welch::quantile(chance, rest - 1.0)?;
    Some(rest * t / ((rest - 1.0 + t * t) * (rest + 1.0)).sqrt())
}

/// The version of firmware that most drives have against each other one, figure by figure.
fn firmware(drives: &[Drive]) -> Vec<Firmware> {
    let mut versions: BTreeMap<&str, Vec<&Drive>> = BTreeMap::new();
    for drive in drives {
        if let Some(version) = &drive.firmware {
            versions.entry(version).or_default().push(drive);
        }
    }
    versions.retain(|_, drives| drives.len() >= welch::ENOUGH);
    let Some(usual) = versions.iter().max_by_key(|(_, drives)| drives.len()).map(|(v, _)| *v) else {
        return Vec::new();
    };
    let values = |version: &str, quantity: Quantity| -> Vec<f64> {
        versions[version].iter().filter_map(|d| d.figures.get(&quantity).copied()).collect()
    };
    let mut all = Vec::new();
    for other in versions.keys().filter(|v| **v != usual) {
        // What a drive has lived through is not its firmware's doing.
        for quantity in Quantity::ALL.into_iter().filter(|q| *q < Quantity::Used) {
            let (a, b) = (values(usual, quantity), values(other, quantity));
            let Some(difference) = welch::independent(&a, &b, 0.0) else { continue };
            let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
            all.push(Firmware {
                from: usual.to_owned(),
                to: (*other).to_owned(),
                quantity,
                drives: [a.len(), b.len()],
                means: [mean(&a), mean(&b)],
                difference,
                corrected: None,
                established: false,
            });
        }
    }
    let tested: Vec<usize> = (0..all.len()).filter(|i| all[*i].difference.p.is_some()).collect();
    let chances: Vec<f64> = tested.iter().filter_map(|i| all[*i].difference.p).collect();
    for (i, corrected) in tested.into_iter().zip(welch::holm(&chances)) {
        all[i].corrected = Some(corrected);
        all[i].established = corrected < ALPHA;
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The data and what is found in them are Rosner's, as the e-Handbook of Statistical Methods of NIST and SEMATECH gives them (section 1.3.5.17.3):
    /// three values stand out, and the test statistics and critical values of all ten steps are printed there.
    #[test]
    fn the_worked_example_of_the_handbook_comes_out() {
        let data = [
            -0.25, 0.68, 0.94, 1.15, 1.20, 1.26, 1.26, 1.34, 1.38, 1.43, 1.49, 1.49, 1.55, 1.56, 1.58, 1.65,
            1.69, 1.70, 1.76, 1.77, 1.81, 1.91, 1.94, 1.96, 1.99, 2.06, 2.09, 2.10, 2.14, 2.15, 2.23, 2.24,
            2.26, 2.35, 2.37, 2.40, 2.47, 2.54, 2.62, 2.64, 2.90, 2.92, 2.92, 2.93, 3.21, 3.26, 3.30, 3.59,
            3.68, 4.30, 4.64, 5.34, 5.42, 6.01,
        ];
        let found = outliers_up_to(&data, 10).unwrap();
        assert_eq!(found.iter().map(|o| o.value).collect::<Vec<_>>(), [6.01, 5.42, 5.34]);
        for (o, statistic) in found.iter().zip([3.119, 2.943, 3.179]) {
            assert!((o.deviates - statistic).abs() < 5e-4, "{o:?}");
        }
        let printed = [3.159, 3.151, 3.144, 3.136, 3.128, 3.120, 3.112, 3.103, 3.094, 3.085];
        for (i, value) in printed.into_iter().enumerate() {
            assert!((critical(54, i + 1).unwrap() - value).abs() < 1.1e-3, "{i}");
        }
    }

    fn random() -> impl FnMut() -> f64 {
        use rand_core::{Rng, SeedableRng};
        let mut random = rand_xoshiro::Xoshiro256PlusPlus::seed_from_u64(5);
        // Twelve uniform values make a normal one.
        move || (0..12).map(|_| random.next_u64() as f64 / u64::MAX as f64).sum::<f64>() - 6.0
    }

    /// Of models whose drives are all alike, one in twenty has a drive that is said to stand out, and not more.
    #[test]
    fn drives_that_are_alike_stand_out_in_one_of_twenty_models() {
        let mut normal = random();
        for n in [7, 12, 20, 60] {
            let rounds = 2000;
            let wrong = (0..rounds)
                .filter(|_| {
                    let values: Vec<f64> = (0..n).map(|_| 1000.0 + 20.0 * normal()).collect();
                    outliers(&values).is_some_and(|o| !o.is_empty())
                })
                .count();
            // 5 % of 2,000 is 100; the binomial bound of one in ten thousand is 138.
            assert!((50..=138).contains(&wrong), "{n} drives: {wrong} of {rounds}");
        }
    }

    fn seen(run: i64, serial: usize, firmware: &str, settled: f64) -> Seen {
        Seen {
            run,
            started: run,
            serial: format!("S{serial:03}"),
            firmware: Some(firmware.into()),
            course: "soak".into(),
            situation: "bare".into(),
            digest: Digest { settled_mb_s: Some(settled), ..Digest::default() },
        }
    }

    #[test]
    fn a_drive_that_is_slower_and_a_firmware_that_is_faster_are_found() {
        let mut normal = random();
        let mut all = Vec::new();
        for drive in 0..40 {
            let (firmware, faster) = if drive < 30 { ("1.0", 0.0) } else { ("1.1", 60.0) };
            let own = if drive == 7 { 700.0 } else { 1000.0 + faster + 8.0 * normal() };
            // Drive 3 was run far more often than the others; it counts once.
            for run in 0..if drive == 3 { 50 } else { 3 } {
                all.push(seen(i64::from(drive) * 100 + run, drive as usize, firmware, own + 2.0 * normal()));
            }
        }
        let found = fleet("K", &all, &[], None).unwrap();
        assert_eq!((found.drives.len(), found.runs, found.course.as_str()), (40, 39 * 3 + 50, "soak"));
        let settled = &found.spreads[0];
        assert_eq!((settled.quantity, settled.drives), (Quantity::Settled, 40));
        let out: Vec<_> = settled.stands_out.as_ref().unwrap().iter().map(|o| o.serial.as_str()).collect();
        assert_eq!(out, ["S007"]);
        let [firmware] = found.firmware.as_slice() else { panic!("{:?}", found.firmware) };
        assert_eq!((firmware.from.as_str(), firmware.to.as_str(), firmware.drives), ("1.0", "1.1", [30, 10]));
        assert!(firmware.established && (firmware.difference.value - 70.0).abs() < 15.0, "{firmware:?}");
    }

    #[test]
    fn too_few_drives_are_told_nothing_of_and_courses_are_not_mixed() {
        let mut all: Vec<Seen> = (0..6).map(|d| seen(d, d as usize, "1", 1000.0 + d as f64)).collect();
        all[5].digest.settled_mb_s = Some(1.0);
        all.push(Seen { course: "other".into(), ..seen(99, 99, "1", 5.0) });
        let found = fleet("K", &all, &[], None).unwrap();
        assert_eq!(found.courses, [("soak".into(), 6, 6), ("other".into(), 1, 1)]);
        assert_eq!(found.spreads[0].stands_out, None);
        assert!(found.notes.iter().any(|n| n.contains("fewer than 7")));
        assert_eq!((found.spreads[0].min, found.spreads[0].max), (1.0, 1004.0));
        assert_eq!(fleet("K", &all, &[], Some("other")).unwrap().drives.len(), 1);
        assert_eq!(fleet("K", &all, &[], Some("none")), None);
        assert_eq!(fleet("K", &[], &[], None), None);
    }

    #[test]
    fn the_pace_of_wear_is_said_from_three_percent_on() {
        let worn = |used: [u64; 2], written: [u64; 2], days: f64| Worn {
            serial: "S000".into(),
            over_s: days * 86_400.0,
            used: used.map(Some),
            written: written.map(Some),
        };
        let life =
            |w: Worn| fleet("K", &[seen(1, 0, "1", 1.0)], &[w], None).unwrap().drives.remove(0).figures;
        let figures = life(worn([10, 20], [0, 5_000_000_000_000], 100.0));
        assert_eq!(figures[&Quantity::Used], 20.0);
        assert_eq!(figures[&Quantity::WrittenADay], 50.0);
        // 80 % left, at a tenth of a percent a day.
        assert!((figures[&Quantity::LifeLeft] - 800.0).abs() < 1e-9);
        assert!(!life(worn([10, 12], [0, 1], 100.0)).contains_key(&Quantity::LifeLeft));
        assert!(
            !life(worn([10, 12], [5, 1], 100.0)).contains_key(&Quantity::WrittenADay),
            "a counter that went back"
        );
        assert!(!life(worn([0, 9], [0, 9], 0.5)).contains_key(&Quantity::LifeLeft));
    }

    /// Of three runs that were each set up in another way, two were said to differ "from most".
    #[test]
    fn there_is_a_most_only_where_more_than_half_are_alike() {
        let set_up = |ways: &[&str]| {
            let all: Vec<Seen> =
                ways.iter().map(|way| Seen { situation: (*way).into(), ..seen(1, 0, "1", 1.0) }).collect();
            let notes = fleet("K", &all, &[], None).unwrap().notes;
            notes.into_iter().find(|n| n.contains("set up"))
        };
        assert_eq!(set_up(&["bare", "bare", "bare"]), None);
        assert!(set_up(&["bare", "fan", "bare"]).unwrap().starts_with("1 of 3 runs were set up differently"));
        for ways in [&["bare", "fan", "plate"][..], &["bare", "fan"], &["bare", "bare", "fan", "plate"]] {
            let said = set_up(ways).unwrap();
            assert!(said.starts_with(&format!("The {} runs were set up in", ways.len())), "{said}");
        }
    }
}
