//! The streams of TCP connections from their segments (RFC 9293): out of order, sent again, with gaps where a capture lacks some.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::net::IpAddr;
use std::ops::ControlFlow;

use emberwort_wire::Time;

/// So many streams are followed at once; the one that was quiet for longest is ended for one more.
const MAX_STREAMS: usize = 4096;

/// So many bytes of memory a stream takes at most for what waits for bytes in front of it.
const MAX_WAITING: usize = 16 << 20;

/// So many bytes of memory all streams together take for that.
const MAX_ALL_WAITING: usize = 64 << 20;

/// So many bytes of memory a segment that waits takes beside its own.
const OVERHEAD: usize = 96;

/// So many bytes of a stream are kept that went on last, to be compared with what is sent again.
const RECENT: usize = 1 << 16;

/// So many of all streams together.
const ALL_RECENT: usize = 32 << 20;

/// So many gaps of a stream are remembered.
const MAX_GAPS: usize = 256;

/// One direction of a connection: who sends, and to whom.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Flow {
    /// The sender's address and port.
    pub from: (IpAddr, u16),
    /// The receiver's.
    pub to: (IpAddr, u16),
}

impl Flow {
    fn back(self) -> Self {
        Self { from: self.to, to: self.from }
    }
}

/// A segment.
#[derive(Clone, Copy, Debug)]
pub struct Segment<'a> {
    /// Which way it goes.
    pub flow: Flow,
    /// The number of its first byte.
    pub sequence: u32,
    /// The number of the byte that its sender waits for, if it says it.
    pub acknowledged: Option<u32>,
    /// Whether it begins the stream.
    pub begins: bool,
    /// Whether it ends it.
    pub ends: bool,
    /// Its bytes.
    pub bytes: &'a [u8],
}

impl<'a> Segment<'a> {
    /// Reads one; `None` if it is cut.
    pub fn read(source: IpAddr, destination: IpAddr, payload: &'a [u8]) -> Option<Self> {
        let head: &[u8; 20] = payload.first_chunk()?;
        let port = |at: usize| u16::from_be_bytes([head[at], head[at + 1]]);
        let number = |at: usize| u32::from_be_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        let flags = head[13];
        let (finishes, begins, resets, acknowledges) =
            (flags & 1 != 0, flags & 2 != 0, flags & 4 != 0, flags & 16 != 0);
        Some(Self {
            flow: Flow { from: (source, port(0)), to: (destination, port(2)) },
            sequence: number(4),
            acknowledged: acknowledges.then(|| number(8)),
            begins,
            ends: finishes || resets,
            bytes: payload.get(usize::from(head[12] >> 4) * 4..)?,
        })
    }
}

/// What comes of a stream.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Event<'a> {
    /// The next bytes, and when the packet came that had them.
    Bytes(Option<Time>, &'a [u8]),
    /// So many bytes are not in the capture; what comes next does not follow what came before.
    Gap(u64),
    /// Nothing more comes.
    End,
}

#[derive(Debug)]
struct Stream {
    /// The number of the byte that comes next.
    next: u32,
    /// What came too early, by how far it lies behind `next` as that was at the start.
    waiting: BTreeMap<u64, (Option<Time>, Vec<u8>)>,
    waiting_bytes: usize,
    /// How many bytes went on so far.
    position: u64,
    /// Number of the segment that came last.
    last: u64,
    /// Where it ends, if that is known.
    end: Option<u64>,
    /// The bytes that went on last.
    recent: VecDeque<u8>,
    /// Stretches that were given up, the last ones of them.
    given_up: VecDeque<(u64, u64)>,
}

/// How many segments, and how many bytes.
pub(crate) type Amount = (u64, u64);

/// All streams of a capture.
#[derive(Debug, Default)]
pub struct Streams {
    streams: HashMap<Flow, Stream>,
    segments: u64,
    /// Bytes that wait in all streams.
    waiting: usize,
    /// Segments of which all bytes had come before.
    pub repeated: u64,
    /// Gaps, and the bytes that lack in them.
    pub gaps: (u64, u64),
    /// Segments that came after their place had been given up, or was never asked for, and their bytes that went nowhere.
    pub late: Amount,
    /// Segments that were sent again with other bytes, and how many bytes differ; of each, one went on.
    pub differing: Amount,
    /// Bytes that are kept in all streams.
    recent: usize,
}

