//! The table of docs/accuracy.md, and the reliability diagram beside it.

use crate::live::Live;
use crate::{RIDDLES, Score};
use plotters::prelude::*;
use std::collections::BTreeMap;
use std::fmt::Write;

/// An aim: what it is called, what was found, and whether that is enough.
pub fn aims(all: &Score) -> Vec<(&'static str, String, String, bool)> {
    let percent = |x: f64| format!("{:.2} %", 100.0 * x);
    vec![
        ("breaks found", "at least 98 %".into(), percent(all.recall()), all.recall() >= 0.98),
        (
            "false breaks in 100 h of trace",
            "at most 1".into(),
            format!("{:.2}", all.false_per_100_h()),
            all.false_per_100_h() <= 1.0,
        ),
        (
            "error of the position, median",
            "at most 0.5 %".into(),
            percent(all.error(0.5)),
            all.error(0.5) <= 0.005,
        ),
        (
            "error of the position, 95 %",
            "at most 2 %".into(),
            percent(all.error(0.95)),
            all.error(0.95) <= 0.02,
        ),
        ("right cause", "at least 97 %".into(), percent(all.right()), all.right() >= 0.97),
        (
            "wrong of what was said with 90 % confidence or more",
            "at most 1 %".into(),
            percent(all.wrong_from(0.9).0),
            all.wrong_from(0.9).0 <= 0.01,
        ),
        (
            "expected calibration error",
            "at most 0.03".into(),
            format!("{:.3}", all.calibration_error()),
            all.calibration_error() <= 0.03,
        ),
    ]
}

/// All of docs/accuracy.md but its picture.
pub fn markdown(
    all: &Score,
    patterns: &[(&str, Score)],
    degraded: &[(&str, Score)],
    underway: &Live,
    first: u64,
) -> String {
    let mut text = String::from(
        "# How right the findings are\n\nMade by `cargo run --release -p mile-corpus`; not edited by hand. The traces are made by \
         `crates/mile-corpus`, which knows what happened in each and of which the analysis knows nothing; their laws (noise, its shape and \
         memory, sampling from 10 ms to 60 s, rates from 1 to 15,000 MB/s, sensors, limits, which readings there are) are drawn anew for every \
         seed. The seeds follow from a hash of the sources of the analysis, so that each version is measured on traces that nobody has seen. \
         The weights of the evidence were fitted on others. The classes whose names begin with `tape` are a second set, by other laws, which \
         shares nothing with the first but the type of a trace.\n\n",
    );
    let _ = writeln!(text, "{} traces, {:.0} hours, seeds from {first} on.\n", all.traces, all.hours);
    text.push_str("| figure | aim | measured | |\n|---|---|---|---|\n");
    for (what, aim, found, met) in aims(all) {
        let _ = writeln!(text, "| {what} | {aim} | {found} | {} |", if met { "met" } else { "not met" });
    }
    let _ = writeln!(
        text,
        "| truth inside the interval of a sharp break | 95 % | {:.1} % | |",
        100.0 * all.coverage()
    );
    let mut known = Score::default();
    patterns.iter().filter(|(name, _)| !RIDDLES.contains(name)).for_each(|(_, s)| known.add(s));
    let _ = writeln!(
        text,
        "| right cause, without the two patterns of falls of writes that have no cause | | {:.1} % | |",
        100.0 * known.right()
    );
    let (right, wrong) = all.patterns_right();
    let _ = writeln!(
        text,
        "| patterns of dips and saws: found, of these put down to the right cause, wrong of what was said with 90 % or more | | {} of {}, {:.1} %, {:.1} % | |",
        all.why.len(),
        all.patterns,
        100.0 * right,
        100.0 * wrong
    );
    let (open, mean, none) = all.open();
    let _ = writeln!(
        text,
        "\nOf {open} breaks that were said to be unexplained, not surely, where nothing of others was logged, or the rate came back at an address that one pass saw, {:.0} % had no \
         known cause; the mean confidence was {:.0} %. The others were visits that nobody could see, and slow places that were seen once. How frequent these are is \
         made up here, so that such breaks are left out of the calibration. In the share of right causes, unexplained counts as right for them. Said with 90 % \
         confidence or more, it counts as wrong.",
        100.0 * none,
        100.0 * mean
    );
    text.push_str(
        "\nErrors of positions are shares of the bytes up to the break; inside a gradual change they are 0.\n\n## By pattern\n\n\
         | pattern | traces | hours | breaks | found | false | median error | 95 % | right cause |\n|---|---|---|---|---|---|---|---|---|\n",
    );
    for (name, s) in patterns {
        let _ = writeln!(
            text,
            "| {name} | {} | {:.1} | {} | {:.1} % | {} | {:.3} % | {:.3} % | {:.1} % |",
            s.traces,
            s.hours,
            s.breaks,
            100.0 * s.recall(),
            s.false_breaks,
            100.0 * s.error(0.5),
            100.0 * s.error(0.95),
            100.0 * s.right()
        );
    }
    text.push_str(
        "\n## With less in the log\n\nThe same patterns, with some of the readings taken away. What cannot be known may be found less often; it must not \
         be said with confidence.\n\n| what is missing | breaks | found | false | right cause | said with 90 % or more | wrong of these |\n|---|---|---|---|---|---|---|\n",
    );
    for (name, s) in degraded {
        let (wrong, sure) = s.wrong_from(0.9);
        let _ = writeln!(
            text,
            "| {name} | {} | {:.1} % | {} | {:.1} % | {sure} | {:.1} % |",
            s.breaks,
            100.0 * s.recall(),
            s.false_breaks,
            100.0 * s.right(),
            100.0 * wrong
        );
    }
    let (seconds, samples) = underway.delay(0.5);
    let _ = writeln!(
        text,
        "\n## While a run is underway\n\nThe same analysis, on the run so far. A break is announced once it has been among the findings for 2 s. Eight \
         traces of each pattern: {} breaks announced; {} of them withdrawn later; {} announced with a cause of 80 % confidence or more and put down to another one in the end. Beside \
         these, {} became part of a pattern that repeats itself or of a longer change, which the findings tell with the same cause, or no cause of theirs was \
         clear. Half of the breaks are announced within {seconds:.1} s, \
         or {samples:.0} samples; {:.0} % within 8 s or 32 samples.",
        underway.announced,
        underway.withdrawn,
        underway.changed,
        underway.joined,
        100.0 * underway.in_time()
    );
    text.push_str("\n## Wrong causes\n\n| truth | said | breaks |\n|---|---|---|\n");
    let mut wrong: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    for c in all.causes.iter().filter(|c| !c.is_best) {
        *wrong.entry((c.truth.word(), c.said.word())).or_default() += 1;
    }
    for ((truth, said), n) in wrong {
        let _ = writeln!(text, "| {truth} | {said} | {n} |");
    }
    text.push_str("\n## Confidence\n\n![What was said against what was right](accuracy.svg)\n\n| said | mean | right | breaks |\n|---|---|---|---|\n");
    for (from, mean, right, n) in all.reliability() {
        let _ = writeln!(text, "| {from:.1} to {:.1} | {mean:.3} | {right:.3} | {n} |", from + 0.1);
    }
    text
}

