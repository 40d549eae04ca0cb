//! Each construct of the language, used wrongly: the finding that it gives, and the words that lead out.

use emberwort_model::{Source, check};

const ITEMS: &str = "link l { revision 3  byte_order little }
    enum Gate : u3 { 0 shut  1 open  5 held }
    flags Signs : u4 { 0 a  3 d }
    record Pair { x : u8  y : i12 }
    record Step growing { at : u8  added in 2 { force : u16 } }
    table Settings : u8 { 1 ramp : 0 .. 45 s step 0.25 read write  2 name : ascii[..3] read }
    channel wire { medium uart 9600 8N1\n limit 40 bytes\n frame { sync C6 39\n kind : u8 message\n size : u8 length of body\n body } }
";

/// The errors of a definition: code, sentence and help.
fn errors(text: &str) -> Vec<(&'static str, String)> {
    let checked = check(&Source::new("misuse.ember", text));
    assert_eq!(checked.plan.is_none(), checked.findings.iter().any(|finding| finding.is_error()), "{text}");
    let errors = checked.findings.iter().filter(|finding| finding.is_error());
    errors.map(|finding| (finding.code.as_str(), format!("{}\n{}", finding.message, finding.help))).collect()
}

/// Each text gives one finding, with this code and these words in its sentence or its help.
fn each(cases: &[(&str, &str, &str)], text_of: impl Fn(&str) -> String) {
    for (text, code, words) in cases {
        let found = errors(&text_of(text));
        let [(is, said)] = found.as_slice() else { panic!("{text}: one finding was expected\n{found:#?}") };
        assert_eq!(is, code, "{text}: {said}");
        assert!(said.contains(words), "{text}: {said}");
    }
}

fn in_message(fields: &str) -> String {
    format!(
        "{ITEMS}\nmessage Ask {{ from host  answered by M\n setting : key of Settings }}\nmessage M {{ from device\n{fields}\n}}"
    )
}

#[test]
fn fields() {
    each(
        &[
            ("a : u65", "E201", "an integer cannot have a width of 65"),
            ("a : i1", "E201", "an integer cannot have a width of 1"),
            ("a : u12 be", "E211", "12 bits are not whole bytes, so their order means nothing"),
            ("a : 0 .. 100 % step 0.3", "E202", "0 .. 100 does not divide into steps of 0.3: the greatest"),
            ("a : 9 .. 1 m step 1", "E203", "the range 9 .. 1 holds no values"),
            ("a : 0 .. 1 m in 65 bits", "E201", "65 is not a width: it must be a whole number from 1 to 64"),
            ("a : u8 * 0 V", "E204", "these numbers are beyond what can be computed exactly, or"),
            ("a : u8 = 256", "E206", "the default 256 lies outside the field's values"),
            ("a : Gate = hold", "E206", "`Gate` has no label `hold`"),
            ("a : Signs = [b]", "E206", "`Signs` has no label `b`"),
            ("a : f32 or none", "E205", "a field of this type has no raw code that could mean \"no"),
            ("a : bool or none", "E205", "a field of this type has no raw code that could mean \"no"),
            ("a : f24", "E104", "there is no type `f24`"),
            ("a : compact f32", "E010", "expected an integer type, found `f32`"),
            ("a : compact u65", "E201", "an integer cannot have a width of 65"),
            ("a : compact u32 be", "E211", "only a single number has a byte order of its own"),
            ("a : text[0]", "E207", "0 is not a number of bytes: it must be a whole number from"),
            ("a : text[..70000]", "E207", "70000 is not a number of bytes: it must be a whole number"),
            ("a : text[rest]\nb : u8", "E209", "this field can never be found: the one before it takes"),
            ("a : bytes[rest] optional\nb : u8", "E209", "this field can never be found: the one before it takes"),
            ("a : [0] u8", "E207", "0 is not a number of elements: it must be a whole number"),
            ("a : [rest] text[rest]", "E209", "an element cannot reach to the end of the body: the next"),
            ("a : [4] u8 optional counter", "E212", "only whole numbers from 0 on can count messages"),
            ("a : [..4] Nobody", "E104", "there is no type `Nobody`"),
            ("a : Step", "E214", "`Step` may grow, and only a list carries the size that lets"),
            ("a : time us", "E010", "expected `s` or `ms`, found `us`"),
            ("a : by b { 1 c : u8 }\nb : u8", "E210", "there is no field `b` before this one"),
            (
                "b : u8\na : by b { 1 c : u8  1 d : u8  else e : u4 }",
                "E111",
                "`a` already has a form for this value of `b`",
            ),
            ("b : u2\na : by b { 4 c : u8  else e : u4 }", "E210", "`b` can never be 4"),
            ("b : f32\na : by b { 1 c : u8  else e : u4 }", "E210", "`b` cannot decide about another field"),
            (
                "b : u8\na : by b { 1 c : u8 counter  else e : u4 }",
                "E212",
                "an entry, an element or a form cannot be a counter: only",
            ),
            ("b : Gate\na : by b { hold c : u8  else e : u4 }", "E210", "`Gate` has no label `hold`"),
            ("a : key of Gate", "E104", "there is no table `Gate`"),
            ("a : key of Nothing", "E104", "there is no table `Nothing`"),
            ("a : value of Settings by b", "E210", "there is no field `b` before this one"),
            ("a : value of Settings by Ask.setup", "E104", "there is no field `setup` in `Ask`"),
            ("a : value of Settings by M.setting", "E210", "`M` is not answered by `M`"),
            ("a : frame of nowhere", "E104", "there is no channel `nowhere`"),
            ("a : u8\na : u16", "E103", "`M` already has a field `a`"),
            ("spare 0 bits", "E207", "0 is not a size: it must be a whole number from 1 to 65535"),
            ("spare 3 pounds", "E010", "expected `bits` or `bytes`, found `pounds`"),
            ("a : exactly 256 : u8", "E112", "256 does not fit into 8 bits"),
            ("a : exactly 1 : f32", "E010", "expected an integer type, found `f32`"),
            ("a : exactly 1 : u8 = 2", "E212", "a constant needs no default"),
            ("a : i8 counter", "E212", "only whole numbers from 0 on can count messages"),
            ("a : u8 * 0.5 V counter", "E212", "only whole numbers from 0 on can count messages"),
            ("a : text[..4] retired", "E212", "only fields of a fixed size can be retired, since their"),
            ("a : u8 at 0.0\nb : u8 at 0.0", "E208", "`b` lies on bits that `a` has"),
            ("a : u8 at 0.9", "E010", "expected a byte and a bit, as in `at 2.4`, found `0.9`"),
            ("a : u8 optional at 0.0", "E208", "`a` is optional, and an absent field has no place"),
            ("a : text[..4]\nb : u8 at 1.0", "E208", "the fields before `b` vary in size, so no place after them"),
            ("a : u8 added in 2", "E010", "expected `{`, found the end of the line"),
            ("added in 4 { a : u8 }", "E107", "4 cannot be a revision here"),
            ("added in 3 { a : u8 }\nadded in 2 { b : u8 }", "E107", "2 cannot be a revision here"),
            ("added in 1 { a : u8 }", "E107", "1 cannot be a revision here"),
            ("a : u8 step 3", "E010", "expected the end of the field, found `step`"),
        ],
        in_message,
    );
}
fn channel(text: &str) -> String {
    format!(
        "link l {{ revision 3  byte_order little }}\nchannel c {{\n{text}\n}}\n\
         message M {{ id 1  from device  on c\n a : u8\n }}\nmessage N {{ id 2  from host  on c\n b : u16\n }}"
    )
}

