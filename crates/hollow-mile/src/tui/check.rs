//! What the course place shows beside the text: read, fitted to a drive, forecast. Happens off the drawing thread.

use super::state::{Checked, OutlineLine, Stretch};
use mile_bench::bench::Card;
use mile_bench::outlook::{HostLoad, Past, outlook};
use mile_core::{Bytes, LegName, Op};
use mile_course::{DriveFacts, Plan, Work};
use mile_drive::sysfs::Disk;
use mile_logbook::Logbook;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What is known of a drive and the host before a run.
#[derive(Clone, Debug, Default)]
pub(crate) struct Background {
    pub(crate) drive: String,
    past: Past,
    host: Option<HostLoad>,
}

/// What is to be checked.
#[derive(Clone)]
pub(crate) struct Question {
    pub(crate) text: String,
    pub(crate) generation: u64,
    /// The drive; a file where there is none.
    pub(crate) card: Option<Card>,
    pub(crate) logbook: PathBuf,
    /// What was known of the drive the last time.
    pub(crate) background: Option<Arc<Background>>,
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
pub(crate) fn check(question: &Question) -> (Checked, Option<Arc<Background>>) {
    let mut checked = Checked { generation: question.generation, ..Checked::default() };
    checked.target = target(question.card.as_ref());
    let course = match mile_course::parse(&question.text) {
        Ok(course) => course,
        Err(errors) => {
            checked.diagnostics = errors;
            return (checked, question.background.clone());
        }
    };
    checked.name.clone_from(&course.name);
    checked.lanes = course.lanes.len().max(1);
    let course = match course.lanes.iter().position(|l| !l.watched) {
        Some(lane) => {
            checked.target = format!("Lane {}. {}", course.lanes[lane].name, checked.target);
            course.of_lane(lane)
        }
        None => course,
    };
    let facts = match &question.card {
        Some(card) => DriveFacts {
            capacity: card.facts.capacity,
            logical_block: card.facts.logical_block,
            has_temperature: card.facts.has_temperature,
            readable: card.facts.readable,
            cache: card.facts.cache,
        },
        None => DriveFacts {
            capacity: FILE,
            logical_block: Bytes(4096),
            has_temperature: false,
            readable: false,
            cache: Some(mile_drive::host::memory()),
        },
    };
    let plan = match mile_course::plan(&course, &facts) {
        Ok(plan) => plan,
        Err(errors) => {
            checked.outlook =
                Some(Err(format!("The course does not fit this drive.\n{}", errors.join("\n"))));
            return (checked, question.background.clone());
        }
    };
    let card = question.card.clone().unwrap_or_else(|| Card::file(FILE));
    let name = &card.identity.name;
    let background = match &question.background {
        Some(known) if known.drive == *name => known.clone(),
        _ => Arc::new(background(&card, &question.logbook)),
    };
    let on_drive = disk(&card).is_some_and(|d| under(&question.logbook).is_some_and(|l| l.name == d.name));
    let look = outlook(&plan, &card, &background.past, background.host.as_ref(), on_drive);
    checked.road = plan
        .legs
        .iter()
        .zip(&look.forecast.legs)
        .map(|(leg, cast)| Stretch { seconds: cast.seconds.unwrap_or(0.0), op: op_of(&leg.work) })
        .collect();
    checked.outline = outline(&question.text, &plan, &look.forecast);
    checked.outlook = Some(Ok(look));
    (checked, Some(background))
}

fn op_of(work: &Work) -> Op {
    if let Work::Transfer(t) = work { t.op } else { Op::Idle }
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
fn outline(text: &str, plan: &Plan, cast: &mile_course::Forecast) -> Vec<OutlineLine> {
    let mut out: Vec<OutlineLine> = Vec::new();
    let mut depth: usize = 0;
    for (i, line) in text.lines().enumerate() {
        let words = line.split('#').next().unwrap_or_default().trim();
        let first = words.split_whitespace().next().unwrap_or_default().to_lowercase();
        let is_sweep = first == "for" && words.split_whitespace().nth(2).is_some_and(|w| w == "in");
        match first.as_str() {
            "leg" => {
                let mut entry = OutlineLine { depth, ..OutlineLine::default() };
                for (leg, cast) in plan.legs.iter().zip(&cast.legs).filter(|(l, _)| l.line == i + 1) {
                    entry.text = LegName::read(&leg.name).base;
                    entry.legs += 1;
                    entry.seconds += cast.seconds.unwrap_or(0.0);
                    entry.bytes += cast.written + cast.read;
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
