//! What stands exactly at a limit, sinks that have enough, and what is counted beside the bytes: by hand.

use std::io::{self, Read};
use std::ops::ControlFlow;

use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{BitCode, BitFrame, LineCode, MediumKind, UartFormat};
use emberwort_model::model::End;
use emberwort_waveform::lines::code::Code;
use emberwort_waveform::lines::{can, i2c, uart};
use emberwort_waveform::listener::LineObservations;
use emberwort_waveform::sources::{samples, sound, table, vcd};
use emberwort_waveform::survey::{Guess, Survey};
use emberwort_waveform::trace::Traces;
use emberwort_waveform::wiring::find;
use emberwort_waveform::{
    LineSink, Listener, Moment, Outcome, Signal, Value, WaveSink, Wire, Wiring, WiringError, findings,
};
use emberwort_wire::timeline::Spent;
use emberwort_wire::{Chunk, ChunkSink, Time};

/// Has enough after so many calls, and notes that nothing comes after that.
struct Enough {
    left: usize,
    calls: usize,
    pauses: usize,
}

impl Enough {
    fn after(calls: usize) -> Self {
        Self { left: calls, calls: 0, pauses: 0 }
    }

    fn call(&mut self) -> ControlFlow<()> {
        assert!(self.left > 0, "called once more after it had enough");
        self.calls += 1;
        self.left -= 1;
        if self.left == 0 { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }
}

impl WaveSink for Enough {
    fn signals(&mut self, _: &[Signal]) -> ControlFlow<()> {
        self.call()
    }

    fn value(&mut self, _: Moment, _: usize, _: Value) -> ControlFlow<()> {
        self.call()
    }

    fn until(&mut self, _: Moment) -> ControlFlow<()> {
        self.call()
    }

    fn pause(&mut self) {
        self.pauses += 1;
    }
}

/// Gives a few bytes at a time, as a pipe does.
struct Pieces<'a>(&'a [u8], usize);

impl Read for Pieces<'_> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        let length = self.1.min(self.0.len()).min(room.len());
        room[..length].copy_from_slice(&self.0[..length]);
        self.0 = &self.0[length..];
        Ok(length)
    }
}

type ReadAll = fn(&mut dyn Read, &mut Enough) -> io::Result<Outcome>;

const SOURCES: [(&str, ReadAll); 5] = [
    ("dump", |input, sink| vcd::read(input, sink)),
    ("table", |input, sink| table::read(input, None, &[], sink).map(|(outcome, _)| outcome)),
    ("sound", |input, sink| sound::read(input, sink)),
    ("bits", |input, sink| samples::read(input, samples::Sample::Bits(1), 1_000_000, sink)),
    ("numbers", |input, sink| samples::read(input, samples::Sample::Numbers(samples::Number::U8, 2), 1_000_000, sink)),
];

/// A sound file of samples of two bytes, with so many bytes of them, and a part behind.
fn sound_file(samples: u32) -> Vec<u8> {
    let mut bytes = b"RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x01\x00\x01\x00\x40\x1f\x00\x00\x80\x3e\x00\x00\x02\x00\x10\x00data".to_vec();
    bytes.extend(samples.to_le_bytes());
    bytes.extend((0..samples).map(|n| n as u8));
    bytes.extend(b"LIST\x04\x00\x00\x00INFO");
    bytes
}

fn file(name: &str) -> Vec<u8> {
    match name {
        "dump" => {
            let changes: String = (1..30).map(|n| format!("#{n}\n{}!\n", n % 2)).collect();
            format!("$timescale 1 ns $end\n$var wire 1 ! a $end\n$enddefinitions $end\n#0\n1!\n{changes}").into_bytes()
        }
        "table" => (0..30).fold("Time,A\n".to_owned(), |all, n| all + &format!("{n}e-6,{}\n", n % 2)).into_bytes(),
        "sound" => sound_file(60),
        _ => (0..60).map(|n| (n % 2) * 255).collect(),
    }
}

