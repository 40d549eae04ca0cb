//! CRCs of 8, 16, 32 and 64 bits over 64 kB and over 24 bytes, against the sixteen-table variant of the `crc` crate in the same run.
#![allow(missing_docs)] // the macros of criterion make public functions

#[path = "../../../benches/ratio.rs"]
mod ratio;

use std::hint::black_box;
use std::time::Instant;

use crc::{CRC_8_SMBUS, CRC_16_IBM_3740, CRC_16_MODBUS, CRC_32_ISO_HDLC, CRC_64_XZ, Crc, Table};
use emberwort_model::algorithm::Algorithm;
use emberwort_wire::checksum::Checksum;
use ratio::ratio;

/// Gigabytes a second of the best of 50 runs.
fn speed(bytes: usize, mut run: impl FnMut()) -> f64 {
    let times = (0..50).map(|_| {
        let start = Instant::now();
        run();
        start.elapsed().as_secs_f64()
    });
    bytes as f64 / times.fold(f64::MAX, f64::min) / 1e9
}

fn compare(name: &str, theirs: &dyn Fn(&[u8]) -> u64) {
    let ours = Checksum::new(&Algorithm::named(name).expect("catalogued"));
    let bytes: Vec<u8> = (0..1 << 16).map(|n: u32| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    assert_eq!(ours.compute(&bytes), theirs(&bytes), "{name}");
    let over = |size: usize, sum: &dyn Fn(&[u8]) -> u64| {
        for piece in bytes.chunks_exact(size) {
            black_box(sum(black_box(piece)));
        }
    };
    let own = |bytes: &[u8]| ours.compute(bytes);
    let long = ratio(|| over(1 << 16, &own), || over(1 << 16, theirs));
    let short = ratio(|| over(24, &own), || over(24, theirs));
    let speed = speed(bytes.len(), || over(1 << 16, &own));
    println!(
        "{name}: {speed:.2} GB/s; {long:.2} times the crate's time over 64 kB, {short:.2} over pieces of 24 bytes"
    );
}

fn main() {
    let eight = Crc::<u8, Table<16>>::new(&CRC_8_SMBUS);
    let plain = Crc::<u16, Table<16>>::new(&CRC_16_IBM_3740);
    let mirrored = Crc::<u16, Table<16>>::new(&CRC_16_MODBUS);
    let wide = Crc::<u32, Table<16>>::new(&CRC_32_ISO_HDLC);
    let widest = Crc::<u64, Table<16>>::new(&CRC_64_XZ);
    compare("crc-8/smbus", &|bytes| eight.checksum(bytes).into());
    compare("crc-16/ibm-3740", &|bytes| plain.checksum(bytes).into());
    compare("crc-16/modbus", &|bytes| mirrored.checksum(bytes).into());
    compare("crc-32/iso-hdlc", &|bytes| wide.checksum(bytes).into());
    compare("crc-64/xz", &|bytes| widest.checksum(bytes));
}
