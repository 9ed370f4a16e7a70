//! What planning needs to know of a drive.

use mile_core::Bytes;

/// What planning needs to know of a drive.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct DriveFacts {
    /// Bytes that can be addressed.
    pub capacity: Bytes,
    /// Smallest unit of an operation.
    pub logical_block: Bytes,
    /// Whether it gives a temperature.
    pub has_temperature: bool,
    /// Whether what is on it may be read without being written first.
    pub readable: bool,
    /// The host's memory, where what is moved can be led through its cache; `None` where it cannot.
    pub cache: Option<Bytes>,
    /// Bytes for files of the run beside the one that is addressed; `None` where it is on no file system.
    pub files: Option<Bytes>,
}
