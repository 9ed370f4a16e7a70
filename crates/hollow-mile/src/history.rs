//! The history of a drive: found in the logbook, told as text and as JSON, and read from files from elsewhere.

pub(crate) mod strips;

use crate::figure::when;
use crate::tables;
use mile_bench::Failure;
use mile_bench::bench::{self, Card};
use mile_core::health::changes::{Change, changes};
use mile_core::health::ledger::{Amplification, Cost, Ledger, amplification, ledger};
use mile_core::health::projection::{Given, Limit, Projection, projections};
use mile_core::health::{Counter, History, Origin, Remark, Snapshot, value};
use mile_core::units::number;
use mile_core::{Bytes, Nanos};
use mile_logbook::{DriveKey, Logbook, LogbookError};
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;
use std::path::Path;

/// Name and version of the open format.
const FORMAT: (&str, u32) = ("hollow-mile/health-history", 1);
/// Longest file that is imported, bytes, and most snapshots.
const LONGEST: u64 = 256 << 20;
const MOST: usize = 1_000_000;
/// The last second of the year 2200; what is behind it is no date.
const LATEST: i64 = 7_289_654_399;

/// Who a drive is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Who {
    pub(crate) model: String,
    pub(crate) serial: String,
}

/// A file of snapshots from elsewhere.
#[derive(Deserialize)]
struct Import {
    format: String,
    version: u32,
    drive: Who,
    snapshots: Vec<Imported>,
}

#[derive(Deserialize)]
struct Imported {
    at: At,
    #[serde(flatten)]
    told: Told,
}

/// What a snapshot says beside its time.
#[derive(Deserialize)]
struct Told {
    #[serde(default)]
    firmware: Option<String>,
    #[serde(default)]
    port: Option<String>,
    #[serde(default)]
    temperature_c: Option<f64>,
    #[serde(default)]
    highest_c: Option<f64>,
    #[serde(default)]
    warnings: Vec<String>,
    #[serde(default)]
    counters: std::collections::BTreeMap<Counter, u64>,
}

/// A time: seconds since 1970-01-01 UTC, or as RFC 3339 writes it.
#[derive(Deserialize)]
#[serde(untagged)]
enum At {
    Seconds(i64),
    Text(String),
}

/// The story of a drive, as JSON has it.
#[derive(Serialize)]
pub(crate) struct Story {
    format: &'static str,
    version: u32,
    pub(crate) drive: Who,
    pub(crate) simulated: bool,
    pub(crate) snapshots: Vec<Snapshot>,
    pub(crate) remarks: Vec<Remark>,
    pub(crate) since: Vec<Since>,
    pub(crate) ledger: Ledger,
    pub(crate) write_amplification: Option<Amplification>,
    pub(crate) endurance_bytes: Option<u64>,
    pub(crate) per_day_bytes: Option<f64>,
    pub(crate) projections: Vec<Projection>,
}

/// What changed from one moment to the newest.
#[derive(Serialize)]
pub(crate) struct Since {
    /// `last`, `first`, or `asked`.
    pub(crate) what: &'static str,
    pub(crate) from: i64,
    pub(crate) to: i64,
    pub(crate) changes: Vec<Change>,
}

/// What is asked of a history.
#[derive(Clone, Debug, Default)]
pub(crate) struct Ask {
    pub(crate) since: Option<i64>,
    pub(crate) endurance: Option<Bytes>,
    pub(crate) per_day: Option<Bytes>,
    pub(crate) course_per_day: Option<String>,
}

