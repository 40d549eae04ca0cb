//! All that a trial file can say of devices, the wire and the host, each checked by what is received.

use std::sync::Arc;

use emberwort_link::hostile::hostile;
use emberwort_link::{Reason, Report, Revisions, Scenario};
use emberwort_model::Plan;
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_wire::body_reader::{BodyReader, Requests};
use emberwort_wire::{FrameFault, FrameSink, FrameView, Framed as _, Receiver, Values};

use crate::common::run_and_keep;
use crate::plan_of_marlock;

fn plan() -> Arc<Plan> {
    Arc::new(plan_of_marlock::checked().plan.unwrap())
}

/// A message that was received: its name, its fields as JSON.
type Row = (String, serde_json::Value);

struct Rows<'p> {
    plan: &'p Arc<Plan>,
    reader: BodyReader,
    requests: Requests,
    rows: Vec<Row>,
}

impl FrameSink for Rows<'_> {
    fn accept(&mut self, frame: &FrameView<'_>) -> Result<(), FrameFault> {
        self.reader.check(frame, &self.requests)
    }

    fn good(&mut self, _: std::ops::Range<u64>, frame: &FrameView<'_>, _: &[u8]) {
        let message = self.reader.message();
        let values: Values = self.reader.values(frame).clone();
        let mut text = String::new();
        let writing = emberwort_text::json::Writing::default();
        emberwort_text::json::write_fields(&self.plan.messages[message], &values, writing, &mut text).unwrap();
        self.rows.push((self.plan.messages[message].message.name.clone(), serde_json::from_str(&text).unwrap()));
    }

    fn unread(&mut self, _: std::ops::Range<u64>, _: Option<&FrameView<'_>>, _: &FrameFault, _: &[u8]) {}

    fn broken(&mut self, _: std::ops::Range<u64>, _: &FrameFault, _: &[u8]) {}

    fn stray(&mut self, _: std::ops::Range<u64>, _: &[u8]) {}
}

/// What one end sent on `bus485`, as it was received.
fn rows_from(plan: &Arc<Plan>, text: &str, from: End) -> (Report, Vec<Row>) {
    let scenario = Scenario::parse(text, plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}"));
    let (report, pieces) = run_and_keep(&scenario);
    let channel = plan.channels.iter().position(|channel| channel.name == "bus485").unwrap();
    let mut sink = Rows {
        plan,
        reader: BodyReader::new(plan.clone(), ChannelId::new(channel), Some(from)),
        requests: Requests::default(),
        rows: Vec::new(),
    };
    let mut receiver = Receiver::new(plan.channels[channel].framing(from));
    for piece in pieces.iter().filter(|piece| piece.from == from) {
        receiver.feed(&piece.bytes, &mut sink);
    }
    (report, sink.rows)
}

fn device_rows(text: &str) -> Vec<Row> {
    rows_from(&plan(), text, End::Device).1
}

const HEAD: &str = "channel = \"bus485\"\nspan = \"10 s\"\nseed = 3\n";

/// The values of one field of all GateStatus.
fn values_of(field: &str, signal: &str) -> Vec<serde_json::Value> {
    let text = format!("{HEAD}[[device]]\nnode = 3\n[device.signals.GateStatus]\n{field} = {signal}\n");
    device_rows(&text).into_iter().map(|(_, fields)| fields[field].clone()).collect()
}

fn numbers(field: &str, signal: &str) -> Vec<f64> {
    values_of(field, signal).iter().map(|value| value.as_f64().unwrap()).collect()
}

