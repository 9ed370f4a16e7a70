//! Traces as Apache Parquet files, with the columns of the CSV format: numbers as doubles, names as text, missing readings as nulls.

use super::imported::{Exchange, Extra, Imported, LANE};
use super::read::read_foreign;
use super::written::{LaneRows, columns_of, written_rows};
use csv::WriterBuilder;
use mile_core::{Bytes, Sample};
use parquet::basic::{Compression, ConvertedType, Repetition, Type as Physical};
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType};
use parquet::errors::ParquetError;
use parquet::file::metadata::RowGroupMetaData;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{ChunkReader, FileReader, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use parquet::record::Field;
use parquet::record::reader::RowIter;
use parquet::schema::types::Type;
use std::cell::Cell;
use std::io::{self, Read, Write};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Arc;

/// Rows of a group: as many are held as text while it is written.
const GROUP: usize = 1 << 15;

/// Most of a column that a group of rows may hold: its pages are taken into memory as they are.
const MOST_CHUNK: Bytes = Bytes(64 << 20);

fn wrap(e: ParquetError) -> Exchange {
    Exchange::Write(std::io::Error::other(e))
}

/// Writes a trace of one lane with the columns that CSV has.
///
/// # Errors
/// Where the target cannot be written.
pub fn write_parquet(
    target: impl Write + Send,
    samples: &[Sample],
    legs: &[String],
    extras: &[Extra],
) -> Result<(), Exchange> {
    write_parquet_lanes(target, &[LaneRows { name: "", samples, legs, extras }])
}

/// Writes a trace with the columns that CSV has, its lanes row by row in the order of time.
///
/// # Errors
/// Where the target cannot be written.
pub fn write_parquet_lanes(target: impl Write + Send, lanes: &[LaneRows<'_>]) -> Result<(), Exchange> {
    let names = columns_of(lanes);
    let is_number = |text: &String| text.is_empty() || text.parse::<f64>().is_ok();
    let of_extra = |name: &&str| {
        let values = lanes.iter().flat_map(|l| l.extras).filter(|e| e.name == *name);
        values.flat_map(|e| &e.values).all(is_number)
    };
    let is_numeric = |name: &&str| !matches!(*name, "leg" | "op" | LANE) && of_extra(name);
    let numeric: Vec<bool> = names.iter().map(is_numeric).collect();
    let columns = names.iter().zip(&numeric).map(|(name, numeric)| {
        let (physical, converted) = if *numeric {
            (Physical::DOUBLE, ConvertedType::NONE)
        } else {
            (Physical::BYTE_ARRAY, ConvertedType::UTF8)
        };
        Type::primitive_type_builder(name, physical)
            .with_repetition(Repetition::OPTIONAL)
            .with_converted_type(converted)
            .build()
            .map(Arc::new)
    });
    let fields = columns.collect::<Result<Vec<_>, _>>().map_err(wrap)?;
    let schema = Type::group_type_builder("trace").with_fields(fields).build().map_err(wrap)?;
    let properties = WriterProperties::builder().set_compression(Compression::SNAPPY).build();
    let mut writer =
        SerializedFileWriter::new(target, Arc::new(schema), Arc::new(properties)).map_err(wrap)?;
    let mut rows = written_rows(lanes);
    loop {
        let part: Vec<Vec<String>> = rows.by_ref().take(GROUP).collect();
        if part.is_empty() {
            break;
        }
        let mut group = writer.next_row_group().map_err(wrap)?;
        let mut index = 0;
        while let Some(mut column) = group.next_column().map_err(wrap)? {
            let values = || part.iter().filter_map(|row| row.get(index)).filter(|t| !t.is_empty());
            let there: Vec<i16> =
                part.iter().map(|row| i16::from(row.get(index).is_some_and(|t| !t.is_empty()))).collect();
            if numeric[index] {
                let numbers: Vec<f64> = values().filter_map(|t| t.parse().ok()).collect();
                column.typed::<DoubleType>().write_batch(&numbers, Some(&there), None).map_err(wrap)?;
            } else {
                let texts: Vec<ByteArray> = values().map(|t| ByteArray::from(t.as_str())).collect();
                column.typed::<ByteArrayType>().write_batch(&texts, Some(&there), None).map_err(wrap)?;
            }
            column.close().map_err(wrap)?;
            index += 1;
        }
        group.close().map_err(wrap)?;
    }
    writer.close().map_err(wrap)?;
    Ok(())
}

/// Reads a trace from a Parquet file, with other column names as for CSV (`map`). Rows are taken one by one, so that no more is held in
/// memory than the pages that they come from.
///
/// # Errors
/// Where the file is no Parquet, or as for CSV.
pub fn read_parquet(
    source: impl ChunkReader + 'static,
    map: &[(String, String)],
) -> Result<Imported, Exchange> {
    let bad = |e: ParquetError| Exchange::NotParquet(e.to_string());
    let reader = contained(|| SerializedFileReader::new(source)).map_err(bad)?;
    let columns = reader.metadata().row_groups().iter().flat_map(RowGroupMetaData::columns);
    for column in columns {
        let bytes = Bytes(u64::try_from(column.uncompressed_size()).unwrap_or(0));
        if bytes > MOST_CHUNK {
            let name = column.column_descr().name();
            let why = format!(
                "{bytes} of the column {name} in one group of rows, at most {MOST_CHUNK} can be read"
            );
            return Err(Exchange::TooMuch(why));
        }
    }
    let schema = reader.metadata().file_metadata().schema();
    let names: Vec<String> = schema.get_fields().iter().map(|f| f.name().to_owned()).collect();
    let rows = contained(|| reader.get_row_iter(None)).map_err(bad)?;
    let mut lines = Lines { rows, text: Vec::new(), at: 0, broken: None };
    lines.put(names.iter().map(String::as_str)).map_err(Exchange::Write)?;
    let all = read_foreign(&mut lines, map);
    // What is wrong with the file itself is said, and not what followed from it.
    match lines.broken {
        Some(e) => Err(bad(e)),
        None => all,
    }
}

thread_local! {
    static CONTAINED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread is within what takes a panic for an error: the Parquet library panics on some files that are damaged. A panic
/// hook says nothing of those.
pub fn panics_are_contained() -> bool {
    CONTAINED.get()
}

/// What the Parquet library gives, with its panics as errors. What it was at is not used again.
fn contained<T>(with: impl FnOnce() -> Result<T, ParquetError>) -> Result<T, ParquetError> {
    CONTAINED.set(true);
    let done = catch_unwind(AssertUnwindSafe(with));
    CONTAINED.set(false);
    done.unwrap_or_else(|_| Err(ParquetError::General("it is damaged".into())))
}

/// The rows of a file as lines of CSV, made as they are read.
struct Lines<'a> {
    rows: RowIter<'a>,
    text: Vec<u8>,
    at: usize,
    broken: Option<ParquetError>,
}

impl Lines<'_> {
    fn put<T: AsRef<[u8]>>(&mut self, fields: impl Iterator<Item = T>) -> io::Result<()> {
        self.text.clear();
        self.at = 0;
        let mut writer = WriterBuilder::new().from_writer(&mut self.text);
        writer.write_record(fields).map_err(io::Error::other)?;
        writer.flush()
    }
}

impl Read for Lines<'_> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        while self.at == self.text.len() {
            match contained(|| self.rows.next().transpose()).transpose() {
                None => return Ok(0),
                Some(Ok(row)) => self.put(row.get_column_iter().map(|(_, f)| plain(f)))?,
                Some(Err(e)) => {
                    self.broken = Some(e);
                    return Err(io::Error::other("a row cannot be read"));
                }
            }
        }
        let count = to.len().min(self.text.len() - self.at);
        to[..count].copy_from_slice(&self.text[self.at..self.at + count]);
        self.at += count;
        Ok(count)
    }
}

/// A value as CSV has it.
fn plain(field: &Field) -> String {
    match field {
        Field::Null => String::new(),
        Field::Str(s) => s.clone(),
        Field::Double(v) => v.to_string(),
        Field::Float(v) => v.to_string(),
        Field::TimestampMillis(ms) => format!("{}", *ms as f64 / 1e3),
        Field::TimestampMicros(us) => format!("{}", *us as f64 / 1e6),
        other => other.to_string(),
    }
}
