//! The tables, roles and rights of the archive of a lab.

use super::standing::{VERSION, number, version};
use crate::store::engine::{Answer, Engine};
use crate::store::place::Lab;
use crate::store::{Logbook, LogbookError};

/// The statements that make an archive of version 1.
const SETUP: &str = include_str!("setup.sql");

/// The statements that bring an archive from one version to the next: the first from version 1 to 2. A new archive goes through all of them.
const STEPS: [&str; 1] = [include_str!("step-2.sql")];

/// How an archive stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// There is none in the database.
    Absent,
    /// It is of this version, which may be older or newer than that of this program.
    Version(i64),
}

/// What `who` may do in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rights {
    /// The role that is asked as.
    pub who: String,
    /// Whether it may read, write runs of its own, and ask of runs of others.
    pub reads: bool,
    /// See [`Rights::reads`].
    pub writes: bool,
    /// See [`Rights::reads`].
    pub asks: bool,
    /// Whether the connection is encrypted.
    pub encrypted: bool,
    /// How many runs there are, and how many of these are underway.
    pub runs: (u64, u64),
}

/// A name as SQL takes it as an identifier.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

/// The statements that make an archive in a database, and let these roles in. They are one transaction.
pub fn statements(benches: &[String], readers: &[String], operators: &[String]) -> String {
    let mut all = [&[SETUP][..], &STEPS].concat().join("\n");
    for (group, names) in [("bench", benches), ("reader", readers), ("operator", operators)] {
        for name in names {
            all.push_str(&format!("GRANT hollow_mile_{group} TO {};\n", quoted(name)));
        }
    }
    all
}

impl Lab {
    fn asked<T>(&self, ask: impl FnOnce(&dyn Engine) -> Answer<T>) -> Result<T, LogbookError> {
        let server = self.connect()?;
        ask(&server).map_err(LogbookError::of(self.name()))
    }

    /// How the archive stands.
    ///
    /// # Errors
    /// Where the server cannot be asked.
    pub fn standing(&self) -> Result<Standing, LogbookError> {
        self.asked(|server| {
            let there = "SELECT CAST((to_regclass('hollow_mile.format') IS NOT NULL) AS INTEGER)::BIGINT";
            if number(server, there)? == 0 {
                return Ok(Standing::Absent);
            }
            Ok(Standing::Version(version(server)?))
        })
    }

    /// Carries out statements, all or none.
    ///
    /// # Errors
    /// Where one of them is refused. Then nothing has changed.
    pub fn carry_out(&self, statements: &str) -> Result<(), LogbookError> {
        self.asked(|server| {
            server.begin()?;
            let done = server.batch(statements);
            server.end(done.is_ok())?;
            done
        })
    }

    /// The statements that bring the archive to the version of this program; none where it is.
    ///
    /// # Errors
    /// Where there is none, it is newer, or the server cannot be asked.
    pub fn steps(&self) -> Result<Vec<&'static str>, LogbookError> {
        match self.standing()? {
            Standing::Absent => Err(LogbookError::NoLab { path: self.name().to_owned() }),
            Standing::Version(found) if found > VERSION => {
                Err(LogbookError::Newer { path: self.name().to_owned(), found, known: VERSION })
            }
            Standing::Version(found) => {
                Ok(STEPS.iter().skip(usize::try_from(found - 1).unwrap_or(0)).copied().collect())
            }
        }
    }

    /// What whoever asks may do.
    ///
    /// # Errors
    /// Where the server cannot be asked.
    pub fn rights(&self) -> Result<Rights, LogbookError> {
        self.asked(|server| {
            let has = |group: &str| {
                let member = format!(
                    "SELECT CAST(EXISTS (SELECT 1 FROM pg_roles WHERE rolname = 'hollow_mile_{group}'
                     AND pg_has_role(current_user, oid, 'USAGE')) AS INTEGER)::BIGINT"
                );
                number(server, &member).map(|n| n != 0)
            };
            let mut who = String::new();
            server.each("SELECT CAST(current_user AS TEXT)", &[], &mut |row| {
                who = row.string(0)?;
                Ok(())
            })?;
            let encrypted =
                "SELECT CAST(ssl AS INTEGER)::BIGINT FROM pg_stat_ssl WHERE pid = pg_backend_pid()";
            let reads = has("reader")?;
            let counts = match reads {
                true => (
                    number(server, "SELECT count(*) FROM hollow_mile.runs")?.unsigned_abs(),
                    number(server, "SELECT count(*) FROM hollow_mile.runs WHERE status = 'underway'")?
                        .unsigned_abs(),
                ),
                false => (0, 0),
            };
            Ok(Rights {
                who,
                reads,
                writes: has("bench")?,
                asks: has("operator")?,
                encrypted: number(server, encrypted)? != 0,
                runs: counts,
            })
        })
    }
}

/// Whether a logbook is the archive of a lab.
impl Logbook {
    /// Whether it is the archive of a lab, and no file.
    pub fn is_lab(&self) -> bool {
        crate::store::place::is_lab(self.path())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_of_a_role_stays_a_name() {
        let all = statements(&["b\"; DROP SCHEMA x; --".into()], &[], &["anna".into()]);
        assert!(all.ends_with(
            "GRANT hollow_mile_bench TO \"b\"\"; DROP SCHEMA x; --\";\nGRANT hollow_mile_operator TO \"anna\";\n"
        ));
    }
}
