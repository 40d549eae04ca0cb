//! Frames of a channel: building one around a body, judging one, and finding them in a stream.

use emberwort_checksum::code::{CrcForm, Language, Printer, about, program};
use emberwort_model::Plan;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::model::End;
use emberwort_model::plan::{Bound, Direction, FrameFinder, KeySource, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;

use super::names::{bytes, class, doc, member, text};
use super::values::{part as part_of, sum, unsigned};
use crate::code::Code;
use crate::lower::frame::{
    Beginning, Check, Escapes, ExpectedValue, Put, Size, Stretch, beginning, checks, covered, escapes, fixed_parts,
    is_chosen, longest_body, puts, right,
};
use crate::lower::pieces;
use crate::names::plain_snake;

/// The frames of one direction.
pub struct Frames<'a> {
    /// The link.
    pub link: &'a Plan,
    /// How they look.
    pub plan: &'a Direction,
    /// What functions end with: `bus485`, or `bus485_from_host`.
    pub stem: String,
}

/// What names of a direction's functions end with.
pub fn stem(name: &str, from: Option<End>) -> String {
    let name = plain_snake(name);
    from.map_or_else(|| name.clone(), |end| format!("{name}_from_{}", end.as_str()))
}

/// Whether frames that come in this way have a receiver.
pub fn has_receiver(finder: FrameFinder) -> bool {
    !matches!(finder, FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. })
}

/// The type that a checksum is computed in.
fn sum_type(algorithm: &Algorithm) -> &'static str {
    if matches!(algorithm, Algorithm::Crc(_)) && algorithm.bits() <= 32 { "u32" } else { "u64" }
}

fn zone(part: &Part) -> &'static str {
    match part.zone {
        Zone::Head => "head",
        Zone::Tail => "tail",
    }
}

/// A part of a frame whose `head` and `tail` are arrays, as an expression; of digits, an option.
fn get(part: &Part) -> String {
    let first = part.at_bit as usize / 8;
    let zone = zone(part);
    if part.hex {
        return format!("digits(&{zone}[{first}..{}])", first + usize::from(part.bits / 4));
    }
    sum(&pieces(part.at_bit as usize, part.bits, part.order), part.bits, &|byte| format!("{zone}[{byte}]"))
}

/// The same as a number, where digits that are none were refused before.
fn number(part: &Part) -> String {
    match (part.hex, unsigned(part.bits)) {
        (false, _) => get(part),
        (true, "u64") => format!("{}.unwrap_or(0)", get(part)),
        (true, ty) => format!("{}.unwrap_or(0) as {ty}", get(part)),
    }
}

fn bound(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => offset.to_string(),
        Bound::Tail(0) => "end".to_owned(),
        Bound::Tail(offset) => format!("end + {offset}"),
    }
}

