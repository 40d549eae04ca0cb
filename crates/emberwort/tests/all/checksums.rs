//! `checksum`: ranges, the working, and what went wrong.

use insta::assert_snapshot;

use crate::common::{self, run, run_with_input, succeed};

fn here() -> tempfile::TempDir {
    tempfile::tempdir().unwrap()
}

/// Redone by hand from this output alone: 0001 + F203 + F400 = 1E604; E604 + 1 = E605; its complement is 19FA.
#[test]
fn the_working_of_an_internet_checksum_over_an_odd_number_of_bytes() {
    let shown = succeed(here().path(), &["checksum", "internet", "--hex", "00 01 F2 03 F4", "--explain"]);
    assert!(shown.ends_with("The checksum is 0x19FA = 6650 = 0001 1001 1111 1010\n"), "{shown}");
    assert_snapshot!(shown);
}

/// Redone by hand from this output alone: the nine subtractions of 1 0001 0000 0010 0001 from 41 42 43 and sixteen zeros, at bits
/// 1, 5, 7, 11, 12, 14, 15, 19 and 21, leave 0011 1001 1001 0100 = 3994.
#[test]
fn the_working_of_a_crc_of_16_bits_over_3_bytes() {
    let shown = succeed(here().path(), &["checksum", "crc-16/xmodem", "--hex", "41 42 43", "--explain"]);
    assert!(shown.contains("The checksum is 0x3994 = 14740 = 0011 1001 1001 0100\n"), "{shown}");
    assert_snapshot!(shown);
    // The same long division, without anything of the program.
    let mut bits = 0x41_4243u64 << 16;
    for at in [1, 5, 7, 11, 12, 14, 15, 19, 21] {
        bits ^= 0x1_1021 << (23 - at);
    }
    assert_eq!(bits, 0x3994);
}

#[test]
fn bits_and_sums_are_shown_one_by_one() {
    let bits = succeed(here().path(), &["checksum", "crc-8/bluetooth", "--hex", "41", "--explain", "--bits"]);
    assert!(bits.contains("Mirrored: 0011 1111 becomes 1111 1100"), "{bits}");
    assert_eq!(bits.matches("moved").count(), 8, "a line for each bit");
    // F0 + 20 = 110, of which 10 stays; 10 + 05 = 15; 100 - 15 = EB.
    let sum = succeed(here().path(), &["checksum", "sum8 negated", "--hex", "F0 20 05", "--explain"]);
    assert!(sum.contains("0xF0 + 0x20  0x10") && sum.contains("0x15 becomes 0xEB"), "{sum}");
    let two = succeed(here().path(), &["checksum", "fletcher16", "--hex", "FA 0A", "--explain"]);
    assert!(two.contains("250 + 10 = 260 mod 255  5") && two.contains("B is 0 = 0x00, A is 5 = 0x05"), "{two}");
    for line in
        succeed(here().path(), &["checksum", "adler32", "--text", "Wiki", "--explain", "--as", "ndjson"]).lines()
    {
        assert!(line.starts_with('{') && line.ends_with('}'), "{line}");
    }
}

/// One blank line stands between functions.
#[test]
fn functions_stand_apart() {
    for (language, second) in [
        ("c", "uint64_t crc_8_smbus_table("),
        ("rust", "pub fn crc_8_smbus_table("),
        ("python", "def crc_8_smbus_table("),
        ("javascript", "function crc8SmbusTable("),
        ("go", "func Crc8SmbusTable("),
    ] {
        let code = succeed(here().path(), &["checksum", "crc-8/smbus,sum8", "--code", language]);
        let comment = if language == "python" { "#" } else { "//" };
        assert!(!code.starts_with('\n') && !code.contains("\n\n\n"), "{code}");
        assert!(code.contains(&format!("\n\n{second}")), "{language}: {code}");
        let other = [format!("\n\n{comment} sum8"), "\n\n/* sum8".to_owned()];
        assert!(other.iter().any(|other| code.contains(other)), "{language}: {code}");
    }
}

