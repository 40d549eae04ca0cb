//! An open line, whatever it runs over: one half reads, the other writes, each on a thread of its own.

use std::io::{self, Read, Write};

use crate::program::Program;

/// An open line.
pub(crate) struct Line {
    pub reader: Box<dyn Source>,
    pub writer: Box<dyn Target>,
    /// Whoever is at the other side, if it was started for that.
    pub program: Option<Program>,
}

/// What is read of a line.
pub(crate) enum LineRead {
    /// So many bytes; of a packet there may be none.
    Bytes(usize),
    /// Nothing until now.
    Nothing,
    /// The other side is gone.
    Closed,
}

/// The half that reads.
pub(crate) trait Source: Send {
    /// Waits for what comes next, at most for a short time.
    fn next(&mut self, room: &mut [u8]) -> io::Result<LineRead>;
}

/// The half that writes.
pub(crate) trait Target: Write + Send {
    /// Whether somebody is at the other side, as far as one can know.
    fn has_peer(&self) -> bool {
        true
    }
}

/// A half that writes to somebody of whom nothing is known.
pub(crate) struct PlainWriter<W>(pub W);

impl<W: Write> Write for PlainWriter<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl<W: Write + Send> Target for PlainWriter<W> {}

/// A stream of bytes that ends with an empty read.
pub(crate) struct Stream<R>(pub R);

// Its reads do not wait for long.
impl<R: Read + Send> Source for Stream<R> {
    fn next(&mut self, room: &mut [u8]) -> io::Result<LineRead> {
        match self.0.read(room) {
            Ok(0) => Ok(LineRead::Closed),
            Ok(length) => Ok(LineRead::Bytes(length)),
            Err(error) if is_nothing(&error) => Ok(LineRead::Nothing),
            Err(error) => Err(error),
        }
    }
}

/// Whether an error only says that nothing came.
pub(crate) fn is_nothing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted)
}
