//! The course language: from text to a checked course, and from a course to a plan for one drive.
//!
//! A course is read in three steps, none of which stops at the first error: [`token`] cuts the text, [`mod@parse`] builds
//! the [`course::Course`], and [`plan::plan`] fits it to a drive. docs/courses.md has the grammar.

pub mod course;
pub mod diagnostic;
pub mod parse;
pub mod plan;
pub mod token;

pub use course::{Access, Action, Course, End, Guard, Leg, Position, Rest, Transfer};
pub use diagnostic::{Diagnostic, Span};
pub use parse::parse;
pub use plan::{DriveFacts, Plan, PlannedLeg, PlannedTransfer, Work, plan};
