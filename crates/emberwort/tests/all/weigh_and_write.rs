//! The commands with which a link is written and weighed: value, budget, tidy, new, layout pictures, check for machines.

use serde_json::Value as Json;

use crate::common::{self, marlock, project, rows, run, run_with_input, succeed};

// ---- value ----

#[test]
fn value_shows_one_number_every_way() {
    insta::assert_snapshot!(succeed(&marlock(), &["value", "-1.5 .. 9.5 m step 0.005", "3.217"]));
}

#[test]
fn value_shows_a_type_and_its_other_widths() {
    insta::assert_snapshot!(succeed(&marlock(), &["value", "0 .. 250 bar in 12 bits"]));
}

#[test]
fn value_knows_the_ends_of_floating_point_numbers() {
    let shown = |value: &str| succeed(&marlock(), &["value", "f16", value]);
    let code = |raw: &str| succeed(&marlock(), &["value", "f16", "--raw", raw]);
    assert!(shown("65472").contains("65504"), "the next further from zero is the last one: {}", shown("65472"));
    let last = shown("65504");
    assert!(!last.contains("next further"), "{last}");
    let infinite = code("0x7C00");
    assert!(infinite.contains("no finite number") && !infinite.contains("exactly"), "{infinite}");
    assert!(code("0xBC00").contains("next further from zero  -1.001"), "{}", code("0xBC00"));
}

#[test]
fn value_knows_the_names_of_the_project() {
    let held = succeed(&marlock(), &["value", "GateState", "held"]);
    assert!(held.contains("held: stopped between the ends") && held.contains("raw     4"), "{held}");
    let faults = succeed(&marlock(), &["value", "Faults", "[oil_hot, service_due]"]);
    assert!(faults.contains("0x82") && faults.contains("bit 7   service_due"), "{faults}");
    let key = succeed(&marlock(), &["value", "key of Settings", "motor_current"]);
    assert!(key.contains("0x0140"), "{key}");
    // Anywhere else they are unknown, and plain types work.
    let folder = tempfile::tempdir().unwrap();
    assert_eq!(run(folder.path(), &["value", "GateState", "held"]).code, 2);
    assert!(succeed(folder.path(), &["value", "u8", "200"]).contains("read as signed  -56"));
}

#[test]
fn value_for_machines() {
    let row = &rows(&succeed(&marlock(), &["value", "i16", "--raw", "0xFFFE", "--as", "ndjson"]))[0];
    assert_eq!((row["value"].as_str(), row["read as unsigned"].as_str()), (Some("-2"), Some("65534")));
    let ty = &rows(&succeed(&marlock(), &["value", "0 .. 100 % step 0.5", "--as", "ndjson"]))[0];
    assert_eq!(ty["other widths"][0]["bits"], 7);
}

#[test]
fn values_that_do_not_fit_are_told() {
    for (words, word) in [
        (vec!["value", "0 .. 10 m step 0.5", "11"], "it holds 0.0 .. 10.0 m in steps of 0.5"),
        (vec!["value", "u8", "--raw", "256"], "8 bits hold 0 .. 255"),
        (vec!["value", "text[8]"], "is not a single number"),
        (vec!["value", "0 .. 10 m step 0.3"], "the type cannot be read"),
        (vec!["value", "f16", "1e6"], "beyond a 16-bit float"),
        (vec!["value", "GateState", "hold"], "did you mean `held`?"),
    ] {
        let ran = run(&marlock(), &words);
        assert_eq!(ran.code, 2, "{words:?}");
        assert!(ran.err.contains(word), "{words:?}: {}", ran.err);
    }
}

// ---- budget ----

#[test]
fn budget_of_the_gauges_before_and_after() {
    let words =
        ["budget", "gauges", "--devices", "2", "--what-if", "gauges sf12", "--what-if", "Level.depth step 0.01"];
    insta::assert_snapshot!(succeed(&marlock(), &words));
}

