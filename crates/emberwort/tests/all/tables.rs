//! `decode --out`: tables by message hold what the rows say, as CSV and as Parquet; a data set goes on where it stopped.
#![cfg(feature = "parquet")]

use std::fs::File;
use std::path::{Path, PathBuf};

use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use serde_json::Value as Json;

use crate::common::{project_with_recording, run, succeed};

fn rows(folder: &Path, words: &[&str]) -> Vec<Json> {
    let out = succeed(folder, &[&["decode", "stormy-night.pcapng", "--as", "ndjson"][..], words].concat());
    out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

fn tables(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        match path.is_dir() {
            true => found.extend(tables(&path)),
            false => found.push(path),
        }
    }
    found.sort();
    found
}

#[test]
fn a_parquet_table_holds_the_rows() {
    let folder = project_with_recording();
    succeed(folder.path(), &["decode", "stormy-night.pcapng", "--as", "parquet", "--out", "set"]);
    let path = folder.path().join("set/message=GateStatus/day=2031-03-09/stormy-night_pcapng.parquet");
    let reader = SerializedFileReader::new(File::open(path).unwrap()).unwrap();
    let metadata = reader.metadata().file_metadata().key_value_metadata().unwrap().clone();
    let said = |key: &str| metadata.iter().find(|pair| pair.key == key).and_then(|pair| pair.value.clone());
    assert_eq!((said("unit.oil"), said("emberwort.revision")), (Some("bar".into()), Some("4".into())));
    assert_eq!(
        (said("emberwort.link"), said("emberwort.message")),
        (Some("marlock".into()), Some("GateStatus".into()))
    );
    let expected = rows(folder.path(), &["--message", "GateStatus"]);
    let mut count = 0;
    for (row, expected) in reader.get_row_iter(None).unwrap().zip(&expected) {
        for (name, field) in row.unwrap().get_column_iter() {
            let fields = &expected["fields"];
            match (name.as_str(), field) {
                ("_frame", Field::Long(number)) => assert_eq!(*number, expected["frame"].as_i64().unwrap()),
                ("_node", Field::Long(number)) => assert_eq!(*number, expected["node"].as_i64().unwrap()),
                ("_channel", Field::Str(text)) => assert_eq!(text, expected["channel"].as_str().unwrap()),
                ("_time", field) => {
                    let time: jiff::Timestamp = expected["time"].as_str().unwrap().parse().unwrap();
                    assert!(format!("{field:?}").contains(&time.as_nanosecond().to_string()), "{field:?} {time}");
                }
                ("state" | "operator", Field::Str(text)) => assert_eq!(text, fields[name].as_str().unwrap()),
                ("opening" | "upstream" | "oil" | "battery" | "latch_force", Field::Double(number)) => {
                    assert_eq!(*number, fields[name].as_f64().unwrap(), "{name}");
                }
                ("pump_temp", Field::Long(number)) => assert_eq!(*number, fields[name].as_i64().unwrap()),
                ("moving", Field::Bool(is)) => assert_eq!(*is, fields[name].as_bool().unwrap()),
                ("faults", Field::Str(text)) => assert_eq!(serde_json::from_str::<Json>(text).unwrap(), fields[name]),
                (name, Field::Null) => assert!(fields.get(name).is_none_or(Json::is_null), "{name}"),
                _ => {}
            }
        }
        count += 1;
    }
    assert_eq!(count, expected.len());
    // What is no row is in a table of its own.
    let other = folder.path().join("set/message=_without_row/day=2031-03-09/stormy-night_pcapng.parquet");
    let reader = SerializedFileReader::new(File::open(other).unwrap()).unwrap();
    let others = rows(folder.path(), &["--where", "broken or unread or stray"]).len();
    assert_eq!(reader.metadata().file_metadata().num_rows() as usize, others);
}

