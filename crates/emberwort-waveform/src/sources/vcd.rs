//! Value change dumps (IEEE 1364-2005, clause 18): the changes of signals as text.

use std::collections::HashMap;
use std::io::{self, BufRead as _, BufReader, Read};
use std::ops::ControlFlow;

use crate::wave::{Damage, Moment, Outcome, Signal, Value, WaveSink};

/// The longest word that is read: a value of this many bits is damage.
const MAX_WORD: usize = 1 << 16;

/// A file that declares more signals than this, bits of vectors included, is damaged, or made to fill the memory.
const MAX_SIGNALS: usize = 1 << 16;

/// Scopes stand in each other so deep at most.
const MAX_DEPTH: usize = 256;

/// Reads the changes of a file to its end, or to the first damage, or until the sink has enough.
///
/// Each bit of a vector is a signal of its own: `data[3]`. A real has numbers.
///
/// # Errors
/// Those of the reader.
pub fn read(input: impl Read, sink: &mut dyn WaveSink) -> io::Result<Outcome> {
    let input = BufReader::with_capacity(1 << 16, input);
    let mut words = Words { input, word: Vec::new(), offset: 0, start: 0 };
    let mut dump = Dump {
        signals: Vec::new(),
        by_code: HashMap::new(),
        alone: [None; 256],
        unit: (1_000, 1),
        now: Moment::default(),
        is_open: false,
    };
    let ended = dump.header(&mut words, sink).and_then(|()| dump.changes(&mut words, sink));
    let (damage, has_enough) = match ended {
        Ok(()) => (None, false),
        Err(Stop::Enough) => (None, true),
        Err(Stop::Damaged(reason)) => (Some(Damage { offset: words.start, reason }), false),
        Err(Stop::Io(error)) => return Err(error),
    };
    if dump.is_open && !has_enough {
        let _ = sink.until(dump.now);
    }
    let bytes = damage.as_ref().map_or(words.offset, |damage| damage.offset);
    Ok(Outcome { bytes, damage })
}

/// Why a file is not read any further.
enum Stop {
    Enough,
    Damaged(String),
    Io(io::Error),
}

impl From<io::Error> for Stop {
    fn from(error: io::Error) -> Self {
        Self::Io(error)
    }
}

/// The words of a file, between blanks and ends of lines.
struct Words<R> {
    input: BufReader<R>,
    word: Vec<u8>,
    /// Bytes that were read.
    offset: u64,
    /// Where the word begins.
    start: u64,
}

impl<R: Read> Words<R> {
    /// Goes to the next word. Returns whether there is one.
    fn next(&mut self) -> Result<bool, Stop> {
        self.next_or(&mut || ())
    }

    /// Goes to the next word; `pause` is called before more is read, which may take a while to come.
    fn next_or(&mut self, pause: &mut dyn FnMut()) -> Result<bool, Stop> {
        self.word.clear();
        loop {
            if self.input.buffer().is_empty() {
                pause();
            }
            let buffer = match self.input.fill_buf() {
                Ok(buffer) => buffer,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error.into()),
            };
            if buffer.is_empty() {
                return Ok(!self.word.is_empty());
            }
            let mut at = 0;
            if self.word.is_empty() {
                at = buffer.iter().position(|byte| !byte.is_ascii_whitespace()).unwrap_or(buffer.len());
                self.start = self.offset + at as u64;
            }
            let rest = &buffer[at..];
            let length = rest.iter().position(u8::is_ascii_whitespace).unwrap_or(rest.len());
            self.word.extend_from_slice(&rest[..length]);
            let used = at + length;
            let is_whole = length < rest.len();
            self.input.consume(used);
            self.offset += used as u64;
            if self.word.len() > MAX_WORD {
                return Err(Stop::Damaged("a word is longer than any value can be".to_owned()));
            }
            if is_whole && !self.word.is_empty() {
                return Ok(true);
            }
        }
    }

    /// The next word, inside of a command of the header.
    fn inside(&mut self, command: &str) -> Result<&[u8], Stop> {
        if self.next()? {
            return Ok(&self.word);
        }
        Err(Stop::Damaged(format!("the header ends inside of {command}")))
    }

    /// Steps over what is left of a command.
    fn skip_to_end(&mut self, command: &str) -> Result<(), Stop> {
        while self.inside(command)? != b"$end" {}
        Ok(())
    }
}