#[test]
fn channels_and_frames() {
    each(
        &[
            (
                "medium uart 9600 8X1\nframe { sync AA\n kind : u8 message\n size : u8 length of body\n body }",
                "E010",
                "expected a character format, found `8X1`",
            ),
            (
                "medium uart 0 8N1\nframe { sync AA\n kind : u8 message\n size : u8 length of body\n body }",
                "E005",
                "0 is not a speed in bits a second: it must be a whole",
            ),
            (
                "medium uart 9600 8N1\nframe { sync C6\n size : hex3 le length of body\n body }",
                "E302",
                "hex digits are whole bytes of text, the most significant one first",
            ),
            (
                "medium uart 9600 8N1\nframe { sync C6\n size : hex17 length of body\n body }",
                "E010",
                "expected a number of hex digits from 1 to 16",
            ),
            (
                "medium uart 9600 8N1\nframe { sync C6\n size : u8 length of body\n body\n sum : hex2 crc-16/arc over body }",
                "E302",
                "`crc-16/arc` has 16 bits, but this part has 8",
            ),
            (
                "medium uart 9600 8N1\nframe { sync C6\n again : u8 same as size\n size : u8 length of body\n body }",
                "E302",
                "`size` cannot stand here again: it has no value that stands before this part",
            ),
            (
                "medium uart 9600 8N1\nframe { sync C6\n size : u8 length of body\n again : u16 same as size\n body }",
                "E302",
                "`size` cannot stand here again: it has 8 bits, and this part 16",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n node : u4 address 16 for all\n pad : u4 = 0\n body }",
                "E302",
                "16 does not fit into 4 bits",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n node : u4 address 15 to all\n pad : u4 = 0\n body }",
                "E010",
                "expected `for`, found `to`",
            ),
            ("medium pigeon 9600", "E012", "`pigeon` means nothing as a medium"),
            (
                "frame { sync AA\n kind : u8 message\n size : u8 length of body\n body }",
                "E106",
                "this channel has no `medium`",
            ),
            (
                "medium lora sf9 125 kHz 4/5 overhead 13\npacket\nframe { kind : u8 message\n body }",
                "E010",
                "expected `bytes`",
            ),
            (
                "medium lora sf13 125 kHz 4/5\npacket\nframe { kind : u8 message\n body }",
                "E010",
                "expected a spreading factor, found `sf13`",
            ),
            (
                "medium can 500 kbit/s\npacket\nselect by port",
                "E312",
                "`can` has no port to select messages by: only `udp` and",
            ),
            (
                "medium udp 70000\npacket\nframe { kind : u8 message\n body }",
                "E005",
                "70000 is not a port: it must be a whole number from 1 to",
            ),
            (
                "medium udp 4000\nstuffing slip\nframe { kind : u8 message\n body }",
                "E305",
                "`c` runs over `udp`, where each packet is a frame",
            ),
            (
                "medium uart 9600 8N1\nstuffing slop\nframe { kind : u8 message\n body }",
                "E012",
                "`slop` means nothing as a stuffing",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20\nframe { sync C6\n kind : u8 message\n body }",
                "E010",
                "expected `of`",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20 of C6\nframe { sync C6\n kind : u8 message\n size : u8 length of body\n body }",
                "E313",
                "the escape byte 7D is not among the bytes that are escaped",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20 of 7D 5D C6\nframe { sync C6\n kind : u8 message\n size : u8 length of body\n body }",
                "E313",
                "7D escaped is 5D, which has to be escaped itself",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 10 xor 00 of 10 C6\nframe { sync C6\n kind : u8 message\n size : u8 length of body\n body }",
                "E313",
                "an escape that changes nothing (`xor 00`) can only double",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20 of 7D 7E\nframe { sync C6\n kind : u8 message\n size : u8 length of body\n body }",
                "E313",
                "the sync byte C6 is not escaped, and so can occur in the",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20 of 7D C6\nframe { sync C6\n kind : u8 message\n body\n end : u8 = 0x5A }",
                "E305",
                "nothing tells a receiver where a frame ends",
            ),
            (
                "medium uart 9600 8N1\nstuffing escape 7D xor 20 of 7D C6\nframe { kind : u8 message\n body }",
                "E305",
                "nothing tells a receiver where a frame begins",
            ),
            (
                "medium tcp 502\ngap 3.5 characters\nframe { kind : u8 message\n body }",
                "E305",
                "`tcp` says nothing about how long a character takes",
            ),
            (
                "medium uart 9600 8N1\ngap 0 characters\nframe { kind : u8 message\n body }",
                "E005",
                "a gap must be longer than 0",
            ),
            ("medium uart 9600 8N1\ngap 2\nframe { kind : u8 message\n body }", "E010", "expected a unit of time"),
            (
                "medium udp 4000\ngap 2 ms\nframe { kind : u8 message\n body }",
                "E305",
                "`c` runs over `udp`, where each packet is a frame",
            ),
            (
                "medium uart 9600 8N1\nframe { kind : u8 message\n body }",
                "E305",
                "nothing tells a receiver where a frame begins",
            ),
            (
                "medium uart 9600 8N1\nframe { sync GG\n kind : u8 message\n size : u8 length of body\n body }",
                "E010",
                "expected a byte of two hex digits, found `GG`",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message }",
                "E301",
                "this frame has no `body`: nowhere for the message to go",
            ),
            (
                "medium udp 4000\npacket\nframe { body\n body\n kind : u8 message }",
                "E103",
                "this frame already has a part `body`",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n sort : u8 message\n body }",
                "E302",
                "an earlier part of this frame already has the role of `sort`",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : i8 message\n body }",
                "E010",
                "expected an unsigned integer type, found `i8`",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n size : u8 length of tail\n body }",
                "E104",
                "there is no part `tail`",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body\n check : u16 crc-16/nowhere over kind..body }",
                "E304",
                "`crc-16/nowhere` is neither a role of a frame part nor a",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body\n check : u8 crc-16/ibm-3740 over kind..body }",
                "E302",
                "`crc-16/ibm-3740` has 16 bits, but this part has 8",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body\n check : u16 crc-16/ibm-3740 over body..kind }",
                "E303",
                "`body` comes after `kind` in the frame",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body\n check : u8 xor8 over check..check }",
                "E303",
                "`check` covers no byte but its own and those of later checksums",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body\n check : u8 xor8 over check..check skipping }",
                "E303",
                "`check` covers no byte but its own and those of later checksums",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 massage\n body }",
                "E304",
                "`massage` is neither a role of a frame part nor a known",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u12 be message\n n : u4 = 0\n body }",
                "E211",
                "only whole bytes at a byte boundary have an order of their",
            ),
            (
                "medium udp 4000\npacket\nframe { kind : u8 message\n body }\nframe { kind : u8 message\n body }",
                "E105",
                "this channel already has a frame for this direction",
            ),
            (
                "medium udp 4000\npacket\nframe from host { kind : u8 message\n body }",
                "E301",
                "frames from the host are described, but not those from the",
            ),
            (
                "medium udp 4000\npacket\nlimit 2 bytes\nframe { kind : u8 message\n body }",
                "E309",
                "with its longest body of 2 bytes, `N` makes a frame of 3",
            ),
            (
                "medium udp 4000\npacket\nlimit 300 bytes\nframe { kind : u8 message\n body }\n}\n\
                 message R { id 77  from device  on c\n name : text[..300]\n rest : bytes[rest]\n",
                "E309",
                "with its longest body of 302 bytes, `R` makes a frame of 303",
            ),
            (
                "medium udp 4000\npacket\nlimit 0 bytes\nframe { kind : u8 message\n body }",
                "E207",
                "the longest frame cannot have 0 bytes",
            ),
            (
                "medium udp 4000\npacket\nselect by size\nframe { kind : u8 message\n body }",
                "E312",
                "`kind` in the frame selects the message already",
            ),
            ("medium udp 4000\npacket\nselect by colour", "E012", "`colour` means nothing as what selects a message"),
            ("medium udp 4000\npacket", "E306", "on `c`, `N` cannot be told apart: no part of the frame says"),
            (
                "medium udp 4000\npacket\nmedium udp 4001\nframe { kind : u8 message\n body }",
                "E105",
                "`medium` stands here a second time",
            ),
        ],
        channel,
    );
}

