//! `record`: what comes through a port, or between two, into a file that can be read at any moment.

use std::fs::{File, OpenOptions};
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use emberwort_capture::Recorder;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::End;
use emberwort_port::{Clock, Events};
use emberwort_wire::{Chunk, Time};

use super::line::{Came, Line, wait};
use super::listen::earliest;
use crate::cli::{RecordArgs, SenderEnd};
use crate::commands::ending::Ending;
use crate::output::{self, Look, say};
use crate::project::load_plan;
use crate::render::plural;

/// What was recorded is handed to the system at least this often.
const FLUSH_EVERY: u64 = 500_000_000;

/// So many bytes are written at once.
const MUCH: usize = 1 << 16;

pub fn run(args: &RecordArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let plan = load_plan(link, look)?;
    output::catch_interrupt();
    let events = Events::new(Clock::new());
    let open = |address, number| Line::open(address, &args.line, &plan, (&events, number));
    // Those who send at each: the device at the first, the host at the second.
    let (mut lines, ends) = match (&args.port, &args.between[..]) {
        (Some(port), _) => {
            let line = open(port, 0)?;
            let from = args.from.map(SenderEnd::end).or(line.hears());
            (vec![line], vec![from])
        }
        (None, [device, host]) => (vec![open(device, 0)?, open(host, 1)?], vec![Some(End::Device), Some(End::Host)]),
        _ => bail!("name a port, or two with --between"),
    };
    let channel = lines[0].channel;
    let mut file = RecordFile::new(&args.out, Recorder::new(Vec::new(), &plan, &[channel])?)?;
    let end = args.lasting.map(|lasting| events.clock().now().after(lasting));
    let mut counts = vec![0u64; lines.len()];
    // Bytes that came while nobody was at the other port.
    let mut unheard = [0u64; 2];
    let mut not_passed: Option<String> = None;
    loop {
        let all: Vec<&Line> = lines.iter().collect();
        match wait(&all, &events, earliest(end, file.flush_at())) {
            Came::Bytes(number, time, bytes) => {
                match lines.get_mut(1 - number).map(|other| other.port.send(&bytes)) {
                    Some(Err(error)) if error.kind() == io::ErrorKind::NotConnected => {
                        unheard[number] += bytes.len() as u64;
                    }
                    Some(Err(error)) if not_passed.is_none() => {
                        let to = escaped(lines[1 - number].port.name());
                        say!("what came is recorded, but cannot be passed on to {to}: {error}");
                        not_passed = Some(to);
                    }
                    _ => {}
                }
                counts[number] += bytes.len() as u64;
                file.chunk(&lines[number].chunk(ends[number], time, &bytes))?;
            }
            Came::Nothing => file.flush()?,
            Came::End => break,
        }
        if end.is_some_and(|end| end <= events.clock().now()) {
            break;
        }
    }
    file.flush()?;
    let shown = crate::files::shown(&args.out);
    let counted: Vec<String> = lines
        .iter()
        .zip(&counts)
        .map(|(line, count)| format!("{} from {}", plural(*count, "byte"), escaped(line.port.name())))
        .collect();
    say!("{} in {shown}", counted.join(", "));
    for (line, count) in lines.iter().rev().zip(unheard).filter(|(_, count)| *count > 0) {
        say!("{} could not be passed on while nobody was at {}", plural(count, "byte"), escaped(line.port.name()));
    }
    Ok(if not_passed.is_some() { Ending::WithFindings } else { Ending::Clean })
}

/// A recording that is whole whenever somebody looks at it: only whole blocks are written, each batch of them at once.
struct RecordFile {
    path: PathBuf,
    file: File,
    recorder: Recorder<Vec<u8>>,
    /// Bytes of the file so far.
    length: u64,
    /// When what was collected has to be written.
    due: Option<Time>,
}

impl RecordFile {
    fn new(path: &Path, recorder: Recorder<Vec<u8>>) -> anyhow::Result<Self> {
        let file = OpenOptions::new().write(true).create_new(true).open(path);
        let file = file.map_err(|error| match error.kind() {
            io::ErrorKind::AlreadyExists => anyhow::anyhow!(
                "{} exists already, and nothing is overwritten\nchoose another name with --out, or move the file away",
                crate::files::shown(path)
            ),
            _ => anyhow::Error::new(error).context(format!("{} cannot be written", crate::files::shown(path))),
        })?;
        let mut made = Self { path: path.to_owned(), file, recorder, length: 0, due: None };
        made.flush()?;
        Ok(made)
    }

    /// When [`RecordFile::flush`] is to be called.
    fn flush_at(&self) -> Option<Time> {
        self.due
    }

    fn chunk(&mut self, chunk: &Chunk<'_>) -> anyhow::Result<()> {
        self.recorder.chunk(chunk)?;
        let now = chunk.times.last();
        if self.due.is_none() {
            self.due = now.map(|now| now.after(FLUSH_EVERY));
        }
        if self.recorder.written().len() >= MUCH || self.due.zip(now).is_some_and(|(due, now)| due <= now) {
            self.flush()?;
        }
        Ok(())
    }

    /// Hands what was collected to the system. If that fails, the file ends with the last block that could be written whole.
    fn flush(&mut self) -> anyhow::Result<()> {
        self.due = None;
        let blocks = self.recorder.take_written();
        if let Err(error) = self.file.write_all(&blocks) {
            let written = self.file.stream_position().unwrap_or(self.length).saturating_sub(self.length);
            self.length += whole_blocks(&blocks, written);
            let _ = self.file.set_len(self.length);
            let shown = crate::files::shown(&self.path);
            let all = plural(self.length, "byte");
            return Err(error)
                .with_context(|| format!("{shown} cannot be written any further; its first {all} are whole"));
        }
        self.length += blocks.len() as u64;
        Ok(())
    }
}

/// How many of the first `written` bytes make whole blocks of a pcapng file. Each says its length in bytes 4 to 7.
fn whole_blocks(blocks: &[u8], written: u64) -> u64 {
    let mut end = 0;
    while let Some(length) = blocks.get(end + 4..).and_then(<[u8]>::first_chunk) {
        let next = end + u32::from_le_bytes(*length) as usize;
        if next as u64 > written {
            break;
        }
        end = next;
    }
    end as u64
}