#[test]
fn a_data_set_of_many_captures_goes_on_where_it_stopped() {
    let folder = project_with_recording();
    let names: Vec<String> = (0..6).map(|n| format!("night{n}.pcapng")).collect();
    for name in &names {
        std::fs::copy(folder.path().join("stormy-night.pcapng"), folder.path().join(name)).unwrap();
    }
    let words = |out: &'static str| {
        let mut words = vec!["decode"];
        words.extend(names.iter().map(String::as_str));
        words.extend(["--as", "parquet", "--out", out]);
        words
    };
    succeed(folder.path(), &words("whole"));
    let bytes = |out: &str| -> Vec<(PathBuf, Vec<u8>)> {
        let at = folder.path().join(out);
        tables(&at)
            .into_iter()
            .map(|path| (path.strip_prefix(&at).unwrap().to_owned(), std::fs::read(path).unwrap()))
            .collect()
    };
    let whole = bytes("whole");
    assert!(whole.len() >= 6 * 8);
    // A run that was killed: one capture is not done, and has left tables and a half one.
    succeed(folder.path(), &words("again"));
    let state = folder.path().join("again/_emberwort");
    std::fs::rename(state.join("night3_pcapng.done"), state.join("night3_pcapng.started")).unwrap();
    let day = folder.path().join("again/message=GateStatus/day=2031-03-09");
    std::fs::write(day.join("night3_pcapng.unfinished"), b"half").unwrap();
    let ran = run(folder.path(), &words("again"));
    assert!(ran.code == 0 && ran.err.contains("5 of 6 captures were in the data set before"), "{}", ran.err);
    assert!(bytes("again") == whole);
}

#[test]
fn a_csv_table_has_a_column_for_each_field() {
    let folder = project_with_recording();
    let ran = run(folder.path(), &["decode", "stormy-night.pcapng", "--as", "csv", "--out", "tables"]);
    let mut reader = csv::Reader::from_path(folder.path().join("tables/GateStatus.csv")).unwrap();
    let heading: Vec<String> = reader.headers().unwrap().iter().map(str::to_owned).collect();
    let at = |name: &str| heading.iter().position(|column| column == name).unwrap();
    let expected = rows(folder.path(), &["--message", "GateStatus"]);
    let found: Vec<csv::StringRecord> = reader.records().map(Result::unwrap).collect();
    assert_eq!(found.len(), expected.len());
    let said = format!("tables/GateStatus.csv: {} rows", expected.len());
    assert!(ran.code == 0 && ran.err.lines().any(|line| line == said), "{}", ran.err);
    for (found, expected) in found.iter().zip(&expected) {
        assert_eq!(&found[at("_time")], expected["time"].as_str().unwrap());
        assert_eq!(found[at("oil (bar)")].parse::<f64>().unwrap(), expected["fields"]["oil"].as_f64().unwrap());
        assert_eq!(&found[at("state")], expected["fields"]["state"].as_str().unwrap());
        assert_eq!(&found[at("operator")], expected["fields"]["operator"].as_str().unwrap_or_default());
    }
    // Nothing is overwritten, and nothing half written is left.
    let again = run(folder.path(), &["decode", "stormy-night.pcapng", "--as", "csv", "--out", "tables"]);
    assert!(again.code == 2 && again.err.contains("exists already"), "{}", again.err);
    assert!(tables(&folder.path().join("tables")).iter().all(|path| path.extension().unwrap() == "csv"));
    for words in [
        &["decode", "stormy-night.pcapng", "--as", "parquet"][..],
        &["decode", "stormy-night.pcapng", "--as", "tree", "--out", "x"],
    ] {
        assert_eq!(run(folder.path(), words).code, 2);
    }
}

