//! Every place on fixed data at three sizes and in each theme, as it was looked at and found right; and no word that is cut.
//!
//! `UPDATE=1 cargo test -p hollow-mile --lib golden` writes the pictures anew, to be looked at. A picture is two files: the
//! text, and its colours. The colours are rows of runs, such as `a12b3` for twelve cells of style a and three of style b; above
//! them stands what each style is in each theme. Cells are of one style where they look alike in all themes.

use super::check::{Question, check};
use super::done::Done;
use super::jobs::{Jobs, load, newest};
use super::place::{self, Place};
use super::state::{FleetPlace, Grouping, HealthShown, Shown, State, Wanted};
use super::tests::{drawn, press, screen, with_run};
use super::theme::Theme;
use super::update;
use mile_logbook::Logbook;
use ratatui::buffer::{Buffer, Cell};
use ratatui::style::{Color, Modifier};
use std::collections::BTreeSet;
use std::path::PathBuf;

const SIZES: [(u16, u16); 3] = [(80, 24), (159, 46), (240, 67)];

/// Dates depend on the time zone.
fn without_dates(text: &str) -> String {
    let digits = |shape: &str, part: &str| {
        shape.len() == part.len()
            && shape
                .chars()
                .zip(part.chars())
                .all(|(s, p)| if s == '0' { p.is_ascii_digit() } else { s == p })
    };
    let mut out = String::new();
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        match rest.get(..16).filter(|part| digits("0000-00-00 00:00", part)) {
            Some(part) => {
                out.push_str("DATE AND TIME...");
                rest = &rest[part.len()..];
            }
            None => {
                out.push(c);
                rest = &rest[c.len_utf8()..];
            }
        }
    }
    out
}

fn folder() -> PathBuf {
    PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("tests/golden")
}

/// Twenty drives of a model, of which one is slow and five have newer firmware.
fn fleet() -> FleetPlace {
    let seen = |drive: usize, run: usize| {
        let (newer, own) = (drive.is_multiple_of(4), ((drive * 7) % 11) as f64);
        let settled = if drive == 7 { 905.0 } else { 1044.0 + own + if newer { 21.0 } else { 0.0 } };
        mile_core::fleet::Seen {
            run: (drive * 3 + run) as i64,
            started: run as i64,
            serial: format!("MK2-0417-{drive:05}"),
            firmware: Some(if newer { "K2F1.07" } else { "K2F1.06" }.into()),
            course: "quay soak".into(),
            situation: if run == 2 { "finned" } else { "bare" }.into(),
            digest: mile_logbook::Digest {
                burst_mb_s: Some(2880.0 + ((drive * 5) % 9) as f64),
                cache_bytes: Some(118_000_000_000 + drive as u64 % 5 * 100_000_000),
                settled_mb_s: Some(settled),
                throttles_at_c: Some(77.0),
                max_c: Some(77.0 + own / 10.0),
                ..Default::default()
            },
        }
    };
    let all: Vec<_> = (0..20).flat_map(|d| (0..3).map(move |r| seen(d, r))).collect();
    let model = mile_logbook::Model { name: "Merrow K2 2TB".into(), drives: 20, runs: 60 };
    let shown = mile_core::fleet::fleet(&model.name, &all, &[], None);
    FleetPlace { models: vec![model], shown, asked: true, ..FleetPlace::default() }
}

/// What of a place is a picture: its name, and the screen that shows it.
type Picture<'a> = &'a mut dyn FnMut(&str, &mut State);

