//! `compare` as its users run it: against sealed revisions, files and commits, in a make file, with a fleet.

use std::path::Path;
use std::process::Command;

use serde_json::Value as Json;

use crate::common::{project, run, succeed};

/// Replaces something in the demo's definition.
fn change(folder: &Path, from: &str, to: &str) {
    let path = folder.join("marlock.ember");
    let text = std::fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{from}");
    std::fs::write(path, text.replacen(from, to, 1)).unwrap();
}

const HARMLESS: (&str, &str) = (
    "        spare 7 bits\n    }\n}",
    "        spare 7 bits\n    }\n    added in 4 {\n        latch_temp  : i8 degC\n    }\n}",
);
const STRANDING: (&str, &str) = ("oil        : 0 .. 250 bar in 12 bits", "oil        : 0 .. 400 bar in 12 bits");

fn rows(folder: &Path, words: &[&str]) -> Vec<Json> {
    let said = run(folder, &[&["compare", "--as", "ndjson"], words].concat());
    assert!(said.code < 2, "{}", said.err);
    said.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn a_harmless_change_is_fine_and_a_stranding_one_is_shown_with_bytes_and_a_way_out() {
    let folder = project();
    let folder = folder.path();
    change(folder, HARMLESS.0, HARMLESS.1);
    let said = run(folder, &["compare"]);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(said.out.contains("new device → old host  fine with loss  latch_temp"), "{}", said.out);
    assert!(said.out.contains("rollout: either end first"), "{}", said.out);

    change(folder, STRANDING.0, STRANDING.1);
    let said = run(folder, &["compare"]);
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    let text = &said.out;
    assert!(
        text.contains("GateStatus.oil: step") && text.contains("oil 156.23 bar would be read as 249.96 bar"),
        "{text}"
    );
    assert!(text.contains("instead: keep `oil` as it was; put `oil_r4` into `added in 4 { … }`"), "{text}");
    assert!(text.contains("rollout: both at once"), "{text}");
    // A reason accepts it, here or in the project file; one that does not differ is said.
    let reason = "GateStatus.oil: step=no unit with that sensor has left the house";
    let said = run(folder, &["compare", "--allow", reason, "--allow", "Alarm.oil: step=neither"]);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(said.out.contains("accepted: no unit with that sensor"), "{}", said.out);
    // What was accepted comes before what strands nobody.
    let at = |heading: &str| said.out.find(heading).unwrap_or_else(|| panic!("no {heading}: {}", said.out));
    assert!(at("\naccepted\n") < at("\nworks, with loss\n"), "{}", said.out);
    assert!(said.out.contains("rollout: either end first"), "{}", said.out);
    assert!(said.err.contains("`Alarm.oil: step` is accepted, and does not differ"), "{}", said.err);
    let toml = std::fs::read_to_string(folder.join("emberwort.toml")).unwrap();
    let entry = "\n[[allow]]\ndifference = \"GateStatus.oil: step\"\nrevision = 4\nreason = \"bench units only\"\n";
    std::fs::write(folder.join("emberwort.toml"), toml + entry).unwrap();
    assert_eq!(run(folder, &["compare"]).code, 0);
    succeed(folder, &["generate", "c"]);
    let source = std::fs::read_to_string(folder.join("gen/c/marlock.c")).unwrap();
    assert!(!source.contains("case 3u: return false;"), "what is accepted makes no stranger");
    assert_eq!(run(folder, &["compare", "--allow", "GateStatus.oil: step"]).code, 2);
}

#[test]
fn the_bytes_of_a_misreading_decode_to_what_is_said() {
    let folder = project();
    let folder = folder.path();
    let changes = [
        STRANDING,
        ("    speed   : 1 .. 20 mm/s in 5 bits\n", "    hard    : bool\n    speed   : 1 .. 20 mm/s in 5 bits\n"),
        ("    1 opening\n    2 open\n", "    2 opening\n    1 open\n"),
        ("    0x0103 hold_pressure  : 0 .. 250 bar in 12", "    0x0103 hold_pressure  : 0 .. 350 bar in 12"),
        ("    duration  : u16 * 0.1 s", "    duration  : u16 * 0.2 s"),
        ("    command  : u8\n    reason   : Reason\n", "    reason   : Reason\n    command  : u8\n"),
    ];
    for (from, to) in changes {
        change(folder, from, to);
    }
    change(folder, "    spare 3 bits\n}\n\nmessage MoveAccepted", "    spare 2 bits\n}\n\nmessage MoveAccepted");
    let mut decoded = 0;
    for row in rows(folder, &[]) {
        for (pair, judged) in row["pairs"].as_object().into_iter().flatten() {
            let example = &judged["example"];
            if judged["verdict"] != "misread" {
                continue;
            }
            // What the old end reads, the sealed file reads, and the other way round.
            let link = if pair.starts_with("new") { "sealed/marlock-r3.ember" } else { "marlock.ember" };
            let (channel, bytes) = (example["channel"].as_str().unwrap(), example["bytes"].as_str().unwrap());
            let from = if pair.contains("device_") && !pair.ends_with("device") { "device" } else { "host" };
            // An answer that does not repeat what was asked for stands behind the request.
            let all = [example["request"].as_str().unwrap_or_default(), bytes].join(" ");
            let from: &[&str] = if example["request"].is_null() { &["--from", from] } else { &[] };
            let words = ["decode", "--link", link, "--on", channel, "--as", "ndjson", "--hex", &all];
            let said = succeed(folder, &[&words[..], from].concat());
            let read: Json = serde_json::from_str(said.lines().last().unwrap()).unwrap();
            assert_eq!(read["message"], example["read_as"], "{row}");
            assert_eq!(read["fields"], example["read"], "{row}");
            assert_ne!(example["sent"], example["read"], "{row}");
            decoded += 1;
        }
    }
    assert!(decoded >= 10, "{decoded} misreadings decoded");
}

#[test]
fn a_make_target_in_a_repository_fails_on_a_stranding_change_alone() {
    let folder = project();
    let folder = folder.path();
    let git = |words: &[&str]| {
        let identity = ["-c", "user.name=Keeper", "-c", "user.email=keeper@marlock.invalid"];
        let output = Command::new("git").current_dir(folder).args(identity).args(words).output().expect("git runs");
        assert!(output.status.success(), "git {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    };
    git(&["init", "--quiet"]);
    git(&["add", "."]);
    git(&["commit", "--quiet", "-m", "revision 4 as it is"]);
    git(&["tag", "released"]);
    let program = env!("CARGO_BIN_EXE_emberwort");
    std::fs::write(folder.join("Makefile"), format!("link:\n\t{program} compare git:released\n")).unwrap();
    let make = || Command::new("make").current_dir(folder).arg("link").output().expect("make runs");

    change(folder, HARMLESS.0, HARMLESS.1);
    let output = make();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stdout));
    change(folder, STRANDING.0, STRANDING.1);
    let output = make();
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(!output.status.success() && said.contains("would be read as"), "{said}");
    // From a folder below, and from a commit that has no such file.
    assert_eq!(run(&folder.join("trials"), &["compare", "git:released"]).code, 1);
    let said = run(folder, &["compare", "git:nowhere"]);
    assert!(said.code == 2 && said.err.contains("commit nowhere"), "{}", said.err);
}

#[test]
fn a_fleet_says_how_many_units_each_step_touches() {
    let folder = project();
    let folder = folder.path();
    change(folder, STRANDING.0, STRANDING.1);
    let fleet = |text: &str| {
        std::fs::write(folder.join("fleet.csv"), text).unwrap();
        run(folder, &["compare", "--fleet", "fleet.csv"])
    };
    let said = fleet("device,revision\neast gate,3\nwest gate,3\nnew gate,4\n");
    assert!(said.out.contains("update the hosts and the 3 devices"), "{}", said.out);
    assert!(said.out.contains("      2         3  misread"), "{}", said.out);
    let said = fleet("device,revision,update\neast gate,3,no\nwest gate,3,yes\n");
    assert!(said.out.contains("rollout: never"), "{}", said.out);
    for (text, expected) in [
        ("device,revision\neast gate,3\neast gate,3\n", "stands there twice"),
        ("device,revision\neast gate,9\n", "with revision 9, which is not sealed"),
        ("device,revision,update\neast gate,3,maybe\n", "update is yes or no"),
        ("name,number\neast gate,3\n", "columns device and revision"),
    ] {
        let said = fleet(text);
        assert!(said.code == 2 && said.err.contains(expected), "{}", said.err);
    }
}

#[test]
fn the_experiment_contradicts_no_verdict() {
    let folder = project();
    let folder = folder.path();
    change(folder, STRANDING.0, STRANDING.1);
    let said = run(folder, &["compare", "--prove", "--random", "100", "--seed", "5"]);
    assert!(said.out.contains("no verdict is contradicted"), "{}", said.out);
    let proof = rows(folder, &["--prove", "--random", "50"]).pop().unwrap();
    let outcomes = &proof["proof"]["outcomes"];
    assert!(outcomes["fine"].as_u64() > Some(1000) && outcomes["misread"].as_u64() > Some(50), "{proof}");
}

#[test]
fn what_cannot_be_compared_is_said() {
    let folder = project();
    let folder = folder.path();
    std::fs::rename(folder.join("sealed"), folder.join("other")).unwrap();
    let said = run(folder, &["compare"]);
    assert!(said.code == 2 && said.err.contains("nothing is sealed"), "{}", said.err);
    std::fs::rename(folder.join("other"), folder.join("sealed")).unwrap();
    let said = run(folder, &["compare", "r7"]);
    assert!(
        said.code == 2 && said.err.contains("there is no sealed revision 7") && said.err.contains("it has r1, r2, r3"),
        "{}",
        said.err
    );
    let said = run(folder, &["compare", "old.ember"]);
    assert!(said.code == 2 && said.err.contains("old.ember is not a file"), "{}", said.err);
    // Two files need no project.
    let elsewhere = tempfile::tempdir().unwrap();
    for name in ["a.ember", "b.ember"] {
        std::fs::copy(folder.join("sealed/marlock-r3.ember"), elsewhere.path().join(name)).unwrap();
    }
    let said = run(elsewhere.path(), &["compare", "a.ember", "b.ember"]);
    assert!(said.code == 0 && said.out.contains("nothing differs"), "{}{}", said.out, said.err);
    // A history that somebody touched is no ground to stand on.
    let sealed = folder.join("sealed/marlock-r3.ember");
    std::fs::write(&sealed, std::fs::read_to_string(&sealed).unwrap() + "\n# touched\n").unwrap();
    let said = run(folder, &["compare"]);
    assert!(said.code == 1 && said.err.contains("was edited after it was sealed"), "{}", said.err);
}

#[test]
fn the_release_note_is_markdown_that_shows_only_what_it_should() {
    let folder = project();
    let folder = folder.path();
    change(folder, STRANDING.0, STRANDING.1);
    change(folder, HARMLESS.0, HARMLESS.1);
    let said = run(folder, &["compare", "--as", "markdown"]).out;
    assert!(
        said.starts_with("# marlock: revision 3, sealed 2031-03-09 → revision 4, as it is in marlock.ember\n"),
        "{said}"
    );
    assert!(said.contains("| GateStatus.oil: step | `0 .. 250 bar in 12 bits` | `0 .. 400 bar in 12 bits` | misread | misread | fine | fine |"), "{said}");
    assert!(
        said.contains("```diff") && said.contains("+         oil_r4") && said.contains("## Rollout: both at once"),
        "{said}"
    );
}

#[test]
fn a_key_that_an_earlier_revision_used_is_found_though_the_last_one_did_not() {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    let write = |revision: u32, message: &str| {
        let text = format!(
            "link sluice {{\n    revision    {revision}\n    byte_order  little\n}}\nchannel bus {{\n    medium  uart 9600 8N1\n    frame {{\n        sync  A5\n        \
             kind  : u8  message\n        size  : u8  length of body\n        body\n        check : u8 sum8 over kind..body\n    }}\n}}\n{message}"
        );
        std::fs::write(folder.join("sluice.ember"), text).unwrap();
    };
    let message = |name: &str, id: u32| {
        format!("message {name} {{\n    id    {id}\n    from  device\n    on    bus\n    level : u8 m\n}}\n")
    };
    write(1, &(message("Level", 1) + &message("Flow", 2)));
    succeed(folder, &["seal", "--date", "2031-01-01"]);
    write(2, &message("Flow", 2));
    let said = run(folder, &["compare"]);
    assert!(said.code == 1 && said.out.contains("Level is refused"), "{}", said.out);
    succeed(folder, &["seal", "--date", "2031-02-01"]);
    write(3, &(message("Rain", 1).replace("level : u8 m", "fallen : u8 mm") + &message("Flow", 2)));
    let said = run(folder, &["compare"]);
    assert_eq!(said.code, 1, "{}", said.out);
    assert!(said.out.contains("Rain is not known there, and left alone"), "{}", said.out);
    assert!(
        said.out.contains("revision 1 would be stranded, too") && said.out.contains("would be read as"),
        "{}",
        said.out
    );
    let all = rows(folder, &[]);
    assert!(all.iter().any(|row| row["earlier"]["revision"] == 1), "{all:?}");
    // What strands only units of the first revision can be accepted with what is offered, too.
    let offered =
        said.err.split_once("[[allow]]").unwrap().1.replace("reason = \"\"", "reason = \"all were called in\"");
    std::fs::write(folder.join("emberwort.toml"), format!("link = \"sluice.ember\"\n\n[[allow]]{offered}\n")).unwrap();
    let said = run(folder, &["compare"]);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(!said.out.contains("would be stranded") && !said.err.contains("[[allow]]"), "{}{}", said.out, said.err);
}

#[test]
fn a_number_of_another_width_says_whether_its_step_is_why() {
    let folder = project();
    let folder = folder.path();
    // By hand: 11 m are 2,200 steps of 5 mm (12 bits), 11,000 of 1 mm (14), 1,100 of 10 mm (11), and 81.5 m are 16,300 of 5 mm (14).
    let was = "upstream   : -1.5 .. 9.5 m step 0.005 or none";
    for (is, heading) in [
        ("upstream   : -1.5 .. 9.5 m step 0.001 or none", "GateStatus.upstream: widened (12 → 14 bits, finer step)"),
        ("upstream   : -1.5 .. 9.5 m step 0.010 or none", "GateStatus.upstream: narrowed (12 → 11 bits, coarser step)"),
        ("upstream   : -1.5 .. 80 m step 0.005 or none", "GateStatus.upstream: widened (12 → 14 bits)"),
    ] {
        change(folder, was, is);
        let said = run(folder, &["compare"]);
        assert!(said.out.contains(&format!("  {heading}\n")), "{heading}: {}", said.out);
        let note = run(folder, &["compare", "--as", "markdown"]).out;
        assert!(note.contains(&format!("\n## {heading}\n")), "{heading}: {note}");
        // The name with which it is accepted has no numbers.
        let name = heading.split(" (").next().unwrap();
        assert!(said.err.contains(&format!("difference = \"{name}\"\n")), "{}", said.err);
        change(folder, is, was);
    }
}

#[test]
fn generated_code_knows_with_whom_it_gets_along() {
    let folder = project();
    let folder = folder.path();
    let made = || {
        succeed(folder, &["generate", "c"]);
        let text = |name: &str| std::fs::read_to_string(folder.join("gen/c").join(name)).unwrap();
        let header = text("marlock.h");
        let digest = header.split("MARLOCK_LAYOUT_DIGEST UINT32_C(").nth(1).unwrap()[..10].to_owned();
        assert!(header.contains("#define MARLOCK_REVISION 4u"));
        let test = header.split("bool marlock_compatible(uint32_t revision)").nth(1).unwrap();
        (digest, test.split("default").next().unwrap().to_owned())
    };
    let (before, test) = made();
    assert!(test.contains("case 0u: return false;") && !test.contains("case 3u"), "{test}");
    // Words change nothing; what bytes mean does.
    change(folder, "## Where a gate stands and what pushes on it.", "## Where it stands.");
    assert_eq!(made().0, before);
    change(folder, STRANDING.0, STRANDING.1);
    let (after, test) = made();
    assert_ne!(after, before);
    assert!(["case 1u", "case 2u", "case 3u"].iter().all(|case| test.contains(case)), "{test}");
}

#[test]
fn a_what_if_is_compared_with_nothing_edited() {
    let folder = project();
    let folder = folder.path();
    let before = std::fs::read(folder.join("marlock.ember")).unwrap();
    let said = run(folder, &["compare", "--what-if", "GateStatus.oil 0 .. 400 bar in 12 bits"]);
    assert!(said.code == 1 && said.out.contains("GateStatus.oil: step"), "{}", said.out);
    assert_eq!(std::fs::read(folder.join("marlock.ember")).unwrap(), before);
    let entry = "Settings.ramp_time 0 .. 90 s step 0.5 read write, kept";
    assert!(run(folder, &["compare", "--what-if", entry]).out.contains("Settings.ramp_time: step"));
    for (change, wanted) in [
        ("GateStatus.oyl u8", "`GateStatus` has no field `oyl`"),
        ("Nothing.oil u8", "there is no `Nothing`"),
        ("GateStatus.oil 0 .. 250 bar step 0.3", "--what-if GateStatus.oil 0 .. 250 bar step 0.3: "),
        ("oil", "say which field becomes what"),
    ] {
        let said = run(folder, &["compare", "--what-if", change]);
        assert!(said.code == 2 && said.err.contains(wanted), "{}", said.err);
    }
}

#[test]
fn an_edit_under_a_sealed_number_is_said_and_every_stranding_difference_can_be_accepted() {
    let folder = project();
    let folder = folder.path();
    succeed(folder, &["seal", "--note", "released"]);
    for (name, words) in [("check", &["check"][..]), ("compare", &["compare"]), ("seal", &["seal"])] {
        let said = run(folder, words);
        assert!(
            said.code == 0 && !(said.out.clone() + &said.err).contains("another content"),
            "{name}: {}{}",
            said.out,
            said.err
        );
    }
    change(folder, STRANDING.0, STRANDING.1);
    change(folder, "GateState : u3 {", "GateState : u4 {");
    for (words, code) in [(&["check"][..], 0), (&["check", "--deny", "warnings"], 1), (&["compare"], 1), (&["seal"], 1)]
    {
        let said = run(folder, words);
        let text = said.out + &said.err;
        assert_eq!(said.code, code, "{words:?}: {text}");
        assert!(text.contains("with another content") && text.contains("write `revision 5`"), "{words:?}: {text}");
    }
    let all = rows(folder, &[]);
    assert_eq!(all.iter().find_map(|row| row.get("edited_after_sealing")), Some(&Json::from(true)));
    // All that strands is listed, and accepting what is listed is enough.
    let said = run(folder, &["compare"]);
    let entries = said.err.split_once("[[allow]]").unwrap().1.to_owned();
    assert!(entries.matches("[[allow]]").count() >= 1, "{}", said.err);
    let toml = std::fs::read_to_string(folder.join("emberwort.toml")).unwrap();
    let entries = format!("\n[[allow]]{}\n", entries.replace("reason = \"\"", "reason = \"bench units only\""));
    std::fs::write(folder.join("emberwort.toml"), toml + &entries).unwrap();
    let said = run(folder, &["compare"]);
    assert_eq!(said.code, 0, "{}{}", said.out, said.err);
    assert!(!said.err.contains("[[allow]]"), "{}", said.err);
}

#[test]
fn advice_for_several_differences_stands_once() {
    let folder = project();
    let folder = folder.path();
    change(folder, STRANDING.0, STRANDING.1);
    change(folder, "operator   : text[..12] optional", "operator   : text[..20] optional");
    let said = run(folder, &["compare"]).out;
    let of_message = said.matches("put `oil_r4`, `operator_r4` into").count();
    assert_eq!((of_message, said.matches("instead: as above").count()), (1, 1), "{said}");
    assert!(said.contains("instead: keep `oil` and `operator` as they were;"), "{said}");
}

#[test]
fn advice_shows_what_changes_and_not_how_its_columns_move() {
    let folder = project();
    let folder = folder.path();
    change(folder, "limit   128 bytes", "limit 130 bytes\n    stuffing slip");
    let said = run(folder, &["compare"]);
    let (minus, plus): (Vec<&str>, Vec<&str>) = said
        .out
        .lines()
        .filter(|line| line.starts_with("      - ") || line.starts_with("      + "))
        .partition(|line| line.starts_with("      - "));
    assert!(!minus.is_empty(), "{}", said.out);
    let words = |line: &&str| line.split_whitespace().skip(1).collect::<Vec<_>>().join(" ");
    assert!(minus.iter().all(|line| plus.iter().all(|other| words(line) != words(other))), "{}", said.out);
}
