//! Receivers: on clean traffic against a bare pass that finds the frames' ends and computes the CRC, on garbage against memchr over
//! it, and on a stream that is nothing but sync bytes and greatest lengths, by its length.
#![allow(missing_docs)] // the macros of criterion make public functions

#[path = "../../../benches/ratio.rs"]
mod ratio;

use std::hint::black_box;
use std::ops::Range;
use std::sync::Arc;

use emberwort_model::algorithm::Algorithm;
use emberwort_model::model::End;
use emberwort_model::plan::{Direction, FrameFinder};
use emberwort_model::{Source, check};
use emberwort_wire::checksum::Checksum;
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framing, Header, Receiver};
use ratio::ratio;

/// The way to find frames, what stands in front of the frame's parts, and what a receiver looks for.
const FRAMINGS: [(&str, &str, &str, u8); 7] = [
    ("sync and length", "", "sync C6 39\n size : u8 length of body\n", 0xC6),
    ("sync and fixed sizes", "", "sync C6 39\n", 0xC6),
    ("cobs", "stuffing cobs", "", 0),
    ("slip", "stuffing slip", "", 0xC0),
    ("hdlc", "stuffing hdlc", "", 0x7E),
    ("escape", "stuffing escape 7D xor 20 of 7D C6", "sync C6 39\n size : u8 length of body\n", 0xC6),
    ("lines", "lines lf", "", b'\n'),
];

fn channel(finding: &str, front: &str, body: usize) -> Arc<Direction> {
    let (parts, message) = match finding {
        "lines lf" => ("body\n check : hex4 crc-16/ibm-3740 over body", "line \"{a}\"\n a : text[..250]".to_owned()),
        _ => (
            "kind : u8 message\n body\n check : u16 crc-16/ibm-3740 over kind..body",
            format!("id 1\n a : bytes[{body}]"),
        ),
    };
    let text = format!(
        "link l {{ revision 1  byte_order little }}\nchannel c {{\n medium uart 9600 8N1\n {finding}\n limit 600 bytes\n frame {{\n \
         {front}{parts} }}\n}}\nmessage M {{ from device  on c\n {message} }}"
    );
    let checked = check(&Source::new("bench.ember", text));
    let plan = checked.plan.unwrap_or_else(|| panic!("{:?}", checked.findings));
    plan.channels[0].direction(End::Device).clone()
}

/// Counts frames, and does nothing else with them.
#[derive(Default)]
struct Count(u64, u64);

impl FrameSink for Count {
    fn accept(&mut self, _: &FrameView<'_>) -> Result<(), FrameFault> {
        Ok(())
    }
    fn good(&mut self, _: Range<u64>, _: &FrameView<'_>, wire: &[u8]) {
        self.0 += 1;
        self.1 += wire.len() as u64;
    }
    fn unread(&mut self, _: Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, wire: &[u8]) {
        self.1 += wire.len() as u64;
    }
    fn broken(&mut self, _: Range<u64>, _: &FrameFault, wire: &[u8]) {
        self.1 += wire.len() as u64;
    }
    fn stray(&mut self, _: Range<u64>, wire: &[u8]) {
        self.1 += wire.len() as u64;
    }
}

fn receive(channel: &Arc<Direction>, bytes: &[u8]) -> u64 {
    let mut receiver = Receiver::new(Arc::new(Framing::new(channel.clone())));
    let mut count = Count::default();
    for chunk in bytes.chunks(1 << 16) {
        receiver.feed(chunk, &mut count);
    }
    receiver.finish(&mut count);
    assert_eq!(count.1, bytes.len() as u64, "every byte has a place");
    count.0
}

/// Random bytes, the same in each run; for lines, letters.
fn random(count: usize, text: bool) -> Vec<u8> {
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let byte = (state >> 32) as u8;
        if text { b'a' + byte % 26 } else { byte }
    };
    (0..count).map(|_| next()).collect()
}

