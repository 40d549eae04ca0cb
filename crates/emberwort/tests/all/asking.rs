//! Questions to captures: each answer is worked out a second time, from all rows as NDJSON.

use std::collections::HashMap;

use serde_json::Value as Json;

use crate::common::{project, project_with_recording, rows, run, succeed};

const NIGHT: &str = "stormy-night.pcapng";

fn seconds(row: &Json) -> f64 {
    let time: jiff::Timestamp = row["time"].as_str().expect("a time").parse().expect("RFC 3339");
    (time.as_nanosecond() - 1_930_788_600_000_000_000) as f64 / 1e9
}

fn number(row: &Json, field: &str) -> Option<f64> {
    row["fields"][field].as_f64()
}

fn is(row: &Json, field: &str, label: &str) -> bool {
    row["fields"][field] == label
}

/// Who sent it, and what.
fn sender(row: &Json) -> String {
    format!("{} {} {} {}", row["channel"], row["direction"], row["node"], row["message"])
}

/// A condition, and how it is worked out from a row and the one before it of the same sender.
type Worked = (&'static str, fn(&Json, Option<&Json>) -> bool);

const CONDITIONS: &[Worked] = &[
    ("opening > 40 and state == held", |row, _| number(row, "opening") > Some(40.0) && is(row, "state", "held")),
    ("GateStatus.oil in 100 .. 120", |row, _| {
        row["message"] == "GateStatus" && number(row, "oil").is_some_and(|oil| (100.0..=120.0).contains(&oil))
    }),
    ("message == Alarm or message == Refused", |row, _| row["message"] == "Alarm" || row["message"] == "Refused"),
    // Rows without the field do not match, whatever is said of it.
    ("not state == open", |row, _| row["fields"].get("state").is_some_and(|state| state != "open")),
    ("upstream == none", |row, _| row["fields"].get("upstream").is_some_and(Json::is_null)),
    ("has(operator) and node == 3", |row, _| row["fields"].get("operator").is_some() && row["node"] == 3),
    ("operator == \"Wren\"", |row, _| is(row, "operator", "Wren")),
    ("text has 'oil'", |row, _| row["fields"]["text"].as_str().is_some_and(|text| text.contains("oil"))),
    ("faults has oil_hot", |row, _| {
        row["fields"]["faults"].as_array().is_some_and(|set| set.contains(&"oil_hot".into()))
    }),
    ("direction == host and channel == bus485", |row, _| row["direction"] == "host" && row["channel"] == "bus485"),
    ("broken", |row, _| row.get("broken").is_some()),
    ("broken and time > 60", |row, _| row.get("broken").is_some() && seconds(row) > 60.005_109_8),
    ("broken == checksum", |row, _| row["broken"] == "checksum"),
    ("stray and length > 2", |row, _| row["stray"].as_u64() > Some(2)),
    ("not broken and not stray and node == 1", |row, _| row["node"] == 1),
    ("time > 90.5", |row, _| seconds(row) > 90.505_108_8),
    ("state changed", |row, before| before.is_some_and(|before| before["fields"]["state"] != row["fields"]["state"])),
    ("upstream changed", |row, before| {
        before.is_some_and(|before| before["fields"].get("upstream") != row["fields"].get("upstream"))
    }),
    ("oil jumped by 5", |row, before| {
        let then = before.and_then(|before| number(before, "oil"));
        number(row, "oil").zip(then).is_some_and(|(now, then)| (now - then).abs() >= 5.0 - 1e-9)
    }),
    ("previous(opening) < opening", |row, before| {
        let then = before.and_then(|before| number(before, "opening"));
        number(row, "opening").zip(then).is_some_and(|(now, then)| then < now)
    }),
    ("age > 0.25", |row, before| before.is_some_and(|before| seconds(row) - seconds(before) > 0.25)),
    ("oil == 60.07", |row, _| row["fields"]["oil"].as_f64() == Some(60.07)),
    ("raw(opening) == 85", |row, _| number(row, "opening") == Some(42.5)),
];

#[test]
fn conditions_hold_for_the_rows_for_which_they_do() {
    let folder = project_with_recording();
    let all = rows(&succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "ndjson"]));
    assert!(all.len() > 1500);
    let mut matched = 0;
    for (condition, holds) in CONDITIONS {
        let mut before: HashMap<String, &Json> = HashMap::new();
        let mut expected = Vec::new();
        for row in &all {
            let last = if row.get("fields").is_some() { before.insert(sender(row), row) } else { None };
            if holds(row, last) {
                expected.push(row.clone());
            }
        }
        let words = ["decode", "stormy-night.pcapng", "--as", "ndjson", "--where", condition];
        let found = rows(&succeed(folder.path(), &words));
        assert_eq!(found.len(), expected.len(), "{condition}");
        assert!(found == expected, "{condition}");
        matched += usize::from(!found.is_empty());
    }
    assert!(matched >= CONDITIONS.len() - 2, "{matched}: conditions that match nothing test nothing");
}

