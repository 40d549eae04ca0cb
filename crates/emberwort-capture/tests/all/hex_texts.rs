//! Bytes as people have them in text: dumps with offsets and text, lists of numbers, logs with times.

use std::fmt::Write as _;
use std::ops::ControlFlow;

use emberwort_capture::hex_text::bytes_in;
use emberwort_capture::pieces::DETECT_BYTES;
use emberwort_capture::source;
use emberwort_capture::{CaptureFormat, Interface, Outcome, Piece, PieceSink};
use proptest::prelude::*;

/// A time, if there is one, and bytes.
type Timed = (Option<u64>, Vec<u8>);

#[derive(Default)]
struct Pieces(Vec<Timed>);

impl PieceSink for Pieces {
    fn section(&mut self) {}
    fn interface(&mut self, _: Interface) {}
    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        self.0.push((piece.time.map(emberwort_wire::Time::nanoseconds), piece.bytes.to_vec()));
        ControlFlow::Continue(())
    }
}

fn read(text: &str) -> (Vec<Timed>, Outcome) {
    let first = &text.as_bytes()[..text.len().min(DETECT_BYTES)];
    assert_eq!(source::detect(first), CaptureFormat::Hex, "{text}");
    let mut pieces = Pieces::default();
    let outcome = source::read(CaptureFormat::Hex, text.as_bytes(), &mut pieces).unwrap();
    (pieces.0, outcome)
}

fn bytes(text: &str) -> Vec<u8> {
    let (pieces, outcome) = read(text);
    assert_eq!(outcome.damage, None, "{text}");
    assert_eq!(outcome.bytes, text.len() as u64, "{text}");
    pieces.into_iter().flat_map(|(_, bytes)| bytes).collect()
}

fn damage(text: &str) -> String {
    read(text).1.damage.unwrap_or_else(|| panic!("no damage in {text}")).reason
}

/// What the text column of a dump shows.
fn shown(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| if (0x20..0x7F).contains(byte) { char::from(*byte) } else { '.' }).collect()
}

fn joined(bytes: &[u8], group: usize, between: &str) -> String {
    let groups =
        bytes.chunks(group).map(|group| group.iter().fold(String::new(), |text, byte| text + &format!("{byte:02x}")));
    groups.collect::<Vec<_>>().join(between)
}

/// Dumps as usual tools make them.
fn dumps(bytes: &[u8]) -> Vec<(&'static str, String)> {
    let lines = |line: &dyn Fn(usize, &[u8]) -> String| {
        bytes.chunks(16).enumerate().map(|(n, chunk)| line(n * 16, chunk) + "\n").collect::<String>()
    };
    let halves = |chunk: &[u8]| {
        let (one, other) = chunk.split_at(chunk.len().min(8));
        format!("{:<25}{:<24}", joined(one, 1, " ") + " ", joined(other, 1, " "))
    };
    let last = bytes.len();
    vec![
        (
            "offset, halves, text in bars",
            lines(&|at, c| format!("{at:08x}  {} |{}|", halves(c), shown(c))) + &format!("{last:08x}\n"),
        ),
        ("offset and colon, pairs, text", lines(&|at, c| format!("{at:08x}: {:<40} {}", joined(c, 2, " "), shown(c)))),
        (
            "offset and colon, single bytes, text",
            lines(&|at, c| format!("{at:04X}: {:<48} {}", joined(c, 1, " ").to_uppercase(), shown(c))),
        ),
        ("short offset, gap, text", lines(&|at, c| format!("{at:04x}   {:<47}   {}", joined(c, 1, " "), shown(c)))),
        ("octal offset", lines(&|at, c| format!("{at:07o} {}", joined(c, 1, " "))) + &format!("{last:07o}\n")),
        ("decimal offset", lines(&|at, c| format!("{at:07} {}", joined(c, 1, " "))) + &format!("{last:07}\n")),
        ("offset alone", lines(&|at, c| format!("{at:06x} {}", joined(c, 1, " "))) + &format!("{last:06x}\n")),
    ]
}

