//! What streams of a PDF are made of.

use crate::FigureError;
use flate2::{Compression, write::ZlibEncoder};
use std::io::Write as _;

pub(super) fn failed(e: impl std::fmt::Display) -> FigureError {
    FigureError::Pdf(e.to_string())
}

/// Bytes as a stream has them, compressed.
pub(super) fn deflated(data: &[u8]) -> Result<Vec<u8>, FigureError> {
    let mut encoder = ZlibEncoder::new(Vec::new(), Compression::default());
    encoder.write_all(data).and_then(|()| encoder.finish()).map_err(failed)
}
