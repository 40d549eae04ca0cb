//! Names that mean something elsewhere: keywords, macros, types, names of the generator's own, and pairs that become the same. Each
//! definition is generated, compiled with all warnings as errors, and its vectors run; or it is found to clash.
//!
//! Without a C compiler the first test passes without doing anything, unless EMBERWORT_NEED_TOOLCHAINS is set.

use emberwort_codegen::{GenerateError, c, javascript, python, rust, vectors};
use emberwort_model::Plan;

use crate::common::plans::plan;
use crate::common::words::{OTHER_WORDS, TYPES, WORDS};
use crate::common::{self, compile_and_run, compiler, write};

/// Fields, enum labels, fields of a record, frame parts and forms of these names.
fn with_names(names: &[&str]) -> String {
    let each = |text: &dyn Fn(usize, &str) -> String| -> String {
        names.iter().enumerate().map(|(n, name)| text(n, name)).collect()
    };
    let (labels, fields) = (each(&|n, name| format!("{n} {name}\n")), each(&|_, name| format!("{name} : u8\n")));
    let texts = each(&|_, name| format!("{name} : text[..5]\n"));
    let ranges = each(&|_, name| format!("{name} : 0 .. 10 m step 0.5 or none optional\n"));
    let forms = each(&|n, name| format!("{n} {name} : u8\n"));
    // Some words cannot be the name of a frame part.
    let parts: String = names
        .iter()
        .filter(|name| !["body", "sync"].contains(*name))
        .map(|name| format!("{name} : u8 = 7\n"))
        .collect();
    format!(
        "link l {{ revision 1  byte_order little }}
        enum Ee : u8 {{ {labels} }}
        record Rr {{ {fields} }}
        channel c {{ medium uart 9600 8N1
            limit 900 bytes
            frame {{ sync C6 39
                {parts} kind_of : u8 message
                size_of : u16 length of body
                body
                sum_of : u16 crc-16/arc over kind_of..body }} }}
        message Mm {{ id 1  from device  on c
            {fields}
            ranged : 0 .. 10 m step 0.5 or none
            by_name : by {first} {{ {forms} else others : bytes[..4] }}
            rec : Rr
            list : [..3] Rr
            label : Ee
            text : text[..5] optional }}
        message Aa {{ id 2  from device  on c
            {texts}
            more : bytes[..5]
            ones : [..3] u16 }}
        message Bb {{ id 3  from device  on c
            before : u8
            {ranges} }}",
        first = names[0],
    )
}

/// The words in groups of which no two become the same name.
fn groups() -> Vec<Vec<&'static str>> {
    let mut groups: Vec<Vec<&str>> = Vec::new();
    for word in WORDS {
        let fits = |group: &Vec<&'static str>| {
            let more: Vec<&str> = group.iter().copied().chain([*word]).collect();
            c::clashes(&plan(&with_names(&more))).is_empty()
        };
        match groups.iter_mut().find(|group| fits(group)) {
            Some(group) => group.push(word),
            None => groups.push(vec![word]),
        }
    }
    groups
}

/// The words of code, without those in comments and quotes.
fn words_of(code: &str) -> Vec<&str> {
    let outside = code
        .split("/*")
        .enumerate()
        .map(|(n, rest)| if n == 0 { rest } else { rest.split_once("*/").map_or("", |(_, rest)| rest) });
    let unquoted = outside.flat_map(|text| text.split('"').step_by(2));
    unquoted.flat_map(|text| text.split(|c: char| !c.is_ascii_alphanumeric() && c != '_')).collect()
}

#[test]
fn every_word_can_be_a_name() {
    let Some(compiler) = compiler() else { return };
    let groups = groups();
    assert!(groups.len() <= 8, "{groups:?}");
    for names in groups {
        let plan = plan(&with_names(&names));
        let vectors = vectors::vectors(&plan, 1);
        let files = c::generate(&plan, &vectors, &[]).unwrap_or_else(|error| panic!("{names:?}: {error}"));
        for file in &files {
            for (number, line) in file.text.lines().enumerate() {
                assert!(line.is_ascii() && line.len() <= 120, "{} line {}: {line}", file.name, number + 1);
            }
            let known =
                ["__AVR__", "__GNUC__", "__OPTIMIZE_SIZE__", "__attribute__", "__cplusplus", "__STDC_VERSION__"];
            let reserved = words_of(&file.text).into_iter().filter(|word| word.contains("__") && !known.contains(word));
            assert_eq!(reserved.collect::<Vec<_>>(), Vec::<&str>::new(), "{names:?}");
        }
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &files);
        // With the compiler's own macros too, as most firmware is compiled.
        let output = compile_and_run(compiler, folder.path(), &["-std=gnu99", "-O0"], &["l.c", "l_vectors.c"]);
        assert!(output.ends_with(" 0 differences\n"), "{names:?}: {output}");
    }
}

