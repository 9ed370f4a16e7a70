//! The archive of a lab, in a database of a PostgreSQL server: how it is connected to, and what it answers.

use super::book::Logbook;
use super::engine::{Answer, Engine, Fault, Row, Value};
use super::error::{LogbookError, Result};
use super::schema::VERSION;
use crate::lab::standing;
use postgres::error::SqlState;
use postgres::fallible_iterator::FallibleIterator;
use postgres::types::{IsNull, ToSql, Type, to_sql_checked};
use postgres::{Client, Config, NoTls, Statement};
use std::cell::RefCell;
use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use tokio_postgres_rustls::MakeRustlsConnect;

/// How long a look at what the server has told takes at the most.
const A_LOOK: Duration = Duration::from_millis(1);

/// A connection to a server.
pub(crate) struct Server {
    inner: RefCell<Inner>,
}

struct Inner {
    client: Client,
    /// The statements that the server knows already.
    known: HashMap<String, Statement>,
    in_transaction: bool,
}

impl std::fmt::Debug for Server {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Server")
    }
}

impl From<postgres::Error> for Fault {
    fn from(error: postgres::Error) -> Self {
        let text = match (error.as_db_error(), std::error::Error::source(&error)) {
            (Some(db), _) => db.message().to_owned(),
            (None, Some(source)) => format!("{error}: {source}"),
            (None, None) => error.to_string(),
        };
        match error.code() {
            Some(
                &SqlState::INSUFFICIENT_PRIVILEGE
                | &SqlState::INVALID_PASSWORD
                | &SqlState::INVALID_AUTHORIZATION_SPECIFICATION,
            ) => Self::Denied(text),
            Some(&SqlState::DATA_CORRUPTED | &SqlState::INDEX_CORRUPTED) => Self::Damaged(text),
            // A server that others took the lead from is only read; the next connection finds the one that is written to.
            Some(&SqlState::READ_ONLY_SQL_TRANSACTION) => Self::Lost(text),
            // Classes 08 (connection), 53 (no room, no memory) and 57 (the server is being shut down): it may go on later.
            Some(code) if ["08", "53", "57"].iter().any(|class| code.code().starts_with(class)) => {
                Self::Lost(text)
            }
            Some(_) => Self::Other(text),
            None => Self::Lost(text),
        }
    }
}

impl ToSql for Value<'_> {
    fn to_sql(
        &self,
        ty: &Type,
        out: &mut bytes::BytesMut,
    ) -> std::result::Result<IsNull, Box<dyn std::error::Error + Sync + Send>> {
        match self {
            Self::Null => Ok(IsNull::Yes),
            Self::Integer(n) => n.to_sql(ty, out),
            Self::Text(text) => text.to_sql(ty, out),
            Self::Bytes(bytes) => bytes.to_sql(ty, out),
        }
    }

    fn accepts(ty: &Type) -> bool {
        <i64 as ToSql>::accepts(ty) || <&str as ToSql>::accepts(ty) || <&[u8] as ToSql>::accepts(ty)
    }

    to_sql_checked!();
}

fn column(column: usize) -> impl Fn(postgres::Error) -> Fault {
    move |e| Fault::Value(format!("column {column}: {e}"))
}

impl Row for postgres::Row {
    fn maybe_integer(&self, at: usize) -> Answer<Option<i64>> {
        self.try_get(at).map_err(column(at))
    }
    fn maybe_text(&self, at: usize) -> Answer<Option<&str>> {
        self.try_get(at).map_err(column(at))
    }
    fn bytes(&self, at: usize) -> Answer<&[u8]> {
        self.try_get(at).map_err(column(at))
    }
}

/// A statement as PostgreSQL writes its parameters.
fn numbered(statement: &str) -> String {
    let mut out = String::with_capacity(statement.len());
    let mut rest = statement;
    while let Some(at) = rest.find('?') {
        let (before, after) = rest.split_at(at);
        out.push_str(before);
        out.push(if after[1..].starts_with(|c: char| c.is_ascii_digit()) { '$' } else { '?' });
        rest = &after[1..];
    }
    out.push_str(rest);
    out
}

impl Server {
    /// Connects.
    pub(super) fn connect(config: &Config) -> Answer<Self> {
        // A socket of this host goes over no network.
        let sockets = config.get_hosts().iter().all(|h| matches!(h, postgres::config::Host::Unix(_)));
        let plain = config.get_ssl_mode() == postgres::config::SslMode::Disable || sockets;
        let client = match plain {
            true => config.connect(NoTls)?,
            false => config.connect(tls()?)?,
        };
        let inner = Inner { client, known: HashMap::new(), in_transaction: false };
        let server = Self { inner: RefCell::new(inner) };
        server.batch(standing::CONNECTED)?;
        Ok(server)
    }

    fn with<T>(&self, statement: &str, work: impl FnOnce(&mut Client, &Statement) -> Answer<T>) -> Answer<T> {
        let mut inner = self.inner.borrow_mut();
        let Inner { client, known, .. } = &mut *inner;
        let statement = match known.get(statement) {
            Some(known) => known.clone(),
            None => {
                let prepared = client.prepare(&numbered(statement))?;
                known.insert(statement.to_owned(), prepared.clone());
                prepared
            }
        };
        work(client, &statement)
    }
}