impl Streams {
    /// Takes a segment, and tells what comes of the streams of its connection, in order.
    pub fn add(
        &mut self,
        segment: &Segment<'_>,
        time: Option<Time>,
        tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        self.segments += 1;
        if segment.begins && self.streams.contains_key(&segment.flow) {
            // The same ports again.
            self.end(segment.flow, tell)?;
        }
        // What the other side has, this one will not send again.
        if let Some(acknowledged) = segment.acknowledged {
            self.catch_up(segment.flow.back(), acknowledged, tell)?;
        }
        if !self.streams.contains_key(&segment.flow) {
            if segment.bytes.is_empty() && !segment.begins {
                return ControlFlow::Continue(());
            }
            self.make_room(tell)?;
            let next = segment.sequence.wrapping_add(u32::from(segment.begins));
            let stream = Stream {
                next,
                waiting: BTreeMap::new(),
                waiting_bytes: 0,
                position: 0,
                last: self.segments,
                end: None,
                recent: VecDeque::new(),
                given_up: VecDeque::new(),
            };
            self.streams.insert(segment.flow, stream);
        }
        let Some(stream) = self.streams.get_mut(&segment.flow) else { return ControlFlow::Continue(()) };
        stream.last = self.segments;
        let first = segment.sequence.wrapping_add(u32::from(segment.begins));
        // How far it lies ahead: less than half of all numbers, or it lies behind.
        let ahead = i64::from(first.wrapping_sub(stream.next) as i32);
        // Somebody who asks whether the other is still there sends the byte before the next once more, whatever it is (RFC 9293, 3.8.4).
        if segment.bytes.len() == 1 && ahead == -1 && !segment.ends {
            return ControlFlow::Continue(());
        }
        let (at, bytes) = match usize::try_from(-ahead) {
            Ok(known) => {
                let (known, new) = segment.bytes.split_at(known.min(segment.bytes.len()));
                let found = stream.known(stream.position as i64 + ahead, known);
                self.repeated += u64::from(found.late == 0 && new.is_empty() && !known.is_empty());
                note(&mut self.late, found.late);
                note(&mut self.differing, found.differing);
                (stream.position, new)
            }
            Err(_) => (stream.position + ahead as u64, segment.bytes),
        };
        if segment.ends {
            stream.end = Some(at + bytes.len() as u64);
        }
        if !bytes.is_empty() {
            if at == stream.position {
                stream.take(bytes, &mut self.recent);
                tell(segment.flow, Event::Bytes(time, bytes))?;
            } else {
                let waits = stream.waiting.get_mut(&at);
                let known = waits.as_ref().map_or(0, |(_, known)| known.len());
                let memory = if waits.is_some() { 0 } else { OVERHEAD };
                if let Some((_, first)) = &waits {
                    note(&mut self.differing, differing(first.iter(), bytes));
                }
                let more = bytes.get(known..).unwrap_or_default();
                match waits {
                    Some((_, known)) => known.extend_from_slice(more),
                    None => {
                        stream.waiting.insert(at, (time, bytes.to_vec()));
                    }
                }
                stream.waiting_bytes += memory + more.len();
                self.waiting += memory + more.len();
            }
        }
        self.go_on(segment.flow, tell)
    }

    /// Hands on what follows now; ends the stream if that was all.
    fn go_on(&mut self, flow: Flow, tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let Some(stream) = self.streams.get_mut(&flow) else { return ControlFlow::Continue(()) };
        while let Some((at, _)) = stream.waiting.first_key_value() {
            if *at > stream.position {
                if stream.waiting_bytes <= MAX_WAITING && self.waiting <= MAX_ALL_WAITING {
                    break;
                }
                let lacking = *at - stream.position;
                self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
                stream.skip(lacking, &mut self.recent);
                tell(flow, Event::Gap(lacking))?;
                continue;
            }
            let Some((at, (time, bytes))) = stream.waiting.pop_first() else { break };
            stream.waiting_bytes -= OVERHEAD + bytes.len();
            self.waiting -= OVERHEAD + bytes.len();
            let (known, new) = bytes.split_at(bytes.len().min((stream.position - at) as usize));
            let found = stream.known(at as i64, known);
            note(&mut self.late, found.late);
            note(&mut self.differing, found.differing);
            if new.is_empty() {
                self.repeated += 1;
            } else {
                stream.take(new, &mut self.recent);
                tell(flow, Event::Bytes(time, new))?;
            }
        }
        if stream.end.is_some_and(|end| end <= stream.position) {
            // What lies behind the end is none of it.
            self.remove(flow);
            return tell(flow, Event::End);
        }
        ControlFlow::Continue(())
    }

