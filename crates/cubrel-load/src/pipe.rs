//! Text that one thread makes while others read it.

use std::io::{self, Cursor, Read, Write};
use std::sync::mpsc;

use super::guarded::caught;

/// Bytes that are handed on at a time, and how many such pieces may wait.
const PIECE: usize = 1 << 18;
const WAITING: usize = 16;

/// What `make` writes, as it is written. It is ended by an error when nobody reads any more; and whoever reads is told
/// when it did not come to its end, whatever the reason.
pub fn pipe(make: impl FnOnce(&mut Sender) -> io::Result<()> + Send + 'static) -> Box<dyn Read + Send> {
    let (send, receive) = mpsc::sync_channel(WAITING);
    std::thread::spawn(move || {
        let mut sender = Sender { send, piece: Vec::with_capacity(PIECE) };
        let made = caught(|| make(&mut sender)).unwrap_or_else(|why| Err(io::Error::other(why)));
        let last = made.and_then(|()| sender.flush()).map(|()| None);
        // Whoever does not listen any more does not want to know.
        let _ = sender.send.send(last);
    });
    Box::new(Received { receive, piece: Cursor::default(), at_end: false })
}

/// A piece, nothing behind the last one, or why there are no more.
type Sent = io::Result<Option<Vec<u8>>>;

/// Where the text is written to.
pub struct Sender {
    send: mpsc::SyncSender<Sent>,
    piece: Vec<u8>,
}

impl Write for Sender {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.piece.extend_from_slice(bytes);
        if self.piece.len() >= PIECE {
            self.flush()?;
        }
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        let piece = std::mem::replace(&mut self.piece, Vec::with_capacity(PIECE));
        self.send.send(Ok(Some(piece))).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

struct Received {
    receive: mpsc::Receiver<Sent>,
    piece: Cursor<Vec<u8>>,
    at_end: bool,
}

impl Read for Received {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        loop {
            let count = self.piece.read(to)?;
            if count > 0 || to.is_empty() || self.at_end {
                return Ok(count);
            }
            let broken_off = |_| io::Error::other("it was broken off before its end");
            match self.receive.recv().map_err(broken_off)?? {
                Some(piece) => self.piece = Cursor::new(piece),
                None => self.at_end = true,
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn all_that_is_written_comes_and_then_what_went_wrong() {
        let long = || (0..3 * PIECE as u64).flat_map(|i| i.to_le_bytes());
        let mut text = Vec::new();
        let mut reader = pipe(move |to| to.write_all(&long().collect::<Vec<u8>>()));
        assert!(reader.read_to_end(&mut text).is_ok_and(|count| count == 24 * PIECE));
        assert!(text.into_iter().eq(long()));
        let mut failing = pipe(|to| {
            to.write_all(b"a")?;
            to.flush()?;
            Err(io::Error::other("gone"))
        });
        let mut text = String::new();
        let error = failing.read_to_string(&mut text).map_err(|e| e.to_string());
        assert_eq!(error, Err("gone".into()));
    }

    #[test]
    fn what_panics_is_no_end() {
        let mut text = String::new();
        let mut reader = pipe(|to| {
            to.write_all(b"a")?;
            panic!("a part of it cannot be read")
        });
        let error = reader.read_to_string(&mut text).map_err(|e| e.to_string());
        assert_eq!(error, Err("a part of it cannot be read".into()));
    }

    #[test]
    fn nobody_writes_for_ever_when_nobody_reads() {
        let (told, tell) = mpsc::channel();
        let reader = pipe(move |to| {
            let result = (0..100 * WAITING).try_for_each(|_| to.write_all(&[0; PIECE]));
            let _ = told.send(result.is_err());
            result
        });
        drop(reader);
        assert_eq!(tell.recv(), Ok(true));
    }
}