/// Reads a file of snapshots from elsewhere.
pub(crate) fn read_file(path: &Path) -> Result<(DriveKey, Vec<Snapshot>), Failure> {
    let bad = |why: String| Failure::usage(format!("{}: {why}. Nothing was imported", path.display()));
    let length = std::fs::metadata(path).map_err(|e| bad(e.to_string()))?.len();
    if length > LONGEST {
        return Err(bad(format!("it has {}, more than the {} that are read", Bytes(length), Bytes(LONGEST))));
    }
    let text = std::fs::read_to_string(path).map_err(|e| bad(e.to_string()))?;
    let file: Import =
        serde_json::from_str(&text).map_err(|e| bad(format!("it is no health history: {e}")))?;
    if file.format != FORMAT.0 {
        return Err(bad(format!("its format is `{}`, and not `{}`", file.format, FORMAT.0)));
    }
    if file.version != FORMAT.1 {
        return Err(bad(format!("its version is {}, and this program knows {}", file.version, FORMAT.1)));
    }
    let named = |s: &str| !s.trim().is_empty() && !s.chars().any(char::is_control);
    if !named(&file.drive.model) || !named(&file.drive.serial) {
        return Err(bad("the drive needs a model and a serial number".into()));
    }
    if file.snapshots.is_empty() || file.snapshots.len() > MOST {
        return Err(bad(format!("it has {} snapshots; 1 to {MOST} are read", file.snapshots.len())));
    }
    let snapshot = |(i, s): (usize, Imported)| {
        let at = match &s.at {
            At::Seconds(at) => *at,
            At::Text(text) => text
                .parse::<jiff::Timestamp>()
                .map_err(|_| bad(format!("snapshot {}: `{text}` is no time of RFC 3339", i + 1)))?
                .as_second(),
        };
        if !(0..=LATEST).contains(&at) {
            return Err(bad(format!("snapshot {}: its time is not between 1970 and 2200", i + 1)));
        }
        let told = s.told;
        let finite = |t: Option<f64>| t.is_none_or(|t| (-100.0..=250.0).contains(&t));
        if !finite(told.temperature_c) || !finite(told.highest_c) {
            return Err(bad(format!("snapshot {}: its temperature is none that a drive has", i + 1)));
        }
        Ok(Snapshot {
            at,
            origin: Origin::Imported,
            firmware: told.firmware,
            port: told.port,
            temperature_c: told.temperature_c,
            highest_c: told.highest_c,
            warnings: told.warnings,
            counters: told.counters,
        })
    };
    let all = file.snapshots.into_iter().enumerate().map(snapshot).collect::<Result<_, _>>()?;
    let (model, serial) = (file.drive.model.trim().to_owned(), file.drive.serial.trim().to_owned());
    let of_bench = |c: &Card| c.identity.model == model && c.identity.serial.as_deref() == Some(&serial);
    let simulated = bench::simulated().iter().any(of_bench);
    Ok((DriveKey { model, serial, simulated }, all))
}

/// The drive that a name means, attached or not, and what is known of it now.
pub(crate) fn drive(name: &str, logbook: &Path) -> Result<(DriveKey, Option<Card>), Failure> {
    let attached = bench::card(name);
    if let Ok(card) = &attached
        && let Some(key) = DriveKey::of(&card.identity)
    {
        return Ok((key, attached.ok()));
    }
    // Where nothing was kept, none is known.
    let named = Logbook::reading(logbook, |book| book.drives_named(name)).unwrap_or_default();
    match (named.as_slice(), attached) {
        ([one], _) => Ok((one.clone(), None)),
        ([], Ok(_)) => {
            Err(Failure::usage(format!("{name} tells no serial number, so that it has no history")))
        }
        ([], Err(e)) => Err(e),
        (several, _) => {
            let all: Vec<&str> = several.iter().map(|d| d.serial.as_str()).collect();
            Err(Failure::usage(format!(
                "several drives are a {name}: name one by its serial number: {}",
                all.join(", ")
            )))
        }
    }
}

