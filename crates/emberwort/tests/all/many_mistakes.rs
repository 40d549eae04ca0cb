//! Each way to be wrong, thousands of times in one file: `check` takes time that grows with the text, not with its square; and
//! definitions that grow beyond all measure are findings, not crashes.

use std::path::Path;
use std::time::{Duration, Instant};

use crate::common::run;

const HEAD: &str = "link l {\n revision 1\n byte_order little\n}\nchannel c {\n medium uart 9600 8N1\n limit 60 bytes\n frame { sync C6 39\n \
    kind : u16 message\n size : u8 length of body\n body }\n}\n";

/// A text for each number, one after the other.
fn each(count: usize, text: impl Fn(usize) -> String) -> String {
    (0..count).map(text).collect()
}

type Way = (&'static str, fn(usize) -> String);

/// Ways to be wrong, by how often.
const WAYS: &[Way] = &[
    ("the same message", |n| HEAD.to_owned() + &each(n, |_| "message M { id 1  from device  on c\n a : u8 }\n".into())),
    ("the same key", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id 1  from device  on c\n a : u8 }}\n"))
    }),
    ("an unknown type", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from device on c\n a : No{i} }}\n"))
    }),
    ("an unknown channel", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from device on no\n a : u8 }}\n"))
    }),
    ("an unknown answer", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from host on c answered by No{i}\n a : u8 }}\n"))
    }),
    ("the same field", |n| format!("{HEAD}message M {{ id 1 from device on c\n{}}}\n", each(n, |_| "a : u8\n".into()))),
    ("the same code", |n| format!("{HEAD}enum E : u16 {{\n{}}}\n", each(n, |_| "0 a\n".into()))),
    ("the same label", |n| format!("{HEAD}enum E : u16 {{\n{}}}\n", each(n, |i| format!("{i} a\n")))),
    ("the same record", |n| HEAD.to_owned() + &each(n, |_| "record R { a : u8 }\n".into())),
    ("the same enum", |n| HEAD.to_owned() + &each(n, |_| "enum R : u8 { 0 a }\n".into())),
    ("the same table", |n| HEAD.to_owned() + &each(n, |_| "table R : u8 { 0 a : u8 read }\n".into())),
    ("the same channel", |n| HEAD.to_owned() + &HEAD[HEAD.find("channel").unwrap()..].repeat(n)),
    ("the same link", |n| HEAD.to_owned() + &"link l {\n revision 1\n byte_order little\n}\n".repeat(n)),
    ("the same statement", |n| format!("{HEAD}message M {{ {} from device on c\n a : u8 }}\n", "id 1\n".repeat(n))),
    ("the same place", |n| {
        format!("{HEAD}message M {{ id 1 from device on c\n{}}}\n", each(n, |i| format!("a{i} : u8 at 0.0\n")))
    }),
    ("the same part", |n| HEAD.replace("body }", &format!("body\n{}}}", "p : u8 = 1\n".repeat(n)))),
    ("the same form", |n| {
        format!(
            "{HEAD}message M {{ id 1 from device on c\n k : u16\n v : by k {{\n{}}}\n}}\n",
            each(n, |i| format!("1 f{i} : u8\n"))
        )
    }),
    ("the same form's name", |n| {
        format!(
            "{HEAD}message M {{ id 1 from device on c\n k : u16\n v : by k {{\n{}}}\n}}\n",
            each(n, |i| format!("{i} f : u8\n"))
        )
    }),
    ("the same entry", |n| format!("{HEAD}table T : u16 {{\n{}}}\n", each(n, |i| format!("{i} a : u8 read\n")))),
    ("the same import", |n| "import \"no.ember\"\n".repeat(n) + HEAD),
    ("an import that is not there", |n| each(n, |i| format!("import \"no{i}.ember\"\n")) + HEAD),
    ("a strange word", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from device on c\n a : u8 optonal }}\n"))
    }),
    ("a strange style", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from device on c\n aBad : u8 }}\n"))
    }),
    ("a body that is too long", |n| {
        HEAD.to_owned() + &each(n, |i| format!("message M{i} {{ id {i} from device on c\n a : bytes[100] }}\n"))
    }),
    ("a size that is taken", |n| {
        "link l { revision 1  byte_order little }\nchannel c { medium udp 4000\n packet\n select by size }\n".to_owned()
            + &each(n, |i| format!("message M{i} {{ from device on c\n a : bytes[3] }}\n"))
    }),
    ("nothing that uses a record", |n| HEAD.to_owned() + &each(n, |i| format!("record R{i} {{ a : u8 }}\n"))),
    ("signs without a meaning", |n| HEAD.to_owned() + &"} { ] [ x : : \n".repeat(n)),
    ("words in one line", |n| format!("{HEAD}message M {{ id 1 from device on c\n a : u8 {}}}\n", "x ".repeat(n))),
];

