//! Bytes as people have them in text: hex digits, with or without `0x` and braces around them; dumps with an offset in front and
//! the same bytes as text behind; lines of a log with a time in front.
//!
//! Which of them it is, the first lines say. What cannot be read is damage with its place and a way out, never skipped.

use std::io::{self, Read};
use std::ops::ControlFlow;

use crate::lines::each_line;
use crate::pieces::{DETECT_BYTES, Damage, Interface, Outcome, Piece, PieceSink, read_once, serial_interface};
use crate::stamps::{Stamp, Stamps, parsed};

/// Bytes that are kept together: those of one line of hex digits, or of one dump.
const MAX_LINE: usize = 1 << 16;

/// How bytes stand in text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Shape {
    /// Hex digits alone; each line is a piece.
    Digits,
    /// An offset in front of each line, to this base; each dump that begins at its first offset again is a piece.
    Dump(Base),
    /// A time in front of each line; each line is a piece.
    Log,
}

/// The base of the offsets of a dump.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Base {
    Hex,
    Octal,
    Decimal,
}

impl Base {
    fn radix(self) -> u32 {
        match self {
            Base::Hex => 16,
            Base::Octal => 8,
            Base::Decimal => 10,
        }
    }
}

/// Whether a file with these first bytes holds bytes in text, in a form that [`read`] knows.
pub(crate) fn is_hex_text(first: &[u8]) -> bool {
    shape_of(first).is_some()
}

fn is_text(first: &[u8]) -> bool {
    first.iter().all(|byte| byte.is_ascii_graphic() || byte.is_ascii_whitespace() || *byte >= 0x80)
}

/// Whether these first bytes are text as far as they go, and more of it may show another shape: the lines of a dump tell by two what
/// their offsets are, and pairs of digits alone by one.
pub(crate) fn may_be_cut(first: &[u8]) -> bool {
    let lines = first.iter().filter(|byte| **byte == b'\n').count();
    let is_pair = first.iter().position(|byte| !byte.is_ascii_hexdigit()) == Some(2);
    is_text(first) && lines < if is_pair { 1 } else { 2 }
}

fn shape_of(first: &[u8]) -> Option<Shape> {
    if !is_text(first) {
        return None;
    }
    let text = String::from_utf8_lossy(first);
    let mut lines: Vec<&str> = text.lines().collect();
    // The last one may be cut off here.
    if first.len() >= DETECT_BYTES && lines.len() > 1 {
        lines.pop();
    }
    lines.retain(|line| !line.trim().is_empty());
    if lines.iter().take(8).all(|line| is_stamped(line)) && !lines.is_empty() {
        return Some(Shape::Log);
    }
    if let Some(base) = base_of(&lines) {
        return Some(Shape::Dump(base));
    }
    let plain = |b: &u8| b.is_ascii_hexdigit() || is_separator(*b) || matches!(b, b'x' | b'X' | b'\\');
    let digits = first.iter().filter(|b| b.is_ascii_hexdigit()).count();
    (first.iter().all(plain) && digits >= 2).then_some(Shape::Digits)
}

/// What may stand between bytes.
fn is_separator(byte: u8) -> bool {
    byte.is_ascii_whitespace()
        || matches!(byte, b':' | b',' | b'-' | b';' | b'{' | b'}' | b'[' | b']' | b'(' | b')' | b'"')
}