#[test]
fn an_age_of_another_message_is_that_of_the_same_node() {
    let folder = project_with_recording();
    let all = rows(&succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "ndjson"]));
    let mut last: HashMap<String, f64> = HashMap::new();
    let mut expected = Vec::new();
    for row in all.iter().filter(|row| row.get("fields").is_some()) {
        let node = format!("{} {}", row["channel"], row["node"]);
        if row["message"] == "MoveGate" {
            last.insert(node, seconds(row));
        } else if row["message"] == "Refused" && last.get(&node).is_some_and(|then| seconds(row) - then < 0.02) {
            expected.push(row.clone());
        }
    }
    let condition = "message == Refused and age(MoveGate) < 0.02";
    let words = ["decode", "stormy-night.pcapng", "--as", "ndjson", "--where", condition];
    let found = rows(&succeed(folder.path(), &words));
    assert!(!found.is_empty());
    assert!(found == expected);
    // The messages that it looks back to need not be shown.
    let only = [words.as_slice(), &["--message", "Refused"]].concat();
    assert!(rows(&succeed(folder.path(), &only)) == expected);
}

#[test]
fn changes_are_the_differences_between_rows() {
    let folder = project_with_recording();
    let words = ["decode", "stormy-night.pcapng", "--as", "ndjson"];
    let all = rows(&succeed(folder.path(), &words));
    let found = rows(&succeed(folder.path(), &[words.as_slice(), &["--changes"]].concat()));
    let mut before: HashMap<String, &Json> = HashMap::new();
    let mut expected = Vec::new();
    for row in all.iter().filter(|row| row.get("fields").is_some()) {
        let Some(last) = before.insert(sender(row), row) else { continue };
        let (now, then) = (row["fields"].as_object().unwrap(), last["fields"].as_object().unwrap());
        let names: std::collections::BTreeSet<&String> = now.keys().chain(then.keys()).collect();
        let value = |fields: &serde_json::Map<String, Json>, name: &str| fields.get(name).cloned().unwrap_or_default();
        let changes: Vec<(String, Json, Json)> = names
            .into_iter()
            .map(|name| (name.clone(), value(then, name), value(now, name)))
            .filter(|(_, old, new)| old != new)
            .collect();
        if !changes.is_empty() {
            expected.push((row["time"].clone(), changes));
        }
    }
    let shown = |line: &Json| {
        let mut changes: Vec<(String, Json, Json)> = line["changes"]
            .as_object()
            .unwrap()
            .iter()
            .map(|(name, both)| (name.clone(), both["old"].clone(), both["new"].clone()))
            .collect();
        changes.sort_by(|a, b| a.0.cmp(&b.0));
        (line["time"].clone(), changes)
    };
    let found: Vec<_> = found.iter().map(shown).collect();
    assert!(found.len() > 500);
    assert!(found == expected);
    // A filter says which are shown, not what they are compared with.
    let some = [words.as_slice(), &["--changes", "--where", "state changed"]].concat();
    let some: Vec<_> = rows(&succeed(folder.path(), &some)).iter().map(shown).collect();
    let of_state = |change: &(Json, Vec<(String, Json, Json)>)| change.1.iter().any(|(name, ..)| name == "state");
    assert!(!some.is_empty() && some == expected.iter().filter(|change| of_state(change)).cloned().collect::<Vec<_>>());
    let table = succeed(folder.path(), &["decode", "stormy-night.pcapng", "--changes", "--where", "state changed"]);
    assert!(table.contains("state: opening \u{2192} held"), "{table}");
    let csv = succeed(folder.path(), &["decode", "stormy-night.pcapng", "--changes", "--as", "csv"]);
    assert!(csv.contains(",3,GateStatus,state,opening,held\n"), "{csv}");
    // Around a row as well, and compared with the row before, shown or not.
    let near = ["--changes", "--around", "message == Alarm", "--before", "1s", "--after", "2s"];
    let near: Vec<_> = rows(&succeed(folder.path(), &[&words[..], &near].concat())).iter().map(shown).collect();
    let alarms: Vec<f64> = all.iter().filter(|row| row["message"] == "Alarm").map(seconds).collect();
    let is_near = |time: &Json| {
        let time = seconds(&serde_json::json!({ "time": time }));
        alarms.iter().any(|alarm| (-1.0..=2.0).contains(&(time - alarm)))
    };
    assert!(!near.is_empty() && near == expected.into_iter().filter(|change| is_near(&change.0)).collect::<Vec<_>>());
}