#[test]
fn budget_of_every_channel() {
    let out = succeed(&marlock(), &["budget", "--devices", "3"]);
    for channel in ["bus485", "house", "power", "tunnel", "probe", "gauges", "console"] {
        assert!(out.lines().any(|line| line.starts_with(&format!("{channel}  3 devices"))), "{channel} is not shown");
    }
    insta::assert_snapshot!(succeed(&marlock(), &["budget", "bus485", "--devices", "4"]));
}

#[test]
fn budget_with_the_very_content() {
    let content = "PumpStatus state=off pressure=0 speed=0 tank=0 motor=0 counter=0";
    let out = succeed(&marlock(), &["budget", "power", "--content", content]);
    // ISO 11898-1: 19 bits up to the length, 64 of data, 15 of CRC, 13 behind it: 111. Start, 0x1A4 and 64 zeros with their CRC
    // have 14 runs of five equal bits, each with a stuff bit behind it; the worst content of 98 bits has 24.
    let line = out.lines().last().unwrap();
    assert!(
        line.starts_with("with this content PumpStatus takes 125 bits, 10 fewer than with the worst stuffing:"),
        "{line}"
    );
    let frame = succeed(&marlock(), &["budget", "bus485", "--content", "MoveGate target=80 speed=12"]);
    assert!(frame.contains("with this content MoveGate takes 100 bits: 10 bytes in ≈868.1 µs"), "{frame}");
    let wrong = run(&marlock(), &["budget", "--content", "MoveGate target=800"]);
    assert!(wrong.err.contains("target: 800 does not fit") && wrong.err.contains("speed: missing"), "{}", wrong.err);
}

#[test]
fn budget_for_machines_is_exact() {
    let out = rows(&succeed(&marlock(), &["budget", "power", "--as", "ndjson", "--what-if", "power can 500 kbit/s"]));
    let pump: Vec<&Json> = out.iter().filter(|row| row["message"] == "PumpStatus").collect();
    // 111 bits and 24 stuff bits at 250 kbit/s, then at 500.
    assert_eq!((pump[0]["greatest"]["exact"].as_str(), pump[0]["changed"].as_bool()), (Some("27/50000"), Some(false)));
    assert_eq!((pump[1]["greatest"]["exact"].as_str(), pump[1]["changed"].as_bool()), (Some("27/100000"), Some(true)));
    let sums: Vec<&Json> = out.iter().filter(|row| row.get("all_at_once_seconds").is_some()).collect();
    assert_eq!((sums.len(), sums[0]["devices"].as_u64()), (2, Some(1)));
}

#[test]
fn budgets_that_cannot_be_made_are_told() {
    for (words, word) in [
        (vec!["budget", "gauge"], "did you mean `gauges`?"),
        (vec!["budget", "--what-if", "gauges sf13"], "`sf7` to `sf12`"),
        (vec!["budget", "--what-if", "Level.depth step 0.007"], "does not divide into steps"),
        (vec!["budget", "--devices", "0"], "from 1 to 1000000"),
    ] {
        let ran = run(&marlock(), &words);
        assert_eq!(ran.code, 2, "{words:?}");
        assert!(ran.err.contains(word), "{words:?}: {}", ran.err);
    }
}

// ---- tidy ----

#[test]
fn tidy_rewrites_checks_and_leaves_alone() {
    let folder = project();
    let path = folder.path().join("marlock.ember");
    let tidy = std::fs::read_to_string(&path).unwrap();
    assert_eq!(succeed(folder.path(), &["tidy"]), "marlock.ember: tidy already\n");
    assert_eq!(succeed(folder.path(), &["tidy", "--check"]), "");
    std::fs::write(&path, tidy.replace("    revision    4\n", "  revision 4\n")).unwrap();
    let checked = run(folder.path(), &["tidy", "--check"]);
    assert_eq!(checked.code, 1);
    assert!(checked.out.starts_with("marlock.ember:9: not in canonical style"), "{}", checked.out);
    assert_eq!(
        succeed(folder.path(), &["tidy", "marlock.ember", "pump.ember"]),
        "marlock.ember: tidied\npump.ember: tidy already\n"
    );
    assert_eq!(std::fs::read_to_string(&path).unwrap(), tidy);
    let piped = run_with_input(folder.path(), &["tidy", "-"], b"link l{revision 1 byte_order big}");
    assert_eq!((piped.code, piped.out.as_str()), (0, "link l {\n    revision    1\n    byte_order  big\n}\n"));
    // What cannot be read stays as it is.
    std::fs::write(&path, "message {").unwrap();
    let broken = run(folder.path(), &["tidy"]);
    assert_eq!(broken.code, 2);
    assert!(broken.err.contains("so it is left as it is"), "{}", broken.err);
    assert_eq!(std::fs::read_to_string(&path).unwrap(), "message {");
    assert_eq!(run_with_input(folder.path(), &["tidy", "-"], b"message {").out, "");
}