#[test]
fn items() {
    each(
        &[
            ("enum E : u3 { 0 a  8 b }", "E112", "8 does not fit: enum `E` is u3"),
            ("enum E : u3 { 0 a  0 b }", "E111", "`a` and `b` have the same code 0"),
            ("enum E : u3 { 0 a  1 a }", "E103", "`a` already labels code 0"),
            ("enum E : f32 { 0 a }", "E010", "expected an unsigned integer type, found `f32`"),
            ("enum E { 0 a }", "E010", "expected `:`, found `{`"),
            ("flags F : u4 { 4 a }", "E112", "4 does not fit: flag set `F` is u4"),
            ("record R { a : R }", "E110", "`R` contains itself, and would never end"),
            ("record R { a : text[rest]\n }", "E209", "a field of a record cannot reach to the end of the body:"),
            (
                "record R { a : u8  added in 2 { b : u8 } }",
                "E214",
                "`R` cannot have fields added: an old receiver could not",
            ),
            ("record R { a : u8 counter }", "E212", "a record is not a message, so it cannot count messages"),
            ("table T : u8 { 256 a : u8 read }", "E112", "256 does not fit: the keys of `T` are u8"),
            ("table T : u8 { 1 a : u8 read  1 b : u8 read }", "E111", "`T` already has an entry 1"),
            (
                "table T : u8 { 1 unknown : u8 read }\nmessage Q { id 1  from host  on wire  answered by W\n k : key of T }\n\
                 message W { id 2  from device  on wire\n v : value of T by Q.k }",
                "E103",
                "`T` has an entry `unknown`, which is how the bytes of an answer without its request are called",
            ),
            ("message Gate { from host }", "E103", "`Gate` is already the name of another item"),
            ("message X { on wire  id 1  a : u8 }", "E106", "this message has no `from`"),
            ("enum X : u8 { }", "E106", "`X` has no labels, and so no value"),
            ("flags X : u8 { }", "E106", "`X` has no flags, and so no value"),
            ("table X : u8 { }", "E106", "`X` has no entries, and so no value"),
            ("message X { from host  on wire\n a : u8 }", "E306", "on `wire`, `X` cannot be told apart: it has no id"),
            (
                "message X { from host  id 256  on wire\n a : u8 }",
                "E308",
                "the id 256 does not fit the 8 bits that `wire` has for it",
            ),
            ("message X { from host  id 1  on wier\n a : u8 }", "E104", "there is no channel `wier`"),
            (
                "message X { from host  id 1  on wire\n a : [40] u8 }",
                "E309",
                "with its longest body of 40 bytes, `X` makes a frame of 44",
            ),
            (
                "message X { from host  id 1  on wire port 2\n a : u8 }",
                "E312",
                "`wire` does not select messages by port",
            ),
            ("message X { from host  answered by Y\n a : u8 }", "E104", "there is no message `Y`"),
            (
                "message X { from host  answered by Y\n a : u8 }\nmessage Y { from host\n a : u8 }",
                "E311",
                "`Y` comes from the host as well, which would answer itself",
            ),
            (
                "message X { from host every 0 ms\n a : u8 }",
                "E005",
                "this duration is out of range: it can be 1 ns to 584 years",
            ),
            (
                "message X { from device\n f : frame of loop }\nchannel loop { medium can 500 kbit/s fd 2 Mbit/s\n packet\n }\nmessage Y { from device  on loop\n f : frame of loop }",
                "E217",
                "this frame can carry frames of `loop`, on which the message",
            ),
            ("import \"none.ember\"", "E108", "`none.ember` cannot be read: imports cannot be read here"),
            ("massage X { from host }", "E012", "`massage` means nothing at the start of an item"),
            (
                "link again { revision 1  byte_order big }",
                "E102",
                "a definition describes one link, but a second `link` item",
            ),
        ],
        |item| format!("{ITEMS}\n{item}"),
    );
}

