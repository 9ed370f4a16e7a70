//! Sweeps, demands, recovery and steady state as lines of text, for the report and for the terminal.

use mile_core::Nanos;
use mile_core::demand::DemandFound;
use mile_core::findings::Findings;
use mile_core::repeats::Figure;
use mile_core::span::SpanFound;
use mile_core::steady::Steady;
use mile_core::sweeps::{Crossover, FillFound, FillLevel, Ramp, RampFound, RampPoint, Recovery, WorseFrom};
use mile_core::units::{Bytes, block_size, number};

/// Bars of a cell, from little to all of the most.
const BARS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
/// Legs in steady state that are listed.
const MOST_STEADY: usize = 12;

/// Everything but the fill levels, at most about `width` characters wide.
pub(crate) fn sweeps(found: &Findings, width: usize) -> Vec<String> {
    let mut out = Vec::new();
    let mut part = |lines: Vec<String>| {
        if !lines.is_empty() {
            if !out.is_empty() {
                out.push(String::new());
            }
            out.extend(lines);
        }
    };
    part(demands(&found.demand));
    part(found.recovery.as_ref().map(recovery).unwrap_or_default());
    part(found.span.as_ref().map(|s| spans(s, width)).unwrap_or_default());
    part(found.ramp.as_ref().map(|r| ramps(r, width)).unwrap_or_default());
    part(steady(&found.steady));
    out
}

/// What a sweep came to, in whole sentences: the answers to what its course asks.
pub(crate) fn in_sentences(found: &Findings) -> Vec<String> {
    let mut all = found.fill.as_ref().map(levels_in_sentences).unwrap_or_default();
    if let Some(ramp) = &found.ramp {
        all.extend(ramp.ramps.iter().filter_map(fastest));
        all.extend(ramp.crossovers.iter().map(|c| format!("{}.", capital(&overtakes(c)))));
    }
    all.extend(found.demand.iter().map(|d| match d.shortfalls.first().filter(|_| !d.held) {
        None => format!("The demand {} of {} MB/s is held.", d.name, number(d.rate_mb_s)),
        Some(first) => format!(
            "The demand {} of {} MB/s is not held: {} are lost, the first after {}.",
            d.name,
            number(d.rate_mb_s),
            Bytes(d.lost_bytes),
            Nanos::from_secs(first.start_s)
        ),
    }));
    all.extend(found.recovery.as_ref().and_then(|r| r.points.last()).map(|p| {
        let rest = Nanos::from_secs(p.rest_s);
        format!(
            "After a rest of {rest} the write cache takes {} again, {:.0} % of it.",
            Bytes(p.bytes),
            p.share_pct
        )
    }));
    all.extend(found.span.as_ref().map(SpanFound::sentences).unwrap_or_default());
    all
}

fn levels_in_sentences(found: &FillFound) -> Vec<String> {
    let (Some(first), Some(last)) = (found.levels.first(), found.levels.last()) else { return Vec::new() };
    let worse = |w: &WorseFrom| {
        format!(
            "{} is {:.0} % {} at {} full than at {}.",
            capital(figure_words(&w.figure)),
            -w.change_pct,
            if w.figure == "cache" { "smaller" } else { "lower" },
            percent(w.fill_pct),
            percent(first.fill_pct)
        )
    };
    let mut all: Vec<String> = found.worse_from.iter().map(worse).collect();
    let open = found.open();
    if all.is_empty() && open.is_none() {
        let (from, to) = (percent(first.fill_pct), percent(last.fill_pct));
        all.push(format!("From {from} to {to} full no figure gets worse by more than a tenth."));
    }
    all.extend(open.as_ref().map(open_words));
    all
}

/// The point of a ramp at which it is fastest.
fn fastest(ramp: &Ramp) -> Option<String> {
    let most = ramp.points.iter().max_by(|a, b| a.mb_s.mean.total_cmp(&b.mb_s.mean))?;
    let count = |n: u32, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
    let with = [
        most.block_bytes.map(|b| format!("blocks of {}", block_size(Bytes(b)))),
        most.depth.map(|d| format!("{d} in flight")),
        most.workers.map(|w| count(w, "worker")),
    ];
    let with = with.into_iter().flatten().collect::<Vec<_>>().join(", ");
    Some(format!("{} is fastest with {with}: {} MB/s.", capital(&ramp.leg), number(most.mb_s.mean)))
}