/// The story of a drive.
pub(crate) fn story(
    key: &DriveKey,
    card: Option<&Card>,
    logbook: &Path,
    ask: &Ask,
) -> Result<Story, Failure> {
    let found = Logbook::reading(logbook, |book| {
        let all = book.snapshots_of(key)?;
        let runs: Vec<i64> = all
            .iter()
            .filter_map(|s| if let Origin::Run { run, .. } = s.origin { Some(run) } else { None })
            .collect();
        Ok((all, book.courses_of(&runs)?))
    });
    let (all, courses) = match found {
        // Nothing was kept anywhere yet.
        Err(LogbookError::Blank { .. } | LogbookError::Absent { .. }) => Default::default(),
        found => found?,
    };
    if all.is_empty() {
        return Err(Failure::usage(format!(
            "nothing is kept of {}, serial {}: run a course on it, or keep what it tells with `hollow-mile health DRIVE --keep`",
            key.model, key.serial
        )));
    }
    let endurance = ask
        .endurance
        .map(|b| b.0)
        .or_else(|| card.and_then(|c| c.claims.endurance).map(|b| b.0))
        .filter(|e| *e > 0);
    let of_runs = History::new(all.clone());
    let ledger = ledger(&of_runs, &courses, endurance);
    // A simulated drive begins each run as the same drive: its runs are no history of it.
    let own = |s: &Snapshot| !key.simulated || !matches!(s.origin, Origin::Run { .. });
    let history = if key.simulated && all.iter().any(own) {
        History::new(all.into_iter().filter(own).collect())
    } else {
        of_runs
    };
    let per_day = match (&ask.course_per_day, ask.per_day) {
        (Some(course), _) => {
            let runs: Vec<u64> = ledger
                .runs
                .iter()
                .filter(|r| r.course == *course)
                .filter_map(|r| r.cost.host_bytes)
                .collect();
            if runs.is_empty() {
                let known: Vec<&str> = ledger.courses.iter().map(|c| c.0.as_str()).collect();
                return Err(Failure::usage(format!(
                    "no run of `{course}` on this drive says what it writes; there are: {}",
                    if known.is_empty() { "none".into() } else { known.join(", ") }
                )));
            }
            Some(runs.iter().sum::<u64>() as f64 / runs.len() as f64)
        }
        (None, per_day) => per_day.map(|b| b.0 as f64),
    };
    let shots = history.snapshots();
    let mut since = Vec::new();
    if let Some(newest) = shots.last() {
        let mut add = |what, from: Option<&Snapshot>| {
            if let Some(from) = from.filter(|f| f.at < newest.at) {
                let changes = changes(from, newest);
                since.push(Since { what, to: newest.at, from: from.at, changes });
            }
        };
        match ask.since {
            Some(moment) => {
                let Some(from) = shots.iter().rev().find(|s| s.at <= moment) else {
                    let first = shots.first().map_or(0, |s| s.at);
                    return Err(Failure::usage(format!(
                        "nothing was kept of this drive by then; the first snapshot is of {}",
                        when(first)
                    )));
                };
                add("asked", Some(from));
            }
            None => {
                // The last look that was not of the same hour.
                add("last", shots.iter().rev().find(|s| s.at + 3600 <= newest.at));
                add("first", shots.first());
            }
        }
    }
    let projections = projections(&history, &Given { endurance, per_day });
    Ok(Story {
        format: FORMAT.0,
        version: FORMAT.1,
        drive: Who { model: key.model.clone(), serial: key.serial.clone() },
        simulated: key.simulated,
        remarks: history.remarks(),
        write_amplification: amplification(&history),
        snapshots: history.snapshots().to_vec(),
        since,
        ledger,
        endurance_bytes: endurance,
        per_day_bytes: per_day,
        projections,
    })
}

/// A day in the user's own zone.
pub(crate) fn day(unix: i64) -> String {
    when(unix).chars().take(10).collect()
}

