//! Receivers: every byte in exactly one place, whatever comes in and in whatever pieces.

use std::ops::Range;
use std::sync::{Arc, LazyLock};

use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::{Plan, Source, check};
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::status_bytes::RunningStatus;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed, Header, Receiver};
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
        channel slip { medium uart 9600 8N1
            stuffing slip
            limit 80 bytes
            frame { kind : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over kind..body } }
        channel hdlc { medium uart 9600 8N1
            stuffing hdlc
            limit 80 bytes
            frame { kind : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-sdlc over kind..body } }
        channel escaped { medium uart 9600 8N1
            stuffing escape 7D xor 20 of 7D C6 39
            limit 80 bytes
            frame { sync C6 39
                kind : u8 message
                count : u8 sequence
                size : u8 length of body
                body
                check : u16 crc-16/ibm-3740 over kind..body } }
        channel doubled { medium uart 9600 8N1
            stuffing escape 39 xor 00 of 39
            limit 80 bytes
            frame { sync 39 02
                kind : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over kind..body
                end : u16 be = 0x3903 } }
        channel sized { medium uart 9600 8N1
            limit 40 bytes
            frame { sync C6 39
                kind : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over kind..body } }
        channel quiet { medium uart 9600 8N1
            gap 3.5 characters
            limit 40 bytes
            frame { kind : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over kind..body } }
        channel sentences { medium uart 9600 8N1
            lines crlf
            limit 80 bytes
            frame { sync 24
                count : hex2 sequence
                body
                star : u8 = 0x2A
                check : hex4 crc-16/ibm-3740 over count..star } }
        message Said { from device  on sentences
            line \"S{what}\"
            what : text[..40] }
        channel keys { medium uart 9600 8N1
            status bytes running
            limit 40 bytes
            frame { status : u8 message
                body } }
        message Press { id 0x90 + node 0 .. 15  from device  on keys
            key : u7
            spare 1 bits
            force : u7
            spare 1 bits }
        message Load { id 0xC0 + node 0 .. 15  from device  on keys
            number : u7
            spare 1 bits }
        message Blob { id 0xF0  from device  on keys
            data : bytes[rest] }
        message BlobEnd { id 0xF7  from device  on keys }
        message Clock { id 0xF8  from device  on keys }
        channel follows { medium tcp 4000
            limit 40 bytes
            frame {
                size  : u8 length of body
                twin  : u8 same as size inverted
                kind  : u8 message
                count : u8 sequence
                body
                check : u16 crc-16/ibm-3740 over size..body } }
        channel blocks { medium uart 9600 8N1
            limit 24 bytes
            frame {
                start : u8 = 0x01
                block : u8 message
                turn  : u8 same as block inverted
                body
                check : u16 be crc-16/xmodem over body } }
        message Block { id 7  from device  on blocks
            data : bytes[16] }
        channel marked { medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync  C6 39
                version : u8 = 4
                kind  : u8 message
                count : u8 sequence
                size  : u8 length of body
                flags : u8 = 0x50
                body
                check : u16 crc-16/ibm-3740 over kind..body } }
        channel unchecked { medium uart 9600 8N1
            limit 40 bytes
            frame {
                sync  C6 39
                kind  : u8 message
                size  : u8 length of body
                body } }
        message Level { id 1  from device  on marked, unchecked, follows, sync, cobs, packets, slip, hdlc, escaped, doubled, quiet
            depth : u16
            note : text[..20] }
        message Ping { id 2  from host  on marked, unchecked, follows, sync, cobs, packets, slip, hdlc, escaped, doubled, sized, quiet }
        message Fixed { id 3  from device  on sized
            depth : u32 }";
    let checked = check(&Source::new("two.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
});

#[derive(Clone, Debug, PartialEq)]
enum Event {
    Good(Range<u64>, u64, Vec<u8>),
    Unread(Range<u64>, FrameFault, Vec<u8>),
    Broken(Range<u64>, FrameFault, Vec<u8>),
    Stray(Range<u64>, Vec<u8>),
}

impl Event {
    fn range(&self) -> &Range<u64> {
        let (Event::Good(range, ..) | Event::Unread(range, ..) | Event::Broken(range, ..) | Event::Stray(range, _)) =
            self;
        range
    }

    fn wire(&self) -> &[u8] {
        let (Event::Good(.., wire) | Event::Unread(.., wire) | Event::Broken(.., wire) | Event::Stray(_, wire)) = self;
        wire
    }
}

struct Log {
    reader: BodyReader,
    events: Vec<Event>,
}

