//! Packed captures: as they come unpacked, whole, in several parts, byte by byte, cut and damaged.

use std::io::{self, Read, Write};

use emberwort_capture::packing::Unpacked;
use flate2::Compression;
use flate2::write::GzEncoder;
use proptest::prelude::*;
use ruzstd::encoding::{CompressionLevel, compress_to_vec};

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut packed = GzEncoder::new(Vec::new(), Compression::default());
    packed.write_all(bytes).unwrap();
    packed.finish().unwrap()
}

fn zstd(bytes: &[u8]) -> Vec<u8> {
    compress_to_vec(bytes, CompressionLevel::Fastest)
}

/// Gives few bytes at once, as a pipe may.
struct Slowly<'a>(&'a [u8], usize);

impl Read for Slowly<'_> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        let most = self.1.min(room.len());
        self.0.read(&mut room[..most])
    }
}

/// All bytes that come out, whether the input was packed, and why it ended early.
fn unpacked(packed: &[u8], at_once: usize) -> (Vec<u8>, bool, Option<String>) {
    let mut reader = Unpacked::new(Slowly(packed, at_once)).unwrap();
    let mut out = Vec::new();
    reader.read_to_end(&mut out).unwrap();
    (out, reader.was_packed(), reader.damage())
}

/// Worked out by hand: RFC 1952's header of ten bytes, one stored block, CRC-32 and length of `abc`.
#[test]
fn a_gzip_file_made_by_hand() {
    let packed = [
        &[0x1F, 0x8B, 8, 0, 0, 0, 0, 0, 0, 0xFF][..],
        &[1, 3, 0, 0xFC, 0xFF, b'a', b'b', b'c'],
        &0x3524_41C2_u32.to_le_bytes(),
        &3u32.to_le_bytes(),
    ]
    .concat();
    assert_eq!(unpacked(&packed, 4096), (b"abc".to_vec(), true, None));
}

#[test]
fn what_is_not_packed_stays_as_it_is() {
    for bytes in
        [&b""[..], b"\x1F", b"\x1F\x8B", b"\x1F\x8B\x07 more", b"\x28\xB5\x2F", b"\x28\xB5\x2F\xFC..", b"C6 39 03"]
    {
        for at_once in [1, 2, 4096] {
            assert_eq!(unpacked(bytes, at_once), (bytes.to_vec(), false, None), "{bytes:02X?}");
        }
    }
}

#[test]
fn several_parts_follow_each_other() {
    for pack in [gzip, zstd] {
        let both = [pack(b"one, "), pack(b""), pack(b"two")].concat();
        assert_eq!(unpacked(&both, 1), (b"one, two".to_vec(), true, None));
    }
}

proptest! {
    #[test]
    fn what_was_packed_comes_back(bytes in proptest::collection::vec(any::<u8>(), 0..5_000), at_once in 1usize..600) {
        for pack in [gzip, zstd] {
            let (found, was_packed, damage) = unpacked(&pack(&bytes), at_once);
            prop_assert_eq!((&found, was_packed, damage), (&bytes, true, None));
        }
    }

    /// A cut or damaged file gives what came before, says so, and never more than it should.
    #[test]
    fn a_cut_or_damaged_file_ends_and_says_so(size in 1usize..3_000, cut in 0.0f64..1.0, flips in proptest::collection::vec((0.0f64..1.0, 1u8..), 0..3)) {
        let bytes: Vec<u8> = (0..size).map(|n| (n * 7 % 251) as u8).collect();
        for pack in [gzip, zstd] {
            let whole = pack(&bytes);
            let cut_at = 4 + ((whole.len() - 4) as f64 * cut) as usize;
            let (found, _, damage) = unpacked(&whole[..cut_at], 100);
            prop_assert!(bytes.starts_with(&found));
            prop_assert!(damage.is_some(), "{} of {}", cut_at, whole.len());
            let mut changed = whole.clone();
            for (at, flip) in &flips {
                let at = 4 + ((whole.len() - 5) as f64 * at) as usize;
                changed[at] ^= flip;
            }
            // No panic, no end that never comes; the sizes here bound what can come out.
            let (found, _, _) = unpacked(&changed, 100);
            prop_assert!(found.len() < 1 << 24);
        }
    }
}

/// A packet of a raw file is what one read gives, so looking at the first bytes must not cut the first one up.
#[test]
fn pieces_stay_as_they_came() {
    let mut reader = Unpacked::new(Slowly(b"\x01\x05\xDC\x28\xB5\x2F", 3)).unwrap();
    let mut room = [0; 64];
    let sizes: Vec<usize> = (0..3).map(|_| reader.read(&mut room).unwrap()).collect();
    assert_eq!(sizes, [3, 3, 0]);
}