#[test]
fn dumps_of_every_usual_form_are_read() {
    let text = b"A keeper's log: face cafe 12 34 deadbeef, and \x00\x7F\xFF at the end.";
    for count in [17, 20, 32, 33, text.len()] {
        for (what, dump) in dumps(&text[..count]) {
            assert_eq!(bytes(&dump), text[..count], "{what}, {count} bytes:\n{dump}");
        }
    }
    // One line alone.
    assert_eq!(
        bytes("00000000  c6 39 03 40 00 02 a0 12  f5 90                    |.9.@......|\n"),
        *b"\xC6\x39\x03\x40\x00\x02\xA0\x12\xF5\x90"
    );
    assert_eq!(
        bytes("00000000: c639 0340 0002 a012 f590                 .9.@......\n"),
        *b"\xC6\x39\x03\x40\x00\x02\xA0\x12\xF5\x90"
    );
    // A text that looks like more bytes, or like the bar in front of a text.
    for (line, text) in [("3030 7c", "00|"), ("3030 207c", "00 |"), ("7c41 417c", "|AA|"), ("4142 2020", "AB")] {
        let dump = format!("00000000: {line:<40} {text}\n");
        let digits: String = line.split(' ').collect();
        let expected: Vec<u8> =
            (0..digits.len()).step_by(2).map(|at| u8::from_str_radix(&digits[at..at + 2], 16).unwrap()).collect();
        assert_eq!(bytes(&dump), expected, "{dump}");
    }
    // Windows' line ends, and dumps behind each other: each is a piece, as a packet is.
    let two = "0000   c6 39   .9\r\n0002   03   .\r\n0000   40 00   @.\r\n";
    assert_eq!(read(two).0, [(None, vec![0xC6, 0x39, 3]), (None, vec![0x40, 0])]);
    // Lines that are left out as they are the same.
    let zeros = "00000000  00 00 00 00 00 00 00 00  00 00 00 00 00 00 00 00  |................|\n*\n00000040  c6 39                                             |.9|\n00000042\n";
    assert_eq!(bytes(zeros), [[0; 64].as_slice(), &[0xC6, 0x39]].concat());
}

proptest! {
    #[test]
    fn a_dump_of_any_bytes_gives_them_back(all in proptest::collection::vec(any::<u8>(), 17..120)) {
        for (what, dump) in dumps(&all) {
            prop_assert_eq!(&bytes(&dump), &all, "{}:\n{}", what, dump);
        }
    }

    #[test]
    fn any_text_is_read_or_refused(text in "[0-9a-f |:.*\n\\[\\]xT-]{0,200}", cut in 0usize..200) {
        let mut pieces = Pieces::default();
        let cut = text.char_indices().nth(cut).map_or(text.len(), |(at, _)| at);
        let outcome = source::read(CaptureFormat::Hex, &text.as_bytes()[..cut], &mut pieces).unwrap();
        prop_assert!(outcome.bytes <= cut as u64);
        prop_assert!(outcome.damage.is_some() || outcome.bytes == cut as u64);
    }
}

/// Blank lines stand between the parts of a dump, or at its end, and say nothing.
#[test]
fn blank_lines_in_a_dump_say_nothing() {
    let whole = &dumps(&(0..64).collect::<Vec<u8>>())[0].1;
    let spaced = whole.replace('\n', "\n\n  \n");
    assert_eq!(bytes(&spaced), (0..64).collect::<Vec<u8>>());
}

#[test]
fn a_dump_with_a_line_missing_or_changed_is_damaged_there() {
    let whole = &dumps(&(0..64).collect::<Vec<u8>>())[0].1;
    let lines: Vec<&str> = whole.lines().collect();
    let without = format!("{}\n{}\n{}\n", lines[0], lines[1], lines[3]);
    let (pieces, outcome) = read(&without);
    let damage = outcome.damage.unwrap();
    assert_eq!(damage.offset, (lines[0].len() + lines[1].len() + 2) as u64);
    assert!(damage.reason.contains("the offsets leave room for 32"), "{}", damage.reason);
    assert_eq!(pieces.concat_bytes(), (0..16).collect::<Vec<u8>>());
    assert!(
        self::damage("0000000 39c6 4003 0200 12a0\n0000010 90f5\n0000012\n")
            .contains("two bytes may have changed places")
    );
    assert!(
        self::damage("00000000  c6 39 03\n00000003  40\nnothing of the kind\n")
            .contains("does not begin with an offset")
    );
    assert!(self::damage("0000: c6 39\n0002: 40 00\n*\n").contains("no offset after it"));
}

trait ConcatBytes {
    fn concat_bytes(&self) -> Vec<u8>;
}

impl ConcatBytes for Vec<Timed> {
    fn concat_bytes(&self) -> Vec<u8> {
        self.iter().flat_map(|(_, bytes)| bytes.clone()).collect()
    }
}

