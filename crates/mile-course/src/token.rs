//! Cuts a course's text into tokens. Never fails: what is no token becomes [`Kind::Stray`].

use crate::diagnostic::Span;
use compact_str::CompactString;

/// A token and where it stands.
#[derive(Clone, Debug, PartialEq)]
pub struct Token {
    /// What it is.
    pub kind: Kind,
    /// Where.
    pub span: Span,
}

/// Kinds of token.
#[derive(Clone, Debug, PartialEq)]
pub enum Kind {
    /// A run of letters, digits, `-`, `_` that begins with a letter, or `°C`.
    Word(CompactString),
    /// A number without a sign.
    Number(f64),
    /// Text in double quotes.
    Text(String),
    /// `%`
    Percent,
    /// `,`
    Comma,
    /// End of a line that holds a token.
    LineEnd,
    /// A quote that is not closed on its line.
    Unclosed,
    /// Anything else.
    Stray(char),
    /// From `#` to the end of the line, without the `#`. Only [`with_comments`] gives it.
    Comment(String),
}

/// The tokens of a text. `#` begins a comment that ends with the line.
pub fn tokens(source: &str) -> Vec<Token> {
    cut(source, false)
}

/// As [`tokens`], with the comments.
pub fn with_comments(source: &str) -> Vec<Token> {
    cut(source, true)
}

fn cut(source: &str, comments: bool) -> Vec<Token> {
    // A word or a number with a blank behind it is some four bytes long.
    let mut out: Vec<Token> = Vec::with_capacity(source.len() / 4);
    for (i, line) in source.lines().enumerate() {
        let before = out.len();
        let mut rest = line;
        let ascii = line.is_ascii();
        let mut column = 1;
        while let Some(c) = rest.chars().next() {
            let (kind, bytes) = match c {
                '#' if comments => (Kind::Comment(rest[1..].to_owned()), rest.len()),
                '#' => break,
                c if c.is_whitespace() => {
                    rest = &rest[c.len_utf8()..];
                    column += 1;
                    continue;
                }
                ',' => (Kind::Comma, 1),
                '%' => (Kind::Percent, 1),
                '"' => match rest[1..].find('"') {
                    Some(end) => (Kind::Text(rest[1..=end].to_owned()), end + 2),
                    None => (Kind::Unclosed, rest.len()),
                },
                c if c.is_ascii_digit() || c == '.' => {
                    let text = taken(rest, |c| c.is_ascii_digit() || c == '.' || c == '_');
                    let number =
                        if text.contains('_') { text.replace('_', "").parse() } else { text.parse() };
                    (number.map_or(Kind::Stray(c), Kind::Number), text.len())
                }
                c if c.is_alphabetic() || c == '°' || c == 'µ' => {
                    let tail = &rest[c.len_utf8()..];
                    let text = taken(tail, |c| c.is_alphanumeric() || c == '-' || c == '_');
                    let bytes = c.len_utf8() + text.len();
                    (Kind::Word(rest[..bytes].into()), bytes)
                }
                c => (Kind::Stray(c), c.len_utf8()),
            };
            // Counted only where a character may be longer than a byte.
            let length = if ascii { bytes } else { rest[..bytes].chars().count() };
            out.push(Token { kind, span: Span { line: i + 1, column, length } });
            rest = &rest[bytes..];
            column += length;
        }
        if out.len() > before {
            // Where a comment is left out, the line ends behind it all the same.
            let column = column + rest.chars().count();
            out.push(Token { kind: Kind::LineEnd, span: Span { line: i + 1, column, length: 0 } });
        }
    }
    out
}

/// The beginning of a text whose characters are all of a kind.
fn taken(text: &str, keep: impl Fn(char) -> bool) -> &str {
    let end = text.bytes().position(|b| b >= 128 || !keep(char::from(b))).unwrap_or(text.len());
    if text.as_bytes().get(end).is_none_or(|b| *b < 128) {
        return &text[..end];
    }
    &text[..text.find(|c| !keep(c)).unwrap_or(text.len())]
}