#[test]
fn a_sink_that_has_enough_hears_nothing_more() {
    for (name, read) in SOURCES {
        let bytes = file(name);
        for piece in [7, bytes.len()] {
            let mut all = Enough::after(usize::MAX);
            let outcome = read(&mut Pieces(&bytes, piece), &mut all).unwrap();
            assert_eq!((outcome.damage, outcome.bytes), (None, bytes.len() as u64), "{name}");
            assert!(all.calls > 30, "{name}: {}", all.calls);
            // What came is shown before more is waited for.
            assert!(all.pauses >= bytes.len() / piece / 8, "{name} in pieces of {piece}: {} pauses", all.pauses);
            for calls in 1..all.calls {
                let mut some = Enough::after(calls);
                let outcome = read(&mut Pieces(&bytes, piece), &mut some).unwrap();
                assert_eq!((some.calls, outcome.damage), (calls, None), "{name}");
                assert!(outcome.bytes <= bytes.len() as u64, "{name}");
            }
        }
    }
}

#[test]
fn a_table_that_comes_line_by_line_is_shown_line_by_line() {
    let bytes = file("table");
    let mut sink = Enough::after(usize::MAX);
    // Twelve bytes are more than a line, and fewer than two.
    table::read(Pieces(&bytes, 12), None, &[], &mut sink).unwrap();
    assert!(sink.pauses >= bytes.len() / 12, "{} pauses in {} bytes", sink.pauses, bytes.len());
    // All at once, there is nothing to wait for in between.
    let mut sink = Enough::after(usize::MAX);
    table::read(bytes.as_slice(), None, &[], &mut sink).unwrap();
    assert!(sink.pauses <= 3, "{}", sink.pauses);
}

#[test]
fn a_sample_that_is_cut_off_is_where_a_sound_file_ends() {
    let whole = sound_file(60);
    let outcome = sound::read(whole.as_slice(), &mut Enough::after(usize::MAX)).unwrap();
    assert_eq!((outcome.bytes, outcome.damage), (whole.len() as u64, None));
    // Of 61 bytes the last one is half a sample: 44 bytes stand in front of the first.
    let outcome = sound::read(sound_file(61).as_slice(), &mut Enough::after(usize::MAX)).unwrap();
    let damage = outcome.damage.expect("half a sample");
    assert_eq!((damage.offset, outcome.bytes), (44 + 60, 44 + 60));
    assert!(damage.reason.contains("the last sample is cut off"), "{}", damage.reason);
}

#[test]
fn scopes_of_a_dump_stand_in_each_other_up_to_a_limit() {
    let dump = |depth: usize| {
        let (open, close) = ("$scope module m $end\n".repeat(depth), "$upscope $end\n".repeat(depth));
        format!("$timescale 1 ns $end\n{open}$var wire 1 ! a $end\n{close}$enddefinitions $end\n#0\n1!\n")
    };
    let read = |depth: usize| vcd::read(dump(depth).as_bytes(), &mut Enough::after(usize::MAX)).unwrap();
    assert_eq!(read(256).damage, None);
    let damage = read(257).damage.expect("too deep");
    assert!(damage.reason.contains("more than 256 scopes"), "{}", damage.reason);
}

#[test]
fn a_dump_has_a_most_of_signals() {
    let read = |bits: &str| {
        let dump = format!("$timescale 1 ns $end\n$var wire {bits} ! a $end\n$enddefinitions $end\n#0\nx!\n");
        vcd::read(dump.as_bytes(), &mut Enough::after(usize::MAX)).unwrap().damage.map(|damage| damage.reason)
    };
    assert_eq!((read("1"), read("65536")), (None, None));
    for bits in ["0", "65537"] {
        let reason = read(bits).unwrap_or_else(|| panic!("{bits} bits are read"));
        assert!(reason.contains("gives `a` no bits, or has more than 65536 in all"), "{bits}: {reason}");
    }
}

