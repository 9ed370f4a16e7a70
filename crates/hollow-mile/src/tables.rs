//! The figures of legs as tables: on the screen, in reports, and as rows of a CSV file.

use mile_core::files::{FileFigures, FileStep};
use mile_core::legs::{LegRow, Repeated};
use mile_core::tables::SweepTable;
use mile_core::units::number;
use mile_core::{Bytes, Nanos, Op};
use std::fmt::Write as _;

/// Most values of the second name of a sweep that are put side by side.
const MOST_COLUMNS: usize = 8;

/// Columns of the table of legs as a file.
pub(crate) const LEG_COLUMNS: [&str; 37] = [
    "lane",
    "leg",
    "op",
    "start_s",
    "seconds",
    "bytes",
    "mean_mb_s",
    "operations",
    "iops",
    "p50_us",
    "p99_us",
    "p999_us",
    "slowest_us",
    "first_tenth_mb_s",
    "last_tenth_mb_s",
    "worst_second_mb_s",
    "cache_bytes",
    "min_c",
    "mean_c",
    "max_c",
    "ambient_c",
    "below_warn_c",
    "below_critical_c",
    "fill_pct",
    "energy_wh",
    "j_per_gb",
    "errors",
    "channels",
    "files",
    "files_per_s",
    "create_p99_us",
    "open_p99_us",
    "write_p99_us",
    "read_p99_us",
    "sync_p99_us",
    "close_p99_us",
    "delete_p99_us",
];

/// A leg as a row of a file: nothing where a figure is not known, and the channels as `name unit min mean max`.
pub(crate) fn leg_fields(row: &LegRow) -> Vec<String> {
    let some = |v: Option<f64>, digits: usize| v.map_or(String::new(), |v| format!("{v:.digits$}"));
    let channels =
        row.channels.iter().map(|c| format!("{} {} {:.3} {:.3} {:.3}", c.name, c.unit, c.min, c.mean, c.max));
    let files = row.files.as_ref();
    let mut fields = vec![
        row.lane.clone(),
        row.leg.clone(),
        row.op.word().to_owned(),
        format!("{:.3}", row.start_s),
        format!("{:.3}", row.seconds),
        row.bytes.to_string(),
        some(row.mean_mb_s, 3),
        row.operations.to_string(),
        some(row.iops, 1),
        some(row.p50_us, 1),
        some(row.p99_us, 1),
        some(row.p999_us, 1),
        some(row.slowest_us, 1),
        some(row.first_tenth_mb_s, 3),
        some(row.last_tenth_mb_s, 3),
        some(row.worst_second_mb_s, 3),
        row.cache_bytes.map_or(String::new(), |b| b.to_string()),
        some(row.min_c, 2),
        some(row.mean_c, 2),
        some(row.max_c, 2),
        some(row.ambient_c, 2),
        some(row.below_warn_c, 2),
        some(row.below_critical_c, 2),
        some(row.fill_pct, 2),
        some(row.energy_wh, 5),
        some(row.j_per_gb, 3),
        row.errors.to_string(),
        channels.collect::<Vec<_>>().join("; "),
        files.map_or(String::new(), |f| f.files.to_string()),
        some(files.and_then(FileFigures::files_per_s), 3),
    ];
    fields.extend(FileStep::ALL.map(|step| some(files.and_then(|f| f.step(step)).map(|s| s.p99_us), 1)));
    fields
}

/// Heads and cells of the table of legs that work with whole files: a row for each leg, and the median and 99th percentile of each step.
pub(crate) fn files(rows: &[LegRow]) -> (Vec<&'static str>, Vec<Vec<String>>) {
    let heads = vec!["Whole files", "files", "data", "files/s", "MB/s", "step", "p50", "p99", "slowest"];
    let mut cells = Vec::new();
    for (row, f) in rows.iter().filter_map(|r| Some((r, r.files.as_ref()?))) {
        let name = if row.lane.is_empty() { row.leg.clone() } else { format!("{}: {}", row.lane, row.leg) };
        let mut first = vec![
            name,
            files_done(f),
            if f.bytes > 0 { Bytes(f.bytes).to_string() } else { "–".into() },
            f.files_per_s().map_or("–".into(), number),
            f.mb_s().map_or("–".into(), number),
        ];
        if f.steps.is_empty() {
            first.extend(["–"; 4].map(str::to_owned));
            cells.push(first);
            continue;
        }
        for step in &f.steps {
            let mut line = std::mem::replace(&mut first, vec![String::new(); 5]);
            line.push(step.step.word().to_owned());
            line.extend([step.p50_us, step.p99_us, step.slowest_us].map(latency));
            cells.push(line);
        }
    }
    (heads, cells)
}

