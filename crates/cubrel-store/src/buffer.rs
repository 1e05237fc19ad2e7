//! Numbers that lie on the heap, or are read from a file when they are needed.
//!
//! A file is read, never mapped: whoever cuts it off or writes into it while it is in use would take the process down with
//! it, or change numbers that were looked at already. What is read is checked in the same pass.

use std::fs::File;
use std::io;
use std::ops::Deref;
use std::sync::{Arc, OnceLock};

use xxhash_rust::xxh3::Xxh3;

/// Bytes that are read, checked and taken over at a time: they stay in the nearest caches.
const CHUNK: usize = 1 << 16;

/// Numbers of a fixed size whose bytes can be taken from a file as they are.
pub trait Word: Copy + std::fmt::Debug + Send + Sync + 'static {
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

/// Reads bytes from a place of a file, whatever else is read from it at the same time.
///
/// # Errors
/// When the file cannot be read, or ends before.
pub fn read_at(file: &File, bytes: &mut [u8], at: u64) -> io::Result<()> {
    #[cfg(unix)]
    return std::os::unix::fs::FileExt::read_exact_at(file, bytes, at);
    #[cfg(windows)]
    {
        let (mut done, total) = (0, bytes.len());
        while done < total {
            match std::os::windows::fs::FileExt::seek_read(file, &mut bytes[done..], at + done as u64)? {
                0 => return Err(io::ErrorKind::UnexpectedEof.into()),
                count => done += count,
            }
        }
        Ok(())
    }
}

/// A stretch of bytes of a file, with the hash that they had when they were written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stretch {
    /// The first byte.
    pub at: u64,
    /// How many bytes.
    pub len: u64,
    /// Their XXH3 hash.
    pub hash: u64,
}

/// Numbers that have a place in a file.
#[derive(Debug)]
struct Filed<T> {
    stretch: Stretch,
    /// How many numbers.
    len: usize,
    values: OnceLock<Box<[T]>>,
}

/// Something in a file that has to be read before it is used.
pub trait Unread: std::fmt::Debug + Send + Sync {
    /// Reads it; says whether it is what was written.
    fn read(&self, file: &File) -> bool;
}

impl<T: Word> Unread for Filed<T> {
    fn read(&self, file: &File) -> bool {
        if self.values.get().is_some() {
            return true;
        }
        let (mut hash, mut values) = (Xxh3::new(), Vec::with_capacity(self.len));
        let (mut at, end) = (self.stretch.at, self.stretch.at + self.stretch.len);
        let mut chunk = vec![0; CHUNK.min(self.stretch.len as usize)];
        while at < end {
            let chunk = &mut chunk[..CHUNK.min((end - at) as usize)];
            if read_at(file, chunk, at).is_err() {
                return false;
            }
            hash.update(chunk);
            values.extend(chunk.chunks_exact(size_of::<T>()).map(T::of_bytes));
            at += chunk.len() as u64;
        }
        let is_whole = hash.digest() == self.stretch.hash && values.len() == self.len;
        if is_whole {
            self.values.get_or_init(|| values.into_boxed_slice());
        }
        is_whole
    }
}

/// Numbers on the heap or in a file.
#[derive(Clone, Debug)]
pub struct Buffer<T: Word>(Held<T>);

#[derive(Clone, Debug)]
enum Held<T> {
    Heap(Box<[T]>),
    InFile(Arc<Filed<T>>),
}

impl<T: Word> Buffer<T> {
    /// What lies in a stretch of a file. It is to be read before its numbers are looked at.
    pub fn in_file(stretch: Stretch) -> (Buffer<T>, Arc<dyn Unread>) {
        let len = stretch.len as usize / size_of::<T>();
        let filed = Arc::new(Filed { stretch, len, values: OnceLock::new() });
        (Buffer(Held::InFile(filed.clone())), filed)
    }

    /// How many numbers, read or not.
    pub fn len(&self) -> usize {
        match &self.0 {
            Held::Heap(values) => values.len(),
            Held::InFile(filed) => filed.len,
        }
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }
}

impl<T: Word> Deref for Buffer<T> {
    type Target = [T];

    fn deref(&self) -> &[T] {
        match &self.0 {
            Held::Heap(values) => values,
            Held::InFile(filed) => {
                let values = filed.values.get();
                debug_assert!(values.is_some() || filed.len == 0, "it was not read: {:?}", filed.stretch);
                values.map_or(&[], |values| values)
            }
        }
    }
}

impl<T: Word> From<Vec<T>> for Buffer<T> {
    fn from(values: Vec<T>) -> Buffer<T> {
        Buffer(Held::Heap(values.into_boxed_slice()))
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
    use std::io::Write;

    #[test]
    fn numbers_come_from_any_place_of_a_file_and_only_as_they_were_written() {
        let mut file = tempfile::tempfile().expect("a file");
        let bytes: Vec<u8> = (0..3 * CHUNK).map(|i| (i * 7 % 251) as u8).collect();
        file.write_all(&bytes).expect("there is room");
        for (at, count) in [(0, 0), (0, 3), (5, 3), (1, 20_000), (9, 2 * CHUNK / 4)] {
            let part = &bytes[at..at + 4 * count];
            let hash = xxhash_rust::xxh3::xxh3_64(part);
            let stretch = Stretch { at: at as u64, len: part.len() as u64, hash };
            let (buffer, unread) = Buffer::<u32>::in_file(stretch);
            assert_eq!(buffer.len(), count);
            assert!(unread.read(&file) && unread.read(&file));
            let expected: Vec<u32> = part.chunks(4).map(u32::of_bytes).collect();
            assert_eq!(*buffer, expected, "from byte {at}");
            let (_, other) = Buffer::<u32>::in_file(Stretch { hash: hash ^ 1, ..stretch });
            assert!(!other.read(&file));
        }
        let (_, beyond) = Buffer::<u64>::in_file(Stretch { at: bytes.len() as u64 - 4, len: 8, hash: 0 });
        assert!(!beyond.read(&file), "the file ends before");
    }
}
