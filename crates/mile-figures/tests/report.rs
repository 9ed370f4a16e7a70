//! Reports as they are set: nothing is cut off, nothing lies on anything else, and nothing is lost, whatever is put into them.
#![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]

use mile_figures::report::{Paper, Part, Set, pages, report};

fn words(text: &str) -> Vec<String> {
    text.split_whitespace().map(str::to_owned).collect()
}

/// The upper left and the lower right corner of a text; a little less than its letters take.
fn corners(set: &Set) -> ((f64, f64), (f64, f64)) {
    ((set.at.0, set.at.1 - 0.7 * set.size), (set.at.0 + set.width - 0.2, set.at.1 + 0.15 * set.size))
}

fn is_sound(set: &[Vec<Set>], paper: Paper) {
    let (width, height) = paper.size();
    for (number, page) in set.iter().enumerate() {
        for (i, one) in page.iter().enumerate() {
            let (a, b) = corners(one);
            assert!(
                a.0 >= 40.0 && b.0 <= width - 40.0 && a.1 >= 30.0 && b.1 <= height - 20.0,
                "page {}: {one:?}",
                number + 1
            );
            for other in &page[i + 1..] {
                let (c, d) = corners(other);
                let apart = b.0 <= c.0 || d.0 <= a.0 || b.1 <= c.1 || d.1 <= a.1;
                assert!(apart, "page {}: {one:?} lies on {other:?}", number + 1);
            }
        }
    }
}

fn hostile() -> Vec<Part> {
    let long = "a_word_without_any_space_that_goes_on_and_on_beyond_the_edge_of_every_page_that_was_ever_made_and_then_some_more_of_it";
    let sentence = "Rates are bytes over time of each interval, and <these> & \"those\" are characters that SVG takes for its own. ".repeat(9);
    let heads: Vec<String> = (0..14).map(|i| format!("column number {i}")).collect();
    let rows: Vec<Vec<String>> = (0..130)
        .map(|r| {
            (0..14)
                .map(|i| {
                    if i == 0 {
                        format!("leg {r} / depth 16 / workers 4 / repeat {r}")
                    } else {
                        format!("{}", 123_456 * (r + 1) * i)
                    }
                })
                .collect()
        })
        .collect();
    let figure = "<svg width=\"1120\" height=\"700\" viewBox=\"0 0 1120 700\" xmlns=\"http://www.w3.org/2000/svg\">\n<rect x=\"0\" y=\"0\" width=\"1120\" height=\"700\" fill=\"#eee\"/></svg>";
    vec![
        Part::Heading("First".into()),
        Part::Text(sentence.clone()),
        Part::Strong(format!("{sentence} {long}")),
        Part::Pairs(vec![
            ("name".into(), "value".into()),
            (long.into(), sentence.clone()),
            ("empty".into(), String::new()),
        ]),
        Part::Heading("A table that is wider and longer than a page".into()),
        Part::Table(heads, rows),
        Part::Sub(long.into()),
        Part::Table(
            vec!["File".into(), "SHA-256".into()],
            vec![vec!["report.pdf".into(), "0123456789abcdef".repeat(4)]],
        ),
        Part::Heading("Figure".into()),
        Part::Figure(figure.into()),
        Part::Figure(figure.replace("\"700\"", "\"4000\"")),
        Part::Lines((0..90).map(|i| format!("{}line {i}", " ".repeat(i % 40))).collect()),
        Part::Small(sentence),
        Part::Table(vec!["alone".into()], vec![]),
    ]
}

#[test]
fn no_text_is_cut_off_or_lies_on_another_and_none_is_lost() {
    for paper in [Paper::A4, Paper::Letter] {
        let parts = hostile();
        let (svgs, set) = pages(
            "A title of some length that a footer has to bear as well",
            &["Made by a test.".into()],
            &parts,
            paper,
        );
        assert_eq!(svgs.len(), set.len());
        assert!(svgs.len() > 6, "{}", svgs.len());
        is_sound(&set, paper);
        // All cells of the table are there, in order, and its heads are on each of its pages.
        let all: String = set.iter().flatten().map(|s| s.text.clone()).collect::<Vec<_>>().join(" ");
        for r in [0_i64, 64, 129] {
            assert!(all.contains(&format!("{}", 123_456 * (r + 1) * 13)), "row {r}");
        }
        // A word that is too long is parted, and nothing of it is dropped.
        let pressed: String = set.iter().flatten().map(|s| s.text.replace(' ', "")).collect();
        assert!(pressed.contains("a_word_without_any_space_that_goes_on_and_on"), "the beginning is there");
        assert!(words(&all).iter().any(|w| w.ends_with("some_more_of_it")), "and so is the end");
    }
}

#[test]
fn the_contents_name_the_pages_on_which_the_headings_are() {
    let parts = hostile();
    let (_, set) = pages("t", &[], &parts, Paper::A4);
    for heading in ["First", "A table that is wider and longer than a page", "Figure"] {
        let entry = set[0].iter().find(|s| s.text == heading && s.size < 12.0).unwrap();
        let number = set[0].iter().find(|s| s.at.1 == entry.at.1 && s.text != heading).unwrap();
        let page: usize = number.text.parse().unwrap();
        assert!(
            set[page - 1].iter().any(|s| s.text == heading && s.size > 12.0),
            "{heading} is on page {page}"
        );
    }
    let foot = set.last().unwrap().last().unwrap();
    assert_eq!(foot.text, format!("t, page {} of {}", set.len(), set.len()));
}

#[test]
fn a_pdf_has_as_many_pages_and_its_text_can_be_read() {
    let parts = hostile();
    let count = pages("t", &[], &parts, Paper::A4).0.len();
    let bytes = report("t", &[], &parts, Paper::A4).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("r.pdf");
    std::fs::write(&path, bytes).unwrap();
    let run = |program: &str, args: &[&str]| {
        let out = std::process::Command::new(program).args(args).arg(&path).arg("-").output();
        String::from_utf8_lossy(&out.expect("poppler-utils are installed by scripts/test").stdout)
            .into_owned()
    };
    let info = std::process::Command::new("pdfinfo").arg(&path).output().unwrap();
    assert!(String::from_utf8_lossy(&info.stdout).contains(&format!("Pages:           {count}")));
    let text = run("pdftotext", &["-layout"]);
    assert!(text.contains("<these> & \"those\" are characters"), "{}", &text[..600.min(text.len())]);
}

#[test]
fn tables_with_the_same_heads_are_set_in_the_same_size() {
    let heads: Vec<String> = ["", "A", "B", "difference"].map(str::to_owned).to_vec();
    let table = |first: &str, cell: &str| {
        Part::Table(heads.clone(), vec![[first, cell, cell, cell].map(str::to_owned).to_vec()])
    };
    let wide = "1,234,567 [1,234,567, 1,234,567] and so on";
    let other = Part::Table(vec!["".into(), "n".into()], vec![vec!["other".into(), "3".into()]]);
    let parts = [table("narrow", "1"), table("wide", wide), other];
    let (_, set) = pages("t", &[], &parts, Paper::A4);
    let size = |text: &str| set.iter().flatten().find(|s| s.text == text).unwrap().size;
    assert_eq!(size("narrow"), size("wide"));
    assert!(size("wide") < size("other"), "{} {}", size("wide"), size("other"));
    is_sound(&set, Paper::A4);
}