fn took(folder: &Path, name: &str, form: &str) -> Duration {
    let began = Instant::now();
    let ran = run(folder, &["check", "--as", form, name]);
    assert!((0..=1).contains(&ran.code), "{name}: {} {}", ran.code, ran.err);
    began.elapsed()
}

#[test]
fn time_grows_with_the_text() {
    let folder = tempfile::tempdir().unwrap();
    for (what, way) in WAYS {
        for form in ["table", "ndjson"] {
            for (name, count) in [("few.ember", 1_000), ("many.ember", 8_000)] {
                std::fs::write(folder.path().join(name), way(count)).unwrap();
            }
            // Eight times the text; its square would take sixty-four times as long. A busy machine gets other chances.
            let grew = (0..4).map(|_| {
                let few = took(folder.path(), "few.ember", form);
                let many = took(folder.path(), "many.ember", form);
                (few, many, many.as_secs_f64() / few.as_secs_f64().max(0.01))
            });
            let found: Vec<_> = grew.take_while(|(_, _, times)| *times > 20.0).collect();
            assert!(found.len() < 4, "{what}, {form}: {found:?}");
        }
    }
}

#[test]
fn records_in_records_have_a_bound() {
    let folder = tempfile::tempdir().unwrap();
    let message = "message M { id 1  from device  on c\n a : R0 }\n";
    let chain = |count: usize, inner: &str| {
        let mut all: Vec<String> = (0..count)
            .map(|i| format!("record R{i} {{ {} }}\n", inner.replace("NEXT", &format!("R{}", i + 1))))
            .collect();
        all.push(format!("record R{count} {{ x : u8 }}\n"));
        all
    };
    let check = |text: String, words: &[&str]| {
        std::fs::write(folder.path().join("l.ember"), text).unwrap();
        let ran = run(folder.path(), &[words, &["--link", "l.ember"]].concat());
        assert!(!ran.err.contains("panicked"), "{}", ran.err);
        ran
    };
    for (inner, wanted) in [
        ("x : NEXT", "E014"),
        ("x : [2] NEXT", "E014"),
        ("x : NEXT  y : NEXT", "E216"),
        ("k : u8\n x : by k { 1 a : NEXT  2 b : NEXT }", "E"),
    ] {
        let all = chain(2_000, inner);
        let (forth, back) = (all.concat(), all.iter().rev().map(String::as_str).collect::<String>());
        for records in [forth, back] {
            let ran = check(format!("{HEAD}{records}{message}"), &["check"]);
            assert_eq!(ran.code, 1, "{inner}: {}", ran.err);
            assert!(ran.out.contains(wanted), "{inner}: {}", ran.out);
            assert!(
                ran.out.contains("levels of records in it") || ran.out.contains("fields; 10000 is the most"),
                "{}",
                ran.out
            );
            assert_eq!(check(format!("{HEAD}{records}{message}"), &["layout"]).code, 2);
        }
    }
    // What is allowed is quick and small in all that shows it.
    let ran = check(format!("{HEAD}{}{message}", chain(30, "x : NEXT").concat()), &["layout"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let wide = HEAD.replace("limit 60", "limit 9000").replace("size : u8", "size : u16");
    let ran = check(format!("{wide}{}{message}", chain(11, "x : NEXT  y : NEXT").concat()), &["layout"]);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert!(ran.out.len() < 10_000_000, "{} bytes", ran.out.len());
}
