//! Real block devices: found, known, and kept from harm.

pub mod found;
pub mod link;
pub mod probe;
pub mod uses;

pub use found::{Found, Partition, Transport, discover, look};
pub use uses::Use;