/// A row that is broken or stray is one, too.
#[test]
fn the_first_and_the_last_rows_are_so_many_whatever_they_are() {
    let folder = project_with_recording();
    let rows = |more: &[&str]| {
        rows(&succeed(folder.path(), &[&["decode", "stormy-night.pcapng", "--as", "ndjson"], more].concat()))
    };
    let all = rows(&[]);
    let broken = rows(&["--where", "broken"]);
    assert!(broken.len() > 20);
    for threads in ["1", "2"] {
        assert_eq!(rows(&["--where", "broken", "--first", "1", "--threads", threads]), broken[..1]);
        assert_eq!(rows(&["--where", "broken", "--last", "2", "--threads", threads]), broken[broken.len() - 2..]);
        assert_eq!(rows(&["--first", "100", "--threads", threads]), all[..100]);
        assert_eq!(rows(&["--last", "100", "--threads", threads]), all[all.len() - 100..]);
    }
}

#[test]
fn what_lies_around_a_row_is_shown_with_it() {
    let folder = project_with_recording();
    let words = ["decode", "stormy-night.pcapng", "--as", "ndjson"];
    let all = rows(&succeed(folder.path(), &words));
    let alarms: Vec<f64> = all.iter().filter(|row| row["message"] == "Alarm").map(seconds).collect();
    assert!(!alarms.is_empty());
    let near = |row: &&Json| alarms.iter().any(|alarm| (-0.5..=1.5).contains(&(seconds(row) - alarm)));
    let expected: Vec<Json> = all.iter().filter(near).cloned().collect();
    let around = ["--around", "message == Alarm", "--before", "500ms", "--after", "1.5s"];
    let found = rows(&succeed(folder.path(), &[words.as_slice(), &around].concat()));
    assert!(found == expected, "{} of {}", found.len(), expected.len());
    // Other filters restrict what is shown, not what is looked for.
    let expected: Vec<Json> = expected.into_iter().filter(|row| row["message"] == "GateStatus").collect();
    let only = [words.as_slice(), &around, &["--message", "GateStatus"]].concat();
    assert!(rows(&succeed(folder.path(), &only)) == expected);
}

#[test]
fn the_last_rows_are_the_last_ones() {
    let folder = project_with_recording();
    let words = ["decode", "stormy-night.pcapng", "--as", "ndjson", "--message", "GateStatus"];
    let all = rows(&succeed(folder.path(), &words));
    for threads in ["1", "2"] {
        let last = [words.as_slice(), &["--last", "7", "--threads", threads]].concat();
        assert!(rows(&succeed(folder.path(), &last)) == all[all.len() - 7..]);
    }
}