fn console(messages: &str) -> String {
    format!(
        "link l {{ revision 1  byte_order little }}\nchannel console {{\n medium uart 9600 8N1\n lines crlf\n limit 20 bytes\n}}\n{messages}"
    )
}

#[test]
fn lines() {
    each(
        &[
            ("message A { from host  on console\n line \"A{b}\"\n a : u8 }", "E215", "there is no field `b`"),
            (
                "message A { from host  on console\n line \"A\"\n a : u8 }",
                "E215",
                "`a` does not stand in the line, so its value would not be sent",
            ),
            (
                "message A { from host  on console\n line \"A{a}{b}\"\n a : u8\n b : u8 }",
                "E215",
                "a reader could not tell where `a` ends",
            ),
            (
                "message A { from host  on console\n line \"A{a:octal}\"\n a : u8 }",
                "E215",
                "`octal` is not a way to write a field",
            ),
            (
                "message A { from host  on console\n line \"A{a:hex2}\"\n a : u16 }",
                "E215",
                "`a` needs 4 hex digits, and 2 are written",
            ),
            ("message A { from host  on console\n line \"A{a\"\n a : u16 }", "E215", "a `{` has no `}`"),
            // A sign has no place among hex digits.
            (
                "message A { from host  on console\n line \"A{a:hex4}\"\n a : i16 }",
                "E215",
                "`a` cannot be written in hex",
            ),
            (
                "message A { from host  on console\n line \"A{a:hex8}\"\n a : f32 }",
                "E215",
                "`a` cannot be written in hex",
            ),
            (
                "message A { from host  on console\n line \"a long line {a} of text\"\n a : u16 }",
                "E309",
                "with its longest body of 25 bytes, `A` makes a frame of 27",
            ),
            (
                "message A { from host  on console\n line \"A{a}\"\n a : [2] u8 }",
                "E215",
                "`a` cannot be written in a line",
            ),
            (
                "message A { from host  on console\n a : u8 }",
                "E306",
                "on `console`, `A` cannot be told apart: it has no line",
            ),
            (
                "message A { from host  on console\n line \"A{a}\"\n a : u8 }\nmessage B { from host  on console\n line \"A{a}\"\n a : u8 }",
                "E307",
                "on `console` the lines of two messages look the same",
            ),
            (
                "message A { from host  on console\n line \"A{a:fixed 1 wide 4}\"\n a : i16 * 0.1 }",
                "E215",
                "`a` needs up to 7 characters, and 4 are written",
            ),
            (
                "message A { from host  on console\n line \"A{a:hex2 wide 4}\"\n a : u8 }",
                "E215",
                "`wide` says nothing about `a`",
            ),
            (
                "message A { from host  on console\n line \"A{a:wide}\"\n a : u8 }",
                "E215",
                "`wide` needs a number of characters",
            ),
            (
                "message A { from host  on console\n line \"A{a:blank}\"\n a : u8 }",
                "E215",
                "`blank` says how \"no reading\" is written, and `a` always has one",
            ),
            (
                "message A { from host  on console\n line \"A{a:wide 2 blank}{b}\"\n a : 0 .. 9 step 1 or none\n b : u8 }",
                "E215",
                "a reader could not tell whether `a` is there",
            ),
        ],
        console,
    );
}

