//! Numbers that lie on the heap, or in a mapped file.

use std::ops::Deref;
use std::sync::Arc;

use memmap2::Mmap;

/// Numbers of a fixed size whose bytes can be taken from a file as they are.
pub trait Word: Copy + Send + Sync + 'static {
    /// The number of little-endian bytes, as many as it has.
    fn of_bytes(bytes: &[u8]) -> Self;
}

macro_rules! words {
    ($($ty:ty)*) => {
        $(impl Word for $ty {
            fn of_bytes(bytes: &[u8]) -> $ty {
                let mut own = [0; size_of::<$ty>()];
                own.copy_from_slice(&bytes[..size_of::<$ty>()]);
                <$ty>::from_le_bytes(own)
            }
        })*
    };
}

words!(u8 u32 u64 i64);

/// A mapped file, or its bytes where mapping is not possible.
#[derive(Clone, Debug)]
pub enum Source {
    /// Mapped.
    Map(Arc<Mmap>),
    /// Read.
    Bytes(Arc<[u8]>),
}

impl Source {
    /// The bytes of the file.
    pub fn bytes(&self) -> &[u8] {
        match self {
            Source::Map(map) => map,
            Source::Bytes(bytes) => bytes,
        }
    }
}

/// Numbers on the heap or in a mapped file.
#[derive(Clone, Debug)]
pub struct Buffer<T: Word>(Place<T>);

#[derive(Clone, Debug)]
enum Place<T> {
    Heap(Box<[T]>),
    /// First byte and how many numbers; the first byte is aligned for `T`.
    Mapped(Source, usize, usize),
}

impl<T: Word> Buffer<T> {
    /// `len` numbers at a byte of a file; `None` when they do not lie in it.
    pub fn in_file(source: &Source, at: usize, len: usize) -> Option<Buffer<T>> {
        let bytes = source.bytes().get(at..at.checked_add(len.checked_mul(size_of::<T>())?)?)?;
        // Numbers in the file are little endian; elsewhere, and where they are not aligned, they are read.
        if cfg!(target_endian = "little") && bytes.as_ptr().align_offset(align_of::<T>()) == 0 {
            return Some(Buffer(Place::Mapped(source.clone(), at, len)));
        }
        Some(Buffer(Place::Heap(bytes.chunks_exact(size_of::<T>()).map(T::of_bytes).collect())))
    }
}

impl<T: Word> Deref for Buffer<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        match &self.0 {
            Place::Heap(values) => values,
            Place::Mapped(source, at, len) => {
                let first = source.bytes()[*at..].as_ptr().cast::<T>();
                // SAFETY: `in_file` has checked that `len` numbers lie in the source from `at` on, and that `at` is
                // aligned for `T`. Every pattern of bits is a `Word`. The source is kept alive by this buffer and never
                // written: a store file is replaced by a rename, never in place.
                unsafe { std::slice::from_raw_parts(first, *len) }
            }
        }
    }
}

impl<T: Word> From<Vec<T>> for Buffer<T> {
    fn from(values: Vec<T>) -> Buffer<T> {
        Buffer(Place::Heap(values.into_boxed_slice()))
    }
}

impl<T: Word> FromIterator<T> for Buffer<T> {
    fn from_iter<I: IntoIterator<Item = T>>(values: I) -> Buffer<T> {
        values.into_iter().collect::<Vec<T>>().into()
    }
}

impl<T: Word> Default for Buffer<T> {
    fn default() -> Buffer<T> {
        Vec::new().into()
    }
}

impl<T: Word + PartialEq> PartialEq for Buffer<T> {
    fn eq(&self, other: &Buffer<T>) -> bool {
        **self == **other
    }
}

impl<T: Word + Eq> Eq for Buffer<T> {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_come_from_bytes_aligned_or_not() {
        let bytes: Vec<u8> = (0..64).collect();
        let source = Source::Bytes(bytes.into());
        for at in 0..9 {
            let buffer = Buffer::<u32>::in_file(&source, at, 3).expect("it lies in the file");
            let expected: Vec<u32> =
                (0..3).map(|i| u32::from_le_bytes([0, 1, 2, 3].map(|b| (at + 4 * i + b) as u8))).collect();
            assert_eq!(*buffer, expected, "from byte {at}");
        }
        assert!(Buffer::<u64>::in_file(&source, 60, 1).is_none());
        assert!(Buffer::<u64>::in_file(&source, 8, usize::MAX).is_none());
    }
}