/// The files of a leg, and those that it had done before an interruption, which its figures are not of.
fn files_done(f: &FileFigures) -> String {
    let count = |n: u64| mile_core::units::thousands(&n.to_string());
    let before = if f.before > 0 { format!(" (+{} before)", count(f.before)) } else { String::new() };
    count(f.files) + &before
}

/// The same for a narrow panel: a line for each leg, and its steps in lines of at most so many columns.
pub(crate) fn files_narrow(rows: &[LegRow], width: usize) -> Vec<String> {
    let mut lines = Vec::new();
    for (row, f) in rows.iter().filter_map(|r| Some((r, r.files.as_ref()?))) {
        let name = if row.lane.is_empty() { row.leg.clone() } else { format!("{}: {}", row.lane, row.leg) };
        let mut figures = vec![format!("{} files", files_done(f))];
        figures.extend(f.files_per_s().map(|n| format!("{}/s", number(n))));
        figures.extend(f.mb_s().map(|n| format!("{} MB/s", number(n))));
        lines.push(name);
        lines.push(format!("  {}", figures.join(", ")));
        let mut line = "  p50 (p99):".to_owned();
        for (i, s) in f.steps.iter().enumerate() {
            let end = if i + 1 < f.steps.len() { "," } else { "" };
            let step = format!(" {} {} ({}){end}", s.step.word(), latency(s.p50_us), latency(s.p99_us));
            if line.chars().count() + step.chars().count() > width {
                lines.push(std::mem::replace(&mut line, "   ".to_owned()));
            }
            line.push_str(&step);
        }
        lines.extend((!f.steps.is_empty()).then_some(line));
    }
    lines
}

/// What is said of the sides of copies from a folder.
pub(crate) fn slower_sides(rows: &[LegRow]) -> Vec<String> {
    let of = |r: &LegRow| r.files.as_ref()?.slower_side().map(|s| format!("Leg {}: {s}", r.leg));
    rows.iter().filter_map(of).collect()
}

/// A latency, µs, with the unit that suits it.
fn latency(us: f64) -> String {
    Nanos((us * 1e3).round() as u64).to_string()
}

/// Heads and cells of the table of legs for people.
pub(crate) fn legs(rows: &[LegRow]) -> (Vec<&'static str>, Vec<Vec<String>>) {
    let heads = vec![
        "Leg",
        "time",
        "moved",
        "MB/s",
        "first, last 10th",
        "worst s",
        "1/s",
        "p50",
        "p99",
        "p99.9",
        "slowest",
        "°C mean, max",
        "to limit",
        "errors",
    ];
    let time = |v: Option<f64>| v.map_or("–".into(), latency);
    let some = |v: Option<f64>| v.map_or("–".into(), number);
    let cells = rows
        .iter()
        .map(|r| {
            let ends = r.first_tenth_mb_s.zip(r.last_tenth_mb_s);
            let name = if r.lane.is_empty() { r.leg.clone() } else { format!("{}: {}", r.lane, r.leg) };
            vec![
                name,
                Nanos::from_secs(r.seconds).to_string(),
                if r.op == Op::Idle { "–".into() } else { Bytes(r.bytes).to_string() },
                some(r.mean_mb_s),
                ends.map_or("–".into(), |(a, b)| format!("{}, {}", number(a), number(b))),
                some(r.worst_second_mb_s.filter(|_| r.op != Op::Idle)),
                some(r.iops),
                time(r.p50_us),
                time(r.p99_us),
                time(r.p999_us),
                time(r.slowest_us),
                r.mean_c.zip(r.max_c).map_or("–".into(), |(mean, max)| format!("{mean:.1}, {max:.0}")),
                r.below_warn_c.map_or("–".into(), |k| format!("{k:.0} K")),
                if r.errors == 0 { "–".into() } else { r.errors.to_string() },
            ]
        })
        .collect();
    (heads, cells)
}

