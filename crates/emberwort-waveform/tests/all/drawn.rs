//! Lines of random settings with random traffic, drawn and recorded by an instrument in every form of file, hold what went over them.

use std::io::Cursor;
use std::ops::ControlFlow;

use emberwort_model::ids::ChannelId;
use emberwort_model::medium::{BitCode, BitFrame, LineCode, MediumKind, Pulse, SpiWords, UartFormat, UsbSpeed};
use emberwort_model::model::End;
use emberwort_waveform::drawing::files::{FileForm, FileRecord};
use emberwort_waveform::drawing::instrument::{Instrument, Settings, Volts};
use emberwort_waveform::drawing::{Drawing, Transfer};
use emberwort_waveform::findings::{Finding, Kind, findings};
use emberwort_waveform::listener::LineObservations;
use emberwort_waveform::sources::samples::{Number, Sample};
use emberwort_waveform::sources::{samples, sound, table, vcd};
use emberwort_waveform::wiring::Threshold;
use emberwort_waveform::{LineSink, Listener, Moment, Outcome, Signal, Value, WaveSink, Wire, Wiring};
use emberwort_wire::{Chunk, ChunkSink, Spent, Time, Timeline};
use proptest::prelude::*;

/// What went over a line at once.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Sent {
    from_host: bool,
    key: Option<u64>,
    node: u64,
    bytes: Vec<u8>,
    /// Bits of rest in front of it.
    pause: u64,
}

/// Who said a chunk, its key and node, as far as the line says them, and its bytes.
type HeardChunk = (Option<End>, Option<u64>, Option<u64>, Vec<u8>);

/// What was heard.
#[derive(Debug, Default)]
struct Heard {
    chunks: Vec<HeardChunk>,
    nodes: Vec<u64>,
}

impl ChunkSink for Heard {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        let node = (chunk.stream.tap as usize).checked_sub(1).map(|tap| self.nodes[tap]);
        self.chunks.push((chunk.stream.from, chunk.key, node, chunk.bytes.to_vec()));
        ControlFlow::Continue(())
    }
}

impl LineSink for Heard {
    fn bind_tap(&mut self, tap: u32, node: u64) {
        assert_eq!(tap as usize, self.nodes.len() + 1);
        self.nodes.push(node);
    }
}

/// Seconds of a bit.
fn bit_seconds(medium: &MediumKind) -> f64 {
    match medium {
        MediumKind::Uart(format) => 1.0 / f64::from(format.baud),
        MediumKind::Spi { hertz, .. } | MediumKind::I2c { hertz } => 1.0 / f64::from(*hertz),
        MediumKind::Can { bitrate, .. } => 1.0 / f64::from(*bitrate),
        MediumKind::Usb { speed } => 1.0 / f64::from(speed.bitrate()),
        MediumKind::Line(code) => code.bit_picoseconds() as f64 * 1e-12,
        _ => unreachable!(),
    }
}

fn drawn(medium: &MediumKind, sent: &[Sent], settings: &Settings, form: FileForm) -> (Vec<(String, bool)>, Vec<u8>) {
    let mut nodes: Vec<u64> = sent.iter().map(|sent| sent.node).collect();
    nodes.sort_unstable();
    nodes.dedup();
    let mut drawing = Drawing::new(medium, &nodes, settings.baud_error).unwrap();
    let wires: Vec<(String, bool)> = drawing.wires().iter().map(|(role, level)| (role.to_string(), *level)).collect();
    let record = FileRecord::new(form, 5.0, Cursor::new(Vec::new()));
    let mut instrument = Instrument::new(settings.clone(), &wires, record, 7);
    let bit = bit_seconds(medium) * 1e12;
    // Frames are told after a rest that is longer than any silence.
    let mut now = Moment::from_picoseconds((40.0 * bit) as u64);
    for sent in sent {
        let mut changes = Vec::new();
        let transfer = Transfer { from_host: sent.from_host, key: sent.key, node: sent.node, bytes: &sent.bytes };
        let (_, end) = drawing.draw(now.after((sent.pause as f64 * bit) as u64), transfer, &mut changes);
        instrument.changes(&changes, true);
        now = end;
    }
    let end = now.after((60.0 * bit) as u64);
    let (record, _) = instrument.finish(end).unwrap();
    (wires, record.into_inner().into_inner())
}