// ---- new ----

#[test]
fn new_projects_are_clean_and_their_trials_pass() {
    for preset in ["uart", "can", "lora", "udp", "console"] {
        let folder = tempfile::tempdir().unwrap();
        let out = succeed(folder.path(), &["new", "My Link-2", "--for", preset]);
        assert!(out.contains("my_link_2.ember") && out.contains("emberwort trial trials/first.toml"), "{out}");
        let here = folder.path().join("My Link-2");
        let checked = succeed(&here, &["check", "--deny", "warnings"]);
        assert!(checked.starts_with("my_link_2.ember: no findings (my_link_2 revision 1"), "{preset}: {checked}");
        succeed(&here, &["tidy", "--check"]);
        let trial = succeed(&here, &["trial", "trials/first.toml", "--record", "first.pcapng"]);
        assert!(trial.contains("held") && !trial.contains("FAILED"), "{preset}: {trial}");
        // What the trial recorded decodes without a broken frame, but for those that the wire damaged.
        let decoded = run(&here, &["decode", "first.pcapng", "--as", "ndjson"]);
        assert_eq!(decoded.code, 0, "{preset}: {}", decoded.err);
        assert!(rows(&decoded.out).len() > 20, "{preset}: {}", decoded.err);
        succeed(&here, &["generate"]);
        let make = std::fs::read_to_string(here.join("link.mk")).unwrap();
        for target in ["my_link_2-generate:", "my_link_2-check:"] {
            assert!(make.contains(target), "{preset}");
        }
        assert_eq!(run(folder.path(), &["new", "My Link-2"]).code, 2, "nothing is overwritten");
    }
    let nameless = run(&tempfile::tempdir().unwrap().path().join("."), &["new", "123"]);
    assert!(nameless.err.contains("gives the link no name"), "{}", nameless.err);
}

#[test]
fn the_make_file_fragment_works() {
    if std::process::Command::new("make").arg("--version").output().is_err() {
        assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "there is no make");
        return;
    }
    let folder = tempfile::tempdir().unwrap();
    succeed(folder.path(), &["new", "lamp"]);
    let make = |targets: &[&str]| {
        let output = std::process::Command::new("make")
            .current_dir(folder.path().join("lamp"))
            .args(["-f", "link.mk", &format!("EMBERWORT={}", env!("CARGO_BIN_EXE_emberwort"))])
            .args(targets)
            .output()
            .unwrap();
        (output.status.success(), String::from_utf8_lossy(&output.stderr).into_owned())
    };
    assert!(!make(&["lamp-check"]).0, "the generated files lack");
    assert!(make(&["lamp-generate", "lamp-check"]).0);
    let generated = folder.path().join("lamp/gen/c/lamp.c");
    std::fs::write(&generated, std::fs::read_to_string(&generated).unwrap() + "/* changed */\n").unwrap();
    assert!(!make(&["lamp-check"]).0, "a generated file is another");
    assert!(make(&["lamp-generate", "lamp-check"]).0);
    // From another folder, beside targets that have the usual names.
    let usual = "all check clean gen: ; echo $@\ninclude lamp/link.mk\n";
    std::fs::write(folder.path().join("Makefile"), usual).unwrap();
    let output = std::process::Command::new("make")
        .arg("-s")
        .current_dir(folder.path())
        .args([&format!("EMBERWORT={}", env!("CARGO_BIN_EXE_emberwort")), "lamp-check", "clean", "check", "gen"])
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success() && said.contains("clean\ncheck\ngen\n"), "{said}");
    assert!(generated.is_file(), "nothing is removed");
    // Before or behind the user's own rules, `make` alone does what it did.
    for own in ["include link.mk\nall: ; echo built\nother: ; false\n", "all: ; echo built\ninclude link.mk\n"] {
        std::fs::write(folder.path().join("lamp/Makefile"), own).unwrap();
        let output =
            std::process::Command::new("make").arg("-s").current_dir(folder.path().join("lamp")).output().unwrap();
        assert_eq!(
            String::from_utf8_lossy(&output.stdout),
            "built\n",
            "{own}{}",
            String::from_utf8_lossy(&output.stderr)
        );
    }
    std::fs::write(folder.path().join("lamp/lamp.ember"), "link lamp { revision 1 }").unwrap();
    assert!(!make(&["lamp-check"]).0, "a wrong definition fails the build");
}