/// Heads and cells of the table of repeats.
pub(crate) fn repeats(all: &[Repeated]) -> (Vec<&'static str>, Vec<Vec<String>>) {
    let heads = vec!["Repeated", "figure", "n", "mean", "95 % interval", "sd", "spread", "trend"];
    let cells = all
        .iter()
        .map(|r| {
            let f = &r.figure;
            vec![
                r.leg.clone(),
                format!("{}, {}", r.name.figure, r.name.unit),
                if r.is_grouped() { format!("{} of {}", f.n, r.values) } else { f.n.to_string() },
                // Where repeats go one way, their mean is the mean of nothing.
                if r.trend.is_some() { "–".into() } else { number(f.mean) },
                f.low
                    .zip(f.high)
                    .filter(|_| r.trend.is_none())
                    .map_or("–".into(), |(a, b)| format!("{} to {}", number(a), number(b))),
                f.sd.map_or("–".into(), number),
                r.spread_pct.map_or("–".into(), |p| format!("{p:.1} %")),
                r.trend.map_or("–".into(), |t| {
                    format!(
                        "{} a repeat",
                        if t < 0.0 { format!("−{}", number(-t)) } else { format!("+{}", number(t)) }
                    )
                }),
            ]
        })
        .collect();
    (heads, cells)
}

/// What is said below it where not each value counts for itself.
pub(crate) fn grouped(all: &[Repeated]) -> Option<&'static str> {
    all.iter().any(Repeated::is_grouped).then_some(mile_core::repeats::GROUPED)
}

/// A table as lines of text: the first column to the left, the others to the right.
pub(crate) fn lines(heads: &[&str], cells: &[Vec<String>]) -> String {
    let width = |i: usize| {
        let longest = cells.iter().filter_map(|row| row.get(i)).map(|c| c.chars().count()).max().unwrap_or(0);
        longest.max(heads[i].chars().count())
    };
    // A column in which nothing is known is left out.
    let shown: Vec<usize> =
        (0..heads.len()).filter(|i| *i == 0 || cells.iter().any(|r| r[*i] != "–")).collect();
    let line = |cell: &dyn Fn(usize) -> String| {
        let mut out = String::new();
        for i in &shown {
            let text = cell(*i);
            let pad = width(*i).saturating_sub(text.chars().count());
            if *i == 0 {
                let _ = write!(out, "{text}{}", " ".repeat(pad));
            } else {
                let _ = write!(out, "  {}{text}", " ".repeat(pad));
            }
        }
        out.trim_end().to_owned()
    };
    let mut out = line(&|i| heads[i].to_owned());
    for row in cells {
        out.push('\n');
        out.push_str(&line(&|i| row[i].clone()));
    }
    out
}

/// A sweep as text: over one name a line for each value, over two a matrix, over more a line for each combination. The highest rate is marked with a star,
/// and with a wave what cannot be told from it.
pub(crate) fn sweep(table: &SweepTable) -> String {
    let mark = |cell: &mile_core::tables::SweepCell| match (cell.is_best, cell.is_within_noise) {
        (true, _) => "*",
        (_, Some(true)) => "~",
        _ => "",
    };
    let rate = |cell: &mile_core::tables::SweepCell| {
        let f = &cell.mb_s;
        let half = f.high.map_or(String::new(), |high| format!(" ±{}", number(high - f.mean)));
        format!("{}{}{half}", mark(cell), number(f.mean))
    };
    if let ([_, _], [first, second]) = (table.over.as_slice(), table.values.as_slice())
        && second.len() <= MOST_COLUMNS
    {
        let corner = format!("{}, MB/s: {} down, {} across", table.leg, table.over[0], table.over[1]);
        let heads: Vec<&str> =
            std::iter::once(corner.as_str()).chain(second.iter().map(String::as_str)).collect();
        let cells: Vec<Vec<String>> = first
            .iter()
            .enumerate()
            .map(|(i, value)| {
                let row = (0..second.len()).map(|k| table.cell(&[i, k]).map_or("not run".into(), rate));
                std::iter::once(format!("{} {value}", table.over[0])).chain(row).collect()
            })
            .collect();
        return lines(&heads, &cells);
    }
    let corner = format!("{} over {}", table.leg, table.over.join(", "));
    let heads = [corner.as_str(), "MB/s", "1/s", "p99 ms", "°C max", "n"];
    let cells: Vec<Vec<String>> = table
        .cells
        .iter()
        .map(|c| {
            let of = |f: Option<mile_core::repeats::Figure>, by: f64| {
                f.map_or("–".into(), |f| number(f.mean / by))
            };
            vec![
                table.words(c),
                rate(c),
                of(c.iops, 1.0),
                of(c.p99_us, 1e3),
                of(c.max_c, 1.0),
                c.mb_s.n.to_string(),
            ]
        })
        .collect();
    lines(&heads, &cells)
}