/// The base of the offsets, if the first lines are those of a dump: the second offset is the first one and the bytes between them.
fn base_of(lines: &[&str]) -> Option<Base> {
    let mut heads = lines.iter().filter_map(|line| offset_and_rest(line));
    let (offset, rest) = heads.next().filter(|_| offset_and_rest(lines[0]).is_some())?;
    // Behind `*` follows what is left out.
    let next = lines.get(1).filter(|line| line.trim() != "*").and_then(|line| offset_and_rest(line));
    let count = columns(rest).len() as u64;
    match next {
        Some((next, _)) => [Base::Hex, Base::Octal, Base::Decimal].into_iter().find(|base| {
            let at = |digits: &str| u64::from_str_radix(digits, base.radix()).ok();
            let same = at(next) == at(offset).map(|from| from.saturating_add(count));
            // Another dump can follow at once.
            count > 0 && (same || (at(next) == at(offset) && at(next) == Some(0)))
        }),
        // One line alone: the offset ends with a colon, or is wider than a byte, with a gap behind it.
        None => {
            let wide =
                offset.len() >= 4 && rest.starts_with("  ") || lines[0].trim_start()[offset.len()..].starts_with(':');
            (count > 0 && wide && u64::from_str_radix(offset, 16) == Ok(0)).then_some(Base::Hex)
        }
    }
}

/// The digits of an offset in front of a line, and what stands behind it.
fn offset_and_rest(line: &str) -> Option<(&str, &str)> {
    let line = line.trim_start();
    let digits = line.bytes().take_while(u8::is_ascii_hexdigit).count();
    let (offset, rest) = line.split_at(digits);
    let rest = rest.strip_prefix(':').unwrap_or(rest);
    ((4..=16).contains(&digits) && (rest.is_empty() || rest.starts_with([' ', '\t']))).then_some((offset, rest))
}

/// The bytes of a dump's line behind its offset; the same bytes as text, behind them, are left out.
fn columns(rest: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    let mut at = 0;
    while let Some(start) = rest[at..].find(|c: char| !c.is_whitespace()).map(|n| at + n) {
        let end = rest[start..].find(char::is_whitespace).map_or(rest.len(), |n| start + n);
        // Looked at as a whole: bars and digits can be part of the text.
        if start - at >= 2 && !bytes.is_empty() && is_text_of(&bytes, &rest[start..]) {
            break;
        }
        let word = &rest[start..end];
        let (word, ends) = word.split_once('|').map_or((word, false), |(word, _)| (word, true));
        let Some(more) = pairs(word) else { break };
        bytes.extend(more);
        if ends {
            break;
        }
        at = end;
    }
    bytes
}

/// Whether a text is what dumps show for bytes: themselves where they can be printed, else a dot.
fn is_text_of(bytes: &[u8], text: &str) -> bool {
    // Blanks at both ends are easily lost.
    let shows = |(byte, c): (&u8, char)| match byte {
        0x20..=0x7E => char::from(*byte) == c,
        _ => !c.is_ascii_hexdigit(),
    };
    let (text, count) = (text.trim_end(), text.trim_end().chars().count());
    let blanks = |bytes: &[u8]| bytes.iter().all(|byte| *byte == b' ');
    let leading = bytes.iter().take_while(|byte| **byte == b' ').count();
    (0..=leading).any(|skip| {
        let shown = &bytes[skip..];
        count <= shown.len() && count > 0 && shown.iter().zip(text.chars()).all(shows) && blanks(&shown[count..])
    })
}

/// The bytes of a word of hex digits, `0x` or `\x` in front allowed; `None` if it is none.
fn pairs(word: &str) -> Option<Vec<u8>> {
    let digits = word.strip_prefix("0x").or_else(|| word.strip_prefix("0X")).or_else(|| word.strip_prefix("\\x"));
    let digits = digits.unwrap_or(word).as_bytes();
    if digits.is_empty() || !digits.len().is_multiple_of(2) {
        return None;
    }
    let digit = |byte: u8| (byte as char).to_digit(16);
    digits.chunks(2).map(|pair| Some((digit(pair[0])? * 16 + digit(pair[1])?) as u8)).collect()
}

/// Reads text with bytes in it, to its end or to the first damage, or until the sink has enough. `first` is what was read of it to
/// tell its form.
///
/// # Errors
/// Those of the reader.
pub fn read(first: &[u8], input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    sink.interface(serial_interface());
    let shape = shape_of(first).unwrap_or(Shape::Digits);
    let input = first.chain(input);
    match shape {
        Shape::Digits => read_digits(input, sink),
        Shape::Dump(base) => by_lines(input, &mut Dump::new(base), sink),
        Shape::Log => by_lines(input, &mut Log::default(), sink),
    }
}

