//! Lines of text that end at blanks.

/// Breaks a text into lines of at most `width` characters, at blanks where there are any.
pub(crate) fn wrap(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for paragraph in text.split('\n') {
        if paragraph.chars().count() <= width {
            lines.push(paragraph.to_owned());
            continue;
        }
        let mut line = String::new();
        let indent: String = paragraph.chars().take_while(|c| *c == ' ').collect();
        line.push_str(&indent);
        let mut begun = false;
        for word in paragraph.split_whitespace() {
            let fits = line.chars().count() + word.chars().count() + usize::from(begun) <= width;
            if begun && !fits {
                lines.push(std::mem::replace(&mut line, indent.clone()));
                begun = false;
            }
            if begun {
                line.push(' ');
            }
            line.push_str(word);
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
        assert_eq!(wrap("a\n\nb", 5), ["a", "", "b"]);
        assert_eq!(wrap("unbreakableword next", 5), ["unbreakableword", "next"]);
        let text = "the rate stayed down for at least 30 s after the drive was last at rest";
        for width in 1..80 {
            assert_eq!(wrap(text, width).join(" "), text, "{width}");
        }
        assert_eq!(wrap("", 10), [""]);
    }
}