impl Frames<'_> {
    /// The type that stands for the channel. A message may have the channel's name.
    fn name(&self) -> String {
        class(&format!("{}_channel", self.stem))
    }

    fn frame_name(&self) -> String {
        class(&format!("{}_frame", self.stem))
    }

    fn is_stuffed(&self) -> bool {
        matches!(self.plan.finder, FrameFinder::Stuffed(_) | FrameFinder::Escaped(_))
    }

    pub fn write(&self, code: &mut Code) {
        self.structure(code);
        self.checksums(code);
        self.escapes(code);
        self.build(code);
        self.judge(code);
        self.open(code);
        self.receiver(code);
    }

    fn structure(&self, code: &mut Code) {
        let plan = self.plan;
        code.line("");
        code.lines(doc(&format!("A frame on {}.", plan.name)).trim_end());
        code.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
        code.open(format!("pub struct {}<'a> {{", self.frame_name()));
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            let said = doc(&part.doc);
            code.lines(if said.is_empty() { doc(&part.name) } else { said }.trim_end());
            code.line(format!("pub {}: {},", member(&part.name), unsigned(part.bits)));
        }
        if plan.key_is_outside() {
            code.line("/// What selects the message and stands outside of the frame: a port, or an identifier.");
            code.line("pub key: u32,");
        }
        code.line("/// The body.");
        code.line("pub body: &'a [u8],");
        code.close("}");
    }

    fn checksum_name(&self, index: usize, part: &Part) -> String {
        let name = format!("checksum {index} of {} {}", self.stem, part.name);
        let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        words.map(str::to_ascii_lowercase).collect::<Vec<_>>().join("_")
    }

    /// The functions of the checksums, of CRCs with a table. They take the bytes one after the other.
    fn checksums(&self, code: &mut Code) {
        for (index, part) in self.plan.parts.iter().enumerate() {
            let Role::Checksum { algorithm, .. } = &part.role else { continue };
            let (name, ty, program) =
                (self.checksum_name(index, part), sum_type(algorithm), program(algorithm, CrcForm::Bytes));
            let table = format!("{}_TABLE", name.to_ascii_uppercase());
            let printer = Printer { language: Language::Rust, table: &table, rust_type: ty, indent: "    " };
            code.line("");
            code.line(format!("// {}", about(algorithm)));
            if !program.table.is_empty() {
                code.lines(&printer.table(&program.table, 0));
                code.line("");
            }
            code.open(format!("fn {name}<'a>(bytes: impl Iterator<Item = &'a u8>) -> {ty} {{"));
            code.lines(&printer.body(&program, 0));
            code.close("}");
        }
    }

    /// A checksum of `frame`, as an expression of the type of its part.
    fn checksum(&self, index: usize, part: &Part) -> String {
        let Role::Checksum { algorithm, .. } = &part.role else { return String::new() };
        let piece = |(n, stretch): (usize, &Stretch)| match (n, stretch) {
            (0, Stretch::Bytes(from, to)) => format!("stretch(frame, {}, {}).iter()", bound(*from), bound(*to)),
            (0, Stretch::Zeros(count)) => format!("[0u8; {count}].iter()"),
            (_, Stretch::Bytes(from, to)) => format!(".chain(stretch(frame, {}, {}))", bound(*from), bound(*to)),
            (_, Stretch::Zeros(count)) => format!(".chain(&[0u8; {count}])"),
        };
        let stretches = covered(self.plan, index);
        let bytes = match stretches.as_slice() {
            [] => "[].iter()".to_owned(),
            some => some.iter().enumerate().map(piece).collect(),
        };
        let made = sum_type(algorithm);
        let call = format!("{}({bytes})", self.checksum_name(index, part));
        match (made, unsigned(part.bits)) {
            (made, wanted) if made == wanted => call,
            ("u32", "u64") => format!("u64::from({call})"),
            (_, wanted) => format!("{call} as {wanted}"),
        }
    }

    fn escapes_name(&self) -> String {
        format!("{}_ESCAPES", self.stem.to_ascii_uppercase())
    }

    fn escapes(&self, code: &mut Code) {
        let Some(Escapes { escape, codes, meanings }) = escapes(self.plan) else { return };
        let (name, stem) = (self.escapes_name(), &self.stem);
        let arms = |pairs: &[(u8, u8)]| -> Vec<String> {
            pairs.iter().map(|(from, to)| format!("{from:#04x} => Some({to:#04x}),")).collect()
        };
        code.line("");
        code.open(format!("fn code_of_{stem}(byte: u8) -> Option<u8> {{"));
        code.open("match byte {");
        arms(&codes).iter().for_each(|arm| code.line(arm));
        code.line("_ => None,");
        code.close("}");
        code.close("}");
        code.line("");
        code.open(format!("fn meaning_of_{stem}(code: u8) -> Option<u8> {{"));
        code.open("match code {");
        match meanings.as_slice() {
            few if few.len() < 8 => arms(few).iter().for_each(|arm| code.line(arm)),
            many => {
                let is_none = |code: &u8| !many.iter().any(|(known, _)| known == code);
                let none: Vec<String> = (0..=255).filter(is_none).map(|code| format!("{code:#04x}")).collect();
                let xor = many.first().map_or(0, |(code, byte)| code ^ byte);
                code.line(format!("{} => None,", none.join(" | ")));
                code.line(format!("code => Some(code ^ {xor:#04x}),"));
            }
        }
        if meanings.len() < 8 {
            code.line("_ => None,");
        }
        code.close("}");
        code.close("}");
        code.line("");
        code.line(format!(
            "const {name}: Escapes = Escapes {{ escape: {escape:#04x}, code: code_of_{stem}, meaning: meaning_of_{stem} }};"
        ));
    }

    /// Statements that set a part of `head` or `tail` to a number.
    fn put(part: &Part, value: &str, code: &mut Code) {
        let first = part.at_bit as usize / 8;
        let zone = zone(part);
        if part.hex {
            let value = if unsigned(part.bits) == "u64" { value.to_owned() } else { format!("u64::from({value})") };
            code.line(format!("set_digits(&mut {zone}[{first}..{}], {value});", first + usize::from(part.bits / 4)));
            return;
        }
        for piece in pieces(part.at_bit as usize, part.bits, part.order) {
            let value = part_of(value, &piece, part.bits);
            let value = match (piece.low, value.contains(' ')) {
                (0, _) => value,
                (low, true) => format!("({value}) << {low}"),
                (low, false) => format!("{value} << {low}"),
            };
            let set = if piece.bits == 8 { "=" } else { "|=" };
            code.line(format!("{zone}[{}] {set} {value};", piece.byte));
        }
    }

    fn build(&self, code: &mut Code) {
        let (plan, stem, frame) = (self.plan, &self.stem, self.frame_name());
        let longest = longest_body(plan).unwrap_or(0);
        let about = "/// Writes the frame around a body, as it goes over the wire; how many bytes it has.\n///\n/// # Errors\n/// If a value may not be sent, or the buffer is too short.";
        code.line("");
        code.lines(about);
        let is_packed = self.is_stuffed();
        let is_line = matches!(plan.finder, FrameFinder::Lines { .. });
        if is_packed || is_line {
            code.open(format!("pub fn build_{stem}(of: &{frame}<'_>, out: &mut [u8]) -> Result<usize, Error> {{"));
            match plan.finder {
                FrameFinder::Lines { crlf } => {
                    let end: &[u8] = if crlf { b"\r\n" } else { b"\n" };
                    code.line(format!("let count = plain_{stem}(of, out)?;"));
                    code.line(format!(
                        "*out.get_mut(count..).and_then(|some| some.first_chunk_mut()).ok_or(Error::NoRoom)? = {};",
                        bytes(end)
                    ));
                    code.line(format!("let count = count + {};", end.len()));
                }
                _ => {
                    code.line(format!("let mut plain = [0; {}];", plan.limit.max(plan.head_bytes + plan.tail_bytes)));
                    code.line(format!("let count = plain_{stem}(of, &mut plain).map_err(|error| if error == Error::NoRoom {{ Error::BadLength }} else {{ error }})?;"));
                    code.line("let plain = stretch(&plain, 0, count);");
                    self.stuff(code);
                }
            }
            code.open(format!("if count > {} {{", plan.limit));
            code.line("return Err(Error::BadLength);");
            code.close("}");
            code.line("Ok(count)");
            code.close("}");
            code.line("");
            code.open(format!("fn plain_{stem}(of: &{frame}<'_>, out: &mut [u8]) -> Result<usize, Error> {{"));
        } else {
            code.open(format!("pub fn build_{stem}(of: &{frame}<'_>, out: &mut [u8]) -> Result<usize, Error> {{"));
        }
        code.line("let size = of.body.len();");
        code.open(format!("if size > {longest} {{"));
        code.line("return Err(Error::BadLength);");
        code.close("}");
        if let FrameFinder::StatusBytes { .. } = plan.finder {
            code.open("if of.body.iter().any(|byte| *byte > 0x7f) {");
            code.line(format!("return Err(Error::OutOfRange({}));", text("body")));
            code.close("}");
        }
        code.line(format!("let end = {} + size;", plan.head_bytes));
        code.line(format!("let frame = out.get_mut(..end + {}).ok_or(Error::NoRoom)?;", plan.tail_bytes));
        if plan.head_bytes + plan.tail_bytes > 0 {
            code.line("frame.fill(0);");
        }
        code.line(format!("copy_bytes(frame.get_mut({}..end).ok_or(Error::NoRoom)?, of.body);", plan.head_bytes));
        self.put_around(code);
        if !is_packed && !is_line {
            code.open(format!("if frame.len() > {} {{", plan.limit));
            code.line("return Err(Error::BadLength);");
            code.close("}");
        }
        code.line(format!("Ok(end + {})", plan.tail_bytes));
        code.close("}");
    }

    /// Writes what stands around the body of `frame`.
    fn put_around(&self, code: &mut Code) {
        let (plan, puts) = (self.plan, puts(self.plan));
        let is_ordinary = |put: &&Put<'_>| !matches!(put, Put::Checksum(..));
        let lies_in = |put: &Put<'_>, zone: Zone| put.part().map_or(Zone::Head, |part| part.zone) == zone;
        if puts.iter().filter(is_ordinary).any(|put| lies_in(put, Zone::Head)) {
            code.line(format!(
                "let head: &mut [u8; {}] = frame.first_chunk_mut().ok_or(Error::NoRoom)?;",
                plan.head_bytes
            ));
        }
        // A part of the tail may be one of the head again.
        let is_of_head = |put: &Put<'_>| {
            matches!(put, Put::Value(_, ExpectedValue::Again { of, .. }) if of.zone == Zone::Head)
                && lies_in(put, Zone::Tail)
        };
        let needs_both = puts.iter().any(is_of_head);
        let mut in_tail = false;
        for put in &puts {
            if lies_in(put, Zone::Tail) && is_ordinary(&put) && !in_tail {
                in_tail = true;
                if needs_both {
                    code.line("let head = *head;");
                }
                code.line(format!(
                    "let tail: &mut [u8; {}] = frame.last_chunk_mut().ok_or(Error::NoRoom)?;",
                    plan.tail_bytes
                ));
            }
            self.put_into(*put, code);
        }
    }

    /// Writes one thing into the frame.
    fn put_into(&self, put: Put<'_>, code: &mut Code) {
        match put {
            Put::Sync(sync) => {
                sync.iter().enumerate().for_each(|(n, byte)| code.line(format!("head[{n}] = {byte:#04x};")));
            }
            Put::Given(part) => {
                let (value, name) = (local(part), member(&part.name));
                if part.bits < held_bits(part) {
                    code.open(format!("if of.{name} > {:#x} {{", part.greatest()));
                    code.line(format!("return Err(Error::OutOfRange({}));", text(&part.name)));
                    code.close("}");
                }
                code.line(format!("let {value} = of.{name};"));
                Self::put(part, &value, code);
            }
            Put::Sequence(part) => {
                let (value, name) = (local(part), member(&part.name));
                match part.bits == held_bits(part) {
                    true => code.line(format!("let {value} = of.{name};")),
                    false => code.line(format!("let {value} = of.{name} & {:#x};", part.greatest())),
                }
                Self::put(part, &value, code);
            }
            Put::Value(part, right) => {
                let value = local(part);
                code.line(match right {
                    ExpectedValue::Number(number) => format!("let {value}: {} = {number:#x};", unsigned(part.bits)),
                    ExpectedValue::Again { of, inverted } => format!("let {value} = {};", again(of, inverted, part)),
                });
                Self::put(part, &value, code);
            }
            Put::Count { part, unit, other } => {
                let value = local(part);
                let counted = if other > 0 { format!("size + {other}") } else { "size".to_owned() };
                if unit > 1 {
                    code.open(format!("if ({counted}) % {unit} != 0 {{"));
                    code.line("return Err(Error::BadLength);");
                    code.close("}");
                }
                let counted = if unit > 1 { format!("({counted}) / {unit}") } else { counted };
                code.line(format!("let {value} = {counted};"));
                if part.bits < 64 {
                    code.open(format!("if {value} as u64 > {:#x} {{", part.greatest()));
                    code.line("return Err(Error::BadLength);");
                    code.close("}");
                }
                code.line(format!("let {value} = {value} as {};", unsigned(part.bits)));
                Self::put(part, &value, code);
            }
            Put::Checksum(index, part) => {
                code.line(format!("let sum{index} = {};", self.checksum(index, part)));
                let (size, which) = match part.zone {
                    Zone::Head => (self.plan.head_bytes, "first"),
                    Zone::Tail => (self.plan.tail_bytes, "last"),
                };
                code.line(format!(
                    "let {}: &mut [u8; {size}] = frame.{which}_chunk_mut().ok_or(Error::NoRoom)?;",
                    zone(part)
                ));
                Self::put(part, &format!("sum{index}"), code);
            }
        }
    }

    /// Writes `plain` to `out` as it goes over the wire, and sets `count`.
    fn stuff(&self, code: &mut Code) {
        let name = self.escapes_name();
        match self.plan.finder {
            FrameFinder::Stuffed(Stuffing::Cobs) => code.line("let count = cobs(plain, out)?;"),
            FrameFinder::Stuffed(stuffing) => code.lines(&format!(
                "let mut out = Filled::new(out);\nout.push({0:#04x})?;\n{name}.write(plain, &mut out)?;\nout.push({0:#04x})?;\nlet count = out.count;",
                stuffing.delimiter()
            )),
            _ => {
                let (sync, last) = (self.plan.sync.len(), self.plan.terminator().len());
                code.lines(&format!(
                    "let mut out = Filled::new(out);\nfor byte in stretch(plain, 0, {sync}) {{\n    out.push(*byte)?;\n}}\n\
                     {name}.write(stretch(plain, {sync}, plain.len() - {last}), &mut out)?;\n\
                     for byte in stretch(plain, plain.len() - {last}, plain.len()) {{\n    out.push(*byte)?;\n}}\nlet count = out.count;"
                ));
            }
        }
    }

    /// Declares those of `head` and `tail` in which some parts lie.
    fn head_and_tail(&self, uses_head: bool, parts: &[&Part], code: &mut Code) {
        let lies_in = |zone: Zone| parts.iter().any(|part| part.zone == zone);
        for (name, which, size, is_used) in [
            ("head", "first", self.plan.head_bytes, uses_head || lies_in(Zone::Head)),
            ("tail", "last", self.plan.tail_bytes, lies_in(Zone::Tail)),
        ] {
            if is_used {
                code.line(format!("let {name}: &[u8; {size}] = frame.{which}_chunk().ok_or(Error::BadLength)?;"));
            }
        }
    }

    /// What is looked at in `frame`, whose body ends at `end`.
    fn check(&self, check: Check<'_>, code: &mut Code) {
        let plan = self.plan;
        let fail = |condition: String, error: &str, code: &mut Code| {
            code.open(format!("if {condition} {{"));
            code.line(format!("return Err(Error::{error});"));
            code.close("}");
        };
        match check {
            Check::Bytes(least, most) => {
                let wrong = match least {
                    0 => format!("frame.len() > {}", most.max(1)),
                    1 => format!("frame.len() > {most} || frame.is_empty()"),
                    least => format!("frame.len() > {most} || frame.len() < {least}"),
                };
                fail(wrong, "BadLength", code);
                let checks = checks(plan);
                let needs_end = |check: &Check<'_>| match check {
                    Check::Checksum(index, _) => covered(plan, *index).iter().any(|stretch| stretch.needs_size()),
                    _ => false,
                };
                if checks.iter().any(needs_end) {
                    code.line(format!("let end = frame.len() - {};", plan.tail_bytes));
                }
                let parts: Vec<&Part> = checks.iter().flat_map(Check::parts).collect();
                self.head_and_tail(!plan.sync.is_empty(), &parts, code);
            }
            Check::Sync(sync) => {
                let one = |(n, byte): (usize, &u8)| format!("head[{n}] != {byte:#04x}");
                fail(sync.iter().enumerate().map(one).collect::<Vec<_>>().join(" || "), "BadValue", code);
            }
            Check::Digits(part) => fail(format!("{}.is_none()", get(part)), "BadValue", code),
            Check::Value(part, right) => fail(is_wrong(part, right), "BadValue", code),
            Check::Length { part, unit, other, around } => {
                let said = number(part);
                let said = if unsigned(part.bits) == "u64" { said } else { format!("u64::from({said})") };
                // What no frame can have is not multiplied.
                let wrong = format!(
                    "{} > 0xffff_ffff || ({said}) * {unit} != (frame.len() - {around} + {other}) as u64",
                    bracketed(&said)
                );
                fail(wrong, "BadLength", code);
            }
            Check::Size(bytes) => fail(format!("frame.len() != {bytes}"), "BadLength", code),
            Check::SizeOfKey(part, sizes) => {
                code.open(format!("let size = match {} {{", number(part)));
                sizes.iter().for_each(|(key, size)| code.line(format!("{key:#x} => {size},")));
                code.line("_ => 0,");
                code.close("};");
                fail("frame.len() != size".to_owned(), "BadLength", code);
            }
            Check::Checksum(index, part) => {
                fail(format!("{} != {}", self.checksum(index, part), bracketed(&number(part))), "BadChecksum", code);
            }
        }
    }

    fn judge(&self, code: &mut Code) {
        let plan = self.plan;
        code.line("");
        code.line(format!("/// Judges a plain frame on {}.", plain_text(&plan.name)));
        code.open(format!("fn judge_{}(frame: &[u8]) -> Result<(), Error> {{", self.stem));
        checks(plan).into_iter().for_each(|check| self.check(check, code));
        code.line("Ok(())");
        code.close("}");

        let mut members = Code::default();
        let chosen: Vec<&Part> = plan.parts.iter().filter(|part| is_chosen(part)).collect();
        for part in &chosen {
            members.line(format!("{}: {},", member(&part.name), number(part)));
        }
        let members = members.finish();
        code.line("");
        code.line(format!("/// The parts of a frame on {} that is right.", plain_text(&plan.name)));
        code.open(format!("fn parts_of_{}(frame: &[u8]) -> Result<{}<'_>, Error> {{", self.stem, self.frame_name()));
        self.head_and_tail(false, &chosen, code);
        let end = match plan.tail_bytes {
            0 => "frame.len()".to_owned(),
            tail => format!("frame.len().saturating_sub({tail})"),
        };
        code.line(format!("let body = stretch(frame, {}, {end});", plan.head_bytes));
        code.open(format!("Ok({} {{", self.frame_name()));
        code.lines(&members);
        if plan.key_is_outside() {
            code.line("key: 0,");
        }
        code.line("body,");
        code.close("})");
        code.close("}");
    }

    fn open(&self, code: &mut Code) {
        let (plan, stem, frame) = (self.plan, &self.stem, self.frame_name());
        code.line("");
        code.line("/// Judges one whole frame as it comes over the wire: length, fixed values, checksums.");
        if self.is_stuffed() {
            code.line("/// It is made plain in `room`, which has to be as long as the frame.");
        }
        code.lines("///\n/// # Errors\n/// If something is wrong with it.");
        match self.is_stuffed() {
            true => code.open(format!(
                "pub fn open_{stem}<'a>(wire: &[u8], room: &'a mut [u8]) -> Result<{frame}<'a>, Error> {{"
            )),
            false => code.open(format!("pub fn open_{stem}(wire: &[u8]) -> Result<{frame}<'_>, Error> {{")),
        }
        code.open(format!("if wire.len() > {} {{", plan.limit));
        code.line("return Err(Error::BadLength);");
        code.close("}");
        let name = self.escapes_name();
        match plan.finder {
            FrameFinder::Stuffed(stuffing) => {
                let delimiter = stuffing.delimiter();
                let leads = stuffing.leads();
                code.lines(&match leads {
                    true => format!(
                        "let [{delimiter:#04x}, inner @ .., {delimiter:#04x}] = wire else {{ return Err(Error::BadValue) }};"
                    ),
                    false => format!("let Some(({delimiter:#04x}, inner)) = wire.split_last() else {{ return Err(Error::BadValue) }};"),
                });
                code.line("let some = room.get_mut(..inner.len()).ok_or(Error::NoRoom)?;");
                code.line("copy_bytes(some, inner);");
                code.line(match stuffing {
                    Stuffing::Cobs => "let count = without_cobs(some)?;".to_owned(),
                    _ => format!("let count = {name}.undo(some)?;"),
                });
                code.line("let frame = stretch(some, 0, count);");
            }
            FrameFinder::Escaped(_) => {
                let (sync, last) = (plan.sync.len(), plan.terminator().len());
                code.lines(&format!(
                    "if {} {{\n    return Err(Error::BadLength);\n}}\n\
                     let some = room.get_mut(..wire.len()).ok_or(Error::NoRoom)?;\ncopy_bytes(some, wire);\n\
                     let count = {name}.undo(some.get_mut({sync}..wire.len() - {last}).ok_or(Error::BadLength)?)?;",
                    if sync + last == 1 {
                        "wire.is_empty()".to_owned()
                    } else {
                        format!("wire.len() < {}", sync + last)
                    }
                ));
                if last > 0 {
                    code.lines(&format!(
                        "copy_bytes(some.get_mut({sync} + count..).unwrap_or(&mut []), stretch(wire, wire.len() - {last}, wire.len()));"
                    ));
                }
                code.line(format!("let frame = stretch(some, 0, {} + count);", sync + last));
            }
            FrameFinder::Lines { crlf } => {
                let pattern = if crlf { "[frame @ .., 0x0d, 0x0a]" } else { "[frame @ .., 0x0a]" };
                code.line(format!("let {pattern} = wire else {{ return Err(Error::BadValue) }};"));
            }
            _ => code.line("let frame = wire;"),
        }
        code.line(format!("judge_{stem}(frame)?;"));
        code.line(format!("parts_of_{stem}(frame)"));
        code.close("}");
    }

    /// The receiver, for channels whose frames come in a stream of bytes.
    fn receiver(&self, code: &mut Code) {
        let plan = self.plan;
        let base = match plan.finder {
            FrameFinder::Sync => "FindsBySync",
            FrameFinder::Idle { .. } => "FindsBySilence",
            FrameFinder::Stuffed(_) => "FindsByDelimiter",
            FrameFinder::Escaped(_) => "FindsByEscapes",
            FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. } => return,
        };
        let (name, stem, frame) = (self.name(), &self.stem, self.frame_name());
        let message = class(&format!("{stem}_message"));
        code.line("");
        code.lines(doc(&format!("A message on {}.", plan.name)).trim_end());
        code.line("#[derive(Clone, Copy, Debug, PartialEq)]");
        code.open(format!("pub enum {message} {{"));
        let mut seen = std::collections::BTreeSet::new();
        for (_, index) in plan.keys.iter().filter(|(_, index)| seen.insert(*index)) {
            let said = &self.link.messages[*index].message;
            let name = class(&said.name);
            code.lines(doc(&said.name).trim_end());
            code.line(format!("{name}({name}),"));
        }
        code.close("}");
        code.line("");
        code.lines(doc(&format!("The frames of {}.", plan.name)).trim_end());
        code.line("#[derive(Clone, Copy, Debug, PartialEq, Eq)]");
        code.line(format!("pub enum {name} {{}}"));
        code.line("");
        code.open(format!("impl Frames for {name} {{"));
        code.line(format!("type Frame<'a> = {frame}<'a>;"));
        code.line(format!("type Message = {message};"));
        code.line(format!("const LOOKS_INSIDE: bool = {};", plan.looks_inside_unread()));
        code.line("");
        code.open("fn judge(plain: &[u8]) -> Result<(), Error> {");
        code.line(format!("judge_{stem}(plain)"));
        code.close("}");
        code.line("");
        code.open("fn frame(plain: &[u8]) -> Option<Self::Frame<'_>> {");
        code.line(format!("parts_of_{stem}(plain).ok()"));
        code.close("}");
        code.line("");
        code.open("fn read(plain: &[u8]) -> Result<Self::Message, Error> {");
        code.line(format!("let frame = parts_of_{stem}(plain)?;"));
        let key = match (plan.key_part(), plan.selected_by, plan.keys.first()) {
            (Some(part), ..) => format!("frame.{}", member(&part.name)),
            (None, KeySource::Port | KeySource::CanId | KeySource::Endpoint, _) => "frame.key".to_owned(),
            (None, KeySource::Size, _) => "frame.body.len()".to_owned(),
            (None, _, Some((key, _))) => format!("{key}u64"),
            (None, _, None) => "0".to_owned(),
        };
        code.open(format!("match {key} {{"));
        for (key, index) in &plan.keys {
            let name = class(&self.link.messages[*index].message.name);
            code.line(format!("{key:#x} => {name}::decode(frame.body).map({message}::{name}),"));
        }
        code.line("_ => Err(Error::UnknownMessage),");
        code.close("}");
        code.close("}");
        code.close("}");
        if let FrameFinder::Sync | FrameFinder::Escaped(_) = plan.finder {
            code.line("");
            code.open(format!("impl SyncFrames for {name} {{"));
            code.line(format!("const SYNC: &'static [u8] = &{};", bytes(&plan.sync)));
            self.size(code);
            code.close("}");
        }
        match plan.finder {
            FrameFinder::Stuffed(stuffing) => {
                code.line("");
                code.open(format!("impl DelimitedFrames for {name} {{"));
                code.line(format!("const DELIMITER: u8 = {:#04x};", stuffing.delimiter()));
                code.line(format!("const LEADS: bool = {};", stuffing.leads()));
                code.line("");
                code.open("fn plain(some: &mut [u8]) -> Result<usize, Error> {");
                code.line(match stuffing {
                    Stuffing::Cobs => "without_cobs(some)".to_owned(),
                    _ => format!("{}.undo(some)", self.escapes_name()),
                });
                code.close("}");
                code.close("}");
            }
            FrameFinder::Escaped(escape) => {
                code.line("");
                code.open(format!("impl EscapedFrames for {name} {{"));
                code.line(format!("const END: &'static [u8] = &{};", bytes(&plan.terminator())));
                code.line(format!("const ESCAPE: u8 = {:#04x};", escape.escape));
                code.line(format!("const HEAD: usize = {};", plan.head_bytes));
                code.line("");
                code.open("fn code(byte: u8) -> Option<u8> {");
                code.line(format!("code_of_{stem}(byte)"));
                code.close("}");
                code.line("");
                code.open("fn meaning(code: u8) -> Option<u8> {");
                code.line(format!("meaning_of_{stem}(code)"));
                code.close("}");
                code.line("");
                let fixed = fixed_parts(plan, 0, plan.head_bytes);
                match fixed.is_empty() {
                    true => {
                        code.open("fn has_wrong_head(_: &[u8]) -> bool {");
                        code.line("false");
                    }
                    false => {
                        code.open("fn has_wrong_head(head: &[u8]) -> bool {");
                        code.line(format!(
                            "let Some(head) = head.first_chunk::<{}>() else {{ return true }};",
                            plan.head_bytes
                        ));
                        code.line(self.are_wrong(&fixed));
                    }
                }
                code.close("}");
                code.close("}");
            }
            _ => {}
        }
        code.line("");
        code.lines(doc(&format!("Finds frames of {} in a stream.", plan.name)).trim_end());
        code.line(format!("pub type {} = {base}<{name}, {}>;", class(&format!("{stem}_receiver")), plan.limit));
    }

    fn are_wrong(&self, parts: &[usize]) -> String {
        let one = |index: &usize| {
            let part = &self.plan.parts[*index];
            Some(is_wrong(part, right(self.plan, part)?))
        };
        parts.iter().filter_map(one).collect::<Vec<_>>().join(" || ")
    }

    /// How long a frame is, by its first bytes.
    fn size(&self, code: &mut Code) {
        let Beginning { needs, first, size, then: (whole, then) } = beginning(self.plan);
        code.line("");
        if let Size::Unknown = size {
            code.open("fn size(_: &[u8]) -> Size {");
            code.line("Size::None(Error::BadLength)");
            code.close("}");
            return;
        }
        let mut inner = Code::default();
        if !first.is_empty() {
            inner.open(format!("if {} {{", self.are_wrong(&first)));
            inner.line("return Size::None(Error::BadValue);");
            inner.close("}");
        }
        let result = match &size {
            Size::Said { part, unit, other, around, greatest } => {
                let part = &self.plan.parts[*part];
                if part.hex {
                    inner.line(format!(
                        "let Some(count) = {} else {{ return Size::None(Error::BadLength) }};",
                        get(part)
                    ));
                } else {
                    inner.line(format!("let count = {};", get(part)));
                }
                let count = if unsigned(part.bits) == "u64" || part.hex {
                    "count".to_owned()
                } else {
                    "u64::from(count)".to_owned()
                };
                inner.open(format!("if {count} > {greatest} {{"));
                inner.line("return Size::None(Error::BadLength);");
                inner.close("}");
                let counted = if *unit > 1 { format!("count as usize * {unit}") } else { "count as usize".to_owned() };
                inner.line(format!("let count = {counted};"));
                if *other > 0 {
                    inner.open(format!("if count < {other} {{"));
                    inner.line("return Size::None(Error::BadLength);");
                    inner.close("}");
                }
                match (*around).cmp(other) {
                    std::cmp::Ordering::Less => format!("count - {}", other - around),
                    std::cmp::Ordering::Equal => "count".to_owned(),
                    std::cmp::Ordering::Greater => format!("count + {}", around - other),
                }
            }
            Size::Always(size) => size.to_string(),
            Size::OfKey { part, sizes } => {
                let part = &self.plan.parts[*part];
                inner.open(format!("let size = match {} {{", number(part)));
                for (key, size) in sizes {
                    inner.line(format!("{key:#x} => {size},"));
                }
                inner.line("_ => return Size::None(Error::BadLength),");
                inner.close("};");
                "size".to_owned()
            }
            Size::Unknown => String::new(),
        };
        let inner = inner.finish();
        code.open("fn size(frame: &[u8]) -> Size {");
        // Those are parts of the head.
        match !first.is_empty() || !matches!(size, Size::Always(_)) {
            true => code.line(format!("let Some(head) = frame.first_chunk::<{needs}>() else {{ return Size::More }};")),
            false => {
                code.open(if needs == 1 {
                    "if frame.is_empty() {".to_owned()
                } else {
                    format!("if frame.len() < {needs} {{")
                });
                code.line("return Size::More;");
                code.close("}");
            }
        }
        code.lines(&inner);
        if !then.is_empty() {
            code.open(format!("if let Some(head) = frame.first_chunk::<{whole}>() {{"));
            code.open(format!("if {} {{", self.are_wrong(&then)));
            code.line("return Size::None(Error::BadValue);");
            code.close("}");
            code.close("}");
        }
        code.line(format!("Size::Is({result})"));
        code.close("}");
    }
}

