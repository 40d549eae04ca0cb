//! Lines over pipes: a program's standard input and output, and those of this one.

use std::io::{self, Read, Write};
use std::os::fd::AsFd;
use std::process::{Command, Stdio};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use crate::line::{Line, LineRead, PlainWriter, Source, Stream, Target};
use crate::program::Program;

/// How long, in milliseconds, a pipe that is empty or full is waited for.
const PIPE: u16 = 100;

/// So much goes into a pipe that takes anything (POSIX: PIPE_BUF) without waiting.
const PIPE_ROOM: usize = 512;

/// Starts a program whose standard input and output are the line; its standard error stays where ours is.
pub(crate) fn start(words: &[String]) -> io::Result<Line> {
    let Some((program, arguments)) = words.split_first() else { return Err(io::ErrorKind::InvalidInput.into()) };
    let mut command = Command::new(program);
    command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped());
    let mut program = Program::start(&mut command)?;
    let (Some(input), Some(output)) = (program.take_input(), program.take_output()) else {
        return Err(io::Error::other("it has no standard input and output"));
    };
    Ok(Line {
        reader: Box::new(Pipe(Stream(output))),
        writer: Box::new(Pipe(PlainWriter(input))),
        program: Some(program),
    })
}

/// Standard input and output of this program.
pub(crate) fn standard() -> Line {
    Line {
        reader: Box::new(Pipe(Stream(io::stdin()))),
        writer: Box::new(Pipe(PlainWriter(io::stdout()))),
        program: None,
    }
}

/// One end of a pipe, which nobody waits for longer than a moment.
struct Pipe<T>(T);

/// Whether a pipe can be read or written without waiting.
fn is_ready(pipe: &impl AsFd, what: PollFlags) -> io::Result<bool> {
    let mut wanted = [PollFd::new(pipe.as_fd(), what)];
    match poll(&mut wanted, PollTimeout::from(PIPE)) {
        Ok(count) => Ok(count > 0),
        Err(nix::errno::Errno::EINTR) => Ok(false),
        Err(error) => Err(error.into()),
    }
}

impl<R: Read + AsFd + Send> Source for Pipe<Stream<R>> {
    fn next(&mut self, room: &mut [u8]) -> io::Result<LineRead> {
        if is_ready(&self.0.0, PollFlags::POLLIN)? { self.0.next(room) } else { Ok(LineRead::Nothing) }
    }
}

impl<W: Write + AsFd> Write for Pipe<PlainWriter<W>> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if !is_ready(&self.0.0, PollFlags::POLLOUT)? {
            return Err(io::Error::other("whoever reads it does not read"));
        }
        let written = self.0.write(&bytes[..bytes.len().min(PIPE_ROOM)])?;
        self.0.flush()?;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl<W: Write + AsFd + Send> Target for Pipe<PlainWriter<W>> {}
