//! A report of runs, to hand over: what was asked, what was found and how sure that is, under which conditions, with figures, tables and health.

use crate::figure::{lanes_svg, span_svg, surface_svg, svg, sweep_svg, title_of_all, when};
use crate::history::{Story, day};
use crate::source::Source;
use crate::text::sweeps::in_sentences;
use crate::text::{letter, value, verdict, with_interval};
use crate::{tables, text};
use mile_bench::Failure;
use mile_core::compare::{Compared, Comparison};
use mile_core::ruler::Ruler;
use mile_core::units::number;
use mile_core::{Bytes, Findings, Nanos};
use mile_figures::report::Part;
use mile_runner::EventKind;

/// Most established differences that are listed before the tables of the legs.
const ESTABLISHED: usize = 20;
/// What a method comes to, for whoever has only the report.
const METHOD: [&str; 6] = [
    "Rates are bytes over time of each interval of the log; a plateau is a stretch in which the logarithm of the rate follows a level or a line, found by an exact search for the cheapest segmentation with a penalty for each segment. A break is the edge between two plateaus that differ by at least 8 % and by three standard errors.",
    "The position of a break is given with the interval that holds it with 95 %. Its cause is that of the candidates with the largest sum of evidence; each row of evidence adds its weight, and the confidence follows from the sums. A change that is unlike all known causes is called unexplained.",
    "A hollow is a stretch of addresses that is slower than the baseline of its surroundings; over all stretches the false discovery rate is held at 1 % (Benjamini and Hochberg, 1995). It is confirmed where passes in different orders show it.",
    "Latencies are those of all operations of a leg, from one histogram. Temperatures are the composite temperature that the drive reads.",
    "The mean of repeats is given with its 95 % interval by Student's t distribution, from three repeats on.",
    "Differences are tested by Welch's test, or as pairs where the runs of two sides took turns, and corrected for the number of figures (Holm, 1979). A difference is called established where the corrected chance is at most 5 %.",
];

/// A run with all its lanes.
pub(crate) type Run = Vec<Source>;

/// The title of a report.
pub(crate) fn title(runs: &[Run]) -> String {
    match runs {
        [one] => {
            one.first().map_or_else(String::new, |s| format!("Report on {}: {}", s.of, title_of_all(&s.head)))
        }
        many => format!("Report on {} runs", many.len()),
    }
}

/// Who made it, and from what.
pub(crate) fn lead(runs: &[Run], made: i64) -> Vec<String> {
    let names: Vec<&str> = runs.iter().filter_map(|r| r.first()).map(|s| s.of.as_str()).collect();
    vec![format!(
        "Made from {} by Hollow Mile {}, {}.",
        names.join(", "),
        env!("CARGO_PKG_VERSION"),
        when(made)
    )]
}

/// The parts of a report of some runs, and of what they are against each other. `files` are what lies beside it, each with its checksum.
pub(crate) fn parts(
    runs: &[Run],
    compared: Option<&Comparison>,
    drawn: Option<&str>,
    stories: &[Story],
    files: &[(String, String)],
) -> Result<Vec<Part>, Failure> {
    let mut parts = Vec::new();
    if let Some(found) = compared {
        comparison(&mut parts, found);
        parts.extend(drawn.map(|svg| Part::Figure(svg.to_owned())));
    }
    for run in runs {
        of_run(&mut parts, run, runs.len() > 1)?;
    }
    for story in stories {
        history(&mut parts, story);
    }
    parts.push(Part::Heading("Method".into()));
    parts.extend(METHOD.map(|m| Part::Text(m.to_owned())));
    if !files.is_empty() {
        parts.push(Part::Heading("Files and checksums".into()));
        parts.push(Part::Text(
            "SHA-256 of each file that lies beside this report. `hollow-mile findings FOLDER` checks them and computes the findings anew.".into(),
        ));
        let rows = files.iter().map(|(name, sum)| vec![name.clone(), sum.clone()]).collect();
        parts.push(Part::Table(vec!["File".into(), "SHA-256".into()], rows));
    }
    Ok(parts)
}

