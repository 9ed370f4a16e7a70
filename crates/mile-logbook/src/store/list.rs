//! The list of runs: what each was and came to, without its samples.

use super::book::Logbook;
use super::engine::{Row, Value};
use super::entry::{Entry, situation};
use super::error::{LogbookError, Result};
use super::runs::SILENT_S;
use mile_core::Digest;
use mile_runner::{RunHead, Status};
use std::collections::BTreeMap;
use std::path::Path;

/// Which runs are asked for. What is not set rules out nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Filter {
    /// A word that the course, the drive, the model, the conditions or the status contains, in any case.
    pub word: Option<String>,
    /// A tag that they bear.
    pub tag: Option<String>,
    /// A model that one of their drives is of.
    pub model: Option<String>,
    /// Words of a cause that one of their breaks was put down to: `throttled by heat`.
    pub cause: Option<String>,
    /// Begun at this second since 1970-01-01 UTC or later.
    pub since: Option<i64>,
    /// Begun before this second.
    pub before: Option<i64>,
    /// Only so many, the newest.
    pub newest: Option<u32>,
}

impl Filter {
    /// The condition on rows of `runs`, and the values of its parameters.
    fn condition(&self) -> (String, Vec<Value<'_>>) {
        let (mut all, mut values) = ("id NOT IN (SELECT run FROM removed)".to_owned(), Vec::new());
        let mut add = |condition: &str, value: Value<'static>| {
            values.push(value);
            all.push_str(" AND ");
            all.push_str(&condition.replace('?', &format!("?{}", values.len())));
        };
        if let Some(since) = self.since {
            add("started >= ?", since.into());
        }
        if let Some(before) = self.before {
            add("started < ?", before.into());
        }
        let mut values: Vec<Value<'_>> = values;
        if let Some(tag) = &self.tag {
            values.push(tag.into());
            all.push_str(&format!(" AND id IN (SELECT run FROM tags WHERE tag = ?{})", values.len()));
        }
        if let Some(model) = &self.model {
            values.push(model.into());
            all.push_str(&format!(" AND id IN (SELECT run FROM lanes WHERE model = ?{})", values.len()));
        }
        if let Some(cause) = &self.cause {
            values.push(cause.into());
            // The digest has the words of each break in a list, where a comma or the end of the list follows on each; behind a name stands a colon.
            let n = values.len();
            let has = |end: char| format!("replace(digest, '\"' || ?{n} || '\"{end}', '') <> digest");
            all.push_str(&format!(" AND id IN (SELECT run FROM lanes WHERE {} OR {})", has(','), has(']')));
        }
        if let Some(word) = &self.word {
            values.push(word.into());
            let n = values.len();
            // Looked for as it stands: `%` and `_` have no other meaning in it.
            let text = "lower(course || ' ' || drive || ' ' || coalesce(model, '') || ' ' || coalesce(situation, '') || ' ' || status)";
            all.push_str(&format!(" AND replace({text}, lower(?{n}), '') <> {text}"));
        }
        if let Some(newest) = self.newest {
            values.push(newest.into());
            all.push_str(&format!(" ORDER BY id DESC LIMIT ?{}", values.len()));
        }
        (all, values)
    }
}

/// What belongs to runs beside their own rows.
#[derive(Default)]
struct Beside {
    digests: BTreeMap<(i64, usize), Digest>,
    tags: BTreeMap<i64, Vec<String>>,
}

impl Logbook {
    /// All runs of the logbook at a path, newest first; none where nothing was kept in it yet.
    ///
    /// # Errors
    /// As [`Logbook::read`].
    pub fn all(path: &Path) -> Result<Vec<Entry>> {
        Self::those(path, &Filter::default())
    }

    /// The runs of the logbook at a path that a filter lets pass, newest first.
    ///
    /// # Errors
    /// As [`Logbook::read`].
    pub fn those(path: &Path, filter: &Filter) -> Result<Vec<Entry>> {
        match Self::reading(path, |book| book.list_of(filter)) {
            Err(LogbookError::Blank { .. }) => Ok(Vec::new()),
            list => list,
        }
    }

    /// All runs, newest first. A run whose row cannot be read is in the list, with what is wrong with it.
    ///
    /// # Errors
    /// Where the list itself cannot be read.
    pub fn list(&self) -> Result<Vec<Entry>> {
        self.list_of(&Filter::default())
    }

