//! What the course place shows beside the text: read, fitted to a drive, forecast. Happens off the drawing thread.

use super::state::{Background, Checked, OutlineLine, Stretch};
use mile_bench::bench::Card;
use mile_bench::outlook::{HostLoad, Outlook, Past, outlook};
use mile_core::{Bytes, LegName, Op};
use mile_course::{DriveFacts, Work};
use mile_drive::sysfs::Disk;
use mile_logbook::Logbook;
use mile_runner::message::facts_for_planning;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What is to be checked.
#[derive(Clone)]
pub(crate) struct Question {
    pub(crate) text: String,
    pub(crate) generation: u64,
    /// The selected drive; a file where there is none.
    pub(crate) cards: Vec<Card>,
    /// The drives that lanes are put on, in this order.
    pub(crate) several: Vec<Card>,
    pub(crate) logbook: PathBuf,
    /// What was known of the drives the last time.
    pub(crate) background: Vec<Arc<Background>>,
}

/// Size of the file that a course is fitted to before one is named.
const FILE: Bytes = Bytes(4_000_000_000);

/// What a course is looked at on, in words.
pub(crate) fn target(card: Option<&Card>) -> String {
    match card {
        // What it is named comes first: a model may be as long as the path of a file.
        Some(card) => {
            format!("On {}: {}, {}", card.identity.name, card.identity.model, card.facts.capacity)
        }
        None => format!("On a file, of {FILE} as long as none is named"),
    }
}

/// Reads the course, and says what it comes to.
pub(crate) fn check(question: &Question) -> (Checked, Vec<Arc<Background>>) {
    let mut checked = Checked { generation: question.generation, ..Checked::default() };
    checked.target = target(question.cards.first());
    let known = question.background.clone();
    let course = match mile_course::parse(&question.text) {
        Ok(course) => course,
        Err(errors) => {
            checked.diagnostics = errors;
            return (checked, known);
        }
    };
    checked.name.clone_from(&course.name);
    checked.lanes = course.lanes.iter().map(|l| l.name.clone()).collect();
    let cards = match drives(&course, question) {
        Ok(cards) => cards,
        Err(text) => {
            checked.outlook = Some(Err(text));
            return (checked, known);
        }
    };
    if !course.lanes.is_empty() {
        let on =
            |(lane, card): (&mile_course::Lane, &Card)| format!("{} on {}", lane.name, card.identity.name);
        checked.target = course.lanes.iter().zip(&cards).map(on).collect::<Vec<_>>().join(", ");
    }
    let facts: Vec<DriveFacts> = cards.iter().map(|c| facts_for_planning(&c.facts)).collect();
    let plans = match mile_course::plan_lanes(&course, &facts) {
        Ok(plans) => plans,
        Err(errors) => {
            let what = if cards.len() > 1 { "these drives" } else { "this drive" };
            checked.outlook = Some(Err(format!("The course does not fit {what}.\n{}", errors.join("\n"))));
            return (checked, known);
        }
    };
    let mut backgrounds = Vec::new();
    let mut looks = Vec::new();
    for (i, (plan, card)) in plans.iter().zip(&cards).enumerate() {
        let known = question.background.iter().find(|k| k.drive == card.identity.name);
        let background = known.cloned().unwrap_or_else(|| Arc::new(background(card, &question.logbook)));
        let on_drive = disk(card).is_some_and(|d| under(&question.logbook).is_some_and(|l| l.name == d.name));
        let look = outlook(plan, card, &background.past, background.host.as_ref(), on_drive);
        looks.push((checked.lanes.get(i).cloned().unwrap_or_default(), look));
        backgrounds.push(background);
    }
    let casts: Vec<mile_course::Forecast> = looks.iter().map(|(_, look)| look.forecast.clone()).collect();
    let look = match looks.len() {
        1 => looks.remove(0).1,
        _ => Outlook::side_by_side(looks),
    };
    // A stage is drawn as what the first lane does in it that does anything.
    let op = |i: usize| plans.iter().map(|p| op_of(&p.legs[i].work)).find(|op| *op != Op::Idle);
    let stretch = |(i, cast): (usize, &mile_course::LegForecast)| Stretch {
        seconds: cast.seconds.unwrap_or(0.0),
        op: op(i).unwrap_or(Op::Idle),
    };
    checked.road = look.forecast.legs.iter().enumerate().map(stretch).collect();
    checked.outline = outline(&question.text, &course, &casts);
    checked.outlook = Some(Ok(look));
    (checked, backgrounds)
}