/// Takes the lines of a text.
trait Lines {
    /// The next line.
    ///
    /// # Errors
    /// What is wrong with it.
    fn line(
        &mut self,
        line: &str,
        sink: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, String>;

    /// The end of the text, or of what can be read of it.
    ///
    /// # Errors
    /// What is missing.
    fn end(&mut self, sink: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>) -> Result<(), String>;
}

fn by_lines(input: impl Read, lines: &mut impl Lines, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    let mut is_over = false;
    let mut outcome = each_line(input, sink, |sink, line| {
        let flow = lines.line(line.trim_end(), &mut |piece| sink.piece(piece));
        is_over = matches!(flow, Ok(ControlFlow::Break(())));
        flow
    })?;
    if !is_over {
        // What came before damage is read.
        let end = lines.end(&mut |piece| sink.piece(piece));
        if let (None, Err(reason)) = (&outcome.damage, end) {
            outcome.damage = Some(Damage { offset: outcome.bytes, reason });
        }
    }
    Ok(outcome)
}

/// Reads dumps.
struct Dump {
    base: Base,
    /// The line before, whose bytes are certain when the next offset is known.
    before: Option<(u64, String)>,
    /// Whether lines were left out behind it, as they are the same.
    repeats: bool,
    /// The bytes of the dump so far that were not handed on.
    block: Vec<u8>,
    /// The offset at which it began.
    start: u64,
    /// Bytes of a line, so far the most.
    width: usize,
}

impl Dump {
    fn new(base: Base) -> Self {
        Self { base, before: None, repeats: false, block: Vec::new(), start: 0, width: 0 }
    }