/// The story of a drive: what changed, what has to be known to read it, what runs cost it, and how long it will last.
fn history(parts: &mut Vec<Part>, story: &Story) {
    parts.push(Part::Heading(format!("History of {}, serial {}", story.drive.model, story.drive.serial)));
    if let (Some(a), Some(b)) = (story.snapshots.first(), story.snapshots.last()) {
        let looks = story.snapshots.len();
        parts.push(Part::Text(format!("{looks} looks from {} to {}.", day(a.at), day(b.at))));
    }
    // A figure that cannot be drawn is no reason to hand over no report.
    if let Ok(Some(svg)) = crate::history::strips::figure(story) {
        parts.push(Part::Figure(svg));
    }
    for since in &story.since {
        let what = if since.what == "first" { "Since the first look" } else { "Since the look before" };
        parts.push(Part::Sub(format!("{what}, {}", day(since.from))));
        let mut lines: Vec<String> = since.changes.iter().map(|c| c.what.clone()).collect();
        if lines.is_empty() {
            lines.push("nothing".into());
        }
        parts.push(Part::Lines(lines));
        let sources: Vec<String> = since
            .changes
            .iter()
            .filter(|c| c.rank < 2)
            .filter_map(|c| Some(format!("{}: {} ({}).", c.what, c.means.as_ref()?, c.source.as_ref()?)))
            .collect();
        parts.extend(sources.into_iter().map(Part::Small));
    }
    if !story.remarks.is_empty() {
        parts.push(Part::Sub("To know when reading it".into()));
        let lines = story.remarks.iter().map(|r| format!("{}  {}", day(r.at), r.what));
        parts.push(Part::Lines(lines.collect()));
    }
    if let Some(costs) = table(story.costs()) {
        parts.extend([Part::Sub("What runs cost it".into()), costs]);
    }
    let when = story.when();
    if !when.is_empty() {
        parts.extend([Part::Sub("When limits are reached".into()), Part::Lines(when)]);
    }
}

