//! An open line, whatever it runs over: one half reads, the other writes, each on a thread of its own.

use std::io::{self, Read, Write};

/// An open line.
pub(crate) struct Line {
    pub reader: Box<dyn Source>,
    pub writer: Box<dyn Write + Send>,
}

/// What is read of a line.
pub(crate) enum Got {
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
    fn next(&mut self, room: &mut [u8]) -> io::Result<Got>;
}

/// A stream of bytes that ends with an empty read.
pub(crate) struct Stream<R>(pub R);

impl<R: Read + Send> Source for Stream<R> {
    fn next(&mut self, room: &mut [u8]) -> io::Result<Got> {
        match self.0.read(room) {
            Ok(0) => Ok(Got::Closed),
            Ok(length) => Ok(Got::Bytes(length)),
            Err(error) if is_nothing(&error) => Ok(Got::Nothing),
            Err(error) => Err(error),
        }
    }
}

/// Whether an error only says that nothing came.
pub(crate) fn is_nothing(error: &io::Error) -> bool {
    matches!(error.kind(), io::ErrorKind::TimedOut | io::ErrorKind::WouldBlock | io::ErrorKind::Interrupted)
}
