//! Receivers: every byte in exactly one place, whatever comes in and in whatever pieces.

use std::ops::Range;
use std::sync::{Arc, LazyLock};

use emberwort_model::{Plan, Source, check};
use emberwort_wire::receiver::{BodyReader, Requests};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Header, Receiver};
use proptest::prelude::*;

static PLAN: LazyLock<Arc<Plan>> = LazyLock::new(|| {
    let text = "link two { revision 1  byte_order little }
        channel sync {
            medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync  C6 39
                kind  : u8 message
                count : u8 sequence
                size  : u8 length of body
                body
                check : u16 crc-16/ibm-3740 over kind..body
            }
        }
        channel cobs {
            medium uart 9600 8N1
            stuffing cobs
            limit 40 bytes
            frame {
                kind  : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over kind..body
            }
        }
        channel packets {
            medium udp 4000
            packet
            limit 40 bytes
            frame { kind : u8 message
                    body }
        }
        message Level { id 1  from device  on sync, cobs, packets
            depth : u16
            note : text[..20] }
        message Ping { id 2  from host  on sync, cobs, packets }";
    let checked = check(&Source::new("two.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
});

#[derive(Clone, Debug, PartialEq)]
enum Event {
    Good(Range<u64>, u64, Vec<u8>),
    Broken(Range<u64>, FrameFault, Vec<u8>),
    Stray(Range<u64>, Vec<u8>),
}

impl Event {
    fn range(&self) -> &Range<u64> {
        let (Event::Good(range, ..) | Event::Broken(range, ..) | Event::Stray(range, _)) = self;
        range
    }

    fn wire(&self) -> &[u8] {
        let (Event::Good(_, _, wire) | Event::Broken(_, _, wire) | Event::Stray(_, wire)) = self;
        wire
    }
}

struct Log {
    reader: BodyReader,
    events: Vec<Event>,
}

impl FrameSink for Log {
    fn judge(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.events.push(Event::Good(at, frame.sequence.unwrap_or(0), wire.to_vec()));
    }
    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.events.push(Event::Broken(at, *fault, wire.to_vec()));
    }
    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        self.events.push(Event::Stray(at, wire.to_vec()));
    }
}

fn receive<'a>(channel: usize, chunks: impl IntoIterator<Item = &'a [u8]>) -> Vec<Event> {
    let framing = Arc::new(Framing::new(Arc::new(PLAN.channels[channel].clone())));
    let mut receiver = Receiver::new(framing);
    let mut log = Log { reader: BodyReader::new(PLAN.clone(), channel, None), events: Vec::new() };
    for chunk in chunks {
        receiver.feed(chunk, &mut log);
    }
    receiver.finish(&mut log);
    log.events
}

/// A frame of one of the two messages; `count` is its sequence number.
fn frame(channel: usize, count: u8, note: &[u8]) -> Vec<u8> {
    let framing = Framing::new(Arc::new(PLAN.channels[channel].clone()));
    let mut out = Vec::new();
    let (key, body) =
        if note.is_empty() { (2, Vec::new()) } else { (1, [&[count, 0, note.len() as u8][..], note].concat()) };
    framing.encode(&Header { key, sequence: count.into(), ..Header::default() }, &body, &mut out).unwrap();
    out
}

/// Pieces of a stream: good frames, cut or damaged frames, garbage that likes to look like a frame's beginning.
#[derive(Clone, Debug)]
enum Piece {
    Frame(Vec<u8>),
    Cut(Vec<u8>, prop::sample::Index),
    Damaged(Vec<u8>, prop::sample::Index, u8),
    Garbage(Vec<u8>),
}

fn note() -> impl Strategy<Value = Vec<u8>> {
    prop_oneof![
        Just(Vec::new()),
        proptest::collection::vec(prop_oneof![Just(0xC6u8), Just(0x39), Just(0), any::<u8>()], 1..20),
    ]
}

