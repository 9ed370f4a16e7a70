//! Figures: what they show, and that their text is text.
#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stderr,
    reason = "a test that cannot go on has failed"
)]

use mile_core::legs::leg_rows;
use mile_core::ruler::{Ruler, Window};
use mile_core::stages::LaneTrace;
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
        "warn 75 °C",
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
    assert!(!drawn(false).contains("warn 75"));
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
            for words in ["long soak on Merrow K2", "write cache exhausted", "warn 75 °C", "1,000 ± 0 MB/s"]
            {
                assert!(text.contains(words), "{words} is not in:\n{text}");
            }
        }
        Err(e) => eprintln!("SKIPPED: pdftotext cannot be run ({e}); scripts/test installs it"),
    }
}

/// All texts of a figure: what they say, and the rectangle that they take at least.
fn texts(svg: &str) -> Vec<(String, [f64; 4])> {
    let part = |text: &str, name: &str| {
        let from = text.find(&format!("{name}=\""))? + name.len() + 2;
        text[from..].split('"').next().map(str::to_owned)
    };
    let number = |text: &str, name: &str| part(text, name).and_then(|v| v.parse::<f64>().ok());
    svg.split("<text ")
        .skip(1)
        .map(|rest| {
            let (tag, after) = rest.split_once('>').unwrap();
            let said = after.split("</text>").next().unwrap().trim().to_owned();
            let (x, y, size) =
                (number(tag, "x").unwrap(), number(tag, "y").unwrap(), number(tag, "font-size").unwrap());
            // Narrower than the letters of the font are: what overlaps here overlaps surely.
            let wide = 0.45 * size * said.chars().count() as f64;
            let left = match part(tag, "text-anchor").as_deref() {
                Some("end") => x - wide,
                Some("middle") => x - wide / 2.0,
                _ => x,
            };
            let (dy, high) = (part(tag, "dy").unwrap_or_default(), 0.5 * size);
            let middle = match dy.as_str() {
                "0.76em" => y + 0.4 * size,
                "0.5ex" => y,
                _ => y - 0.3 * size,
            };
            (said, [left, middle - high / 2.0, left + wide, middle + high / 2.0])
        })
        .collect()
}

/// Bug: the labels of the plateaus of many legs, and the numbers of breaks that lie close to each other, were printed over each other.
#[test]
fn no_text_of_a_run_with_many_legs_lies_on_another_or_leaves_the_figure() {
    let names: Vec<String> = (0..40).map(|i| format!("leg {i} / fill {} / depth 16", 2 * i)).collect();
    let samples: Vec<Sample> = (0..8000_u64)
        .map(|i| {
            let (leg, within) = (i / 200, i % 200);
            let reads = leg % 4 == 3;
            let mb_s = match (reads, within) {
                (true, _) => 6000 + leg * 7,
                (false, 0..80) => 4500 + leg * 3,
                (false, 80..120) => 620,
                _ => 160,
            };
            let bytes = Bytes(mb_s * 250_000 + i * 7919 % 3_000_000);
            Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                leg: leg as u32,
                op: if reads { Op::Read } else { Op::Write },
                written: if reads { Bytes(0) } else { bytes },
                read: if reads { bytes } else { Bytes(0) },
                temp: Some(Celsius(40.0 + (i % 300 / 20) as f64)),
                ..Sample::default()
            }
        })
        .collect();
    let trace = Trace::of(&samples, &names);
    let found = findings(&trace, &context());
    assert!(found.breaks.len() > 20 && found.plateaus.len() > 40, "{}", found.breaks.len());
    for ruler in [Ruler::Bytes, Ruler::Time] {
        let svg = figure(&trace, &found, ruler, None).unwrap();
        let all = texts(&svg);
        assert!(
            all.iter().filter(|t| t.0.contains("MB/s")).count() > 3 && all.iter().any(|t| t.0.contains('–'))
        );
        for (i, (said, a)) in all.iter().enumerate() {
            assert!(a[0] >= 0.0 && a[2] <= 1120.0, "{said} at {a:?}");
            for (other, b) in &all[i + 1..] {
                let apart = a[2] <= b[0] || b[2] <= a[0] || a[3] <= b[1] || b[3] <= a[1];
                assert!(apart, "{ruler:?}: {said} {a:?} lies on {other} {b:?}");
            }
        }
        // Reads are told from writes without colour, too.
        assert!(all.iter().any(|t| t.0 == "read") && all.iter().any(|t| t.0 == "write"));
    }
}

/// A sweep over a name that means nothing to the program, in steps that double: its marks are as far from each other as the steps are.
#[test]
fn a_sweep_over_any_name_is_drawn_against_it_and_steps_that_double_stand_evenly() {
    let values = [1, 2, 4, 8, 16];
    let legs: Vec<(String, u64)> = [10_u64, 20]
        .into_iter()
        .flat_map(|lift| values.map(|pace| (format!("pace {pace} / lift {lift} / w"), 100 * pace + lift)))
        .collect();
    let names: Vec<String> = legs.iter().map(|l| l.0.clone()).collect();
    let samples: Vec<Sample> = (0..legs.len() as u64 * 40)
        .map(|i| Sample {
            start: Nanos(i * 250_000_000),
            end: Nanos((i + 1) * 250_000_000),
            leg: (i / 40) as u32,
            written: Bytes(legs[(i / 40) as usize].1 * 250_000),
            ..Sample::default()
        })
        .collect();
    let (trace, context) = (Trace::of(&samples, &names), Context::default());
    let mut found = findings(&trace, &context);
    let lane = LaneTrace { name: "", trace: &trace, context: &context, series: &[], number: 0 };
    let rows = leg_rows(&lane, &found.legs);
    found.add_rows(rows, &context);
    let svg = mile_figures::draw_sweep("sweep", &[], &found).unwrap().unwrap();
    let all = texts(&svg);
    assert!(all.iter().any(|t| t.0 == "w: rate against pace"), "{all:?}");
    assert!(all.iter().any(|t| t.0 == "● lift 10") && all.iter().any(|t| t.0 == "○ lift 20"), "{all:?}");
    let at = |label: &str| {
        let mark = all.iter().filter(|t| t.0 == label).max_by(|a, b| a.1[1].total_cmp(&b.1[1])).unwrap();
        f64::midpoint(mark.1[0], mark.1[2])
    };
    let steps: Vec<f64> = values.windows(2).map(|w| at(&w[1].to_string()) - at(&w[0].to_string())).collect();
    assert!(steps.iter().all(|s| (s - steps[0]).abs() <= 1.0 && *s > 20.0), "{steps:?}");
}
