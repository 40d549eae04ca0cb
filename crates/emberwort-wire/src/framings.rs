//! The framings that a receiver looks for: that of all frames, or those of both ends where the two send different ones and
//! nobody said which end sent the bytes.

use std::sync::Arc;

use emberwort_model::model::End;
use emberwort_model::plan::Direction;

use crate::frame::{FrameFault, FrameView, Framing};
use crate::sink::FrameSink;

/// What is found of a whole frame.
pub(crate) enum Checked<'a> {
    Good(FrameView<'a>),
    /// Framing and checksums are right, but the body cannot be read.
    Unread(FrameView<'a>, FrameFault),
    Broken(FrameFault),
}

impl Checked<'_> {
    /// How much of a frame it is; of two readings the one with more counts.
    fn rank(&self) -> u8 {
        match self {
            Self::Good(_) => 5,
            Self::Unread(_, FrameFault::Body { .. }) => 4,
            Self::Unread(..) => 3,
            Self::Broken(FrameFault::Checksum { .. }) => 2,
            Self::Broken(FrameFault::Truncated { .. }) => 1,
            Self::Broken(_) => 0,
        }
    }
}

/// One framing, or those of both ends.
#[derive(Clone, Debug)]
pub(crate) struct Framings {
    /// That of all frames, or of those from the device.
    pub own: Arc<Framing>,
    /// That of frames from the host, where either end may have sent the bytes.
    pub host: Option<Arc<Framing>>,
}

impl Framings {
    /// How many bytes at the front belong to no frame, since none begins in them; 0 where frames begin without sync bytes. The last ones may be
    /// the beginning of sync bytes.
    pub(crate) fn noise_before_sync(&self, bytes: &[u8]) -> usize {
        let all = [Some(&self.own), self.host.as_ref()];
        let syncs = || all.into_iter().flatten().map(|framing| &framing.plan().sync);
        let longest = syncs().map(Vec::len).max().unwrap_or(0);
        let found = syncs().filter_map(|sync| memchr::memmem::find(bytes, sync)).min();
        found.unwrap_or_else(|| (bytes.len() + 1).saturating_sub(longest))
    }

    /// Where sync bytes stand behind the first byte.
    pub(crate) fn later_sync(&self, bytes: &[u8]) -> Option<usize> {
        let all = [Some(&self.own), self.host.as_ref()];
        if all.into_iter().flatten().any(|framing| framing.plan().sync.is_empty()) {
            return None;
        }
        let rest = bytes.get(1..)?;
        let places = all.into_iter().flatten().map(|framing| memchr::memmem::find(rest, &framing.plan().sync));
        places.flatten().min().map(|at| at + 1)
    }

    pub fn plan(&self) -> &Direction {
        self.own.plan()
    }

    /// The framing of an end.
    pub fn of(&self, end: End) -> &Framing {
        match (end, &self.host) {
            (End::Host, Some(host)) => host,
            _ => &self.own,
        }
    }

    /// Judges a whole frame, without stuffing and delimiters, and says how it was read.
    #[inline]
    pub fn accept<'a, S: FrameSink + ?Sized>(&self, bytes: &'a [u8], sink: &mut S) -> (End, Checked<'a>) {
        self.accept_by(sink, |framing| framing.check(bytes))
    }

    /// Judges what the framing of either end finds.
    #[inline]
    pub(crate) fn accept_by<'a, S: FrameSink + ?Sized>(
        &self,
        sink: &mut S,
        check: impl Fn(&Framing) -> Result<FrameView<'a>, FrameFault>,
    ) -> (End, Checked<'a>) {
        let Some(host) = &self.host else { return (End::Device, checked_by_sink(check(&self.own), sink)) };
        sink.assume_sender(End::Device);
        let by_device = checked_by_sink(check(&self.own), sink);
        sink.assume_sender(End::Host);
        let by_host = checked_by_sink(check(host), sink);
        choose(by_device, by_host, sink)
    }
}

fn checked_by_sink<'a, S: FrameSink + ?Sized>(found: Result<FrameView<'a>, FrameFault>, sink: &mut S) -> Checked<'a> {
    match found {
        Ok(view) => match sink.accept(&view) {
            Ok(()) => Checked::Good(view),
            Err(fault) => Checked::Unread(view, fault),
        },
        Err(fault) => Checked::Broken(fault),
    }
}

/// Of two readings of the same bytes, the better one; the sink chooses between two good ones.
pub(crate) fn choose<'a, S: FrameSink + ?Sized>(
    by_device: Checked<'a>,
    by_host: Checked<'a>,
    sink: &mut S,
) -> (End, Checked<'a>) {
    let end = match (&by_device, &by_host) {
        (Checked::Good(device), Checked::Good(host)) => sink.choose(device, host),
        (device, host) if host.rank() > device.rank() => End::Host,
        _ => End::Device,
    };
    sink.assume_sender(end);
    (end, if end == End::Host { by_host } else { by_device })
}