/// TLS that trusts what this machine trusts, and the certificates of the file that `PGSSLROOTCERT` names.
fn tls() -> Answer<MakeRustlsConnect> {
    let other = |e: &dyn std::fmt::Display| Fault::Other(format!("TLS cannot be set up: {e}"));
    let mut roots = rustls::RootCertStore::empty();
    match std::env::var_os("PGSSLROOTCERT") {
        Some(file) => {
            use rustls::pki_types::pem::PemObject;
            let read = rustls::pki_types::CertificateDer::pem_file_iter(PathBuf::from(file));
            for certificate in read.map_err(|e| other(&e))? {
                roots.add(certificate.map_err(|e| other(&e))?).map_err(|e| other(&e))?;
            }
        }
        // Some of a machine's certificates may be broken; those that are whole are enough.
        None => drop(roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs)),
    }
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|e| other(&e))?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(MakeRustlsConnect::new(config))
}

impl Engine for Server {
    fn execute(&self, statement: &str, values: &[Value<'_>]) -> Answer<u64> {
        let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|v| v as _).collect();
        self.with(statement, |client, statement| Ok(client.execute(statement, &values)?))
    }

    fn each(
        &self,
        statement: &str,
        values: &[Value<'_>],
        take: &mut dyn FnMut(&dyn Row) -> Answer<()>,
    ) -> Answer<()> {
        self.with(statement, |client, statement| {
            let mut rows = client.query_raw(statement, values.iter().copied())?;
            while let Some(row) = rows.next()? {
                take(&row)?;
            }
            Ok(())
        })
    }

    fn batch(&self, statements: &str) -> Answer<()> {
        Ok(self.inner.borrow_mut().client.batch_execute(statements)?)
    }

    fn begin(&self) -> Answer<()> {
        self.batch("BEGIN")?;
        self.inner.borrow_mut().in_transaction = true;
        Ok(())
    }

    fn end(&self, keep: bool) -> Answer<()> {
        self.inner.borrow_mut().in_transaction = false;
        self.batch(if keep { "COMMIT" } else { "ROLLBACK" })
    }

    fn in_transaction(&self) -> bool {
        self.inner.borrow().in_transaction
    }

    /// A bench that is not heard of may be at work all the same: nobody else declares its run over.
    fn owner(&self) -> String {
        String::new()
    }

    fn is_gone(&self, _owner: &str) -> bool {
        false
    }

    fn of_bench(&self) -> &'static str {
        "bench, CAST(extract(epoch FROM now() - heard) AS BIGINT)"
    }

    /// The server has checksums of its own for its pages, and what a bench wrote is what it had read.
    fn is_bad_json(&self) -> &'static str {
        "false"
    }

    fn give_back_room(&self) {}

    fn sync(&self) {}

    fn keeper(&self) -> Box<dyn FnMut() + Send> {
        Box::new(|| {})
    }

    fn wait_for_disk(&self, _wait: bool) -> Answer<()> {
        Ok(())
    }

    fn listen(&self) -> Answer<bool> {
        if standing::version(self)? < standing::TELLS {
            return Ok(false);
        }
        match self.batch("LISTEN hollow_mile") {
            Ok(()) => Ok(true),
            Err(Fault::Lost(why)) => Err(Fault::Lost(why)),
            // It may be forbidden, or a program between the two may not know it.
            Err(_) => Ok(false),
        }
    }

    fn told(&self) -> Answer<Vec<i64>> {
        let mut inner = self.inner.borrow_mut();
        let mut notifications = inner.client.notifications();
        // Without any wait, the client does not look at what has come.
        let told = notifications.timeout_iter(A_LOOK).map(|n| Ok(n.payload().parse().ok()));
        Ok(told.collect::<Vec<Option<i64>>>()?.into_iter().flatten().collect())
    }
}

impl Logbook {
    /// The archive behind a connection.
    pub(super) fn of_server(name: &Path, server: Server) -> Result<Self> {
        let path = name.to_owned();
        let book = Self { path, db: Box::new(server), version: VERSION, as_it_was: None };
        let there = "SELECT to_regclass('hollow_mile.format') IS NOT NULL";
        let there = book.one(&format!("SELECT CAST(({there}) AS INTEGER)::BIGINT"), &[], |r| r.integer(0))?;
        if there != Some(1) {
            return Err(LogbookError::NoLab { path: book.path });
        }
        let (found, known) = (standing::needs(book.db.as_ref()).map_err(book.wrap())?, standing::VERSION);
        if found > known {
            return Err(LogbookError::Newer { path: book.path, found, known });
        }
        Ok(book)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parameters_are_numbered_as_postgresql_writes_them() {
        assert_eq!(numbered("a = ?1 AND b = ?12 OR c ? d"), "a = $1 AND b = $12 OR c ? d");
    }
}