impl FrameSink for Log {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &Requests::default())
    }
    fn good(&mut self, at: Range<u64>, frame: &FrameView<'_>, wire: &[u8]) {
        self.events.push(Event::Good(at, frame.sequence.unwrap_or(0), wire.to_vec()));
    }
    fn unread(&mut self, at: Range<u64>, _: Option<&FrameView<'_>>, fault: &FrameFault, wire: &[u8]) {
        self.events.push(Event::Unread(at, *fault, wire.to_vec()));
    }
    fn broken(&mut self, at: Range<u64>, fault: &FrameFault, wire: &[u8]) {
        self.events.push(Event::Broken(at, *fault, wire.to_vec()));
    }
    fn stray(&mut self, at: Range<u64>, wire: &[u8]) {
        self.events.push(Event::Stray(at, wire.to_vec()));
    }
}

fn receive<'a>(channel: ChannelId, chunks: impl IntoIterator<Item = &'a [u8]>) -> Vec<Event> {
    let framing = PLAN.channels[channel].framing(End::Device);
    let mut receiver = Receiver::new(framing);
    let mut log = Log { reader: BodyReader::new(PLAN.clone(), channel, None), events: Vec::new() };
    for chunk in chunks {
        receiver.feed(chunk, &mut log);
    }
    receiver.finish(&mut log);
    log.events
}

const SIZED: ChannelId = ChannelId::new(7);
const QUIET: ChannelId = ChannelId::new(8);
const LINES: ChannelId = ChannelId::new(9);
const KEYS: ChannelId = ChannelId::new(10);
const FOLLOWS: ChannelId = ChannelId::new(11);
const BLOCKS: ChannelId = ChannelId::new(12);
const MARKED: ChannelId = ChannelId::new(13);
const UNCHECKED: ChannelId = ChannelId::new(14);

/// The channels whose bytes alone say where frames begin and end.
fn stream_channel() -> impl Strategy<Value = ChannelId> {
    proptest::sample::select(
        [&[0, 1, 3, 4, 5, 6].map(ChannelId::new)[..], &[SIZED, LINES, FOLLOWS, BLOCKS, MARKED]].concat(),
    )
}

/// A frame of one of the messages; `count` is its sequence number.
fn frame(channel: ChannelId, count: u8, note: &[u8]) -> Vec<u8> {
    let framing = PLAN.channels[channel].framing(End::Device);
    let mut out = Vec::new();
    let (key, body) = match note {
        note if channel == BLOCKS => (7, (0..16).map(|n| note.get(n).copied().unwrap_or(count)).collect()),
        note if channel == LINES => (0, b"S".iter().copied().chain(note.iter().map(|byte| b' ' + byte % 90)).collect()),
        [] => (2, Vec::new()),
        note if channel == SIZED => (3, vec![count, note[0], 0xC6, 0x39]),
        note => (1, [&[count, 0, note.len() as u8][..], note].concat()),
    };
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
        proptest::collection::vec(
            prop_oneof![Just(0xC6u8), Just(0x39), Just(0), Just(0xC0), Just(0xDB), Just(0x7D), Just(0x7E), any::<u8>()],
            1..20
        ),
    ]
}

fn pieces() -> impl Strategy<Value = Vec<Piece>> {
    let garbage = prop_oneof![
        Just(0xC6u8),
        Just(0x39),
        Just(0),
        Just(1),
        Just(2),
        Just(3),
        Just(0xC0),
        Just(0x7D),
        Just(0x7E),
        any::<u8>()
    ];
    let piece = prop_oneof![
        4 => note().prop_map(Piece::Frame),
        1 => (note(), any::<prop::sample::Index>()).prop_map(|(note, at)| Piece::Cut(note, at)),
        1 => (note(), any::<prop::sample::Index>(), 1u8..).prop_map(|(note, at, flip)| Piece::Damaged(note, at, flip)),
        2 => proptest::collection::vec(garbage, 0..120).prop_map(Piece::Garbage),
    ];
    proptest::collection::vec(piece, 0..12)
}

fn stream(channel: ChannelId, pieces: &[Piece]) -> Vec<u8> {
    stream_from(channel, 0, pieces)
}

