//! The version of an archive, and what it asks of a program.

use crate::store::engine::{Answer, Engine, Row};

/// Version of the tables of an archive.
pub(crate) const VERSION: i64 = 2;
/// The first version that tells whoever watches of what is new.
pub(crate) const TELLS: i64 = 2;

/// What each connection begins with. Names mean what is in the archive, whatever the server was told otherwise.
pub(crate) const CONNECTED: &str =
    "SET search_path TO hollow_mile, pg_catalog; SET client_min_messages TO warning";

/// The version of an archive. Tables of version 1 have no column for it.
pub(crate) fn version(server: &dyn Engine) -> Answer<i64> {
    number(
        server,
        "SELECT coalesce(CAST(to_jsonb(f) ->> 'tables' AS BIGINT), version) FROM hollow_mile.format f",
    )
}

/// The oldest version that a program must know to use an archive.
pub(crate) fn needs(server: &dyn Engine) -> Answer<i64> {
    number(server, "SELECT version FROM hollow_mile.format")
}

pub(super) fn number(server: &dyn Engine, statement: &str) -> Answer<i64> {
    let mut found = 0;
    server.each(statement, &[], &mut |row: &dyn Row| {
        found = row.integer(0)?;
        Ok(())
    })?;
    Ok(found)
}
