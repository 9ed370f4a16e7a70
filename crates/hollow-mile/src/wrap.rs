//! Lines of text that end at blanks.

/// Units that stay with their number.
const UNITS: [&str; 24] = [
    "%", "°C", "B", "kB", "MB", "GB", "TB", "KiB", "MiB", "GiB", "TiB", "kB/s", "MB/s", "GB/s", "s", "ms",
    "µs", "min", "h", "d", "W", "J", "A", "V",
];

/// The words of a paragraph; a number and its unit are one.
fn words(paragraph: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for word in paragraph.split_whitespace() {
        let is_unit = UNITS.contains(&word.trim_end_matches(['.', ',', ';', ':', ')']));
        let number = all.last_mut().filter(|last| is_unit && last.ends_with(|c: char| c.is_ascii_digit()));
        match number {
            Some(number) => {
                number.push(' ');
                number.push_str(word);
            }
            None => all.push(word.to_owned()),
        }
    }
    all
}

/// The longest first word of a line that is taken for a mark, such as a weight or a number.
const MARK: usize = 8;

/// The indent of a line, with a mark that is set off by two blanks or more, and what follows.
fn head(paragraph: &str) -> (&str, &str) {
    let text = paragraph.trim_start_matches(' ');
    let indent = paragraph.len() - text.len();
    let mark = text.find("  ").filter(|at| text[..*at].chars().count() <= MARK && !text[..*at].contains(' '));
    let gap = mark.map_or(0, |at| at + text[at..].len() - text[at..].trim_start_matches(' ').len());
    paragraph.split_at(indent + gap)
}

/// Breaks a text into lines of at most `width` characters, at blanks where there are any, but not between a number and its unit. Further lines stand
/// under the first, behind its mark if it has one.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for paragraph in text.split('\n') {
        if paragraph.chars().count() <= width {
            lines.push(paragraph.to_owned());
            continue;
        }
        let (head, text) = head(paragraph);
        let indent = " ".repeat(head.chars().count());
        let mut line = head.to_owned();
        let mut begun = false;
        for word in words(text) {
            let fits = line.chars().count() + word.chars().count() + usize::from(begun) <= width;
            if begun && !fits {
                lines.push(std::mem::replace(&mut line, indent.clone()));
                begun = false;
            }
            if begun {
                line.push(' ');
            }
            line.push_str(&word);
            begun = true;
        }
        lines.push(line);
    }
    lines
}

#[cfg(test)]
mod tests {
    use super::wrap;

    #[test]
    fn lines_break_at_blanks_keep_their_indent_and_lose_no_word() {
        assert_eq!(wrap("short", 20), ["short"]);
        assert_eq!(wrap("  + one two three four", 12), ["  + one two", "  three four"]);
        // A mark that is set off keeps its distance, and what follows stands under its text.
        assert_eq!(wrap(" −0.46  one two three", 15), [" −0.46  one two", "        three"]);
        assert_eq!(wrap("no mark  at all of them", 12), ["no mark at", "all of them"]);
        assert_eq!(wrap("a\n\nb", 5), ["a", "", "b"]);
        // A number stays with its unit; "s" alone, or behind a word, is a word.
        assert_eq!(wrap("slope −3 %, of 1 MiB.", 8), ["slope", "−3 %, of", "1 MiB."]);
        assert_eq!(wrap("as s or 5 s", 6), ["as s", "or 5 s"]);
        assert_eq!(wrap("unbreakableword next", 5), ["unbreakableword", "next"]);
        let text = "the rate stayed down for at least 30 s after the drive was last at rest";
        for width in 1..80 {
            assert_eq!(wrap(text, width).join(" "), text, "{width}");
        }
        assert_eq!(wrap("", 10), [""]);
    }
}