impl Story {
    /// What it tells, in lines.
    pub(crate) fn text(&self) -> String {
        let mut out = String::new();
        // Writing to a string cannot fail.
        let _ = writeln!(out, "{}, serial {}", self.drive.model, self.drive.serial);
        if let (Some(first), Some(last)) = (self.snapshots.first(), self.snapshots.last()) {
            let days = (last.at - first.at) as f64 / 86_400.0;
            let _ = writeln!(
                out,
                "{} snapshots from {} to {}, {days:.0} days",
                self.snapshots.len(),
                when(first.at),
                when(last.at)
            );
        }
        if self.simulated {
            let _ = writeln!(out, "It is simulated: each run begins with the same drive.");
        }
        for since in &self.since {
            let what = match since.what {
                "last" => "Since the look before, ",
                "first" => "Since the first, ",
                _ => "Since ",
            };
            let _ = writeln!(out, "\n{what}{}:", when(since.from));
            if since.changes.is_empty() {
                let _ = writeln!(out, "  nothing");
            }
            for change in &since.changes {
                let _ = writeln!(out, "  {}", change.what);
                if let (Some(means), Some(source)) = (&change.means, &change.source) {
                    let _ = writeln!(out, "      {means} ({source}).");
                }
            }
        }
        if !self.remarks.is_empty() {
            let _ = writeln!(out, "\nTo know when reading it:");
            for remark in &self.remarks {
                let _ = writeln!(out, "  {}  {}", day(remark.at), remark.what);
            }
        }
        let (heads, cells) = self.costs();
        if !cells.is_empty() {
            let _ = writeln!(out, "\n{}", tables::lines(&heads, &cells));
        }
        if let Some(a) = &self.write_amplification {
            let _ = writeln!(out, "\nWrite amplification: {:.3} ({:.3} to {:.3})", a.ratio, a.low, a.high);
        }
        let lines = self.when();
        if !lines.is_empty() {
            let _ = writeln!(out, "\n{}", lines.join("\n"));
        }
        out
    }

    /// What runs cost it, as a table: by run, by course where one was run several times, and in total.
    pub(crate) fn costs(&self) -> (Vec<&'static str>, Vec<Vec<String>>) {
        let heads =
            vec!["What runs cost", "runs", "written", "to flash", "of endurance", "life used", "powered on"];
        let row = |name: String, runs: usize, c: &Cost| {
            let bytes = |b: Option<u64>| b.map_or("–".into(), |b| Bytes(b).to_string());
            vec![
                name,
                runs.to_string(),
                bytes(c.host_bytes),
                bytes(c.flash_bytes),
                c.endurance_pct.map_or("–".into(), |p| format!("{} %", number(p))),
                c.used_steps.map_or("–".into(), |s| format!("+{s} %")),
                c.hours.map_or("–".into(), |h| format!("{h} h")),
            ]
        };
        let ledger = &self.ledger;
        let mut cells: Vec<Vec<String>> = ledger
            .runs
            .iter()
            .map(|r| row(format!("run {}, {}, {}", r.run, day(r.at), r.course), 1, &r.cost))
            .collect();
        if cells.len() > 1 {
            for (course, cost) in &ledger.courses {
                let runs = ledger.runs.iter().filter(|r| r.course == *course).count();
                if runs > 1 {
                    cells.push(row(format!("all of {course}"), runs, cost));
                }
            }
            cells.push(row("all".into(), ledger.runs.len(), &ledger.total));
        }
        (heads, cells)
    }

    /// When limits are reached, in a sentence or two for each.
    pub(crate) fn when(&self) -> Vec<String> {
        self.projections.iter().map(|p| self.reached(p)).collect()
    }