#[test]
fn an_embedded_sql_engine_answers_from_the_data_set() {
    let missing = |why: &str| {
        assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "{why}");
        println!("skipped: {why}");
    };
    let python = |folder: &Path, script: &str| {
        std::process::Command::new("python3").args(["-c", script]).current_dir(folder).output()
    };
    let folder = project_with_recording();
    let folder = folder.path();
    if !python(folder, "import duckdb").is_ok_and(|ran| ran.status.success()) {
        return missing("python3 with duckdb is missing: pip install duckdb");
    }
    std::fs::copy(folder.join("stormy-night.pcapng"), folder.join("again.pcapng")).unwrap();
    succeed(folder, &["decode", "stormy-night.pcapng", "again.pcapng", "--as", "parquet", "--out", "set"]);
    let script = "import duckdb, json\n\
        table = \"read_parquet('set/message=GateStatus/**/*.parquet', hive_partitioning=true)\"\n\
        sql = f'''select _node, state, count(*), max(upstream), sum(pump_temp), count(operator) from {table}\n\
            where day = '2031-03-09' group by all order by _node, state'''\n\
        print(json.dumps(duckdb.sql(sql).fetchall()))";
    let ran = python(folder, script).unwrap();
    assert!(ran.status.success(), "{}", String::from_utf8_lossy(&ran.stderr));
    let answered: Vec<(u64, String, u64, Option<f64>, i64, u64)> = serde_json::from_slice(&ran.stdout).unwrap();

    let mut expected = std::collections::BTreeMap::new();
    for row in rows(folder, &["--where", "message == GateStatus"]) {
        let fields = &row["fields"];
        let key = (row["node"].as_u64().unwrap(), fields["state"].as_str().unwrap().to_owned());
        let (count, upstream, temperature, operators) = expected.entry(key).or_insert((0, None, 0, 0));
        // The recording is in the data set twice.
        *count += 2;
        *upstream = fields["upstream"].as_f64().into_iter().chain(*upstream).reduce(f64::max);
        *temperature += 2 * fields["pump_temp"].as_i64().unwrap();
        *operators += 2 * u64::from(fields["operator"].is_string());
    }
    let expected: Vec<_> = expected.into_iter().map(|((a, b), (c, d, e, f))| (a, b, c, d, e, f)).collect();
    assert!(expected.len() > 4);
    assert_eq!(answered, expected);
}

/// A datagram from port 4000 in a capture of bare IP packets (RFC 791, RFC 768; no checksum of UDP).
fn datagram(payload: &[u8]) -> Vec<u8> {
    let mut packet = vec![0x45, 0, 0, 28 + payload.len() as u8, 0, 0, 0, 0, 64, 17, 0, 0, 192, 0, 2, 7, 192, 0, 2, 1];
    let sum: u32 = packet.chunks(2).map(|pair| u32::from(pair[0]) << 8 | u32::from(pair[1])).sum();
    let sum = !((sum & 0xFFFF) + (sum >> 16)) as u16;
    packet[10..12].copy_from_slice(&sum.to_be_bytes());
    packet.extend([0x0F, 0xA0, 0x0F, 0xA1, 0, 8 + payload.len() as u8, 0, 0]);
    packet.extend(payload);
    packet
}

/// A classic pcap of such datagrams, each so many seconds after the beginning of 1970.
fn datagrams(packets: impl IntoIterator<Item = (u32, [u8; 3])>) -> Vec<u8> {
    let mut file: Vec<u8> =
        [0xA1B2_C3D4, 0x0004_0002, 0, 0, 65535, 101_u32].into_iter().flat_map(u32::to_le_bytes).collect();
    for (seconds, payload) in packets {
        let packet = datagram(&payload);
        let length = packet.len() as u32;
        file.extend([seconds, 0, length, length].into_iter().flat_map(u32::to_le_bytes));
        file.extend(packet);
    }
    file
}

const LAMP: &str = "link lamp {\n    revision    1\n    byte_order  little\n}\n
channel net {\n    medium  udp 4000\n    packet\n    frame {\n        kind  : u8  message\n        body\n    }\n}\n
enum Mode : u8 {\n    0 off\n    1 steady\n}\n
message Status {\n    id    1\n    from  device\n    on    net\n    mode   : Mode or none\n    level  : 0 .. 100 % step 1 or none\n}\n";

fn lamp() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("lamp.ember"), LAMP).unwrap();
    folder
}

/// The rows of a Parquet table, with the names of the columns that hold something.
fn read(path: &Path) -> Vec<Vec<(String, Field)>> {
    let reader = SerializedFileReader::new(File::open(path).unwrap()).unwrap();
    let row = |row: parquet::record::Row| {
        let cells = row.get_column_iter().filter(|(_, field)| **field != Field::Null);
        cells.map(|(name, field)| (name.clone(), field.clone())).collect()
    };
    reader.get_row_iter(None).unwrap().map(|found| row(found.unwrap())).collect()
}

