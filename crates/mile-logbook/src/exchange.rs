//! Traces from and for elsewhere: CSV (docs/formats.md), JSON Lines, and Parquet where the program is built with it.

#[cfg(not(feature = "parquet"))]
mod absent;
mod channels;
#[cfg(feature = "parquet")]
mod columnar;
mod foreign;
mod imported;
mod read;
mod written;

#[cfg(not(feature = "parquet"))]
pub use absent::{panics_are_contained, read_parquet, write_parquet, write_parquet_lanes};
pub use channels::{columns_of_series, series_of_columns};
#[cfg(feature = "parquet")]
pub use columnar::{panics_are_contained, read_parquet, write_parquet, write_parquet_lanes};
pub use imported::{Exchange, Extra, HAS_PARQUET, Imported, ImportedLane, PARQUET_MAGIC, Problem};
pub use read::{read_csv, read_foreign, read_rates};
pub use written::{LaneRows, write_csv, write_csv_lanes, write_jsonl, write_table};
