//! A course as it was written, before it is fitted to a drive.

use mile_core::{Bytes, Celsius, Nanos, Op, Rate};

/// A test plan.
#[derive(Clone, Debug, PartialEq)]
pub struct Course {
    /// Its name.
    pub name: String,
    /// Length of a sample.
    pub sample_every: Nanos,
    /// Time between two looks at the drive's health.
    pub health_every: Nanos,
    /// What stops it.
    pub guards: Vec<Guard>,
    /// Its stages, in order. At least one.
    pub legs: Vec<Leg>,
}

/// Something that stops a run.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Guard {
    /// A composite temperature above this.
    TemperatureAbove(Celsius),
    /// More failed operations than this.
    ErrorsAbove(u64),
    /// An operation that is not back after this.
    OperationAbove(Nanos),
    /// A critical warning of the drive.
    CriticalWarning,
}

/// One stage.
#[derive(Clone, Debug, PartialEq)]
pub struct Leg {
    /// Its name, unique in the course.
    pub name: String,
    /// What it does.
    pub action: Action,
}

/// What a leg does.
#[derive(Clone, Debug, PartialEq)]
pub enum Action {
    /// Waits.
    Rest(Rest),
    /// Reads or writes.
    Transfer(Transfer),
    /// Makes the drive keep what it was given.
    Flush,
    /// Tells the drive that a range holds nothing any more: from, to.
    Discard((Position, Position)),
}

/// A rest.
#[derive(Clone, Debug, PartialEq)]
pub struct Rest {
    /// The first of these to be reached ends it. Never bytes or a pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
}

/// Reads or writes.
#[derive(Clone, Debug, PartialEq)]
pub struct Transfer {
    /// Which.
    pub op: Op,
    /// Share of reads, 0 to 1, of a mix.
    pub reads: f64,
    /// Whether what is read is held against what was written.
    pub verify: bool,
    /// In what order.
    pub access: Access,
    /// Bytes of one operation.
    pub block: Bytes,
    /// Operations in flight, of each worker.
    pub depth: u32,
    /// Workers.
    pub workers: u32,
    /// Most that is asked for in a second.
    pub rate: Option<Rate>,
    /// Address range: from, to.
    pub over: (Position, Position),
    /// The first of these to be reached ends it; none means one pass.
    pub until: Vec<End>,
    /// It ends after this at the latest.
    pub at_most: Option<Nanos>,
}

/// The order in which addresses are touched.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// Ascending, starting again at the front of the range.
    Sequential,
    /// Uniformly random blocks of the range.
    Random,
}

/// A place on the drive.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Position {
    /// A share of the capacity, 0 to 1.
    Share(f64),
    /// A byte address.
    At(Bytes),
}

/// What ends a leg.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum End {
    /// This much was moved.
    Moved(Bytes),
    /// This much time has passed.
    After(Nanos),
    /// The range was covered once.
    Pass,
    /// The composite temperature is below this.
    TemperatureBelow(Celsius),
}
