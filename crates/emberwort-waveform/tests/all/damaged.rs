//! Waveforms cut at each byte, and changed at random: no panic, times in order, every byte accounted for, and what came before is told.

use std::io;
use std::ops::ControlFlow;

use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{MediumKind, UartFormat};
use emberwort_waveform::sources::{samples, sound, table, vcd};
use emberwort_waveform::wiring::Threshold;
use emberwort_waveform::{LineSink, Listener, Moment, Outcome, Signal, Value, WaveSink, Wire, Wiring};
use emberwort_wire::{Chunk, ChunkSink, Spent, Time, Timeline};
use proptest::prelude::*;

/// Notes all that comes, and that it comes in order.
#[derive(Clone, Debug, Default, PartialEq)]
struct Log {
    signals: Option<usize>,
    values: Vec<(Moment, usize, Value)>,
    now: Moment,
}

impl WaveSink for Log {
    fn signals(&mut self, signals: &[Signal]) -> ControlFlow<()> {
        assert!(self.signals.replace(signals.len()).is_none(), "signals are told once");
        ControlFlow::Continue(())
    }

    fn value(&mut self, at: Moment, signal: usize, value: Value) -> ControlFlow<()> {
        assert!(at >= self.now && Some(signal) < self.signals);
        self.now = at;
        self.values.push((at, signal, value));
        ControlFlow::Continue(())
    }

    fn until(&mut self, at: Moment) -> ControlFlow<()> {
        assert!(at >= self.now && self.signals.is_some());
        self.now = at;
        ControlFlow::Continue(())
    }
}

const DUMP: &str = "$date now $end $timescale 10 ns $end\n$scope module top $end\n$var wire 1 ! clk $end\n\
                    $var reg 4 \" bus [3:0] $end\n$var real 64 # v $end\n$scope module in $end\n$var wire 1 ! same $end\n\
                    $upscope $end\n$upscope $end\n$enddefinitions $end\n#0\n$dumpvars\n0!\nbx \"\nr0.5 #\n$end\n#3\n1!\nb101 \"\n\
                    #7\n0!\nb1111 \"\nr-1.25e0 #\n$dumpoff\nx!\nbz \"\n$end\n#20\n";

const TABLE: &str = "Model,none\n\nTime,CH1,CH2\n0,0.1,3.3\n1e-6,0.2,0.1\n2e-6,,0.1\nend\n3e-6,3.2,0.1\n";

type Read = fn(&[u8], &mut Log) -> io::Result<Outcome>;

const SOURCES: [(&str, Read); 5] = [
    ("dump", |bytes, log| vcd::read(bytes, log)),
    ("table", |bytes, log| table::read(bytes, None, &[], log).map(|(outcome, _)| outcome)),
    ("sound", |bytes, log| sound::read(bytes, log)),
    ("bits", |bytes, log| samples::read(bytes, samples::Sample::Bits(2), 1_000_000, log)),
    ("numbers", |bytes, log| samples::read(bytes, samples::Sample::Numbers(samples::Number::F32, 1), 1_000_000, log)),
];

fn whole(name: &str) -> Vec<u8> {
    match name {
        "dump" => DUMP.as_bytes().to_vec(),
        "table" => TABLE.as_bytes().to_vec(),
        "sound" => {
            // Two channels of 16 bits, 8,000 samples a second, a part that says nothing in front, and one behind.
            let mut bytes =
                b"RIFF\x00\x00\x00\x00WAVELIST\x04\x00\x00\x00INFOfmt \x10\x00\x00\x00\x01\x00\x02\x00".to_vec();
            bytes.extend(b"\x40\x1f\x00\x00\x00\x7d\x00\x00\x04\x00\x10\x00data\xc8\x00\x00\x00");
            bytes.extend((0..100u16).flat_map(|n| (n / 9 * 2000).to_le_bytes()));
            bytes.extend(b"LIST\x04\x00\x00\x00INFO");
            bytes
        }
        _ => (0..200u32).flat_map(|n| (n / 7 * 0x0101).to_le_bytes()).collect(),
    }
}

fn read(source: Read, bytes: &[u8]) -> (Log, Outcome) {
    let mut log = Log::default();
    let outcome = source(bytes, &mut log).expect("memory can be read");
    assert!(outcome.bytes <= bytes.len() as u64);
    if let Some(damage) = &outcome.damage {
        assert!(damage.offset <= bytes.len() as u64 && !damage.reason.is_empty());
    } else {
        assert_eq!(outcome.bytes, bytes.len() as u64, "every byte was understood, or there is damage");
    }
    (log, outcome)
}

#[test]
fn a_dump_tells_scopes_vectors_reals_and_unknown_levels() {
    let (log, outcome) = read(SOURCES[0].1, DUMP.as_bytes());
    assert_eq!((outcome.damage, log.signals), (None, Some(7)));
    let at = |units: u64| Moment::from_picoseconds(units * 10_000);
    let of = |signal: usize| -> Vec<(Moment, Value)> {
        log.values.iter().filter(|(_, of, _)| *of == signal).map(|(at, _, value)| (*at, *value)).collect()
    };
    use Value::{High, Low, Number, Unknown};
    let clock = vec![(at(0), Low), (at(3), High), (at(7), Low), (at(7), Unknown)];
    assert_eq!((of(0), of(6)), (clock.clone(), clock));
    // A short value is filled up on the left: `b101` is 0101, `bx` is all unknown.
    assert_eq!(of(1), [(at(0), Unknown), (at(3), Low), (at(7), High), (at(7), Unknown)]);
    assert_eq!(of(4)[1..3], [(at(3), High), (at(7), High)]);
    assert_eq!(of(5), [(at(0), Number(0.5)), (at(7), Number(-1.25))]);
    assert_eq!(log.now, at(20));
}