/// Pairs that become the same name, or one of the generator's own: found, with both names.
#[test]
fn clashes_are_found_and_nothing_is_generated() {
    let channel = "channel c { medium uart 9600 8N1\n limit 60 bytes\n frame { sync C6 39\n kind : u8 message\n size : u8 length of body\n body } }";
    let head = format!("link l {{ revision 1  byte_order little }}\n{channel}\n");
    let message =
        |name: &str, id: u8, fields: &str| format!("message {name} {{ id {id}  from device  on c\n {fields}\n}}\n");
    let cases = [
        ("enum Bad : u8 { 0 value }\n".to_owned() + &message("M", 1, "a : Bad"), "lnk"),
        (message("Result", 1, "a : u8"), ""),
        (message("CReceiver", 1, "a : u8"), "CReceiver"),
        (message("M", 1, "a : u8") + &message("MView", 2, "a : u8"), "MView"),
        (
            "enum GateState : u8 { 0 a }\nenum Gate_State : u8 { 0 b }\n".to_owned()
                + &message("M", 1, "a : GateState\n b : Gate_State"),
            "Gate_State",
        ),
        (message("M", 1, "x : 0 .. 9 m step 0.5\n x_from_scaled : 0 .. 9 m step 0.5"), "x_from_scaled"),
        (message("M", 1, "struct : u8\n f_struct : u8"), "f_struct"),
        (message("M", 1, "a_b : u8\n a__b : u8"), "a__b"),
        (message("M", 1, "aB : u8\n a_b : u8"), "a_b"),
        ("enum AlarmKind : u8 { 0 high }\n".to_owned() + &message("Alarm", 1, "kind : u8\n other : AlarmKind"), "kind"),
        (message("Revision", 1, "a : u8") + &message("C", 2, "build : u8"), ""),
        (message("Get", 1, "a : u8"), ""),
    ];
    let mut found_clashes = 0;
    for (items, name) in cases {
        let plan = plan(&format!("{head}{items}"));
        let clashes = c::clashes(&plan);
        match c::generate(&plan, &[], &[]) {
            Err(GenerateError::NameClash { clash, .. }) => {
                found_clashes += 1;
                assert_eq!(clashes[0], clash);
                let all: Vec<&String> =
                    clashes.iter().flat_map(|clash| clash.first.iter().chain(&clash.second)).collect();
                assert!(
                    name == "lnk" || name.is_empty() || all.iter().any(|found| *found == name),
                    "{items}: {clashes:?}"
                );
            }
            Err(error) => panic!("{items}: {error}"),
            // What does not clash compiles.
            Ok(files) => {
                assert_eq!(clashes, [], "{items}");
                let Some(compiler) = compiler() else { continue };
                let folder = tempfile::tempdir().unwrap();
                write(folder.path(), &files);
                compile_and_run(compiler, folder.path(), &[], &["l.c", "l_vectors.c"]);
            }
        }
    }
    assert!(found_clashes >= 7, "{found_clashes}");
    for (link, name) in [("string", "string.h"), ("w", "W_OK"), ("af", "AF_LOCAL"), ("spidev", "SPIDEV_H")] {
        let plan = plan(&head.replace("link l", &format!("link {link}")));
        assert_eq!(c::clashes(&plan).iter().map(|clash| clash.name.as_str()).collect::<Vec<_>>(), [name]);
    }
}

