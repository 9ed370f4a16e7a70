//! Cuts a course's text into tokens. Never fails: what is no token becomes [`Kind::Stray`].

use crate::diagnostic::Span;

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
    Word(String),
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
    let mut out = with_comments(source);
    let mut line = 0;
    // A line with nothing but a comment holds no token, and so has no end.
    out.retain(|t| match t.kind {
        Kind::Comment(_) => false,
        Kind::LineEnd => t.span.line == line,
        _ => {
            line = t.span.line;
            true
        }
    });
    out
}

/// As [`tokens`], with the comments.
pub fn with_comments(source: &str) -> Vec<Token> {
    let mut out: Vec<Token> = Vec::new();
    for (i, line) in source.lines().enumerate() {
        let before = out.len();
        let chars: Vec<char> = line.chars().collect();
        let mut at = 0;
        while at < chars.len() {
            let start = at;
            let c = chars[at];
            at += 1;
            let take = |at: &mut usize, keep: &dyn Fn(char) -> bool| {
                while *at < chars.len() && keep(chars[*at]) {
                    *at += 1;
                }
            };
            let kind = match c {
                '#' => {
                    at = chars.len();
                    Kind::Comment(chars[start + 1..].iter().collect())
                }
                c if c.is_whitespace() => continue,
                ',' => Kind::Comma,
                '%' => Kind::Percent,
                '"' => {
                    take(&mut at, &|c| c != '"');
                    let text: String = chars[start + 1..at].iter().collect();
                    if at < chars.len() {
                        at += 1;
                        Kind::Text(text)
                    } else {
                        Kind::Unclosed
                    }
                }
                c if c.is_ascii_digit() || c == '.' => {
                    take(&mut at, &|c| c.is_ascii_digit() || c == '.' || c == '_');
                    let text: String = chars[start..at].iter().filter(|c| **c != '_').collect();
                    text.parse().map_or(Kind::Stray(c), Kind::Number)
                }
                c if c.is_alphabetic() || c == '°' || c == 'µ' => {
                    take(&mut at, &|c| c.is_alphanumeric() || c == '-' || c == '_');
                    Kind::Word(chars[start..at].iter().collect())
                }
                c => Kind::Stray(c),
            };
            let span = Span { line: i + 1, column: start + 1, length: at - start };
            out.push(Token { kind, span });
        }
        if out.len() > before {
            let span = Span { line: i + 1, column: chars.len() + 1, length: 0 };
            out.push(Token { kind: Kind::LineEnd, span });
        }
    }
    out
}
