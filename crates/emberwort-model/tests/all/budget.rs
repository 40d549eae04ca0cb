//! Times on the wire against oracles: LoRa by the published formula written down again in floating point, CAN by building each
//! bit of the frame and stuffing it one by one.

use emberwort_model::budget::wire_time::{Lora, can};
use emberwort_model::budget::{body, decimal_text, energy, message_on, report, time_text, to_f64};
use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{SpiWords, UartFormat};
use emberwort_model::model::{End, MediumKind};
use emberwort_model::{Plan, Source, check, what_if};
use num_rational::Ratio;
use proptest::prelude::*;

fn plan(text: &str) -> Plan {
    let checked = check(&Source::new("budget.ember", text));
    checked.plan.unwrap_or_else(|| panic!("{:#?}", checked.findings))
}

/// Seconds on air by the formula of the radio's data sheet, in floating point and with names of its own.
fn airtime_oracle(spreading: f64, bandwidth: f64, coding: f64, payload: f64) -> f64 {
    let symbol = 2f64.powf(spreading) / bandwidth;
    let optimised = if symbol >= 0.016 { 1.0 } else { 0.0 };
    let preamble = (8.0 + 4.25) * symbol;
    let numerator = 8.0 * payload - 4.0 * spreading + 28.0 + 16.0;
    let blocks = (numerator / (4.0 * (spreading - 2.0 * optimised))).ceil() * coding;
    preamble + (8.0 + blocks.max(0.0)) * symbol
}

#[test]
fn lora_airtimes_agree_with_the_published_formula() {
    let mut compared = 0;
    for spreading in 7..=12u8 {
        for bandwidth in [125_000u32, 250_000, 500_000] {
            for coding in 5..=8u8 {
                for payload in [1u64, 12, 51] {
                    let radio = Lora { spreading, bandwidth, coding };
                    let (ours, oracle) = (
                        to_f64(radio.airtime(payload)),
                        airtime_oracle(f64::from(spreading), f64::from(bandwidth), f64::from(coding), payload as f64),
                    );
                    assert!(
                        (ours - oracle).abs() < 0.0001,
                        "sf{spreading} {bandwidth} 4/{coding} {payload}: {ours} {oracle}"
                    );
                    compared += 1;
                }
            }
        }
    }
    assert_eq!(compared, 6 * 3 * 4 * 3);
    // Worked out by hand: sf7, 125 kHz: a symbol takes 1.024 ms; 12 bytes are ⌈(96 − 28 + 44) / 28⌉ = 4 blocks of 5 symbols;
    // 12.25 + 8 + 20 = 40.25 symbols = 41.216 ms.
    assert_eq!(Lora { spreading: 7, bandwidth: 125_000, coding: 5 }.airtime(12), Ratio::new(41_216, 1_000_000));
    assert!(Lora { spreading: 11, bandwidth: 125_000, coding: 5 }.is_slow());
    assert!(!Lora { spreading: 10, bandwidth: 125_000, coding: 5 }.is_slow());
}

/// A CAN frame as it goes over the wire, bit after bit, by the text of the standard.
struct CanFrame {
    bits: Vec<bool>,
}

impl CanFrame {
    fn push(&mut self, value: u32, count: u32) {
        for n in (0..count).rev() {
            self.bits.push(value & (1 << n) != 0);
        }
    }

    fn classic(id: u32, extended: bool, data: &[u8]) -> Self {
        let mut frame = Self { bits: vec![false] };
        if extended {
            frame.push(id >> 18, 11);
            frame.push(0b11, 2);
            frame.push(id & 0x3FFFF, 18);
            frame.push(0, 3);
        } else {
            frame.push(id, 11);
            frame.push(0, 3);
        }
        frame.push(data.len() as u32, 4);
        for byte in data {
            frame.push(u32::from(*byte), 8);
        }
        let mut crc: u32 = 0;
        for bit in &frame.bits {
            let feedback = (crc & 0x4000 != 0) ^ bit;
            crc = (crc << 1) & 0x7FFF;
            if feedback {
                crc ^= 0x4599;
            }
        }
        frame.push(crc, 15);
        frame
    }