fn read(form: FileForm, file: &[u8], rate: u64, channels: usize, sink: &mut Listener<Heard>) -> Outcome {
    match form {
        FileForm::Dump => vcd::read(file, sink).unwrap(),
        FileForm::Table => table::read(file, None, &[], sink).unwrap().0,
        FileForm::Sound => sound::read(file, sink).unwrap(),
        FileForm::Bits(bytes) => samples::read(file, Sample::Bits(bytes), rate, sink).unwrap(),
        FileForm::Integers => samples::read(file, Sample::Numbers(Number::I16, channels), rate, sink).unwrap(),
        FileForm::Floats => samples::read(file, Sample::Numbers(Number::F32, channels), rate, sink).unwrap(),
    }
}

fn round_trip(
    medium: &MediumKind,
    sent: &[Sent],
    settings: &Settings,
    form: FileForm,
) -> (Heard, Vec<LineObservations>) {
    let (wires, file) = drawn(medium, sent, settings, form);
    let wires_of = |(n, (role, _)): (usize, &(String, bool))| {
        let front = if matches!(form, FileForm::Bits(_)) { 'D' } else { 'A' };
        let signal = match form {
            FileForm::Dump | FileForm::Table => role.clone(),
            _ => format!("{front}{n}"),
        };
        let mut wire = Wire::parse(&format!("{role}={signal}")).unwrap();
        wire.threshold = match (form, settings.volts) {
            (FileForm::Sound | FileForm::Integers, Some(volts)) => {
                Some(Threshold { at: f64::midpoint(volts.low, volts.high) / 5.0, hysteresis: 0.06 })
            }
            (_, Some(volts)) => Some(Threshold { at: f64::midpoint(volts.low, volts.high), hysteresis: 0.3 }),
            (FileForm::Sound | FileForm::Integers, None) => Some(Threshold { at: 0.1, hysteresis: 0.0 }),
            (FileForm::Floats | FileForm::Table, None) => Some(Threshold { at: 0.5, hysteresis: 0.0 }),
            _ => None,
        };
        wire
    };
    let wiring = Wiring { wires: wires.iter().enumerate().map(wires_of).collect() };
    let mut listener = Listener::new(ChannelId::default(), medium, wiring, 0, Heard::default()).unwrap();
    let outcome = read(form, &file, settings.rate, wires.len(), &mut listener);
    assert_eq!(listener.problem(), None);
    assert_eq!((outcome.damage, outcome.bytes), (None, file.len() as u64));
    let length = listener.now();
    let (heard, seen, dropped) = listener.finish();
    assert_eq!(dropped, 0, "{medium:?}");
    // A wire on which nobody sends shows nothing, and a recording may be nearly all frames.
    let is_wrong = |finding: &Finding| !matches!(finding.kind, Kind::Nothing | Kind::Inverted);
    let wrong: Vec<Finding> = seen.iter().flat_map(|seen| findings(seen, length)).filter(is_wrong).collect();
    assert_eq!(wrong, [], "{medium:?} {seen:?}");
    (heard, seen)
}

/// All bytes of one end, as on a line whose bytes are not told apart.
fn bytes_of(heard: &Heard, end: End) -> Vec<u8> {
    heard.chunks.iter().filter(|chunk| chunk.0 == Some(end)).flat_map(|chunk| chunk.3.clone()).collect()
}

fn packets(heard: &Heard) -> Vec<(Option<u64>, Option<u64>, Vec<u8>)> {
    heard.chunks.iter().map(|(_, key, node, bytes)| (*key, *node, bytes.clone())).collect()
}

fn forms() -> impl Strategy<Value = FileForm> {
    prop::sample::select(FileForm::ALL.map(|(_, form)| form).to_vec())
}

/// An instrument that takes enough samples, with some jitter, and perhaps with volts.
fn settings(bit: f64, form: FileForm) -> impl Strategy<Value = Settings> {
    let volts = prop_oneof![
        Just(None),
        Just(Some(Volts { low: 0.1, high: 3.3, noise: 0.02, slope: 0, ringing: None })),
        Just(Some(Volts { low: -2.0, high: 2.0, noise: 0.02, slope: (bit * 0.1e12) as u64, ringing: None })),
    ];
    (8.0..24.0f64, 0..3u64, volts).prop_map(move |(samples, jitter, volts)| {
        let is_bits = matches!(form, FileForm::Bits(_));
        Settings {
            rate: (samples / bit) as u64 + 1,
            jitter: (bit * 1e12) as u64 * jitter / 100,
            volts: volts.filter(|_| !is_bits),
            ..Settings::default()
        }
    })
}

fn sent(longest: usize, is_host: bool) -> impl Strategy<Value = Sent> {
    (any::<bool>(), 0..4u64, prop::collection::vec(any::<u8>(), 1..longest), 0..30u64).prop_map(
        move |(from_host, node, bytes, pause)| Sent { from_host: from_host || is_host, key: None, node, bytes, pause },
    )
}

