//! Real block devices: found, known, and kept from harm.

pub mod drive;
pub mod found;
pub mod link;
pub mod probe;
pub mod signature;
pub mod uses;

pub use drive::{BlockDrive, Consent};
pub use found::{Found, Partition, Transport, discover, look};
pub use uses::Use;