#[test]
fn a_line_has_a_most_of_wires() {
    let wiring = |selects: usize| {
        let selects = (0..selects).map(|node| format!("select{node}=s{node}"));
        let all = ["clock=c".to_owned(), "device=d".to_owned()].into_iter().chain(selects);
        Wiring { wires: all.map(|text| Wire::parse(&text).unwrap()).collect() }
    };
    let listener =
        |selects: usize| Listener::new(ChannelId::default(), &spi(), wiring(selects), 0, Heard::default()).map(|_| ());
    assert_eq!(listener(22), Ok(()));
    assert_eq!(listener(23), Err(Some(WiringError::TooMany)));
}

fn spi() -> MediumKind {
    MediumKind::Spi { hertz: 1_000_000, words: Default::default() }
}

/// What a listener handed on.
#[derive(Default)]
struct Heard {
    chunks: Vec<(Option<End>, Vec<u8>)>,
    spent: Vec<(Spent, u64, u64)>,
}

impl ChunkSink for Heard {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        self.chunks.push((chunk.stream.from, chunk.bytes.to_vec()));
        ControlFlow::Continue(())
    }
}

impl LineSink for Heard {
    fn bind_tap(&mut self, _: u32, _: u64) {}

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        self.spent.push((spent, from.nanoseconds(), until.nanoseconds()));
    }
}

/// What a listener to a dump of changes in nanoseconds heard and saw: the signals are a, b and so on, and begin low.
fn listened(medium: &MediumKind, wires: &[&str], changes: &[(u64, usize, bool)]) -> (Heard, Vec<LineObservations>) {
    let wires: Vec<Wire> = wires.iter().map(|text| Wire::parse(text).unwrap()).collect();
    let signals: Vec<Signal> =
        wires.iter().map(|wire| Signal { name: wire.signal.clone(), is_analog: false }).collect();
    let mut listener = Listener::new(ChannelId::default(), medium, Wiring { wires }, 0, Heard::default()).unwrap();
    assert!(listener.signals(&signals).is_continue());
    let at = |nanoseconds: u64| Moment::from_picoseconds(nanoseconds * 1000);
    for signal in 0..signals.len() {
        assert!(listener.value(at(0), signal, Value::Low).is_continue());
    }
    for (time, signal, level) in changes {
        assert!(listener.value(at(*time), *signal, if *level { Value::High } else { Value::Low }).is_continue());
    }
    let end = changes.last().map_or(0, |change| change.0) + 1_000_000;
    assert!(listener.until(at(end)).is_continue());
    let (heard, seen, _) = listener.finish();
    (heard, seen)
}

fn seen(medium: &MediumKind, wires: &[&str], changes: &[(u64, usize, bool)]) -> Vec<LineObservations> {
    listened(medium, wires, changes).1
}

#[test]
fn two_devices_that_are_selected_at_once_are_found() {
    // Selects rest high: 3 and 4 fall after each other, at once for 2 microseconds, twice.
    let wires = ["clock=c", "device=d", "select3=s3", "select4=s4"];
    let mut changes = vec![(1_000, 2, true), (1_000, 3, true)];
    changes.extend((0..8).map(|edge| (2_000 + edge * 500, 0, edge % 2 == 0)));
    for start in [10_000, 20_000] {
        changes.extend([
            (start, 2, false),
            (start + 1_000, 3, false),
            (start + 3_000, 2, true),
            (start + 4_000, 3, true),
        ]);
    }
    let seen = seen(&spi(), &wires, &changes);
    let LineObservations::Spi(spi) = &seen[0] else { panic!("{seen:?}") };
    // Both are low from the beginning on, too.
    assert_eq!((spi.both.count, spi.both.first.picoseconds()), (3, 0), "{spi:?}");
    let said: Vec<String> = findings(&seen[0], Moment::default()).into_iter().map(|finding| finding.text).collect();
    assert!(said.iter().any(|text| text.starts_with("two devices are selected at once, 3 times")), "{said:?}");
}