/// The signals that an identifier stands for: the first, and how many bits.
#[derive(Clone, Copy, Debug)]
struct Declared {
    first: usize,
    bits: usize,
    is_real: bool,
}

struct Dump {
    signals: Vec<Signal>,
    /// Several names may share an identifier.
    by_code: HashMap<Vec<u8>, Vec<Declared>>,
    /// By an identifier of one character, the signal of one bit that it stands for, if that is all.
    alone: [Option<usize>; 256],
    /// Picoseconds of a unit of time, as a fraction.
    unit: (u64, u64),
    now: Moment,
    /// Whether the signals were told.
    is_open: bool,
}

/// A whole number in digits.
fn whole(digits: &[u8]) -> Option<u64> {
    let add = |number: u64, digit: &u8| match digit {
        b'0'..=b'9' => number.checked_mul(10)?.checked_add(u64::from(digit - b'0')),
        _ => None,
    };
    if digits.is_empty() { None } else { digits.iter().try_fold(0, add) }
}

fn text(word: &[u8]) -> String {
    String::from_utf8_lossy(word).into_owned()
}

/// Picoseconds of a unit such as `1ns` or `100 ps`, as a fraction.
fn unit(text: &str) -> Option<(u64, u64)> {
    let digits = text.bytes().take_while(u8::is_ascii_digit).count();
    let (number, unit) = text.split_at(digits);
    let number: u64 = number.parse().ok().filter(|number| [1, 10, 100].contains(number))?;
    let (picoseconds, of) = match unit.trim() {
        "s" => (1_000_000_000_000, 1),
        "ms" => (1_000_000_000, 1),
        "us" => (1_000_000, 1),
        "ns" => (1_000, 1),
        "ps" => (1, 1),
        "fs" => (1, 1_000),
        _ => return None,
    };
    Some((number * picoseconds, of))
}

impl Dump {
    fn header<R: Read>(&mut self, words: &mut Words<R>, sink: &mut dyn WaveSink) -> Result<(), Stop> {
        let mut scopes: Vec<String> = Vec::new();
        loop {
            if !words.next()? {
                return Err(Stop::Damaged("the header has no end: $enddefinitions is missing".to_owned()));
            }
            match words.word.as_slice() {
                b"$timescale" => {
                    let mut said = String::new();
                    while words.inside("$timescale")? != b"$end" {
                        said.push_str(&text(&words.word));
                    }
                    self.unit = unit(&said).ok_or_else(|| {
                        Stop::Damaged(format!("the header has `{said}` as time scale; it is 1, 10 or 100 of s to fs"))
                    })?;
                }
                b"$scope" => {
                    words.inside("$scope")?;
                    scopes.push(text(words.inside("$scope")?));
                    if scopes.len() > MAX_DEPTH {
                        return Err(Stop::Damaged(format!(
                            "the header has more than {MAX_DEPTH} scopes in each other"
                        )));
                    }
                    words.skip_to_end("$scope")?;
                }
                b"$upscope" => {
                    scopes.pop();
                    words.skip_to_end("$upscope")?;
                }
                b"$var" => self.variable(words, &scopes)?,
                b"$enddefinitions" => {
                    words.skip_to_end("$enddefinitions")?;
                    self.is_open = true;
                    return match sink.signals(&self.signals) {
                        ControlFlow::Continue(()) => Ok(()),
                        ControlFlow::Break(()) => Err(Stop::Enough),
                    };
                }
                [b'$', ..] => words.skip_to_end(&text(&words.word.clone()))?,
                other => {
                    let shown = text(&other[..other.len().min(40)]);
                    return Err(Stop::Damaged(format!("the header has `{shown}` where a command is expected")));
                }
            }
        }
    }

