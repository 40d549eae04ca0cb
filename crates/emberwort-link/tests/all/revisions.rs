//! Trials whose ends do not all have the same revision.

use std::collections::BTreeMap;
use std::sync::Arc;

use emberwort_evolution::Verdict;
use emberwort_link::{MessageNumber, Report, Revisions, Scenario};
use emberwort_model::{Plan, Source, check};

use crate::common::{Piece, run_and_keep};

const CHANNEL: &str = "channel bus {\n medium uart 115200 8N1\n limit 40 bytes\n frame {\n sync C6\n node : u8 address\n kind : u8 message\n \
                       count : u8 sequence\n size : u8 length of body\n body\n check : u16 crc-16/ibm-3740 over node..body\n }\n}\n";
const OLD: &str = "message Level { id 1 from device every 1 s on bus  depth : 0 .. 25 m in 12 bits  spare 4 bits }\n\
                   message Gone { id 7 from device every 1 s on bus  count : u8 }\n\
                   message Ask { id 9 from host on bus answered by Tell within 20 ms\n what : u8 }\n\
                   message Tell { id 10 from device on bus  what : u8 }\n";
const NEW: &str = "message Level { id 1 from device every 1 s on bus  depth : 0 .. 50 m in 12 bits  spare 4 bits }\n\
                   message News { id 8 from device every 1 s on bus  count : u8 }\n\
                   message Ask { id 9 from host on bus answered by Reply within 20 ms\n what : u8\n added in 2 { how : u8 = 5 } }\n\
                   message Reply { id 10 from device on bus  what : u8 }\n";

fn link(revision: u32, items: &str) -> Arc<Plan> {
    let text = format!("link l {{ revision {revision}  byte_order little }}\n{items}");
    let checked = check(&Source::new("l.ember", text));
    assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    Arc::new(checked.plan.unwrap())
}

fn both() -> (Arc<Plan>, Arc<Plan>) {
    (link(1, &format!("{CHANNEL}{OLD}")), link(2, &format!("{CHANNEL}{NEW}")))
}

fn sealed(old: &Arc<Plan>) -> Revisions {
    Revisions { sealed: BTreeMap::from([(1, old.clone())]), ..Revisions::default() }
}

/// A trial, what came of it, and what each side received.
struct Found {
    scenario: Scenario,
    report: Report,
    record: Vec<Piece>,
}

fn trial(own: &Arc<Plan>, revisions: &Revisions, text: &str) -> Found {
    let text = format!("channel = \"bus\"\nspan = \"10 s\"\n{text}");
    let scenario = Scenario::parse(&text, own, revisions).unwrap_or_else(|error| panic!("{error}"));
    let (report, record) = run_and_keep(&scenario);
    Found { scenario, report, record }
}

/// What became of frames between revisions: message, node, verdict, how many, in what way.
fn between(Found { scenario, report, .. }: &Found) -> Vec<(String, u64, Verdict, u64, String)> {
    let all = report.between.iter().map(|((message, node, verdict), found)| {
        let name = scenario.definitions.message(*message).0.to_owned();
        (name, *node, *verdict, found.frames, found.sentence.clone())
    });
    all.collect()
}

fn counts(counts: &BTreeMap<(MessageNumber, u64), u64>, scenario: &Scenario) -> Vec<(String, u64, u64)> {
    let name = |message: MessageNumber| scenario.definitions.message(message).0.to_owned();
    counts.iter().map(|((message, node), count)| (name(*message), *node, *count)).collect()
}

#[test]
fn an_old_device_is_misread_by_a_new_host_and_a_new_one_is_not() {
    let (old, new) = both();
    let found = trial(
        &new,
        &sealed(&old),
        "[[device]]\nnode = 3\nrevision = 1\nsignals.Level.depth = 10\n[[device]]\nnode = 4\nsignals.Level.depth = 10\n\
         [[request]]\nat = \"2 s\"\nnode = 3\nmessage = \"Ask\"\nfields = { what = 7 }\n",
    );
    assert_eq!(
        between(&found),
        [
            // Code 1638 of 4096 steps over 25 m is twice as far over 50 m.
            ("Level".into(), 3, Verdict::Misread, 10, "depth 10.000 m would be read as 20.00 m".into()),
            ("Ask".into(), 3, Verdict::FineWithLoss, 1, "how 5 would not be read".into()),
            ("Gone".into(), 3, Verdict::Refused, 10, "Gone is refused: no message on `bus` has the key 7".into()),
        ]
    );
    let Found { scenario, report, record } = &found;
    // The old device's Tell is the new one's Reply by another name, and counts as that; it answers Ask.
    assert_eq!(
        counts(&report.received, scenario),
        [("Level".into(), 4, 10), ("News".into(), 4, 10), ("Ask".into(), 3, 1), ("Reply".into(), 3, 1)]
    );
    assert_eq!(counts(&report.lost, scenario), [], "all of them arrived");
    assert_eq!(report.wrong, 10);
    assert_eq!(report.wrong_examples[0].sentence, "depth 10.000 m would be read as 20.00 m");
    assert_eq!(report.answers.values().map(|all| all.answered).sum::<u64>(), 1);
    // The bytes are those of the old definition: no News, and the code of 10 m in it.
    let level = |node: u8| {
        let mut frames = record.iter().filter(|record| record.bytes[1..3] == [node, 1]);
        u16::from_le_bytes(frames.next().unwrap().bytes[5..7].try_into().unwrap())
    };
    assert_eq!((level(3), level(4)), (1638, 819));
}