#[test]
fn numbers_of_a_program_are_bytes() {
    for text in [
        "0xC6, 0x39, 0x03,\n0x40",
        "{ 0xC6, 0x39,\n  0x03, 0x40 };",
        "\"\\xC6\\x39\\x03\\x40\"",
        "[C6:39:03:40]",
        "c639-0340",
        "(C6 39) (03 40)",
    ] {
        assert_eq!(bytes(text), [0xC6, 0x39, 3, 0x40], "{text}");
        assert_eq!(bytes_in(text), Ok(vec![0xC6, 0x39, 3, 0x40]), "{text}");
    }
    assert_eq!(bytes_in(""), Ok(Vec::new()));
    assert_eq!(bytes_in("00000000  c6 39 03"), Ok(vec![0xC6, 0x39, 3]));
    assert_eq!(bytes_in("0000 C6 39"), Ok(vec![0, 0, 0xC6, 0x39]));
    assert_eq!(
        bytes_in("C6 3"),
        Err("the text ends in the middle of a byte: one hex digit is missing (at character 5)".into())
    );
    assert_eq!(bytes_in("C6 \\39"), Err("'3' is not a hex digit (at character 5)".into()));
}

#[test]
fn a_log_gives_each_line_its_time() {
    const S: u64 = 1_000_000_000;
    let of = |text: &str| read(text).0;
    for line in
        ["12:34:56.789 C6 39 03", "[12:34:56.789] C6 39 03", "12:34:56,789: 0xC6 0x39 0x03", "(12:34:56.789)  c63903"]
    {
        let expected = (12 * 3600 + 34 * 60 + 56) * S + 789_000_000;
        assert_eq!(of(&format!("{line}\n")), [(Some(expected), vec![0xC6, 0x39, 3])], "{line}");
    }
    // 2032-02-01 is 22,676 days after 1970-01-01.
    let day = 22_676 * 86_400 * S;
    for line in [
        "2032-02-01 00:00:01.5 C6",
        "2032-02-01T00:00:01.5 C6",
        "[2032-02-01 00:00:01.5] C6",
        "2032-02-01T01:00:01.5+01:00 C6",
        "2032-02-01T00:00:01.5Z: C6",
    ] {
        assert_eq!(of(line), [(Some(day + 1_500_000_000), vec![0xC6])], "{line}");
    }
    assert_eq!(of("[12.345678] C6 39\n[13.0] 03"), [(Some(12_345_678_000), vec![0xC6, 0x39]), (Some(13 * S), vec![3])]);
    // Midnight goes by once, and what is a little late is no day later.
    let night = of("23:59:59.9 01\n23:59:59.8 02\n00:00:00.1 03\n");
    let times: Vec<u64> = night.iter().map(|(time, _)| time.unwrap()).collect();
    assert_eq!(times, [86_399 * S + 900_000_000, 86_399 * S + 800_000_000, 86_400 * S + 100_000_000]);
    // Words are not skipped: whose bytes they are is not known.
    let said = damage("12:34:56.789 RX C6 39 03\n12:34:56.800 TX C6 39 04\n");
    assert!(
        said.contains("`RX` after the time is not a hex byte")
            && said.contains("--from")
            && said.contains("--form raw"),
        "{said}"
    );
    // A time between bytes is bytes.
    assert_eq!(bytes("12:34:56\n"), [0x12, 0x34, 0x56]);
}

#[test]
fn long_dumps_need_little_memory_and_long_lines_end() {
    let mut text = String::new();
    for n in 0..20_000u32 {
        let _ = writeln!(text, "{:08x}  {}", n * 16, joined(&[n as u8; 16], 1, " "));
    }
    let (pieces, outcome) = read(&text);
    assert_eq!((outcome.damage, pieces.concat_bytes().len()), (None, 320_000));
    assert!(pieces.len() >= 4 && pieces.iter().all(|(_, bytes)| bytes.len() < 70_000));
    // What claims to stand for a lot is handed on bit by bit.
    let claims = "00000000  11 22\n*\n00400000  33\n00400001\n";
    let (pieces, _) = read(claims);
    assert!(pieces.concat_bytes().len() == 0x40_0001 && pieces.iter().all(|(_, bytes)| bytes.len() < 70_000));
    let endless = format!("0000: c6\n0001: {}", "39 ".repeat(200_000));
    assert!(damage(&endless).contains("longer than"));
}

#[test]
fn repeated_lines_of_a_dump_are_as_many_as_the_offsets_say() {
    // More than are handed on at once.
    let line: Vec<u8> = (0..16).collect();
    for lines in [2, 4096, 4097, 10_000] {
        let text = format!("00000000  {}\n*\n{:08x}\n", joined(&line, 1, " "), lines * 16);
        let (pieces, outcome) = read(&text);
        assert_eq!((outcome.damage, outcome.bytes), (None, text.len() as u64));
        assert!(pieces.concat_bytes() == line.repeat(lines), "{lines} lines");
        assert!(pieces.len() <= 1 + lines / 4096, "{lines} lines in {} pieces", pieces.len());
    }
}