fn table((heads, cells): (Vec<&'static str>, Vec<Vec<String>>)) -> Option<Part> {
    // What is known of no row is left out.
    let shown: Vec<usize> =
        (0..heads.len()).filter(|i| *i == 0 || cells.iter().any(|r| r[*i] != "–")).collect();
    let pick = |row: &[String]| shown.iter().map(|i| row[*i].clone()).collect::<Vec<_>>();
    let heads: Vec<String> = heads.into_iter().map(str::to_owned).collect();
    (!cells.is_empty()).then(|| Part::Table(pick(&heads), cells.iter().map(|r| pick(r)).collect()))
}

fn of_run(parts: &mut Vec<Part>, run: &[Source], is_one_of_many: bool) -> Result<(), Failure> {
    let Some(first) = run.first() else { return Ok(()) };
    let head = |text: &str| {
        Part::Heading(if is_one_of_many { format!("{}: {text}", first.of) } else { text.to_owned() })
    };
    parts.push(head("Question and answer"));
    if let Some(question) = mile_bench::courses::question(&first.head.course_text) {
        parts.push(Part::Text(question));
    }
    for source in run {
        if run.len() > 1 {
            parts.push(Part::Sub(source.head.lane(source.lane).name.clone()));
        }
        parts.extend(answers(&source.findings).into_iter().map(Part::Strong));
    }
    parts.push(head("Conditions"));
    parts.push(Part::Pairs(conditions(run)));
    if run.len() > 1 {
        let shown: Vec<_> = run.iter().map(Source::shown).collect();
        parts.push(head("Figure"));
        parts.push(Part::Figure(lanes_svg(&first.head, &first.of, &shown)?));
    }
    for source in run {
        let of = |text: &str| match source.head.lane(source.lane).name.as_str() {
            "" => text.to_owned(),
            lane => format!("{text}, {lane}"),
        };
        let at = (&source.head, source.lane);
        if !source.trace.is_empty() {
            parts.push(head(&of("Rate and temperature")));
            let ruler = Ruler::default().fitting(&source.trace);
            parts.push(Part::Figure(svg(
                at,
                &source.name,
                &source.trace,
                &source.findings,
                &source.context,
                ruler,
                None,
            )?));
        }
        for (what, drawn) in [
            ("Surface", surface_svg(at, &source.name, &source.findings)?),
            ("Sweep", sweep_svg(at, &source.name, &source.findings)?),
            ("Span", span_svg(at, &source.name, &source.findings)?),
        ] {
            if let Some(figure) = drawn {
                parts.extend([head(&of(what)), Part::Figure(figure)]);
            }
        }
        parts.push(head(&of("Figures of the legs")));
        parts.extend(table(tables::legs(&source.findings.leg_table)));
        if let Some(files) = table(tables::files(&source.findings.leg_table)) {
            parts.extend([Part::Sub("Whole files".into()), files]);
            let sides = tables::slower_sides(&source.findings.leg_table);
            parts.extend((!sides.is_empty()).then_some(Part::Lines(sides)));
        }
        if let Some(repeats) = table(tables::repeats(&source.findings.repeats)) {
            parts.extend([Part::Sub("Repeats".into()), repeats]);
            parts.extend(
                tables::grouped(&source.findings.repeats).map(|note| Part::Lines(vec![note.to_owned()])),
            );
        }
        for sweep in &source.findings.sweeps {
            parts.push(Part::Lines(tables::sweep(sweep).lines().map(str::to_owned).collect()));
        }
        parts.push(head(&of("Findings")));
        findings(parts, &source.findings);
        health(parts, source, &head(&of("Health before and after")));
    }
    if !first.head.course_text.is_empty() {
        parts.push(head("Course"));
        parts.push(Part::Lines(first.head.course_text.lines().map(str::to_owned).collect()));
    }
    Ok(())
}

/// What was found, in a few sentences.
fn answers(found: &Findings) -> Vec<String> {
    let mut all: Vec<String> = found.faults.iter().map(mile_core::Faults::sentence).collect();
    all.extend(in_sentences(found));
    if let Some(c) = &found.cache {
        all.push(format!(
            "The write cache takes {} ({} to {}) at {} MB/s; after it the drive writes {} MB/s.",
            Bytes(c.bytes),
            Bytes(c.low_bytes),
            Bytes(c.high_bytes),
            number(c.before_mb_s),
            number(c.after_mb_s)
        ));
    }
    if let Some(e) = found.throttling.episodes.first() {
        let onset = e.onset_c.map_or(String::new(), |t| format!(" at {t:.0} °C"));
        all.push(format!(
            "Heat slows it down{onset}, first after {}: {} instead of {} MB/s, in {:.0} % of the time under load in all.",
            Nanos::from_secs(e.start_s),
            number(e.during_mb_s),
            number(e.before_mb_s),
            100.0 * found.throttling.share_of_time
        ));
    }
    if let Some(t) = &found.thermal {
        let margin = t.margin_to_warn_c.map_or(String::new(), |m| match m {
            m if m > 0.0 => format!(", {m:.0} K below the limit from which it warns"),
            _ => ", at or above the limit from which it warns".into(),
        });
        all.push(format!("It became {:.0} °C warm at the most{margin}.", t.max_c));
    }
    all.extend(found.hollows.iter().take(5).map(|h| format!("Slow place: {}.", h.sentence())));
    if !found.unreadable_blocks.is_empty() {
        all.push(format!("{} stretches of it cannot be read.", found.unreadable_blocks.len()));
    }
    let unexplained = found.breaks.iter().filter(|b| b.cause == mile_core::Cause::Unexplained).count();
    if unexplained > 0 {
        all.push(format!("{unexplained} changes of the rate are unexplained; see the findings."));
    }
    if found.breaks.is_empty() && found.hollows.is_empty() && found.cache.is_none() {
        all.push("No break in the rate was found.".into());
    }
    all
}

fn conditions(run: &[Source]) -> Vec<(String, String)> {
    let mut rows: Vec<(String, String)> = Vec::new();
    let Some(first) = run.first() else { return rows };
    let mut row = |name: &str, value: Option<String>| {
        rows.extend(value.filter(|v| !v.is_empty()).map(|v| (name.to_owned(), v)))
    };
    row("course", Some(first.head.course.clone()));
    row("started", (first.head.started > 0).then(|| when(first.head.started)));
    row("status", first.status.map(|s| s.words().to_owned()));
    row(
        "moved",
        Some(format!(
            "{} in {}",
            Bytes(run.iter().map(|s| s.trace.moved(s.trace.len()).0).sum()),
            first.trace.end(first.trace.len())
        )),
    );
    for source in run {
        let lane = source.head.lane(source.lane);
        let of = |name: &str| {
            if lane.name.is_empty() { name.to_owned() } else { format!("{}, {name}", lane.name) }
        };
        let drive = &lane.drive;
        let kind = if drive.simulated {
            format!("{}, simulated, seed {}", drive.kind, first.head.seed)
        } else {
            drive.kind.clone()
        };
        row(
            &of("drive"),
            Some(if kind.is_empty() { drive.model.clone() } else { format!("{}, {kind}", drive.model) }),
        );
        row(&of("serial number"), drive.serial.clone());
        row(&of("firmware"), drive.firmware.clone());
        row(&of("capacity"), lane.facts.map(|f| f.capacity.to_string()));
        row(&of("link"), drive.link.as_ref().map(mile_drive::Link::sentence));
        row(&of("limits"), Some(text::limits(&lane.limits)));
        let s = &lane.situation;
        row(&of("slot"), s.slot.clone());
        row(&of("cooling"), s.cooling.clone());
        row(&of("enclosure"), s.enclosure.clone());
        row(&of("stated ambient"), s.ambient.map(|a| a.to_string()));
        row(&of("fill at the start"), Some(crate::sides::fill(source)));
        row(&of("notes"), s.notes.clone());
        // Each leg says it; what several say alike is told once.
        let mut engines: Vec<&str> = Vec::new();
        for event in &source.events {
            match &event.kind {
                EventKind::Engine(words) if engines.contains(&words.as_str()) => {}
                EventKind::Engine(words) => {
                    engines.push(words);
                    row(&of("operations"), Some(words.clone()));
                }
                EventKind::Fitted(words) => row(&of("deviation"), Some(words.clone())),
                EventKind::Note(words) => row(&of("operator's note"), Some(words.clone())),
                _ => {}
            }
        }
    }
    rows
}

/// The differences that are established, the surest first.
fn established(parts: &mut Vec<Part>, found: &Comparison, cells: &dyn Fn(&Compared) -> Vec<String>) {
    let mut all: Vec<&Compared> = found.figures.iter().filter(|f| f.established).collect();
    all.sort_by(|a, b| a.p_corrected.unwrap_or(1.0).total_cmp(&b.p_corrected.unwrap_or(1.0)));
    if all.is_empty() {
        return;
    }
    parts.push(Part::Sub("What is established".into()));
    let more = all.len().saturating_sub(ESTABLISHED);
    let row = |f: &&Compared| {
        let mut row = cells(f);
        row[0] = format!("{}: {}", f.leg, row[0]);
        if found.sides.len() > 2 {
            row[0] = format!("{} against {}, {}", letter(f.b_side), letter(f.a_side), row[0]);
        }
        row
    };
    let rows = all.iter().take(ESTABLISHED).map(row).collect();
    let sides = if found.sides.len() > 2 { ["first", "second"] } else { ["A", "B"] };
    let heads = ["", sides[0], sides[1], "n", "difference", "percent", "established"].map(str::to_owned);
    parts.push(Part::Table(heads.to_vec(), rows));
    if more > 0 {
        parts.push(Part::Small(format!("and {more} more in the tables of the legs")));
    }
}

fn findings(parts: &mut Vec<Part>, found: &Findings) {
    if found.breaks.is_empty() {
        parts.push(Part::Text("No break in the rate was found.".into()));
    }
    for (i, b) in found.breaks.iter().enumerate() {
        parts.push(Part::Sub(format!("Break {}: {}", i + 1, b.sentence())));
        let mut lines = vec![b.bounds()];
        for account in b.ledger() {
            lines.push(account.head());
            lines.extend(account.lines().map(|l| format!("    {l}")));
        }
        lines.extend(b.capped());
        parts.push(Part::Lines(lines));
    }
    for dip in &found.dips {
        parts.push(Part::Text(format!("{}.", crate::text::dips(dip))));
        parts.push(Part::Lines(crate::text::reasons(dip)));
    }
    if !found.claims.is_empty() {
        parts.push(Part::Sub("Claimed and measured".into()));
        let rows = found.claims.iter().map(|c| {
            vec![
                c.what.clone(),
                number(c.measured_mb_s),
                number(c.claimed_mb_s),
                format!("{:.0} %", c.percent),
                c.excuses.join("; "),
            ]
        });
        parts.push(Part::Table(
            ["Claim, MB/s", "measured", "claimed", "share", "what may excuse it"].map(str::to_owned).to_vec(),
            rows.collect(),
        ));
    }
    if !found.stated_claims.is_empty() {
        parts.push(Part::Sub("Claims under their conditions".into()));
        let rows = found.stated_claims.iter().map(|c| {
            vec![
                c.what.clone(),
                c.unit.clone(),
                c.measured_words(),
                c.claimed_words(),
                c.percent.map_or_else(|| "–".to_owned(), |p| format!("{p:.0} %")),
                c.verdict().to_owned(),
                c.excuses.join("; "),
            ]
        });
        let head = ["Claim", "unit", "measured", "claimed", "share", "verdict", "what may excuse it"];
        parts.push(Part::Table(head.map(str::to_owned).to_vec(), rows.collect()));
    }
    if !found.unreadable_blocks.is_empty() {
        parts.push(Part::Sub("Stretches that cannot be read".into()));
        let rows = found.unreadable_blocks.iter().map(|u| {
            vec![
                u.start_byte.to_string(),
                u.end_byte.to_string(),
                Bytes(u.end_byte - u.start_byte).to_string(),
            ]
        });
        parts.push(Part::Table(["From byte", "to byte", "size"].map(str::to_owned).to_vec(), rows.collect()));
    }
    if let Some(next) = &found.next_step {
        parts.extend([Part::Sub("What would tell more".into()), Part::Text(next.text.clone())]);
    }
    parts.extend(found.notes.iter().map(|n| Part::Small(n.clone())));
}

/// Health as it was before and after, side by side; what changed is marked.
fn health(parts: &mut Vec<Part>, source: &Source, heading: &Part) {
    let before = source.head.lane(source.lane).health.as_ref().map(text::health_rows).unwrap_or_default();
    let after = source.health_after.as_ref().map(text::health_rows).unwrap_or_default();
    if before.is_empty() && after.is_empty() {
        return;
    }
    let mut names: Vec<&String> = Vec::new();
    for (name, _) in before.iter().chain(&after) {
        if !names.contains(&name) {
            names.push(name);
        }
    }
    let all = |rows: &[(String, String)], name: &str| {
        let own: Vec<&str> = rows.iter().filter(|r| r.0 == name).map(|r| r.1.as_str()).collect();
        if own.is_empty() { "–".to_owned() } else { own.join("; ") }
    };
    let rows = names.iter().map(|name| {
        let (a, b) = (all(&before, name), all(&after, name));
        let mark = if a == b { "" } else { "changed" };
        vec![(*name).clone(), a, b, mark.to_owned()]
    });
    parts.push(heading.clone());
    parts.push(Part::Table(["", "before", "after", ""].map(str::to_owned).to_vec(), rows.collect()));
}

/// A comparison: what differs first, then the figures.
fn comparison(parts: &mut Vec<Part>, found: &Comparison) {
    parts.push(Part::Heading("Comparison".into()));
    let sides = found.sides.iter().enumerate().map(|(i, s)| {
        (
            letter(i),
            if s.runs.join(", ") == s.name {
                s.name.clone()
            } else {
                format!("{}: {}", s.name, s.runs.join(", "))
            },
        )
    });
    parts.push(Part::Pairs(sides.collect()));
    parts.push(Part::Text(format!("{}.", found.answer())));
    let differs = match found.differs.len() {
        0 => Part::Text("No condition that is known differs between the sides.".into()),
        1 => Part::Text(format!("One condition differs: {}.", found.differs[0].what)),
        n => Part::Strong(format!(
            "{n} conditions differ between the sides: what the figures show may come from any of them."
        )),
    };
    parts.push(differs);
    let rows: Vec<Vec<String>> = found
        .differs
        .iter()
        .map(|d| std::iter::once(d.what.clone()).chain(d.values.iter().cloned()).collect())
        .collect();
    if !rows.is_empty() {
        let heads = std::iter::once(String::new()).chain((0..found.sides.len()).map(letter)).collect();
        parts.push(Part::Table(heads, rows));
    }
    let cells = |f: &Compared| {
        vec![
            format!("{}, {}", f.name.figure, f.name.unit),
            value(&f.a),
            value(&f.b),
            format!("{}, {}", f.a.n, f.b.n),
            with_interval(f.difference, f.difference_low, f.difference_high),
            f.percent.map_or(String::new(), |p| with_interval(p, f.percent_low, f.percent_high)),
            verdict(f),
        ]
    };
    established(parts, found, &cells);
    // A leg on two sides, and the rows of its table.
    type Group = ((String, usize), Vec<Vec<String>>);
    let mut groups: Vec<Group> = Vec::new();
    for f in &found.figures {
        let row = cells(f);
        match groups.last_mut().filter(|g| g.0 == (f.leg.clone(), f.b_side)) {
            Some(group) => group.1.push(row),
            None => groups.push(((f.leg.clone(), f.b_side), vec![row])),
        }
    }
    for ((leg, side), rows) in groups {
        let (a, b) = (letter(0), letter(side));
        parts.push(Part::Sub(format!("{leg}, {b} against {a}")));
        let heads =
            ["", a.as_str(), b.as_str(), "n", "difference", "percent", "established"].map(str::to_owned);
        parts.push(Part::Table(heads.to_vec(), rows));
    }
    if found.figures.iter().any(|f| f.name.unit == "°C") {
        parts.push(Part::Small(format!(
            "Temperatures are given at {} °C ambient where the ambient of a leg is known.",
            number(found.reference_ambient_c)
        )));
    }
    parts.extend(found.notes.iter().map(|n| Part::Small(n.clone())));
}