    /// The receiver of a stream has all bytes up to a number: those that did not come before are not in the capture.
    fn catch_up(
        &mut self,
        flow: Flow,
        acknowledged: u32,
        tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let Some(stream) = self.streams.get_mut(&flow) else { return ControlFlow::Continue(()) };
        let ahead = i64::from(acknowledged.wrapping_sub(stream.next) as i32);
        let Some((first, _)) = stream.waiting.first_key_value() else { return ControlFlow::Continue(()) };
        let lacking = first.saturating_sub(stream.position);
        if lacking == 0 || ahead < lacking as i64 {
            return ControlFlow::Continue(());
        }
        self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
        stream.skip(lacking, &mut self.recent);
        tell(flow, Event::Gap(lacking))?;
        self.go_on(flow, tell)
    }

    /// Follows a stream no longer.
    fn remove(&mut self, flow: Flow) {
        if let Some(stream) = self.streams.remove(&flow) {
            self.waiting -= stream.waiting_bytes;
            self.recent -= stream.recent.len();
        }
    }

    fn make_room(&mut self, tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        if self.streams.len() < MAX_STREAMS {
            return ControlFlow::Continue(());
        }
        let quietest = self.streams.iter().min_by_key(|(_, stream)| stream.last).map(|(way, _)| *way);
        match quietest {
            Some(way) => self.end(way, tell),
            None => ControlFlow::Continue(()),
        }
    }

    /// Ends a stream with all that waits in it.
    fn end(&mut self, flow: Flow, tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        while let Some(stream) = self.streams.get_mut(&flow) {
            let Some((first, _)) = stream.waiting.first_key_value() else {
                self.remove(flow);
                return tell(flow, Event::End);
            };
            let lacking = first.saturating_sub(stream.position);
            if lacking > 0 {
                self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
                stream.skip(lacking, &mut self.recent);
                tell(flow, Event::Gap(lacking))?;
            }
            self.go_on(flow, tell)?;
        }
        ControlFlow::Continue(())
    }

    /// Nothing more comes: what waits is handed on behind its gaps.
    pub fn finish(&mut self, tell: &mut impl FnMut(Flow, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let mut ways: Vec<(u64, Flow)> = self.streams.iter().map(|(way, stream)| (stream.last, *way)).collect();
        ways.sort_unstable();
        for (_, way) in ways {
            self.end(way, tell)?;
        }
        ControlFlow::Continue(())
    }
}

/// One more segment with so many bytes of a kind, if there are any.
fn note(amount: &mut Amount, bytes: u64) {
    if bytes > 0 {
        *amount = (amount.0 + 1, amount.1 + bytes);
    }
}

/// How many bytes differ of those that both have.
fn differing<'a>(one: impl Iterator<Item = &'a u8>, other: &[u8]) -> u64 {
    one.zip(other).filter(|(one, other)| one != other).count() as u64
}

/// What bytes are that a stream has gone past: how many went nowhere, and how many differ from those that came first. All others came again.
struct PassedBytes {
    late: u64,
    differing: u64,
}

impl Stream {
    /// Bytes from `at` on, all of them in front of the position; a negative place is one before the stream's beginning.
    fn known(&self, at: i64, bytes: &[u8]) -> PassedBytes {
        let end = at + bytes.len() as i64;
        let inside = |(from, to): (i64, i64)| (end.min(to) - at.max(from)).max(0) as u64;
        let given_up = self.given_up.iter().map(|(from, to)| inside((*from as i64, *to as i64))).sum::<u64>();
        let late = inside((i64::MIN, 0)) + given_up;
        let recent_from = self.position as i64 - self.recent.len() as i64;
        let (skipped, ahead) = ((recent_from - at).max(0) as usize, (at - recent_from).max(0) as usize);
        let other = bytes.get(skipped..).unwrap_or_default();
        PassedBytes { late, differing: differing(self.recent.iter().skip(ahead), other) }
    }

    fn take(&mut self, bytes: &[u8], all_recent: &mut usize) {
        let kept = &bytes[bytes.len().saturating_sub(RECENT)..];
        if *all_recent + kept.len() <= ALL_RECENT {
            let over = (self.recent.len() + kept.len()).saturating_sub(RECENT);
            self.recent.drain(..over);
            self.recent.extend(kept);
            *all_recent = *all_recent + kept.len() - over;
        } else {
            self.forget(all_recent);
        }
        self.go_on(bytes.len() as u64);
    }

