//! The course language: from text to a checked course, and from a course to a plan for one drive.
//!
//! A course is read in three steps, none of which stops at the first error: [`token`] cuts the text, [`mod@parse`] builds
//! the [`course::Course`], and [`plan::plan`] fits it to a drive. docs/courses.md has the grammar.

pub mod claimed;
pub mod course;
pub mod diagnostic;
pub mod forecast;
pub mod format;
mod kinds;
pub mod parse;
pub mod plan;
pub mod token;

pub use claimed::Claimed;
pub use course::{
    Access, Action, Claims, Course, End, Guard, Lane, Leg, Position, ScanOrder, Seen, Then, Threshold, When,
};
pub use diagnostic::{Diagnostic, Span};
pub use forecast::{Basis, Forecast, Known, LegForecast, forecast};
pub use format::format;
pub use kinds::ask::Ask;
pub use kinds::copy::Copy;
pub use kinds::discard::Discard;
pub use kinds::files::{Files, PlannedFiles};
pub use kinds::rest::Rest;
pub use kinds::self_test::SelfTest;
pub use kinds::transfer::{CopyPart, Kind, PlannedTransfer, Transfer, TransferLoad};
pub use parse::{demand, parse};
pub use plan::{DriveFacts, Guards, Load, Plan, PlannedLeg, Work, discard_first, plan, plan_lanes};
