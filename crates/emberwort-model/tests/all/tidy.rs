//! The canonical style: what it looks like, that it stays as it is, and that it never changes the meaning.

use emberwort_model::tidy::tidy;
use emberwort_model::{Source, check_with};
use proptest::prelude::*;

/// The meaning of a definition, without places: its plan and what is found in it.
fn meaning(text: &str) -> String {
    let checked = check_with(Source::new("t.ember", text), &mut |_, path| Ok(Source::new(path, "")));
    let found: Vec<String> = checked.findings.iter().map(|f| format!("{}{}", f.code.as_str(), f.message)).collect();
    format!("{:?}\n{found:?}", checked.plan)
}

fn agrees(text: &str) {
    let once = tidy(text).unwrap_or_else(|found| panic!("{found:?}\n{text}"));
    assert_eq!(tidy(&once).as_deref(), Ok(once.as_str()), "not the same the second time:\n{text}");
    assert_eq!(meaning(text), meaning(&once), "another meaning:\n{text}\n{once}");
    let comments = |text: &str| {
        let words = |line: &str| line.split_once('#').map(|(_, c)| c.trim_start_matches('#').trim().to_owned());
        text.lines().filter(|line| !line.contains('"')).filter_map(words).collect::<Vec<_>>()
    };
    assert_eq!(comments(text), comments(&once), "a comment went:\n{text}\n{once}");
}

#[test]
fn one_style() {
    let rough = "link l{revision 1 byte_order little}
enum E:u8{0 a \"x\" 10 b}   # after
table Settings:u16{
0x0102 ramp_time : 0..45 s step 0.25 read write,kept # why
  0x0140 motor : i16*0.025 A read
}
record R growing { a:u8
added in 2 { b : i16 * -0.5 - 3 V=-4 } }

#one
##   two
message M{ id 0x50 from host answered by X,  M within 20 ms
 kind:E  v : by kind{ 0 level : -5..  5 m step 1
 b cur:[..8]R else unknown:bytes[ rest ]}
   # inside
   longer_name : text[ ..8 ] optional
spare   3 bits
}
channel c { medium uart 9600 8N1
 frame{ sync C6 39
 kind:u8 message
 longer : u16 length of kind..body in 2 bytes
 body
 check:u16 crc-16/ibm-3740 over kind..body,longer } }
";
    let tidied = "link l {
    revision    1
    byte_order  little
}
enum E : u8 {
    0  a  \"x\"
    10 b
}  # after
table Settings : u16 {
    0x0102 ramp_time  : 0 .. 45 s step 0.25 read write, kept  # why
    0x0140 motor      : i16 * 0.025 A read
}
record R growing {
    a  : u8
    added in 2 {
        b  : i16 * -0.5 - 3 V = -4
    }
}

# one
##   two
message M {
    id        0x50
    from      host
    answered  by X, M within 20 ms
    kind  : E
    v : by kind {
        0    level    : -5 .. 5 m step 1
        b    cur      : [..8] R
        else unknown  : bytes[rest]
    }
    # inside
    longer_name  : text[..8] optional
    spare 3 bits
}
channel c {
    medium  uart 9600 8N1
    frame {
        sync    C6 39
        kind    : u8   message
        longer  : u16  length of kind..body in 2 bytes
        body
        check   : u16  crc-16/ibm-3740 over kind..body, longer
    }
}
";
    assert_eq!(tidy(rough).unwrap(), tidied);
    assert_eq!(tidy(tidied).unwrap(), tidied);
}

#[test]
fn examples_are_tidy() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let mut count = 0;
    for folder in ["examples/marlock", "examples/standards", "editors/examples"] {
        for entry in std::fs::read_dir(root.join(folder)).unwrap() {
            let path = entry.unwrap().path();
            if path.extension().is_some_and(|extension| extension == "ember") {
                let text = std::fs::read_to_string(&path).unwrap();
                assert_eq!(tidy(&text).unwrap(), text, "{} is not tidy", path.display());
                count += 1;
            }
        }
    }
    assert!(count >= 6, "only {count} examples");
    for text in [
        include_str!("../../../emberwort-codegen/tests/odd.ember"),
        include_str!("../../../emberwort-codegen/tests/whole.ember"),
    ] {
        agrees(text);
    }
}

#[test]
fn texts_with_errors_are_left_alone() {
    for text in ["message {", "enum E : u3 { 0 }", "link l { revision", "\"open", "}"] {
        assert!(tidy(text).is_err(), "{text}");
    }
    assert_eq!(tidy("").as_deref(), Ok(""));
    assert_eq!(tidy("\n\n# a\n\n\n# b\n").as_deref(), Ok("# a\n\n# b\n"));
    assert_eq!(
        tidy("# with a carriage return\r\nlink l {\r\n revision 1 byte_order big }\r\n").unwrap().matches('\r').count(),
        0
    );
}

/// A field as somebody might write it, with the spaces that come to mind.
fn field() -> impl Strategy<Value = String> {
    let space = prop_oneof![Just(""), Just(" "), Just("   "), Just("\t")];
    let ty = prop_oneof![
        Just("u8"),
        Just("i16*0.5+ 3 V"),
        Just("i16 * -0.5 - 3 V"),
        Just("0..100 % step 0.5 or none"),
        Just("-5 .. -1 m/s^2 in 4 bits"),
        Just("text[ ..8 ]optional"),
        Just("[ ..4 ]u16 be"),
        Just("[2] [..3] compact i32"),
        Just("exactly 0x01:u8"),
        Just("u12 at 2.4"),
        Just("E = b"),
        Just("F=[a,b]"),
        Just("by k{1 a:u8 2 b:u16 else c:bytes[2]}"),
        Just("u16 * 0.1 \"odd unit\" = 2.5"),
        Just("i8 kg*m"),
        Just("bytes[2] = \"C6 39\" retired"),
        Just("time ms"),
    ];
    (space.clone(), space, ty, any::<bool>()).prop_map(|(a, b, ty, comment)| {
        let comment = if comment { " #said so" } else { "" };
        format!("{a}:{b}{ty}{comment}\n")
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1000))]

    #[test]
    fn generated_definitions_keep_their_meaning(
        fields in proptest::collection::vec(field(), 1..8),
        blanks in proptest::collection::vec(0usize..3, 8),
        tight in any::<bool>(),
    ) {
        let (open, line) = if tight { ("{", "") } else { (" {\n", "\n") };
        let mut text = format!(
            "link l{open}revision 3 byte_order little}}{line}\n## An enum.\nenum E:u4{open}0 a \"first\" 3 b\n}}\nflags F : u4{{0 a\n 1 b}}\n\
             record R{open}x:u8 # unused\n}}\nmessage M{open}from host\nk : u8\n"
        );
        for (n, field) in fields.iter().enumerate() {
            text += &"\n".repeat(blanks[n]);
            text += &format!("f{n}{field}");
        }
        text += "added in 2 {\n";
        for (n, field) in fields.iter().enumerate().take(2) {
            text += &format!("g{n}_long{field}");
        }
        text += "} }\n";
        // Fields that cannot follow each other give findings of meaning, not of form; those must stay as well.
        agrees(&text);
    }
}

#[test]
fn what_stands_behind_forms_stays_there() {
    let text = "record R { kind : u8\n value : by kind { 1 a : u8\n else b : u16 }optional }\n";
    let tidied = tidy(text).unwrap();
    assert!(tidied.contains("\n    } optional\n"), "{tidied}");
    assert_eq!(tidy(&tidied).as_deref(), Ok(tidied.as_str()));
}