fn sentences(frame: &str) -> String {
    format!(
        "link l {{ revision 1  byte_order little }}\nchannel c {{\n medium uart 9600 8N1\n lines lf\n frame {{ {frame} }}\n}}\n\
         message A {{ from host  on c\n line \"A{{a}}\"\n a : u8 }}"
    )
}

#[test]
fn frames_of_lines() {
    each(
        &[
            ("body\n mark : u8 = 7", "E302", "`mark` has no place in a line of text: it could hold an end of the line"),
            (
                "size : hex2 length of body\n body",
                "E302",
                "`size` has no place in a line of text: a line ends where it ends, whatever a length says",
            ),
            (
                "kind : hex2 message\n body",
                "E302",
                "`kind` has no place in a line of text: the pattern of its line selects the message",
            ),
            ("body\n sum : u8 xor8 over body", "E302", "`sum` has no place in a line of text: it could hold an end"),
            ("sync 0A\n body", "E302", "the sync bytes of a line are visible characters"),
        ],
        sentences,
    );
}

fn keys(message: &str) -> String {
    format!(
        "link l {{ revision 1  byte_order big }}\nchannel c {{\n medium uart 9600 8N1\n status bytes running\n frame {{ status : u8 message\n \
         body }}\n}}\nmessage A {{ from host  on c\n {message} }}"
    )
}