#[test]
fn mistakes_in_conditions_say_what_to_write() {
    let folder = project_with_recording();
    for (condition, said) in [
        ("Refused and node == 3", "`Refused` is no condition by itself; write message == Refused"),
        ("checksum", "`checksum` is no condition by itself; write broken == checksum"),
        ("opening == \"half\"", "`opening` is not text; compare it with a number or a label, without quotes"),
        ("serial == \"xyz\"", "`serial` holds bytes: write them in hex"),
        ("operator > \"A\"", "`operator` is compared with \"A\" by ==, != or has"),
        ("operator == Wren", "nothing is called `Wren`"),
        ("\"Wren\"", "\"Wren\" can only be compared with a field that is text or bytes"),
        ("operator == \"Wren", "the second quote is missing"),
        ("state == hold", "GateState has no label `hold`"),
        ("oil jumped 5", "`by` is missing before"),
        ("age(Gate) > 1", "nothing is called `Gate`"),
    ] {
        for option in ["--where", "--around"] {
            let ran = run(folder.path(), &["decode", "stormy-night.pcapng", option, condition]);
            assert_eq!(ran.code, 2, "{condition}");
            assert!(ran.err.contains(said) && ran.err.contains(option), "{condition}: {}", ran.err);
            assert_eq!(ran.out, "", "{condition}");
        }
    }
}

#[test]
fn a_value_is_found_in_fields_and_in_bytes() {
    let folder = project_with_recording();
    let find = |words: &[&str]| {
        let words = [&["find"][..], words, &["stormy-night.pcapng", "--as", "ndjson"]].concat();
        rows(&succeed(folder.path(), &words))
    };
    let rows = rows(&succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "ndjson"]));
    let holding = rows.iter().filter(|row| number(row, "oil") == Some(231.5) && row["message"] == "GateStatus");
    let holding: Vec<&Json> = holding.collect();
    let found = find(&["231.5"]);
    let field = found.iter().find(|place| place["message"] == "GateStatus" && place["field"] == "oil").unwrap();
    assert_eq!((&field["as"], field["times"].as_u64().unwrap() as usize), (&"value".into(), holding.len()));
    assert_eq!((&field["frame"], &field["first"]), (&holding[0]["frame"], &holding[0]["time"]));
    // A label, a text, and raw codes.
    let field = &find(&["held"])[0];
    let held = rows.iter().filter(|row| is(row, "state", "held")).count();
    assert_eq!((&field["field"], field["times"].as_u64().unwrap() as usize), (&"state".into(), held));
    let found = find(&["Wren"]);
    assert!(found.iter().any(|place| place["field"] == "operator" && place["as"] == "value"));
    assert!(found.iter().any(|place| place["byte"] == 15 && place["as"] == "text"), "{found:?}");
    let found = find(&["85"]);
    let opening = found.iter().find(|place| place["field"] == "opening" && place["as"] == "raw").unwrap();
    let raw = rows.iter().filter(|row| number(row, "opening") == Some(42.5)).count();
    assert_eq!(opening["times"].as_u64().unwrap() as usize, raw);
    let nothing = run(folder.path(), &["find", "123456.789", "stormy-night.pcapng"]);
    assert!(nothing.err.contains("stands nowhere"), "{}", nothing.err);
}

#[test]
fn fields_that_move_together_are_found() {
    let folder = project_with_recording();
    let words = ["find", "--like", "GateStatus.oil", "stormy-night.pcapng", "--as", "ndjson"];
    let found = rows(&succeed(folder.path(), &words));
    // On the east gate oil, opening and temperature rise together, by the trial's own signals.
    let of = |field: &str| {
        let place = found
            .iter()
            .find(|place| place["node"] == 3 && place["message"] == "GateStatus" && place["field"] == field);
        place.unwrap()["correlation"].as_f64().unwrap()
    };
    assert!(of("opening") > 0.99 && of("pump_temp") > 0.99, "{found:?}");
    assert!(of("latch_force").abs() < 0.5);
    for (name, said) in
        [("oil", "is a field of GateStatus, Alarm"), ("GateStatus.oyl", "there is no field `GateStatus.oyl`")]
    {
        let ran = run(folder.path(), &["find", "--like", name, "stormy-night.pcapng"]);
        assert!(ran.code == 2 && ran.err.contains(said), "{}", ran.err);
    }
}

/// The words of a command line with single quotes.
fn words_of(line: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (n, part) in line.split('\'').enumerate() {
        match n % 2 {
            1 => words.push(part.to_owned()),
            _ => words.extend(part.split_whitespace().map(str::to_owned)),
        }
    }
    words
}

