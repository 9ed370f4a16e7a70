//! Tags: words that runs are grouped by.

use super::book::Logbook;
use super::engine::values;
use super::error::{LogbookError, Result};

/// Longest tag, characters.
const LONGEST: usize = 64;

/// Why a word is no tag, where it is none: a number and `last` name runs, a comma parts sides of a comparison, and a path has a slash.
pub fn no_tag(word: &str) -> Option<&'static str> {
    match word {
        "" => Some("it is empty"),
        "last" | "claims" => Some("that word has a meaning of its own"),
        _ if word.parse::<i64>().is_ok() => Some("a number is the number of a run"),
        _ if word.chars().count() > LONGEST => Some("it is longer than 64 characters"),
        _ if word.contains([',', '/']) => Some("a comma or a slash cannot be part of it"),
        _ if word.chars().any(|c| c.is_control() || c.is_whitespace()) => {
            Some("white space cannot be part of it")
        }
        _ => None,
    }
}

impl Logbook {
    /// Gives a tag to a run. One that it has stays.
    ///
    /// # Errors
    /// Where there is no such run, or the word is no tag.
    pub fn tag(&mut self, run: i64, tag: &str) -> Result<()> {
        if let Some(why) = no_tag(tag) {
            return Err(LogbookError::BadTag { tag: tag.to_owned(), why });
        }
        self.resolve(&run.to_string())?;
        let statement = "INSERT INTO tags (run, tag) VALUES (?1, ?2) ON CONFLICT DO NOTHING";
        self.execute(statement, values![run, tag]).map(|_| ())
    }

    /// Takes a tag from a run. Gives whether it had it.
    ///
    /// # Errors
    /// Where the logbook cannot be written.
    pub fn untag(&mut self, run: i64, tag: &str) -> Result<bool> {
        self.execute("DELETE FROM tags WHERE run = ?1 AND tag = ?2", values![run, tag]).map(|n| n > 0)
    }

    /// The tags of a run, in the order of the alphabet.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn tags(&self, run: i64) -> Result<Vec<String>> {
        let statement = "SELECT tag FROM tags WHERE run = ?1 ORDER BY tag";
        self.rows(statement, values![run], |row| row.string(0)).map_err(self.wrap_of(run))
    }

    /// The runs that have a tag, the oldest first.
    ///
    /// # Errors
    /// Where the logbook cannot be read.
    pub fn tagged(&self, tag: &str) -> Result<Vec<i64>> {
        let statement =
            "SELECT run FROM tags WHERE tag = ?1 AND run NOT IN (SELECT run FROM removed) ORDER BY run";
        self.rows(statement, values![tag], |row| row.integer(0)).map_err(self.wrap())
    }
}