#[test]
fn status_bytes() {
    each(
        &[
            ("id 0x10\n spare 1 bytes", "E308", "0x10 is not a status byte: bit 7 is not set"),
            ("id 0x90\n a : u8", "E314", "`a` has bit 7 of byte 0, and on `c` only status bytes have that set"),
            ("id 0x90\n spare 1 bits\n a : u14", "E314", "`a` has bit 7 of byte 1"),
            (
                "id 0x90 + node 0 .. 15\n a : ascii[..9]",
                "E314",
                "the size of `A` varies, so only the next status byte ends it",
            ),
            ("id 0xF8\n spare 1 bits\n a : u7", "E314", "a status byte from 0xF8 on, as 0xF8, is a frame of its own"),
            (
                "id 0xF1 + node 0 .. 15\n spare 1 bytes",
                "E308",
                "the id 0x100 does not fit the 8 bits that `c` has for it",
            ),
            (
                "id 0x90 + node 5 .. 2\n spare 1 bytes",
                "E005",
                "2 is not a node's number: it must be a whole number from 5",
            ),
            ("id 0x90 + 15\n spare 1 bytes", "E010", "expected `node`"),
            ("id 0x90 + node 3\n spare 1 bytes", "E010", "expected `..` and the greatest node"),
            (
                "id 0x90 + node 0 .. 15\n spare 1 bytes }\nmessage B { id 0x9A  from host  on c\n spare 1 bytes",
                "E307",
                "on `c` the id 0x9A already selects another message",
            ),
        ],
        keys,
    );
    each(
        &[
            (
                "status : u8 message\n other : u8 = 0\n body",
                "E314",
                "a frame that begins with a status byte has that byte",
            ),
            (
                "status : u8 message\n body\n sum : u8 xor8 over body",
                "E314",
                "a frame that begins with a status byte has that",
            ),
            (
                "status : u8 message\n node : u8 address\n body",
                "E314",
                "a frame that begins with a status byte has that byte",
            ),
        ],
        |frame| {
            format!(
                "link l {{ revision 1  byte_order big }}\nchannel c {{\n medium uart 9600 8N1\n status bytes\n frame {{ {frame} }}\n}}\n\
                 message A {{ id 0xFF  from host  on c }}"
            )
        },
    );
}

#[test]
fn nodes_in_keys() {
    each(
        &[
            ("can_id 0x700 + node 1 .. 0x100", "E308", "0x800 is more than `bus` can have as a key"),
            (
                "can_id 0x180 + node 0 .. 5000",
                "E005",
                "5000 is not a node's number: it must be a whole number from 0 to 4095",
            ),
        ],
        |key| {
            format!(
                "link l {{ revision 1  byte_order big }}\nchannel bus {{\n medium can 500 kbit/s\n packet\n select by can_id\n}}\n\
                 message A {{ from host  on bus {key} }}"
            )
        },
    );
    let text = "link l { revision 1  byte_order big }\nchannel c {\n medium udp 4000\n packet\n frame { kind : u8 message\n node : u8 address\n \
                body }\n}\nmessage A { id 1 + node 0 .. 3  from host  on c }";
    each(
        &[(text, "E312", "the node would stand in the frames of `c` twice: in the key of `A`, and in `node`")],
        str::to_owned,
    );
}

#[test]
fn endpoints_say_who_sends() {
    each(
        &[
            ("from host  on bus endpoint 0x81", "E312", "0x81 is no endpoint from which the host sends"),
            ("from device  on bus endpoint 1", "E312", "1 is no endpoint from which the device sends"),
            ("from device  on bus endpoint 0x91", "E308", "0x91 is more than `bus` can have as a key"),
            ("from host  on bus endpoint 0x11", "E312", "0x11 is no endpoint from which the host sends"),
            ("from host  on bus endpoint 1 + node 0 .. 3", "E312", "1 is no endpoint from which the host sends"),
            ("from host  on bus", "E306", "it has no key there\nwrite `on bus endpoint 0x01`"),
        ],
        |message| {
            format!(
                "link l {{ revision 1  byte_order big }}\nchannel bus {{\n medium usb full\n packet\n select by endpoint\n}}\nmessage A {{ {message} a : u8 }}"
            )
        },
    );
    let text = "link l { revision 1  byte_order big }\nchannel c {\n medium uart 9600 8N1\n stuffing cobs\n select by endpoint\n}\nmessage A { from host on c endpoint 1 }";
    each(&[(text, "E312", "`uart` has no endpoint to select messages by: only `usb` has")], str::to_owned);
}

