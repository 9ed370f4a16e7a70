//! What a build without Parquet says where one is asked for.

use super::imported::{Exchange, Extra, Imported};
use super::written::LaneRows;
use mile_core::Sample;
use std::io::Write;

/// Says that this build writes none.
///
/// # Errors
/// Always.
pub fn write_parquet(_: impl Write + Send, _: &[Sample], _: &[String], _: &[Extra]) -> Result<(), Exchange> {
    Err(Exchange::NoParquet)
}

/// Says that this build writes none.
///
/// # Errors
/// Always.
pub fn write_parquet_lanes(_: impl Write + Send, _: &[LaneRows<'_>]) -> Result<(), Exchange> {
    Err(Exchange::NoParquet)
}

/// Says that this build reads none.
///
/// # Errors
/// Always.
pub fn read_parquet<T>(_: T, _: &[(String, String)]) -> Result<Imported, Exchange> {
    Err(Exchange::NoParquet)
}

/// Whether this thread takes a panic for an error: only the Parquet library is used so.
pub fn panics_are_contained() -> bool {
    false
}
