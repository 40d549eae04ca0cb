//! The streams of TCP connections from their segments (RFC 9293): out of order, sent again, with gaps where a capture lacks some.

use std::collections::{BTreeMap, HashMap};
use std::net::IpAddr;
use std::ops::ControlFlow;

use emberwort_wire::Time;

/// So many streams are followed at once; the one that was quiet for longest is ended for one more.
const MAX_STREAMS: usize = 4096;

/// So many bytes of a stream wait at most for those in front of them.
const MAX_WAITING: usize = 1 << 20;

/// So many segments of a stream wait at most.
const MAX_SEGMENTS: usize = 4096;

/// So many bytes wait in all streams together.
const MAX_ALL_WAITING: usize = 32 << 20;

/// One direction of a connection: who sends, and to whom.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Way {
    /// The sender's address and port.
    pub from: (IpAddr, u16),
    /// The receiver's.
    pub to: (IpAddr, u16),
}

impl Way {
    fn back(self) -> Self {
        Self { from: self.to, to: self.from }
    }
}

/// A segment.
#[derive(Clone, Copy, Debug)]
pub struct Segment<'a> {
    /// Which way it goes.
    pub way: Way,
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
            way: Way { from: (source, port(0)), to: (destination, port(2)) },
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
}

/// All streams of a capture.
#[derive(Debug, Default)]
pub struct Streams {
    streams: HashMap<Way, Stream>,
    segments: u64,
    /// Bytes that wait in all streams.
    waiting: usize,
    /// Segments of which all bytes had come before.
    pub repeated: u64,
    /// Gaps, and the bytes that lack in them.
    pub gaps: (u64, u64),
}