/// Without sync bytes, only where no byte is lost or a checksum tells, and never without a byte.
#[test]
fn frames_without_a_beginning() {
    let link = |medium: &str, frame: &str, message: &str| {
        format!(
            "link l {{ revision 1  byte_order big }}\nchannel c {{\n medium {medium}\n frame {{ {frame} }}\n}}\n\
             message A {{ id 1  from host  on c\n {message} }}"
        )
    };
    let sized = "kind : u8 message\n size : u8 length of body\n body";
    let checked = "kind : u8 message\n size : u8 length of body\n body\n check : u16 crc-16/arc over kind..body";
    each(
        &[(link("uart 9600 8N1", sized, "a : u8").as_str(), "E305", "nothing tells a receiver where a frame begins")],
        str::to_owned,
    );
    let warned = check(&Source::new("l.ember", link("uart 9600 8N1", checked, "a : u8"))).findings;
    assert_eq!(warned.iter().map(|finding| finding.code.as_str()).collect::<Vec<_>>(), ["W012"]);
    each(
        &[(link("tcp 4000", "body", "").as_str(), "E305", "where `A` ends: its frames have no bytes at all")],
        str::to_owned,
    );
    each(
        &[(
            link("stream 1 Mbit/s", "kind : u8 message\n body", "a : text[..9]").as_str(),
            "E305",
            "where `A` ends: its size varies",
        )],
        str::to_owned,
    );
    // What is said twice needs no checksum over it.
    let twice = "sync C6 39\n size : u8 length of body\n again : u8 same as size\n kind : u8 message\n body\n check : u8 xor8 over kind..body";
    for clean in [
        link("uart 9600 8N1", twice, "a : u8"),
        link("tcp 4000", sized, "a : u8"),
        link("stream 1 Mbit/s", "body", "a : u8"),
    ] {
        assert_eq!(check(&Source::new("l.ember", clean)).findings, []);
    }
}

/// What a receiver could not read, or a host would wait for in vain, and the ways out that are clean.
#[test]
fn forms_without_codes_and_answers_too_late() {
    let codes = |text: String| {
        let checked = check(&Source::new("l.ember", text.as_str()));
        checked.findings.iter().map(|finding| (finding.code.as_str(), finding.message.clone())).collect::<Vec<_>>()
    };
    let forms = |forms: &str| {
        let text = format!("{ITEMS}\nmessage M {{ id 1  from device  on wire\n g : Gate\n v : by g {{ {forms} }} }}");
        let found = codes(text).into_iter().filter(|(code, _)| *code != "W003");
        found.map(|(code, message)| format!("{code} {message}")).collect::<Vec<_>>()
    };
    assert_eq!(forms("0 a : u8\n 1 b : u16\n 5 c : u8"), <[String; 0]>::default());
    assert_eq!(forms("0 a : u8\n else raw : bytes[..8]"), <[String; 0]>::default());
    assert_eq!(forms("0 a : u8"), ["W014 there is no form for `g` = `open` and 1 more: such a body could not be read"]);
    assert_eq!(
        forms("0 a : u8\n 4 b : u8\n else raw : bytes[..8]"),
        ["W014 the form `b` is for 4, and `Gate` has no label for that"]
    );
    // Two frames of 5 bytes at 9600 baud: 10 x 10 / 9600 s = 10.4 ms.
    let answer_of = |fields: &str, within: &str| {
        codes(format!(
            "link l {{ revision 1  byte_order little }}\n\
             channel c {{ medium uart 9600 8N1\n frame {{ sync C6 39\n kind : u8 message\n size : u8 length of body\n body }} }}\n\
             message A {{ id 1  from host  on c  answered by B within {within} }}\nmessage B {{ id 2  from device  on c\n {fields} }}"
        ))
    };
    let answer = |within| answer_of("a : u16", within);
    assert_eq!(answer("10.5 ms"), []);
    let late = answer("10.4 ms");
    assert_eq!(late[0], ("W015", "`B` cannot come in time: the two shortest frames take ≈10.42 ms on `c`".to_owned()));
    // A text with its length is 1 to 21 bytes long: frames of 4 and up to 25 bytes take 29 x 10 / 9600 s = 30.2 ms.
    assert_eq!(answer_of("a : text[..20]", "30.3 ms"), []);
    let now_and_then = answer_of("a : text[..20]", "30.2 ms");
    assert_eq!(
        now_and_then,
        [("W015", "`B` may come too late: the two longest frames take ≈30.21 ms on `c`".to_owned())]
    );
}