/// Links with hardly anything in them, of all kinds.
fn small_links() -> Vec<String> {
    let link = "link l { revision 1  byte_order little }\n";
    let uart =
        |how: &str, frame: &str| format!("channel c {{ medium uart 9600 8N1\n {how}\n limit 60 bytes\n {frame} }}\n");
    let framed = uart("", "frame { sync C6 39\n kind : u8 message\n size : u8 length of body\n body }");
    let cases = [
        String::new(),
        "message M { from device\n a : u8 }\n".into(),
        "message M { from device }\n".into(),
        "message M { from device\n a : f64\n b : compact i64\n c : text[..3]\n d : u40 }\n".into(),
        "message M { from device\n a : text[..300] optional\n b : [rest] u24 be }\n".into(),
        "enum E : u8 { 0 a }\nmessage M { from device\n a : E }\n".into(),
        "flags F : u8 { 0 a }\nmessage M { from device\n a : F }\n".into(),
        "record R { a : u8 }\nmessage M { from device\n a : [..3] R }\n".into(),
        "record R { spare 8 bits }\nmessage M { from device\n a : R\n b : [..3] R }\n".into(),
        "record R growing { a : u8 retired }\nmessage M { from device\n b : [..3] R }\n".into(),
        "table T : u8 { 1 a : u8 read }\nmessage M { from device\n a : key of T\n b : value of T by a }\n".into(),
        "message M { from device\n a : u8\n b : by a { 1 c : u8 } }\n".into(),
        "message M { from device\n a : u8\n b : by a { 1 c : bytes[2]  2 d : u16  else e : bytes[2] } }\n".into(),
        framed.clone(),
        framed.clone() + "message M { id 1  from device  on c }\n",
        uart("stuffing cobs", "frame { kind : u8 message\n body }") + "message M { id 1  from device  on c }\n",
        uart("stuffing slip", "frame { kind : u8 message\n body }") + "message M { id 1  from device  on c\n a : u8 }\n",
        uart("gap 2 ms", "frame { kind : u8 message\n body }") + "message M { id 1  from device  on c\n a : u8 }\n",
        uart("lines lf", "") + "message M { from device  on c\n line \"x\" }\n",
        uart("lines crlf", "") + "message M { from device  on c\n line \"{a}\"\n a : text[..9] }\n",
        uart("status bytes", "frame { status : u8 message\n body }") + "message M { id 0x90  from device  on c }\n",
        "channel c { medium udp 4000\n packet }\nmessage M { from device  on c\n a : u8 }\n".into(),
        "channel c { medium can 250000\n packet\n select by can_id }\nmessage M { from device  on c can_id 3\n a : u8 }\n".into(),
        "channel c { medium udp 4000\n packet\n select by port }\n".into(),
    ];
    cases.iter().map(|case| format!("{link}{case}")).collect()
}

/// Nothing that they generate is unused, or missing.
#[test]
fn small_links_compile_without_a_warning() {
    let Some(compiler) = compiler() else { return };
    for text in small_links() {
        let plan = plan(&text);
        let files = c::generate(&plan, &vectors::vectors(&plan, 1), &[]).unwrap();
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &files);
        let output = compile_and_run(compiler, folder.path(), &[], &["l.c", "l_vectors.c"]);
        assert!(output.ends_with(" 0 differences\n"), "{text}: {output}");
    }
}

/// The same in the languages of hosts; that the module of Rust compiles is enough of it here.
#[test]
fn small_links_pass_in_other_languages() {
    for text in small_links() {
        let plan = plan(&text);
        let vectors = vectors::vectors(&plan, 1);
        let folder = tempfile::tempdir().unwrap();
        if let Some(python) = common::python() {
            for is_slim in [false, true] {
                common::run_python(python, folder.path(), &python::generate_for(&plan, &vectors, is_slim).unwrap());
            }
        }
        if let Some(node) = common::node() {
            common::run_node(node, folder.path(), &javascript::generate(&plan, &vectors).unwrap());
        }
        write(folder.path(), &rust::generate(&plan, &vectors).unwrap());
        let words = ["--edition", "2021", "--crate-type", "lib", "--emit", "metadata", "-D", "warnings", "l.rs"];
        let compiled =
            std::process::Command::new(common::rustc()).current_dir(folder.path()).args(words).output().unwrap();
        assert!(compiled.status.success(), "{text}: {}", String::from_utf8_lossy(&compiled.stderr));
    }
}