fn uarts() -> impl Strategy<Value = UartFormat> {
    let parity = prop::sample::select(vec!['N', 'E', 'O', 'M', 'S']);
    (300..2_000_000u32, 5..=9u8, parity, 2..=4u8, any::<bool>(), any::<bool>()).prop_map(
        |(baud, data_bits, parity, stop_halves, rests_low, is_msb_first)| UartFormat {
            baud,
            data_bits,
            parity,
            stop_halves,
            rests_low,
            is_msb_first,
        },
    )
}

fn spis() -> impl Strategy<Value = SpiWords> {
    let select = prop::sample::select(vec![None, Some(false), Some(true)]);
    let edge = || prop::option::weighted(0.2, any::<bool>());
    (0..4u8, 1..=64u8, any::<bool>(), select, [edge(), edge()]).prop_map(|(mode, bits, is_lsb_first, select, edges)| {
        SpiWords { mode, bits, is_lsb_first, select, edges, words: None }
    })
}

fn speeds() -> impl Strategy<Value = UsbSpeed> {
    prop::sample::select(vec![UsbSpeed::Low, UsbSpeed::Full])
}

fn codes() -> impl Strategy<Value = LineCode> {
    let bits = (any::<bool>(), prop::option::of(2..7u8), 1_000..500_000u32, 0..5usize, 0..5usize).prop_map(
        |(bit, stuff, bitrate, kind, what)| match kind {
            0 => BitCode::Nrz { bitrate },
            1 => BitCode::Nrzi { bitrate, toggles: bit, stuff },
            2 => BitCode::Manchester { bitrate, one_rises: bit },
            3 => BitCode::Differential { bitrate, splits: bit },
            _ => {
                let (short, long) = ((40_000, 60_000), (90_000, 120_000));
                let (zero, one) = if bit { (short, long) } else { (long, short) };
                BitCode::Pulse { what: Pulse::ALL[what].1, zero, one }
            }
        },
    );
    let frame =
        (prop::option::of((2..20u16, any::<bool>())), prop::option::of(any::<bool>()), any::<bool>(), any::<bool>())
            .prop_map(|(preamble, start, has_end, is_lsb_first)| BitFrame {
                preamble,
                start,
                end: start.map(|start| !start).filter(|_| has_end),
                is_lsb_first,
            });
    (bits, frame, any::<bool>())
        .prop_map(|(bits, frame, rests_high)| LineCode { bits, frame, rests_high })
        .prop_filter("a receiver can read it", |code| code.cannot_be_read().is_none())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: std::env::var("EMBERWORT_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(60), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn asynchronous_lines_are_read((format, form, settings, sent) in (uarts(), forms()).prop_flat_map(|(format, form)| {
        let bit = 1.0 / f64::from(format.baud);
        (Just(format), Just(form), settings(bit, form), prop::collection::vec(sent(12, false), 1..8))
    })) {
        let mask = (1u32 << format.data_bits.min(8)) as u8;
        let mut sent = sent;
        for sent in &mut sent {
            sent.bytes.iter_mut().for_each(|byte| *byte &= mask.wrapping_sub(1));
        }
        let (heard, _) = round_trip(&MediumKind::Uart(format), &sent, &settings, form);
        for (end, from_host) in [(End::Device, false), (End::Host, true)] {
            let said: Vec<u8> = sent.iter().filter(|sent| sent.from_host == from_host).flat_map(|sent| sent.bytes.clone()).collect();
            prop_assert_eq!(bytes_of(&heard, end), said, "{:?} {:?}", format, form);
        }
    }

    #[test]
    fn peripheral_interfaces_are_read((words, hertz, form, settings, sent) in (spis(), 1_000..20_000_000u32, forms()).prop_flat_map(|(words, hertz, form)| {
        (Just(words), Just(hertz), Just(form), settings(1.0 / f64::from(hertz), form), prop::collection::vec(sent(6, false), 1..6))
    })) {
        let mut sent = sent;
        for sent in &mut sent {
            // Whole words, of which only as many bits as they have are sent.
            let size = words.bytes();
            sent.bytes.resize(sent.bytes.len().div_ceil(size) * size, 0x5A);
            let over = 8 * size - usize::from(words.bits);
            for word in sent.bytes.chunks_mut(size) {
                let first = if words.is_lsb_first { size - 1 } else { 0 };
                word[first] &= 0xFF >> over;
            }
        }
        let (heard, _) = round_trip(&MediumKind::Spi { hertz, words }, &sent, &settings, form);
        let many = sent.iter().any(|other| other.node != sent[0].node);
        let said: Vec<_> = sent.iter().map(|sent| (sent.from_host, (words.select.is_some() && many).then_some(sent.node), sent.bytes.clone())).collect();
        let of_senders: Vec<_> = heard.chunks.iter().filter(|chunk| chunk.3.iter().any(|byte| *byte != 0)).collect();
        let nonzero: Vec<_> = said.iter().filter(|said| said.2.iter().any(|byte| *byte != 0)).collect();
        prop_assert_eq!(of_senders.len(), nonzero.len(), "{:?} {:?} {:?}", words, heard, said);
        for (heard, said) in of_senders.iter().zip(&nonzero) {
            prop_assert_eq!((heard.0 == Some(End::Host), heard.2, &heard.3), (said.0, said.1, &said.2), "{:?}", words);
        }
    }

    #[test]
    fn two_wire_buses_are_read((hertz, form, settings, sent, long) in (1_000..1_000_000u32, forms()).prop_flat_map(|(hertz, form)| {
        (Just(hertz), Just(form), settings(1.0 / f64::from(hertz), form), prop::collection::vec(sent(6, false), 1..6), any::<bool>())
    })) {
        let mut sent = sent;
        for sent in &mut sent {
            sent.node += if long { 0x2F0 } else { 0x30 };
        }
        let (heard, seen) = round_trip(&MediumKind::I2c { hertz }, &sent, &settings, form);
        let said: Vec<_> = sent.iter().map(|sent| (Some(if sent.from_host { End::Host } else { End::Device }), None, Some(sent.node), sent.bytes.clone())).collect();
        prop_assert_eq!(heard.chunks, said);
        let LineObservations::I2c(_, seen) = &seen[0] else { panic!() };
        prop_assert_eq!((seen.halves.count, seen.refused.count, seen.no_answer.count, seen.left_out, seen.empty), (0, 0, 0, 0, 0));
    }

    #[test]
    fn controller_area_networks_are_read((bitrate, data, sample, form, settings, sent, keys) in (10_000..500_000u32, prop::option::of(1..8u32), 60..90u8, forms()).prop_flat_map(|(bitrate, data, sample, form)| {
        let bit = 1.0 / f64::from(bitrate) / f64::from(data.unwrap_or(1));
        (Just(bitrate), Just(data), Just(sample), Just(form), settings(bit, form), prop::collection::vec(sent(65, false), 1..6), prop::collection::vec((any::<bool>(), any::<u32>()), 6))
    })) {
        let mut sent = sent;
        for (sent, (extended, key)) in sent.iter_mut().zip(&keys) {
            let most = if data.is_some() { 64 } else { 8 };
            sent.bytes.truncate(most);
            let size = [8, 12, 16, 20, 24, 32, 48, 64].into_iter().find(|size| *size >= sent.bytes.len()).unwrap();
            if sent.bytes.len() > 8 {
                sent.bytes.resize(size, 0);
            }
            sent.key = Some(if *extended { u64::from(*key & 0x1FFF_FFFF) | emberwort_model::plan::EXTENDED_ID } else { u64::from(*key & 0x7FF) });
        }
        let medium = MediumKind::Can { bitrate, data_bitrate: data.map(|times| times * bitrate), sample: Some(sample) };
        // The jitter is that of the fast bits, and not more than what is left behind the sample point.
        let settings = Settings { jitter: settings.jitter / 2, ..settings };
        let (heard, seen) = round_trip(&medium, &sent, &settings, form);
        let said: Vec<_> = sent.iter().map(|sent| (sent.key, None, sent.bytes.clone())).collect();
        prop_assert_eq!(packets(&heard), said, "{:?} {:?}", medium, seen);
    }

    #[test]
    fn universal_serial_buses_are_read((speed, form, settings, sent, endpoints) in (speeds(), forms()).prop_flat_map(|(speed, form)| {
        let bit = 1.0 / f64::from(speed.bitrate());
        (Just(speed), Just(form), settings(bit, form), prop::collection::vec(sent(65, false), 1..6), prop::collection::vec(0..16u64, 6))
    })) {
        let mut sent = sent;
        for (sent, endpoint) in sent.iter_mut().zip(&endpoints) {
            sent.bytes.truncate(speed.most_acknowledged());
            sent.key = Some(endpoint | if sent.from_host { 0 } else { 0x80 });
            sent.node += 124 - endpoint;
        }
        let medium = MediumKind::Usb { speed };
        let (heard, seen) = round_trip(&medium, &sent, &settings, form);
        let said: Vec<_> = sent.iter().map(|sent| (Some(if sent.from_host { End::Host } else { End::Device }), sent.key, Some(sent.node), sent.bytes.clone())).collect();
        prop_assert_eq!(heard.chunks, said, "{:?}", seen);
    }

    #[test]
    fn lines_of_any_code_are_read((code, form, settings, sent) in (codes(), forms()).prop_flat_map(|(code, form)| {
        // Half a bit is what has to be seen, and of pulses the difference between them.
        let bit = match code.bits {
            BitCode::Pulse { .. } => 2e-5,
            _ => code.bit_picoseconds() as f64 * 0.5e-12,
        };
        (Just(code), Just(form), settings(bit, form), prop::collection::vec(sent(8, false), 1..6))
    })) {
        let settings = Settings { jitter: if matches!(code.bits, BitCode::Pulse { .. }) { 0 } else { settings.jitter / 2 }, ..settings };
        let (heard, seen) = round_trip(&MediumKind::Line(code), &sent, &settings, form);
        let said: Vec<_> = sent.iter().map(|sent| (None, None, sent.bytes.clone())).collect();
        prop_assert_eq!(packets(&heard), said, "{} {:?}", code, seen);
    }

    /// Levels that nobody sent, on lines of any kind: no panic, and bytes have times in order.
    #[test]
    fn noise_does_no_harm((medium, changes) in (media(), prop::collection::vec((0..4usize, 0..3u8, 0..400_000u64), 0..400))) {
        let mut drawing = Drawing::new(&medium, &[], 0.0).unwrap();
        let _ = drawing.draw(Moment::default(), Transfer { from_host: false, key: None, node: 0, bytes: &[] }, &mut Vec::new());
        let roles: Vec<String> = drawing.wires().iter().map(|(role, _)| role.to_string()).collect();
        let wires = roles.iter().map(|role| Wire::parse(&format!("{role}={role}")).unwrap()).collect();
        let mut listener = Listener::new(ChannelId::default(), &medium, Wiring { wires }, 1, Timed::default()).unwrap().deglitched(2_000);
        let signals: Vec<Signal> = roles.iter().map(|name| Signal { name: name.clone(), is_analog: false }).collect();
        prop_assert!(listener.signals(&signals).is_continue());
        let mut now = Moment::default();
        for (wire, level, after) in changes {
            now = now.after(after * 1000);
            let value = [Value::Low, Value::High, Value::Unknown][usize::from(level)];
            let _ = listener.value(now, wire % roles.len(), value);
            let _ = listener.until(now.after(after));
        }
        let length = listener.now();
        let (timed, seen, _) = listener.finish();
        // Only what came behind the first level was looked at.
        if let Some(from) = timed.from {
            prop_assert_eq!(timed.line.account().length(), length.time().since(from));
        }
        for seen in &seen {
            let _ = findings(seen, length);
        }
    }
}