#[test]
fn the_page_of_the_stormy_night_shows_what_comes_back() {
    let folder = project_with_recording();
    let page = include_str!("../../../../docs/stormy-night.md");
    let mut commands = 0;
    for block in page.split("```\n").skip(1).step_by(2) {
        let (command, expected) = block.strip_prefix("$ emberwort ").unwrap().split_once('\n').unwrap();
        let words = words_of(command);
        let found = succeed(folder.path(), &words.iter().map(String::as_str).collect::<Vec<_>>());
        let found: String = found.lines().map(|line| line.trim_end().to_owned() + "\n").collect();
        assert_eq!(found.trim_end(), expected.trim_end(), "{command}");
        commands += 1;
    }
    assert!(commands >= 10, "{commands}");
}

#[test]
fn tables_show_times_as_they_are_asked_for() {
    let folder = project_with_recording();
    let table = |words: &[&str]| {
        let words = [&["decode", "stormy-night.pcapng", "--node", "3", "--last", "3"][..], words].concat();
        let out = succeed(folder.path(), &words);
        out.lines()
            .filter(|line| !line.starts_with("--"))
            .map(|line| line[..16].trim_end().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(table(&[]), ["TIME (UTC)", "02:11:59.472543", "02:11:59.672543", "02:11:59.872543"]);
    assert_eq!(table(&["--zone", "-03:30"])[..2], ["TIME (-03:30)", "22:41:59.472543"]);
    for threads in ["1", "2"] {
        let before = table(&["--times", "before", "--threads", threads]);
        assert_eq!(before, ["AFTER THE LAST", "+0.000000", "+0.200000", "+0.200000"]);
    }
    assert_eq!(table(&["--times", "2031-03-09T02:12:00Z"]), ["SECONDS", "-0.527456", "-0.327456", "-0.127456"]);
    // Since a frame, by its number as NDJSON has it.
    let last = succeed(folder.path(), &["decode", NIGHT, "--as", "ndjson", "--last", "3", "--node", "3"]);
    let middle = rows(&last)[1]["frame"].to_string();
    assert_eq!(table(&["--times", &middle]), ["SECONDS", "-0.200000", "+0.000000", "+0.200000"]);
    let beyond = run(folder.path(), &["decode", NIGHT, "--times", "999999"]);
    assert!(beyond.code == 2 && beyond.err.contains("there is no frame 999999"), "{}", beyond.err);
    for (words, said) in
        [(["--zone", "Mars"], "there is no time zone `Mars`"), (["--times", "after"], "--times is `before`")]
    {
        let ran = run(folder.path(), &[&["decode", "stormy-night.pcapng"][..], &words].concat());
        assert!(ran.code == 2 && ran.err.contains(said), "{}", ran.err);
    }
}

#[test]
fn one_message_has_a_column_for_each_field() {
    let folder = project_with_recording();
    let decode =
        |words: &[&str]| succeed(folder.path(), &[&["decode", NIGHT, "--message", "GateStatus"][..], words].concat());
    let table = decode(&[]);
    let mut lines = table.lines();
    let heading = lines.next().unwrap();
    let rows: Vec<Json> = decode(&["--as", "ndjson"]).lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let lines: Vec<&str> = lines.filter(|line| !line.starts_with("--")).collect();
    assert_eq!((lines.len(), rows.len() > 1_000), (rows.len(), true));
    let title = |name: &str| heading.find(&format!(" {name}")).unwrap_or_else(|| panic!("{name}: {heading}")) + 1;
    for (line, row) in lines.iter().zip(&rows) {
        let fields = &row["fields"];
        let text: Vec<char> = line.chars().collect();
        // Numbers end where their titles do, in physical units, with the decimals of their steps.
        for (name, unit, decimals) in [
            ("opening", "%", 1),
            ("upstream", "m", 3),
            ("oil", "bar", 2),
            ("pump_temp", "degC", 0),
            ("battery", "V", 1),
        ] {
            let end = title(&format!("{name} {unit}")) + name.len() + 1 + unit.len();
            let shown = fields[name].as_f64().map_or("none".to_owned(), |value| format!("{value:.decimals$}"));
            assert!(text[..end].iter().collect::<String>().ends_with(&format!(" {shown}")), "{name} {shown}: {line}");
        }
        // Texts begin where theirs do; what is not there has a mark, so that nothing moves to the left.
        let operator = fields["operator"].as_str().map_or("–".to_owned(), |name| format!("\"{name}\""));
        for (name, shown) in [
            ("state", fields["state"].as_str().unwrap()),
            ("faults", &*fields["faults"].to_string().replace('"', "")),
            ("operator", &*operator),
            ("moving", &*fields["moving"].to_string()),
        ] {
            let behind: String = text[title(name)..].iter().collect();
            assert!(behind.starts_with(shown), "{name} {shown}: {line}");
        }
    }
}

#[test]
fn texts_stand_beside_nodes_and_values() {
    let folder = project_with_recording();
    let labels = "node,field,value,text\n3,,,upper gate\n,GateStatus.state,held,stopped half way\n3,oil,200..250,too much\n\
                  ,pump_temp,80..127,\"hot, very\"\n,operator,Wren,night shift\n";
    std::fs::write(folder.path().join("labels.csv"), labels).unwrap();
    let decode = |form: &str| succeed(folder.path(), &["decode", NIGHT, "--labels", "labels.csv", "--as", form]);
    let mut shown = 0;
    for line in decode("ndjson").lines() {
        let row: Json = serde_json::from_str(line).unwrap();
        let (fields, labels) = (&row["fields"], &row["labels"]);
        assert_eq!(row["node_label"] == "upper gate", row["node"] == 3, "{line}");
        let is_status = row["message"] == "GateStatus";
        let of = |is: bool, text: &str| if is { Json::from(text) } else { Json::Null };
        let much = row["node"] == 3 && fields["oil"].as_f64().is_some_and(|oil| (200.0..=250.0).contains(&oil));
        assert_eq!(labels["state"], of(is_status && fields["state"] == "held", "stopped half way"), "{line}");
        assert_eq!(labels["oil"], of(much, "too much"), "{line}");
        let hot = fields["pump_temp"].as_i64().is_some_and(|degrees| degrees >= 80);
        assert_eq!(labels["pump_temp"], of(hot, "hot, very"), "{line}");
        assert_eq!(labels["operator"], of(fields["operator"] == "Wren", "night shift"), "{line}");
        shown += labels.as_object().map_or(0, serde_json::Map::len);
    }
    assert!(shown > 500);
    // Each form shows each of them.
    for form in ["table", "tree", "hex"] {
        let out = decode(form);
        let found: usize = ["(stopped half way)", "(too much)", "(hot, very)", "(night shift)"]
            .iter()
            .map(|text| out.matches(text).count())
            .sum();
        assert_eq!(found, shown, "{form}");
    }
    let csv = decode("csv");
    let mut reader = csv::Reader::from_reader(csv.as_bytes());
    let label = reader.headers().unwrap().iter().position(|heading| heading == "label").unwrap();
    assert_eq!(reader.records().filter(|record| !record.as_ref().unwrap()[label].is_empty()).count(), shown);

    for (text, said) in [
        ("field,value,text\nstat,1,x\n", "labels.csv, line 2: no message has a field `stat`; did you mean `state`?"),
        (
            "field,value,text\nGateStatus.state,halt,x\n",
            "line 2: GateStatus.state has no value `halt`; it has closed, ",
        ),
        ("field,value,text\noil,9..2,x\n", "oil: the range `9..2` ends before it begins"),
        ("address,text\n0x7777,x\n", "line 2: no table has an entry 30583"),
    ] {
        std::fs::write(folder.path().join("labels.csv"), text).unwrap();
        let ran = run(folder.path(), &["decode", NIGHT, "--labels", "labels.csv"]);
        assert!(ran.code == 2 && ran.out.is_empty() && ran.err.contains(said), "{}", ran.err);
    }
}

#[test]
fn a_name_that_is_nearly_right_is_told() {
    let folder = project();
    for (condition, near) in [("GateStatu.oil > 3", "GateStatus"), ("messge == Alarm", "message"), ("oli > 3", "oil")] {
        let ran = run(folder.path(), &["decode", "--on", "bus485", "--hex", "00", "--where", condition]);
        assert!(ran.code == 2 && ran.err.contains(&format!("did you mean `{near}`?")), "{condition}: {}", ran.err);
    }
}
