//! A program whose standard input and output are the line.

use std::io;
use std::process::{Command, Stdio};

use crate::line::{Line, Out, Stream};

/// Starts a program; its standard error stays where ours is.
pub(crate) fn start(words: &[String]) -> io::Result<Line> {
    let Some((program, arguments)) = words.split_first() else { return Err(io::ErrorKind::InvalidInput.into()) };
    let mut child = Command::new(program).args(arguments).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
    let (Some(input), Some(output)) = (child.stdin.take(), child.stdout.take()) else {
        return Err(io::Error::other("it has no standard input and output"));
    };
    // Nobody asks how it ended, but somebody has to fetch it.
    std::thread::spawn(move || child.wait());
    Ok(Line { reader: Box::new(Stream(output)), writer: Box::new(Out(input)) })
}

/// Standard input and output of this program.
pub(crate) fn standard() -> Line {
    Line { reader: Box::new(Stream(io::stdin())), writer: Box::new(Out(io::stdout())) }
}
