//! Trials on the example link: deterministic, exact in what they count, and never a wrong value.

use std::sync::Arc;

use emberwort_link::{MessageNumber, Report, Revisions, Scenario, TrialObserver, run};
use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_wire::Framed;
use proptest::prelude::*;
use proptest::test_runner::RngSeed;

use crate::common::{Piece, run_and_keep};
use crate::plan_of_marlock;

fn plan() -> Arc<Plan> {
    let checked = plan_of_marlock::checked();
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

fn recorded(text: &str) -> (Report, Vec<Piece>) {
    let plan = plan();
    let scenario = Scenario::parse(text, &plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}"));
    run_and_keep(&scenario)
}

fn trial(text: &str) -> Report {
    recorded(text).0
}

fn problem(text: &str) -> String {
    Scenario::parse(text, &plan(), &Revisions::default()).expect_err(text).to_string()
}

const QUIET: &str = "channel = \"bus485\"\nspan = \"10 s\"\n[[device]]\nnode = 3\n";

fn total(counts: &std::collections::BTreeMap<(MessageNumber, u64), u64>) -> u64 {
    counts.values().sum()
}

#[test]
fn a_quiet_link_loses_nothing() {
    let (report, record) = recorded(QUIET);
    // Every 200 ms from 0 on, 50 times in 10 s.
    assert_eq!((total(&report.sent), total(&report.received)), (50, 50));
    assert_eq!((total(&report.damaged), total(&report.lost), report.host.gaps, report.repeated), (0, 0, 0, 0));
    // Without signals every field holds its rest; operator is absent: a frame of 8 + 14 bytes.
    assert_eq!((report.host.input, report.host.good), (50 * 22, 50));
    assert_eq!(report.wrong, 0);
    // 22 bytes of ten bits at 115,200 baud: 86,805 ns each.
    assert_eq!(record[0].time, 22 * 86_805);
}

#[test]
fn the_same_seed_gives_the_same_bytes_and_another_does_not() {
    let noisy =
        |seed: u64| format!("seed = {seed}\n{QUIET}[wire]\nbit_errors = 1e-3\nbyte_loss = 1e-3\nduplicates = 0.02\n");
    let (first, again, other) = (recorded(&noisy(1)), recorded(&noisy(1)), recorded(&noisy(2)));
    assert_eq!(first, again);
    assert_ne!(first.1, other.1);
}

#[test]
fn another_signal_does_not_change_what_the_wire_does() {
    let with = |signal: &str| format!("{QUIET}[device.signals.GateStatus]\n{signal}\n[wire]\nframe_loss = 0.3\n");
    let walk = trial(&with("oil = { walk = 3, between = [0, 200], start = 100 }"));
    let constant = trial(&with("oil = 100"));
    assert_eq!(walk.lost, constant.lost);
    assert!(total(&walk.lost) > 5);
    assert_eq!(total(&walk.sent), total(&walk.received) + total(&walk.lost));
}

#[test]
fn requests_are_answered_as_the_trial_says() {
    let text = format!(
        "must = [\"MoveGate answered within 20 ms\", \"at least 2 Refused\", \"at most 1 MoveAccepted from node 3\"]\n\
         {QUIET}answers_after = \"5 ms\"\n\
         [[device.reply]]\nto = \"MoveGate\"\nwith = \"MoveAccepted\"\n\
         [[device.reply]]\nto = \"MoveGate\"\nwith = \"Refused\"\nfrom = \"3 s\"\nfields = {{ reason = \"latch_stuck\" }}\n\
         [[request]]\nat = \"1050 ms\"\nnode = 3\nmessage = \"MoveGate\"\nfields = {{ target = 50 }}\n\
         [[request]]\nat = \"5050 ms\"\nevery = \"1 s\"\nuntil = \"7 s\"\nnode = 3\nmessage = \"MoveGate\"\n"
    );
    let report = trial(&text);
    assert!(report.passed(), "{:#?}", report.verdicts);
    // 10 bytes there, 5 ms, 11 bytes back (MoveAccepted has a body of 3 bytes).
    let plan = plan();
    let answers = &report.answers[&MessageNumber::of_own(plan.message_index("MoveGate").unwrap())];
    assert_eq!((answers.asked, answers.answered), (3, 3));
    assert_eq!(answers.slowest, Some(10 * 86_805 + 5_000_000 + 11 * 86_805));
    let with: Vec<(&str, u64)> = answers
        .with
        .iter()
        .map(|(message, count)| (plan.messages[message.index()].message.name.as_str(), *count))
        .collect();
    assert_eq!(with, [("MoveAccepted", 1), ("Refused", 2)]);
}

#[test]
fn a_request_to_nobody_is_never_answered() {
    let text = format!(
        "must = [\"WhoAreYou answered within 1 s\", \"counter gaps at most 0\", \"broken frames at most 0\"]\n\
         {QUIET}[[request]]\nat = \"1 s\"\nnode = 9\nmessage = \"WhoAreYou\"\n"
    );
    let report = trial(&text);
    assert!(!report.passed());
    assert_eq!(report.verdicts[0].found, "1 sent, 0 in time, 1 never answered");
    assert!(report.verdicts[1].held() && report.verdicts[2].held());
}

#[test]
fn a_restart_is_silence_and_counters_that_begin_again() {
    let report = trial(&format!("{QUIET}restart = [{{ at = \"4 s\", lasting = \"2 s\" }}]\n"));
    assert_eq!(total(&report.sent), 40, "ten reports of the two seconds are missing");
    assert_eq!((report.host.gaps, report.host.jumps_back), (0, 1));
}

#[test]
fn an_older_device_is_understood() {
    let report = trial(&format!("must = [\"no good frame with a wrong value\"]\n{QUIET}revision = 1\n"));
    assert!(report.passed());
    assert_eq!(report.host.input, 50 * (8 + 8), "only the section of revision 1 is sent");
}

#[test]
fn signals_do_what_they_say() {
    let text = format!(
        "{QUIET}[device.signals.GateStatus]\n\
         opening = {{ ramp = [10, 20], from = \"2 s\", to = \"4 s\" }}\n\
         upstream = {{ steps = [[\"0 s\", \"none\"], [\"1 s\", 2.5]] }}\n\
         pump_temp = {{ square = [20, 30], period = \"2 s\" }}\n\
         oil = {{ sine = 50, around = 100, period = \"4 s\" }}\n\
         latch_force = {{ walk = 0.5, between = [1, 2], start = 1.5 }}\n\
         operator = {{ steps = [[\"0 s\", {{ none = true }}], [\"2 s\", \"Wren\"]] }}\n"
    );
    let plan = plan();
    let (_, record) = recorded(&text);
    let field = |name: &str| plan.messages[0].message.field(name).unwrap().0;
    let framing = plan.channels[0].framing(End::Device);
    let mut values = emberwort_wire::Values::default();
    let mut raw_at = |index: usize, name: &str| {
        let view = framing.check(&record[index].bytes).unwrap();
        emberwort_wire::decode(&plan.messages[0], view.body, &mut values).unwrap();
        match values.get(field(name)) {
            emberwort_wire::ValueRef::Raw(raw) => raw,
            emberwort_wire::ValueRef::Bytes(bytes) => bytes.len() as u64,
            _ => u64::MAX,
        }
    };
    // Reports come every 200 ms: index 10 is 2 s, 15 is 3 s, 20 is 4 s.
    assert_eq!([0, 10, 15, 20, 40].map(|n| raw_at(n, "opening")), [20, 20, 30, 40, 40]);
    assert_eq!([0, 4, 5].map(|n| raw_at(n, "upstream")), [4095, 4095, 800]);
    assert_eq!([0, 4, 5, 10].map(|n| raw_at(n, "pump_temp")), [20, 20, 30, 20]);
    // 100 bar, 150 bar after a quarter of the period, 50 after three quarters, in 250/4095 bar.
    assert_eq!([0, 5, 15].map(|n| raw_at(n, "oil")), [1638, 2457, 819]);
    assert_eq!([9, 10].map(|n| raw_at(n, "operator")), [u64::MAX, 4]);
    for n in 0..50 {
        let force = f32::from_bits(raw_at(n, "latch_force") as u32);
        assert!((1.0..=2.0).contains(&force), "{force}");
    }
}

#[test]
fn stretches_and_bursts_hit_when_they_should() {
    let text = format!(
        "{QUIET}[wire]\nbursts = {{ every = \"5 s\", lasting = \"100 ms\", bit_errors = 0.5 }}\n\
         [[wire.stretch]]\nfrom = \"2 s\"\nto = \"3 s\"\nframe_loss = 1\n"
    );
    let report = trial(&text);
    // Five reports from 2 s on are lost, and the ones at 0 s and 5 s are hit by bursts.
    assert_eq!((total(&report.lost), total(&report.damaged)), (7, 2));
}

#[test]
fn mistakes_in_a_trial_are_told_with_their_place_and_a_way_out() {
    let device = |lines: &str| problem(&format!("{QUIET}{lines}"));
    assert!(problem("span = \"1 s\"").contains("missing field `channel`"));
    assert!(problem("chanel = \"bus485\"").contains("unknown field `chanel`, expected one of"));
    assert_eq!(
        problem("channel = \"bus458\"\nspan = \"1 s\"\n[[device]]"),
        "channel: there is no channel `bus458`; did you mean `bus485`?"
    );
    assert!(problem("channel = \"bus485\"\nspan = \"1\"\n[[device]]").starts_with("span: `1` is not a duration"));
    assert_eq!(device("[[device]]\nnode = 3"), "device 2: node 3 is taken by an earlier device");
    assert_eq!(
        device("revision = 5"),
        "device 1.revision: 5 is not sealed, and does not lie between 1 and 4, the link's own"
    );
    let signal = |line: &str| device(&format!("[device.signals.GateStatus]\n{line}"));
    assert_eq!(
        signal("oil = 300"),
        "device 1.signals.GateStatus.oil: 300 does not fit; it holds 0.00 .. 250.00 bar in steps of ≈0.0611"
    );
    assert!(signal("oli = 3").ends_with("there is no field `oli`; did you mean `oil`?"));
    assert!(signal("oil = { ramp = [0, 9], from = \"2 s\", to = \"1 s\" }").ends_with("`from` must come before `to`"));
    assert!(signal("oil = { ramp = [0, 9], from = \"1 s\", to = \"1 s\" }").ends_with("`from` must come before `to`"));
    assert!(signal("oil = { sine = 200, around = 100, period = \"1 s\" }").contains("-100.0"));
    assert!(signal("state = { ramp = [0, 1], from = \"0 s\", to = \"1 s\" }").contains("only numbers can ramp"));
    assert!(signal("oil = { spline = 3 }").contains("this is not a signal; write a value, { ramp"));
    assert!(
        signal("oil = { square = [1, 2], period = \"1 s\", phase = 1 }")
            .contains("`phase` does not belong to `square`")
    );
    assert!(signal("opening = { steps = [[\"1 s\", 2]] }").contains("steps begin at \"0 s\""));
    assert!(
        device("[[request]]\nat = \"1 s\"\nmessage = \"Alarm\"").contains("comes from the device, not from the host")
    );
    assert!(
        device("[[device.reply]]\nto = \"WhoAreYou\"\nwith = \"Refused\"")
            .contains("does not say that `WhoAreYou` is answered by")
    );
    assert!(device("[wire]\nbit_errors = 2").contains("wire.bit_errors: 2 is not a probability"));
    let must = |sentence: &str| problem(&format!("must = [\"{sentence}\"]\n{QUIET}"));
    assert!(must("at least many GateStatus").contains("`many` is not a whole number"));
    assert!(must("GateStatus answered within 3 ms").contains("does not say what answers `GateStatus`"));
    assert!(must("all is well").contains("write one of: at least N MESSAGE"));
}

proptest! {
    // Always the same cases: among enough damaged frames a CRC of 16 bits must let one through, one in 65,536.
    #![proptest_config(ProptestConfig { cases: 40, rng_seed: RngSeed::Fixed(1), ..ProptestConfig::default() })]

    /// Whatever the wire does, a received value is never another than the one sent, and every byte is accounted for.
    #[test]
    fn no_received_value_differs_from_the_one_sent(
        seed: u64, bit_errors in 0.0f64..0.01, byte_loss in 0.0f64..0.02, frame_loss in 0.0f64..0.2, duplicates in 0.0f64..0.2,
    ) {
        let text = format!(
            "seed = {}\nchannel = \"bus485\"\nspan = \"20 s\"\n\
             [wire]\nbit_errors = {bit_errors}\nbyte_loss = {byte_loss}\nframe_loss = {frame_loss}\nduplicates = {duplicates}\n\
             [[device]]\nnode = 1\n[device.signals.GateStatus]\noil = {{ walk = 9, between = [0, 250], start = 99 }}\n\
             [[device]]\nnode = 2\nrevision = 2\nfirst_report = \"1 ms\"\n\
             [[request]]\nat = \"0 s\"\nevery = \"300 ms\"\nnode = 1\nmessage = \"WhoAreYou\"\n",
            seed >> 1
        );
        let (report, record) = recorded(&text);
        prop_assert_eq!(report.wrong, 0);
        prop_assert_eq!(total(&report.sent), total(&report.received) + total(&report.lost));
        let recorded: u64 = record.iter().map(|piece| piece.bytes.len() as u64).sum();
        prop_assert_eq!(recorded, report.host.input + report.device().input);
    }
}

/// A link whose node 0 means all, whose keys say the node, and whose frames run.
fn small(frame: &str, on: &str, text: &str) -> Result<(Report, Vec<Piece>), String> {
    let definition = format!(
        "link s {{ revision 1  byte_order big }}\nchannel c {{\n medium uart 9600 8N1\n {frame} }}\n\
         message Move {{ {on}\n from host  on c  answered by Moved\n spare 1 bits\n to : u7 }}\n\
         message Moved {{ id 0xC0\n from device  on c\n spare 1 bits\n at : u7 }}"
    );
    let checked = emberwort_model::check(&emberwort_model::Source::new("s.ember", definition.as_str()));
    let plan = Arc::new(checked.plan.unwrap_or_else(|| panic!("{:?}", checked.findings)));
    let text = format!("channel = \"c\"\nspan = \"1 s\"\n{text}");
    let scenario = Scenario::parse(&text, &plan, &Revisions::default()).map_err(|error| error.to_string())?;
    Ok(run_and_keep(&scenario))
}

const TWO: &str = "[[device]]\nnode = 1\n[[device]]\nnode = 2\n";

#[test]
fn nobody_answers_what_is_for_all() {
    let frame =
        "frame { sync C6 39\n node : u8 address 0 for all\n kind : u8 message\n size : u8 length of body\n body }";
    let request =
        |node: u8| format!("[[request]]\nat = \"1 ms\"\nnode = {node}\nmessage = \"Move\"\nfields = {{ to = 5 }}\n");
    let (one, _) = small(frame, "id 0x90", &format!("{TWO}{}", request(2))).unwrap();
    assert_eq!((one.answers.len(), one.answers[&MessageNumber::default()].answered, total(&one.received)), (1, 1, 2));
    let (all, _) = small(frame, "id 0x90", &format!("{TWO}{}", request(0))).unwrap();
    assert_eq!((all.answers.len(), total(&all.sent), total(&all.received), total(&all.lost)), (0, 1, 1, 0));
    assert_eq!(all.wrong, 0);
    let none = small(frame, "id 0x90", "[[device]]\nnode = 0\n").unwrap_err();
    assert!(none.contains("the node 0 means all of them"), "{none}");
    let beyond =
        small(frame, "id 0x90", &format!("{TWO}{}", request(2).replace("node = 2", "node = 256"))).unwrap_err();
    assert!(beyond.contains("the node 256 does not fit `node`, which goes to 255"), "{beyond}");
}

#[test]
fn keys_say_the_node_and_status_bytes_are_left_out() {
    let frame = "status bytes running\n frame { status : u8 message\n body }";
    let request = "[[request]]\nat = \"1 ms\"\nevery = \"100 ms\"\nnode = 2\nmessage = \"Move\"\nfields = { to = 5 }\n";
    let (report, record) = small(frame, "id 0x90 + node 1 .. 3", &format!("{TWO}{request}")).unwrap();
    // Ten requests, of which the first has its status byte; so have the answers.
    let bytes: Vec<&[u8]> = record.iter().map(|one| &one.bytes[..]).collect();
    assert_eq!(bytes[..4], [&[0x92, 5][..], &[0xC0, 0], &[5], &[0]]);
    assert_eq!((report.device().input, report.host.input, total(&report.lost)), (11, 11, 0));
    let beyond = small(frame, "id 0x90 + node 1 .. 3", &format!("{TWO}{}", request.replace("node = 2", "node = 4")))
        .unwrap_err();
    assert!(beyond.contains("the node 4 has no key here: they are for nodes 1 to 3"), "{beyond}");
}

/// A lost request does not take the answers of those behind it.
#[test]
fn each_answer_belongs_to_its_own_request() {
    let text = format!(
        "must = [\"MoveGate answered within 20 ms\"]\n{QUIET}answers_after = \"5 ms\"\n\
         [[wire.stretch]]\nfrom = \"1 s\"\nto = \"1004 ms\"\nframe_loss = 1\n\
         [[request]]\nat = \"1 s\"\nevery = \"500 ms\"\nuntil = \"6200 ms\"\nnode = 3\nmessage = \"MoveGate\"\n"
    );
    let report = trial(&text);
    // 10 + 11 bytes of 86,805 ns and 5 ms; the requests are sent at moments at which a report of 22 bytes has just begun.
    let slowest = (22 + 10 + 11) * 86_805 + 5_000_000;
    assert_eq!(
        report.verdicts[0].found,
        format!(
            "11 sent, 10 in time, 1 never answered, slowest after {:.3} ms",
            f64::from(slowest - 22 * 86_805) / 1e6
        )
    );
    let answers = report.answers.values().next().unwrap();
    assert_eq!((answers.asked, answers.answered), (11, 10));
    let median = answers.quantile(0.5).unwrap();
    assert!(median.abs_diff(6_822_905) <= 6_823, "{median}");
}

#[test]
fn a_host_asks_again_when_nobody_answers_in_time() {
    // MoveGate is answered within 50 ms; what is sent in the first 120 ms is lost: at 0, 50 and 100 ms.
    let text = |retries: u32| {
        format!(
            "channel = \"bus485\"\nspan = \"2 s\"\nmust = [\"MoveGate answered within 200 ms\", \"at least 1 MoveGate at device 3\"]\n\
             [host]\nretries = {retries}\n[[device]]\nnode = 3\nfirst_report = \"1 s\"\n\
             [[wire.stretch]]\nfrom = \"0 s\"\nto = \"120 ms\"\nframe_loss = 1\n\
             [[request]]\nat = \"0 s\"\nnode = 3\nmessage = \"MoveGate\"\n"
        )
    };
    let enough = trial(&text(3));
    assert!(enough.passed(), "{:?}", enough.verdicts);
    assert_eq!(enough.retries, 3);
    // 150 ms, 10 bytes there, 2 ms, 11 bytes back.
    assert_eq!(enough.answers.values().next().unwrap().slowest, Some(150_000_000 + 2_000_000 + 21 * 86_805));
    let few = trial(&text(2));
    assert_eq!((few.passed(), few.retries), (false, 2));
    assert_eq!(few.verdicts[0].found, "1 sent, 0 in time, 1 never answered");
    assert_eq!(few.verdicts[1].found, "0 received at device 3");
}

/// Nobody knows when an answer is late that has no time to come in.
#[test]
fn retries_need_a_time() {
    let request = format!("[host]\nretries = 2\n{TWO}[[request]]\nat = \"1 ms\"\nnode = 1\nmessage = \"Move\"\n");
    let problem =
        small("frame { sync C6\n node : u8 address\n kind : u8 message\n body }\n limit 9 bytes", "id 1", &request);
    let problem = problem.expect_err("`Moved` has no `within`");
    assert!(
        problem.contains("`retries` needs to know when `Move` is too late: write `answered by … within 50 ms`"),
        "{problem}"
    );
}

#[test]
fn answers_can_repeat_what_was_asked() {
    let definition = "link s { revision 1  byte_order little }\nchannel c {\n medium udp 4000\n packet\n frame { kind : u8 message\n body } }\n\
         message Ask { id 1  from host  on c  answered by Tell\n what : u16\n how : u8\n name : text[..8] }\n\
         message Tell { id 2  from device  on c\n value : u8\n again : u16\n name : text[..8] }";
    let checked = emberwort_model::check(&emberwort_model::Source::new("s.ember", definition));
    let plan = Arc::new(checked.plan.unwrap_or_else(|| panic!("{:?}", checked.findings)));
    let parse = |echo: &str| {
        let text = format!(
            "channel = \"c\"\nspan = \"1 s\"\n[[device]]\n[[device.reply]]\nto = \"Ask\"\nwith = \"Tell\"\nfields = {{ value = 7 }}\necho = {echo}\n\
             [[request]]\nat = \"0 s\"\nmessage = \"Ask\"\nfields = {{ what = 500, how = 3, name = \"ab\" }}\n"
        );
        Scenario::parse(&text, &plan, &Revisions::default()).map_err(|error| error.to_string())
    };
    let (_, record) = run_and_keep(&parse("[\"again of what\", \"name\"]").unwrap());
    assert_eq!(record[1].bytes, [2, 7, 0xF4, 1, 2, b'a', b'b']);
    assert!(parse("[\"again of how\"]").unwrap_err().contains("`how` and `again` do not have the same type"));
    assert!(parse("[\"gain of what\"]").unwrap_err().contains("did you mean `again`?"));
}

#[test]
fn what_must_hold_says_which_side_counts() {
    let noisy =
        "[wire]\nbit_errors = 3e-3\n[[request]]\nat = \"0 s\"\nevery = \"100 ms\"\nnode = 3\nmessage = \"MoveGate\"\n";
    let report = trial(&format!(
        "must = [\"broken frames at most 0\", \"broken frames at most 0 at device 3\", \"counter gaps at most 0 at device 3\",\
         \"unread frames at most 0 at the host\", \"at least 1 MoveGate to node 3\", \"at least 1 GateStatus at the host\"]\n{QUIET}{noisy}"
    ));
    let found: Vec<&str> = report.verdicts.iter().map(|verdict| verdict.found.as_str()).collect();
    let (host, device) = (report.host, report.devices[&3]);
    assert!(host.broken > 0 && device.broken > 0 && host.broken != device.broken, "{host:?} {device:?}");
    assert_eq!(found[0], format!("{} broken at the host", host.broken));
    assert_eq!(found[1], format!("{} broken at device 3", device.broken));
    assert_eq!(found[2], format!("{} found at device 3, with {} numbers left out", device.gaps, device.missing));
    assert!(found[3].ends_with(" unread at the host") && found[4].ends_with(" received at device 3"), "{found:?}");
    assert!(found[5].ends_with(" received at the host"), "{found:?}");
    let must = |sentence: &str| problem(&format!("must = [\"{sentence}\"]\n{QUIET}"));
    assert!(must("at least 1 MoveGate from node 3").contains("MoveGate is sent by the host; write `to node 3`"));
    assert!(must("at least 1 MoveGate at the host").contains("MoveGate is received by devices; write `at device K`"));
    assert!(must("broken frames at most 1 at device 7").contains("there is no device 7 in this trial"));
}

#[test]
fn what_nobody_waits_for_is_refused_and_what_the_wire_cannot_carry_is_given_up() {
    let request = |every: &str, span: &str| {
        format!(
            "channel = \"bus485\"\nspan = \"{span}\"\n[[device]]\nnode = 3\n\
             [[request]]\nat = \"0 s\"\nevery = \"{every}\"\nnode = 3\nmessage = \"MoveGate\"\n"
        )
    };
    assert_eq!(
        problem(&request("1 us", "1 h")),
        "span: this trial would send 3600018000 frames, 3600000000 of them for request 1; 100000000 are the most. Take a shorter span, \
         or a longer `every`"
    );
    let report = trial(&request("1 us", "5 s"));
    assert!(report.overrun.is_some_and(|at| at < 2_000_000_000) && !report.passed(), "{:?}", report.overrun);
}

/// How much a trial keeps while it runs does not depend on its span: sent frames are forgotten, whatever becomes of them.
#[test]
fn long_trials_forget_what_is_judged() {
    struct Count(u64);
    impl TrialObserver for Count {
        fn should_continue(&mut self, _: u64) -> bool {
            self.0 += 1;
            true
        }
    }
    let text = "channel = \"bus485\"\nspan = \"1 h\"\n[wire]\nbit_errors = 1e-3\nframe_loss = 0.1\nduplicates = 0.1\n[[device]]\nnode = 3\n";
    let plan = plan();
    let scenario = Scenario::parse(text, &plan, &Revisions::default()).unwrap();
    let mut count = Count(0);
    let report = run(&scenario, &mut count);
    assert_eq!(total(&report.sent), total(&report.received) + total(&report.lost));
    assert!(count.0 > 50, "{}", count.0);
    assert_eq!(total(&report.sent), 18_000);
}