// ---- layout ----

#[test]
fn layout_as_a_picture() {
    insta::assert_snapshot!(succeed(&marlock(), &["layout", "GateStatus", "PumpStatus", "Strokes", "--as", "picture"]));
}

#[test]
fn layout_of_records_lists_and_forms() {
    insta::assert_snapshot!(succeed(&marlock(), &["layout", "Level", "Strokes", "SettingValue"]));
}

#[test]
fn layout_as_a_figure() {
    let folder = project();
    let ran = run(folder.path(), &["layout", "GateStatus", "--out", "status.svg"]);
    assert_eq!((ran.code, ran.err.as_str()), (0, "the figure of 1 message is in status.svg\n"));
    let svg = std::fs::read_to_string(folder.path().join("status.svg")).unwrap();
    for word in [">GateStatus<", ">upstream<", ">12 bits<", ">since revision 2<", "url(#spare)", "1 to 13 bytes"] {
        assert!(svg.contains(word), "{word}");
    }
    assert_eq!(svg.matches('<').count(), svg.matches('>').count());
    // Each field has a left and a right edge, and dashed ones where it goes on in the next row.
    let paths = || {
        svg.lines().filter_map(|line| line.strip_prefix("<path d=\"")?.split_once("\" stroke").map(|(path, _)| path))
    };
    let edges: usize = paths().map(|path| path.matches('V').count()).sum();
    let dashed = svg.matches("stroke-dasharray=\"3 5\"").count();
    assert!(dashed > 0 && dashed.is_multiple_of(2), "{dashed}");
    assert_eq!(edges, 2 * paths().count() - dashed);
    succeed(folder.path(), &["layout", "GateStatus", "--out", "status.png"]);
    let png = std::fs::read(folder.path().join("status.png")).unwrap();
    assert!(png.starts_with(b"\x89PNG\r\n") && png.len() > 10_000);
    let again = run(folder.path(), &["layout", "GateStatus", "--out", "status.svg"]);
    assert_eq!(again.code, 0, "the same bytes are no change");
    assert_eq!(
        run(folder.path(), &["layout", "MoveGate", "--out", "status.svg"]).code,
        0,
        "a figure of ours is replaced"
    );
    assert!(run(folder.path(), &["layout", "MoveGate", "--out", "status.gif"]).err.contains("FILE.svg or FILE.png"));
}

#[test]
fn names_in_figures_cannot_leave_their_text() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link l { revision 1  byte_order little }\nmessage M { from host  a : u8 optional  t : text[..5] \n}\n";
    std::fs::write(folder.path().join("l.ember"), text).unwrap();
    succeed(folder.path(), &["layout", "--out", "m.svg"]);
    let svg = std::fs::read_to_string(folder.path().join("m.svg")).unwrap();
    assert!(svg.contains(">M<") && !svg.contains("<script"));
}

// ---- check ----