#[test]
fn what_is_cut_tells_what_came_before() {
    for (name, source) in SOURCES {
        let bytes = whole(name);
        let (all, _) = read(source, &bytes);
        assert!(all.values.len() >= 5, "{name}");
        for end in 0..bytes.len() {
            let (some, _) = read(source, &bytes[..end]);
            time_adds_up(source, &bytes[..end]);
            // A number that is cut may be another one; what came before it is the same.
            let same = some.values.len().min(all.values.len()).saturating_sub(2);
            assert_eq!(some.values[..same], all.values[..same], "{name} {end}");
        }
    }
}

/// Bytes of a source with some of them changed, left out, or repeated.
fn changed(bytes: &[u8], changes: &[(usize, u8, u8)]) -> Vec<u8> {
    let mut changed = bytes.to_vec();
    for (at, how, byte) in changes {
        let at = at % (changed.len() + 1);
        match how % 4 {
            0 if at < changed.len() => changed[at] = *byte,
            1 if at < changed.len() => drop(changed.remove(at)),
            2 => changed.insert(at, *byte),
            _ => {
                let end = (at + usize::from(*byte)).min(changed.len());
                let piece = changed[at..end].to_vec();
                changed.splice(at..at, piece);
            }
        }
    }
    changed
}

/// All time of a waveform that is read as a serial line on its first signal is accounted for.
fn time_adds_up(source: Read, bytes: &[u8]) {
    #[derive(Default)]
    struct Line(Timeline, Option<Time>);
    impl ChunkSink for Line {
        fn chunk(&mut self, _: &Chunk<'_>) -> ControlFlow<()> {
            ControlFlow::Continue(())
        }
    }
    impl LineSink for Line {
        fn bind_tap(&mut self, _: u32, _: u64) {}

        fn spent(&mut self, spent: Spent, from: Time, until: Time) {
            self.1 = self.1.or(Some(from));
            self.0.add(spent, from, until);
        }
    }
    // The first signal of whatever there is: the changes of a log go on to a line.
    let (log, _) = read(source, bytes);
    let wire = Wire { threshold: Some(Threshold { at: 0.5, hysteresis: 0.1 }), ..Wire::parse("device=a").unwrap() };
    let medium = MediumKind::Uart(UartFormat::usual(100_000));
    let mut listener =
        Listener::new(ChannelId::default(), &medium, Wiring { wires: vec![wire] }, 0, Line::default()).unwrap();
    assert!(listener.signals(&[Signal { name: "a".to_owned(), is_analog: false }]).is_continue());
    for (at, _, value) in log.values.iter().filter(|(_, signal, _)| *signal == 0) {
        assert!(listener.value(*at, 0, *value).is_continue());
    }
    assert!(listener.until(log.now).is_continue());
    let (line, ..) = listener.finish();
    let length = line.1.map_or(0, |from| log.now.time().since(from));
    assert_eq!(line.0.account().length(), length);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2_500))]

    #[test]
    fn what_is_changed_does_no_harm(source in 0..SOURCES.len(), changes in prop::collection::vec((any::<usize>(), any::<u8>(), any::<u8>()), 1..6)) {
        let (name, read_it) = SOURCES[source];
        time_adds_up(read_it, &changed(&whole(name), &changes));
    }
}

/// The same for 10,000 changes of each: `cargo test -p emberwort-waveform -- --ignored`.
#[test]
#[ignore = "long"]
fn ten_thousand_changes_of_each_do_no_harm() {
    let mut random = 1u64;
    let mut next = || {
        random = random.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (random >> 33) as usize
    };
    for (name, source) in SOURCES {
        let bytes = whole(name);
        for _ in 0..10_000 {
            let changes: Vec<_> = (0..next() % 6 + 1).map(|_| (next(), next() as u8, next() as u8)).collect();
            time_adds_up(source, &changed(&bytes, &changes));
        }
    }
}

/// Who has enough of a sound file does not hear that it ends too early.
#[test]
fn a_part_of_a_sound_file_is_no_damage() {
    struct First;
    impl WaveSink for First {
        fn signals(&mut self, _: &[Signal]) -> ControlFlow<()> {
            ControlFlow::Continue(())
        }
        fn value(&mut self, _: Moment, _: usize, _: Value) -> ControlFlow<()> {
            ControlFlow::Break(())
        }
        fn until(&mut self, _: Moment) -> ControlFlow<()> {
            ControlFlow::Break(())
        }
    }
    assert_eq!(sound::read(whole("sound").as_slice(), &mut First).unwrap().damage, None);
    let cut = &whole("sound")[..120];
    let damage = sound::read(cut, &mut Log::default()).unwrap().damage.unwrap();
    assert!(damage.reason.starts_with("the sound file ends before all samples"), "{damage:?}");
}