#[test]
fn signals_do_what_they_say() {
    // A message every 200 ms: 50 in 10 s. A triangle of 4 s: up to 60 after 1 s, down to 40 after 3 s.
    let triangle = numbers("opening", "{ triangle = 10, around = 50, period = \"4 s\" }");
    assert_eq!((triangle.len(), triangle[0], triangle[5], triangle[10], triangle[15]), (50, 50.0, 60.0, 50.0, 40.0));
    let noise = numbers("upstream", "{ noise = 0.1, around = 3 }");
    let mean = noise.iter().sum::<f64>() / 50.0;
    assert!((mean - 3.0).abs() < 0.06 && noise.iter().all(|value| (value - 3.0).abs() <= 0.405), "{noise:?}");
    let cycle = values_of("state", "{ cycle = [\"closed\", \"opening\", \"open\"], each = \"1 s\" }");
    assert_eq!(
        [&cycle[0], &cycle[4], &cycle[5], &cycle[10], &cycle[15]],
        ["closed", "closed", "opening", "open", "closed"]
    );
    // From `closed` it always goes on, from `open` never.
    let chain =
        values_of("state", "{ chain = [[\"closed\", { opening = 1 }], [\"opening\", { open = 1 }], [\"open\", {}]] }");
    assert_eq!([&chain[0], &chain[1], &chain[2], &chain[49]], ["opening", "open", "open", "open"]);
    let burst = values_of("faults", "{ burst = [\"oil_hot\"], usually = [], chance = 0.1, lasting = \"600 ms\" }");
    let hot = burst.iter().filter(|value| **value == serde_json::json!(["oil_hot"])).count();
    // Each lasts for three messages.
    assert!((3..45).contains(&hot), "{hot}");
    let texts = values_of("operator", "{ cycle = [\"Wren\", \"Teal\"], each = \"400 ms\" }");
    assert_eq!([&texts[0], &texts[1], &texts[2]], ["Wren", "Wren", "Teal"]);
}

#[test]
fn a_formula_reads_other_fields_and_the_time() {
    let text = format!(
        "{HEAD}[[device]]\nnode = 3\n[device.signals.GateStatus]\noil = {{ formula = \"opening * 2 + time\" }}\n\
         opening = {{ ramp = [0, 100], from = \"0 s\", to = \"10 s\" }}\nmoving = {{ formula = \"opening > 50\" }}\n"
    );
    for (n, (_, fields)) in device_rows(&text).iter().enumerate() {
        let opening = fields["opening"].as_f64().unwrap();
        let expected = opening * 2.0 + 0.2 * n as f64;
        assert!((fields["oil"].as_f64().unwrap() - expected).abs() < 0.04, "{n}: {fields}");
        assert_eq!(fields["moving"], opening > 50.0, "{n}: {fields}");
    }
}

#[test]
fn a_recording_of_numbers_is_played_back() {
    let text = format!(
        "{HEAD}[[device]]\nnode = 3\n[device.signals.GateStatus]\noil = {{ playback = \"oil.csv\", column = \"bar\", time = \"t\" }}\n"
    );
    let read = |name: &str| {
        assert_eq!(name, "oil.csv");
        Ok("t, bar\n0, 10\n2, 30\n4, 0\n".to_owned())
    };
    let plan = plan();
    let scenario = Scenario::parse_with(&text, &plan, &Revisions::default(), &read).unwrap();
    let oil = |at: u64| {
        let device = &scenario.devices[0];
        let (key, signal) = device.signals.iter().next().unwrap();
        let mut signal = signal.clone();
        let mut values = Values::new(&plan.messages[key.0]);
        let mut random = rand::SeedableRng::seed_from_u64(0);
        let fields = &plan.messages[key.0].message.fields;
        signal.sample(at, (fields, key.1), &Default::default(), &mut random, &mut values);
        emberwort_text::formula::number(&fields[key.1], &values, key.1).unwrap()
    };
    for (at, expected) in
        [(0, 10.0), (1_000_000_000, 20.0), (2_000_000_000, 30.0), (3_000_000_000, 15.0), (9_000_000_000, 0.0)]
    {
        assert!((oil(at) - expected).abs() < 0.04, "{at}: {}", oil(at));
    }
}

fn asked(reply: &str, requests: &str) -> (Report, Vec<Row>) {
    let text = format!("{HEAD}[[device]]\nnode = 3\nfirst_report = \"1 h\"\n{reply}\n{requests}");
    rows_from(&plan(), &text, End::Device)
}

const MOVE: &str = "[[request]]\nat = \"1 s\"\nnode = 3\nmessage = \"MoveGate\"\nfields = { target = 60, speed = 10 }\n\
                    [[request]]\nat = \"2 s\"\nnode = 3\nmessage = \"MoveGate\"\nfields = { target = 95, speed = 10 }\n";

