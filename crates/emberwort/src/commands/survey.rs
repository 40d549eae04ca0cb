//! `survey`: what is on the wires of a waveform, and what that probably is.

use std::io::Write as _;
use std::path::Path;

use anyhow::Context;
use emberwort_model::diagnostics::escaped;
use emberwort_rows::Paint;
use emberwort_waveform::survey::{Guess, SignalObservations, Survey, usual_baud, usual_bitrate};
use serde_json::{Value as Json, json};

use crate::cli::{SurveyArgs, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::reading::opening::{input_name, open};
use crate::reading::waveforms::{WaveformForm, hear};
use crate::render::plural;
use crate::render::table::table;

pub fn run(args: &SurveyArgs, look: Look) -> anyhow::Result<Ending> {
    let shown = input_name(&args.file);
    let cannot_be_read = || format!("{shown} cannot be read");
    let form = WaveformForm { sample: args.sample, rate: args.rate, channels: args.channels, columns: &[] };
    let mut survey = Survey::new();
    let mut heard = hear(open(&args.file, false).with_context(cannot_be_read)?, form, &mut survey)?;
    // Levels of numbers are known at the end; pulses take a second look, which standard input does not allow.
    if survey.has_numbers() && args.file != Path::new("-") {
        survey = survey.again();
        heard = hear(open(&args.file, false).with_context(cannot_be_read)?, form, &mut survey)?;
    }
    survey.finish();
    let mut out = output::stdout();
    match args.form {
        TableForm::Table => {
            out.write_all(shown_table(&survey).as_bytes())?;
            for line in advice(&survey) {
                writeln!(out, "{}", crate::render::wrapped(&line))?;
            }
        }
        TableForm::Ndjson => {
            for (seen, guess) in survey.signals.iter().zip(survey.guesses()) {
                writeln!(out, "{}", object(seen, guess))?;
            }
        }
    }
    out.flush()?;
    for remark in heard.remark.into_iter().chain(heard.note) {
        say!("{remark}");
    }
    if survey.has_numbers() && args.file == Path::new("-") {
        say!("pulses of signals with numbers are found by reading twice: give a file in place of standard input");
    }
    for seen in survey.signals.iter().filter(|seen| seen.edges > 0) {
        let shortest = seen.widths.iter().filter(|widths| widths.count > 0).map(|widths| widths.shortest).min();
        let by_rate = args.rate.and_then(|rate| shortest.map(|shortest| shortest as f64 * rate as f64 / 1e12));
        let samples = by_rate.or_else(|| seen.samples_of_shortest());
        if let Some(samples) = samples.filter(|samples| *samples < 3.5) {
            let name = escaped(&seen.name);
            say!(
                "the shortest pulse of `{name}` is {} long: sample faster, to be sure of what it is",
                plural(format!("{samples:.0}"), "sample")
            );
        }
    }
    if let Some(damage) = heard.outcome.damage {
        let (offset, reason) = (damage.offset, escaped(&damage.reason));
        say!("{} {shown}, at offset {offset}: {reason}", look.paint_err(Paint::Bad, "finding:"));
        return Ok(Ending::WithFindings);
    }
    Ok(Ending::Clean)
}

/// A number with at most three decimals, and its unit.
fn short(value: f64, unit: &str) -> String {
    let text = format!("{value:.3}");
    format!("{} {unit}", text.trim_end_matches('0').trim_end_matches('.'))
}

/// A time of so many picoseconds, to four digits.
pub fn width(picoseconds: f64) -> String {
    let (value, unit) = match picoseconds {
        small if small < 1e6 => (small / 1e3, "ns"),
        small if small < 1e9 => (small / 1e6, "us"),
        small if small < 1e12 => (small / 1e9, "ms"),
        large => (large / 1e12, "s"),
    };
    short(if value >= 100.0 { (value * 10.0).round() / 10.0 } else { value }, unit)
}

fn level(is_high: bool) -> &'static str {
    if is_high { "high" } else { "low" }
}

fn frequency(hertz: f64) -> String {
    match hertz {
        high if high >= 1e6 => short(high / 1e6, "MHz"),
        high if high >= 1e3 => short(high / 1e3, "kHz"),
        low => short(low, "Hz"),
    }
}

