//! A CAN database becomes a definition, and frames decode by it as a program of its own decodes them (`importing.py`).

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;

use serde_json::Value as Json;

use crate::common::{project, run, succeed};

fn made_up(folder: &Path, seed: u32, count: u32) {
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/importing.py");
    let mut python = Command::new("python3");
    python.arg(script).arg(folder).args([seed.to_string(), count.to_string()]);
    assert!(python.status().expect("python3 starts").success());
}

/// All numbers in the fields of a row by their names, wherever they stand; what is no number is `None`.
fn numbers(fields: &Json, found: &mut BTreeMap<String, Option<f64>>) {
    for (name, value) in fields.as_object().unwrap() {
        match value {
            // A float that is no number is shown with its bits.
            Json::Object(object) if object.len() == 1 && object.contains_key("raw") => {
                found.insert(name.clone(), None);
            }
            Json::Object(_) => numbers(value, found),
            Json::Number(number) => {
                found.insert(name.clone(), number.as_f64());
            }
            _ => {}
        }
    }
}

#[test]
fn frames_decode_by_an_imported_database_as_another_program_decodes_them() {
    let mut frames = 0;
    for seed in 1..=5 {
        let folder = project();
        let folder = folder.path();
        made_up(folder, seed, 2000);
        let ran = run(folder, &["import", "made-up.dbc", "--out", "made.ember"]);
        assert_eq!(ran.code, 0, "seed {seed}: {}", ran.err);
        assert!(ran.err.contains("24 messages") && ran.err.contains("read as Windows-1252"), "{}", ran.err);
        let ran = run(folder, &["--link", "made.ember", "check"]);
        assert_eq!(ran.code, 0, "seed {seed}: {}{}", ran.out, ran.err);
        let ran = run(folder, &["tidy", "--check", "made.ember", "made-imported.ember"]);
        assert_eq!(ran.code, 0, "seed {seed}: {}{}", ran.out, ran.err);
        let out = succeed(folder, &["--link", "made.ember", "decode", "frames.pcap", "--as", "ndjson"]);
        let expected = std::fs::read_to_string(folder.join("values.ndjson")).unwrap();
        assert_eq!(out.lines().count(), expected.lines().count());
        for (row, expected) in out.lines().zip(expected.lines()) {
            let (row, expected): (Json, Json) =
                (serde_json::from_str(row).unwrap(), serde_json::from_str(expected).unwrap());
            assert_eq!(row["message"], expected["message"], "seed {seed}");
            let (mut found, mut wanted) = (BTreeMap::new(), BTreeMap::new());
            numbers(&row["fields"], &mut found);
            expected["values"].as_object().unwrap().iter().for_each(|(name, value)| {
                wanted.insert(name.clone(), value.as_f64());
            });
            assert_eq!(
                found.keys().collect::<Vec<_>>(),
                wanted.keys().collect::<Vec<_>>(),
                "seed {seed}: {row} {expected}"
            );
            for (name, value) in &found {
                let is_close = match (value, wanted[name]) {
                    (Some(one), Some(other)) => (one - other).abs() <= 1e-6 * other.abs().max(1e-30),
                    (one, other) => one.is_none() && other.is_none(),
                };
                assert!(is_close, "seed {seed} {name}: {value:?} {:?} {row}", wanted[name]);
            }
            frames += 1;
        }
    }
    assert_eq!(frames, 10_000);
}