#[test]
fn times_between_words_and_frames_of_a_clocked_line_are_measured() {
    // In nanoseconds: selected at 10,000 and 64,000, three words in each frame. A bit takes 1,000; from the last bit of a word, which
    // is taken 7,000 after its first one, to the next word are 3,000 and 5,000.
    let mut changes = vec![(1_000, 2, true)];
    for start in [10_000, 64_000] {
        changes.push((start, 2, false));
        for word in [1_000, 11_000, 23_000] {
            changes.extend((0..16).map(|edge| (start + word + edge * 500, 0, edge % 2 == 0)));
        }
        changes.push((start + 50_000, 2, true));
    }
    let seen = seen(&spi(), &["clock=c", "device=d", "select3=s3"], &changes);
    let LineObservations::Spi(spi) = &seen[0] else { panic!("{seen:?}") };
    assert_eq!((spi.words, spi.clocks, spi.selected_clocks, spi.selected), ([6, 0], 96, 96, 3));
    assert_eq!((spi.between_words, spi.period), (Some((3_000_000, 5_000_000)), Some(1_000_000)));
    // The last bit of the first frame is taken at 40,000, the first one of the second frame at 65,000.
    assert_eq!(spi.between_frames, Some((25_000_000, 25_000_000)));
}

#[test]
fn how_sure_a_baud_rate_is_follows_from_the_pulses() {
    // 0x55 at 100,000 baud: start bit low, then 1 0 1 0 1 0 1 0, stop bit high: pulses of 10 microseconds, of which one in each
    // character is half a microsecond longer and the next one as much shorter.
    let format = UartFormat::usual(100_000);
    let mut receiver = uart::Uart::new(format);
    let mut out = |_| {};
    let at = |nanoseconds: u64| Moment::from_picoseconds(nanoseconds * 1000);
    receiver.edge(at(0), Some(true), &mut out);
    for character in 0..40u64 {
        let start = 1_000_000 + character * 200_000;
        for edge in 0..10u64 {
            let shift = if edge == 3 { 500 } else { 0 };
            receiver.edge(at(start + edge * 10_000 + shift), Some(edge % 2 == 1), &mut out);
        }
    }
    receiver.until(at(20_000_000), &mut out);
    let seen = &receiver.observed;
    assert_eq!((seen.characters, seen.edges, seen.spread), (40, 401, Some((9_500_000, 10_500_000))));
    // Nine later edges in each, 10, 20, ... 90 microseconds after the start, the third one half a microsecond later.
    let (time, bits, count) = (450.5, 45.0, 9.0);
    let baud = seen.baud().unwrap();
    assert!((baud - bits / (time * 1e-6)).abs() < 0.5, "{baud}");
    assert!((seen.uncertainty() - 0.5 * count / time).abs() < 1e-6, "{}", seen.uncertainty());
}

#[test]
fn one_bit_in_front_of_a_transfer_is_the_start_of_the_recording() {
    let said = |left_out: u64| {
        let mut seen = i2c::I2cObservations::default();
        (seen.clocks, seen.data_changes, seen.starts, seen.stops, seen.left_out) = (100, 50, 3, 3, left_out);
        let all = findings(&LineObservations::I2c(100_000, seen), Moment::default());
        all.into_iter().filter(|finding| finding.text.contains("begins inside")).count()
    };
    assert_eq!((said(0), said(1), said(2)), (0, 0, 1));
}

#[test]
fn the_trace_of_a_part_has_its_level_and_its_edges() {
    let at = |nanoseconds: u64| Moment::from_picoseconds(nanoseconds * 1000);
    let wiring = Wiring { wires: vec![Wire::parse("device=a").unwrap()] };
    let trace = |most: usize| {
        let mut traces = Traces::new(&wiring, (at(100), at(200)), most, 10);
        let _ = traces.signals(&[Signal { name: "a".to_owned(), is_analog: false }]);
        for (time, value) in [
            (0, Value::Low),
            (50, Value::High),
            (120, Value::Low),
            (150, Value::High),
            (200, Value::Low),
            (230, Value::High),
        ] {
            let _ = traces.value(at(time), 0, value);
        }
        let _ = traces.until(at(300));
        traces.finish();
        (traces.traces[0].edges.clone(), traces.is_cut, traces.end)
    };
    let edges = [(100, true), (120, false), (150, true), (200, false)].map(|(time, level)| (at(time), Some(level)));
    assert_eq!(trace(100), (edges.to_vec(), false, at(300)));
    assert_eq!(trace(4), (edges.to_vec(), false, at(300)));
    assert_eq!(trace(3), (edges[..3].to_vec(), true, at(300)));
}