/// The reliability diagram: for each bin of confidence, the share that was right, with an interval of 95 % (Wilson, "Probable
/// Inference, the Law of Succession, and Statistical Inference", 1927).
///
/// # Errors
/// What the drawing library says.
pub fn diagram(all: &Score) -> Result<String, Box<dyn std::error::Error>> {
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, (640, 480)).into_drawing_area();
        area.fill(&WHITE)?;
        let mut chart = ChartBuilder::on(&area)
            .margin(16)
            .x_label_area_size(44)
            .y_label_area_size(52)
            .build_cartesian_2d(0.0..1.0, 0.0..1.0)?;
        chart
            .configure_mesh()
            .x_desc("confidence said")
            .y_desc("share that was right")
            .light_line_style(TRANSPARENT)
            .draw()?;
        let grey = RGBColor(150, 150, 150);
        chart.draw_series([PathElement::new([(0.0, 0.0), (1.0, 1.0)], grey)])?;
        let ochre = RGBColor(166, 110, 24);
        for (_, mean, right, n) in all.reliability() {
            let (low, high) = wilson(right, n as f64);
            chart.draw_series([PathElement::new([(mean, low), (mean, high)], ochre.stroke_width(2))])?;
            let size = 3 + (n as f64).sqrt().min(64.0) as i32 / 6;
            chart.draw_series([Circle::new((mean, right), size, ochre.filled())])?;
        }
        area.present()?;
    }
    Ok(svg)
}

fn wilson(share: f64, n: f64) -> (f64, f64) {
    let z = 1.96;
    let middle = (share + z * z / (2.0 * n)) / (1.0 + z * z / n);
    let half = z / (1.0 + z * z / n) * (share * (1.0 - share) / n + z * z / (4.0 * n * n)).sqrt();
    (middle - half, middle + half)
}