/// The commonest pulse of both levels: the one that makes up more of its level.
fn commonest(observed: &SignalObservations) -> Option<f64> {
    let both = observed.widths.iter().filter_map(|widths| widths.commonest());
    both.max_by(|one, other| one.1.total_cmp(&other.1)).map(|(width, _)| width)
}

fn guess(observed: &SignalObservations, guess: Option<Guess>) -> String {
    match guess {
        None if !observed.has_pulses() => "not looked at".to_owned(),
        None if observed.edges == 0 => "nothing happens".to_owned(),
        None => String::new(),
        Some(Guess::Clock { hertz, share }) => format!("clock {} ({:.0} %)", frequency(hertz), share * 100.0),
        Some(Guess::Select { is_high }) => format!("select {}", level(is_high)),
        Some(Guess::Data) => "data of the clock".to_owned(),
        Some(Guess::I2cClock { hertz }) => format!("i2c clock {}", frequency(hertz)),
        Some(Guess::I2cData) => "i2c data".to_owned(),
        Some(Guess::Can { bitrate, share }) => format!("can {bitrate:.0} bit/s ({:.0} %)", share * 100.0),
        Some(Guess::Usb { is_plus, speed }) => {
            format!("usb {} {}", speed.as_str(), if is_plus { "plus" } else { "minus" })
        }
        Some(Guess::Serial { baud, share }) => format!("uart {baud:.0} baud ({:.0} %)", share * 100.0),
        Some(Guess::Manchester { bitrate, share }) => format!("manchester {bitrate:.0} bit/s ({:.0} %)", share * 100.0),
        Some(Guess::Pulses { short, long, share, .. }) => {
            format!("pulses {} or {} ({:.0} %)", width(short), width(long), share * 100.0)
        }
        Some(Guess::Bits { bitrate, share, .. }) => format!("nrz or nrzi {bitrate:.0} bit/s ({:.0} %)", share * 100.0),
    }
}

/// A duration as definitions have it: a whole number of nanoseconds or microseconds.
fn whole_width(picoseconds: f64) -> String {
    let nanoseconds = (picoseconds / 1000.0).round();
    if nanoseconds >= 10_000.0 { format!("{:.0} us", nanoseconds / 1000.0) } else { format!("{nanoseconds:.0} ns") }
}

/// What a definition says of bits a second.
fn bitrate_text(bitrate: f64) -> String {
    // A code with a clock of its own is rarely off by as much.
    let usual = [1e3, 2e3, 4e3, 5e3, 1e4, 2e4, 5e4, 1e5, 1.25e5, 2e5, 2.5e5, 5e5, 1e6, 1.5e6, 2e6, 1e7, 1.2e7];
    let near = usual.into_iter().find(|usual| (bitrate / usual - 1.0).abs() < 0.015).unwrap_or(bitrate.round());
    match near {
        rate if rate % 1e6 == 0.0 => format!("{:.0} Mbit/s", rate / 1e6),
        rate if rate % 1e3 == 0.0 => format!("{:.0} kbit/s", rate / 1e3),
        rate => format!("{rate:.0} bit/s"),
    }
}

fn shown_table(survey: &Survey) -> String {
    let titles = ["signal", "low", "high", "rests", "edges", "shortest", "commonest", "longest", "duty", "probably"];
    let right = [false, true, true, false, true, true, true, true, true, false];
    let mut shown = table(&titles, &right);
    for (seen, guessed) in survey.signals.iter().zip(survey.guesses()) {
        let number = |number: Option<f64>| number.map_or_else(String::new, |number| format!("{number:.3}"));
        let pulses = || seen.widths.iter().filter(|widths| widths.count > 0);
        let pulse = |picoseconds: Option<u64>| picoseconds.map_or_else(String::new, |ps| width(ps as f64));
        shown.add_row(vec![
            escaped(&seen.name),
            number(seen.numbers.map(|(least, _)| least)),
            number(seen.numbers.map(|(_, greatest)| greatest)),
            seen.rests().map_or("", level).to_owned(),
            if seen.has_pulses() { seen.edges.to_string() } else { String::new() },
            pulse(pulses().map(|widths| widths.shortest).min()),
            commonest(seen).map_or_else(String::new, width),
            pulse(pulses().map(|widths| widths.longest).max()),
            seen.duty().map_or_else(String::new, |duty| format!("{:.1} %", duty * 100.0)),
            guess(seen, guessed),
        ]);
    }
    shown.lines()
}

