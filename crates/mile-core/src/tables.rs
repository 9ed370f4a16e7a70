//! Sweeps over any names as tables: a row or a cell for each value, from the legs that bear them in their names.

use crate::leg_name::LegName;
use crate::legs::LegRow;
use crate::repeats::{Figure, Nested};
use crate::sample::Op;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;

/// Base name of legs that only prepare.
const PREPARES: &str = "prepare";

/// A leg of a sweep over one or more names.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SweepTable {
    /// Name of the leg, with its lane where there are several.
    pub leg: String,
    /// What it did.
    pub op: Op,
    /// The names that it goes over: `depth`, `workers`.
    pub over: Vec<String>,
    /// The values of each name, in order.
    pub values: Vec<Vec<String>>,
    /// A cell for each combination that was run.
    pub cells: Vec<SweepCell>,
}

/// One combination of values.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SweepCell {
    /// The value of each name: its place in the list of values.
    pub at: Vec<usize>,
    /// Rate over its repeats, MB/s.
    pub mb_s: Figure,
    /// Operations a second.
    pub iops: Option<Figure>,
    /// 99 of 100 operations took no longer, µs.
    pub p99_us: Option<Figure>,
    /// Highest temperature, °C.
    pub max_c: Option<Figure>,
    /// Whether its rate is the highest of the table.
    pub is_best: bool,
    /// Whether its rate cannot be told from the highest: their intervals overlap. `None` where there are too few repeats to say.
    pub is_within_noise: Option<bool>,
}

impl SweepTable {
    /// The cell of these values, by their places.
    pub fn cell(&self, at: &[usize]) -> Option<&SweepCell> {
        self.cells.iter().find(|c| c.at == at)
    }

    /// A value as a number, by its name's and its own place: bytes of sizes, seconds of times; 0 where it is none.
    pub fn number(&self, name: usize, value: usize) -> f64 {
        size(&self.over[name], &self.values[name][value])
    }

    /// The values of a cell in words: `depth 4, workers 8`.
    pub fn words(&self, cell: &SweepCell) -> String {
        let each = self
            .over
            .iter()
            .zip(&self.values)
            .zip(&cell.at)
            .map(|((name, values), at)| format!("{name} {}", values[*at]));
        each.collect::<Vec<_>>().join(", ")
    }
}

/// Orders in which the passes of a scan go over the surface, as they stand in the names of its legs.
const ORDERS: [&str; 3] = ["forward", "backward", "random"];

/// The name and the value of a step: `depth 16`, `fill 50 %`, `blocks 4 KiB`. A step without a number is the name of a battery, and `pass 2 random` a pass
/// of a scan: over passes goes no sweep.
fn step(text: &str) -> Option<(&str, &str)> {
    let number = |word: &str| word.parse::<f64>().is_ok();
    let words: Vec<&str> = text.split(' ').collect();
    if words.last().is_some_and(|last| ORDERS.contains(last)) {
        return None;
    }
    let first = words.iter().position(|w| number(w)).filter(|i| *i > 0 && words.len() - i <= 2)?;
    let at = words[..first].iter().map(|w| w.len() + 1).sum::<usize>();
    Some((text[..at - 1].trim(), &text[at..]))
}

/// A value as a number, where it has one with a unit that is known.
fn size(name: &str, value: &str) -> f64 {
    let of = LegName { steps: vec![format!("{name} {value}")], ..LegName::default() };
    of.value(name).or_else(|| duration(value)).unwrap_or(0.0)
}

fn duration(value: &str) -> Option<f64> {
    let (number, unit) = value.split_once(' ')?;
    let number: f64 = number.parse().ok()?;
    let seconds = match unit {
        "ms" => 1e-3,
        "s" => 1.0,
        "min" => 60.0,
        "h" => 3600.0,
        "d" => 86_400.0,
        _ => 1.0,
    };
    Some(number * seconds)
}

