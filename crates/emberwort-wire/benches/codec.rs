//! Encoding and decoding of one message by the plan, against code written by hand for that message. Prints the ratios.
#![allow(missing_docs)] // the macros of criterion make public functions

#[path = "../../../benches/ratio.rs"]
mod ratio;

use std::hint::black_box;
use std::time::Duration;

use criterion::{Criterion, criterion_group};
use emberwort_model::plan::MessagePlan;
use emberwort_model::{Source, check};
use emberwort_wire::{ValueRef, Values, decode, encode};
use ratio::ratio;

/// GateStatus without its text and later sections: seven fields at odd places in 8 bytes.
const MESSAGE: &str = "link bench { revision 1  byte_order little }
    enum State : u3 { 0 closed  1 opening  2 open }
    message Status {
        from device
        state    : State
        opening  : 0 .. 100 % step 0.5
        upstream : -1.5 .. 9.5 m step 0.005 or none
        oil      : 0 .. 250 bar in 12 bits
        temp     : i8 degC
        faults   : u8
        counter  : u13
    }";

fn plan() -> MessagePlan {
    let checked = check(&Source::new("bench.ember", MESSAGE));
    checked.plan.expect("the message is right").messages.remove(0)
}

/// The status message by hand, as somebody would write it who knows the layout: one 64-bit word, shifts and masks.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
struct Status {
    state: u8,
    opening: u8,
    upstream: u16,
    oil: u16,
    temp: i8,
    faults: u8,
    counter: u16,
}

fn decode_by_hand(body: &[u8]) -> Option<Status> {
    let word = u64::from_le_bytes(body.get(..8)?.try_into().ok()?);
    Some(Status {
        state: (word & 7) as u8,
        opening: (word >> 3) as u8,
        upstream: (word >> 11 & 0xFFF) as u16,
        oil: (word >> 23 & 0xFFF) as u16,
        temp: (word >> 35) as i8,
        faults: (word >> 43) as u8,
        counter: (word >> 51) as u16,
    })
}

fn encode_by_hand(status: &Status, out: &mut Vec<u8>) {
    let word = u64::from(status.state)
        | u64::from(status.opening) << 3
        | u64::from(status.upstream) << 11
        | u64::from(status.oil) << 23
        | u64::from(status.temp as u8) << 35
        | u64::from(status.faults) << 43
        | u64::from(status.counter) << 51;
    out.extend_from_slice(&word.to_le_bytes());
}

const ROUNDS: usize = 10_000;

fn bench(criterion: &mut Criterion) {
    let plan = plan();
    let status = Status { state: 1, opening: 85, upstream: 943, oil: 3068, temp: -7, faults: 0x80, counter: 4711 };
    let mut body = Vec::new();
    encode_by_hand(&status, &mut body);
    let mut values = Values::new(&plan);
    decode(&plan, &body, &mut values).expect("the body is right");
    assert_eq!(values.get(2), ValueRef::Raw(943));
    assert_eq!(values.get(4), ValueRef::Raw(-7i64 as u64));
    let mut again = Vec::new();
    encode(&plan, &values, 1, &mut again).expect("the values fit");
    assert_eq!(again, body);

    let mut slots = Values::new(&plan);
    let mut by_plan = || {
        for _ in 0..ROUNDS {
            decode(&plan, black_box(&body), &mut slots).expect("right");
            black_box(slots.get(6));
        }
    };
    let mut by_hand = || {
        for _ in 0..ROUNDS {
            black_box(decode_by_hand(black_box(&body)));
        }
    };
    let mut group = criterion.benchmark_group("codec");
    group.bench_function("decode by plan x 10,000", |b| b.iter(&mut by_plan));
    group.bench_function("decode by hand x 10,000", |b| b.iter(&mut by_hand));
    let decoding = ratio(&mut by_plan, &mut by_hand);

    let mut out = Vec::with_capacity(64);
    let mut encode_plan = || {
        for _ in 0..ROUNDS {
            out.clear();
            encode(&plan, black_box(&values), 1, &mut out).expect("right");
            black_box(&out);
        }
    };
    let mut out = Vec::with_capacity(64);
    let mut encode_hand = || {
        for _ in 0..ROUNDS {
            out.clear();
            encode_by_hand(black_box(&status), &mut out);
            black_box(&out);
        }
    };
    group.bench_function("encode by plan x 10,000", |b| b.iter(&mut encode_plan));
    group.bench_function("encode by hand x 10,000", |b| b.iter(&mut encode_hand));
    group.finish();
    println!("decoding by the plan takes {decoding:.1} times the code written by hand");
    println!("encoding by the plan takes {:.1} times the code written by hand", ratio(encode_plan, encode_hand));
}

criterion_group! {
    name = benches;
    config = Criterion::default().measurement_time(Duration::from_secs(2)).warm_up_time(Duration::from_millis(500));
    targets = bench
}

fn main() {
    benches();
    Criterion::default().configure_from_args().final_summary();
}
