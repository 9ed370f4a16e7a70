//! Traces from and for elsewhere: CSV (docs/formats.md), Parquet, and JSON Lines.

mod channels;
mod columnar;
mod foreign;
mod imported;
mod read;
mod written;

pub use channels::{columns_of_series, series_of_columns};
pub use columnar::{PARQUET_MAGIC, panics_are_contained, read_parquet, write_parquet, write_parquet_lanes};
pub use imported::{Exchange, Extra, Imported, ImportedLane, Problem};
pub use read::{read_csv, read_foreign, read_rates};
pub use written::{LaneRows, write_csv, write_csv_lanes, write_jsonl, write_table};