#[test]
fn ranges_count_from_either_end() {
    let sum =
        |words: &[&str]| succeed(here().path(), &[&["checksum", "sum8", "--hex", "01 02 04 08 10"], words].concat());
    assert_eq!(sum(&["--from", "1"]), "0x1E\n");
    assert_eq!(sum(&["--to", "-1"]), "0x0F\n");
    assert_eq!(sum(&["--from", "1", "--to", "-2"]), "0x06\n");
    assert_eq!(sum(&["--from", "-2"]), "0x18\n");
    assert_eq!(sum(&["--from", "2", "--to", "2"]), "0x00\n");
    for words in [["--from", "6"], ["--to", "6"], ["--from", "-6"]] {
        let ran = run(here().path(), &[&["checksum", "sum8", "--hex", "01 02 04 08 10"], &words[..]].concat());
        assert_eq!(ran.code, 2);
        assert!(ran.err.contains("is out of range: there are 5 bytes"), "{}", ran.err);
    }
    let ran = run_with_input(here().path(), &["checksum", "sum8", "-", "--from", "1"], &[1, 2, 3]);
    assert_eq!(ran.out, "0x05\n");
    let several = succeed(here().path(), &["checksum", "sum8, xor8,crc 8 poly 0x07", "--hex", "FF 02"]);
    assert_eq!(
        several,
        "ALGORITHM        VALUE\nsum8             0x01\nxor8             0xFD\ncrc 8 poly 0x07  0xD9\n"
    );
}