#[test]
fn answers_depend_on_what_is_asked() {
    let reply = "[[device.reply]]\nto = \"MoveGate\"\nwith = \"Refused\"\nwhen = \"target > 90\"\nfields = { reason = \"oil_hot\" }\n\
                 [[device.reply]]\nto = \"MoveGate\"\nwith = \"MoveAccepted\"\necho = [\"target\"]\nfields = { ready_in = { formula = \"target / 2\" } }\n";
    let (report, rows) = asked(reply, MOVE);
    assert_eq!((rows[0].0.as_str(), rows[1].0.as_str()), ("MoveAccepted", "Refused"));
    assert_eq!((&rows[0].1["target"], &rows[0].1["ready_in"]), (&60.0.into(), &30.0.into()));
    assert_eq!(rows[1].1["reason"], "oil_hot");
    assert_eq!(report.wrong, 0);
}

#[test]
fn answers_can_be_missing_double_late_or_from_another_node() {
    let reply = |more: &str| format!("[[device.reply]]\nto = \"MoveGate\"\nwith = \"MoveAccepted\"\n{more}\n");
    let count = |reply: &str| {
        let (report, rows) = asked(reply, MOVE);
        let answered: u64 = report.answers.values().map(|all| all.answered).sum();
        let slowest = report.answers.values().filter_map(|all| all.slowest).max();
        (rows.len(), answered, slowest.map(|time| time / 1_000_000))
    };
    // 10 bytes there (868 us), 2 ms, 11 bytes back (955 us).
    assert_eq!(count(&reply("")), (2, 2, Some(3)));
    assert_eq!(count(&reply("times = 2")), (4, 2, Some(3)));
    assert_eq!(count(&reply("after = \"40 ms\"")), (2, 2, Some(41)));
    assert_eq!(count(&reply("from_node = 7")), (2, 0, None));
    assert_eq!(count(&reply("chance = 0")), (2, 2, Some(3)), "without a reply that fits the definition's first counts");
    assert_eq!(count("[[device.reply]]\nto = \"MoveGate\"\nwith = \"none\"\n"), (0, 0, None));
    for after in [
        "[\"10 ms\", \"30 ms\"]",
        "{ mean = \"20 ms\", deviation = \"3 ms\" }",
        "{ mean = \"20 ms\", least = \"10 ms\" }",
    ] {
        let (rows, answered, slowest) = count(&reply(&format!("after = {after}")));
        assert_eq!((rows, answered), (2, 2), "{after}");
        assert!((11..120).contains(&slowest.unwrap()), "{after}: {slowest:?}");
    }
}

#[test]
fn tables_are_read_written_and_kept() {
    let ask = |at: u32, message: &str, fields: &str| {
        format!("[[request]]\nat = \"{at} s\"\nnode = 3\nmessage = \"{message}\"\nfields = {fields}\n")
    };
    let requests = [
        ask(1, "ReadSetting", "{ setting = \"ramp_time\" }"),
        ask(2, "WriteSetting", "{ setting = \"ramp_time\", value = { ramp_time = 20.25 } }"),
        ask(3, "ReadSetting", "{ setting = \"ramp_time\" }"),
        ask(4, "WriteSetting", "{ setting = \"motor_current\", value = { motor_current = 1 } }"),
        ask(7, "ReadSetting", "{ setting = \"ramp_time\" }"),
        ask(8, "ReadSetting", "{ setting = \"hold_pressure\" }"),
    ];
    let device = "refusal = { with = \"Refused\", fields = { reason = \"out_of_service\" } }\nrestart = [{ at = \"5 s\", lasting = \"1 s\" }]\n\
                  [device.tables.Settings]\nramp_time = 12.5\n";
    let text = format!("{HEAD}[[device]]\nnode = 3\n{device}{}", requests.concat());
    let plan = plan();
    let scenario = Scenario::parse(&text, &plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}"));
    let (report, pieces) = run_and_keep(&scenario);
    assert_eq!((report.wrong, report.answers.values().map(|all| all.answered).sum::<u64>()), (0, 6));
    // SettingValue: kind 51, the value in 8 bits of 0.25 s: 50 for 12.5 s, 81 for 20.25 s. It is kept over the restart.
    let bodies: Vec<&[u8]> = pieces
        .iter()
        .filter(|piece| piece.from == End::Device && piece.bytes[3] != 0x21)
        .map(|piece| &piece.bytes[3..piece.bytes.len() - 2])
        .collect();
    assert_eq!(bodies[0], [0x51, bodies[0][1], 1, 50]);
    assert_eq!(bodies[1][0], 0x53);
    assert_eq!(bodies[2], [0x51, bodies[2][1], 1, 81]);
    assert_eq!((bodies[3][0], bodies[3][4]), (0x4F, 3), "what can only be read is refused: out_of_service is 3");
    assert_eq!(bodies[4], [0x51, bodies[4][1], 1, 81]);
    assert_eq!(bodies[5][0], 0x51);
}