/// Names that data sheets write lead to those of the catalogue.
#[test]
fn other_names_of_checksums() {
    use emberwort_model::algorithm::{Algorithm, also_called};
    for (written, meant) in [
        ("crc-16/ccitt", "`crc-16/ibm-3740`"),
        ("crc-16/ccitt-false", "`crc-16/ibm-3740`"),
        ("CRC_16_CCITT", "`crc-16/kermit`"),
        ("crc16", "`crc-16/arc`"),
        ("crc-16/x-25", "`crc-16/ibm-sdlc`"),
        ("crc-32", "`crc-32/iso-hdlc`"),
        ("crc-32c", "`crc-32/iscsi`"),
        ("crc-8", "`crc-8/smbus`"),
        ("crc-64/ecma", "`crc-64/xz`"),
    ] {
        let names = also_called(written);
        assert!(names.iter().any(|name| name.starts_with(meant)), "{written}: {names:?}");
        for name in names {
            let name = name.split('`').nth(1).unwrap();
            assert!(Algorithm::named(name).is_some(), "{written}: {name}");
            assert!(also_called(name).is_empty(), "{name}");
        }
    }
    let text = |name: &str| {
        format!(
            "link l {{ revision 1  byte_order big }}\nchannel c {{ medium uart 9600 8N1\n frame {{ sync C6 39\n kind : u8 message\n body\n \
             check : u16 {name} over kind..body }} }}\nmessage A {{ id 1  from host  on c }}"
        )
    };
    each(
        &[(
            &text("crc-16/ccitt-false"),
            "E304",
            "did you mean `crc-16/ibm-3740`? `emberwort checksum --list` prints all names",
        )],
        str::to_owned,
    );
}

/// Where a word is expected and none stands: which words there are. Only behind a type a bracket is a habit of C.
#[test]
fn a_sign_in_place_of_a_word() {
    let said = |text: &str| errors(text).into_iter().map(|(_, said)| said).collect::<Vec<_>>().join("\n");
    let list = said(&in_message("a : u8[4]"));
    assert!(list.contains("the length of a list stands in front of its type: `[64] u8`"), "{list}");
    let order = said("link l { revision 1  byte_order ( }");
    assert!(order.contains("these are: little, big"), "{order}");
    let medium = said("link l { revision 1  byte_order little }\nchannel c { medium = }");
    assert!(medium.contains("these are: uart"), "{medium}");
}

/// Some editors put a byte order mark in front of every text, which is no mistake; anywhere else it is one.
#[test]
fn a_byte_order_mark_in_front_is_no_mistake() {
    assert_eq!(errors("\u{feff}link l { revision 1  byte_order little }"), []);
    let found = errors("link l { revision 1  byte_order little }\u{feff}");
    assert!(found.len() == 1 && found[0].1.contains("U+FEFF"), "{found:?}");
}

/// Ten of them are shown, then it is said how many more there are, if there are any.
#[test]
fn a_file_that_is_not_text_is_not_told_in_full() {
    let strange = |count: usize| {
        let found = errors(&"\u{1}".repeat(count));
        let each = found.iter().filter(|(_, said)| said.contains("U+0001")).count();
        let more = found.iter().find(|(_, said)| said.contains("more characters")).map(|(_, said)| said.clone());
        (each, more.map(|said| said.split(' ').next().unwrap_or_default().to_owned()))
    };
    let (most, more) = strange(10);
    assert_eq!((most, more), (10, None));
    assert_eq!(strange(11), (10, Some("1".to_owned())));
    assert_eq!(strange(300), (10, Some("290".to_owned())));
}

/// A mebibyte is the most, not more than the most.
#[test]
fn the_longest_body_that_can_be_meant() {
    let body = |lists: &str| {
        let text = format!("link l {{ revision 1  byte_order little }}\nmessage M {{ from device\n{lists} }}");
        errors(&text).into_iter().map(|(_, said)| said).collect::<Vec<_>>()
    };
    // 16 times 65,535 bytes, and 16 more: 1,048,576.
    let most: String = (0..16).map(|n| format!("a{n} : [65535] u8\n")).collect::<String>() + "b : [16] u8\n";
    assert_eq!(body(&most), [""; 0]);
    let found = body(&format!("{most} c : u8\n"));
    assert!(found.len() == 1 && found[0].contains("has 1048577 bytes, which is surely a mistake"), "{found:?}");
}

/// Words that say how numbers lie in bytes elsewhere would be units here, without a word: each is a finding with what to write. Units stay units.
#[test]
fn words_that_are_hardly_units_are_told() {
    let warned = |unit: &str| {
        let text = format!(
            "{ITEMS}\nmessage Ask {{ from host  answered by M\n setting : key of Settings }}\nmessage M {{ from device\n a : u8 {unit}\n}}"
        );
        let checked = check(&Source::new("misuse.ember", &text));
        assert!(checked.plan.is_some(), "{unit}: {:?}", checked.findings);
        let found = checked.findings.iter().find(|finding| finding.code.as_str() == "W002");
        found.map(|finding| finding.help.clone())
    };
    let words = "bcd big msb unsigned const padding default nullable xor ones inverted negated reversed swapped hex if when until sized";
    for word in words.split(' ') {
        let help = warned(word).unwrap_or_else(|| panic!("`{word}` is taken for a unit"));
        assert!(help.contains(&format!("If it is a unit, put it in quotes: \"{word}\"")), "{help}");
        assert_eq!(warned(&format!("\"{word}\"")), None);
    }
    for unit in ["m", "degC", "rpm", "%", "kg/h", "m/s^2", "ticks", "steps", "pulses", "bar", "samples"] {
        assert_eq!(warned(unit), None, "{unit}");
    }
}
