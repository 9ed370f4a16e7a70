//! The form before a run, drawn: what is started on what, how it is set up, and what would happen.

use super::super::state::{Field, SETUP, StartForm, State, Text};
use super::super::theme::Theme;
use super::sheet::{field, sheet};
use crate::tui::put::Put;
use crate::wrap::wrap;
use mile_runner::Speed;
use ratatui::buffer::Buffer;
use ratatui::layout::{Position, Rect};
use ratatui::style::Style;

/// Cells of the names of the fields.
const LABEL: usize = 13;

/// Where the form is drawn, row by row, and the cursor once its field was.
struct Page<'a> {
    buffer: &'a mut Buffer,
    inside: Rect,
    theme: Theme,
    field: Field,
    cursor: Option<Position>,
}

impl Page<'_> {
    /// A field of text in a row, from a column on, so many cells wide.
    fn text(&mut self, (x, y, width): (u16, u16, u16), name: &str, text: &Text, of: Field) {
        let here = self.field == of;
        let area = Rect { x, y, width, height: 1 };
        let at = field(self.buffer, area, y, &format!("{name:<LABEL$}"), text.input(), self.theme, here);
        if here {
            self.cursor = Some(at);
        } else if text.is_prefilled() {
            // What was not typed is seen to be that.
            let cells = Rect { x: x + LABEL as u16, width: width.saturating_sub(LABEL as u16), ..area };
            self.buffer.set_style(cells, self.theme.faint());
        }
    }

    /// A field that is chosen from several.
    fn choice(&mut self, y: u16, name: &str, choice: &str, here: bool, label: usize) {
        let style = if here { self.theme.strong() } else { Style::new().fg(self.theme.ink) };
        let width = usize::from(self.inside.width);
        let name_style = if here { style } else { self.theme.faint() };
        self.buffer.put(self.inside.x, y, name, width, name_style);
        let room = width.saturating_sub(label);
        self.buffer.put(self.inside.x + label as u16, y, choice, room, style);
    }

    /// How the drive is set up: two fields a row, the note and the claims each in one of its own.
    fn setup(&mut self, y: u16, form: &StartForm) {
        let (x, width) = (self.inside.x, self.inside.width);
        let half = width / 2;
        for (i, name) in SETUP.iter().enumerate() {
            let at = match i {
                0 | 2 => (x, y + (i / 2) as u16, half - 2),
                1 | 3 => (x + half, y + (i / 2) as u16, width - half),
                _ => (x, y + (i - 2) as u16, width),
            };
            self.text(at, name, &form.setup.texts[i], Field::Setup(i));
        }
    }
}

/// Rows of the fields.
fn rows_of(form: &StartForm) -> u16 {
    let lanes = match form.lanes.as_slice() {
        [] => 2,
        [_] => 1,
        lanes => lanes.iter().map(|l| 1 + u16::from(l.arming_word.is_some())).sum(),
    };
    // What was changed stands where the other side of a run is asked for, and the instruments elsewhere.
    2 + lanes + if form.asks_setup() { 4 } else { 0 }
}