#[test]
fn check_for_machines_and_for_ci() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link l { revision 1  byte_order little }\nenum Unused : u2 { 0 a }\nmessage M { from host  a : Nope  b : u16 * 0.5 % }\n";
    std::fs::write(folder.path().join("l.ember"), text).unwrap();
    let ran = run(folder.path(), &["check", "--as", "ndjson"]);
    assert_eq!(ran.code, 1);
    let found = rows(&ran.out);
    assert_eq!(
        (found.len(), found[0]["code"].as_str(), found[0]["severity"].as_str()),
        (1, Some("E104"), Some("error"))
    );
    assert_eq!((found[0]["place"]["line"].as_u64(), found[0]["place"]["column"].as_u64()), (Some(3), Some(28)));
    std::fs::write(folder.path().join("l.ember"), text.replace("Nope", "u8")).unwrap();
    let warned = run(folder.path(), &["check"]);
    assert_eq!(warned.code, 0);
    assert!(warned.out.contains("l.ember: 1 warning, 1 hint (l revision 1"), "{}", warned.out);
    assert_eq!(run(folder.path(), &["check", "--deny", "warnings"]).code, 1);
    let piped = run_with_input(folder.path(), &["check", "-"], text.as_bytes());
    assert_eq!(piped.code, 1);
    assert!(piped.out.contains("[standard input:3:28]"), "{}", piped.out);
    // Hints alone do not fail a build.
    let hint = "link l { revision 1  byte_order little }\nmessage M { from host  b : u16 * 0.5 % }\n";
    assert_eq!(run_with_input(folder.path(), &["check", "--deny", "warnings", "-"], hint.as_bytes()).code, 0);
}

#[test]
fn findings_of_imported_files_show_those_files() {
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("parts")).unwrap();
    std::fs::write(
        folder.path().join("l.ember"),
        "import \"parts/a.ember\"\nlink l { revision 1  byte_order little }\nenum E : u2 { 0 a }\n",
    )
    .unwrap();
    std::fs::write(folder.path().join("parts/a.ember"), "import \"../l.ember\"\nenum E : u2 { 0 b }\n").unwrap();
    let ran = run(folder.path(), &["check", "l.ember"]);
    assert_eq!(ran.code, 1);
    assert!(ran.out.contains("E109") && ran.out.contains("[parts/a.ember:1:8]"), "{}", ran.out);
    assert!(ran.out.contains("E103") && ran.out.contains("l.ember:3:6: first used here"), "{}", ran.out);
}

/// Ten mistakes of different kinds, each of which a reader can mend from its text alone.
#[test]
fn ten_mistakes_are_ten_findings() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link pond { revision 2  byte_order little }
enum Mode : u2 { 0 off  4 on }
record Sample { depth : 0 .. 10 m step 0.3 }
channel wire {
    medium uart 9600 8N1
    frame {
        sync C6 39
        kind : u8 message
        size : u8 length of body
        body
        check : u16 crc-16/ibm-3741 over kind..body
    }
}
message Level {
    id 1
    from device
    mode : Mode
    depth : u12 be
    spare 4 bits
    note : text[rest]
    temp : i65 degC
}
message Ask {
    id 2
    from host
    answered by Levle
    value : by kind { 1 a : u8 }
    at_ : u8 at 0.9
    added in 3 { trend : i8 }
}
message Twice { from host  a : u8  a : u16 }
";
    std::fs::write(folder.path().join("pond.ember"), text).unwrap();
    let ran = run(folder.path(), &["check", "--as", "ndjson"]);
    let found = rows(&ran.out);
    let codes: Vec<&str> = found.iter().map(|row| row["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["E112", "E202", "E304", "E211", "E201", "E104", "E210", "E010", "E107", "E103"], "{}", ran.out);
    let lines: Vec<u64> = found.iter().map(|row| row["place"]["line"].as_u64().unwrap()).collect();
    assert!(lines.windows(2).all(|pair| pair[0] <= pair[1]), "in order of place: {lines:?}");
    for row in &found {
        assert!(row["help"].as_str().unwrap().len() > 10, "{row}");
    }
    insta::assert_snapshot!(succeed_with(&run(folder.path(), &["check"])));
}

fn succeed_with(ran: &common::Ran) -> String {
    assert_eq!(ran.code, 1);
    ran.out.clone()
}

#[test]
fn names_that_clash_in_generated_code_are_found_by_check() {
    let folder = tempfile::tempdir().unwrap();
    let text = "link l {\n    revision    1\n    byte_order  little\n}\nenum Bad : u8 {\n    0 ok\n    1 value\n}\n\
                message M {\n    from  device\n    a_b   : u8\n    a__b  : u8\n    c     : Bad\n}\n";
    std::fs::write(folder.path().join("l.ember"), text).unwrap();
    let ran = run(folder.path(), &["check", "--as", "ndjson"]);
    let found: Vec<(String, u64, String)> = ran
        .out
        .lines()
        .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap())
        .map(|row| {
            let text = |name: &str| row[name].as_str().unwrap().to_owned();
            (text("code"), row["place"]["line"].as_u64().unwrap(), text("message"))
        })
        .collect();
    assert_eq!(ran.code, 0, "they are warnings: {found:?}");
    assert_eq!((found[0].0.as_str(), found[0].1), ("W013", 7), "{found:?}");
    assert!(
        found[0].2.contains("`Bad.value` becomes `L_BAD_VALUE`") && found[0].2.ends_with("a name of its own there"),
        "{found:?}"
    );
    assert!(
        found.iter().any(|(code, line, said)| code == "W013" && *line >= 11 && said.contains("`M.a__b` and `M.a_b`")),
        "{found:?}"
    );
    assert_eq!(run(folder.path(), &["check", "--deny", "warnings"]).code, 1);
    let said = run(folder.path(), &["generate"]);
    assert_eq!((said.code, said.err.contains("; rename one of them")), (2, true), "{}", said.err);
}

