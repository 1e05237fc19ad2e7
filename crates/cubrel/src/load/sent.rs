//! Text that one thread makes while others read it.

use std::io::{self, Cursor, Read, Write};
use std::sync::mpsc;

/// Bytes that are handed on at a time, and how many such pieces may wait.
const PIECE: usize = 1 << 18;
const WAITING: usize = 16;

/// What `make` writes, as it is written. It is ended by an error when nobody reads any more.
pub fn sent(make: impl FnOnce(&mut Sender) -> io::Result<()> + Send + 'static) -> Box<dyn Read + Send> {
    let (send, receive) = mpsc::sync_channel(WAITING);
    std::thread::spawn(move || {
        let mut sender = Sender { send, piece: Vec::with_capacity(PIECE) };
        if let Err(e) = make(&mut sender).and_then(|()| sender.flush()) {
            // Whoever does not listen any more does not want to know.
            let _ = sender.send.send(Err(e));
        }
    });
    Box::new(Received { receive, piece: Cursor::default() })
}

/// Where the text is written to.
pub struct Sender {
    send: mpsc::SyncSender<io::Result<Vec<u8>>>,
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
        self.send.send(Ok(piece)).map_err(|_| io::ErrorKind::BrokenPipe.into())
    }
}

struct Received {
    receive: mpsc::Receiver<io::Result<Vec<u8>>>,
    piece: Cursor<Vec<u8>>,
}

impl Read for Received {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        loop {
            let count = self.piece.read(to)?;
            if count > 0 || to.is_empty() {
                return Ok(count);
            }
            match self.receive.recv() {
                Ok(piece) => self.piece = Cursor::new(piece?),
                // The other side is done.
                Err(_) => return Ok(0),
            }
        }
    }
}