/// Draws the form, and gives where the terminal's cursor belongs.
pub(super) fn draw(buffer: &mut Buffer, area: Rect, state: &State, form: &StartForm) -> Option<Position> {
    let theme = state.theme;
    let width = usize::from(area.width.saturating_sub(4));
    let outlook: Vec<String> = match &form.outlook {
        _ if form.starting => vec!["Starting …".into()],
        None => vec!["Looking at the drive …".into()],
        Some(Ok(lines)) => lines.iter().flat_map(|l| hung(l, width)).collect(),
        Some(Err(text)) => wrap(&format!("! {text}"), width),
    };
    let asked = form
        .choices
        .get(form.chosen)
        .and_then(|c| mile_bench::courses::question(&c.text))
        .filter(|_| form.beside.is_none());
    let question = asked.map_or(Vec::new(), |asked| {
        let (first, rest) = asked.split_at(asked.chars().next().map_or(0, char::len_utf8));
        wrap(&(first.to_uppercase() + rest), width.saturating_sub(LABEL))
    });
    let several = form.lanes.len() > 1;
    let rows = rows_of(form) + question.len() as u16 + 1 + outlook.len() as u16 + 2;
    let title = match form.lanes.as_slice() {
        _ if let Some(first) = &form.beside => format!("The other side of run {}", first.run),
        [] => "A run on a file that is made for it".to_owned(),
        [lane] => format!("A run on {}", lane.drive),
        lanes => format!("A run on {} drives", lanes.len()),
    };
    let inside = sheet(buffer, area, theme, rows.min(area.height - 4), &title);
    let mut page = Page { buffer, inside, theme, field: form.field, cursor: None };
    let choice = form.choices.get(form.chosen).map_or("", |c| c.name.as_str());
    let arrows = if form.choices.len() > 1 {
        format!("← {choice} →   {} of {}{}", form.chosen + 1, form.choices.len(), form.finding())
    } else {
        choice.to_owned()
    };
    page.choice(inside.y, "course", &arrows, form.field == Field::Course, LABEL);
    let mut y = inside.y + 1;
    for line in &question {
        page.buffer.put(inside.x + LABEL as u16, y, line, width.saturating_sub(LABEL), theme.faint());
        y += 1;
    }
    let whole = |y: u16| (inside.x, y, inside.width);
    if form.beside.is_some() {
        page.text(whole(y), "changed", &form.changed, Field::Changed);
        y += 1;
    }
    let label = form.lanes.iter().map(|l| l.name.chars().count()).max().unwrap_or(0).max(LABEL - 2) + 2;
    for (i, lane) in form.lanes.iter().enumerate() {
        if several {
            let here = form.field == Field::Drive(i);
            let drive = if here { format!("← {} →", lane.drive) } else { lane.drive.clone() };
            page.choice(y, &lane.name, &drive, here, label);
            y += 1;
        }
        if lane.arming_word.is_some() {
            let indent = if several { label as u16 } else { 0 };
            let at = (inside.x + indent, y, inside.width.saturating_sub(indent));
            page.text(at, "arm", &lane.arm, Field::Arm(i));
            y += 1;
        } else if !several {
            let speed = match state.setup.speed {
                Speed::Max => "as fast as it goes".to_owned(),
                Speed::Times(x) => format!("{x} times as fast as real time"),
            };
            page.choice(y, "speed", &speed, false, LABEL);
            y += 1;
        }
    }
    if form.lanes.is_empty() {
        page.text(whole(y), "file", &form.path, Field::Path);
        page.text(whole(y + 1), "size", &form.size, Field::Size);
        y += 2;
    }
    if form.asks_setup() {
        page.setup(y, form);
        y += 4;
    }
    if form.beside.is_none() {
        page.text(whole(y), "instruments", &form.instruments, Field::Instruments);
        y += 1;
    }
    y += u16::from(!form.asks_setup());
    let (buffer, cursor) = (page.buffer, page.cursor);
    let room = usize::from(inside.bottom().saturating_sub(y + 1));
    let fit = if outlook.len() > room { room.saturating_sub(1) } else { room };
    for line in outlook.iter().take(fit) {
        buffer.put(inside.x, y, line, width, Style::new().fg(theme.ink));
        y += 1;
    }
    if outlook.len() > fit {
        let more = format!("… {} lines more, for which this window is too low", outlook.len() - fit);
        buffer.put(inside.x, y, more, width, theme.faint());
    }
    let keys = keys(form);
    buffer.put(inside.x, inside.bottom().saturating_sub(1), keys, width, theme.faint());
    cursor
}

/// A line in rows of so many cells. What does not fit stands below the words of a leg, where the line begins with its name.
fn hung(line: &str, width: usize) -> Vec<String> {
    let words = line.find("  ").map_or(0, |gap| line.len() - line[gap..].trim_start().len());
    let indent = line[..words].chars().count();
    if words == 0 || 2 * indent > width || line.chars().count() <= width {
        return wrap(line, width);
    }
    let rows = wrap(&line[words..], width - indent).into_iter().enumerate();
    rows.map(|(i, row)| if i == 0 { line[..words].to_owned() } else { " ".repeat(indent) } + &row).collect()
}

/// What the keys do in the field that is typed into.
fn keys(form: &StartForm) -> String {
    let another = match form.field {
        Field::Course if form.choices.len() > 1 => "   ←→ another course",
        Field::Drive(_) => "   ←→ another drive",
        _ => "",
    };
    let next = if form.fields().len() > 1 { "   tab next field" } else { "" };
    let start = if matches!(form.outlook, Some(Err(_))) { "" } else { "enter starts it" };
    let from = match (form.setup.from, form.field) {
        (Some(run), Field::Setup(_)) => format!("   set up as for run {run}; typing replaces it"),
        (_, Field::Instruments) => "   a file that says how they are asked, or bench".into(),
        _ => String::new(),
    };
    format!("{start}{next}{another}   esc goes back{from}").trim_start().to_owned()
}

#[cfg(test)]
mod tests {
    use super::hung;

    #[test]
    fn what_does_not_fit_stands_below_the_words_of_its_leg() {
        let line = "idle / repeat 1  resting until it is stable, at most 30 min";
        assert_eq!(hung(line, 80), [line]);
        let rows = hung(line, 40);
        assert_eq!(rows[0], "idle / repeat 1  resting until it is");
        assert!(rows[1].starts_with("                 stable"), "{rows:?}");
        assert!(rows.iter().all(|r| r.chars().count() <= 40), "{rows:?}");
        assert_eq!(hung("Writes nothing.", 8).len(), 2);
    }
}
