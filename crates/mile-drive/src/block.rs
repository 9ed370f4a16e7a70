//! Real block devices: found, known, and kept from harm.

pub mod attributes;
pub mod drive;
pub mod found;
pub mod link;
pub mod members;
pub mod permit;
pub mod probe;
pub mod signature;
pub mod stack;
pub mod survey;
pub mod uses;
mod watched;

pub use attributes::Transport;
pub use drive::BlockDrive;
pub use found::{Found, Partition, discover, look};
pub use permit::Consent;
pub use uses::Use;