impl Streams {
    /// Takes a segment, and tells what comes of the streams of its connection, in order.
    pub fn add(
        &mut self,
        segment: &Segment<'_>,
        time: Option<Time>,
        tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        self.segments += 1;
        if segment.begins && self.streams.contains_key(&segment.way) {
            // The same ports again.
            self.end(segment.way, tell)?;
        }
        // What the other side has, this one will not send again.
        if let Some(acknowledged) = segment.acknowledged {
            self.catch_up(segment.way.back(), acknowledged, tell)?;
        }
        if !self.streams.contains_key(&segment.way) {
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
            };
            self.streams.insert(segment.way, stream);
        }
        let Some(stream) = self.streams.get_mut(&segment.way) else { return ControlFlow::Continue(()) };
        stream.last = self.segments;
        let first = segment.sequence.wrapping_add(u32::from(segment.begins));
        // How far it lies ahead: less than half of all numbers, or it lies behind.
        let ahead = i64::from(first.wrapping_sub(stream.next) as i32);
        let (at, bytes) = match usize::try_from(-ahead) {
            Ok(known) => (stream.position, segment.bytes.get(known.min(segment.bytes.len())..).unwrap_or_default()),
            Err(_) => (stream.position + ahead as u64, segment.bytes),
        };
        if bytes.is_empty() && !segment.bytes.is_empty() {
            self.repeated += 1;
        }
        if segment.ends {
            stream.end = Some(at + bytes.len() as u64);
        }
        if !bytes.is_empty() {
            if at == stream.position {
                stream.take(bytes.len());
                tell(segment.way, Event::Bytes(time, bytes))?;
            } else {
                let known = stream.waiting.get(&at).map_or(0, |(_, bytes)| bytes.len());
                if known < bytes.len() {
                    stream.waiting.insert(at, (time, bytes.to_vec()));
                    stream.waiting_bytes += bytes.len() - known;
                    self.waiting += bytes.len() - known;
                }
            }
        }
        self.go_on(segment.way, tell)
    }

    /// Hands on what follows now; ends the stream if that was all.
    fn go_on(&mut self, way: Way, tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let Some(stream) = self.streams.get_mut(&way) else { return ControlFlow::Continue(()) };
        while let Some((at, _)) = stream.waiting.first_key_value() {
            if *at > stream.position {
                let is_much = stream.waiting_bytes > MAX_WAITING || stream.waiting.len() > MAX_SEGMENTS;
                if !is_much && self.waiting <= MAX_ALL_WAITING {
                    break;
                }
                let lacking = *at - stream.position;
                self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
                stream.skip(lacking);
                tell(way, Event::Gap(lacking))?;
                continue;
            }
            let Some((at, (time, bytes))) = stream.waiting.pop_first() else { break };
            stream.waiting_bytes -= bytes.len();
            self.waiting -= bytes.len();
            let known = (stream.position - at) as usize;
            match bytes.get(known..).filter(|new| !new.is_empty()) {
                None => self.repeated += 1,
                Some(new) => {
                    stream.take(new.len());
                    tell(way, Event::Bytes(time, new))?;
                }
            }
        }
        if stream.end.is_some_and(|end| end <= stream.position) {
            // What lies behind the end is none of it.
            self.waiting -= stream.waiting_bytes;
            self.streams.remove(&way);
            return tell(way, Event::End);
        }
        ControlFlow::Continue(())
    }

    /// The receiver of a stream has all bytes up to a number: those that did not come before are not in the capture.
    fn catch_up(
        &mut self,
        way: Way,
        acknowledged: u32,
        tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>,
    ) -> ControlFlow<()> {
        let Some(stream) = self.streams.get_mut(&way) else { return ControlFlow::Continue(()) };
        let ahead = i64::from(acknowledged.wrapping_sub(stream.next) as i32);
        let Some((first, _)) = stream.waiting.first_key_value() else { return ControlFlow::Continue(()) };
        let lacking = first.saturating_sub(stream.position);
        if lacking == 0 || ahead < lacking as i64 {
            return ControlFlow::Continue(());
        }
        self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
        stream.skip(lacking);
        tell(way, Event::Gap(lacking))?;
        self.go_on(way, tell)
    }

    fn make_room(&mut self, tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
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
    fn end(&mut self, way: Way, tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        while let Some(stream) = self.streams.get_mut(&way) {
            let Some((first, _)) = stream.waiting.first_key_value() else {
                self.streams.remove(&way);
                return tell(way, Event::End);
            };
            let lacking = first.saturating_sub(stream.position);
            if lacking > 0 {
                self.gaps = (self.gaps.0 + 1, self.gaps.1 + lacking);
                stream.skip(lacking);
                tell(way, Event::Gap(lacking))?;
            }
            self.go_on(way, tell)?;
        }
        ControlFlow::Continue(())
    }

    /// Nothing more comes: what waits is handed on behind its gaps.
    pub fn finish(&mut self, tell: &mut impl FnMut(Way, Event<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let mut ways: Vec<(u64, Way)> = self.streams.iter().map(|(way, stream)| (stream.last, *way)).collect();
        ways.sort_unstable();
        for (_, way) in ways {
            self.end(way, tell)?;
        }
        ControlFlow::Continue(())
    }
}

impl Stream {
    fn take(&mut self, bytes: usize) {
        self.skip(bytes as u64);
    }

    fn skip(&mut self, bytes: u64) {
        self.next = self.next.wrapping_add(bytes as u32);
        self.position += bytes;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const WAY: Way = Way {
        from: (IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 10)), 4001),
        to: (IpAddr::V4(std::net::Ipv4Addr::new(192, 0, 2, 1)), 40_000),
    };

    fn segment(sequence: u32, bytes: &[u8]) -> Segment<'_> {
        Segment { way: WAY, sequence, acknowledged: None, begins: false, ends: false, bytes }
    }

    /// What comes of some segments: bytes that follow each other together, between gaps.
    fn come(segments: &[Segment<'_>]) -> (Vec<Vec<u8>>, Streams) {
        let mut streams = Streams::default();
        let mut come = vec![Vec::new()];
        let mut tell = |_: Way, event: Event<'_>| {
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
        let (bytes, streams) = come(&[
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
        let acknowledged = Segment { way: WAY.back(), acknowledged: Some(109), ..segment(5, b"") };
        let (bytes, streams) =
            come(&[start, segment(100, b"abc"), segment(106, b"xyz"), acknowledged, segment(109, b"!")]);
        assert_eq!(bytes, [b"abc".to_vec(), b"xyz!".to_vec()]);
        assert_eq!(streams.gaps, (1, 3));
        // Without its word the capture may still have it.
        let (bytes, _) = come(&[start, segment(100, b"abc"), segment(106, b"xyz"), segment(103, b"def")]);
        assert_eq!(bytes, [b"abcdefxyz"]);
        let (bytes, _) = come(&[start, segment(100, b"abc"), segment(106, b"xyz")]);
        assert_eq!(bytes, [b"abc".to_vec(), b"xyz".to_vec()]);
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
            let (bytes, streams) = come(&segments);
            prop_assert_eq!(bytes, expected);
            prop_assert_eq!(streams.gaps, lacking);
        }
    }
}