    /// All bits with a complementary one inserted behind five equal ones, and the part behind the CRC.
    fn on_the_wire(&self) -> Vec<bool> {
        let mut wire: Vec<bool> = Vec::new();
        for bit in &self.bits {
            wire.push(*bit);
            let last = wire.iter().rev().take(5).collect::<Vec<_>>();
            let equal = last.len() == 5 && last.iter().all(|other| **other == *bit);
            // The run must not count bits that a stuff bit has already answered.
            if equal {
                wire.push(!*bit);
            }
        }
        wire.extend([true; 13]);
        wire
    }
}

#[test]
fn can_bits_by_hand() {
    // 0x000 without data: 19 dominant bits up to the CRC, which is zero as well: 34 zeros, and a stuff bit behind each five.
    assert_eq!(can::classic_stuffing(&[], (0, false)), 6);
    assert_eq!((can::classic_bits(0, false), can::classic_worst_stuffing(0, false)), (47, 8));
    assert_eq!((can::classic_bits(8, false), can::classic_worst_stuffing(8, false)), (111, 24));
    assert_eq!((can::classic_bits(8, true), can::classic_worst_stuffing(8, true)), (131, 29));
    // CAN FD, 8 bytes: 17 + 2 + 7 + 3 nominal; 1 + 4 + 64 + 4 + 17 + 6 fixed stuff bits + 1 data.
    assert_eq!(can::fd_bits(8, false), (29, 97));
    assert_eq!(can::fd_bits(9, false), can::fd_bits(12, false), "the next size that there is");
    assert_eq!(can::fd_bits(64, true), (48, 1 + 4 + 512 + 25 + 7 + 1));
    for (bytes, size) in [(0, 0), (8, 8), (9, 12), (13, 16), (25, 32), (33, 48), (49, 64)] {
        assert_eq!(can::fd_size(bytes), size);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn can_stuffing_agrees_with_a_frame_built_bit_by_bit(
        id in 0u32..0x800,
        wide in 0u32..0x2000_0000,
        extended in any::<bool>(),
        data in proptest::collection::vec(prop_oneof![Just(0u8), Just(0xFF), any::<u8>()], 0..9),
    ) {
        let id = if extended { wide } else { id };
        let wire = CanFrame::classic(id, extended, &data).on_the_wire();
        let ours = can::classic_bits(data.len(), extended) + can::classic_stuffing(&data, (id, extended));
        prop_assert_eq!(ours, wire.len() as u64);
        prop_assert!(can::classic_stuffing(&data, (id, extended)) <= can::classic_worst_stuffing(data.len(), extended));
        let exact = (MediumKind::Can { bitrate: 250_000, data_bitrate: None, sample: None }).exact(&data, (id, extended));
        prop_assert_eq!(exact.time, Ratio::new(wire.len() as i128, 250_000));
    }

    #[test]
    fn fd_stuffing_never_exceeds_the_worst(
        id in 0u32..0x2000_0000,
        extended in any::<bool>(),
        data in proptest::collection::vec(prop_oneof![Just(0u8), Just(0xFF), any::<u8>()], 0..65),
    ) {
        let id = if extended { id } else { id & 0x7FF };
        let (slow, fast) = can::fd_stuffing(&data, (id, extended));
        let (worst_slow, worst_fast) = can::fd_worst_stuffing(data.len(), extended);
        prop_assert!(slow <= worst_slow && slow + fast <= worst_slow + worst_fast);
        // Counted again over the bits up to the end of the data, by runs.
        let mut frame = CanFrame { bits: vec![false] };
        if extended {
            frame.push(id >> 18, 11);
            frame.push(0b11, 2);
            frame.push(id & 0x3FFFF, 18);
            frame.push(0, 1);
        } else {
            frame.push(id, 11);
            frame.push(0, 2);
        }
        frame.push(0b101, 3);
        frame.push(0, 1);
        let size = can::fd_size(data.len());
        frame.push(can::FD_SIZES.iter().position(|other| *other == size).unwrap() as u32, 4);
        for n in 0..size {
            frame.push(u32::from(data.get(n).copied().unwrap_or(0)), 8);
        }
        let on_the_wire = frame.on_the_wire();
        let stuffed_part = &on_the_wire[..on_the_wire.len() - 13];
        // Behind the last bit stands the first fixed stuff bit of the checksum, whatever the run (ISO 11898-1:2015, 10.5).
        let is_last = stuffed_part.last() != frame.bits.last();
        let stuffed = stuffed_part.len() - frame.bits.len() - usize::from(is_last);
        prop_assert_eq!(slow + fast, stuffed as u64);
    }
}

#[test]
fn other_media_by_hand() {
    let uart = |parity, stop_bits: u8| {
        MediumKind::Uart(UartFormat { parity, stop_halves: 2 * stop_bits, ..UartFormat::usual(9600) })
    };
    let time = |medium: &MediumKind, bytes| medium.worst(bytes, false);
    assert_eq!((time(&uart('N', 1), 3).bits, time(&uart('E', 2), 3).bits), (30, 36));
    assert_eq!(time(&uart('N', 1), 96).time, Ratio::new(1, 10));
    assert_eq!(
        time(&MediumKind::Spi { hertz: 2_000_000, words: SpiWords::default() }, 2).time,
        Ratio::new(8, 1_000_000)
    );
    // Start, address with its acknowledge bit, two bytes with theirs, stop: 1 + 9 + 18 + 1.
    assert_eq!(time(&MediumKind::I2c { hertz: 400_000 }, 2).bits, 29);
    let udp = |ipv6| MediumKind::Udp { port: 1, ipv6, bitrate: 100_000_000 };
    // 8 preamble, 14 header, at least 46 of payload, 4 check sequence, 12 gap: 84 bytes.
    assert_eq!(time(&udp(false), 1).bits, 84 * 8);
    assert_eq!(time(&udp(false), 18).bits, 84 * 8);
    assert_eq!(time(&udp(false), 19).bits, 85 * 8);
    assert_eq!(time(&udp(true), 100).bits, (8 + 14 + 40 + 8 + 100 + 4 + 12) * 8);
    assert_eq!(
        time(&MediumKind::Tcp { port: 1, ipv6: false, bitrate: 10_000_000 }, 100).bits,
        (38 + 20 + 20 + 100) * 8
    );
    assert_eq!(time(&MediumKind::Stream { bitrate: 8000 }, 1000).time, Ratio::from_integer(1));
}

const GAUGE: &str = "link g { revision 1  byte_order big }
    channel air { medium lora sf9 125 kHz 4/5 duty 1 % tx 44 mA at 3.3 V\n packet\n select by port }
    message Level { from device every 10 min  on air port 2  depth : 0 .. 12 m step 0.005  battery : 2 .. 4 V step 0.05 }
    message Settings { from host  on air port 3  period : u8 }";

#[test]
fn the_budget_of_a_channel() {
    let plan = plan(GAUGE);
    let report = &report(&plan, 2)[0];
    let level = &report.rows[0];
    // 12 + 6 bits of values in 3 bytes; 13 bytes of network headers go with them.
    assert_eq!((level.body.bytes, level.body.value_bits, level.body.spare_bits), ((3, 3), 18, 6));
    assert!((level.body.unused_codes - (18.0 - 2401f64.log2() - 41f64.log2())).abs() < 1e-9);
    let expected = airtime_oracle(9.0, 125_000.0, 5.0, 16.0);
    assert!((to_f64(level.frame.greatest.time) - expected).abs() < 1e-9);
    assert!((to_f64(level.share.unwrap()) - 2.0 * expected / 600.0).abs() < 1e-12);
    assert!((to_f64(report.device_share) - expected / 600.0).abs() < 1e-12);
    assert_eq!(report.a_day, Some((0.01 * 86_400.0 / expected) as u64));
    // Another network says how many bytes it adds.
    let own = self::plan(&GAUGE.replace("duty 1 %", "duty 1 % overhead 7 bytes"));
    let shorter = airtime_oracle(9.0, 125_000.0, 5.0, 10.0);
    assert!((to_f64(emberwort_model::budget::report(&own, 2)[0].rows[0].frame.greatest.time) - shorter).abs() < 1e-9);
    assert!((to_f64(level.energy.unwrap()) - 44.0 * 3.3 * expected).abs() < 1e-9);
    assert_eq!(energy(&plan.channels[0].medium, Ratio::from_integer(1)), Some(Ratio::new(1452, 10)));
    // Two gauges with their regular message, and the host's longest one.
    let settings = airtime_oracle(9.0, 125_000.0, 5.0, 14.0);
    assert!((to_f64(report.all_at_once) - 2.0 * expected - settings).abs() < 1e-9);
}

#[test]
fn bodies_know_what_carries_nothing() {
    let plan = plan(
        "link g { revision 2  byte_order little }
         enum E : u4 { 0 a  1 b }
         message M { from device  e : E  f : u4 retired  o : u8 optional  l : [..3] u12  spare 4 bits
             added in 2 { b : bool } }",
    );
    let found = body(&plan.messages[0]);
    // Presence 1 of 8, e 4, f none, o 8, l: count 8 and 3 × 12, spare none, b 1.
    assert_eq!(found.value_bits, 1 + 4 + 8 + 8 + 36 + 1);
    assert_eq!(found.bytes.1 as u64 * 8, found.value_bits + found.spare_bits);
    assert!((found.unused_codes - 3.0).abs() < 1e-9, "two of sixteen labels");
}

#[test]
fn lines_cost_what_their_values_make_of_them() {
    let plan = plan(
        "link g { revision 1  byte_order little }
         channel t { medium uart 9600 8N1\n lines crlf }
         message V { from device  on t  line \"V{v}:{p:fixed 1} {h:hex4}\"  v : u8  p : -5 .. 100 % step 0.5  h : u16 }",
    );
    let cost = message_on(&plan.channels[0], &plan.messages[0], ChannelId::default());
    // V0:0.0 0000 and V255:100.0 FFFF, and the line's end.
    assert_eq!(cost.frame, (11 + 2, 15 + 2));
    assert_eq!(cost.greatest.bits, 170);
}

#[test]
fn what_if_changes_are_made_and_refused() {
    let mut load = |_: &str, _: &str| Err::<Source, String>("nothing is imported".into());
    let mut change = |changes: &[&str]| {
        let changes: Vec<String> = changes.iter().map(|change| (*change).to_owned()).collect();
        what_if(Source::new("g.ember", GAUGE), &mut load, &changes)
    };
    let slow = change(&["air sf12", "air 250 kHz", "air 4/8", "air duty 0.1 %"]).unwrap();
    let expected = MediumKind::Lora {
        spreading: 12,
        bandwidth: 250_000,
        coding: 8,
        duty: emberwort_model::number::Decimal::parse("0.1"),
        overhead: Some(13),
    };
    assert_eq!(slow.channels[0].medium.kind, expected);
    assert_eq!(change(&["Level.depth step 0.01"]).unwrap().messages[0].greatest_size(), 3);
    assert_eq!(change(&["Level.depth in 9 bits", "Level.battery u3"]).unwrap().messages[0].greatest_size(), 2);
    assert_eq!(change(&["Level every 5 min"]).unwrap().messages[0].message.every, Some(300_000_000_000));
    assert_eq!(change(&["air limit 20 bytes"]).unwrap().channels[0].direction(End::Device).limit, 20);
    for (wrong, word) in [
        ("aire sf12", "did you mean `air`?"),
        ("air sf13", "`sf7` to `sf12`"),
        ("air", "say what changes"),
        ("air every 5 min", "medium or limit"),
        ("Level sf12", "the period can change"),
        ("Level.dept step 1", "did you mean `depth`?"),
        ("Lvel.depth step 1", "did you mean `Level`?"),
        ("Level.depth step 0.7", "does not divide into steps"),
        ("Level.depth every 5 min", "of a field the type can change"),
        ("Settings.period step 1", "only a range has a step"),
        ("air uart 9600 8N1 and more", "the end of the change"),
        ("Level.depth u99", "cannot have a width of 99"),
    ] {
        let problem = change(&[wrong]).unwrap_err();
        assert!(problem.contains(word), "{wrong}: {problem}");
    }
}

#[test]
fn numbers_are_exact_or_say_that_they_are_not() {
    assert_eq!(decimal_text(Ratio::new(1, 4), 3), "0.25");
    assert_eq!(decimal_text(Ratio::new(1, 3), 3), "≈0.333");
    assert_eq!(decimal_text(Ratio::new(2, 3), 1), "≈0.7");
    assert_eq!(time_text(Ratio::new(41_216, 1_000_000)), "≈41.22 ms");
    assert_eq!(time_text(Ratio::new(4, 1000)), "4 ms");
    assert_eq!(time_text(Ratio::new(95, 250_000)), "380 µs");
    assert_eq!(time_text(Ratio::new(3, 2)), "1.5 s");
}