    /// The runs that a filter lets pass, newest first: three questions, however many they are.
    ///
    /// # Errors
    /// Where the list itself cannot be read.
    pub fn list_of(&self, filter: &Filter) -> Result<Vec<Entry>> {
        let (condition, values) = filter.condition();
        let beside = self.beside(&condition, &values)?;
        let order = if filter.newest.is_some() { "" } else { " ORDER BY id DESC" };
        // The head is long; what a list needs of it stands beside it since format 7.
        let statement = format!(
            "SELECT id, started, course, drive, status, owner, model, situation, lanes,
                 CASE WHEN lanes IS NULL OR {} THEN head END, {} FROM runs WHERE {condition}{order}",
            self.db.is_bad_json(),
            self.db.of_bench()
        );
        let mut list = Vec::new();
        self.db
            .each(&statement, &values, &mut |row| {
                let run = row.integer(0)?;
                list.push(self.entry(run, row, &beside).unwrap_or_else(|e| Entry {
                    run,
                    started: row.integer(1).unwrap_or_default(),
                    course: row.string(2).unwrap_or_default(),
                    drive: row.string(3).unwrap_or_default(),
                    situation: String::new(),
                    model: String::new(),
                    status: Status::Unreadable,
                    digest: None,
                    bench: None,
                    silent_s: None,
                    tags: Vec::new(),
                    problem: Some(e.to_string()),
                }));
                Ok(())
            })
            .map_err(self.wrap())?;
        // The digest of a run that was cut short and not yet marked so is found from its samples, by further questions.
        for entry in &mut list {
            if entry.status == Status::CutShort && entry.digest.is_none() {
                match self.digests(entry.run) {
                    Ok(digests) => entry.digest = Digest::together(&digests),
                    Err(e) => (entry.status, entry.problem) = (Status::Unreadable, Some(e.to_string())),
                }
            }
        }
        Ok(list)
    }

    fn digests(&self, run: i64) -> Result<Vec<Digest>> {
        let (head, ..) = self.ends(run)?;
        (0..head.lanes.len()).map(|lane| self.digest(run, lane, &head)).collect()
    }

    fn beside(&self, condition: &str, values: &[Value<'_>]) -> Result<Beside> {
        let mut beside = Beside::default();
        let statement = format!(
            "SELECT run, lane, digest FROM lanes WHERE run IN (SELECT id FROM runs WHERE {condition})"
        );
        let mut take = |row: &dyn Row| {
            // A digest that cannot be read is one that is not there.
            let digest = row.text(2).ok().and_then(|text| serde_json::from_str(text).ok());
            if let (Ok(run), Ok(lane), Some(digest)) = (row.integer(0), row.integer(1), digest) {
                beside.digests.insert((run, lane as usize), digest);
            }
            Ok(())
        };
        self.db.each(&statement, values, &mut take).map_err(self.wrap())?;
        let statement = format!(
            "SELECT run, tag FROM tags WHERE run IN (SELECT id FROM runs WHERE {condition}) ORDER BY run, tag"
        );
        let mut take = |row: &dyn Row| {
            beside.tags.entry(row.integer(0)?).or_default().push(row.string(1)?);
            Ok(())
        };
        self.db.each(&statement, values, &mut take).map_err(self.wrap())?;
        Ok(beside)
    }

    fn entry(&self, run: i64, row: &dyn Row, beside: &Beside) -> Result<Entry> {
        let bad = self.wrap_of(run);
        let (model, situation, lanes) = match row.maybe_text(9).map_err(&bad)? {
            Some(head) => {
                let head: RunHead = serde_json::from_str(head).map_err(|e| self.bad(run, &e))?;
                (head.models(), situation(&head), head.lanes.len())
            }
            None => {
                let lanes = row.integer(8).map_err(&bad)?;
                let short = |column| Ok(row.maybe_text(column)?.unwrap_or_default().to_owned());
                (short(6).map_err(&bad)?, short(7).map_err(&bad)?, usize::try_from(lanes).unwrap_or(0))
            }
        };
        let status = self.status(run, row.text(4).map_err(&bad)?, row.text(5).map_err(&bad)?)?;
        let digests: Vec<_> =
            (0..lanes).filter_map(|lane| beside.digests.get(&(run, lane)).cloned()).collect();
        Ok(Entry {
            run,
            started: row.integer(1).map_err(&bad)?,
            course: row.string(2).map_err(&bad)?,
            drive: row.string(3).map_err(&bad)?,
            situation,
            model,
            status,
            digest: if digests.len() == lanes { Digest::together(&digests) } else { None },
            bench: row.maybe_text(10).map_err(&bad)?.map(str::to_owned),
            silent_s: row
                .maybe_integer(11)
                .map_err(&bad)?
                .filter(|_| status == Status::Underway)
                .and_then(|s| u64::try_from(s).ok())
                .filter(|s| *s > SILENT_S),
            tags: beside.tags.get(&run).cloned().unwrap_or_default(),
            problem: None,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Words of users are values of a statement and never part of it.
    #[test]
    fn a_filter_puts_no_word_into_the_statement() {
        let hostile = "x'; DROP TABLE runs; --";
        let filter = Filter {
            word: Some(hostile.into()),
            tag: Some(hostile.into()),
            model: Some(hostile.into()),
            cause: Some(hostile.into()),
            since: Some(1),
            before: Some(2),
            newest: Some(3),
        };
        let (statement, values) = filter.condition();
        assert!(!statement.contains("DROP"), "{statement}");
        assert_eq!(values.len(), 7);
        for n in 1..=7 {
            assert!(statement.contains(&format!("?{n}")), "{statement}");
        }
    }
}