fn overtakes(c: &Crossover) -> String {
    let block = block_size(Bytes(c.block_bytes));
    format!("{} overtakes {} from blocks of {block} on, {} in flight", c.faster, c.slower, c.outstanding)
}

/// A sentence that begins with a name.
fn capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or(String::new(), |c| c.to_uppercase().chain(letters).collect())
}

/// A level without digits that nobody wrote: `25 %`.
pub(crate) fn percent(pct: f64) -> String {
    format!("{} %", (pct * 10.0).round() / 10.0)
}

fn demands(all: &[DemandFound]) -> Vec<String> {
    if all.is_empty() {
        return Vec::new();
    }
    let mut out =
        vec![format!("{:<14} {:>10} {:>9}  {:<8} {:>12}", "demand", "MB/s", "buffer", "", "highest MB/s")];
    for d in all {
        let held = if d.held { "held" } else { "not held" };
        out.push(format!(
            "{:<14} {:>10} {:>9}  {held:<8} {:>12}",
            d.name.chars().take(14).collect::<String>(),
            number(d.rate_mb_s),
            Bytes(d.buffer_bytes).to_string(),
            number(d.highest_mb_s)
        ));
        if let Some(first) = d.shortfalls.first() {
            let times = if d.shortfalls.len() > 1 {
                format!(", {} times", d.shortfalls.len())
            } else {
                String::new()
            };
            out.push(format!(
                "  lost from {} on, after {}{times}: {} in all",
                Bytes(first.at_bytes),
                Nanos::from_secs(first.start_s),
                Bytes(d.lost_bytes)
            ));
        }
        out.push(format!(
            "  smallest buffer that holds it: {}; stall {}",
            Bytes(d.smallest_buffer_bytes),
            Nanos::from_secs(d.longest_stall_s)
        ));
    }
    if let Some(first) = all.first() {
        out.push(format!("  against {} of leg {}", Bytes(first.bytes), first.leg));
    }
    out
}

fn recovery(found: &Recovery) -> Vec<String> {
    let mut out = vec![format!("The write cache of {} comes back:", Bytes(found.cache_bytes))];
    for p in &found.points {
        let bar = "▪".repeat((p.share_pct / 5.0).round().clamp(0.0, 20.0) as usize);
        out.push(format!(
            "  {:>12} {:>10} {:>6}  {bar}",
            Nanos::from_secs(p.rest_s).to_string(),
            Bytes(p.bytes).to_string(),
            format!("{:.0} %", p.share_pct)
        ));
    }
    out
}

/// A row for each share of the drive.
fn spans(found: &SpanFound, width: usize) -> Vec<String> {
    let heads = ["ms each", "95 % low", "high", "p99", "each second"];
    // Operations a second follow from the time of each: they are left out where there is no room.
    let columns = if width < 18 + 12 * heads.len() { heads.len() - 1 } else { heads.len() };
    let cell = ((width.saturating_sub(18)) / columns).clamp(8, 12);
    let row = |name: &str, cells: &[String]| {
        cells.iter().take(columns).fold(format!("{name:<18}"), |line, c| format!("{line}{c:>cell$}"))
    };
    let mut out = vec![row("Random reads over", &heads.map(str::to_owned))];
    for s in &found.shares {
        let ms = |us: Option<f64>| us.map_or("–".to_owned(), |us| format!("{:.3}", us / 1e3));
        let name = format!("{}, {}", mile_core::span::percent(s.share_pct), s.from);
        let cells = [ms(Some(s.mean_us)), ms(s.low_us), ms(s.high_us), ms(s.p99_us), number(s.iops)];
        out.push(row(&name, &cells));
    }
    out.extend(found.sentences());
    out
}

