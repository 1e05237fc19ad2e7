//! An allocator that counts.

use std::alloc::{GlobalAlloc, Layout, System};
use std::sync::atomic::{AtomicUsize, Ordering};

/// Counts what is in use.
pub struct Counting;

/// Bytes.
pub static IN_USE: AtomicUsize = AtomicUsize::new(0);

// SAFETY: every call goes to the system's allocator as it came.
unsafe impl GlobalAlloc for Counting {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        IN_USE.fetch_add(layout.size(), Ordering::Relaxed);
        // SAFETY: the caller's promises are those that the system's allocator asks for.
        unsafe { System.alloc(layout) }
    }

    unsafe fn dealloc(&self, at: *mut u8, layout: Layout) {
        IN_USE.fetch_sub(layout.size(), Ordering::Relaxed);
        // SAFETY: as above; `at` came from `alloc`, which asked the same allocator.
        unsafe { System.dealloc(at, layout) }
    }
}
