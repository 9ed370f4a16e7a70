//! What a PDF shows is what its SVG shows: both are drawn by programs that are not ours (librsvg and poppler) and compared by their grey.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    reason = "a test that cannot go on has failed"
)]

use mile_core::ruler::Ruler;
use mile_core::{Bytes, Celsius, Context, Nanos, Op, Sample, Trace, findings};
use mile_figures::report::{Paper, Part, pages, report};
use mile_figures::{RunFigure, draw, pdf};
use std::path::Path;
use std::process::Command;

/// Pixels of a picture that a PDF is drawn as.
const WIDE: usize = 1120;
const HIGH: usize = 800;
/// Pixels of a cell: letters that stand half a pixel aside are as dark as before in one.
const CELL: usize = 16;

/// The grey of a page of a PDF in cells, from 0 to 255, as poppler draws it.
fn grey(file: &Path, page: usize) -> Vec<f64> {
    let (wide, high, page) = (WIDE.to_string(), HIGH.to_string(), page.to_string());
    let out = Command::new("pdftoppm")
        .args(["-gray", "-scale-to-x", &wide, "-scale-to-y", &high, "-f", &page, "-l", &page])
        .arg(file)
        .output()
        .expect("poppler-utils are installed by scripts/test");
    assert!(out.status.success() && out.stderr.is_empty(), "{}", String::from_utf8_lossy(&out.stderr));
    let pixels = &out.stdout[out.stdout.len() - WIDE * HIGH..];
    let cell = |row: usize, column: usize| {
        let all = (0..CELL * CELL).map(|i| pixels[(row * CELL + i / CELL) * WIDE + column * CELL + i % CELL]);
        all.map(f64::from).sum::<f64>() / (CELL * CELL) as f64
    };
    (0..HIGH / CELL).flat_map(|row| (0..WIDE / CELL).map(move |column| cell(row, column))).collect()
}

/// How far the PDF of a page and its SVG are apart in their grey: the mean over the page, and the most in a cell.
fn apart(svg: &str, made: &[u8], page: usize) -> (f64, f64) {
    let folder = tempfile::tempdir().unwrap();
    let path = |name: &str| folder.path().join(name);
    let fonts = Path::new(env!("CARGO_MANIFEST_DIR")).join("fonts");
    let conf = format!(
        "<fontconfig><dir>{}</dir><cachedir>{}</cachedir></fontconfig>",
        fonts.display(),
        folder.path().display()
    );
    std::fs::write(path("fonts.conf"), conf).unwrap();
    std::fs::write(path("page.svg"), svg).unwrap();
    std::fs::write(path("ours.pdf"), made).unwrap();
    let out = Command::new("rsvg-convert")
        .env("FONTCONFIG_FILE", path("fonts.conf"))
        .args(["-f", "pdf", "-o"])
        .args([path("theirs.pdf"), path("page.svg")])
        .output()
        .expect("librsvg2-bin is installed by scripts/test");
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
    let (ours, theirs) = (grey(&path("ours.pdf"), page), grey(&path("theirs.pdf"), 1));
    assert!(theirs.iter().any(|g| *g < 250.0), "there is something to be seen");
    let all: Vec<f64> = ours.iter().zip(&theirs).map(|(a, b)| (a - b).abs()).collect();
    (all.iter().sum::<f64>() / all.len() as f64, all.iter().copied().fold(0.0, f64::max))
}