fn ramps(found: &RampFound, width: usize) -> Vec<String> {
    let mut out = Vec::new();
    let most = found.ramps.iter().flat_map(|r| &r.points).map(|p| p.mb_s.mean).fold(0.0, f64::max);
    for ramp in &found.ramps {
        out.extend(ramp_table(ramp, most, width));
    }
    out.extend(found.crossovers.iter().map(overtakes));
    out
}

/// Rates by block size down and by what is in flight across.
fn ramp_table(ramp: &Ramp, most: f64, width: usize) -> Vec<String> {
    let across = |p: &RampPoint| (p.workers, p.depth);
    let mut columns: Vec<_> = ramp.points.iter().map(across).collect();
    columns.sort_unstable();
    columns.dedup();
    let plain = |p: &RampPoint| {
        let share = (p.mb_s.mean / most * 7.0).round().clamp(0.0, 7.0) as usize;
        format!("{} {}", BARS[share], number(p.mb_s.mean))
    };
    let with_half = |p: &RampPoint| {
        let half = p.mb_s.high.map_or(String::new(), |high| format!(" ±{}", number(high - p.mb_s.mean)));
        plain(p) + &half
    };
    // Half of the interval stands beside each mean where there is room for that.
    let room = (width.saturating_sub(12) / columns.len().max(1)).clamp(8, 20);
    let longest = ramp.points.iter().map(|p| with_half(p).chars().count()).max().unwrap_or(0);
    let (halves, cell) =
        if longest < room { (true, room.min(longest.max(12) + 2)) } else { (false, room.min(14)) };
    let head: String = columns
        .iter()
        .map(|(workers, depth)| {
            let text = match (workers, depth) {
                (Some(w), Some(d)) => format!("{w} × {d}"),
                (Some(w), None) => format!("{w} worker{}", if *w == 1 { "" } else { "s" }),
                (None, Some(d)) => format!("{d} deep"),
                (None, None) => "MB/s".into(),
            };
            format!("{text:>cell$}")
        })
        .collect();
    let mut out = vec![format!("{:<12}{head}", format!("{}, MB/s", ramp.leg))];
    if columns.iter().any(|(workers, depth)| workers.is_some() && depth.is_some()) {
        out.push(format!("{:<12}workers × in flight of each", ""));
    }
    for line in ramp.points.chunk_by(|a, b| a.block_bytes == b.block_bytes) {
        let name = line[0].block_bytes.map_or(String::new(), |b| block_size(Bytes(b)));
        let values: String = columns
            .iter()
            .map(|c| match line.iter().find(|p| across(p) == *c) {
                None => format!("{:>cell$}", "–"),
                Some(p) => {
                    let text = if halves { with_half(p) } else { plain(p) };
                    format!("{text:>cell$}")
                }
            })
            .collect();
        out.push(format!("  {name:<10}{values}"));
    }
    let saturated: Vec<String> = ramp
        .saturation
        .iter()
        .map(|s| {
            let block = s.block_bytes.map_or(String::new(), |b| format!("{} from ", block_size(Bytes(b))));
            // Workers that each have one operation, or one file.
            let only_workers = ramp.points.iter().all(|p| p.depth.is_none() && p.workers.is_some());
            match (only_workers, s.outstanding) {
                (true, 1) => format!("{block}1 worker on"),
                (true, n) => format!("{block}{n} workers on"),
                (false, n) => format!("{block}{n} in flight on"),
            }
        })
        .collect();
    if halves && ramp.points.iter().any(|p| p.mb_s.high.is_some()) {
        out.push("  ± half of the 95 % interval of the mean of the repeats".into());
    }
    if !saturated.is_empty() {
        out.push(format!("  within 5 % of its most: {}", saturated.join(", ")));
    }
    out
}