#[test]
fn an_alarm_is_sent_when_its_condition_begins_to_hold() {
    let text = format!(
        "{HEAD}[[device]]\nnode = 3\n[device.signals.GateStatus]\noil = {{ square = [100, 200], period = \"4 s\" }}\n\
         [[device.alarm]]\nmessage = \"Alarm\"\nof = \"GateStatus\"\nwhen = \"oil > 150\"\nfields = {{ oil = {{ formula = \"oil\" }} }}\n"
    );
    let alarms: Vec<Row> = device_rows(&text).into_iter().filter(|(name, _)| name == "Alarm").collect();
    // From 2 s and from 6 s on.
    assert_eq!(alarms.len(), 2);
    assert!((alarms[0].1["oil"].as_f64().unwrap() - 200.0).abs() < 0.1);
}

#[test]
fn each_direction_of_the_wire_has_its_faults() {
    let text = |wire: &str| format!("{HEAD}[wire]\n{wire}\n[[device]]\nnode = 3\n{MOVE}");
    let run = |wire: &str| rows_from(&plan(), &text(wire), End::Device).0;
    let deaf = run("to_device = { byte_loss = 1 }");
    assert_eq!((deaf.devices[&3].good, deaf.host.good), (0, 50));
    let cut = run("cut = [[\"4 s\", \"6 s\"]]");
    assert_eq!(cut.host.good, 42, "ten of 52 frames fall into two seconds");
    let slow = run("jitter = \"50 ms\"");
    assert_eq!(slow.host.good, 52);
    let skewed = run("baud_error = 0.08");
    assert_eq!(skewed.host.good, 0);
    assert!(run("inserted = 0.02").host.stray_bytes > 0);
    let noisy = run("noise = { begins = 0.01, ends = 0.1, bit_errors = 0.2 }");
    assert!(noisy.host.broken > 0 && noisy.wrong == 0);
}

#[test]
fn a_network_can_be_slow_and_a_shared_bus_can_collide() {
    let text = "channel = \"house\"\nspan = \"2 s\"\n[wire]\nbandwidth = 2400\n[[device]]\nnode = 3\n";
    let plan = plan();
    let (_, pieces) = run_and_keep(&Scenario::parse(text, &plan, &Revisions::default()).unwrap());
    // A header of 8 bytes and a body of 14: 176 bits at 2,400 a second.
    assert_eq!(pieces[0].time, 73_333_334);
    let two = |collisions: &str| {
        let text = format!("{HEAD}[wire]\n{collisions}\n[[device]]\nnode = 1\n[[device]]\nnode = 3\n");
        rows_from(&plan, &text, End::Device).0
    };
    assert_eq!(two("collisions = false").host.good, 100, "the second waits for the first");
    let collided = two("collisions = true");
    assert_eq!((collided.host.good, collided.damaged.values().sum::<u64>(), collided.wrong), (0, 100, 0));
}