/// The sweeps of a run, each leg of a sweep by itself. One value alone is no sweep.
pub fn sweep_tables(rows: &[LegRow]) -> Vec<SweepTable> {
    type Key = (String, Op, Vec<String>);
    let mut order: Vec<Key> = Vec::new();
    let mut groups: HashMap<Key, Vec<(&LegRow, Vec<String>)>> = HashMap::new();
    for row in rows.iter().filter(|r| r.mean_mb_s.is_some()) {
        let name = LegName::read(&row.leg);
        let steps: Vec<(&str, &str)> = name.steps.iter().filter_map(|s| step(s)).collect();
        if steps.is_empty() || name.base == PREPARES {
            continue;
        }
        let lane = if row.lane.is_empty() { String::new() } else { format!("{}: ", row.lane) };
        let batteries = name.steps.iter().filter(|s| step(s).is_none()).map(|s| format!("{s} / "));
        let leg = format!("{lane}{}{}", batteries.collect::<String>(), name.base);
        let key = (leg, row.op, steps.iter().map(|s| s.0.to_owned()).collect());
        let values = steps.iter().map(|s| s.1.to_owned()).collect();
        groups
            .entry(key.clone())
            .or_insert_with(|| {
                order.push(key);
                Vec::new()
            })
            .push((row, values));
    }
    order.into_iter().filter_map(|key| table(groups.remove(&key)?, key)).collect()
}

