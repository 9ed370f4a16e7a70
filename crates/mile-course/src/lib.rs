//! The course language: from text to a checked course, and from a course to a plan for one drive.
//!
//! A course is read in three steps, none of which stops at the first error: [`token`] cuts the text, [`mod@parse`] builds
//! the [`course::Course`], and [`plan::plan`] fits it to a drive. docs/courses.md has the grammar.

pub mod claimed;
pub mod copy;
pub mod course;
pub mod diagnostic;
pub mod files;
pub mod forecast;
pub mod format;
pub mod parse;
pub mod plan;
pub mod token;

pub use claimed::Claimed;
pub use copy::{Copy, CopyPart};
pub use course::{
    Access, Action, Claims, Course, End, Guard, Kind, Lane, Leg, Position, Rest, ScanOrder, Seen, Then,
    Threshold, Transfer, When,
};
pub use diagnostic::{Diagnostic, Span};
pub use files::{FileSync, Files, PlannedFiles};
pub use forecast::{Basis, Forecast, Known, LegForecast, forecast};
pub use format::format;
pub use parse::{demand, parse};
pub use plan::{
    DriveFacts, Guards, Load, Plan, PlannedLeg, PlannedTransfer, Work, discard_first, plan, plan_lanes,
};