/// Sees that bytes end behind their beginnings, and that all time is accounted for.
#[derive(Debug, Default)]
struct Timed {
    from: Option<Time>,
    line: Timeline,
}

impl ChunkSink for Timed {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        if let emberwort_wire::Times::Each(times) = chunk.times {
            assert_eq!(times.len(), chunk.bytes.len());
            assert!(times.iter().all(|time| time.start <= time.end), "{times:?}");
        }
        ControlFlow::Continue(())
    }
}

impl LineSink for Timed {
    fn bind_tap(&mut self, _: u32, _: u64) {}

    fn spent(&mut self, spent: Spent, from: Time, until: Time) {
        if spent == Spent::Rest {
            self.from.get_or_insert(from);
        }
        self.line.add(spent, from, until);
    }
}

/// Lines of any kind.
fn media() -> impl Strategy<Value = MediumKind> {
    prop_oneof![
        uarts().prop_map(MediumKind::Uart),
        (spis(), 10_000..5_000_000u32).prop_map(|(words, hertz)| MediumKind::Spi { hertz, words }),
        (10_000..500_000u32).prop_map(|hertz| MediumKind::I2c { hertz }),
        (10_000..500_000u32, prop::option::of(1..8u32), 50..=95u8).prop_map(|(bitrate, data, sample)| {
            MediumKind::Can { bitrate, data_bitrate: data.map(|times| times * bitrate), sample: Some(sample) }
        }),
        codes().prop_map(MediumKind::Line),
        speeds().prop_map(|speed| MediumKind::Usb { speed }),
    ]
}
