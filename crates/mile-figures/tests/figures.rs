//! Figures: what they show, and that their text is text.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

use mile_core::ruler::{Ruler, Window};
use mile_core::{Bytes, Celsius, Context, Findings, Nanos, Op, Sample, Trace, findings};
use mile_figures::{FigureError, RunFigure, draw, pdf};
use std::process::Command;

fn trace(with_temp: bool) -> Trace {
    let samples: Vec<Sample> = (0..800_u64)
        .map(|i| {
            let rate = if i < 200 { 2000 } else { 1000 };
            Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                written: Bytes(rate * 250_000),
                temp: with_temp.then_some(Celsius(40.0 + (i / 40) as f64)),
                ..Sample::default()
            }
        })
        .collect();
    Trace::of(&samples, &["soak".into()])
}

fn context() -> Context {
    Context { warn: Some(Celsius(75.0)), critical: Some(Celsius(85.0)), ..Context::default() }
}

fn figure(
    trace: &Trace,
    found: &Findings,
    ruler: Ruler,
    window: Option<Window>,
) -> Result<String, FigureError> {
    let lines = ["bare, 24 °C ambient".to_owned(), "run 7 <made up> & tested".to_owned()];
    draw(&RunFigure {
        title: "long soak on Merrow K2",
        lines: &lines,
        trace,
        findings: found,
        context: &context(),
        ruler,
        window,
    })
}

fn drawn(with_temp: bool) -> String {
    let trace = trace(with_temp);
    figure(&trace, &findings(&trace, &context()), Ruler::Bytes, None).unwrap()
}

#[test]
fn a_figure_says_title_situation_breaks_plateaus_and_limits_as_text() {
    let svg = drawn(true);
    for text in [
        "long soak on Merrow K2",
        "bare, 24 °C ambient",
        "write cache exhausted",
        "100.0 GB after 50.0 s",
        "warns from 75 °C",
        "GB moved",
        "MB/s",
        "1,000 ± 0 MB/s",
    ] {
        assert!(svg.contains(text), "{text}");
    }
    assert!(svg.contains("&lt;made up&gt; &amp; tested"), "markup in a name stays text");
}

/// The break after 100 of 250 GB stands two fifths along the ruler, whose labels say where its 50 and its 200 are.
#[test]
fn the_break_stands_at_its_place_on_the_ruler() {
    let svg = drawn(false);
    let x_of = |text: &str| -> f64 {
        let is = |t: &&str| {
            t.split_once('>')
                .is_some_and(|(_, inside)| inside.split('<').next().is_some_and(|i| i.trim() == text))
        };
        let tag = svg.split("<text").find(is).unwrap_or_else(|| panic!("no label {text} in {svg}"));
        tag.split(" x=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap()
    };
    let (fifty, two_hundred) = (x_of("50"), x_of("200"));
    let cx: f64 = svg.split("<circle cx=\"").nth(1).unwrap().split('"').next().unwrap().parse().unwrap();
    let at = 50.0 + 150.0 * (cx - fifty) / (two_hundred - fifty);
    assert!((at - 100.0).abs() < 0.5, "the marker stands at {at} GB");
}

#[test]
fn without_temperature_there_is_no_strip_and_without_samples_no_figure() {
    assert!(!drawn(false).contains("warns from"));
    let none = Trace::new();
    assert!(matches!(
        figure(&none, &findings(&none, &context()), Ruler::Bytes, None),
        Err(FigureError::Empty)
    ));
}

#[test]
fn any_window_and_either_ruler_are_drawn() {
    let trace = trace(true);
    let found = findings(&trace, &context());
    for window in
        [Window { from: 99e9, to: 101e9 }, Window { from: 0.0, to: 1.0 }, Window { from: 900e9, to: 950e9 }]
    {
        figure(&trace, &found, Ruler::Bytes, Some(window)).unwrap();
    }
    assert!(figure(&trace, &found, Ruler::Time, None).unwrap().contains("min since the start"));
    let rest = Trace::of(&[Sample { end: Nanos(9), op: Op::Idle, ..Sample::default() }], &[]);
    figure(&rest, &findings(&rest, &context()), Ruler::Bytes, None).unwrap();
}

/// The text of the PDF, read by an independent program from the bytes, without any font of the system.
#[test]
fn the_text_of_a_pdf_is_text_and_its_font_is_in_it() {
    let bytes = pdf(&drawn(true)).unwrap();
    assert!(bytes.starts_with(b"%PDF"));
    let has = |what: &[u8]| bytes.windows(what.len()).any(|w| w == what);
    assert!(has(b"/FontFile2") || has(b"/FontFile3"), "the font is embedded");
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("figure.pdf");
    std::fs::write(&path, &bytes).unwrap();
    match Command::new("pdftotext").arg(&path).arg("-").env("FONTCONFIG_FILE", "/nonexistent").output() {
        Ok(out) => {
            let text = String::from_utf8_lossy(&out.stdout).into_owned();
            for words in
                ["long soak on Merrow K2", "write cache exhausted", "warns from 75 °C", "1,000 ± 0 MB/s"]
            {
                assert!(text.contains(words), "{words} is not in:\n{text}");
            }
        }
        Err(e) => eprintln!("SKIPPED: pdftotext cannot be run ({e}); scripts/test installs it"),
    }
}