/// The drives that a course is looked at on, one for each of its lanes.
fn drives(course: &mile_course::Course, question: &Question) -> Result<Vec<Card>, String> {
    let lanes = course.lanes.len();
    if lanes == 0 {
        let file = || {
            let mut file = Card::file(FILE);
            file.facts.cache = Some(mile_drive::host::memory());
            file
        };
        return Ok(vec![question.cards.first().cloned().unwrap_or_else(file)]);
    }
    let of_bench = question.several.get(..lanes).map(<[Card]>::to_vec);
    of_bench.ok_or_else(|| {
        let names: Vec<&str> = course.lanes.iter().map(|l| l.name.as_str()).collect();
        format!(
            "The course is for {lanes} drives ({}), and the bench has {}. Files can be named on the command line: hollow-mile run FILE --on LANE=PATH.",
            names.join(", "),
            question.several.len()
        )
    })
}

fn op_of(work: &Work) -> Op {
    match work {
        Work::Transfer(t) => t.load.op,
        Work::Files(f) if f.op == mile_core::files::FilesOp::Read => Op::Read,
        Work::Files(f) if f.changes() && f.op != mile_core::files::FilesOp::Delete => Op::Write,
        _ => Op::Idle,
    }
}

fn background(card: &Card, logbook: &Path) -> Background {
    let past = Logbook::read(logbook).map(|b| Past::of(&b, &card.identity)).unwrap_or_default();
    let host = (!card.identity.simulated).then(|| HostLoad::look(disk(card).as_ref()));
    Background { drive: card.identity.name.clone(), past, host }
}

/// The disk of a real drive.
fn disk(card: &Card) -> Option<Disk> {
    let device = card.device.as_ref()?;
    let (major, minor) = device.number.split_once(':')?;
    Disk::of(Path::new("/sys"), major.parse().ok()?, minor.parse().ok()?)
}

/// The disk under a file.
fn under(path: &Path) -> Option<Disk> {
    use std::os::unix::fs::MetadataExt;
    let number = std::fs::metadata(path.parent()?).ok()?.dev();
    Disk::of(Path::new("/sys"), rustix::fs::major(number), rustix::fs::minor(number))
}

/// The course as it stands in its text: its legs with what all of their repeats take together, and the heads of the groups that
/// they are in.
fn outline(text: &str, course: &mile_course::Course, lanes: &[mile_course::Forecast]) -> Vec<OutlineLine> {
    let mut out: Vec<OutlineLine> = Vec::new();
    let mut depth: usize = 0;
    for (i, line) in text.lines().enumerate() {
        let words = line.split('#').next().unwrap_or_default().trim();
        let first = words.split_whitespace().next().unwrap_or_default().to_lowercase();
        let is_sweep = first == "for" && words.split_whitespace().nth(2).is_some_and(|w| w == "in");
        match first.as_str() {
            "leg" => {
                let mut entry = OutlineLine { depth, ..OutlineLine::default() };
                for (number, stage) in course.legs.chunk_by(|a, b| a.stage == b.stage).enumerate() {
                    let Some(leg) = stage.iter().find(|l| l.line == i + 1) else { continue };
                    let casts = || leg.lanes.iter().filter_map(|l| lanes.get(*l)?.legs.get(number));
                    entry.text = LegName::read(&leg.name).base;
                    entry.legs += 1;
                    entry.seconds += casts().filter_map(|c| c.seconds).fold(0.0, f64::max);
                    entry.bytes += casts().map(|c| c.written + c.read).sum::<u64>();
                }
                if entry.legs > 0 {
                    out.push(entry);
                }
            }
            "end" => depth = depth.saturating_sub(1),
            "repeat" | "battery" => {
                out.push(OutlineLine { depth, text: words.to_owned(), ..OutlineLine::default() });
                depth += 1;
            }
            _ if is_sweep => {
                out.push(OutlineLine { depth, text: words.to_owned(), ..OutlineLine::default() });
                depth += 1;
            }
            "use" => out.push(OutlineLine { depth, text: words.to_owned(), ..OutlineLine::default() }),
            _ => {}
        }
    }
    out
}