fn clean(channel: &Arc<Direction>, body: usize) -> Vec<u8> {
    let framing = Framing::new(channel.clone());
    let text = matches!(channel.finder, FrameFinder::Lines { .. });
    let mut out = Vec::new();
    for body in random(4 << 20, text).chunks_exact(body) {
        framing.encode(&Header { key: 1, ..Header::default() }, body, &mut out).expect("the body fits");
    }
    out
}

/// What no receiver can do without: the frames' ends, and the checksum.
fn bare_pass(finder: FrameFinder, size: Option<usize>, delimiter: u8, checksum: &Checksum, bytes: &[u8]) -> u64 {
    let (mut at, mut frames) = (0, 0);
    while at < bytes.len() {
        let end = match (finder, size) {
            (FrameFinder::Sync, Some(size)) => {
                let Some(start) = memchr::memchr(delimiter, &bytes[at..]) else { break };
                at + start + size
            }
            (FrameFinder::Sync, None) => {
                let Some(start) = memchr::memchr(delimiter, &bytes[at..]) else { break };
                let Some(size) = bytes.get(at + start + 2) else { break };
                at + start + usize::from(*size) + 6
            }
            // An escaped frame ends where the next begins; of two delimiters side by side the second begins one.
            _ => {
                memchr::memchr(delimiter, &bytes[(at + 1).min(bytes.len())..]).map_or(bytes.len(), |next| at + 1 + next)
            }
        };
        black_box(checksum.compute(&bytes[at..end.min(bytes.len())]));
        at = end;
        frames += 1;
    }
    frames
}

fn main() {
    let checksum = Checksum::new(&Algorithm::named("crc-16/ibm-3740").expect("catalogued"));
    let garbage = random(4 << 20, false);
    // Only those with this name, as in `cargo bench --bench receivers -- cobs`.
    let wanted = std::env::args().skip(1).find(|argument| !argument.starts_with('-')).unwrap_or_default();
    for (name, finding, front, delimiter) in FRAMINGS.into_iter().filter(|(name, ..)| name.contains(&wanted)) {
        let mut clean_ratios = Vec::new();
        for body in [20, 200] {
            let channel = channel(finding, front, body);
            let bytes = clean(&channel, body);
            let size = (name == "sync and fixed sizes").then_some(body + 5);
            let finder = channel.finder;
            let received = receive(&channel, &bytes);
            assert_eq!(received, (4 << 20) / body as u64, "{name}");
            assert!(bare_pass(finder, size, delimiter, &checksum, &bytes) >= received, "{name}");
            clean_ratios.push(ratio(
                || {
                    black_box(receive(&channel, &bytes));
                },
                || {
                    black_box(bare_pass(finder, size, delimiter, &checksum, &bytes));
                },
            ));
        }
        let channel = channel(finding, front, 20);
        let on_garbage = ratio(
            || {
                black_box(receive(&channel, &garbage));
            },
            || {
                memchr::memchr_iter(delimiter, &garbage).for_each(|at| {
                    black_box(at);
                });
            },
        );
        // A greatest length behind each pair of sync bytes, or what looks most like a frame's beginning.
        let hostile = |count: usize| match front {
            "" => [delimiter, 0x7D, 0xDB, delimiter].repeat(count / 4),
            _ => [0xC6, 0x39, 0xFF, 1].repeat(count / 4),
        };
        let (short, long) = (hostile(1 << 18), hostile(1 << 20));
        let growth = ratio(
            || {
                black_box(receive(&channel, &long));
            },
            || {
                black_box(receive(&channel, &short));
            },
        );
        println!(
            "{name}: clean traffic {:.2} (bodies of 20 bytes), {:.2} (200) times the bare pass; garbage {on_garbage:.2} times memchr; \
             a hostile stream four times as long takes {growth:.2} times",
            clean_ratios[0], clean_ratios[1]
        );
    }
}
