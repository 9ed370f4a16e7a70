//! How memory is divided into pages, and how near the processor has it.
#![allow(unsafe_code, reason = "the kernel and the processor are handed addresses of memory")]

/// Asks the kernel to put memory that was not touched yet into huge pages. It may decline.
pub(super) fn advise_huge(memory: &mut [u8]) {
    // SAFETY: the range is memory that we own, and the advice changes nothing of what it holds.
    unsafe { libc::madvise(memory.as_mut_ptr().cast(), memory.len(), libc::MADV_HUGEPAGE) };
}

/// Asks the processor to have the first bytes of `memory` ready for a write. What was written to a drive was last seen by the processor that moved
/// it there, and a write to it waits until it is back; several that are asked for at once wait together.
#[inline]
pub(super) fn expect_write(memory: &[u8]) {
    #[cfg(target_arch = "x86_64")]
    // SAFETY: a hint, which changes neither memory nor registers, at an address that we own. Each processor of 64 bits knows it or does nothing.
    unsafe {
        std::arch::asm!("prefetchw [{}]", in(reg) memory.as_ptr(), options(nostack, preserves_flags, readonly));
    };
    #[cfg(target_arch = "aarch64")]
    // SAFETY: as above.
    unsafe {
        std::arch::asm!("prfm pstl1keep, [{}]", in(reg) memory.as_ptr(), options(nostack, preserves_flags, readonly));
    };
    #[cfg(not(any(target_arch = "x86_64", target_arch = "aarch64")))]
    let _ = memory;
}