/// Words that generators put into their own texts, or change there, are names as any others.
#[test]
fn words_that_are_replaced_in_printed_code_can_be_names() {
    let of = |word: &str| {
        format!(
            "link {word} {{ revision 1  byte_order little }}\n\
             channel {word} {{ medium uart 9600 8N1\n limit 60 bytes\n frame {{ sync C6 39\n kind : u8 message\n size : u8 length of body\n body\n {word} : u16 crc-16/modbus over kind..body }} }}\n\
             channel {word}_status {{ medium uart 9600 8N1\n status bytes running\n limit 60 bytes\n frame {{ status : u8 message\n body }} }}\n\
             channel {word}_cobs {{ medium uart 9600 8N1\n stuffing cobs\n limit 60 bytes\n frame {{ kind : u8 message\n body\n {word} : u32 crc-32/iso-hdlc over kind..body }} }}\n\
             message Told {{ id 1  from device  on {word}, {word}_cobs\n {word} : compact u32\n wide : compact u64\n none : 0 .. 100 step 1 or none }}\n\
             message Pressed {{ id 0x90  from device  on {word}_status\n {word} : u7\n spare 1 bit }}\n"
        )
    };
    for word in ["bits", "link", "sizes"] {
        let Some(compiler) = compiler() else { return };
        let plan = plan(&of(word));
        let files = c::generate(&plan, &vectors::vectors(&plan, 1), &[]).unwrap();
        let folder = tempfile::tempdir().unwrap();
        write(folder.path(), &files);
        let sources = [format!("{word}.c"), format!("{word}_vectors.c")];
        let output = compile_and_run(compiler, folder.path(), &[], &sources.each_ref().map(String::as_str));
        assert!(output.ends_with(" 0 differences\n"), "{word}: {output}");
    }
    for word in ["u64", "table"] {
        pass_in_other_languages(&plan(&of(word)));
    }
}

/// Nothing becomes the same in a language of a host, and its test program passes.
fn pass_in_other_languages(plan: &Plan) {
    let vectors = vectors::vectors(plan, 1);
    let folder = tempfile::tempdir().unwrap();
    if let Some(python) = common::python() {
        common::run_python(python, folder.path(), &python::generate(plan, &vectors).unwrap());
    }
    if let Some(node) = common::node() {
        common::run_node(node, folder.path(), &javascript::generate(plan, &vectors).unwrap());
    }
    // That it compiles is most of it, and takes longest.
    let some: Vec<_> = vectors.into_iter().step_by(6).collect();
    common::run_rust(folder.path(), &rust::generate(plan, &some).unwrap());
}

#[test]
fn words_of_other_languages_can_be_names() {
    // Words that differ in nothing but their case and underscores become one name in some language; without anything else they are `x`.
    let plain = |word: &str| match word.to_ascii_lowercase().replace('_', "") {
        nothing if nothing.is_empty() => "x".to_owned(),
        plain => plain,
    };
    let mut groups: Vec<Vec<&str>> = Vec::new();
    for word in WORDS.iter().chain(OTHER_WORDS) {
        let fits = |group: &Vec<&str>| group.len() < 70 && group.iter().all(|other| plain(other) != plain(word));
        match groups.iter_mut().find(|group| fits(group)) {
            Some(group) => group.push(word),
            None => groups.push(vec![word]),
        }
    }
    for names in &groups {
        let plan = plan(&with_names(names));
        for clashes in [python::clashes(&plan), javascript::clashes(&plan), rust::clashes(&plan)] {
            assert!(clashes.is_empty(), "{clashes:?}");
        }
    }
    assert!(groups.len() <= 8, "{groups:?}");
    for names in groups {
        pass_in_other_languages(&plan(&with_names(&names)));
    }
}

#[test]
fn types_of_other_languages_can_be_messages() {
    let mut text = "link l { revision 1  byte_order big }\nchannel c { medium uart 9600 8N1\n limit 60 bytes\n \
                    frame { sync C6 39\n kind : u8 message\n size : u8 length of body\n body } }\n"
        .to_owned();
    for (n, name) in TYPES.iter().enumerate() {
        text += &format!("message {name} {{ id {n}  from device  on c\n a : u{}\n b : text[..3]\n}}\n", n % 60 + 1);
    }
    pass_in_other_languages(&plan(&text));
}