#[test]
fn a_new_device_talks_with_an_old_host() {
    let (old, new) = both();
    for by_file in [true, false] {
        let mut revisions = sealed(&old);
        revisions.host = (!by_file).then(|| old.clone());
        let host = if by_file { "[host]\nrevision = 1\n" } else { "" };
        let found = trial(&new, &revisions, &format!("{host}[[device]]\nnode = 4\nsignals.Level.depth = 10\n"));
        assert_eq!(
            between(&found),
            [
                ("Level".into(), 4, Verdict::Misread, 10, "depth 10.00 m would be read as 5.000 m".into()),
                ("News".into(), 4, Verdict::FineWithLoss, 10, "News is not known there, and left alone".into()),
            ]
        );
    }
    // Both old: all is well, though the definition has another one.
    let all_old = Revisions { host: Some(old.clone()), every_device: Some(old.clone()), ..sealed(&old) };
    let found = trial(&new, &all_old, "[[device]]\nnode = 4\nsignals.Level.depth = 10\n");
    assert_eq!(between(&found), []);
    assert!(found.report.wrong == 0 && found.report.lost.is_empty());
    assert_eq!(counts(&found.report.received, &found.scenario), [("Level".into(), 4, 10), ("Gone".into(), 4, 10)]);
}

#[test]
fn who_is_said_to_have_a_revision_has_it() {
    let (old, new) = both();
    let text = "[[device]]\nnode = 3\n[[device]]\nnode = 4\n[[device]]\nnode = 5\nrevision = 1\n";
    let revisions_of = |revisions: &Revisions| {
        let Found { scenario, .. } = trial(&new, revisions, text);
        scenario.devices.iter().map(|device| device.revision).collect::<Vec<_>>()
    };
    assert_eq!(revisions_of(&sealed(&old)), [2, 2, 1]);
    let fleet = Revisions { fleet: BTreeMap::from([(3, old.clone()), (9, old.clone())]), ..sealed(&old) };
    assert_eq!(revisions_of(&fleet), [1, 2, 1], "a fleet has others, too");
    let named = Revisions { devices: BTreeMap::from([(5, new.clone())]), ..fleet };
    assert_eq!(revisions_of(&named), [1, 2, 2]);
    assert_eq!(revisions_of(&Revisions { every_device: Some(old.clone()), ..named }), [1, 1, 2]);
    // Without the sealed one, an older device has the definition without what came later.
    let Found { scenario, report, .. } = trial(&new, &Revisions::default(), text);
    assert_eq!((scenario.definitions.all().len(), report.between.len()), (1, 0));
}

#[test]
fn what_cannot_be_is_said_with_the_revision() {
    let (old, new) = both();
    let problem = |revisions: &Revisions, text: &str| {
        let text = format!("channel = \"bus\"\nspan = \"10 s\"\n{text}");
        Scenario::parse(&text, &new, revisions).expect_err(&text).to_string()
    };
    let device = |lines: &str| problem(&sealed(&old), &format!("[[device]]\nnode = 3\nrevision = 1\n{lines}"));
    assert_eq!(
        device("sends = [{ at = \"1 s\", message = \"News\" }]"),
        "device 1.sends 1: in revision 1, there is no message `News`; there are Level, Gone, Ask, Tell"
    );
    assert_eq!(
        device("signals.Level.dpeth = 1"),
        "device 1.signals.Level.dpeth: in revision 1, there is no field `dpeth`; did you mean `depth`?"
    );
    assert!(device("signals.Level.depth = 30").contains("in revision 1, "));
    // A signal of what came later is no mistake: an older device does not measure it.
    let Found { scenario, .. } = trial(&new, &sealed(&old), "[[device]]\nrevision = 1\nsignals.News.count = 4\n");
    assert!(scenario.devices[0].signals.is_empty());
    let named = Revisions { devices: BTreeMap::from([(9, old.clone())]), ..Revisions::default() };
    assert_eq!(
        problem(&named, "[[device]]\nnode = 3\n"),
        "device: there is no node 9 that could have revision 1; there are 3"
    );
    assert_eq!(
        problem(&Revisions::default(), "[host]\nrevision = 1\n[[device]]\n"),
        "host.revision: revision 1 is not sealed, so nobody knows what its host asks"
    );
    let elsewhere = link(
        1,
        &format!("{}{OLD}", CHANNEL.replace("115200", "9600").replace("bus", "wire")).replace("on bus", "on wire"),
    );
    assert_eq!(
        problem(&sealed(&elsewhere), "[[device]]\nrevision = 1\n"),
        "device 1.revision: revision 1 has no channel `bus`"
    );
}

#[test]
fn nothing_arrives_where_the_medium_is_set_up_otherwise() {
    let (_, new) = both();
    let slow = link(1, &format!("{}{OLD}", CHANNEL.replace("115200", "9600")));
    let found = trial(
        &new,
        &sealed(&slow),
        "[[device]]\nnode = 3\nrevision = 1\n[[request]]\nat = \"2 s\"\nnode = 3\nmessage = \"Ask\"\n",
    );
    let Found { report, record, .. } = &found;
    assert!(record.is_empty() && report.received.is_empty());
    assert_eq!((report.host.input, report.device().input), (0, 0));
    let verdicts: Vec<_> =
        between(&found).into_iter().map(|(name, _, verdict, count, _)| (name, verdict, count)).collect();
    assert_eq!(
        verdicts,
        [
            ("Level".into(), Verdict::SilentDrop, 10),
            ("Ask".into(), Verdict::SilentDrop, 1),
            ("Gone".into(), Verdict::SilentDrop, 10),
        ]
    );
}