    /// The bytes of the line before, as far as the offset behind them says.
    fn settle(
        &mut self,
        next: Option<u64>,
        give: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, String> {
        let Some((offset, rest)) = self.before.take() else { return Ok(ControlFlow::Continue(())) };
        let found = columns(&rest);
        let count = next.and_then(|next| next.checked_sub(offset)).filter(|_| !self.repeats);
        let bytes = match count {
            Some(count) => first_bytes(&rest, count).ok_or_else(|| {
                let stand = if found.len() == 1 { "1 byte stands".to_owned() } else { format!("{} bytes stand", found.len()) };
                format!("{stand} in the line before, and the offsets leave room for {count}: lines are missing, or were changed")
            })?,
            None => found,
        };
        if bytes.is_empty() && !rest.trim().is_empty() {
            return Err(format!("`{}` is not a hex byte", rest.split_whitespace().next().unwrap_or_default()));
        }
        self.width = self.width.max(bytes.len());
        self.block.extend(&bytes);
        if self.repeats {
            self.repeats = false;
            let Some(next) = next else {
                return Err(
                    "a `*` stands for lines like the one before, and no offset after it says how many".to_owned()
                );
            };
            let mut at = offset + bytes.len() as u64;
            while at < next && !bytes.is_empty() {
                let count = (next - at).min(bytes.len() as u64);
                self.block.extend(&bytes[..count as usize]);
                at += count;
                if self.block.len() >= MAX_LINE && self.forward(give).is_break() {
                    return Ok(ControlFlow::Break(()));
                }
            }
        }
        if self.block.len() >= MAX_LINE { Ok(self.forward(give)) } else { Ok(ControlFlow::Continue(())) }
    }

    fn forward(&mut self, give: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>) -> ControlFlow<()> {
        let flow = match self.block.is_empty() {
            true => ControlFlow::Continue(()),
            false => give(Piece { interface: 0, time: None, bytes: &self.block }),
        };
        self.block.clear();
        flow
    }
}

/// The first bytes behind an offset, so many; `None` if there are fewer.
fn first_bytes(rest: &str, count: u64) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    for word in rest.split_whitespace() {
        if bytes.len() as u64 >= count {
            break;
        }
        bytes.extend(pairs(word)?);
    }
    (bytes.len() as u64 == count).then_some(bytes)
}

impl Lines for Dump {
    fn line(
        &mut self,
        line: &str,
        give: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, String> {
        if line.trim().is_empty() {
            return Ok(ControlFlow::Continue(()));
        }
        if line.trim() == "*" {
            self.repeats = true;
            return Ok(ControlFlow::Continue(()));
        }
        let Some((digits, rest)) = offset_and_rest(line) else {
            return Err("a line of this dump does not begin with an offset".to_owned());
        };
        let Ok(offset) = u64::from_str_radix(digits, self.base.radix()) else {
            return Err(format!("`{digits}` is not an offset like the ones before"));
        };
        let has_groups = rest.split_whitespace().next().is_some_and(|word| word.len() == 4);
        if has_groups && !line.trim_start()[digits.len()..].starts_with(':') {
            return Err("groups of four digits without a colon after the offset are words, in which two bytes may have changed places; \
                        make a dump of single bytes, as `od -A x -t x1 FILE` does"
                .to_owned());
        }
        // A dump that begins again is another one.
        let again = self.before.as_ref().is_some_and(|(before, _)| offset <= *before && offset == self.start);
        let flow = self.settle((!again).then_some(offset), give)?;
        let flow = if again && flow.is_continue() { self.forward(give) } else { flow };
        if flow.is_break() {
            return Ok(flow);
        }
        if self.before.is_none() && self.block.is_empty() && self.width == 0 {
            self.start = offset;
        }
        self.before = Some((offset, rest.to_owned()));
        Ok(ControlFlow::Continue(()))
    }

    fn end(&mut self, give: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>) -> Result<(), String> {
        let settled = self.settle(None, give);
        let _ = self.forward(give);
        settled.map(drop)
    }
}

/// Reads lines with a time in front.
#[derive(Default)]
struct Log {
    stamps: Stamps,
}

impl Lines for Log {
    fn line(
        &mut self,
        line: &str,
        give: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>,
    ) -> Result<ControlFlow<()>, String> {
        if line.trim().is_empty() {
            return Ok(ControlFlow::Continue(()));
        }
        let Some((stamp, rest)) = stamp(line) else {
            return Err("a line of this log does not begin with a time".to_owned());
        };
        let mut bytes = Vec::new();
        for word in rest.split(|c: char| c.is_ascii() && is_separator(c as u8)).filter(|word| !word.is_empty()) {
            bytes.extend(pairs(word).ok_or_else(|| {
                format!(
                    "`{}` after the time is not a hex byte\nleave the time and the bytes in the lines, those of one end at a time, as in \
                     `grep RX log | sed 's/RX//'`, and say which end with --from; if the text itself is what was captured, say --form raw",
                    word.chars().take(20).collect::<String>()
                )
            })?);
        }
        let time = self.stamps.nanoseconds(stamp).ok_or("a time before 1970 or beyond the year 2500")?;
        let time = Some(emberwort_wire::Time::from_nanoseconds(time));
        Ok(give(Piece { interface: 0, time, bytes: &bytes }))
    }

