//! What the archive asks of a database: statements with values, rows, and transactions.
//!
//! The statements are the same for every engine. They keep to what SQLite and PostgreSQL share: parameters are written `?1`, all
//! numbers are 64 bits wide, conflicts are settled with `ON CONFLICT`, and a new number comes back through `RETURNING`.

use std::fmt::Debug;

/// What a database answered instead of what it was asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Fault {
    /// What it holds is damaged.
    Damaged(String),
    /// A value is of another kind than it should be. It is the fault of one row.
    Value(String),
    /// Whoever asks has no right to it.
    Denied(String),
    /// The database cannot be reached any more. What was not committed is not there.
    Lost(String),
    /// Anything else.
    Other(String),
}

impl std::fmt::Display for Fault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let (Self::Damaged(text)
        | Self::Value(text)
        | Self::Denied(text)
        | Self::Lost(text)
        | Self::Other(text)) = self;
        f.write_str(text)
    }
}

impl std::error::Error for Fault {}

/// What a statement gives.
pub(crate) type Answer<T> = std::result::Result<T, Fault>;

/// A value that a statement is given.
#[derive(Clone, Copy, Debug)]
pub(crate) enum Value<'a> {
    Null,
    Integer(i64),
    Text(&'a str),
    Bytes(&'a [u8]),
}

impl From<i64> for Value<'_> {
    fn from(n: i64) -> Self {
        Self::Integer(n)
    }
}
impl From<u32> for Value<'_> {
    fn from(n: u32) -> Self {
        Self::Integer(n.into())
    }
}
/// Numbers of lanes, samples and events: a run that has more than 2^63 of them would take longer than the drive lives.
impl From<usize> for Value<'_> {
    fn from(n: usize) -> Self {
        Self::Integer(n as i64)
    }
}
impl From<u64> for Value<'_> {
    fn from(n: u64) -> Self {
        Self::Integer(n as i64)
    }
}
impl From<bool> for Value<'_> {
    fn from(b: bool) -> Self {
        Self::Integer(b.into())
    }
}
impl<'a> From<&'a str> for Value<'a> {
    fn from(text: &'a str) -> Self {
        Self::Text(text)
    }
}
impl<'a> From<&'a String> for Value<'a> {
    fn from(text: &'a String) -> Self {
        Self::Text(text)
    }
}
impl<'a> From<&'a [u8]> for Value<'a> {
    fn from(bytes: &'a [u8]) -> Self {
        Self::Bytes(bytes)
    }
}
impl<'a> From<&'a Vec<u8>> for Value<'a> {
    fn from(bytes: &'a Vec<u8>) -> Self {
        Self::Bytes(bytes)
    }
}
impl<'a, T> From<Option<T>> for Value<'a>
where
    Self: From<T>,
{
    fn from(value: Option<T>) -> Self {
        value.map_or(Self::Null, Self::from)
    }
}

/// The values of a statement, in the order of its parameters.
macro_rules! values {
    ($($value:expr),* $(,)?) => { &[$($crate::store::engine::Value::from($value)),*][..] };
}
pub(crate) use values;

/// A row of an answer. Columns are counted from 0.
pub(crate) trait Row {
    /// A whole number; `None` where there is no value.
    fn maybe_integer(&self, column: usize) -> Answer<Option<i64>>;
    /// A text.
    fn maybe_text(&self, column: usize) -> Answer<Option<&str>>;
    /// Bytes.
    fn bytes(&self, column: usize) -> Answer<&[u8]>;

    fn integer(&self, column: usize) -> Answer<i64> {
        self.maybe_integer(column)?.ok_or_else(|| missing(column))
    }
    fn text(&self, column: usize) -> Answer<&str> {
        self.maybe_text(column)?.ok_or_else(|| missing(column))
    }
    fn string(&self, column: usize) -> Answer<String> {
        self.text(column).map(str::to_owned)
    }
}

fn missing(column: usize) -> Fault {
    Fault::Value(format!("column {column} has no value"))
}

/// A database.
pub(crate) trait Engine: Debug + Send {
    /// Carries out a statement, and gives how many rows it changed.
    fn execute(&self, statement: &str, values: &[Value<'_>]) -> Answer<u64>;
    /// Hands over the rows of an answer one after another. What `take` gives ends it.
    fn each(
        &self,
        statement: &str,
        values: &[Value<'_>],
        take: &mut dyn FnMut(&dyn Row) -> Answer<()>,
    ) -> Answer<()>;
    /// Carries out statements that need no values and give no rows.
    fn batch(&self, statements: &str) -> Answer<()>;
    /// Begins a transaction that holds back everybody else who is about to write the same.
    fn begin(&self) -> Answer<()>;
    /// Ends it: what it wrote is kept, or nothing of it.
    fn end(&self, keep: bool) -> Answer<()>;
    /// Whether there is a transaction.
    fn in_transaction(&self) -> bool;
    /// Names whoever writes a run now, so that [`Engine::is_gone`] can tell whether that is still there.
    fn owner(&self) -> String;
    /// Whether whoever wrote a run is known to be gone.
    fn is_gone(&self, owner: &str) -> bool;
    /// Two columns of `runs`: the bench of a run, and how many seconds ago it was heard of. Nulls where there is one bench.
    fn of_bench(&self) -> &'static str;
    /// Whether the head of a run is damaged, as a condition on `runs`.
    fn is_bad_json(&self) -> &'static str;
    /// Gives room that is not used any more back, if nobody is in the way.
    fn give_back_room(&self);
    /// Makes the disk keep what is committed, now. What cannot be synced is told when it is written next.
    fn sync(&self);
    /// Makes the disk keep what is committed; it is called again and again, on another thread. Nothing where every commit waits for that.
    fn keeper(&self) -> Box<dyn FnMut() + Send>;
    /// Whether each commit waits for the disk.
    fn wait_for_disk(&self, wait: bool) -> Answer<()>;
    /// Asks to be told of runs that others write. Gives whether it is.
    fn listen(&self) -> Answer<bool> {
        Ok(false)
    }
    /// The runs of which it was told since it was asked last. It does not wait for more.
    fn told(&self) -> Answer<Vec<i64>> {
        Ok(Vec::new())
    }
}
