//! Places on a drive, as a course names them.

use mile_core::Bytes;

/// An address range: from, to.
pub type Range = (Position, Position);

/// A place on the drive.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Position {
    /// A share of the capacity, 0 to 1.
    Share(f64),
    /// A byte address.
    At(Bytes),
    /// So many bytes before the end.
    BeforeEnd(Bytes),
}

/// All of a drive.
pub const WHOLE: Range = (Position::Share(0.0), Position::Share(1.0));