    fn end(&mut self, _: &mut dyn FnMut(Piece<'_>) -> ControlFlow<()>) -> Result<(), String> {
        Ok(())
    }
}

fn is_stamped(line: &str) -> bool {
    stamp(line).is_some_and(|(_, rest)| !rest.trim().is_empty())
}

/// The time in front of a line, maybe in brackets, and what stands behind it.
fn stamp(line: &str) -> Option<(Stamp, &str)> {
    let line = line.trim_start();
    let (inner, rest) = match line.strip_prefix(['[', '(']) {
        Some(open) => {
            let (inner, rest) = open.split_once([']', ')'])?;
            (inner.trim(), rest)
        }
        None => {
            let first = line.find(char::is_whitespace)?;
            // A date and a time of day are two words.
            let second = line[first..].trim_start();
            let from = line.len() - second.len();
            let both = second.find(char::is_whitespace).map_or(line.len(), |n| from + n);
            match parsed(line[..both].trim_end_matches([':', ',', ';'])).filter(|_| line[..first].contains('-')) {
                Some(stamp) => return Some((stamp, &line[both..])),
                None => (&line[..first], &line[first..]),
            }
        }
    };
    let stamp = parsed(inner.trim_end_matches([':', ',', ';']))?;
    Some((stamp, rest.trim_start_matches([':', ',', ';'])))
}

fn read_digits(mut input: impl Read, sink: &mut dyn PieceSink) -> io::Result<Outcome> {
    let mut buffer = vec![0; 1 << 16];
    let mut bytes = Vec::with_capacity(1 << 15);
    let mut half: Option<u8> = None;
    let mut outcome = Outcome::default();
    // A line is a piece: on channels whose medium keeps packets apart, a packet.
    fn hand_on(bytes: &mut Vec<u8>, sink: &mut dyn PieceSink) -> ControlFlow<()> {
        let flow = if bytes.is_empty() {
            ControlFlow::Continue(())
        } else {
            sink.piece(Piece { interface: 0, time: None, bytes })
        };
        bytes.clear();
        flow
    }
    // The backslash of `\x39`.
    let mut escape = false;
    loop {
        sink.pause();
        let n = read_once(&mut input, &mut buffer)?;
        for (index, b) in buffer[..n].iter().enumerate() {
            let digit = (*b as char).to_digit(16).map(|digit| digit as u8);
            match (digit, half) {
                (None, None) if escape == (*b == b'x') && (escape || *b == b'\\') => escape = !escape,
                (Some(digit), None) if !escape => half = Some(digit),
                (Some(digit), Some(high)) => {
                    bytes.push(high << 4 | digit);
                    half = None;
                }
                (None, None) if is_separator(*b) && !escape => {
                    if *b == b'\n' && hand_on(&mut bytes, sink).is_break() {
                        outcome.bytes += index as u64;
                        return Ok(outcome);
                    }
                }
                // The `x` of `0x39`.
                (None, Some(0)) if *b == b'x' || *b == b'X' => half = None,
                (_, half) => {
                    let reason = match half {
                        Some(_) => "a byte has one hex digit only".to_owned(),
                        None => format!("{:?} is not a hex digit", *b as char),
                    };
                    let offset = outcome.bytes + index as u64;
                    let _ = hand_on(&mut bytes, sink);
                    outcome.bytes = offset;
                    outcome.damage = Some(Damage { offset, reason });
                    return Ok(outcome);
                }
            }
        }
        outcome.bytes += n as u64;
        if n == 0 {
            if half.is_some() {
                let reason = "the text ends in the middle of a byte: one hex digit is missing".to_owned();
                outcome.damage = Some(Damage { offset: outcome.bytes, reason });
            }
            let _ = hand_on(&mut bytes, sink);
            return Ok(outcome);
        }
        if bytes.len() >= MAX_LINE && half.is_none() && hand_on(&mut bytes, sink).is_break() {
            return Ok(outcome);
        }
    }
}

/// All bytes of a text that somebody gave by itself.
///
/// # Errors
/// What cannot be read, and where.
pub fn bytes_in(text: &str) -> Result<Vec<u8>, String> {
    let mut all = Collected::default();
    let (first, rest) = text.as_bytes().split_at(text.len().min(DETECT_BYTES));
    let outcome = read(first, rest, &mut all).map_err(|error| error.to_string())?;
    match outcome.damage {
        Some(damage) => Err(format!("{} (at character {})", damage.reason, damage.offset + 1)),
        None => Ok(all.0),
    }
}

#[derive(Default)]
struct Collected(Vec<u8>);

impl PieceSink for Collected {
    fn section(&mut self) {}

    fn interface(&mut self, _: Interface) {}

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        self.0.extend(piece.bytes);
        ControlFlow::Continue(())
    }
}
