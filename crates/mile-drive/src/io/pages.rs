//! How memory is divided into pages.
#![allow(unsafe_code, reason = "the kernel is handed the address of memory")]

/// Asks the kernel to put memory that was not touched yet into huge pages. It may decline.
pub(super) fn advise_huge(memory: &mut [u8]) {
    // SAFETY: the range is memory that we own, and the advice changes nothing of what it holds.
    unsafe { libc::madvise(memory.as_mut_ptr().cast(), memory.len(), libc::MADV_HUGEPAGE) };
}