/// A stream of these pieces, whose frames have sequence numbers from `first` on.
fn stream_from(channel: ChannelId, first: usize, pieces: &[Piece]) -> Vec<u8> {
    let mut out = Vec::new();
    for (count, piece) in pieces.iter().enumerate() {
        let count = (first + count) as u8;
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
    fn every_byte_is_in_exactly_one_place(pieces in pieces(), channel in stream_channel()) {
        let stream = stream(channel, &pieces);
        let mut at = 0u64;
        for event in receive(channel, [&stream[..]]) {
            prop_assert_eq!(event.range().start, at, "events follow each other without gap or overlap");
            at = event.range().end;
            prop_assert_eq!(event.wire(), &stream[event.range().start as usize..at as usize]);
            prop_assert!(event.wire().len() <= PLAN.channels[channel].direction(End::Device).limit, "no piece is longer than the limit");
        }
        prop_assert_eq!(at, stream.len() as u64);
    }

    #[test]
    fn the_size_of_the_chunks_makes_no_difference(
        pieces in pieces(), channel in stream_channel(), cuts in proptest::collection::vec(any::<prop::sample::Index>(), 0..20),
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
        channel in stream_channel().prop_filter("blocks have no numbers", |channel| *channel != BLOCKS),
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

/// A frame with this body whose key no message has.
fn unknown(channel: ChannelId, body: &[u8]) -> Vec<u8> {
    let mut out = Vec::new();
    let framing = PLAN.channels[channel].framing(End::Device);
    framing.encode(&Header { key: 0x77, ..Header::default() }, body, &mut out).unwrap();
    out
}

/// `good 0..7`, `unread 7..20 unknown message`, … of each event.
fn kinds_of(channel: ChannelId, stream: &[u8]) -> Vec<String> {
    let kind = |event: Event| match event {
        Event::Good(at, ..) => format!("good {at:?}"),
        Event::Unread(at, fault, _) => format!("unread {at:?} {}", fault.reason()),
        Event::Broken(at, fault, _) => format!("broken {at:?} {}", fault.reason()),
        Event::Stray(at, _) => format!("stray {at:?}"),
    };
    let whole = receive(channel, [stream]);
    assert_eq!(receive(channel, stream.chunks(1)), whole, "the size of the chunks makes a difference");
    whole.into_iter().map(kind).collect()
}

proptest! {
    /// What stands inside of a frame whose checksum is right is never a frame of its own, whoever can read the body.
    #[test]
    fn frames_inside_of_unread_frames_are_not_delivered(
        inside in proptest::collection::vec((any::<u8>(), note()), 0..3),
        channel in proptest::sample::select([&[0, 1, 3, 4, 5, 6].map(ChannelId::new)[..], &[MARKED, FOLLOWS]].concat()),
        count: u8,
    ) {
        let limit = PLAN.channels[channel].direction(End::Device).limit;
        let mut body: Vec<u8> = inside.iter().flat_map(|(count, note)| frame(channel, *count, &note[..note.len().min(3)])).collect();
        // Room for parts and stuffing around it.
        body.truncate((limit - 12) / 2);
        let (outer, behind) = (unknown(channel, &body), frame(channel, count, b"ab"));
        let events = receive(channel, [&outer[..], &behind[..]].concat().chunks(5));
        let expected = [
            Event::Unread(0..outer.len() as u64, FrameFault::UnknownMessage { key: 0x77 }, outer.clone()),
            Event::Good(outer.len() as u64..(outer.len() + behind.len()) as u64, count.into(), behind),
        ];
        prop_assert_eq!(events, expected);
    }
}

#[test]
fn a_body_that_cannot_be_decoded_is_consumed_whole_too() {
    // Level needs 3 bytes and its text; the frame inside is a Ping.
    let inner = frame(ChannelId::default(), 5, b"");
    let framing = PLAN.channels[0].framing(End::Device);
    let mut outer = Vec::new();
    framing.encode(&Header { key: 1, ..Header::default() }, &[&[0, 0, 20][..], &inner].concat(), &mut outer).unwrap();
    assert_eq!(inner.len(), 7);
    assert_eq!(kinds_of(ChannelId::default(), &outer), ["unread 0..17 body"]);
}

#[test]
fn without_a_checksum_the_search_goes_on_inside() {
    // C6 39 77 04, and a Ping of four bytes inside.
    let stream = [0xC6, 0x39, 0x77, 4, 0xC6, 0x39, 2, 0, 0xC6, 0x39, 2, 0];
    assert_eq!(kinds_of(UNCHECKED, &stream), ["unread 0..4 unknown message", "good 4..8", "good 8..12"]);
    // Nothing inside: the frame is one piece.
    assert_eq!(kinds_of(UNCHECKED, &[0xC6, 0x39, 0x77, 2, 1, 2]), ["unread 0..6 unknown message"]);
}

#[test]
fn one_damaged_block_is_one_broken_frame() {
    // Frames of 21 bytes that begin with a constant, and hold that byte all over.
    let good = frame(BLOCKS, 0, &[1; 16]);
    assert_eq!(good.len(), 21);
    for at in 1..21 {
        let mut damaged = good.clone();
        damaged[at] ^= 0x10;
        let events = kinds_of(BLOCKS, &[&good[..], &damaged, &good].concat());
        assert_eq!(events.len(), 3, "byte {at}: {events:?}");
        assert!(events[1].starts_with("broken 21..42 ") || events[1] == "broken 21..24 fixed", "byte {at}: {events:?}");
    }
    // Without its first byte nothing begins there.
    let mut damaged = good.clone();
    damaged[0] = 0;
    let events = kinds_of(BLOCKS, &[&good[..], &damaged, &good].concat());
    assert_eq!((&events[0][..], &events[events.len() - 1][..]), ("good 0..21", "good 42..63"));
}

#[test]
fn constants_and_what_is_said_twice_are_judged_before_the_frame_is_complete() {
    let goods = |channel: ChannelId, stream: &[u8]| {
        // Without the end of the stream: what came so far.
        let framing = PLAN.channels[channel].framing(End::Device);
        let mut receiver = Receiver::new(framing);
        let mut log = Log { reader: BodyReader::new(PLAN.clone(), channel, None), events: Vec::new() };
        receiver.feed(stream, &mut log);
        log.events.iter().filter(|event| matches!(event, Event::Good(..))).count()
    };
    // A length of 30 where there are none, with the frame behind it: its copy differs.
    let mut twice = frame(FOLLOWS, 1, b"");
    twice[0] = 30;
    assert_eq!(goods(FOLLOWS, &[&twice[..], &frame(FOLLOWS, 2, b"")].concat()), 1);
    // Constants in front of the length and behind it.
    for (at, wrong) in [(2, 5u8), (6, 0x51)] {
        let mut marked = frame(MARKED, 1, b"");
        marked[5] = 25;
        marked[at] = wrong;
        assert_eq!(goods(MARKED, &[&marked[..], &frame(MARKED, 2, b"")].concat()), 1, "byte {at}");
        let fault = receive(MARKED, [&marked[..]]).remove(0);
        assert!(
            matches!(fault, Event::Broken(_, FrameFault::Fixed { found, .. }, _) if found == u64::from(wrong)),
            "{fault:?}"
        );
    }
    // A right constant and a wrong checksum: the checksum it is.
    let mut sum = frame(MARKED, 1, b"");
    *sum.last_mut().unwrap() ^= 1;
    assert_eq!(kinds_of(MARKED, &sum), [format!("broken 0..{} checksum", sum.len())]);
    // Both wrong: the constant is named.
    sum[2] = 5;
    assert_eq!(kinds_of(MARKED, &sum), [format!("broken 0..{} fixed", sum.len())]);
}

/// What stands in a row of a log: `good 3 93 3C 64`, with the node of good frames.
fn events_of(bytes: &[u8]) -> Vec<String> {
    let shown = |event: Event| {
        let wire: String = event.wire().iter().map(|byte| format!(" {byte:02X}")).collect();
        let at = event.range().clone();
        match event {
            Event::Good(..) => format!("good {at:?}{wire}"),
            Event::Broken(_, fault, _) | Event::Unread(_, fault, _) => format!("{} {at:?}{wire}", fault.reason()),
            Event::Stray(..) => format!("stray {at:?}{wire}"),
        }
    };
    receive(KEYS, [bytes]).into_iter().map(shown).collect()
}

#[test]
fn status_bytes_run_and_are_interrupted() {
    // Two presses with one status byte, a clock inside of the second.
    assert_eq!(
        events_of(&[0x93, 0x3C, 0x64, 0x40, 0xF8, 0x00]),
        ["good 0..3 93 3C 64", "good 4..5 F8", "good 3..6 40 00"]
    );
    // A blob ends with the next status byte, and nothing runs behind it.
    assert_eq!(
        events_of(&[0x93, 0xF0, 1, 2, 0xF8, 3, 0xF7, 4, 0xC1, 5, 6]),
        [
            "truncated 0..1 93",
            "good 4..5 F8",
            "good 1..6 F0 01 02 03",
            "good 6..7 F7",
            "stray 7..8 04",
            "good 8..10 C1 05",
            "good 10..11 06"
        ]
    );
    // What no message has lasts up to the next status byte; one from F8 on changes nothing.
    assert_eq!(
        events_of(&[0x10, 0xE0, 1, 0xFA, 2, 0xC1, 9]),
        ["stray 0..1 10", "unknown message 3..4 FA", "unknown message 1..5 E0 01 02", "good 5..7 C1 09"]
    );
    // A blob longer than the limit of 40 bytes.
    let long = [&[0xF0][..], &[1; 50], &[0xC0, 1]].concat();
    let events = events_of(&long);
    assert!(events[0].starts_with("length 0..41 F0 01") && events[1].starts_with("stray 41..51 01"), "{events:?}");
    assert_eq!(events[2..], ["good 51..53 C0 01"]);
}

#[test]
fn senders_leave_out_the_status_byte_that_runs() {
    let finder = PLAN.channels[KEYS].finder();
    let mut running = RunningStatus::default();
    let mut send = |frame: &[u8]| running.shorten(finder, frame).to_vec();
    assert_eq!(send(&[0x93, 1, 2]), [0x93, 1, 2]);
    assert_eq!(send(&[0x93, 3, 4]), [3, 4]);
    assert_eq!(send(&[0xF8]), [0xF8]);
    assert_eq!(send(&[0x93, 5, 6]), [5, 6]);
    assert_eq!(send(&[0x94, 5, 6]), [0x94, 5, 6]);
    assert_eq!(send(&[0xF0, 5, 6]), [0xF0, 5, 6]);
    assert_eq!(send(&[0x94, 5, 6]), [0x94, 5, 6]);
    // Elsewhere nothing is left out.
    let mut other = RunningStatus::default();
    for _ in 0..2 {
        assert_eq!(other.shorten(PLAN.channels[0].finder(), &[0x94, 1]), [0x94, 1]);
    }
    // A body with bit 7 set has no frame.
    let framing = PLAN.channels[KEYS].framing(End::Device);
    let mut out = vec![7];
    let refused = framing.encode(&Header { key: 0xF0, ..Header::default() }, &[1, 0x80], &mut out);
    assert_eq!(
        refused.unwrap_err().to_string(),
        "byte 1 of the body is 80, and only the status byte may have bit 7 set"
    );
    assert_eq!(out, [7]);
}

/// Frames that begin with status bytes, and bytes that mostly look like some.
fn key_stream() -> impl Strategy<Value = Vec<Vec<u8>>> {
    let data = 0u8..0x80;
    proptest::collection::vec(
        prop_oneof![
            3 => (0x90u8..0xA0, data.clone(), data.clone()).prop_map(|(status, key, force)| vec![status, key, force]),
            2 => (0xC0u8..0xD0, data.clone()).prop_map(|(status, number)| vec![status, number]),
            1 => proptest::collection::vec(data, 0..60).prop_map(|data| [vec![0xF0], data].concat()),
            1 => Just(vec![0xF7]),
            1 => Just(vec![0xF8]),
        ],
        0..30,
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn frames_inside_of_frames_leave_every_byte_in_one_place(
        frames in key_stream(), noise in proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 0..20), chunk in 1usize..20,
    ) {
        let mut running = RunningStatus::default();
        let finder = PLAN.channels[KEYS].finder();
        let mut stream: Vec<u8> = frames.iter().flat_map(|frame| running.shorten(finder, frame).to_vec()).collect();
        for (at, byte) in noise {
            stream.insert(at.index(stream.len() + 1), byte);
        }
        let events = receive(KEYS, [&stream[..]]);
        let mut seen = vec![None; stream.len()];
        for event in &events {
            // A frame inside came before: its places are taken.
            let range = event.range().start as usize..event.range().end as usize;
            let free: Vec<usize> = range.filter(|at| seen[*at].is_none()).collect();
            prop_assert_eq!(free.len(), event.wire().len(), "{:?} in {:02X?}", event, &stream);
            free.iter().zip(event.wire()).for_each(|(at, byte)| seen[*at] = Some(*byte));
        }
        prop_assert_eq!(seen.into_iter().collect::<Option<Vec<u8>>>(), Some(stream.clone()));
        prop_assert_eq!(receive(KEYS, stream.chunks(chunk)), events);
    }

    /// Frames with a status byte of their own are all found behind any damage but the first.
    #[test]
    fn status_bytes_end_all_damage(
        frames in key_stream(), at in any::<prop::sample::Index>(), drop in 0usize..40, damage in proptest::collection::vec(any::<u8>(), 0..40),
    ) {
        // The longest blobs have no frame, and clocks overtake the blob in front of them.
        let frames: Vec<_> = frames.into_iter().filter(|frame| frame.len() <= 40 && frame[0] != 0xF8).collect();
        let clean = frames.concat();
        let begin = at.index(clean.len() + 1);
        let end = (begin + drop).min(clean.len());
        let stream = [&clean[..begin], &damage, &clean[end..]].concat();
        let good = receive(KEYS, [&stream[..]]).into_iter().filter(|event| matches!(event, Event::Good(..)));
        let good: Vec<Vec<u8>> = good.map(|event| event.wire().to_vec()).filter(|wire| wire[0] != 0xF8).collect();
        let mut offset = 0;
        let (mut before, mut behind) = (Vec::new(), Vec::new());
        for frame in &frames {
            if offset + frame.len() <= begin {
                before.push(frame.clone());
            } else if offset >= end {
                behind.push(frame.clone());
            }
            offset += frame.len();
        }
        // The last one before may be a blob that goes on in the damage.
        let kept = before.len().saturating_sub(1);
        prop_assert_eq!(&good[..kept], &before[..kept]);
        prop_assert!(good.ends_with(&behind), "{good:02X?} {behind:02X?}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    /// Where silence separates frames, damage stays in its frame, and the size of the chunks makes no difference.
    #[test]
    fn silence_keeps_frames_apart(pieces in pieces(), chunk in 1usize..50) {
        let streams: Vec<Vec<u8>> = (0..pieces.len()).map(|n| stream_from(QUIET, n, &pieces[n..=n])).collect();
        let framing = PLAN.channels[QUIET].framing(End::Device);
        let mut receiver = Receiver::new(framing);
        let mut log = Log { reader: BodyReader::new(PLAN.clone(), QUIET, None), events: Vec::new() };
        for bytes in &streams {
            bytes.chunks(chunk).for_each(|chunk| receiver.feed(chunk, &mut log));
            receiver.silence(&mut log);
        }
        receiver.finish(&mut log);
        let mut at = 0;
        for event in &log.events {
            prop_assert_eq!(event.range().start, at);
            prop_assert!(event.wire().len() <= 40);
            at = event.range().end;
        }
        prop_assert_eq!(at, streams.concat().len() as u64);
        let whole = |wire: &Vec<u8>| log.events.iter().any(|event| matches!(event, Event::Good(_, _, found) if found == wire));
        for (piece, wire) in pieces.iter().zip(&streams) {
            prop_assert!(!matches!(piece, Piece::Frame(_)) || whole(wire), "{wire:02X?} is not among {:?}", log.events);
        }
    }
}

/// Worked out by hand: an escaped frame with its terminator, a frame between two flags, one whose size follows from its key.
#[test]
fn frames_of_each_stuffing_by_hand() {
    let wire = |channel: ChannelId, count: u8, note: &[u8]| emberwort_model::hex::hex(&frame(channel, count, note));
    // Ping: kind 2, count; the CRCs of 02 C0 and of 02 39 are computed bit by bit in crc_oracle.rs.
    let sum = |channel: ChannelId, bytes: &[u8]| {
        let name = if channel == ChannelId::new(4) { "crc-16/ibm-sdlc" } else { "crc-16/ibm-3740" };
        let algorithm = emberwort_model::algorithm::Algorithm::named(name).unwrap();
        emberwort_wire::checksum::Checksum::new(&algorithm).compute(bytes) as u16
    };
    let crc = |channel: ChannelId, bytes: &[u8]| {
        let [low, high] = sum(channel, bytes).to_le_bytes();
        format!("{low:02X} {high:02X}")
    };
    assert_eq!(wire(ChannelId::new(3), 0xC0, b""), format!("C0 02 DB DC {} C0", crc(ChannelId::new(3), &[2, 0xC0])));
    assert_eq!(wire(ChannelId::new(4), 0x7E, b""), format!("7E 02 7D 5E {} 7E", crc(ChannelId::new(4), &[2, 0x7E])));
    assert_eq!(
        wire(ChannelId::new(5), 0xC6, b""),
        format!("C6 39 02 7D E6 00 {}", crc(ChannelId::new(5), &[2, 0xC6, 0]))
    );
    assert_eq!(
        wire(ChannelId::new(6), 0x39, b""),
        format!("39 02 02 39 39 {} 39 03", crc(ChannelId::new(6), &[2, 0x39]))
    );
    assert_eq!(
        wire(SIZED, 9, b"a"),
        format!("C6 39 03 09 09 61 C6 39 {}", crc(ChannelId::new(7), &[3, 9, 9, 0x61, 0xC6, 0x39]))
    );
    assert_eq!(wire(QUIET, 9, b""), format!("02 09 {}", crc(ChannelId::new(8), &[2, 9])));
}

#[test]
fn a_flag_between_two_frames_can_be_shared() {
    let (first, second) = (frame(ChannelId::new(4), 1, b""), frame(ChannelId::new(4), 2, b""));
    // 7E … 7E … 7E, and fill behind.
    let stream = [&first[..], &second[1..], &[0x7E, 0x7E], &frame(ChannelId::new(4), 3, b"")].concat();
    let kinds: Vec<(&str, u64)> = receive(ChannelId::new(4), [&stream[..]])
        .iter()
        .map(|event| match event {
            Event::Good(range, ..) => ("good", range.end - range.start),
            Event::Unread(range, ..) => ("unread", range.end - range.start),
            Event::Broken(range, ..) => ("broken", range.end - range.start),
            Event::Stray(range, ..) => ("stray", range.end - range.start),
        })
        .collect();
    let sizes = [first.len() as u64, second.len() as u64 - 1, frame(ChannelId::new(4), 3, b"").len() as u64];
    assert_eq!(kinds, [("good", sizes[0]), ("good", sizes[1]), ("stray", 2), ("good", sizes[2])]);
}

#[test]
fn a_good_frame_inside_the_claimed_length_of_a_false_one_is_found() {
    // C6 39, kind 1, count 0, size 20: claims 27 bytes, but a real frame of 12 bytes follows at once.
    let false_start = [0xC6, 0x39, 1, 0, 20];
    let real = frame(ChannelId::default(), 7, b"ab");
    let next = frame(ChannelId::default(), 8, b"cd");
    let stream = [&false_start[..], &real, &next, &[0x55; 30]].concat();
    let events = receive(ChannelId::default(), [&stream[..]]);
    let goods: Vec<_> = events.iter().filter(|event| matches!(event, Event::Good(..))).collect();
    assert_eq!(goods.len(), 2);
    assert!(matches!(&events[0], Event::Broken(range, FrameFault::Checksum { .. }, _) if *range == (0..5)));
    assert_eq!(events[1].range(), &(5..17));
}

#[test]
fn each_reason_is_told_with_its_numbers() {
    let fault = |channel, stream: &[u8]| match receive(channel, [stream]).as_slice() {
        [Event::Broken(_, fault, _)] if !fault.is_unread() => *fault,
        [Event::Unread(_, fault, _)] if fault.is_unread() => *fault,
        other => panic!("{other:?}"),
    };
    let mut wrong = frame(ChannelId::default(), 1, b"abc");
    let last = wrong.len() - 1;
    wrong[last] ^= 1;
    assert_eq!(fault(ChannelId::default(), &wrong).reason(), "checksum");
    assert_eq!(
        fault(ChannelId::default(), &frame(ChannelId::default(), 1, b"abc")[..9]),
        FrameFault::Truncated { length: 9, needed: 13 }
    );
    assert_eq!(
        fault(ChannelId::default(), &[0xC6, 0x39, 1, 0, 200]),
        FrameFault::Length { length: 207, least: 7, greatest: 40 }
    );
    let framing = PLAN.channels[0].framing(End::Device);
    let mut unknown = Vec::new();
    framing.encode(&Header { key: 9, ..Header::default() }, &[], &mut unknown).unwrap();
    assert_eq!(fault(ChannelId::default(), &unknown), FrameFault::UnknownMessage { key: 9 });
    let mut short = Vec::new();
    framing.encode(&Header { key: 1, ..Header::default() }, &[1], &mut short).unwrap();
    assert_eq!(fault(ChannelId::default(), &short).reason(), "body");
    assert_eq!(fault(ChannelId::new(1), &[5, 1, 2, 0]), FrameFault::Stuffing { at: 0 });
    assert_eq!(fault(ChannelId::new(1), &[3, 1, 2]), FrameFault::Truncated { length: 3, needed: 4 });
    assert_eq!(fault(ChannelId::new(2), &[1, 0]).reason(), "body");
    assert_eq!(fault(ChannelId::new(2), &[1; 41]), FrameFault::Length { length: 41, least: 1, greatest: 40 });
}

#[test]
fn an_overlong_stretch_without_delimiter_is_broken_once_and_then_stray() {
    let stream = [&[7u8; 100][..], &[0], &frame(ChannelId::new(1), 3, b"xy")].concat();
    let events = receive(ChannelId::new(1), [&stream[..]]);
    assert!(matches!(&events[0], Event::Broken(range, FrameFault::Length { .. }, _) if *range == (0..40)));
    assert!(matches!(&events[1], Event::Stray(range, _) if *range == (40..80)));
    assert!(matches!(&events[2], Event::Stray(range, _) if *range == (80..101)));
    assert!(matches!(&events[3], Event::Good(range, 3, _) if range.start == 101));
    assert_eq!(events.len(), 4);
}

#[test]
fn delimiters_between_frames_are_stray() {
    let stream = [&[0u8, 0][..], &frame(ChannelId::new(1), 1, b""), &[0], &frame(ChannelId::new(1), 2, b"")].concat();
    let kinds: Vec<&str> = receive(ChannelId::new(1), [&stream[..]])
        .iter()
        .map(|event| match event {
            Event::Good(..) => "good",
            Event::Unread(..) => "unread",
            Event::Broken(..) => "broken",
            Event::Stray(..) => "stray",
        })
        .collect();
    assert_eq!(kinds, ["stray", "good", "stray", "good"]);
}

/// Counts frames, and nothing else.
#[derive(Default)]
struct Counted {
    good: u64,
    bytes: u64,
}

impl FrameSink for Counted {
    fn accept(&mut self, _: &FrameView<'_>) -> Result<(), FrameFault> {
        Ok(())
    }
    fn good(&mut self, at: Range<u64>, _: &FrameView<'_>, _: &[u8]) {
        self.good += 1;
        self.bytes += at.end - at.start;
    }
    fn unread(&mut self, at: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, _: &[u8]) {
        self.bytes += at.end - at.start;
    }
    fn broken(&mut self, at: Range<u64>, _: &FrameFault, _: &[u8]) {
        self.bytes += at.end - at.start;
    }
    fn stray(&mut self, at: Range<u64>, _: &[u8]) {
        self.bytes += at.end - at.start;
    }
}

/// Random bytes are taken for frames as often as chance says: a sync byte and a checksum of eight bits fit one in 256 times
/// each, and 38 of 256 lengths make a frame within the limit.
fn random_bytes_pass_as_often_as_they_should(count: u64) {
    let text = "link l { revision 1  byte_order little }
        channel c { medium uart 9600 8N1
            limit 40 bytes
            frame { sync C6
                size : u8 length of body
                body
                sum : u8 sum8 over size..body } }
        message Any { from device  on c
            bytes : bytes[rest] }";
    let plan = check(&Source::new("l.ember", text)).plan.unwrap();
    let mut receiver = Receiver::new(plan.channels[0].framing(End::Device));
    let mut counted = Counted::default();
    // The permuted congruential generator PCG32 (M. E. O'Neill, 2014).
    let mut state = 0x853C_49E6_748F_EA9Bu64;
    let mut chunk = vec![0u8; 1 << 16];
    let mut left = count;
    while left > 0 {
        let size = left.min(chunk.len() as u64) as usize;
        for four in chunk[..size].chunks_mut(4) {
            let old = state;
            state = old.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
            let shifted = ((old >> 18 ^ old) >> 27) as u32;
            let random = shifted.rotate_right((old >> 59) as u32).to_le_bytes();
            four.copy_from_slice(&random[..four.len()]);
        }
        receiver.feed(&chunk[..size], &mut counted);
        left -= size as u64;
    }
    receiver.finish(&mut counted);
    assert_eq!(counted.bytes, count, "every byte is in exactly one place");
    let expected = count as f64 * 38.0 / 256f64.powi(3);
    let deviation = (counted.good as f64 - expected) / expected.sqrt();
    println!("{} of {count} random bytes begin a frame; {expected:.1} were expected", counted.good);
    assert!(deviation.abs() < 4.5, "{} good frames, {expected:.1} expected", counted.good);
}

#[test]
fn a_hundred_million_random_bytes_pass_as_often_as_they_should() {
    random_bytes_pass_as_often_as_they_should(100_000_000);
}

/// A sentence begins with its sync byte, whatever stands in front of it in the line: noise, or another one that was cut off.
#[test]
fn a_line_begins_with_its_sync_bytes() {
    let whole = frame(LINES, 7, b"abc");
    for noise in [&[0xFF][..], b"noise ", &[b'x'; 300], &whole[..6], &[0xC3]] {
        let stream = [noise, &whole].concat();
        let events = receive(LINES, [&stream[..]]);
        let good: Vec<_> = events.iter().filter(|event| matches!(event, Event::Good(..))).map(Event::wire).collect();
        assert_eq!(good, [&whole[..]], "behind {noise:?}: {events:?}");
    }
}
