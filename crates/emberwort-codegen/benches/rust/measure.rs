//! Does one thing so many times with generated Rust, as measure.c does with C: `measure encode|decode|view|write|nothing TIMES`.
//! `write` is the writer whose type says which value comes next; `view` checks a body and reads three of its fields.

mod marlock;

use std::hint::black_box;

use marlock::{Error, Faults, GateState, GateStatus, GateStatusView, GateStatusWriter};

#[inline(never)]
fn nothing(body: &[u8]) -> usize {
    body.len()
}

#[inline(never)]
fn encode(status: &GateStatus, out: &mut [u8]) -> Result<usize, Error> {
    status.encode(out)
}

#[inline(never)]
fn decode(body: &[u8], into: &mut GateStatus) -> Result<(), Error> {
    *into = GateStatus::decode(body)?;
    Ok(())
}

#[inline(never)]
fn view(body: &[u8]) -> Result<usize, Error> {
    let view = GateStatusView::new(body)?;
    Ok(usize::from(view.state().0) + usize::from(view.opening()) + usize::from(view.oil()))
}

#[inline(never)]
fn write(out: &mut [u8]) -> Result<usize, Error> {
    let first = GateStatusWriter::new(out).state(GateState::OPENING)?.opening(85)?.upstream(940)?.oil(999)?;
    let second = first.pump_temp(-4)?.faults(Faults(1))?.operator(None)?.battery(121)?;
    Ok(second.latch_force(10.0)?.moving(true)?.finish())
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let what = arguments.next().expect("what to do");
    let times: u32 = arguments.next().and_then(|times| times.parse().ok()).expect("how often");
    let values = GateStatus {
        state: GateState::OPENING,
        opening: 85,
        upstream: 940,
        oil: 999,
        pump_temp: -4,
        faults: Faults(1),
        battery: 121,
        latch_force: 10.0,
        moving: true,
        ..GateStatus::default()
    };
    let (mut out, mut into) = ([0; 64], values);
    let size = values.encode(&mut out).expect("values that may be sent");
    let body = out;
    for _ in 0..times {
        let done = match what.as_str() {
            "encode" => encode(black_box(&values), black_box(&mut out)).is_ok_and(|count| count == size),
            "decode" => decode(black_box(&body[..size]), black_box(&mut into)).is_ok(),
            "view" => view(black_box(&body[..size])).is_ok(),
            "write" => write(black_box(&mut out)).is_ok_and(|count| count == size && out[..count] == body[..count]),
            _ => nothing(black_box(&body[..size])) == size,
        };
        assert!(done, "{what}");
    }
}