fn pieces() -> impl Strategy<Value = Vec<Piece>> {
    let garbage = prop_oneof![Just(0xC6u8), Just(0x39), Just(0), Just(1), any::<u8>()];
    let piece = prop_oneof![
        4 => note().prop_map(Piece::Frame),
        1 => (note(), any::<prop::sample::Index>()).prop_map(|(note, at)| Piece::Cut(note, at)),
        1 => (note(), any::<prop::sample::Index>(), 1u8..).prop_map(|(note, at, flip)| Piece::Damaged(note, at, flip)),
        2 => proptest::collection::vec(garbage, 0..120).prop_map(Piece::Garbage),
    ];
    proptest::collection::vec(piece, 0..12)
}

fn stream(channel: usize, pieces: &[Piece]) -> Vec<u8> {
    let mut out = Vec::new();
    for (count, piece) in pieces.iter().enumerate() {
        let count = count as u8;
        match piece {
            Piece::Frame(note) => out.extend(frame(channel, count, note)),
            Piece::Cut(note, at) => {
                let whole = frame(channel, count, note);
                out.extend(&whole[..at.index(whole.len())]);
            }
            Piece::Damaged(note, at, flip) => {
                let mut whole = frame(channel, count, note);
                let at = at.index(whole.len());
                whole[at] ^= flip;
                out.extend(whole);
            }
            Piece::Garbage(bytes) => out.extend(bytes),
        }
    }
    out
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn every_byte_is_in_exactly_one_place(pieces in pieces(), channel in 0usize..2) {
        let stream = stream(channel, &pieces);
        let mut at = 0u64;
        for event in receive(channel, [&stream[..]]) {
            prop_assert_eq!(event.range().start, at, "events follow each other without gap or overlap");
            at = event.range().end;
            prop_assert_eq!(event.wire(), &stream[event.range().start as usize..at as usize]);
            prop_assert!(event.wire().len() <= 40, "no piece is longer than the limit");
        }
        prop_assert_eq!(at, stream.len() as u64);
    }

    #[test]
    fn the_size_of_the_chunks_makes_no_difference(
        pieces in pieces(), channel in 0usize..2, cuts in proptest::collection::vec(any::<prop::sample::Index>(), 0..20),
    ) {
        let stream = stream(channel, &pieces);
        let whole = receive(channel, [&stream[..]]);
        let mut cuts: Vec<usize> = cuts.iter().map(|cut| cut.index(stream.len() + 1)).collect();
        cuts.extend([0, stream.len()]);
        cuts.sort_unstable();
        let chunks: Vec<&[u8]> = cuts.windows(2).map(|pair| &stream[pair[0]..pair[1]]).collect();
        prop_assert_eq!(&receive(channel, chunks), &whole);
        prop_assert_eq!(&receive(channel, stream.chunks(1)), &whole);
    }

    /// After any damage at most the damaged frames and one more are lost.
    #[test]
    fn good_frames_behind_damage_are_found(
        damage in proptest::collection::vec(any::<u8>(), 0..60),
        at in any::<prop::sample::Index>(),
        drop in 0usize..60,
        notes in proptest::collection::vec(note(), 20..21),
        channel in 0usize..2,
    ) {
        let frames: Vec<Vec<u8>> = notes.iter().enumerate().map(|(n, note)| frame(channel, n as u8, note)).collect();
        let clean: Vec<u8> = frames.concat();
        // Some bytes in the first half are replaced by others.
        let begin = at.index(clean.len() / 2);
        let end = begin + drop.min(clean.len() / 2 - begin);
        let stream = [&clean[..begin], &damage, &clean[end..]].concat();
        let good: Vec<u64> = receive(channel, [&stream[..]])
            .into_iter()
            .filter_map(|event| match event { Event::Good(_, count, wire) if frames.contains(&wire) => Some(count), _ => None })
            .collect();
        // Frames that lie wholly outside the damaged stretch.
        let mut offset = 0;
        let mut untouched = Vec::new();
        for (n, frame) in frames.iter().enumerate() {
            if offset + frame.len() <= begin || offset >= end {
                untouched.push(n as u64);
            }
            offset += frame.len();
        }
        let lost: Vec<u64> = untouched.iter().copied().filter(|n| !good.contains(n)).collect();
        prop_assert!(lost.len() <= 1, "lost {lost:?} of the untouched {untouched:?}");
    }
}