fn steady(all: &[Steady]) -> Vec<String> {
    let line = |s: &Steady| {
        let what = match s.reached_s {
            Some(at) => format!("steady after {}", Nanos::from_secs(at)),
            None => "not steady".into(),
        };
        let slope = match s.slope_pct.round() {
            0.0 => String::new(),
            slope => format!(", slope {slope:+.0} %").replace('-', "−"),
        };
        format!("{}: {what}, {} MB/s, {:.0} % apart{slope}", s.leg, number(s.mean_mb_s), s.excursion_pct)
    };
    let mut out: Vec<String> = all.iter().take(MOST_STEADY).map(line).collect();
    if all.len() > MOST_STEADY {
        out.push(format!("and {} legs more of five rounds and longer", all.len() - MOST_STEADY));
    }
    out
}

/// The figures against fill level, a column for each: name of the row, its key in `worse_from`, its texts, and whether each is
/// worse than on the emptiest level.
pub(crate) struct FillRow {
    pub(crate) name: String,
    pub(crate) cells: Vec<(String, bool)>,
}

/// The rows of the table of figures against fill level. `with_interval` adds half of the 95 % interval.
pub(crate) fn fill_rows(found: &FillFound, with_interval: bool) -> Vec<FillRow> {
    let row = |name: String, key: &str, scale: f64, of: &dyn Fn(&FillLevel) -> Option<Figure>| {
        let worse = found.worse_from.iter().find(|w| w.figure == key);
        let cells = found.levels.iter().map(|l| {
            let text = of(l).map_or("–".to_owned(), |f| {
                let half = f.high.map(|h| (h - f.mean) / scale).filter(|_| with_interval);
                let half = half.map_or(String::new(), |h| format!(" ± {}", number(h)));
                format!("{}{half}", number(f.mean / scale))
            });
            (text, worse.is_some_and(|w| l.fill_pct >= w.fill_pct))
        });
        FillRow { name, cells: cells.collect() }
    };
    let mut rows = vec![
        row("write cache, GB".into(), "cache", 1e9, &|l| l.cache_bytes),
        row("into it, MB/s".into(), "before", 1.0, &|l| l.before_mb_s),
        row("after it, MB/s".into(), "after", 1.0, &|l| l.after_mb_s),
    ];
    for named in found.levels.first().map_or(&[][..], |l| &l.figures) {
        let of = |l: &FillLevel| l.figures.iter().find(|f| f.leg == named.leg).map(|f| f.mb_s);
        rows.push(row(format!("{}, MB/s", named.leg), &named.leg, 1.0, &of));
    }
    // A drive without a write cache has no rows about one.
    rows.retain(|row| row.cells.iter().any(|(text, _)| text != "–"));
    rows
}

/// What a figure is called for people.
pub(crate) fn figure_words(figure: &str) -> &str {
    match figure {
        "cache" => "write cache",
        "before" => "rate into the cache",
        "after" | "behind" => "rate after the cache",
        other => other,
    }
}

/// What is not shown of a figure that seems to get worse.
pub(crate) fn open_words(w: &WorseFrom) -> String {
    format!(
        "The mean of {} is {:.0} % lower at {}, which its repeats do not establish: they scatter too much, or are too few.",
        figure_words(&w.figure),
        -w.change_pct,
        percent(w.fill_pct)
    )
}