/// Each element that figures and reports have, as they write it.
fn vocabulary() -> String {
    let inner = "<svg x=\"640\" y=\"420\" width=\"400\" height=\"300\" viewBox=\"0 0 800 600\" font-family=\"DejaVu Sans\">\
        <rect x=\"0\" y=\"0\" width=\"900\" height=\"50\" fill=\"#c05\"/><circle cx=\"400\" cy=\"300\" r=\"200\" fill=\"none\" stroke=\"#3A588C\" stroke-width=\"30\"/></svg>";
    let text = |x: u32, y: u32, anchor: &str, dy: &str| {
        format!(
            "<text x=\"{x}\" y=\"{y}\" dy=\"{dy}\" text-anchor=\"{anchor}\" font-family=\"DejaVu Sans\" font-size=\"28\" opacity=\"1\" fill=\"#22252B\">\nHeat &amp; °C — {anchor}\n</text>"
        )
    };
    format!(
        "<svg width=\"1120\" height=\"800\" viewBox=\"0 0 1120 800\" xmlns=\"http://www.w3.org/2000/svg\">\
        <rect x=\"0\" y=\"0\" width=\"1120\" height=\"800\" fill=\"#FFFFFF\" stroke=\"none\"/>\
        <rect x=\"40\" y=\"40\" width=\"300\" height=\"200\" opacity=\"0.32\" fill=\"#966210\" stroke=\"none\"/>\
        <rect x=\"200\" y=\"140\" width=\"300\" height=\"200\" opacity=\"1\" fill=\"none\" stroke=\"#BA3260\" stroke-width=\"9\"/>\
        <line opacity=\"0.5\" stroke=\"#000000\" stroke-width=\"8\" x1=\"40\" y1=\"400\" x2=\"560\" y2=\"300\"/>\
        <polyline fill=\"none\" opacity=\"1\" stroke=\"#3A588C\" stroke-width=\"12\" points=\"600,40 700,300 720,60 980,340 \"/>\
        <polygon opacity=\"0.85\" fill=\"#E0B25C\" points=\"60,700 60,480 200,600 330,450 470,700 \"/>\
        <circle cx=\"540\" cy=\"560\" r=\"60\" opacity=\"1\" fill=\"#227854\" stroke=\"none\" stroke-width=\"1\"/>\
        {}{}{}{inner}\
        <text x=\"60\" y=\"760\" font-size=\"20\" fill=\"#5b646d\" font-family=\"DejaVu Sans\" xml:space=\"preserve\">three   spaces kept</text></svg>",
        text(560, 60, "start", "0.76em"),
        text(560, 110, "middle", "0.5ex"),
        text(560, 160, "end", "-0.5ex"),
    )
}

fn figure() -> String {
    let samples: Vec<Sample> = (0..800_u64)
        .map(|i| Sample {
            start: Nanos(i * 250_000_000),
            end: Nanos((i + 1) * 250_000_000),
            op: if i < 500 { Op::Write } else { Op::Read },
            written: Bytes(if i < 200 { 500_000_000 } else { u64::from(i < 500) * 250_000_000 }),
            read: Bytes(u64::from(i >= 500) * 400_000_000),
            leg: u32::from(i >= 500),
            temp: Some(Celsius(40.0 + (i / 40) as f64)),
            ..Sample::default()
        })
        .collect();
    let trace = Trace::of(&samples, &["soak".into(), "read back".into()]);
    let context = Context { warn: Some(Celsius(75.0)), ..Context::default() };
    let found = findings(&trace, &context);
    let lines = ["bare, 24 °C ambient".to_owned(), "made up <and> tested".to_owned()];
    let ruler = Ruler::Bytes;
    draw(&RunFigure {
        title: "long soak",
        lines: &lines,
        trace: &trace,
        findings: &found,
        context: &context,
        ruler,
        window: None,
    })
    .unwrap()
}

#[test]
fn a_pdf_looks_as_its_svg() {
    for svg in [vocabulary(), figure()] {
        let (mean, most) = apart(&svg, &pdf(&svg).unwrap(), 1);
        assert!(mean < 0.3 && most < 16.0, "{mean} {most}");
    }
    let parts = [
        Part::Heading("Figure".into()),
        Part::Strong("A paragraph that must not be passed over.".into()),
        Part::Table(vec!["leg".into(), "MB/s".into()], vec![vec!["soak".into(), "1,000".into()]]),
        Part::Figure(figure()),
    ];
    let lead = ["Made by a test.".to_owned()];
    let (svgs, _) = pages("A report", &lead, &parts, Paper::A4);
    let made = report("A report", &lead, &parts, Paper::A4).unwrap();
    for (i, svg) in svgs.iter().enumerate() {
        let (mean, most) = apart(svg, &made, i + 1);
        assert!(mean < 0.3 && most < 16.0, "page {}: {mean} {most}", i + 1);
    }
}

