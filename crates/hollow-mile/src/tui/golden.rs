//! Every place on fixed data at three sizes, as it was looked at and found right; and no word that is cut.
//!
//! `UPDATE=1 cargo test -p hollow-mile --lib golden` writes the pictures anew, to be looked at.

use super::places;
use super::state::{FleetPlace, State};
use super::tests::{press, screen, with_run};
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

/// The places with a run of the ready-made soak, in its findings and underway, and overlays over the bench.
fn pictures(state: &mut State, size: (u16, u16)) -> Vec<(String, String)> {
    let mut all = Vec::new();
    for place in places::ALL.iter().copied() {
        state.place = place;
        all.push((place.name().to_owned(), without_dates(&screen(state, size.0, size.1))));
    }
    for (name, keys) in [("start", "s"), ("help", "?"), ("commands", ":")] {
        state.place = places::BENCH;
        press(state, keys);
        all.push((name.to_owned(), screen(state, size.0, size.1)));
        press(state, "\x1b");
    }
    all
}

#[test]
fn each_place_looks_as_it_was_found_right_at_three_sizes() {
    let update = std::env::var_os("UPDATE").is_some();
    let (mut differ, mut state) = (Vec::new(), with_run(1));
    state.fleet = fleet();
    for size in SIZES {
        for (name, text) in pictures(&mut state, size) {
            // Blanks at the ends of rows are not seen.
            let text: String = text.lines().map(|l| format!("{}\n", l.trim_end())).collect();
            let path = folder().join(format!("{name}-{}x{}.txt", size.0, size.1));
            if update {
                std::fs::create_dir_all(folder()).unwrap();
                let write = |out: &mut dyn std::io::Write| -> Result<(), mile_bench::Failure> {
                    Ok(out.write_all(text.as_bytes())?)
                };
                mile_files::write_whole(&path, mile_files::Replace::File, write).unwrap();
            } else if std::fs::read_to_string(&path).unwrap_or_default() != text {
                differ.push(format!("{}\n{text}", path.display()));
            }
        }
    }
    assert!(
        differ.is_empty(),
        "look at these, and write them anew with UPDATE=1 if they are right:\n{}",
        differ.join("\n")
    );
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
    let (mut whole, mut state) = (BTreeSet::new(), with_run(1));
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