/// A name without what Markdown would read.
fn plain_text(name: &str) -> String {
    doc(name).trim_start_matches("/// ").trim_end().to_owned()
}

fn bracketed(value: &str) -> String {
    if value.contains(' ') { format!("({value})") } else { value.to_owned() }
}

/// The name of the variable that holds what is written into a part.
fn local(part: &Part) -> String {
    format!("{}_bit_{}", zone(part), part.at_bit)
}

/// The bits of the type that holds a part's value.
fn held_bits(part: &Part) -> u8 {
    part.bits.next_power_of_two().max(8)
}

/// The value of an earlier part again, or each of its bits the other one, as the type of a part.
fn again(of: &Part, inverted: bool, part: &Part) -> String {
    let (ty, wanted) = (unsigned(of.bits), unsigned(part.bits));
    let value = number(of);
    let value = if inverted { format!("({value}) ^ {:#x}", of.greatest()) } else { value };
    if ty == wanted { value } else { format!("({value}) as {wanted}") }
}

/// Whether a part has another than its right value, as an expression.
fn is_wrong(part: &Part, right: ExpectedValue<'_>) -> String {
    match (right, part.hex) {
        (ExpectedValue::Number(value), false) => format!("{} != {value:#x}", bracketed(&get(part))),
        (ExpectedValue::Number(value), true) => format!("{} != Some({value:#x})", get(part)),
        (ExpectedValue::Again { of, inverted }, false) => {
            format!("{} != {}", bracketed(&get(part)), bracketed(&again(of, inverted, part)))
        }
        (ExpectedValue::Again { of, inverted }, true) => {
            let again = again(of, inverted, part);
            let again = if unsigned(part.bits) == "u64" { again } else { format!("u64::from({again})") };
            format!("{} != Some({again})", get(part))
        }
    }
}