/// The screen with a run of the ready-made soak underway and open, and all that the other places show: a drive, a course, and
/// of the demonstration logbook a fill sweep, a scan, and runs beside each other.
fn full() -> (State, [(Place, Shown); 2]) {
    let mut state = with_run(1);
    let jobs = Jobs::new();
    state.fleet = fleet();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("demo.logbook");
    let demo = |out: &mut dyn std::io::Write| -> Result<(), mile_bench::Failure> {
        std::io::copy(&mut flate2::read::GzDecoder::new(super::DEMO), out)?;
        Ok(())
    };
    mile_files::write_whole(&path, mile_files::Replace::Nothing, demo).unwrap();
    let of = |wanted| {
        let run = Logbook::reading(&path, |book| newest(book, wanted)).unwrap().unwrap();
        load(&path, run, 0, &|_| {}).unwrap()
    };
    let sides = [vec![2], vec![4]];
    state.compare.asked = Some(sides.clone());
    let named = ["2".to_owned(), "4".to_owned()];
    let held = crate::commands::compare::of(&named, &path, &crate::sides::go_on).unwrap();
    update::done(&mut state, &jobs, Done::Compared(sides, Ok(Box::new(held))));
    let card = mile_bench::bench::card("sim:merrow-k2").unwrap();
    state.health.drive = Some(card.identity.name.clone());
    let health = HealthShown { card: card.clone(), last: None, story: None, tested: None };
    update::done(&mut state, &jobs, Done::Health(Ok(Box::new(health))));
    press(&mut state, "2");
    let question = Question {
        text: state.course.text(),
        generation: state.course.generation,
        cards: vec![card.clone()],
        several: vec![card],
        logbook: state.setup.logbook_path.clone(),
        background: Vec::new(),
    };
    let (checked, background) = check(&question);
    update::done(&mut state, &jobs, Done::Checked(Box::new(checked), background));
    (state, [(place::FILL, of(Wanted::Fill)), (place::SURFACE, of(Wanted::Surface))])
}

/// Goes through the places, and overlays over the bench.
fn each_picture((state, others): &mut (State, [(Place, Shown); 2]), show: Picture<'_>) {
    for place in place::ALL.iter().copied() {
        state.place = place;
        match others.iter_mut().find(|(of, _)| *of == place) {
            Some((_, shown)) => {
                let soak = state.findings.shown.as_mut().unwrap();
                std::mem::swap(soak, shown);
                show(place.name(), state);
                std::mem::swap(state.findings.shown.as_mut().unwrap(), shown);
            }
            None => show(place.name(), state),
        }
    }
    state.place = place::BENCH;
    state.bench.grouping = Grouping::Kind;
    show("grouped", state);
    state.bench.grouping = Grouping::None;
    for (name, keys) in [("start", "s"), ("help", "?"), ("commands", ":")] {
        state.place = place::BENCH;
        press(state, keys);
        show(name, state);
        press(state, "\x1b");
    }
}

fn pictures(state: &mut (State, [(Place, Shown); 2]), size: (u16, u16)) -> Vec<(String, String)> {
    let mut all = Vec::new();
    each_picture(state, &mut |name, state| {
        all.push((name.to_owned(), without_dates(&screen(state, size.0, size.1))));
    });
    all
}

/// What a cell looks like, in words.
fn look(cell: &Cell) -> String {
    let colour = |c: Color| match c {
        Color::Rgb(r, g, b) => format!("#{r:02x}{g:02x}{b:02x}"),
        Color::Reset => "-".into(),
        named => format!("{named:?}").to_lowercase(),
    };
    // A blank has no colour but that behind it.
    let blank = cell.symbol() == " " && !cell.modifier.contains(Modifier::REVERSED);
    let fg = if blank { "-".into() } else { colour(cell.fg) };
    let modifier = if cell.modifier.is_empty() { String::new() } else { format!(" {:?}", cell.modifier) };
    format!("{fg} on {}{}", colour(cell.bg), modifier.to_lowercase())
}