    fn reached(&self, p: &Projection) -> String {
        let amount = |v: f64| match p.limit {
            Limit::Endurance => Bytes(v.max(0.0) as u64).to_string(),
            Limit::Life | Limit::Spare => format!("{v:.0} %"),
        };
        let (now, then) = (amount(p.now), amount(p.at_value));
        let (stands, reached, not_said) = match p.limit {
            Limit::Endurance => (
                format!("{now} of the rated {then} are written."),
                "The rest lasts until about".to_owned(),
                "How long the rest lasts".to_owned(),
            ),
            Limit::Life => (
                format!("{now} of its life is used."),
                format!("{then} is reached about"),
                format!("When {then} is reached"),
            ),
            Limit::Spare => (
                format!("{now} of the spare blocks are left."),
                format!("The threshold of {then} is reached about"),
                format!("When the threshold of {then} is reached"),
            ),
        };
        let mut text = match (p.at, &p.why_not) {
            (_, Some(why)) => format!("{stands} {not_said} is not said: {why}."),
            (Some(at), None) => {
                let early = p.earliest.map_or("–".into(), day);
                let late = p.latest.map_or("no latest".into(), day);
                format!("{stands} {reached} {} (95 %: {early} to {late}){}.", day(at), pace(p))
            }
            (None, None) => {
                format!("{stands} {reached} a time that is more than a thousand years away{}.", pace(p))
            }
        };
        if let (Some(given), Some(at)) = (self.per_day_bytes, p.at_given) {
            let _ = write!(text, " At {} a day: until {}.", Bytes(given as u64), day(at));
        }
        text
    }
}

/// At which pace: `, at 65.1 GB a day on average`.
fn pace(p: &Projection) -> String {
    let amount = |v: f64| match p.limit {
        Limit::Endurance => Bytes(v.max(0.0) as u64).to_string(),
        Limit::Life | Limit::Spare => format!("{v:.3} %"),
    };
    let Some(mean) = p.per_day else { return String::new() };
    let differs = |t: &f64| p.limit == Limit::Endurance && (t / mean - 1.0).abs() > 0.1;
    let typical = p.typical_per_day.filter(differs);
    let typical = typical.map_or(String::new(), |t| format!(", most often {}", amount(t)));
    format!(", at {} a day on average{typical}", amount(mean))
}

/// Two drives side by side: what each tells now, or was kept of it last.
pub(crate) fn beside(a: &Snapshot, b: &Snapshot) -> Vec<(String, String, String)> {
    let mut rows = Vec::new();
    let mut row = |name: &str, a: Option<String>, b: Option<String>| {
        if a.is_some() || b.is_some() {
            rows.push((name.to_owned(), a.unwrap_or_else(|| "–".into()), b.unwrap_or_else(|| "–".into())));
        }
    };
    row("firmware", a.firmware.clone(), b.firmware.clone());
    let warns =
        |s: &Snapshot| Some(if s.warnings.is_empty() { "nothing".into() } else { s.warnings.join("; ") });
    row("it warns of", warns(a), warns(b));
    let degrees = |t: Option<f64>| t.map(|t| format!("{t:.0} °C"));
    row("temperature", degrees(a.temperature_c), degrees(b.temperature_c));
    row("highest temperature", degrees(a.highest_c), degrees(b.highest_c));
    for counter in Counter::ALL {
        let of = |s: &Snapshot| s.get(counter).map(|v| value(counter, v));
        row(counter.words().trim_end_matches(", percent"), of(a), of(b));
    }
    // What a drive has done, so that errors can be read against it.
    let a_day = |s: &Snapshot| {
        let hours = s.get(Counter::PowerOnHours).filter(|h| *h >= 24)?;
        let written = s.get(Counter::WrittenBytes)?;
        Some(Bytes((written as f64 / (hours as f64 / 24.0)) as u64).to_string())
    };
    row("written in a day powered on", a_day(a), a_day(b));
    let age =
        |s: &Snapshot| s.get(Counter::PowerOnHours).map(|h| Nanos::from_secs(h as f64 * 3600.0).to_string());
    row("powered on for", age(a), age(b));
    rows
}

/// The worst that happened since the look before, in a sentence.
pub(crate) fn news(story: &Story) -> Option<String> {
    let since = story.since.first()?;
    let worst = since.changes.first().filter(|c| c.rank < 3);
    Some(match worst {
        Some(change) => format!("Since {}: {}.", day(since.from), change.what),
        None => format!("Nothing that matters has changed since {}.", day(since.from)),
    })
}
