//! The drives that a course is for.

/// One of several drives that a course is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Lane {
    /// Its name.
    pub name: String,
    /// Whether it never gets a load, and is only watched.
    pub watched: bool,
}
