//! What several test binaries of this crate need.
#![allow(dead_code, reason = "each test file uses its part")]
#![allow(clippy::print_stderr, reason = "a test that cannot be made says so")]

pub(crate) mod cluster;
pub(crate) mod made;

/// A test that cannot be made here says so: the line is listed when all tests are over (`scripts/test`), and is a failure where
/// `HOLLOW_MILE_SKIPS=never` is set, as in continuous integration.
pub(crate) fn skipped(why: &str) {
    let list = std::env::var("HOLLOW_MILE_SKIPS").unwrap_or_default();
    assert!(list != "never", "skipped: {why}");
    let name = std::thread::current().name().unwrap_or("a test").to_owned();
    eprintln!("SKIPPED {name}: {why}");
    if let Ok(mut file) = std::fs::File::options().append(true).create(true).open(list) {
        let _ = std::io::Write::write_all(&mut file, format!("{name}: {why}\n").as_bytes());
    }
}
