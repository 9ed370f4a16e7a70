use super::*;
use mile_core::scene::Subject;
use mile_core::trace::Trace;
use mile_core::{Bytes, Celsius, Context, Latency, Nanos, Sample};
use ratatui::style::Color;

fn trace() -> Trace {
    let samples: Vec<Sample> = (0..400)
        .map(|i| {
            let rate = if i < 100 { 2000 } else { 500 };
            let l = Nanos(200_000);
            Sample {
                start: Nanos(i * 250_000_000),
                end: Nanos((i + 1) * 250_000_000),
                written: Bytes(rate * 250_000),
                temp: Some(Celsius(40.0 + (i / 20) as f64)),
                latency: Some(Latency { p50: l, p99: Nanos(900_000), p999: l, max: l }),
                ..Sample::default()
            }
        })
        .collect();
    Trace::of(&samples, &["soak".into()])
}

fn rows(buffer: &Buffer) -> Vec<String> {
    let area = buffer.area;
    (area.y..area.bottom())
        .map(|y| {
            (area.x..area.right())
                .filter_map(|x| buffer.cell((x, y)))
                .map(|c| c.symbol().to_owned())
                .collect::<String>()
        })
        .collect()
}

fn picture(width: u16, height: u16, framing: &mut Framing, trace: &Trace) -> Buffer {
    // Prefilled, so that what is not drawn is seen too.
    let area = Rect::new(0, 0, width, height);
    let mut buffer = Buffer::empty(area);
    let found = mile_core::findings(trace, &Context::default());
    let context = Context { warn: Some(Celsius(75.0)), ..Context::default() };
    let subject = Subject::with_breaks(trace, &found.breaks, &context);
    let sight = Sight { subject, planned: None, selected: None };
    draw(&mut buffer, area, Theme::detect(Default::default()), framing, &sight);
    buffer
}

#[test]
fn high_ground_is_fast_and_the_break_is_marked_where_it_is() {
    let trace = trace();
    let buffer = picture(107 + NAMES, 24, &mut Framing { ruler: Ruler::Time, ..Framing::default() }, &trace);
    let rows = rows(&buffer);
    // 100 cells for 100 s: the break after 25 s is in the cell of its number.
    assert_eq!(rows[0].chars().position(|c| c == '1'), Some(usize::from(MARGIN) + 25), "{rows:#?}");
    let height = |x: usize| rows.iter().skip(1).take(13).filter(|r| r.chars().nth(x) == Some('█')).count();
    assert!(height(20) >= 3 * height(60), "{rows:#?}");
    assert!(rows.iter().any(|r| r.contains("warn 75")) && rows.iter().any(|r| r.contains("µs")));
}

#[test]
fn strips_fold_away_and_the_terrain_stays() {
    let trace = trace();
    let text = |height| rows(&picture(80, height, &mut Framing::default(), &trace)).join("\n");
    assert!(text(30).contains("µs") && text(30).contains("°C"));
    assert!(!text(14).contains("µs") && text(14).contains("°C"));
    assert!(!text(8).contains("°C") && text(8).contains('█') && text(8).contains("GB"));
}

#[test]
fn any_size_and_an_empty_trace_are_drawn_without_a_panic() {
    for width in 0..40 {
        for height in 0..24 {
            for trace in [Trace::new(), trace()] {
                picture(width, height, &mut Framing::default(), &trace);
            }
        }
    }
}

#[test]
fn the_cursor_stays_at_its_sample_when_the_ruler_turns_and_is_kept_in_view() {
    let trace = trace();
    let context = Context::default();
    let subject = Subject::with_breaks(&trace, &[], &context);
    let sight = Sight { subject, planned: None, selected: None };
    let mut framing = Framing::default();
    picture(107, 20, &mut framing, &trace);
    framing.step(&sight, 10.0);
    let sample = framing.ruler.sample(&trace, framing.cursor.unwrap());
    framing.turn(&trace);
    assert_eq!(framing.ruler, Ruler::Time);
    assert_eq!(framing.ruler.sample(&trace, framing.cursor.unwrap()), sample);
    framing.zoom(&sight, 0.1);
    for _ in 0..400 {
        framing.step(&sight, 1.0);
        let (_, window) = framing.resolve(&sight);
        let at = framing.cursor.unwrap();
        assert!((window.from..=window.to).contains(&at), "{at} {window:?}");
    }
    assert!(framing.cursor.unwrap() <= Ruler::Time.end(&trace));
    framing.zoom(&sight, 100.0);
    assert!(framing.window().is_none());
}

#[test]
fn zooming_keeps_what_is_under_the_cursor_in_its_place() {
    let trace = trace();
    let context = Context::default();
    let subject = Subject::with_breaks(&trace, &[], &context);
    let sight = Sight { subject, planned: None, selected: None };
    let mut framing = Framing { ruler: Ruler::Time, cursor: Some(30e9), ..Framing::default() };
    for _ in 0..6 {
        framing.zoom(&sight, 0.5);
        let (_, w) = framing.resolve(&sight);
        let share = (30e9 - w.from) / (w.to - w.from);
        assert!((share - 0.3).abs() < 1e-6, "{share}");
    }
}

#[test]
fn without_colours_the_picture_still_tells() {
    let buffer = picture(80, 20, &mut Framing::default(), &trace());
    let plain = Theme::detect(Default::default());
    if plain.is_plain() {
        assert!(buffer.content.iter().all(|c| c.fg == Color::Reset));
    }
    assert!(rows(&buffer).join("").contains('█'));
}

#[test]
fn two_sides_grow_from_one_ruler_on_one_scale() {
    let area = Rect::new(0, 0, MARGIN + 60, 21);
    let mut buffer = Buffer::empty(area);
    let side = |rate: f64, seconds: u32| -> Vec<(f64, f64)> {
        (0..=seconds).map(|s| (f64::from(s) * 1e9, rate)).collect()
    };
    let (a, b) = (side(1000.0, 30), side(500.0, 60));
    let along = (Ruler::Time, Window { from: 0.0, to: 60e9 });
    banks(&mut buffer, area, Theme::detect(Default::default()), along, [&a, &b]);
    let rows = rows(&buffer);
    let full = |x: usize, rows: &[String]| {
        rows.iter().filter(|r| r.chars().nth(usize::from(MARGIN) + x) == Some('█')).count()
    };
    // Ten rows on either side of the ruler; the scale ends at 1,000.
    assert_eq!((full(10, &rows[..10]), full(10, &rows[11..])), (10, 5), "{rows:#?}");
    assert_eq!((full(50, &rows[..10]), full(50, &rows[11..])), (0, 5), "{rows:#?}");
    assert!(rows[10].contains('0') && rows[10].contains('─') && rows[0].contains("1,000"), "{rows:#?}");
    for (width, height) in [(0, 0), (10, 2), (20, 3), (200, 60)] {
        let area = Rect::new(0, 0, width, height);
        banks(&mut Buffer::empty(area), area, Theme::detect(Default::default()), along, [&a, &[]]);
    }
}