/// The figures against fill level, for the report.
pub(crate) fn fill(found: &FillFound) -> Vec<String> {
    let heads: String = found.levels.iter().map(|l| format!("{:>18}", percent(l.fill_pct))).collect();
    let mut out = vec![format!("{:<22}{heads}", "At a fill level of")];
    for row in fill_rows(found, true) {
        let cells: String = row
            .cells
            .iter()
            .map(|(text, worse)| format!("{text:>17}{}", if *worse { '↓' } else { ' ' }))
            .collect();
        out.push(format!("{:<22}{}", row.name, cells.trim_end()));
    }
    for w in &found.worse_from {
        out.push(format!(
            "{} is worse from {} on: {:+.0} %",
            figure_words(&w.figure),
            percent(w.fill_pct),
            w.change_pct
        ));
    }
    out.extend(found.open().as_ref().map(open_words));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The report on a sweep answered with what the cache takes, and not with what its course asks.
    #[test]
    fn a_sweep_is_answered_in_sentences() {
        let figure = |mean: f64| serde_json::json!({"n": 3, "mean": mean, "sd": 1.0, "low": mean - 2.5, "high": mean + 2.5});
        let level = |fill_pct: f64, cache: f64, write: f64, read: f64| {
            serde_json::json!({"fill_pct": fill_pct, "cache_bytes": figure(cache), "before_mb_s": null, "after_mb_s": null,
                "figures": [{"leg": "write", "op": "write", "mb_s": figure(write)}, {"leg": "read", "op": "read", "mb_s": figure(read)}]})
        };
        let worse = |name: &str, change_pct: f64| serde_json::json!({"figure": name, "fill_pct": 83.0, "change_pct": change_pct});
        let found = |worse: Vec<serde_json::Value>, write: f64| -> FillFound {
            serde_json::from_value(serde_json::json!({"worse_from": worse,
                "levels": [level(3.0, 118e9, 2872.0, 5054.0), level(83.0, 24e9, write, 5052.0)]}))
            .unwrap()
        };
        let both = vec![worse("cache", -79.7), worse("write", -49.9)];
        assert_eq!(
            levels_in_sentences(&found(both, 1440.0)),
            [
                "Write cache is 80 % smaller at 83 % full than at 3 %.",
                "Write is 50 % lower at 83 % full than at 3 %."
            ]
        );
        let cache = || vec![worse("cache", -79.7)];
        let open = levels_in_sentences(&found(cache(), 1440.0));
        assert!(
            open[1].starts_with("The mean of write is 50 % lower at 83 %, which its repeats do not"),
            "{open:?}"
        );
        assert_eq!(levels_in_sentences(&found(cache(), 2860.0)).len(), 1);
    }

    /// The last columns of the panel were cut off, and so was the second half of each sentence.
    #[test]
    fn a_table_of_shares_fits_into_the_panel_and_has_all_its_columns_where_there_is_room() {
        let share = |pct: f64, from: &str| {
            serde_json::json!({"share_pct": pct, "from": from, "n": 3, "mean_us": 10799.7, "low_us": 10561.8,
                "high_us": 11037.6, "p99_us": 17905.7, "iops": 92.6})
        };
        let found: SpanFound = serde_json::from_value(serde_json::json!({
            "shares": [share(100.0, "front"), share(0.1, "front"), share(25.0, "end")],
            "enough_share_pct": null, "is_flat": false, "seek": null, "rotation_per_min": null
        }))
        .unwrap();
        let narrow = spans(&found, 58);
        assert!(narrow[..4].iter().all(|l| l.chars().count() <= 58), "{narrow:#?}");
        assert!(narrow[0].contains("p99") && narrow[2].starts_with("0.1 %, front"), "{narrow:#?}");
        let wide = spans(&found, 120);
        assert!(wide[0].contains("each second") && wide[3].contains("92.6"), "{wide:#?}");
    }

    /// Three rows of dashes stood above what was measured of a stick.
    #[test]
    fn what_is_known_at_no_level_has_no_row() {
        let figure = |mean: f64| Figure { n: 1, mean, sd: None, low: None, high: None };
        let level = |fill_pct: f64, cache: Option<f64>| FillLevel {
            fill_pct,
            cache_bytes: cache.map(figure),
            before_mb_s: None,
            after_mb_s: None,
            figures: vec![mile_core::sweeps::Named {
                leg: "write".into(),
                op: mile_core::Op::Write,
                mb_s: figure(43.0),
            }],
        };
        let names = |levels: Vec<FillLevel>| -> Vec<String> {
            let found = FillFound { levels, worse_from: Vec::new() };
            fill_rows(&found, false).into_iter().map(|r| r.name).collect()
        };
        assert_eq!(names(vec![level(3.0, None), level(83.0, None)]), ["write, MB/s"]);
        let some = names(vec![level(3.0, Some(6e9)), level(83.0, None)]);
        assert_eq!(some, ["write cache, GB", "write, MB/s"]);
    }
}
