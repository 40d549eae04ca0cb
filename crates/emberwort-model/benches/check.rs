//! Checking generated definitions: the time for each message, and that ten times the messages take ten times as long.
#![allow(missing_docs)] // the macros of criterion make public functions

#[path = "../../../benches/ratio.rs"]
mod ratio;

use std::fmt::Write;
use std::hint::black_box;
use std::time::Duration;

use criterion::{BenchmarkId, Criterion, Throughput, criterion_group};
use emberwort_model::{Source, check};
use ratio::ratio;

const TYPES: [&str; 10] = [
    "u8",
    "i16 * 0.1 degC",
    "0 .. 100 % step 0.5",
    "-1.5 .. 9.5 m step 0.005 or none",
    "State",
    "bool",
    "text[..12]",
    "f32 kN",
    "u12",
    "0 .. 250 bar in 12 bits",
];

/// A link of this many messages with ten fields each.
fn definition(messages: usize) -> Source {
    let mut text = String::from(
        "link many { revision 1  byte_order little }\nenum State : u4 { 0 off  1 on }\n\
         channel net { medium udp 4000\n packet\n frame { kind : u16 message\n body } }\n",
    );
    for n in 0..messages {
        let _ = write!(text, "## Message number {n}.\nmessage M{n} {{\n id {n}\n from device\n on net\n");
        for field in 0..TYPES.len() {
            let _ = writeln!(text, " f{field} : {}", TYPES[(n + field) % TYPES.len()]);
        }
        text.push_str("}\n");
    }
    Source::new("many.ember", text)
}

fn bench(criterion: &mut Criterion) {
    let mut group = criterion.benchmark_group("check");
    group.sample_size(10);
    let sources = [1_000, 10_000].map(|messages| (messages, definition(messages)));
    for (messages, source) in &sources {
        group.throughput(Throughput::Elements(*messages as u64));
        group.bench_with_input(BenchmarkId::new("messages", messages), source, |b, source| {
            b.iter(|| assert!(check(black_box(source)).plan.is_some()));
        });
    }
    group.finish();
    let [(_, few), (_, many)] = &sources;
    let of = |source: &Source| assert!(check(black_box(source)).plan.is_some());
    println!("10,000 messages take {:.1} times as long as 1,000", ratio(|| of(many), || of(few)));
}

criterion_group! {
    name = benches;
    config = Criterion::default().measurement_time(Duration::from_secs(3)).warm_up_time(Duration::from_millis(500));
    targets = bench
}

fn main() {
    benches();
    Criterion::default().configure_from_args().final_summary();
}