#[test]
fn a_survey_guesses_from_sixteen_edges_on() {
    let guess = |edges: u64| {
        let mut survey = Survey::new();
        let _ = survey.signals(&[Signal { name: "a".to_owned(), is_analog: false }]);
        let at = |n: u64| Moment::from_picoseconds(n * 1_000_000);
        for edge in 0..=edges {
            let _ = survey.value(at(edge), 0, if edge % 2 == 0 { Value::Low } else { Value::High });
        }
        let _ = survey.until(at(edges + 1));
        survey.finish();
        survey.guesses()[0]
    };
    assert!(guess(15).is_none(), "{:?}", guess(15));
    // A period of two microseconds.
    assert!(
        matches!(guess(16), Some(Guess::Clock { hertz, .. }) if (hertz - 500_000.0).abs() < 1.0),
        "{:?}",
        guess(16)
    );
}

/// The edges of characters of 8 data bits at 100,000 baud on a wire: each begins at a time in microseconds. `None` is a stop bit that is low.
fn characters(wire: usize, sent: &[(u64, u8, bool)]) -> Vec<(u64, usize, bool)> {
    let mut changes = Vec::new();
    for (start, byte, stops) in sent {
        let bits = (0..8).map(|bit| byte >> bit & 1 == 1);
        let levels = std::iter::once(false).chain(bits).chain([*stops, true]);
        changes.extend(levels.enumerate().map(|(bit, level)| ((start + bit as u64 * 10) * 1_000, wire, level)));
    }
    changes
}

#[test]
fn characters_between_which_the_line_rests_are_not_handed_on_together() {
    let medium = MediumKind::Uart(UartFormat::usual(100_000));
    let device = characters(0, &[(1_000, 0x11, true), (1_100, 0x22, true), (1_400, 0x33, true), (2_000, 0x66, true)]);
    let host = characters(1, &[(1_600, 0x44, true), (1_700, 0x55, true)]);
    let mut changes = [vec![(500_000, 0, true), (500_000, 1, true)], device, host].concat();
    changes.sort_by_key(|change| change.0);
    let (heard, _) = listened(&medium, &["device=a", "host=b"], &changes);
    let expected: [(End, &[u8]); 4] = [
        // One follows the other without a rest; the third comes after twenty bits.
        (End::Device, &[0x11, 0x22]),
        (End::Device, &[0x33]),
        (End::Host, &[0x44, 0x55]),
        (End::Device, &[0x66]),
    ];
    let expected = expected.map(|(end, bytes)| (Some(end), bytes.to_vec()));
    assert_eq!(heard.chunks, expected);
}

#[test]
fn a_character_with_a_flaw_is_time_that_is_broken() {
    let medium = MediumKind::Uart(UartFormat::usual(100_000));
    // Sixteen good ones, so that nobody doubts where they begin.
    let mut sent: Vec<(u64, u8, bool)> = (0..16).map(|n| (1_000 + n * 200, 0x55, true)).collect();
    sent.push((5_000, 0x55, false));
    let changes = [vec![(500_000, 0, true)], characters(0, &sent)].concat();
    let (heard, _) = listened(&medium, &["device=a"], &changes);
    let broken: Vec<_> = heard.spent.into_iter().filter(|(spent, ..)| *spent == Spent::Broken).collect();
    assert_eq!(broken, [(Spent::Broken, 5_000_000, 5_100_000)]);
}

