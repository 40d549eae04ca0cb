//! A recording that can be read at any moment.

use std::collections::VecDeque;
use std::fs::{self, File, OpenOptions};
use std::io::{self, Seek, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use anyhow::Context;
use emberwort_capture::Recorder;
use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::{Chunk, Time};

use crate::render::plural;

/// What was recorded is handed to the system at least this often.
const FLUSH_EVERY: u64 = 500_000_000;

/// So many bytes are written at once.
const MUCH: usize = 1 << 16;

/// When a recording goes on in another file, and how much of it is kept.
#[derive(Clone, Copy, Debug, Default)]
pub struct Rotation {
    /// After so many bytes.
    pub size: Option<u64>,
    /// After so long.
    pub every: Option<u64>,
    /// The oldest files go when all together are larger.
    pub keep: Option<u64>,
}

/// A recording in one file, or in several one after the other.
pub struct Recording {
    plan: Arc<Plan>,
    channel: ChannelId,
    out: PathBuf,
    rotation: Rotation,
    file: RecordFile,
    /// When the file began, and which it is.
    began: Time,
    number: u32,
    /// Earlier files, with their sizes.
    earlier: VecDeque<(PathBuf, u64)>,
    /// Files that went.
    pub removed: u32,
}

impl Recording {
    /// A recording of a channel, by index, that begins now.
    pub fn new(
        out: &Path,
        rotation: Rotation,
        plan: &Arc<Plan>,
        channel: ChannelId,
        now: Time,
    ) -> anyhow::Result<Self> {
        let is_split = rotation.size.is_some() || rotation.every.is_some();
        let first = if is_split { numbered(out, 1) } else { out.to_owned() };
        let file = RecordFile::new(&first, Recorder::new(Vec::new(), plan, &[channel])?)?;
        let (plan, out) = (plan.clone(), out.to_owned());
        Ok(Self { plan, channel, out, rotation, file, began: now, number: 1, earlier: VecDeque::new(), removed: 0 })
    }

    /// The file that is written at the moment.
    pub fn path(&self) -> &Path {
        &self.file.path
    }

    /// How many files there are.
    pub fn files(&self) -> usize {
        self.earlier.len() + 1
    }

    /// When [`Recording::flush`] is to be called.
    pub fn flush_at(&self) -> Option<Time> {
        self.file.due
    }

    /// Hands what was collected to the system.
    pub fn flush(&mut self) -> anyhow::Result<()> {
        self.file.flush()
    }

    /// Records a chunk.
    pub fn chunk(&mut self, chunk: &Chunk<'_>) -> anyhow::Result<()> {
        let now = chunk.times.last().unwrap_or_default();
        let is_large = self.rotation.size.is_some_and(|size| self.file.size() >= size);
        let is_old = self.rotation.every.is_some_and(|every| now.since(self.began) >= every);
        if is_large || is_old {
            self.go_on_in_another(now)?;
        }
        self.file.chunk(chunk)
    }

    /// The line was broken off: what an end sends from now on, `None` where nobody knows which, has nothing to do with what came before.
    pub fn begin_new_stream(&mut self, from: Option<End>) -> anyhow::Result<()> {
        Ok(self.file.recorder.begin_new_stream(self.channel, from)?)
    }

    fn go_on_in_another(&mut self, now: Time) -> anyhow::Result<()> {
        self.file.flush()?;
        self.number += 1;
        self.began = now;
        let next = numbered(&self.out, self.number);
        let next = RecordFile::new(&next, Recorder::new(Vec::new(), &self.plan, &[self.channel])?)?;
        let done = std::mem::replace(&mut self.file, next);
        self.earlier.push_back((done.path, done.length));
        let Some(keep) = self.rotation.keep else { return Ok(()) };
        let sum = |files: &VecDeque<(PathBuf, u64)>| files.iter().map(|(_, size)| size).sum::<u64>();
        // The file that begins may become as large as those before.
        let room = keep.saturating_sub(self.rotation.size.unwrap_or(0));
        while sum(&self.earlier) > room
            && let Some((oldest, _)) = self.earlier.pop_front()
        {
            fs::remove_file(&oldest).with_context(|| format!("{} cannot be removed", crate::files::shown(&oldest)))?;
            self.removed += 1;
        }
        Ok(())
    }
}

/// `night.pcapng` becomes `night-0001.pcapng`.
fn numbered(out: &Path, number: u32) -> PathBuf {
    let stem = out.file_stem().unwrap_or_default().to_string_lossy();
    let ending = out.extension().map_or_else(String::new, |ending| format!(".{}", ending.to_string_lossy()));
    out.with_file_name(format!("{stem}-{number:04}{ending}"))
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

    /// Bytes so far, with those that are not written yet.
    fn size(&self) -> u64 {
        self.length + self.recorder.written().len() as u64
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
