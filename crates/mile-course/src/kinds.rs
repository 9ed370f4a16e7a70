//! The kinds of legs, each in a file: what it is, how it is written, how it is fitted to a drive, and its words. `Action` (as a course has it) and `Work`
//! (as a plan has it) name them all.

pub(crate) mod ask;
pub(crate) mod copy;
pub(crate) mod discard;
pub(crate) mod expect;
pub(crate) mod files;
pub(crate) mod fill;
pub(crate) mod flush;
pub(crate) mod health;
pub(crate) mod rest;
pub(crate) mod scan;
pub(crate) mod self_test;
pub(crate) mod transfer;
pub(crate) mod verify;