#[test]
fn starts_and_stops_of_a_bus_of_two_wires_are_counted() {
    // Twice: a start, an address of eight bits with its answer, a stop; ten microseconds a step.
    let mut changes = vec![(1_000, 0, true), (2_000, 1, true)];
    for start in [100_000, 600_000] {
        changes.push((start, 1, false));
        for bit in 0..9u64 {
            let at = start + 10_000 + bit * 40_000;
            changes.extend([(at, 0, false), (at + 10_000, 1, bit == 2), (at + 20_000, 0, true)]);
        }
        let at = start + 370_000;
        changes.extend([(at, 0, false), (at + 10_000, 1, false), (at + 20_000, 0, true), (at + 30_000, 1, true)]);
    }
    let medium = MediumKind::I2c { hertz: 100_000 };
    let seen = seen(&medium, &["clock=c", "data=d"], &changes);
    let LineObservations::I2c(_, i2c) = &seen[0] else { panic!("{seen:?}") };
    // The data that rises at the beginning, while the clock is high, is a stop, too. Ten clocks are nine bits and the stop.
    assert_eq!((i2c.starts, i2c.stops, i2c.clocks), (2, 3, 21), "{i2c:?}");
}

#[test]
fn lines_in_front_of_the_samples_of_a_table_have_a_most() {
    let read = |lines: usize| {
        let table = format!("{}Time,A\n0,0\n1e-6,1\n", "made by an instrument\n".repeat(lines));
        table::read(table.as_bytes(), None, &[], &mut Enough::after(usize::MAX)).unwrap()
    };
    let (outcome, found) = read(999);
    assert_eq!((outcome.damage, found.preamble), (None, 999));
    let damage = read(1_000).0.damage.expect("too many");
    assert!(damage.reason.contains("no sample in the first 1000 lines"), "{}", damage.reason);
}

#[test]
fn a_line_that_keeps_its_level_inside_of_a_frame_is_read_up_to_a_limit() {
    let frame = BitFrame { preamble: None, start: Some(false), end: Some(true), is_lsb_first: true };
    let code = LineCode { bits: BitCode::Nrz { bitrate: 100_000 }, frame, rests_high: true };
    let mut receiver = Code::new(code);
    let mut out = Vec::new();
    let at = |microseconds: u64| Moment::from_picoseconds(microseconds * 1_000_000);
    receiver.edge(at(0), Some(true), &mut out);
    receiver.until(at(100_000), &mut out);
    // It falls, and stays low for an hour.
    receiver.edge(at(100_000), Some(false), &mut out);
    receiver.until(at(3_600_000_000), &mut out);
    let bits = receiver.seen().bits;
    assert!((900..=1_010).contains(&bits), "{bits} bits");
}

#[test]
fn names_that_are_not_found_are_told_with_those_that_are_there() {
    let signals = |count: usize| -> Vec<Signal> {
        (0..count).map(|n| Signal { name: format!("s{n}"), is_analog: false }).collect()
    };
    let known = |count: usize| match find(&signals(count), "missing") {
        Err(WiringError::NoSignal { known, .. }) => known,
        other => panic!("{other:?}"),
    };
    assert_eq!(known(2), "s0, s1");
    assert!(known(12).ends_with("s10, s11"), "{}", known(12));
    assert!(known(13).ends_with("s11, …"), "{}", known(13));
}

#[test]
fn overload_frames_are_a_finding_and_what_is_dominant_at_the_end_counts() {
    let at = |microseconds: u64| Moment::from_picoseconds(microseconds * 1_000_000);
    let speeds = can::Speeds { bitrate: 500_000, data_bitrate: None, sample: 80 };
    let said = |count: u64| {
        let mut seen = can::CanObservations::default();
        seen.edges = 100;
        (0..count).for_each(|n| seen.overloads.add(at(5 + n)));
        let all = findings(&LineObservations::Can(speeds, seen), Moment::default());
        all.into_iter().map(|finding| finding.text).find(|text| text.contains("overload"))
    };
    assert_eq!(said(0), None);
    assert!(said(2).is_some_and(|text| text.starts_with("2 overload frames, the first at ")), "{:?}", said(2));
    // Three microseconds in between, and four at the end.
    let mut receiver = can::Can::new(speeds);
    let mut out = Vec::new();
    for (time, is_recessive) in [(0, true), (100, false), (103, true), (200, false)] {
        receiver.edge(at(time), is_recessive, &mut out);
    }
    receiver.finish(at(204));
    assert_eq!(receiver.observed.dominant, 7_000_000);
}