    /// `$var TYPE BITS CODE NAME [RANGE] $end`.
    fn variable<R: Read>(&mut self, words: &mut Words<R>, scopes: &[String]) -> Result<(), Stop> {
        let is_real = matches!(words.inside("$var")?, b"real" | b"realtime");
        let bits: usize = text(words.inside("$var")?).parse().unwrap_or(0);
        let code = words.inside("$var")?.to_vec();
        let mut name = text(words.inside("$var")?);
        let mut range = String::new();
        while words.inside("$var")? != b"$end" {
            range.push_str(&text(&words.word));
        }
        if let Some(at) = name.find('[').filter(|at| *at > 0) {
            range = name.split_off(at) + &range;
        }
        let bits = if is_real { 1 } else { bits };
        if bits == 0 || self.signals.len() + bits > MAX_SIGNALS {
            return Err(Stop::Damaged(format!(
                "the header gives `{name}` no bits, or has more than {MAX_SIGNALS} in all"
            )));
        }
        let path = |name: &str| scopes.iter().map(String::as_str).chain([name]).collect::<Vec<_>>().join(".");
        let first = self.signals.len();
        // The bit on the left is written first; ranges may rise or fall.
        let ends = range.trim_matches(['[', ']']).split_once(':');
        let ends = ends.and_then(|(left, right)| Some((left.parse::<i64>().ok()?, right.parse::<i64>().ok()?)));
        for n in 0..bits as i64 {
            let name = match (bits, ends) {
                (1, _) if range.is_empty() => name.clone(),
                (1, _) => format!("{name}{range}"),
                (_, Some((left, right))) if left < right => format!("{name}[{}]", left + n),
                (_, Some((left, _))) => format!("{name}[{}]", left - n),
                (_, None) => format!("{name}[{}]", bits as i64 - 1 - n),
            };
            self.signals.push(Signal { name: path(&name), is_analog: is_real });
        }
        let all = self.by_code.entry(code.clone()).or_default();
        all.push(Declared { first, bits, is_real });
        if let [code] = code[..] {
            let is_alone = all.len() == 1 && bits == 1 && !is_real;
            self.alone[usize::from(code)] = is_alone.then_some(first);
        }
        Ok(())
    }

    fn changes<R: Read>(&mut self, words: &mut Words<R>, sink: &mut dyn WaveSink) -> Result<(), Stop> {
        let mut bits: Vec<u8> = Vec::new();
        loop {
            self.plain_changes(words, sink)?;
            if !words.next_or(&mut || sink.pause())? {
                return Ok(());
            }
            let word = words.word.as_slice();
            match word[0] {
                b'#' => {
                    let time = whole(&word[1..]);
                    let time = time.ok_or_else(|| Stop::Damaged(format!("`{}` is no time", text(word))))?;
                    let now = self.moment(time);
                    let now =
                        now.ok_or_else(|| Stop::Damaged("a time lies more than 213 days after the beginning".into()))?;
                    if now < self.now {
                        return Err(Stop::Damaged("time goes back".to_owned()));
                    }
                    self.now = now;
                    if sink.until(now).is_break() {
                        return Err(Stop::Enough);
                    }
                }
                b'0' | b'1' | b'x' | b'X' | b'z' | b'Z' => self.change(&word[1..], &word[..1], sink)?,
                b'b' | b'B' => {
                    bits.clear();
                    bits.extend_from_slice(&word[1..]);
                    let code = self.code(words)?;
                    self.change(&code, &bits, sink)?;
                }
                b'r' | b'R' => {
                    let number = std::str::from_utf8(&word[1..]).ok().and_then(|text| text.parse::<f64>().ok());
                    let number = number.ok_or_else(|| Stop::Damaged(format!("`{}` is no number", text(word))))?;
                    let code = self.code(words)?;
                    for declared in self.declared(&code)?.iter().filter(|declared| declared.is_real) {
                        if sink.value(self.now, declared.first, Value::Number(number)).is_break() {
                            return Err(Stop::Enough);
                        }
                    }
                }
                b'$' => match word {
                    // What stands in these are changes as others.
                    b"$dumpvars" | b"$dumpall" | b"$dumpon" | b"$dumpoff" | b"$end" => {}
                    _ => words.skip_to_end("a command")?,
                },
                _ => {
                    let shown = text(&word[..word.len().min(40)]);
                    return Err(Stop::Damaged(format!("`{shown}` is neither a time nor a value")));
                }
            }
        }
    }