/// The comparison above sees what is missing: a thin line, one word, an opacity.
#[test]
fn what_differs_is_seen() {
    let svg = vocabulary();
    for (what, other) in [
        ("three   spaces kept", "three   spaces"),
        ("opacity=\"0.32\"", "opacity=\"0.5\""),
        ("stroke-width=\"9\"", "stroke-width=\"6\""),
        ("text-anchor=\"middle\"", "text-anchor=\"start\""),
        ("dy=\"0.76em\"", "dy=\"0em\""),
        ("r=\"60\"", "r=\"56\""),
        ("viewBox=\"0 0 800 600\"", "viewBox=\"0 0 800 640\""),
    ] {
        assert!(svg.contains(what), "{what}");
        let (mean, most) = apart(&svg, &pdf(&svg.replace(what, other)).unwrap(), 1);
        assert!(mean >= 0.3 || most >= 16.0, "{other}: {mean} {most}");
    }
}

#[test]
fn what_figures_do_not_draw_is_refused_by_name() {
    let with = |part: &str| format!("<svg width=\"10\" height=\"10\" viewBox=\"0 0 10 10\">{part}</svg>");
    for (part, says) in [
        ("<path d=\"M0 0\"/>", "<path>"),
        ("<g><rect/></g>", "<g>"),
        ("<rect width=\"1\" height=\"1\" fill=\"red\"/>", "`red` is no colour"),
        ("<rect width=\"wide\" height=\"1\"/>", "`wide` is no length"),
        ("<rect width=\"inf\" height=\"1\"/>", "`inf` is no length"),
        ("<text transform=\"rotate(90, 1, 1)\">turned</text>", "`transform`"),
        ("<line x2=\"3\" stroke=\"#000\" stroke-dasharray=\"2\"/>", "`stroke-dasharray`"),
        ("<text font-weight=\"bold\">bold</text>", "`font-weight`"),
        ("<text>a <tspan>part</tspan></text>", "<tspan>"),
        ("<polygon points=\"1,2 3\"/>", "half a point"),
        ("<svg width=\"3\" height=\"3\"/>", "does not say what it shows"),
        ("<rect", "expected"),
    ] {
        let said = pdf(&with(part)).unwrap_err().to_string();
        assert!(said.contains(says), "{part}: {said}");
    }
    let empty = pdf("<svg width=\"0\" height=\"10\"/>").unwrap_err().to_string();
    assert!(empty.contains("no extent"), "{empty}");
}

/// Letters that the font does not have are boxes, and take nothing from the letters around them; all pages share one font.
#[test]
fn letters_without_a_glyph_cost_no_others_and_a_long_report_has_one_font() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("r.pdf");
    let parts: Vec<Part> =
        (0..40).map(|i| Part::Text(format!("Ångström 試 number {i}. ").repeat(60))).collect();
    let made = report("t", &[], &parts, Paper::A4).unwrap();
    assert!(pages("t", &[], &parts, Paper::A4).0.len() > 8);
    std::fs::write(&path, &made).unwrap();
    let run = |program: &str| {
        let out = Command::new(program).arg(&path).args((program == "pdftotext").then_some("-")).output();
        String::from_utf8_lossy(&out.expect("poppler-utils are installed by scripts/test").stdout)
            .into_owned()
    };
    let text = run("pdftotext");
    assert!(text.contains("Ångström") && text.contains("number 39."), "{text}");
    let fonts = run("pdffonts");
    let all: Vec<&str> = fonts.lines().skip(2).collect();
    assert_eq!(all.len(), 1, "{fonts}");
    // Embedded, a part of the font, with the letters that its glyphs stand for.
    assert!(all[0].contains("DejaVuSans") && all[0].contains("yes yes yes"), "{fonts}");
    assert!(made.len() < 100_000, "{}", made.len());
}
