//! What is known of a drive and the host before a run.

use mile_bench::outlook::{HostLoad, Past};

/// What is known of a drive and the host before a run.
#[derive(Clone, Debug, Default)]
pub(crate) struct Background {
    pub(crate) drive: String,
    pub(crate) past: Past,
    pub(crate) host: Option<HostLoad>,
}
