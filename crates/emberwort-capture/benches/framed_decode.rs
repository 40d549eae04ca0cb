//! Framed traffic to statistics (receiver, checksum, message selection, body decoding, counting) against a bare pass over
//! the same bytes: finding the sync bytes with memchr, and the checksum alone. Prints the ratio of the two.
#![allow(missing_docs)] // the macros of criterion make public functions

#[path = "../../../benches/bare.rs"]
mod bare;
#[path = "../../../benches/ratio.rs"]
mod ratio;

#[path = "../../../examples/plan_of_marlock.rs"]
mod marlock;

use std::hint::black_box;
use std::sync::Arc;
use std::time::Duration;

use criterion::{Criterion, Throughput, criterion_group};
use emberwort_capture::items::Nothing;
use emberwort_capture::{CaptureFormat, Decoder, source};
use emberwort_model::Plan;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::checksum::Checksum;
use emberwort_wire::{Framed, Header};
use ratio::ratio;

fn plan() -> Arc<Plan> {
    let checked = marlock::checked();
    Arc::new(checked.plan.expect("the example is right"))
}

/// Four megabytes of GateStatus frames on bus485, with and without the operator's name.
fn traffic(plan: &Plan) -> Vec<u8> {
    let framing = plan.channels[0].framing(End::Device);
    let plain = [0u8, 0xA9, 0x7A, 0x1D, 0xFE, 0xED, 0x01, 0x04, 0x78, 0, 0, 0xA0, 0x3F, 0];
    let named = [1u8, 0xA9, 0x7A, 0x1D, 0xFE, 0xED, 0x01, 0x04, 4, b'W', b'r', b'e', b'n', 0x78, 0, 0, 0xA0, 0x3F, 0];
    let mut out = Vec::with_capacity(5 << 20);
    for sequence in 0.. {
        let header = Header { key: 0x21, node: sequence % 5, sequence, revision: 3 };
        let body: &[u8] = if sequence % 3 == 0 { &named } else { &plain };
        framing.encode(&header, body, &mut out).expect("the body fits");
        if out.len() > 4 << 20 {
            return out;
        }
    }
    out
}

fn to_statistics(plan: &Arc<Plan>, bytes: &[u8]) -> u64 {
    let mut decoder = Decoder::new(plan.clone(), Nothing).demuxed().on(Some(ChannelId::default()));
    source::read(CaptureFormat::Raw, bytes, &mut decoder).expect("memory can be read");
    let (_, statistics) = decoder.into_sink().finish().expect("nothing fails");
    assert_eq!(statistics.good, bytes.len() as u64);
    statistics.good_frames()
}

fn bench(criterion: &mut Criterion) {
    let plan = plan();
    let bytes = traffic(&plan);
    let checksum = Checksum::new(&Algorithm::named("crc-16/ibm-3740").expect("catalogued"));
    assert_eq!(to_statistics(&plan, &bytes), bare::stream(&checksum, &bytes));
    let mut group = criterion.benchmark_group("framed decode");
    group.throughput(Throughput::Bytes(bytes.len() as u64));
    group.bench_function("to statistics", |b| b.iter(|| to_statistics(&plan, &bytes)));
    group.bench_function("bare pass", |b| b.iter(|| bare::stream(&checksum, &bytes)));
    group.finish();
    let decode = || {
        black_box(to_statistics(&plan, &bytes));
    };
    let bare = || {
        black_box(bare::stream(&checksum, &bytes));
    };
    println!("framed decode to statistics takes {:.2} times the bare pass", ratio(decode, bare));
}

criterion_group! {
    name = benches;
    config = Criterion::default().measurement_time(Duration::from_secs(3)).warm_up_time(Duration::from_secs(1));
    targets = bench
}

fn main() {
    benches();
    Criterion::default().configure_from_args().final_summary();
}