/// The colours of a place in all themes, and the rows in which a theme shows other text than the first.
fn colours(state: &mut State, (width, height): (u16, u16)) -> String {
    let kept = state.theme;
    let themes = Theme::each().map(|(name, theme)| {
        state.theme = theme;
        (name, drawn(state, width, height))
    });
    state.theme = kept;
    let mut legend: Vec<Vec<String>> = Vec::new();
    let mut rows = String::new();
    for y in 0..height {
        let mut runs: Vec<(usize, usize)> = Vec::new();
        for x in 0..width {
            let cells = themes.each_ref().map(|(_, buffer)| &buffer[(x, y)]);
            let style: Vec<String> = cells.iter().map(|cell| look(cell)).collect();
            let known = legend.iter().position(|s| *s == style).unwrap_or_else(|| {
                legend.push(style);
                legend.len() - 1
            });
            match runs.last_mut() {
                Some((last, count)) if *last == known => *count += 1,
                _ => runs.push((known, 1)),
            }
        }
        let name = |i: usize| {
            let letter = char::from(b'a' + (i % 26) as u8);
            if i < 26 {
                letter.to_string()
            } else {
                format!("{}{letter}", char::from(b'A' + (i / 26 - 1) as u8))
            }
        };
        rows.extend(runs.into_iter().map(|(i, count)| format!("{}{count}", name(i))));
        rows.push('\n');
    }
    let text = |buffer: &Buffer, y: u16| -> String { (0..width).map(|x| buffer[(x, y)].symbol()).collect() };
    for (name, buffer) in &themes[1..] {
        for y in (0..height).filter(|y| text(buffer, *y) != text(&themes[0].1, *y)) {
            rows.push_str(&format!("{name}, row {y}: {}\n", without_dates(&text(buffer, y))));
        }
    }
    let names = themes.each_ref().map(|(name, _)| *name).join(" | ");
    let styles: String = legend.iter().map(|s| format!("{}\n", s.join(" | "))).collect();
    format!("{names}\n{styles}\n{rows}")
}

/// Collects the pictures that are not as they were found right, or writes them anew.
struct Golden {
    update: bool,
    differ: Vec<String>,
}

impl Golden {
    fn new() -> Self {
        Self { update: std::env::var_os("UPDATE").is_some(), differ: Vec::new() }
    }

    fn hold(&mut self, file: &str, text: &str) {
        // Blanks at the ends of rows are not seen.
        let text: String = text.lines().map(|l| format!("{}\n", l.trim_end())).collect();
        let path = folder().join(file);
        if self.update {
            std::fs::create_dir_all(folder()).unwrap();
            let write = |out: &mut dyn std::io::Write| -> Result<(), mile_bench::Failure> {
                Ok(out.write_all(text.as_bytes())?)
            };
            mile_files::write_whole(&path, mile_files::Replace::File, write).unwrap();
        } else if std::fs::read_to_string(&path).unwrap_or_default() != text {
            self.differ.push(format!("{}\n{text}", path.display()));
        }
    }
}

impl Drop for Golden {
    fn drop(&mut self) {
        let differ = &self.differ;
        assert!(
            differ.is_empty() || std::thread::panicking(),
            "look at these, and write them anew with UPDATE=1 if they are right:\n{}",
            differ.join("\n")
        );
    }
}

#[test]
fn each_place_looks_as_it_was_found_right_at_three_sizes() {
    let (mut golden, mut state) = (Golden::new(), full());
    for size in SIZES {
        for (name, text) in pictures(&mut state, size) {
            golden.hold(&format!("{name}-{}x{}.txt", size.0, size.1), &text);
        }
    }
}

#[test]
fn each_place_has_the_colours_that_were_found_right_in_each_theme() {
    let (mut golden, mut state) = (Golden::new(), full());
    for size in SIZES {
        each_picture(&mut state, &mut |name, state| {
            golden.hold(&format!("{name}-{}x{}.colours", size.0, size.1), &colours(state, size));
        });
    }
}

/// Letters and digits of a row, word by word; what is known to be cut ends in dots and is left out.
fn words(text: &str) -> BTreeSet<String> {
    let word = |w: &str| w.trim_matches(|c: char| !c.is_alphanumeric()).to_owned();
    text.split(|c: char| c.is_whitespace() || "╎┊┆┄─╵·•".contains(c))
        .filter(|w| !w.contains('…'))
        .map(word)
        .filter(|w| w.chars().filter(|c| c.is_alphabetic()).count() >= 3)
        .collect()
}

/// A word that stands on a small screen and on no large one was cut by an edge or by what stands over it.
#[test]
fn no_word_is_cut_at_any_size() {
    let (mut whole, mut state) = (BTreeSet::new(), full());
    for size in [(159, 120), (240, 120), (400, 160)] {
        whole.extend(pictures(&mut state, size).iter().flat_map(|(_, text)| words(text)));
    }
    let mut wrong = Vec::new();
    for size in SIZES {
        for (name, text) in pictures(&mut state, size) {
            let cut: Vec<String> = words(&text).into_iter().filter(|w| !whole.contains(w)).collect();
            if !cut.is_empty() {
                wrong.push(format!("{name} at {size:?}: {cut:?}\n{text}"));
            }
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}