/// What to write into the definition, and which wires to name next.
fn advice(survey: &Survey) -> Vec<String> {
    let mut lines = Vec::new();
    let guesses = survey.guesses();
    let of = |fits: &dyn Fn(&Guess) -> bool| -> Vec<&SignalObservations> {
        let both = survey.signals.iter().zip(&guesses);
        both.filter(|(_, guess)| guess.as_ref().is_some_and(fits)).map(|(seen, _)| seen).collect()
    };
    let wires = |roles: &[(&str, Option<&&SignalObservations>)]| {
        let named =
            roles.iter().filter_map(|(role, seen)| Some(format!(" --wire {role}={}", escaped(&seen.as_ref()?.name))));
        format!("  --on CHANNEL{}", named.collect::<String>())
    };
    for (seen, guessed) in survey.signals.iter().zip(&guesses) {
        let name = escaped(&seen.name);
        match guessed {
            Some(Guess::Clock { hertz, .. }) => {
                let select = of(&|guess| matches!(guess, Guess::Select { .. }));
                let data = of(&|guess| *guess == Guess::Data);
                let words = match guesses.iter().flatten().find(|guess| matches!(guess, Guess::Select { .. })) {
                    Some(Guess::Select { is_high: true }) => " select high",
                    Some(_) => "",
                    None => " select none",
                };
                lines.push(format!("`{name}` may be the clock of a line: medium spi {}{words}", frequency(*hertz)));
                lines.push(wires(&[
                    ("clock", Some(&seen)),
                    ("select", select.first()),
                    ("device", data.first()),
                    ("host", data.get(1)),
                ]));
            }
            Some(Guess::I2cClock { hertz }) => {
                let data = of(&|guess| *guess == Guess::I2cData);
                lines.push(format!("`{name}` may be the clock of a two-wire bus: medium i2c {}", frequency(*hertz)));
                lines.push(wires(&[("clock", Some(&seen)), ("data", data.first())]));
            }
            Some(Guess::Usb { is_plus: true, speed }) => {
                let minus = of(&|guess| matches!(guess, Guess::Usb { is_plus: false, .. }));
                let other = minus.first().map_or_else(String::new, |other| format!(" and `{}`", escaped(&other.name)));
                lines.push(format!("`{name}`{other} may be the pair of a USB: medium usb {}", speed.as_str()));
                lines.push(wires(&[("plus", Some(&seen)), ("minus", minus.first())]));
            }
            Some(Guess::Can { bitrate, .. }) => {
                let speed = usual_bitrate(*bitrate).map_or(*bitrate, f64::from);
                let speed = short(speed / 1e3, "kbit/s");
                // Of a pair the one that rests low is high where the bus is dominant (ISO 11898-2), and the other one is low there.
                let networks = of(&|guess| matches!(guess, Guess::Can { .. }));
                let other = networks.iter().find(|other| other.rests() != seen.rests());
                let rests_low = seen.rests() == Some(false);
                let said = match other {
                    Some(_) if !rests_low => continue,
                    Some(other) => {
                        let other = escaped(&other.name);
                        lines.push(format!("`{name}` and `{other}` may be the pair of a CAN bus: medium can {speed}"));
                        format!("  --on CHANNEL --wire 'bus={name}-{other}'")
                    }
                    None => {
                        lines.push(format!("`{name}` may be a CAN bus: medium can {speed}"));
                        let invert = if rests_low { " --invert bus" } else { "" };
                        format!("{}{invert}", wires(&[("bus", Some(&seen))]))
                    }
                };
                lines.push(said);
            }
            Some(Guess::Manchester { bitrate, .. }) => {
                lines.push(format!(
                    "`{name}` may have a Manchester code: medium line {} manchester 1 rises preamble … start … (or `1 falls`, or `manchester differential 0 splits`)",
                    bitrate_text(*bitrate)
                ));
                lines.push(wires(&[("line", Some(&seen))]));
            }
            Some(Guess::Pulses { level: told_by, short, long, .. }) => {
                let what = told_by.map_or("half", level);
                lines.push(format!(
                    "`{name}` may have a pulse code: medium line pulse {what} 0 {} 1 {} tolerance 20 % (or 0 and 1 the other way around)",
                    whole_width(*long),
                    whole_width(*short)
                ));
                lines.push(wires(&[("line", Some(&seen))]));
            }
            Some(Guess::Bits { bitrate, longest, .. }) => {
                let rate = bitrate_text(*bitrate);
                let code = match longest {
                    5..=8 => format!("line {rate} nrzi 0 toggles stuff {} (or `line {rate} nrz`)", longest - 1),
                    _ => format!("line {rate} nrz (or `line {rate} nrzi 0 toggles`)"),
                };
                lines.push(format!("`{name}` has bits that are no characters: medium {code}"));
                lines.push(wires(&[("line", Some(&seen))]));
            }
            Some(Guess::Serial { baud, .. }) => lines.push(match usual_baud(*baud) {
                Some(usual) => {
                    let inverted = if seen.rests() == Some(false) { "; it rests low, so it is inverted" } else { "" };
                    let form = match seen.uart_format(usual) {
                        Some(format) => format!("{}{}1", format.data_bits, format.parity),
                        None => "8N1, or another form".to_owned(),
                    };
                    format!("`{name}` may be an asynchronous line: medium uart {usual} {form}{inverted}")
                }
                None => format!("`{name}` has {baud:.0} baud, which is none of the usual rates"),
            }),
            _ => {}
        }
    }
    let serial = of(&|guess| matches!(guess, Guess::Serial { baud, .. } if usual_baud(*baud).is_some()));
    if !serial.is_empty() {
        let mut line = wires(&[("device", serial.first()), ("host", serial.get(1))]);
        for (role, seen) in ["device", "host"].into_iter().zip(&serial) {
            if seen.rests() == Some(false) {
                line.push_str(&format!(" --invert {role}"));
            }
        }
        lines.push(line);
    }
    lines
}

