//! Text, line by line.

use std::io::{self, BufRead, BufReader, Read};
use std::ops::ControlFlow;

use crate::pieces::{Damage, Outcome, PieceSink};

/// A line that is longer is damage.
pub(crate) const MAX_LINE: usize = 1 << 18;

/// Reads a text to its end, or until somebody finds a line that cannot be read, which is then the damage.
///
/// # Errors
/// Those of the reader.
pub(crate) fn each_line<S: PieceSink + ?Sized>(
    input: impl Read,
    sink: &mut S,
    mut act: impl FnMut(&mut S, &str) -> Result<ControlFlow<()>, String>,
) -> io::Result<Outcome> {
    let mut input = BufReader::with_capacity(1 << 16, input);
    let mut outcome = Outcome::default();
    let mut line = Vec::new();
    loop {
        line.clear();
        if input.buffer().is_empty() {
            sink.pause();
        }
        let count = input.by_ref().take(MAX_LINE as u64).read_until(b'\n', &mut line)?;
        if count == 0 {
            return Ok(outcome);
        }
        let found = match count {
            MAX_LINE => Err(format!("a line is longer than {MAX_LINE} bytes")),
            _ => act(sink, String::from_utf8_lossy(&line).trim_end_matches(['\r', '\n'])),
        };
        match found {
            Ok(flow) => {
                outcome.bytes += count as u64;
                if flow.is_break() {
                    return Ok(outcome);
                }
            }
            Err(reason) => {
                outcome.damage = Some(Damage { offset: outcome.bytes, reason });
                return Ok(outcome);
            }
        }
    }
}
