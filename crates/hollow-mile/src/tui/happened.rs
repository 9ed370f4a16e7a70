//! The place of events on a screen in memory.

use super::place::{EVENTS, FINDINGS, UNDERWAY};
use super::tests::{messages, press, screen, with_run};
use mile_runner::Message;

/// The rows of the screen that have a time and bytes, by what they say behind those.
fn event_rows(text: &str) -> Vec<String> {
    let is_row = |l: &&str| l.len() > 28 && l[1..28].trim_end().ends_with('B');
    text.lines().filter(is_row).map(|l| l[28..].trim().to_owned()).collect()
}

#[test]
fn the_events_of_a_run_are_listed_in_order_filtered_and_found_again_on_the_terrain() {
    let mut state = with_run(1);
    let told: Vec<mile_runner::Event> = messages(1)
        .into_iter()
        .filter_map(|m| if let Message::Event(e) = m { Some(e) } else { None })
        .collect();
    // From Underway they are those of the run underway, and the newest is selected.
    state.place = UNDERWAY;
    press(&mut state, "E");
    assert_eq!((state.place, state.events.is_live), (EVENTS, true));
    let text = screen(&mut state, 240, 67);
    let words: Vec<String> = told.iter().map(|e| e.kind.words()).collect();
    assert_eq!(event_rows(&text), words, "{text}");
    assert!(text.contains(&format!("The run: {} events.", told.len())), "{text}");
    // Only the legs, then what went wrong, then notes, then all again.
    press(&mut state, "f");
    let legs: Vec<String> = words.iter().filter(|w| w.starts_with("Leg ")).cloned().collect();
    let fitted = legs[0].clone();
    let rows = event_rows(&screen(&mut state, 240, 67));
    assert!(rows == legs[1..] && fitted.contains("does not touch"), "{rows:#?}");
    press(&mut state, "f");
    let rows = event_rows(&screen(&mut state, 240, 67));
    assert_eq!(rows, ["Health: Times lightly throttled: 0, now 1"]);
    press(&mut state, "f");
    assert!(screen(&mut state, 240, 67).contains("There is no note."));
    press(&mut state, "f");
    // Three up from the newest, and to its place on the terrain.
    press(&mut state, "kkk");
    press(&mut state, "\n");
    assert_eq!(state.place, UNDERWAY);
    let ended = &told[told.len() - 4];
    assert_eq!(state.runs.live.as_ref().unwrap().framing.cursor, Some(ended.bytes.0 as f64));
    // From elsewhere they are those of the run that is open, from the first on.
    state.place = FINDINGS;
    press(&mut state, "E");
    assert!(!state.events.is_live && screen(&mut state, 240, 67).contains("Run 7: "));
    press(&mut state, "↓↓↓↓\n");
    assert_eq!(state.place, FINDINGS);
    assert_eq!(state.findings.framing.cursor, Some(told[4].bytes.0 as f64));
}

#[test]
fn many_events_are_gone_through_and_the_selected_one_is_read_whole_at_the_smallest_size() {
    let mut state = with_run(0);
    let shown = state.findings.shown.as_mut().unwrap();
    let note = |i: u64| mile_runner::Event {
        at: mile_core::Nanos(i * 1_000_000_000),
        bytes: mile_core::Bytes(i * 1_000_000_000),
        kind: mile_runner::EventKind::Note(format!("number {i} of many {}", "and more ".repeat(12))),
    };
    shown.events = (0..500).map(note).collect();
    state.place = FINDINGS;
    press(&mut state, "E");
    let numbers = |text: &str| -> Vec<u64> {
        let of = |row: String| row.split("number ").nth(1)?.split(' ').next()?.parse().ok();
        event_rows(text).into_iter().filter_map(of).collect()
    };
    for (by, selected) in [(0, 0), (3, 3), (200, 203), (1000, 499)] {
        press(&mut state, &"↓".repeat(by));
        let text = screen(&mut state, 80, 24);
        let rows = numbers(&text);
        // Each row is the one behind the row above, and the selected one is among them.
        assert!(rows.windows(2).all(|w| w[1] == w[0] + 1) && rows.contains(&selected), "{text}");
        assert!(rows.len() >= 14, "{text}");
        let below: String = text.lines().skip(16).collect::<Vec<_>>().join(" ");
        let whole = below.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(
            whole.contains(&format!("number {selected} of many {}", "and more ".repeat(12).trim_end())),
            "{text}"
        );
    }
}