#[test]
fn a_value_that_differs_is_looked_into() {
    let verify = |algorithm: &str, hex: &str, value: &str, more: &[&str]| {
        let ran = run(here().path(), &[&["checksum", algorithm, "--hex", hex, "--verify", value], more].concat());
        (ran.code, ran.out + &ran.err)
    };
    let body = "C6 39 03 40 00 02 A0 12";
    assert_eq!(verify("crc-16/ibm-3740", body, "0x90F5", &["--from", "2"]), (0, "0x90F5 agrees\n".into()));
    for (algorithm, hex, value, more, says) in [
        ("crc-16/ibm-3740", body, "0x90F5", &[][..], "fits if the first 2 bytes are left out"),
        ("crc-16/ibm-3740", "C6 39 03 40 00 02 A0", "0x90F5", &["--from", "2"], "none of the"),
        ("crc-16/ibm-3740", body, "0x90F5", &["--from", "3"], "fits if the byte before is taken in too"),
        ("crc-16/ibm-3740", &format!("{body} 77"), "0x90F5", &["--from", "2"], "fits if the last byte is left out"),
        ("crc-16/ibm-3740", body, "0x90F5", &["--from", "2", "--to", "-1"], "fits if the byte after is taken in too"),
        ("crc-16/ibm-3740", body, "0xF590", &["--from", "2"], "fits if its bytes are swapped"),
        ("crc-16/ibm-3740", body, "0x6F0A", &["--from", "2"], "fits if it is crc-16/genibus"),
        ("crc-16/xmodem", body, "0x90F5", &["--from", "2"], "fits if it starts with 0xFFFF"),
        ("crc-16/arc", "31 32 33", "0xF590", &[], "none of the"),
        ("crc-16/ibm-3740", body, "0xF590", &[], "fits if the first 2 bytes are left out, and its bytes are swapped"),
        ("crc-16/ibm-3740", body, "0x90F1", &["--from", "2"], "fits if bit 2 of the checksum itself is wrong"),
        (
            "crc-16/ibm-3740",
            "C6 39 03 48 00 02 A0 12",
            "0x90F5",
            &["--from", "2"],
            "fits if bit 3 of byte 3 (counted from 0) is wrong: 40 in place of 48",
        ),
        (
            "crc-16/ibm-3740",
            "C6 39 03 40 02 00 A0 12",
            "0x90F5",
            &["--from", "2"],
            "fits if bytes 4 and 5 (counted from 0) are swapped",
        ),
        // 03 + 40 + 02 + A0 + 12 = F7; its two's complement is 09.
        ("sum8", body, "9", &["--from", "2"], "fits if it is negated (two's complement)"),
        ("sum8", body, "0x08", &["--from", "2"], "fits if it is complemented (every bit inverted)"),
        // A CRC of 12 bits whose complement has no name: umts gives DAF for the digits, 250 is all of its bits inverted.
        ("crc-12/umts", "31 32 33 34 35 36 37 38 39", "0x250", &[], "fits if what is XORed onto the result is 0xFFF"),
    ] {
        let (code, said) = verify(algorithm, hex, value, more);
        assert_eq!(code, 1, "{algorithm} {hex}: {said}");
        assert!(said.contains(says), "{algorithm} {hex} {value} {more:?}: {said}");
    }
    let (_, said) = verify("sum8", body, "0x08", &[]);
    assert!(said.contains("fit by chance: compare with a second frame"), "{said}");
    assert!(verify("sum8", body, "0x108", &[]).1.contains("--verify needs a number of 8 bits"));
    assert!(verify("sum8,xor8", body, "1", &[]).1.contains("--verify compares with one algorithm"));
    let long = "00 ".repeat(4097);
    assert!(
        verify("crc-16/ibm-3740", &long, "1", &[])
            .1
            .contains("one wrong bit was not looked for, since these are more than 4096")
    );
    let (_, row) = verify("crc-16/ibm-3740", body, "0x90F5", &["--as", "ndjson"]);
    assert!(row.contains(r#""agrees":false,"fits":["if the first 2 bytes are left out"]"#), "{row}");
}

#[test]
fn packets_that_are_wrong_or_none() {
    let packet = |hex: &str| {
        let ran = run(here().path(), &["checksum", "packet", "--hex", hex]);
        (ran.code, ran.out + &ran.err)
    };
    let good = "45 00 00 1D 00 00 00 00 40 11 66 CE 0A 00 00 01 0A 00 00 02 12 34 56 78 00 09 22 2D 61";
    assert_eq!(packet(good).0, 0);
    let (code, said) = packet(&good.replace("22 2D 61", "22 2D 62"));
    assert!(code == 1 && said.contains("0x212D    0x222D  WRONG") && said.contains("2 checksums, 1 wrong"), "{said}");
    assert!(packet(&good.replace("22 2D 61", "14 1D 61")).1.contains("network hardware completes it"));
    assert!(packet(&good.replace("22 2D 61", "00 00 61")).1.contains("none: 0 says that the sender computed none"));
    assert_eq!(
        packet("12 34").1,
        "error: this is not an IP packet: its first digit, the version, is 1; IP packets have 4 or 6\n"
    );
    let explained = succeed(here().path(), &["checksum", "packet", "--explain", "--hex", good]);
    assert!(explained.contains("p8      00 11  0x0011") && explained.contains("61, padded with 00"), "{explained}");
    let ran = run(here().path(), &["checksum", "packet", "nowhere.pcap"]);
    assert!(ran.code == 2 && ran.err.contains("nowhere.pcap cannot be read"), "{}", ran.err);
}

/// More packets than one table holds, from standard input: none is left out, in either form.
#[test]
fn many_packets_come_in_several_tables() {
    let folder = here();
    let mut capture = emberwort_capture::PcapngWriter::new(Vec::new()).unwrap();
    let interface = capture.interface(101, "", "").unwrap();
    for n in 0..600u32 {
        let packet = emberwort_capture::packets::udp_packet(4850, true, &n.to_le_bytes()).unwrap();
        capture.packet(interface, u64::from(n), &packet).unwrap();
    }
    let capture = capture.finish().unwrap();
    let ran = run_with_input(folder.path(), &["checksum", "packet", "-"], &capture);
    assert_eq!(ran.code, 0, "{}", ran.err);
    let rows = |text: &str| text.lines().filter(|line| line.ends_with("right")).count();
    assert_eq!((rows(&ran.out), ran.out.matches("PACKET  CHECKSUM").count()), (1200, 2));
    assert!(ran.err.contains("1200 checksums, 0 wrong"), "{}", ran.err);
    let ran = run_with_input(folder.path(), &["checksum", "packet", "--as", "ndjson", "-"], &capture);
    assert_eq!((ran.code, ran.out.lines().count()), (0, 1200));
}

/// Frames as a definition of Marlock sends them, written by the program itself.
#[test]
fn frames_say_which_checksum_they_carry() {
    let folder = here();
    let frame = |n: usize, words: &[&str]| {
        let number = n.to_string();
        let all = [&["encode"], words, &["--on", "bus485", "--node", "3", "--sequence", &number]].concat();
        succeed(&common::marlock(), &all)
    };
    let frames = [
        frame(1, &["WhoAreYou"]),
        frame(2, &["MoveGate", "target=80", "speed=12"]),
        frame(3, &["ReadSetting", "setting=ramp_time"]),
        frame(4, &["MoveAccepted", "target=80", "ready_in=3.5"]),
    ];
    let identify = |text: &str, more: &[&str]| {
        let ran = run_with_input(folder.path(), &[&["checksum", "identify", "-"], more].concat(), text.as_bytes());
        (ran.code, ran.out, ran.err)
    };
    let (code, out, err) = identify(&frames.concat(), &[]);
    assert_eq!((code, err.as_str()), (0, ""), "{out}");
    assert!(
        out.lines().nth(1).unwrap().starts_with("crc-16/ibm-3740  byte 2 to the checksum  low byte first"),
        "{out}"
    );
    let (_, row, _) = identify(&frames.concat(), &["--as", "ndjson", "--bits", "16"]);
    assert!(row.starts_with(r#"{"algorithm":"crc-16/ibm-3740","from":2,"left_out":2,"at":-2,"order":"le","#), "{row}");
    // One of them is damaged.
    let damaged = frames.concat().replacen("C6 39 03 50", "C6 39 03 51", 1);
    let (code, out, err) = identify(&damaged, &[]);
    assert!(code == 1 && out.contains("crc-16/ibm-3740") && err.contains("frame 3 does not fit"), "{out}{err}");
    // Too few, or none at all.
    let (code, _, err) = identify("01 02 03 04\n05 06 07 08 09\n", &["--bits", "32"]);
    assert!(code == 1 && err.contains("nothing with a name explains 2 frames"), "{err}");
    let (code, _, err) = identify("01 02 03\n01 02 04\n", &["--bits", "8"]);
    assert!(code == 1 && err.contains("frames 1 and 2 have the same bytes but different checksums"), "{err}");
    // 5A and 3C, 77 and 19, each with its exclusive or: too little to be sure of.
    let (code, out, err) = identify("5A 3C 66\n77 19 6E\n", &["--bits", "8"]);
    assert!(code == 0 && out.contains("xor8"), "{out}{err}");
    assert!(err.contains("2 frames may fit this by accident: give 2 frames more to be certain"), "{err}");
    // What never changes is no checksum; the bytes in front of it are looked at, and that is said.
    let ended: String = frames.iter().map(|frame| format!("{} 0D 0A\n", frame.trim())).collect();
    let (code, out, err) = identify(&ended, &[]);
    assert!(code == 0 && out.contains("crc-16/ibm-3740"), "{out}{err}");
    assert!(err.contains("the last bytes are always 0D 0A, which cannot be a checksum, so the bytes before"), "{err}");
    assert!(identify("", &[]).2.contains("there are no frames"));
    assert!(identify("\u{1}\u{2}", &[]).2.contains("neither a capture nor hex text"));
    assert!(run(folder.path(), &["checksum", "identify", "--hex", "01,0G"]).err.contains("`0G` is not hex"));
}

#[test]
fn strength_is_told_with_the_lengths_at_which_it_falls() {
    let strength = |words: &[&str]| {
        let ran = run(&common::marlock(), &[&["checksum", "strength"], words].concat());
        (ran.code, ran.out + &ran.err)
    };
    let (code, said) = strength(&["crc-32/iso-hdlc", "--length", "1500"]);
    assert_eq!(code, 0);
    // The lengths that were published for this polynomial.
    for line in [
        "       4           91,607     11,450\n",
        "       5            2,974        371\n",
        "       8               91         11\n",
    ] {
        assert!(said.contains(line), "{said}");
    }
    assert!(said.contains("Hamming distance 4: up to 3 wrong bits are always found"), "{said}");
    assert!(said.contains("of frames with random content 1 in 4,294,967,296 passes"), "{said}");
    let (_, said) = strength(&["--on", "bus485", "--bit-errors", "1e-4", "--frames-a-second", "10"]);
    // 55 bytes: C(440, 4) · 10^-16 · 0.957 / 65,536 ≈ 2.3e-12, with what five wrong bits add; times 10 · 31,557,600.
    assert!(said.contains("of 440 bits to be wrong, a share of ≈2.3e-12"), "{said}");
    assert!(said.contains("at 10 a second ≈7.2e-4 a year"), "{said}");
    let (_, said) = strength(&["crc-16/modbus", "--length", "32752bits"]);
    assert!(said.contains("Hamming distance 2: a single wrong bit is always found"), "{said}");
    let (_, said) = strength(&["xor8", "--length", "20"]);
    assert!(said.contains("two wrong bits in the same place of two bytes cancel"), "{said}");
    let (_, rows) = strength(&["--best", "8", "--length", "10", "--as", "ndjson"]);
    let first = rows.lines().next().unwrap();
    assert!(first.contains("\"distance\":4,\"exact\":true"), "{rows}");
    assert_eq!(strength(&["crc-16/arc", "--length", "0"]).0, 2);
    assert!(strength(&["crc-16/arc", "--length", "5 miles"]).1.contains("write a number: 64, 64bytes or 512bits"));
    assert!(strength(&["--on", "console"]).1.contains("frames on `console` have no checksum"));
    assert!(strength(&["--best", "9", "--length", "10"]).1.contains("the catalogue has no CRC of 9 bits"));
    assert!(strength(&["crc-16/arc"]).1.contains("--length"));
}

#[test]
fn a_name_that_is_none_is_told_as_such() {
    let near = run(here().path(), &["checksum", "crc-16/ibm-3470", "--hex", "00"]);
    assert_eq!(near.code, 2);
    assert!(near.err.contains("`crc-16/ibm-3470` is not a known checksum"), "{}", near.err);
    assert!(near.err.contains("did you mean `crc-16/ibm-3740`?"), "{}", near.err);
    let far = run(here().path(), &["checksum", "massage", "--hex", "00"]);
    assert!(
        !far.err.contains("did you mean") && far.err.contains("`emberwort checksum --list` prints all"),
        "{}",
        far.err
    );
}
