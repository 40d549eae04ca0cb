//! The ends as machines, in virtual time: they talk to each other without clock and ports, and say what they say in a trial.

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_link::{DeviceEnd, HostEnd, LinkEvent, Machine, Revisions, Scenario};
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::{Chunk, StreamId, Time, Times};

use crate::plan_of_marlock;

const TRIAL: &str = r#"
channel = "bus485"
span    = "10 s"
[[device]]
node = 3
answers_after = "5 ms"
[device.tables.Settings]
ramp_time = 12.5
[device.signals.GateStatus]
opening = { follow = "MoveGate.target", speed = 20, start = 0 }
[[host.script]]
name  = "opening"
at    = "500 ms"
steps = [
    { send = "MoveGate", node = 3, fields = { target = 40, speed = 10 } },
    { expect = "MoveAccepted", within = "50 ms" },
    { expect = "GateStatus", when = "opening == 40", within = "3 s" },
]
[[request]]
at = "1 s"
every = "1 s"
until = "5 s"
node = 3
message = "ReadSetting"
fields = { setting = "ramp_time" }
[[request]]
at = "6 s"
node = 9
message = "WhoAreYou"
"#;

/// Lets both ends talk for so many milliseconds, over a wire that takes one; returns all events and the frames of each.
fn talk(device: &mut DeviceEnd, host: &mut HostEnd, milliseconds: u64) -> (Vec<LinkEvent>, usize, usize) {
    let (mut events, mut from_device, mut from_host) = (Vec::new(), 0, 0);
    let mut counters = BTreeMap::<u8, u8>::new();
    for step in 0..milliseconds {
        let now = Time::default().after(step * 1_000_000);
        device.handle_timeout(now);
        host.handle_timeout(now);
        let later = now.after(1_000_000);
        let chunk = |from: End| StreamId { channel: ChannelId::default(), from: Some(from), tap: 0 };
        while let Some(frame) = device.poll_transmit() {
            // C6 39, node, kind, counter: it counts all frames, reports and answers alike.
            assert_eq!(frame[4], from_device as u8, "{frame:02X?}");
            from_device += 1;
            let chunk = Chunk { stream: chunk(End::Device), times: Times::Last(later), key: None, bytes: &frame };
            host.handle_chunk(later, &chunk);
        }
        while let Some(frame) = host.poll_transmit() {
            // What is sent to each node counts by itself.
            let counter = counters.entry(frame[2]).or_default();
            assert_eq!(frame[4], *counter, "{frame:02X?}");
            *counter += 1;
            from_host += 1;
            let chunk = Chunk { stream: chunk(End::Host), times: Times::Last(later), key: None, bytes: &frame };
            device.handle_chunk(later, &chunk);
        }
        events.extend(std::iter::from_fn(|| host.poll_event()));
    }
    (events, from_device, from_host)
}

#[test]
fn two_ends_talk_in_virtual_time() {
    let plan = Arc::new(plan_of_marlock::checked().plan.unwrap());
    let scenario = Scenario::parse(TRIAL, &plan, &Revisions::default()).unwrap();
    let mut device = DeviceEnd::new(&scenario, 0, Time::default());
    let mut host = HostEnd::new(&scenario, Time::default());
    let (events, from_device, from_host) = talk(&mut device, &mut host, 10_000);
    // 50 reports, 5 answers; 1 MoveGate, 4 ReadSetting, 1 WhoAreYou to nobody.
    assert_eq!((from_device, from_host), (55, 6));
    let answered: Vec<u64> = events
        .iter()
        .filter_map(|event| match event {
            LinkEvent::Answered { after, .. } => Some(*after),
            LinkEvent::Unanswered { .. } => None,
        })
        .collect();
    // There in 1 ms, answered after 5 more, back in 1; ends look once a millisecond.
    assert_eq!(answered, [7_000_000; 4]);
    assert!(matches!(events.last(), Some(LinkEvent::Unanswered { node: 9, .. })), "{events:?}");
    let outcomes = host.outcomes();
    assert!(outcomes[0].held(), "{outcomes:?}");
    let heard = (device.heard(), host.heard());
    assert_eq!((heard.0.good, heard.1.good), (6, 55));
    assert_eq!(heard.1.good_bytes, heard.1.input);
}

#[test]
fn what_was_asked_for_comes_when_it_was_said() {
    let plan = Arc::new(plan_of_marlock::checked().plan.unwrap());
    let scenario = Scenario::parse(TRIAL, &plan, &Revisions::default()).unwrap();
    let starts = Time::from_nanoseconds(5_000_000_000);
    let mut host = HostEnd::new(&scenario, starts);
    // The script is first, half a second after the start.
    assert_eq!(host.poll_timeout(), Some(starts.after(500_000_000)));
    host.handle_timeout(starts.after(499_999_999));
    assert_eq!(host.poll_transmit(), None);
    host.handle_timeout(starts.after(500_000_000));
    // C6 39, node 3, MoveGate 40, counter 0, 2 bytes: 40 % is 80 steps of half a percent, 10 mm/s the 15th of 31 steps from 1 to 20.
    let frame = host.poll_transmit().unwrap();
    assert_eq!(frame[..8], [0xC6, 0x39, 0x03, 0x40, 0x00, 0x02, 0x50, 0x0F]);
}

/// What came in the place of what a step waits for tells the way: an answer of another kind, another value, another node.
#[test]
fn a_step_that_fails_says_what_came_instead() {
    let plan = Arc::new(plan_of_marlock::checked().plan.unwrap());
    let found = |expect: &str, device: &str| {
        let text = format!(
            "channel = \"bus485\"\nspan = \"3 s\"\n[[device]]\nnode = 3\nanswers_after = \"5 ms\"\n{device}\n[[host.script]]\nname = \"s\"\nat = \"500 ms\"\n\
             steps = [\n {{ send = \"MoveGate\", node = 3, fields = {{ target = 40, speed = 10 }} }},\n {{ {expect}, within = \"50 ms\" }},\n]\n"
        );
        let scenario =
            Scenario::parse(&text, &plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}\n{text}"));
        let mut device = DeviceEnd::new(&scenario, 0, Time::default());
        let mut host = HostEnd::new(&scenario, Time::default());
        talk(&mut device, &mut host, 2_000);
        host.outcomes().remove(0).found
    };
    let accepts = "";
    let refuses = "[[device.reply]]\nto = \"MoveGate\"\nwith = \"Refused\"";
    assert_eq!(found("expect = \"MoveAccepted\"", accepts), "all 2 steps, once");
    assert_eq!(
        found("expect = \"MoveAccepted\", node = 3", refuses),
        "step 2 of 2: no MoveAccepted from node 3 came within 50 ms; Refused came instead"
    );
    assert_eq!(
        found("expect = \"MoveAccepted\", when = \"target == 70\"", accepts),
        "step 2 of 2: no MoveAccepted with `target == 70` came within 50 ms; MoveAccepted came, but not with `target == 70`"
    );
    assert_eq!(
        found("expect = \"MoveAccepted\", node = 4", accepts),
        "step 2 of 2: no MoveAccepted from node 4 came within 50 ms; MoveAccepted came, but from another node"
    );
    // Messages that have nothing to do with the question say nothing.
    let silent = "[[device.reply]]\nto = \"MoveGate\"\nwith = \"none\"";
    assert_eq!(found("expect = \"MoveAccepted\"", silent), "step 2 of 2: no MoveAccepted came within 50 ms");
}