/// An error in one message does not hide the others; what cannot be told is not, and the exit code says it.
#[test]
fn a_broken_message_does_not_stop_the_others() {
    let folder = tempfile::tempdir().unwrap();
    let link = "link l {\n    revision    1\n    byte_order  little\n}\nchannel c {\n    medium  uart 9600 8N1\n    frame {\n        sync  C6 39\n        \
                kind  : u8 message\n        size  : u8 length of body\n        body\n    }\n}\n";
    let message = |name: &str, id: u8, more: &str| {
        format!("message {name} {{\n    id    {id}\n    from  host\n    on    c\n    {more}\n}}\n")
    };
    let write = |more: &str| {
        let text = format!("{link}{}{}{more}", message("A", 1, "a : u8"), message("B", 2, "b : Nothing"));
        std::fs::write(folder.path().join("l.ember"), text).unwrap();
    };
    write(&message("C", 3, "answered by B\n    c : u8"));
    let laid = run(folder.path(), &["layout"]);
    assert_eq!(laid.code, 1, "{laid:?}");
    assert!(laid.out.starts_with("A  id 1") && !laid.out.contains("\nB") && !laid.out.contains("\nC"), "{}", laid.out);
    assert!(laid.err.contains("E104 there is no type `Nothing`"), "{}", laid.err);
    assert!(laid.err.ends_with("left out: B, C, which have errors or need one that has\n"), "{}", laid.err);
    assert_eq!(run(folder.path(), &["layout", "A", "--as", "ndjson"]).code, 1);
    let broken = run(folder.path(), &["layout", "C"]);
    assert_eq!((broken.code, broken.out.as_str()), (2, ""));
    assert!(broken.err.ends_with("error: nothing can be said of `C` until its errors are mended\n"), "{}", broken.err);
    let weighed = run(folder.path(), &["budget"]);
    assert!(weighed.code == 1 && weighed.out.contains("\nA ") && !weighed.out.contains("\nB "), "{weighed:?}");
    // An error elsewhere, or in the only message, stops all.
    write("enum E : u8 { 0 a  0 b }\n");
    assert_eq!(run(folder.path(), &["layout"]).code, 2);
    std::fs::write(folder.path().join("l.ember"), format!("{link}{}", message("B", 2, "b : Nothing"))).unwrap();
    assert!(run(folder.path(), &["layout"]).err.contains("nothing can be done with it until it is mended"));
}
