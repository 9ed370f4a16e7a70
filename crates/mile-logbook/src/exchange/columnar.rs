//! Traces as Apache Parquet files, with the columns of the CSV format: numbers as doubles, names as text, missing readings as nulls.

use super::{Exchange, Extra, Imported, read_foreign, write_csv};
use csv::{ReaderBuilder, StringRecord, WriterBuilder};
use mile_core::Sample;
use parquet::basic::{Compression, ConvertedType, Repetition, Type as Physical};
use parquet::data_type::{ByteArray, ByteArrayType, DoubleType};
use parquet::errors::ParquetError;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use parquet::record::Field;
use parquet::schema::types::Type;
use std::io::Write;
use std::sync::Arc;

/// The first bytes of a Parquet file.
pub const PARQUET_MAGIC: &[u8] = b"PAR1";

fn wrap(e: ParquetError) -> Exchange {
    Exchange::Write(std::io::Error::other(e))
}

/// Writes a trace with the columns that CSV has.
///
/// # Errors
/// Where the target cannot be written.
pub fn write_parquet(
    target: impl Write + Send,
    samples: &[Sample],
    legs: &[String],
    extras: &[Extra],
) -> Result<(), Exchange> {
    let mut text = Vec::new();
    write_csv(&mut text, samples, legs, extras)?;
    let mut reader = ReaderBuilder::new().from_reader(text.as_slice());
    let names: Vec<String> = reader.headers().map_err(Exchange::Read)?.iter().map(str::to_owned).collect();
    let records: Vec<StringRecord> = reader.records().collect::<Result<_, _>>().map_err(Exchange::Read)?;
    let field = |record: &StringRecord, i: usize| record.get(i).filter(|t| !t.is_empty()).map(str::to_owned);
    let numeric: Vec<bool> = (0..names.len())
        .map(|i| {
            !matches!(names[i].as_str(), "leg" | "op")
                && records.iter().all(|r| field(r, i).is_none_or(|t| t.parse::<f64>().is_ok()))
        })
        .collect();
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
    let mut group = writer.next_row_group().map_err(wrap)?;
    let mut index = 0;
    while let Some(mut column) = group.next_column().map_err(wrap)? {
        let values: Vec<Option<String>> = records.iter().map(|r| field(r, index)).collect();
        let there: Vec<i16> = values.iter().map(|v| i16::from(v.is_some())).collect();
        if numeric[index] {
            let numbers: Vec<f64> = values.iter().flatten().filter_map(|t| t.parse().ok()).collect();
            column.typed::<DoubleType>().write_batch(&numbers, Some(&there), None).map_err(wrap)?;
        } else {
            let texts: Vec<ByteArray> =
                values.iter().flatten().map(|t| ByteArray::from(t.as_str())).collect();
            column.typed::<ByteArrayType>().write_batch(&texts, Some(&there), None).map_err(wrap)?;
        }
        column.close().map_err(wrap)?;
        index += 1;
    }
    group.close().map_err(wrap)?;
    writer.close().map_err(wrap)?;
    Ok(())
}

/// Reads a trace from a Parquet file, with other column names as for CSV (`map`).
///
/// # Errors
/// Where the file is no Parquet, or as for CSV.
pub fn read_parquet(bytes: Vec<u8>, map: &[(String, String)]) -> Result<Imported, Exchange> {
    let bad = |e: ParquetError| Exchange::NotParquet(e.to_string());
    let reader = SerializedFileReader::new(bytes::Bytes::from(bytes)).map_err(bad)?;
    let schema = reader.metadata().file_metadata().schema();
    let names: Vec<String> = schema.get_fields().iter().map(|f| f.name().to_owned()).collect();
    let mut writer = WriterBuilder::new().from_writer(Vec::new());
    let broken = |e: csv::Error| Exchange::Write(std::io::Error::other(e));
    writer.write_record(&names).map_err(broken)?;
    for row in reader.get_row_iter(None).map_err(bad)? {
        let row = row.map_err(bad)?;
        writer.write_record(row.get_column_iter().map(|(_, f)| plain(f))).map_err(broken)?;
    }
    let text = writer.into_inner().map_err(|e| Exchange::Write(std::io::Error::other(e.to_string())))?;
    read_foreign(text.as_slice(), map)
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
