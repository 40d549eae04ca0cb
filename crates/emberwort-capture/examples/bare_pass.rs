//! What no decoder of a recording of `bus485` or `house` can do without, for `scripts/instructions` to compare with: stepping over the
//! blocks of the file, looking for the sync bytes, the checksum over the rest; of packets over UDP, the size of their headers.
//!
//! Prints how many frames it found: `bare_pass raw|serial|udp FILE`.

#[path = "../../../benches/bare.rs"]
mod bare;

use std::hint::black_box;

use emberwort_model::algorithm::Algorithm;
use emberwort_wire::checksum::Checksum;

use bare::stream;

fn main() {
    let words: Vec<String> = std::env::args().collect();
    let [_, form, file] = words.as_slice() else { panic!("bare_pass raw|serial|udp FILE") };
    let bytes = std::fs::read(file).expect("the file can be read");
    let checksum = Checksum::new(&Algorithm::named("crc-16/ibm-3740").expect("catalogued"));
    let frames = match form.as_str() {
        "raw" => stream(&checksum, &bytes),
        form => {
            packets(&bytes).map(|packet| if form == "udp" { datagram(packet) } else { stream(&checksum, packet) }).sum()
        }
    };
    println!("{frames}");
}

/// An IPv4 packet with a UDP datagram, whose payload it finds.
fn datagram(packet: &[u8]) -> u64 {
    let header = packet.first().map_or(0, |first| usize::from(first & 15) * 4);
    u64::from(black_box(packet.get(header + 8..)).is_some())
}

/// The packets of a pcapng file in little-endian order: of each enhanced packet block, its bytes.
fn packets(file: &[u8]) -> impl Iterator<Item = &[u8]> {
    let number = |at: usize| file.get(at..at + 4).and_then(|bytes| bytes.try_into().ok()).map(u32::from_le_bytes);
    let mut at = 0;
    std::iter::from_fn(move || {
        loop {
            let (kind, length) = (number(at)?, number(at + 4)? as usize);
            let start = at;
            at += length.max(12);
            if kind == 6 {
                let captured = number(start + 20)? as usize;
                return file.get(start + 28..start + 28 + captured);
            }
        }
    })
}