fn table(
    group: Vec<(&LegRow, Vec<String>)>,
    (leg, op, over): (String, Op, Vec<String>),
) -> Option<SweepTable> {
    let values: Vec<Vec<String>> = over
        .iter()
        .enumerate()
        .map(|(i, name)| {
            let mut own: Vec<String> = Vec::new();
            for (_, values) in &group {
                if !own.contains(&values[i]) {
                    own.push(values[i].clone());
                }
            }
            own.sort_by(|a, b| size(name, a).total_cmp(&size(name, b)));
            own
        })
        .collect();
    if values.iter().all(|v| v.len() < 2) {
        return None;
    }
    let mut cells: HashMap<Vec<usize>, Vec<&LegRow>> = HashMap::new();
    for (row, own) in &group {
        let at = own.iter().zip(&values).filter_map(|(v, all)| all.iter().position(|a| a == v)).collect();
        cells.entry(at).or_default().push(row);
    }
    let figure = |rows: &[&LegRow], of: fn(&LegRow) -> Option<f64>| {
        let mut nested = Nested::default();
        for row in rows {
            if let Some(value) = of(row) {
                nested.push(LegName::read(&row.leg).repeats, value);
            }
        }
        Figure::of(&nested.independent()).map(Figure::of_amount)
    };
    let mut cells: Vec<SweepCell> = cells
        .into_iter()
        .filter_map(|(at, rows)| {
            Some(SweepCell {
                at,
                mb_s: figure(&rows, |r| r.mean_mb_s)?,
                iops: figure(&rows, |r| r.iops),
                p99_us: figure(&rows, |r| r.p99_us),
                max_c: figure(&rows, |r| r.max_c),
                is_best: false,
                is_within_noise: None,
            })
        })
        .collect();
    cells.sort_by(|a, b| a.at.cmp(&b.at));
    let best = cells.iter().max_by(|a, b| a.mb_s.mean.total_cmp(&b.mb_s.mean))?.mb_s;
    let mut has_best = false;
    for cell in &mut cells {
        cell.is_best = !has_best && cell.mb_s.mean == best.mean;
        has_best |= cell.is_best;
        cell.is_within_noise = cell.mb_s.high.zip(best.low).map(|(high, low)| high >= low);
    }
    Some(SweepTable { leg, op, over, values, cells })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::{Context, findings};
    use crate::legs::leg_rows;
    use crate::sample::Sample;
    use crate::stages::LaneTrace;
    use crate::trace::Trace;
    use crate::units::{Bytes, Nanos};

    fn rows(legs: &[(&str, f64)]) -> Vec<LegRow> {
        let mut trace = Trace::new();
        for (i, (name, mb_s)) in legs.iter().enumerate() {
            for k in 0..5 {
                let at = (i * 5 + k) as u64 * 1_000_000_000;
                let sample = Sample {
                    start: Nanos(at),
                    end: Nanos(at + 1_000_000_000),
                    op: Op::Read,
                    read: Bytes((mb_s * 1e6) as u64),
                    ..Sample::default()
                };
                trace.push(&sample, name);
            }
        }
        let context = Context::default();
        let lane = LaneTrace { name: "", trace: &trace, context: &context, series: &[], number: 0 };
        leg_rows(&lane, &findings(&trace, &context).legs)
    }

    /// Bug: the passes of a scan were drawn as a sweep over their numbers.
    #[test]
    fn the_passes_of_a_scan_are_no_sweep() {
        let passes = rows(&[("pass 1 forward / look", 200.0), ("pass 2 random / look", 190.0)]);
        assert_eq!(sweep_tables(&passes), []);
        let swept = [("pass 1 / look", 200.0), ("pass 2 / look", 190.0)];
        assert_eq!(sweep_tables(&rows(&swept)).len(), 1, "a variable of a course may have that name");
    }

    #[test]
    fn two_names_are_a_matrix_whose_cells_say_which_value_is_which() {
        let mut legs = Vec::new();
        let names: Vec<(String, f64)> = [4, 1, 16]
            .into_iter()
            .flat_map(|d| [8, 1].map(|w| (d, w)))
            .flat_map(|(d, w)| {
                (1..=3).map(move |r| {
                    (
                        format!("depth {d} / workers {w} / random / repeat {r}"),
                        f64::from(100 * d + 10 * w + r),
                    )
                })
            })
            .collect();
        legs.extend(names.iter().map(|(n, r)| (n.as_str(), *r)));
        let tables = sweep_tables(&rows(&legs));
        assert_eq!(tables.len(), 1);
        let t = &tables[0];
        assert_eq!(
            (t.leg.as_str(), t.over.as_slice()),
            ("random", ["depth".to_owned(), "workers".to_owned()].as_slice())
        );
        assert_eq!(t.values, [vec!["1", "4", "16"], vec!["1", "8"]]);
        assert_eq!(t.cells.len(), 6);
        let cell = t.cell(&[1, 1]).unwrap();
        assert_eq!((t.words(cell).as_str(), cell.mb_s.mean, cell.mb_s.n), ("depth 4, workers 8", 482.0, 3));
        let best: Vec<String> = t.cells.iter().filter(|c| c.is_best).map(|c| t.words(c)).collect();
        assert_eq!(best, ["depth 16, workers 8"]);
        assert_eq!(t.cell(&[2, 0]).unwrap().is_within_noise, Some(false));
    }

    #[test]
    fn any_name_is_a_sweep_in_the_order_of_its_values_and_one_value_is_none() {
        let tables = sweep_tables(&rows(&[
            ("rest 10 min / burst", 300.0),
            ("rest 30 s / burst", 100.0),
            ("rest 1 h / burst", 200.0),
            ("battery / read", 50.0),
            ("depth 4 / alone", 50.0),
            ("fill 50 % / prepare", 70.0),
            ("fill 90 % / prepare", 70.0),
        ]));
        assert_eq!(tables.len(), 1);
        assert_eq!(
            (tables[0].over.as_slice(), tables[0].values[0].as_slice()),
            (["rest".to_owned()].as_slice(), ["30 s", "10 min", "1 h"].map(String::from).as_slice())
        );
        assert!(
            tables[0].cells.iter().all(|c| c.is_within_noise.is_none()),
            "one repeat has no noise to be within"
        );
        assert_eq!(step("blocks 4 KiB"), Some(("blocks", "4 KiB")));
        assert_eq!((step("battery"), step("2 slots"), step("pass 1 forward now")), (None, None, None));
    }
}