    fn skip(&mut self, bytes: u64, all_recent: &mut usize) {
        self.forget(all_recent);
        if self.given_up.len() == MAX_GAPS {
            self.given_up.pop_front();
        }
        self.given_up.push_back((self.position, self.position + bytes));
        self.go_on(bytes);
    }

    fn forget(&mut self, all_recent: &mut usize) {
        *all_recent -= self.recent.len();
        self.recent.clear();
    }

    fn go_on(&mut self, bytes: u64) {
        self.next = self.next.wrapping_add(bytes as u32);
        self.position += bytes;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const WAY: Flow = Flow {
        from: (IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 10)), 4001),
        to: (IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 1)), 40_000),
    };

    fn segment(sequence: u32, bytes: &[u8]) -> Segment<'_> {
        Segment { flow: WAY, sequence, acknowledged: None, begins: false, ends: false, bytes }
    }

    /// What comes of some segments: bytes that follow each other together, between gaps.
    fn outcome(segments: &[Segment<'_>]) -> (Vec<Vec<u8>>, Streams) {
        let mut streams = Streams::default();
        let mut come = vec![Vec::new()];
        let mut tell = |_: Flow, event: Event<'_>| {
            match event {
                Event::Bytes(_, bytes) => come.last_mut().unwrap().extend_from_slice(bytes),
                Event::Gap(_) => come.push(Vec::new()),
                Event::End => {}
            }
            ControlFlow::Continue(())
        };
        for segment in segments {
            assert!(streams.add(segment, None, &mut tell).is_continue());
        }
        assert!(streams.finish(&mut tell).is_continue());
        (come, streams)
    }

    #[test]
    fn what_is_sent_again_comes_once() {
        let start = Segment { begins: true, ..segment(0xFFFF_FFFD, b"") };
        let (bytes, streams) = outcome(&[
            start,
            segment(0xFFFF_FFFE, b"abc"),
            segment(0xFFFF_FFFE, b"abc"),
            segment(0, b"cdef"),
            segment(4, b"g"),
        ]);
        assert_eq!(bytes, [b"abcdefg"], "numbers begin again at zero");
        assert_eq!((streams.repeated, streams.gaps), (1, (0, 0)));
    }

    #[test]
    fn a_gap_is_told_when_the_other_side_has_what_lacks() {
        let start = Segment { begins: true, ..segment(99, b"") };
        let acknowledged = Segment { flow: WAY.back(), acknowledged: Some(109), ..segment(5, b"") };
        let (bytes, streams) =
            outcome(&[start, segment(100, b"abc"), segment(106, b"xyz"), acknowledged, segment(109, b"!")]);
        assert_eq!(bytes, [b"abc".to_vec(), b"xyz!".to_vec()]);
        assert_eq!(streams.gaps, (1, 3));
        // Without its word the capture may still have it.
        let (bytes, _) = outcome(&[start, segment(100, b"abc"), segment(106, b"xyz"), segment(103, b"def")]);
        assert_eq!(bytes, [b"abcdefxyz"]);
        let (bytes, _) = outcome(&[start, segment(100, b"abc"), segment(106, b"xyz")]);
        assert_eq!(bytes, [b"abc".to_vec(), b"xyz".to_vec()]);
    }

    /// A capture that was written by several cores, or sorted by something else than time, has all bytes all the same.
    #[test]
    fn fifty_thousand_segments_come_in_any_order() {
        let scattered = |n: u32| n.wrapping_mul(2_654_435_761) >> 8;
        let data: Vec<u8> = (0..1_100_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
        let mut cuts = vec![0];
        while cuts.len() <= 50_000 {
            cuts.push(cuts[cuts.len() - 1] + 1 + scattered(cuts.len() as u32) as usize % 40);
        }
        let all: Vec<_> = cuts.windows(2).map(|cut| segment(cut[0] as u32, &data[cut[0]..cut[1]])).collect();
        let start = Segment { begins: true, ..segment(u32::MAX, b"") };
        let mut shuffled = all.clone();
        shuffled.sort_by_key(|segment| scattered(segment.sequence));
        let reversed: Vec<_> = all.iter().rev().copied().collect();
        for order in [all, reversed, shuffled] {
            let (bytes, streams) = outcome(&[&[start][..], &order].concat());
            assert!(bytes.len() == 1 && bytes[0] == data[..cuts[50_000]]);
            assert_eq!((streams.gaps, streams.late, streams.repeated, streams.waiting), ((0, 0), (0, 0), 0, 0));
        }
    }

    #[test]
    fn what_comes_too_late_or_with_other_bytes_is_counted() {
        let start = Segment { begins: true, ..segment(99, b"") };
        let acknowledged = Segment { flow: WAY.back(), acknowledged: Some(109), ..segment(5, b"") };
        // 103 to 105 are given up, and come after that.
        let (bytes, streams) =
            outcome(&[start, segment(100, b"abc"), segment(106, b"xyz"), acknowledged, segment(102, b"cdefx")]);
        assert_eq!(bytes, [b"abc".to_vec(), b"xyz".to_vec()]);
        assert_eq!((streams.gaps, streams.late, streams.differing), ((1, 3), (1, 3), (0, 0)));
        // Sent again with other bytes: as it was taken, as it waits, and over both; and whether the other side is there.
        let (bytes, streams) = outcome(&[
            start,
            segment(100, b"abc"),
            segment(101, b"Xc"),
            segment(102, b"?"),
            segment(106, b"xyz"),
            segment(106, b"xYz!"),
            segment(102, b"CdefX"),
        ]);
        // Of two segments that wait, or came at once, the one with the earlier place goes on.
        assert_eq!(bytes, [b"abcdefXyz!"]);
        assert_eq!((streams.gaps, streams.late, streams.differing), ((0, 0), (0, 0), (4, 4)));
        // What lies before the first segment of a capture that begins in the middle.
        let (bytes, streams) = outcome(&[segment(100, b"abc"), segment(95, b"vwxyzab"), segment(103, b"d")]);
        assert_eq!((bytes, streams.late), (vec![b"abcd".to_vec()], (1, 5)));
    }

    proptest! {
        #[test]
        fn segments_in_any_order_give_the_stream(
            data in proptest::collection::vec(any::<u8>(), 1..300),
            cuts in proptest::collection::vec((0usize..300, 1usize..40), 1..60),
            first in any::<u32>(),
        ) {
            let start = Segment { begins: true, ..segment(first.wrapping_sub(1), b"") };
            let mut segments = vec![start];
            let mut has = vec![false; data.len()];
            for (at, length) in cuts {
                let (at, end) = (at.min(data.len() - 1), (at + length).min(data.len()));
                if at < end {
                    has[at..end].fill(true);
                    segments.push(segment(first.wrapping_add(at as u32), &data[at..end]));
                }
            }
            // Stretches of bytes that some segment has.
            let mut expected: Vec<Vec<u8>> = vec![Vec::new()];
            let mut lacking = (0, 0);
            for (n, byte) in data.iter().enumerate().take(has.iter().rposition(|has| *has).map_or(0, |last| last + 1)) {
                if has[n] {
                    expected.last_mut().unwrap().push(*byte);
                } else {
                    lacking.1 += 1;
                    if n == 0 || has[n - 1] {
                        lacking.0 += 1;
                        expected.push(Vec::new());
                    }
                }
            }
            let (bytes, streams) = outcome(&segments);
            prop_assert_eq!(bytes, expected);
            prop_assert_eq!(streams.gaps, lacking);
        }
    }

    #[test]
    fn what_is_no_longer_followed_takes_no_memory() {
        let mut streams = Streams::default();
        let mut ended = Vec::new();
        let mut tell = |flow: Flow, event: Event<'_>| {
            if event == Event::End {
                ended.push(flow);
            }
            ControlFlow::Continue(())
        };
        let way = |port: u16| Flow { from: (WAY.from.0, port), to: WAY.to };
        // One more than are followed at once, each with bytes, and some that wait for others.
        for port in 0..=MAX_STREAMS as u16 {
            for (sequence, bytes) in [(1, b"abc"), (10, b"xyz")] {
                let segment = Segment { flow: way(port), ..segment(sequence, bytes) };
                assert!(streams.add(&segment, None, &mut tell).is_continue());
            }
            assert!(streams.streams.len() <= MAX_STREAMS);
        }
        assert_eq!(streams.streams.len(), MAX_STREAMS);
        let each = OVERHEAD + 3;
        assert_eq!(streams.waiting, MAX_STREAMS * each);
        assert!(streams.finish(&mut tell).is_continue());
        assert_eq!(ended.len(), MAX_STREAMS + 1);
        // The one that was quiet for longest made room.
        assert_eq!(ended[0], way(0));
        assert_eq!((streams.streams.len(), streams.waiting, streams.recent), (0, 0, 0));
    }
}