#[test]
fn none_is_told_from_what_has_no_meaning() {
    let folder = lamp();
    let level = |mode: u8, level: u8| [1, mode, level];
    // 255 is "none" of an enum of eight bits, 127 of a number of seven.
    let frames = [level(1, 50), level(255, 127), level(9, 101)];
    std::fs::write(folder.path().join("a.pcap"), datagrams(frames.map(|frame| (0, frame)))).unwrap();
    succeed(folder.path(), &["decode", "a.pcap", "--as", "parquet", "--out", "set"]);
    let rows = read(&folder.path().join("set/message=Status/day=1970-01-01/a_pcap.parquet"));
    let of_fields = |row: &[(String, Field)]| {
        let fields = row.iter().filter(|(name, _)| matches!(name.as_str(), "mode" | "level" | "_no_meaning"));
        fields.cloned().collect::<Vec<_>>()
    };
    let text = |text: &str| Field::Str(text.to_owned());
    let rows: Vec<_> = rows.iter().map(|row| of_fields(row)).collect();
    assert_eq!(rows[0], [("mode".to_owned(), text("steady")), ("level".to_owned(), Field::Long(50))]);
    assert_eq!(rows[1], []);
    assert_eq!(rows[2], [("_no_meaning".to_owned(), text(r#"{"mode":9,"level":101}"#))]);
    assert_eq!(rows.len(), 3);
}

#[test]
fn more_days_than_are_open_at_once_have_all_their_rows() {
    let folder = lamp();
    // So many that the first days are ended for later ones, and then rows of those days again.
    let days = (0..230).chain(0..230).chain([229]);
    let frames = days.map(|day| (day * 86_400, [1, 1, (day % 100) as u8]));
    std::fs::write(folder.path().join("a.pcap"), datagrams(frames)).unwrap();
    let said = succeed(folder.path(), &["decode", "a.pcap", "--as", "parquet", "--out", "set"]);
    assert!(said.is_empty(), "{said}");
    let mut count = 0;
    for path in
        tables(&folder.path().join("set")).iter().filter(|path| path.extension().is_some_and(|end| end == "parquet"))
    {
        let day = path.parent().unwrap().file_name().unwrap().to_str().unwrap().strip_prefix("day=").unwrap();
        for row in read(path) {
            let time = row.iter().find(|(name, _)| name == "_time").map(|(_, field)| format!("{field:?}")).unwrap();
            let seconds: i64 = time.chars().filter(char::is_ascii_digit).collect::<String>().parse().unwrap();
            let time = jiff::Timestamp::from_nanosecond(seconds.into()).unwrap();
            assert_eq!(&time.to_string()[..10], day, "{}", path.display());
            count += 1;
        }
    }
    assert_eq!(count, 461);
    // A day that was ended has a second table beside the first; one that was not has one.
    let of_day = |day: &str| tables(&folder.path().join("set/message=Status").join(format!("day={day}")));
    let names = |day: &str| of_day(day).iter().map(|path| path.file_name().unwrap().to_owned()).collect::<Vec<_>>();
    assert_eq!(names("1970-01-01"), ["a_pcap-1.parquet", "a_pcap.parquet"]);
}

#[test]
fn a_table_of_many_rows_has_each_of_them_once() {
    let folder = lamp();
    let count = 70_000;
    let frames = (0..count).map(|n: u32| (n, [1, 1, (n % 101) as u8]));
    std::fs::write(folder.path().join("a.pcap"), datagrams(frames)).unwrap();
    let ran = run(folder.path(), &["decode", "a.pcap", "--as", "parquet", "--out", "set"]);
    assert!(ran.code == 0 && ran.err.contains("70000 rows with 70000 frames are in set"), "{}", ran.err);
    let rows = read(&folder.path().join("set/message=Status/day=1970-01-01/a_pcap.parquet"));
    assert_eq!(rows.len(), count as usize);
    for (n, row) in rows.iter().enumerate() {
        let number = |name: &str| row.iter().find(|(column, _)| column == name).map(|(_, field)| field.clone());
        assert_eq!(
            (number("_frame"), number("level")),
            (Some(Field::Long(n as i64 + 1)), Some(Field::Long(n as i64 % 101)))
        );
    }
}