    /// A time in units as a moment, if it is not too late to be one.
    fn moment(&self, time: u64) -> Option<Moment> {
        let (times, of) = self.unit;
        let picoseconds = match of {
            1 => time.checked_mul(times),
            _ => u64::try_from(u128::from(time) * u128::from(times) / u128::from(of)).ok(),
        };
        picoseconds.map(Moment::from_picoseconds)
    }

    /// Takes what nearly all of a dump consists of, where it was read without a copy: times, and bits with an identifier of one character.
    /// Stops in front of the first word that is something else, that is wrong, or that is not whole yet.
    fn plain_changes<R: Read>(&mut self, words: &mut Words<R>, sink: &mut dyn WaveSink) -> Result<(), Stop> {
        let buffer = words.input.buffer();
        let is_blank = |byte: u8| matches!(byte, b' ' | b'\n' | b'\r' | b'\t');
        let (mut used, mut now, mut is_enough) = (0, self.now, false);
        while !is_enough && used < buffer.len() {
            match buffer[used] {
                byte if is_blank(byte) => used += 1,
                bit @ (b'0' | b'1' | b'x' | b'X' | b'z' | b'Z') => {
                    let (Some(code), Some(behind)) = (buffer.get(used + 1), buffer.get(used + 2)) else { break };
                    let (Some(signal), true) = (self.alone[usize::from(*code)], is_blank(*behind)) else { break };
                    let value = match bit {
                        b'0' => Value::Low,
                        b'1' => Value::High,
                        _ => Value::Unknown,
                    };
                    used += 3;
                    is_enough = sink.value(now, signal, value).is_break();
                }
                b'#' => {
                    let (mut time, mut at) = (0u64, used + 1);
                    while at < buffer.len() && buffer[at].is_ascii_digit() {
                        // 19 digits never are too much.
                        time = time.wrapping_mul(10).wrapping_add(u64::from(buffer[at] - b'0'));
                        at += 1;
                    }
                    let is_whole = (used + 2..=used + 20).contains(&at) && at < buffer.len() && is_blank(buffer[at]);
                    let moment = self.moment(time).filter(|moment| *moment >= now);
                    let (true, Some(moment)) = (is_whole, moment) else { break };
                    (used, now) = (at + 1, moment);
                    is_enough = sink.until(now).is_break();
                }
                _ => break,
            }
        }
        self.now = now;
        words.input.consume(used);
        words.offset += used as u64;
        if is_enough { Err(Stop::Enough) } else { Ok(()) }
    }

    fn code<R: Read>(&self, words: &mut Words<R>) -> Result<Vec<u8>, Stop> {
        match words.next()? {
            true => Ok(words.word.clone()),
            false => Err(Stop::Damaged("the file ends inside of a value".to_owned())),
        }
    }

    fn declared(&self, code: &[u8]) -> Result<&[Declared], Stop> {
        let found = self.by_code.get(code).map(Vec::as_slice);
        found.ok_or_else(|| Stop::Damaged(format!("a value for `{}`, which the header does not declare", text(code))))
    }

    fn change(&self, code: &[u8], bits: &[u8], sink: &mut dyn WaveSink) -> Result<(), Stop> {
        let level = |bit: u8| match bit {
            b'0' => Some(Value::Low),
            b'1' => Some(Value::High),
            b'x' | b'X' | b'z' | b'Z' => Some(Value::Unknown),
            _ => None,
        };
        let first = bits.first().copied().and_then(level);
        let Some(first) = first else { return Err(Stop::Damaged("a value has no bits".to_owned())) };
        for declared in self.declared(code)?.iter().filter(|declared| !declared.is_real) {
            // A short value is filled up on the left: with x and z by themselves, else with zeros.
            let lacking = declared.bits.saturating_sub(bits.len());
            let filling = if first == Value::Unknown { Value::Unknown } else { Value::Low };
            for n in 0..declared.bits {
                let value = match n.checked_sub(lacking) {
                    None => filling,
                    Some(at) => match level(bits[at + bits.len().saturating_sub(declared.bits)]) {
                        Some(value) => value,
                        None => return Err(Stop::Damaged(format!("`{}` is no value", text(bits)))),
                    },
                };
                if sink.value(self.now, declared.first + n, value).is_break() {
                    return Err(Stop::Enough);
                }
            }
        }
        Ok(())
    }
}