#[test]
fn a_script_sends_waits_keeps_and_fails() {
    let device =
        "[[device]]\nnode = 3\n[[device.reply]]\nto = \"MoveGate\"\nwith = \"MoveAccepted\"\necho = [\"target\"]\n";
    let run = |steps: &str| {
        let text = format!("{HEAD}{device}[[host.script]]\nname = \"test\"\nat = \"1 s\"\nsteps = [{steps}]\n");
        let (report, rows) = rows_from(&plan(), &text, End::Host);
        (report.verdicts[0].clone(), rows)
    };
    let (verdict, rows) = run("{ send = \"MoveGate\", node = 3, fields = { target = 40, speed = 10 } },\
         { expect = \"MoveAccepted\", keep = { t = \"target\" } },\
         { send = \"MoveGate\", node = 3, fields = { target = { formula = \"t / 2 + 1\" }, speed = 10 } },\
         { expect = \"MoveAccepted\", when = \"target == t / 2 + 1\" }");
    assert!(verdict.held(), "{verdict:?}");
    assert_eq!(rows[1].1["target"], 21.0);
    let (verdict, _) = run(
        "{ wait = \"50 ms\" }, { never = \"GateStatus\", within = \"100 ms\" }, { never = \"GateStatus\", within = \"1 s\" }",
    );
    assert_eq!((verdict.held(), verdict.found.as_str()), (false, "step 3 of 3: GateStatus came, which never should"));
    let (verdict, _) = run("{ wait = \"30 s\" }");
    assert!(!verdict.held() && verdict.found.contains("was not over"), "{verdict:?}");
    // Sent three times in all, since nobody has node 9.
    let (verdict, rows) =
        run("{ send = \"WhoAreYou\", node = 9, retries = 2 }, { expect = \"Identity\", within = \"1 s\" }");
    assert_eq!((verdict.held(), rows.len()), (false, 3), "{verdict:?}");
}

#[test]
fn what_must_hold_is_judged_by_what_was_received() {
    let signals = "[device.signals.GateStatus]\nopening = { ramp = [0, 50], from = \"0 s\", to = \"10 s\" }\n";
    let verdict = |must: &str, wire: &str| {
        let text = format!("{HEAD}must = ['{must}']\n{wire}\n[[device]]\nnode = 3\n{signals}{MOVE}");
        let scenario = Scenario::parse(&text, &plan(), &Revisions::default()).unwrap_or_else(|error| panic!("{error}"));
        emberwort_link::run(&scenario, &mut ()).verdicts[0].clone()
    };
    for (must, failed) in [
        ("GateStatus.opening between 0 and 50", None),
        ("GateStatus.opening between 0 and 40", Some(Reason::Value)),
        ("GateStatus.opening from node 3 between 0 and 50", None),
        ("always GateStatus: opening <= time * 5 + 0.1", None),
        ("always GateStatus from node 3: opening < 30", Some(Reason::Value)),
        ("once GateStatus: opening > 45", None),
        ("once GateStatus: opening > 55", Some(Reason::Value)),
        ("once Alarm: oil > 1", Some(Reason::NoneReceived)),
        ("100 % of MoveGate answered within 50 ms", None),
        ("50 % of MoveGate answered within 1 ms", Some(Reason::Late)),
        ("loss of GateStatus below 1 %", None),
        ("loss of Alarm below 1 %", Some(Reason::NoneSent)),
        ("at least 50 GateStatus", None),
        ("at least 51 GateStatus", Some(Reason::TooFewSent)),
        ("at most 49 GateStatus", Some(Reason::TooMany)),
        ("wire busy below 2 %", None),
        ("wire busy below 0.9 %", Some(Reason::Busy)),
        ("recovery within 1 ms", None),
        ("no false accept", None),
    ] {
        let found = verdict(must, "");
        assert_eq!(found.failed, failed, "{must}: {found:?}");
    }
    let cut = "[wire]\nstretch = [{ from = \"4 s\", to = \"5 s\", bit_errors = 0.1 }]";
    let loss = verdict("loss of GateStatus from node 3 below 5 %", cut);
    assert_eq!((loss.failed, loss.at), (Some(Reason::Lost), Some(4_000_000_000)), "{loss:?}");
    let slow = verdict("recovery within 500 ms", cut);
    assert!(!slow.held() && slow.at.is_some_and(|at| (3_800_000_000..4_300_000_000).contains(&at)), "{slow:?}");
    let late = verdict("MoveGate answered within 1 ms", "");
    assert_eq!(late.at, Some(1_000_000_000), "the first that was late was sent after a second: {late:?}");
    let never = verdict("MoveGate answered within 50 ms", "[wire]\nto_device = { frame_loss = 1 }");
    assert_eq!((never.failed, never.at), (Some(Reason::Unanswered), Some(1_000_000_000)), "{never:?}");
    // Reports at 0 s, 0.2 s, ...: five are lost, from the one at 4 s on, and the bound is passed by the 30th, the 31st and so on.
    let noisy = "[wire]\nstretch = [{ from = \"4 s\", to = \"5 s\", bit_errors = 0.005 }]";
    for (must, wire, reason, at) in [
        ("at least 50 GateStatus", cut, Reason::Lost, 4_000..4_001),
        ("at most 29 GateStatus", "", Reason::TooMany, 5_800..5_810),
        ("at most 29 GateStatus", cut, Reason::TooMany, 6_800..6_810),
        ("broken frames at most 0", noisy, Reason::TooMany, 4_000..5_010),
        ("counter gaps at most 0", cut, Reason::TooMany, 5_000..5_010),
    ] {
        let found = verdict(must, wire);
        assert_eq!(found.failed, Some(reason), "{must}: {found:?}");
        assert!(found.at.is_some_and(|time| at.contains(&(time / 1_000_000))), "{must}: {found:?}");
    }
}

