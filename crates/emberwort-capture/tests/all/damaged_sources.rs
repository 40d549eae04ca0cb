//! Captures of every form, cut at each byte and changed anywhere: no panic, sums that add up, and what came before the damage.

use std::path::Path;
use std::process::Command;
use std::sync::Arc;

use emberwort_capture::assign::Rule;
use emberwort_capture::items::Nothing;
use emberwort_capture::packing::Unpacked;
use emberwort_capture::records::{self, BytesForm, CellKind, Columns, Forms, Pattern, Pointers, Shape, TimeForm};
use emberwort_capture::{Decoder, Statistics, source};
use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_wire::{Framed, Header};

fn plan() -> Arc<Plan> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/marlock");
    let mut import = |_: &str, path: &str| {
        let text = std::fs::read_to_string(folder.join(path)).map_err(|error| error.to_string())?;
        Ok(emberwort_model::Source::new(path.to_owned(), text))
    };
    let text = std::fs::read_to_string(folder.join("marlock.ember")).unwrap();
    let checked =
        emberwort_model::check_with(emberwort_model::Source::new("marlock.ember".to_owned(), text), &mut import);
    Arc::new(checked.plan.expect("the example is clean"))
}

/// A capture, and what says what it does not say itself.
struct Capture {
    name: String,
    bytes: Vec<u8>,
    shape: Option<(Shape, Forms)>,
    rules: Vec<Rule>,
}

fn captures(plan: &Plan) -> Option<Vec<Capture>> {
    let folder = tempfile::tempdir().unwrap();
    let folder = folder.path();
    // Refusals: the smallest frames that are there.
    let message = plan.message_index("Refused").unwrap();
    let frame = |channel: &str, n: u64| {
        let channel = &plan.channels[plan.channel_index(channel).unwrap()];
        let framing = channel.framing(End::Device);
        let key = framing.plan().key_for(message, 3).unwrap();
        let mut wire = Vec::new();
        framing.encode(&Header { key, node: 3, sequence: n, revision: 4 }, &[0x40, 1], &mut wire).unwrap();
        wire.iter().map(|byte| format!("{byte:02x}")).collect::<String>()
    };
    let lines: String = (0..7u64)
        .map(|n| {
            format!("{} {} {}\n", 1_930_788_600_000_000_000 + n * 1_000_000, frame("house", n), frame("bus485", n))
        })
        .collect();
    std::fs::write(folder.join("frames.txt"), lines).unwrap();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../emberwort/tests/containers.py");
    let made = Command::new("python3").arg(script).arg(folder.join("frames.txt")).arg(folder).output();
    let made = match made {
        Ok(made) => made,
        Err(_) => {
            assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "python3 is needed");
            return None;
        }
    };
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let mut all = Vec::new();
    for line in String::from_utf8(made.stdout).unwrap().lines() {
        let (name, options) = (line.split('\t').next().unwrap(), line.split('\t').next_back().unwrap());
        let mut forms = Forms::default();
        let words: Vec<&str> = options.split('|').collect();
        let shape = match words[0] {
            "--lines" => Some(Shape::Lines(Pattern::parse(words[1], &mut forms).unwrap())),
            "--columns" => {
                forms.time = TimeForm::Milliseconds;
                Some(Shape::Table(Columns::parse(words[1]).unwrap()))
            }
            "--bytes-at" => {
                if words[3] == "base64" {
                    forms.bytes = BytesForm::Base64;
                }
                forms.time = TimeForm::Nanoseconds;
                let pointers = [(CellKind::Bytes, 1), (CellKind::Time, 5), (CellKind::Port, 9)];
                Some(Shape::Json(
                    Pointers::new(pointers.map(|(what, at)| (what, words[at].to_owned())).to_vec()).unwrap(),
                ))
            }
            _ => None,
        };
        let rules = options.strip_prefix("--assign ").map(|rule| Rule::parse(rule, plan).unwrap());
        let bytes = std::fs::read(folder.join(name)).unwrap();
        all.push(Capture {
            name: name.to_owned(),
            bytes,
            shape: shape.map(|shape| (shape, forms)),
            rules: rules.into_iter().collect(),
        });
    }
    Some(all)
}

fn decode(plan: &Arc<Plan>, capture: &Capture, bytes: &[u8]) -> Statistics {
    let on = capture.name.ends_with(".csv").then(|| plan.channel_index("house").unwrap());
    let mut demux = Decoder::new(plan.clone(), Nothing).demuxed().on(on).with_rules(capture.rules.clone());
    match &capture.shape {
        Some((shape, forms)) => {
            records::read(shape, *forms, bytes, &mut demux).unwrap();
        }
        None => {
            let mut unpacked = Unpacked::new(bytes).unwrap();
            let first = source::read_first(&mut unpacked).unwrap();
            let input = std::io::Read::chain(first.as_slice(), &mut unpacked);
            source::read(source::detect(&first), input, &mut demux).unwrap();
        }
    }
    let (_, statistics) = demux.into_sink().finish().unwrap();
    assert!(statistics.adds_up(), "{}", capture.name);
    statistics
}

#[test]
fn captures_that_are_cut_give_what_came_before() {
    let plan = plan();
    for capture in captures(&plan).into_iter().flatten() {
        let whole = decode(&plan, &capture, &capture.bytes);
        assert_eq!(whole.good_frames(), 7, "{}", capture.name);
        let mut before = 0;
        for end in 0..capture.bytes.len() {
            let frames = decode(&plan, &capture, &capture.bytes[..end]).good_frames();
            assert!(frames <= 7, "{} {end}", capture.name);
            // Parts of packets and of streams may wait for what is cut.
            if !capture.name.contains("stream") && !capture.name.ends_with(".gz") {
                // A last row may be whole, and with one byte more the start of a quoted cell.
                assert!(frames + 1 >= before, "{} {end}: {frames} {before}", capture.name);
            }
            before = frames;
        }
    }
}

/// Changes bytes of all captures, so many times each.
fn changed(times: u64) {
    let plan = plan();
    for (index, capture) in captures(&plan).into_iter().flatten().enumerate() {
        let mut state = 0x9E37_79B9_7F4A_7C15u64.wrapping_mul(index as u64 + 1);
        let mut random = move |below: usize| {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state % below as u64) as usize
        };
        for _ in 0..times {
            let mut bytes = capture.bytes.clone();
            for _ in 0..1 + random(3) {
                let at = random(bytes.len());
                match random(4) {
                    0 => bytes[at] = random(256) as u8,
                    1 => bytes[at] ^= 1 << random(8),
                    2 => {
                        bytes.remove(at);
                    }
                    _ => bytes.insert(at, random(256) as u8),
                }
            }
            decode(&plan, &capture, &bytes);
        }
    }
}

#[test]
fn captures_that_are_changed_anywhere_add_up() {
    changed(100);
}

#[test]
#[ignore = "a minute or two"]
fn captures_that_are_changed_ten_thousand_times_add_up() {
    changed(if std::env::var_os("EMBERWORT_SMALL").is_some() { 1_000 } else { 10_000 });
}