#[test]
fn a_good_frame_inside_the_claimed_length_of_a_false_one_is_found() {
    // C6 39, kind 1, count 0, size 20: claims 27 bytes, but a real frame of 12 bytes follows at once.
    let false_start = [0xC6, 0x39, 1, 0, 20];
    let real = frame(0, 7, b"ab");
    let next = frame(0, 8, b"cd");
    let stream = [&false_start[..], &real, &next, &[0x55; 30]].concat();
    let events = receive(0, [&stream[..]]);
    let goods: Vec<_> = events.iter().filter(|event| matches!(event, Event::Good(..))).collect();
    assert_eq!(goods.len(), 2);
    assert!(matches!(&events[0], Event::Broken(range, FrameFault::Checksum { .. }, _) if *range == (0..5)));
    assert_eq!(events[1].range(), &(5..17));
}

#[test]
fn each_reason_is_told_with_its_numbers() {
    let fault = |channel, stream: &[u8]| match receive(channel, [stream]).as_slice() {
        [Event::Broken(_, fault, _)] => *fault,
        other => panic!("{other:?}"),
    };
    let mut wrong = frame(0, 1, b"abc");
    let last = wrong.len() - 1;
    wrong[last] ^= 1;
    assert_eq!(fault(0, &wrong).reason(), "checksum");
    assert_eq!(fault(0, &frame(0, 1, b"abc")[..9]), FrameFault::Truncated { length: 9, needed: 13 });
    assert_eq!(fault(0, &[0xC6, 0x39, 1, 0, 200]), FrameFault::Length { length: 207, least: 7, greatest: 40 });
    let framing = Framing::new(Arc::new(PLAN.channels[0].clone()));
    let mut unknown = Vec::new();
    framing.encode(&Header { key: 9, ..Header::default() }, &[], &mut unknown).unwrap();
    assert_eq!(fault(0, &unknown), FrameFault::UnknownMessage { key: 9 });
    let mut short = Vec::new();
    framing.encode(&Header { key: 1, ..Header::default() }, &[1], &mut short).unwrap();
    assert_eq!(fault(0, &short).reason(), "body");
    assert_eq!(fault(1, &[5, 1, 2, 0]), FrameFault::Stuffing { at: 0 });
    assert_eq!(fault(1, &[3, 1, 2]), FrameFault::Truncated { length: 3, needed: 4 });
    assert_eq!(fault(2, &[1, 0]).reason(), "body");
    assert_eq!(fault(2, &[1; 41]), FrameFault::Length { length: 41, least: 1, greatest: 40 });
}

#[test]
fn an_overlong_stretch_without_delimiter_is_broken_once_and_then_stray() {
    let stream = [&[7u8; 100][..], &[0], &frame(1, 3, b"xy")].concat();
    let events = receive(1, [&stream[..]]);
    assert!(matches!(&events[0], Event::Broken(range, FrameFault::Length { .. }, _) if *range == (0..40)));
    assert!(matches!(&events[1], Event::Stray(range, _) if *range == (40..80)));
    assert!(matches!(&events[2], Event::Stray(range, _) if *range == (80..101)));
    assert!(matches!(&events[3], Event::Good(range, 3, _) if range.start == 101));
    assert_eq!(events.len(), 4);
}

#[test]
fn delimiters_between_frames_are_stray() {
    let stream = [&[0u8, 0][..], &frame(1, 1, b""), &[0], &frame(1, 2, b"")].concat();
    let kinds: Vec<&str> = receive(1, [&stream[..]])
        .iter()
        .map(|event| match event {
            Event::Good(..) => "good",
            Event::Broken(..) => "broken",
            Event::Stray(..) => "stray",
        })
        .collect();
    assert_eq!(kinds, ["stray", "good", "stray", "good"]);
}