#[test]
fn mistakes_are_told_with_their_place() {
    let device = |more: &str| format!("{HEAD}[[device]]\nnode = 3\n{more}");
    let signal = |signal: &str| device(&format!("[device.signals.GateStatus]\nopening = {signal}\n"));
    for (text, said) in [
        (signal("{ formula = \"oli + 1\" }"), "did you mean `oil`?"),
        (signal("{ noise = 30, around = 50 }"), "does not fit"),
        (signal("{ follow = \"MoveGate.targe\", speed = 1, start = 0 }"), "did you mean `target`?"),
        (signal("{ playback = \"x.csv\", column = \"a\", time = \"t\" }"), "no files can be read here"),
        (signal("{ cycle = [], each = \"1 s\" }"), "must be a list of values"),
        (signal("{ chain = [[1, { 2 = 0.5 }]] }"), "part of the chain"),
        (
            device("[[device.reply]]\nto = \"MoveGate\"\nwith = \"MoveAccepted\"\nwhen = \"speeed > 1\"\n"),
            "did you mean `speed`?",
        ),
        (
            device("[[device.alarm]]\nmessage = \"Alarm\"\nof = \"Alarm\"\nwhen = \"oil > 1\"\n"),
            "is not sent regularly",
        ),
        (device("[device.tables.Settings]\nramp_tim = 1\n"), "did you mean `ramp_time`?"),
        (device("[device.program]\ncommand = []\n"), "names no program"),
        (device("[wire]\nbaud_error = 0.7\n"), "is not between -0.5 and 0.5"),
        (device("[wave]\nglitches = { every = \"900 ns\", lasting = \"20 ns\" }\n"), "`every` is 1 us at least"),
        (device("[wave]\nglitches = { every = \"1 ms\", lasting = \"0 ns\" }\n"), "`lasting` more than 0"),
        (device("[[host.script]]\nsteps = [{ wait = \"1 s\", never = \"Alarm\" }]\n"), "exactly one of"),
        (device("[[host.script]]\nrepeat = 9\nsteps = [{ send = \"WhoAreYou\", node = 3 }]\n"), "take no time"),
        (device("[[host.script]]\nsteps = [{ expect = \"Alarm\", when = \"oi > 3\" }]\n"), "did you mean `oil`?"),
    ] {
        let error = Scenario::parse(&text, &plan(), &Revisions::default()).expect_err(&text);
        assert!(error.to_string().contains(said), "{text}\n{error}");
        assert!(error.place(&text).is_some(), "{text}\n{error}");
    }
}

#[test]
fn frames_that_are_fed_are_changed_ones() {
    let plan = plan();
    let text = "channel = \"bus485\"\nspan = \"10 s\"\n[[device]]\nnode = 3\n[[request]]\nat = \"1 s\"\nnode = 3\nmessage = \"WhoAreYou\"\n";
    let scenario = Scenario::parse(text, &plan, &Revisions::default()).unwrap();
    let mut rounds = 0;
    let found = hostile(&scenario, &mut || {
        rounds += 1;
        rounds <= 50
    });
    // Some changes leave a frame as it was: a byte that is drawn anew, and is the same.
    assert!((9_900..10_000).contains(&found.fed), "{found:?}");
    assert!((5 * found.fed..100 * found.fed).contains(&found.bytes), "{found:?}");
    // Of a CRC of 16 bits one of 65,536 can be expected.
    let expected = found.fed as f64 / 65_536.0;
    assert!((found.expected - expected).abs() < 1e-9 && found.false_accepts <= 2, "{found:?}");
    assert_eq!(found.unchecked, 0);
}