fn object(observed: &SignalObservations, guess: Option<Guess>) -> Json {
    let pulses = |widths: &emberwort_waveform::survey::Widths| {
        let commonest = widths.commonest();
        json!({
            "count": widths.count,
            "shortest_ps": (widths.count > 0).then_some(widths.shortest),
            "commonest_ps": commonest.map(|(width, _)| width.round()),
            "commonest_share": commonest.map(|(_, share)| share),
            "longest_ps": (widths.count > 0).then_some(widths.longest),
        })
    };
    let guess = match guess {
        None => Json::Null,
        Some(Guess::Select { is_high }) => json!({"kind": "select", "level": level(is_high)}),
        Some(Guess::Data) => json!({"kind": "data"}),
        Some(Guess::I2cClock { hertz }) => json!({"kind": "i2c_clock", "hertz": hertz}),
        Some(Guess::I2cData) => json!({"kind": "i2c_data"}),
        Some(Guess::Can { bitrate, share }) => {
            json!({"kind": "can", "bitrate": bitrate, "usual_bitrate": usual_bitrate(bitrate), "share": share})
        }
        Some(Guess::Usb { is_plus, speed }) => {
            json!({"kind": "usb", "speed": speed.as_str(), "wire": if is_plus { "plus" } else { "minus" }})
        }
        Some(Guess::Clock { hertz, share }) => json!({"kind": "clock", "hertz": hertz, "share": share}),
        Some(Guess::Manchester { bitrate, share }) => json!({"kind": "manchester", "bitrate": bitrate, "share": share}),
        Some(Guess::Pulses { level: told_by, short, long, share }) => {
            json!({"kind": "pulse", "told_by": told_by.map_or("half", level), "short_ps": short.round(), "long_ps": long.round(), "share": share})
        }
        Some(Guess::Bits { bitrate, longest, share }) => {
            json!({"kind": "bits", "bitrate": bitrate, "longest": longest, "share": share})
        }
        Some(Guess::Serial { baud, share }) => {
            json!({"kind": "uart", "baud": baud, "usual_baud": usual_baud(baud), "share": share})
        }
    };
    json!({
        "signal": observed.name,
        "least": observed.numbers.map(|(least, _)| least),
        "greatest": observed.numbers.map(|(_, greatest)| greatest),
        "rests": observed.rests().map(level),
        "edges": observed.has_pulses().then_some(observed.edges),
        "low": pulses(&observed.widths[0]),
        "high": pulses(&observed.widths[1]),
        "duty": observed.duty(),
        "probably": guess,
    })
}