#[test]
fn what_cannot_be_carried_is_said_and_the_own_part_stays() {
    let folder = project();
    let folder = folder.path();
    let database = "VERSION \"\"\nNS_ :\n\tCM_\nBS_:\nBU_: A B\nBO_ 1 Same: 8 A\n SG_ Speed : 0|8@1+ (1,0) [0|0] \"\" B\n SG_ speed : 8|8@1+ (1,0) [0|0] \"\" B\n \
         SG_ Over : 4|8@1+ (1,0) [0|0] \"\" B\n SG_ Beyond : 60|8@1+ (1,0) [0|0] \"\" B\n SG_ Half : 16|16@1- (1,0) [0|0] \"\" B\n\
         BO_ 2 same: 2 B\n SG_ Mux M : 0|4@1+ (1,0) [0|0] \"\" A\n SG_ Inside m0 : 4|4@1+ (1,0) [0|0] \"\" A\nBO_ 3 Broken 8 A\n SG_ Lost : 0|8@1+ (1,0) [0|0] \"\" B\n\
         SIG_VALTYPE_ 1 Half : 1;\nSIG_GROUP_ 1 Group 1 : Speed;\nWHAT_ 5;\nBA_ \"Color\" SG_ 1 Speed 3;\nVAL_ 1 Nobody 0 \"x\";\n";
    std::fs::write(folder.join("odd.dbc"), database).unwrap();
    let ran = run(folder, &["import", "odd.dbc", "--out", "odd.ember", "--host", "B"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    let flat = ran.err.split_whitespace().collect::<Vec<_>>().join(" ");
    for said in [
        "`speed` is called `speed2` here: a signal of Same",
        "`same` is called `Same2` here: a message",
        "line 9: the signal `Over` is left out: some of its bits are those of a signal in front of it",
        "line 10: the signal `Beyond` is left out: it reaches beyond the 8 bytes of its message",
        "line 11: the signal `Half` is left out: a float of 16 bits is none",
        "line 14: the signal `Inside` is left out: it begins in the last byte of `Mux`, which selects it",
        "line 15: a statement `BO_` is left out: it cannot be read, at line 15",
        "line 16: the signal `Lost` is left out: it belongs to no message",
        "line 18: `SIG_GROUP_` is left out",
        "line 19: what stands here is left out: it is no statement of a CAN database",
        "line 20: the attribute `Color`, once, is left out",
        "line 21: texts of values of `Nobody` is left out: there is no such signal",
    ] {
        assert!(flat.contains(said), "{said}: {}", ran.err);
    }
    assert_eq!(run(folder, &["--link", "odd.ember", "check"]).code, 0);
    // The own part stays; what is imported is written again, and nothing else is overwritten.
    let own = std::fs::read_to_string(folder.join("odd.ember")).unwrap();
    std::fs::write(
        folder.join("odd.ember"),
        format!("{own}\nmessage Own {{\n    from device\n    on odd can_id 0x7F0\n    own : u8\n}}\n"),
    )
    .unwrap();
    std::fs::write(folder.join("odd.dbc"), database.replace("SG_ Speed", "SG_ Pace")).unwrap();
    let ran = run(folder, &["import", "odd.dbc", "--out", "odd.ember", "--host", "B"]);
    assert_eq!(ran.code, 1, "{}", ran.err);
    assert!(std::fs::read_to_string(folder.join("odd.ember")).unwrap().contains("message Own"));
    assert!(std::fs::read_to_string(folder.join("odd-imported.ember")).unwrap().contains("pace"));
    let shown = succeed(folder, &["--link", "odd.ember", "layout", "--as", "ndjson"]);
    assert!(shown.contains("\"own\"") && shown.contains("pace"), "{shown}");
    std::fs::write(folder.join("other-imported.ember"), "# mine\n").unwrap();
    let ran = run(folder, &["import", "odd.dbc", "--out", "other.ember"]);
    assert!(ran.code == 2 && !folder.join("other.ember").exists(), "{}", ran.err);
    for (words, said) in [
        (&["import", "odd.dbc", "--out", "odd.txt"][..], "a definition ends with .ember"),
        (&["import", "odd.dbc", "--out", "x.ember", "--host", "C"], "the nodes of the database are A, B"),
        (&["import", "marlock.ember", "--out", "x.ember"], "holds no message of a CAN database"),
        (&["import", "no.dbc", "--out", "x.ember"], "no.dbc cannot be read"),
    ] {
        let ran = run(folder, words);
        assert!(ran.code == 2 && ran.err.contains(said), "{words:?}: {}", ran.err);
    }
}
