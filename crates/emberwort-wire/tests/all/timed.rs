//! Receivers with times: when frames came, and where silence ends them.

use std::ops::Range;

use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::{Source, check};
use emberwort_wire::chunk::ByteTime;
use emberwort_wire::{Chunk, FrameFault, FrameSink, FrameView, Framed, Receiver, StreamId, Time, TimedReceiver, Times};

/// At 9600 baud a byte of ten bits takes 1,041,666 ns.
const BYTE: u64 = 1_041_666;
const MILLISECOND: u64 = 1_000_000;

fn receiver(finding: &str, frame: &str) -> TimedReceiver {
    let text = format!(
        "link l {{ revision 1  byte_order little }}
         channel bus {{ medium uart 9600 8N1
             {finding}
             limit 8 bytes
             {frame} }}
         message Any {{ from device  on bus  a : u8  b : u8 }}"
    );
    let checked = check(&Source::new("l.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    TimedReceiver::new(Receiver::new(checked.plan.unwrap().channels[0].framing(End::Device)))
}

fn silent() -> TimedReceiver {
    receiver("gap 3 ms", "")
}

/// What was found, with its place and the time of its last byte.
#[derive(Default)]
struct Log {
    time: Option<Time>,
    lines: Vec<(&'static str, Range<u64>, Option<u64>)>,
}

impl Log {
    fn note(&mut self, what: &'static str, at: Range<u64>) {
        self.lines.push((what, at, self.time.map(Time::nanoseconds)));
    }
}

impl FrameSink for Log {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        if frame.body.len() == 2 { Ok(()) } else { Err(FrameFault::UnknownMessage { key: 0 }) }
    }

    fn came(&mut self, _: &[ByteTime], time: Option<Time>) {
        self.time = time;
    }

    fn good(&mut self, at: Range<u64>, _: &FrameView<'_>, _: &[u8]) {
        self.note("good", at);
    }

    fn unread(&mut self, at: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, _: &[u8]) {
        self.note("unread", at);
    }

    fn broken(&mut self, at: Range<u64>, _: &FrameFault, _: &[u8]) {
        self.note("broken", at);
    }

    fn stray(&mut self, at: Range<u64>, _: &[u8]) {
        self.note("stray", at);
    }
}

fn chunk<'a>(times: Times<'a>, bytes: &'a [u8]) -> Chunk<'a> {
    Chunk { stream: StreamId { channel: ChannelId::default(), from: None, tap: 0 }, times, key: None, bytes }
}

fn last(time: u64) -> Times<'static> {
    Times::Last(Time::from_nanoseconds(time))
}

#[test]
fn silence_between_two_chunks_is_measured_to_the_start_of_the_second() {
    // The second chunk has two bytes, which take 2,083,332 ns (a hair more, rounded down): 3 ms of silence end exactly there.
    let sending = 2 * 10 * 1_000_000_000 / 9600;
    for (pause, found) in [(3 * MILLISECOND, 2), (3 * MILLISECOND - 1, 1)] {
        let (mut receiver, mut log) = (silent(), Log::default());
        receiver.feed(&chunk(last(10 * MILLISECOND), &[1, 2]), &mut log);
        let time = 10 * MILLISECOND + pause + sending;
        receiver.feed(&chunk(last(time), &[3, 4]), &mut log);
        receiver.finish(&mut log);
        match found {
            2 => assert_eq!(log.lines, [("good", 0..2, Some(10 * MILLISECOND)), ("good", 2..4, Some(time))]),
            _ => assert_eq!(log.lines, [("unread", 0..4, Some(time))]),
        }
    }
}

#[test]
fn a_time_for_each_byte_says_where_silence_was_to_the_byte() {
    let at = |start: u64| ByteTime { start: Time::from_nanoseconds(start), end: Time::from_nanoseconds(start + BYTE) };
    let (mut receiver, mut log) = (silent(), Log::default());
    let one = [at(0), at(BYTE)];
    let two = [at(2 * BYTE + 3 * MILLISECOND), at(4 * BYTE + 3 * MILLISECOND)];
    receiver.feed(&chunk(Times::Each(&one), &[1, 2]), &mut log);
    receiver.feed(&chunk(Times::Each(&two), &[3, 4]), &mut log);
    receiver.finish(&mut log);
    assert_eq!(log.lines, [("good", 0..2, Some(2 * BYTE)), ("good", 2..4, Some(5 * BYTE + 3 * MILLISECOND))]);
}

#[test]
fn who_waits_is_told_until_when() {
    let (mut receiver, mut log) = (silent(), Log::default());
    assert_eq!(receiver.poll_timeout(), None, "nothing came");
    receiver.feed(&chunk(last(10 * MILLISECOND), &[1, 2]), &mut log);
    let timeout = receiver.poll_timeout().unwrap();
    assert_eq!(timeout, Time::from_nanoseconds(13 * MILLISECOND));
    receiver.handle_timeout(timeout.before(1), &mut log);
    assert!(log.lines.is_empty(), "too early");
    receiver.handle_timeout(timeout, &mut log);
    assert_eq!(log.lines, [("good", 0..2, Some(10 * MILLISECOND))]);
    assert_eq!(receiver.poll_timeout(), None, "nothing is left");
    // Elsewhere silence says nothing.
    let mut packets = receiver_of_sync();
    packets.feed(&chunk(last(1), &[0xA5]), &mut log);
    assert_eq!(packets.poll_timeout(), None);
}

fn receiver_of_sync() -> TimedReceiver {
    receiver("", "frame { sync A5 5A\n size : u8 length of body\n body }")
}

#[test]
fn a_frame_has_the_time_of_its_last_byte_in_whatever_pieces_it_came() {
    let bytes = [0xA5, 0x5A, 2, 7, 8, 0x11, 0xA5, 0x5A, 2, 9, 9];
    let (mut receiver, mut log) = (receiver_of_sync(), Log::default());
    for (n, byte) in bytes.iter().enumerate() {
        receiver.feed(&chunk(last(100 + n as u64), &[*byte]), &mut log);
    }
    receiver.finish(&mut log);
    assert_eq!(log.lines, [("good", 0..5, Some(104)), ("stray", 5..6, Some(105)), ("good", 6..11, Some(110))]);
    let (mut receiver, mut log) = (receiver_of_sync(), Log::default());
    let times: Vec<ByteTime> = (0..bytes.len() as u64)
        .map(|n| ByteTime { start: Time::from_nanoseconds(n * 10), end: Time::from_nanoseconds(n * 10 + 9) })
        .collect();
    receiver.feed(&chunk(Times::Each(&times), &bytes), &mut log);
    assert_eq!(log.lines, [("good", 0..5, Some(49)), ("stray", 5..6, Some(59)), ("good", 6..11, Some(109))]);
}

#[test]
fn without_times_each_chunk_is_a_frame_where_silence_ends_them() {
    let (mut receiver, mut log) = (silent(), Log::default());
    receiver.feed(&chunk(Times::Unknown, &[1, 2]), &mut log);
    receiver.feed(&chunk(Times::Unknown, &[3, 4]), &mut log);
    receiver.finish(&mut log);
    assert_eq!(log.lines, [("good", 0..2, None), ("good", 2..4, None)]);
}
