//! Where memory comes from, and when it is given back.

use std::ffi::c_long;

/// Reads ask for the same large pieces of memory again and again; this one keeps them for a second instead of giving them back.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// The allocator's option for how long freed memory is kept. Its bindings have no name for it; the number is that of versions 2 and 3.
const PURGE_DELAY: libmimalloc_sys::mi_option_t = 15;
/// Milliseconds: less takes a second more of processor time for six million rows, more a tenth more memory.
const SOON: c_long = 200;

/// Gives freed memory back soon, from now on, unless the user's environment says when: for what frees much that it does not need again,
/// as loading does. To be called before there are threads.
pub fn give_back_soon() {
    // SAFETY: a number is put in the place of another, while nobody else looks at it.
    unsafe { libmimalloc_sys::mi_option_set_default(PURGE_DELAY, SOON) }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_option_is_the_one_that_is_meant() {
        // SAFETY: a number is read, or put in the place of another; no other test does.
        let get = || unsafe { libmimalloc_sys::mi_option_get(PURGE_DELAY) };
        let said = std::env::var_os("MIMALLOC_PURGE_DELAY").map(|_| get());
        if said.is_none() {
            assert_eq!(get(), 1000, "what version 3 says of it");
        }
        give_back_soon();
        assert_eq!(get(), said.unwrap_or(SOON));
    }
}
