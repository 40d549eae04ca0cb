//! Frames of a channel: building one around a body, judging one, and finding them in a stream.

use std::cmp::Ordering;

use emberwort_checksum::code::{CrcForm, Language, Printer, about, program};
use emberwort_model::model::End;
use emberwort_model::plan::{Bound, Direction, FrameFinder, KeySource, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;

use super::names::{bytes, class, comment, doc, little, member, text};
use super::numbers::{NumberRepresentation, literal, sum};
use crate::code::Code;
use crate::lower::frame::{
    Beginning, Check, Escapes, ExpectedValue, Put, Size, Stretch, beginning, checks, covered, escapes, fixed_parts,
    is_chosen, longest_body, puts, right,
};
use crate::lower::pieces;
use crate::names::plain_snake;

/// The frames of one direction.
pub struct Frames<'a> {
    /// How they look.
    pub plan: &'a Direction,
    /// What names end with: `Bus485`, or `Bus485FromHost`.
    pub stem: String,
}

/// The receiver's name in the list of all of them: `bus485`, or `bus485_from_host`.
pub fn key(name: &str, from: Option<End>) -> String {
    let name = plain_snake(name);
    from.map_or_else(|| name.clone(), |end| format!("{name}_from_{}", end.as_str()))
}

/// The name of a direction's table of messages: `BUS485_MESSAGES`.
pub fn messages(name: &str, from: Option<End>) -> String {
    format!("{}_MESSAGES", key(name, from).to_ascii_uppercase())
}

/// Whether frames that come in this way have a receiver.
pub fn has_receiver(finder: FrameFinder) -> bool {
    !matches!(finder, FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. })
}

/// Whether a part's values are of type BigInt.
pub fn is_wide(part: &Part) -> bool {
    NumberRepresentation::of(part.bits) == NumberRepresentation::Wide
}

fn place(part: &Part, byte: usize) -> String {
    match (part.zone, byte) {
        (Zone::Head, byte) => byte.to_string(),
        (Zone::Tail, 0) => "end".to_owned(),
        (Zone::Tail, byte) => format!("end + {byte}"),
    }
}

fn bound(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => offset.to_string(),
        Bound::Tail(0) => "end".to_owned(),
        Bound::Tail(offset) => format!("end + {offset}"),
    }
}

/// A part of `frame`, as an expression. Digits that are none give a negative number, which no part has.
fn get(part: &Part) -> String {
    let first = part.at_bit as usize / 8;
    if part.hex {
        let digits = if is_wide(part) { "wideDigits" } else { "digits" };
        return format!("{digits}(frame, {}, {})", place(part, first), place(part, first + usize::from(part.bits / 4)));
    }
    let at = |byte: usize| format!("frame[{}]", place(part, byte));
    sum(&pieces(part.at_bit as usize, part.bits, part.order), part.bits, &at)
}

/// Sets a part of `out`.
fn put(part: &Part, value: &str, code: &mut Code) {
    let first = part.at_bit as usize / 8;
    if part.hex {
        let set = if is_wide(part) { "setWideDigits" } else { "setDigits" };
        code.line(format!("{set}(out, {}, {value}, {});", place(part, first), part.bits / 4));
        return;
    }
    if part.bits == 8 && part.at_bit.is_multiple_of(8) {
        code.line(format!("out[{}] = {value};", place(part, first)));
        return;
    }
    let halves = match NumberRepresentation::of(part.bits) {
        NumberRepresentation::Small => format!("{value}, 0"),
        NumberRepresentation::Large => format!("({value}) >>> 0, upper({value})"),
        NumberRepresentation::Wide => format!("lowOf({value}), highOf({value})"),
    };
    let at = match part.zone {
        Zone::Head => part.at_bit.to_string(),
        Zone::Tail => format!("end * 8 + {}", part.at_bit),
    };
    code.line(format!("setBits(out, {at}, {halves}, {}, {});", part.bits, little(part.order)));
}

impl Frames<'_> {
    /// The right value of a part, as an expression over `frame`.
    fn right(part: &Part, right: ExpectedValue<'_>) -> String {
        match right {
            ExpectedValue::Number(value) => literal(i128::from(value), part.bits),
            ExpectedValue::Again { of, inverted: false } => format!("({})", get(of)),
            ExpectedValue::Again { of, inverted: true } => {
                format!("({} - ({}))", literal(i128::from(of.greatest()), of.bits), get(of))
            }
        }
    }

    /// A checksum's function, and its table.
    fn checksum_names(&self, index: usize, part: &Part) -> (String, String) {
        let name = format!("checksum {index} of {} {}", plain_snake(&self.stem), part.name);
        let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        let words: Vec<String> = words.map(str::to_ascii_lowercase).collect();
        let camel = words.iter().enumerate().map(|(n, word)| match n {
            0 => word.clone(),
            _ => word[..1].to_ascii_uppercase() + &word[1..],
        });
        (camel.collect(), format!("{}_TABLE", words.join("_").to_ascii_uppercase()))
    }

    fn checksum(&self, index: usize, part: &Part) -> String {
        let Role::Checksum { algorithm, .. } = &part.role else { return String::new() };
        let call = format!("{}({})", self.checksum_names(index, part).0, self.covered(index));
        // Wider ones give a BigInt, and so have values of more than 53 bits.
        match (algorithm.bits() > 32, is_wide(part)) {
            (true, false) => format!("Number({call})"),
            (false, true) => format!("BigInt({call})"),
            _ => call,
        }
    }

    fn covered(&self, index: usize) -> String {
        let piece = |stretch: &Stretch| match stretch {
            Stretch::Bytes(from, to) => format!("frame.slice({}, {})", bound(*from), bound(*to)),
            Stretch::Zeros(count) => format!("zeros({count})"),
        };
        let all: Vec<String> = covered(self.plan, index).iter().map(piece).collect();
        match all.as_slice() {
            [one] => one.clone(),
            all => format!("joined([{}])", all.join(", ")),
        }
    }

    /// The functions of the checksums, of CRCs with a table.
    fn checksums(&self, code: &mut Code) {
        for (index, part) in self.plan.parts.iter().enumerate() {
            let Role::Checksum { algorithm, .. } = &part.role else { continue };
            let ((name, table), program) = (self.checksum_names(index, part), program(algorithm, CrcForm::Bytes));
            let language = Language::JavaScript.for_bits(algorithm.bits());
            let printer = Printer { language, table: &table, rust_type: "", indent: "  " };
            code.line("");
            code.line(format!("// {}", about(algorithm)));
            if !program.table.is_empty() {
                code.lines(&printer.table(&program.table, 0));
                code.line("");
            }
            code.open(format!("function {name}(bytes) {{"));
            code.lines(&printer.body(&program, 0));
            code.close("}");
        }
    }

    /// The codes and their meanings as arguments.
    fn codes(&self) -> Option<(u8, String, String)> {
        let Escapes { escape, codes, meanings } = escapes(self.plan)?;
        let table = |pairs: &[(u8, u8)]| {
            let all: Vec<String> = pairs.iter().map(|(from, to)| format!("{from}: {to}")).collect();
            format!("{{ {} }}", all.join(", "))
        };
        Some((escape, table(&codes), table(&meanings)))
    }

    fn tables(&self) -> (String, String) {
        let upper = plain_snake(&self.stem).to_ascii_uppercase();
        (format!("{upper}_CODES"), format!("{upper}_MEANINGS"))
    }

    /// Building and opening frames.
    pub fn functions(&self, code: &mut Code) {
        self.checksums(code);
        if let Some((_, codes, meanings)) = self.codes() {
            let (codes_name, meanings_name) = self.tables();
            code.line("");
            code.line(format!("var {codes_name} = {codes};"));
            code.line(format!("var {meanings_name} = {meanings};"));
        }
        self.build(code);
        self.open(code);
    }

    fn build(&self, code: &mut Code) {
        let (plan, stem) = (self.plan, &self.stem);
        code.line("");
        code.line("/** The frame around a body, as it goes over the wire. */");
        code.open(format!("function build{stem}(of) {{"));
        let longest = longest_body(plan).unwrap_or(0);
        code.line(format!("var body = checkedBytes(of.body, {}), size = body.length, out = [], end, n;", text("body")));
        code.lines(&format!(
            "if (size > {longest}) {{\n  throw badLength(size + \" bytes are more than the {longest} of the longest body\");\n}}"
        ));
        if let FrameFinder::StatusBytes { .. } = plan.finder {
            code.lines(
                "for (n = 0; n < size; n++) {\n  if (body[n] > 0x7f) {\n    throw outOfRange(\"body\", body[n]);\n  }\n}",
            );
        }
        code.lines(&format!(
            "end = {0} + size;\nfor (n = 0; n < {0}; n++) {{\n  out.push(0);\n}}\nfor (n = 0; n < size; n++) {{\n  out.push(body[n]);\n}}\n\
             for (n = 0; n < {1}; n++) {{\n  out.push(0);\n}}",
            plan.head_bytes, plan.tail_bytes
        ));
        let looks_back = |put: &Put<'_>| matches!(put, Put::Checksum(..) | Put::Value(_, ExpectedValue::Again { .. }));
        if puts(plan).iter().any(looks_back) {
            code.line("var frame = out;");
        }
        for one in puts(plan) {
            self.put_into(one, code);
        }
        self.stuff(code);
        code.lines(&format!(
            "if (out.length > {0}) {{\n  throw badLength(out.length + \" bytes are more than a frame has here: {0}\");\n}}\nreturn bytesOf(out);",
            plan.limit
        ));
        code.close("}");
    }

    /// Writes one thing around the body of `out`.
    fn put_into(&self, one: Put<'_>, code: &mut Code) {
        match one {
            Put::Sync(sync) => {
                sync.iter().enumerate().for_each(|(n, byte)| code.line(format!("out[{n}] = {byte:#04x};")));
            }
            Put::Given(part) => {
                let (name, greatest) = (member(&part.name), literal(i128::from(part.greatest()), part.bits));
                let is_number = match is_wide(part) {
                    true => format!("typeof of.{name} === \"bigint\""),
                    false => format!("isWhole(of.{name})"),
                };
                code.lines(&format!(
                    "if (!({is_number} && of.{name} >= 0 && of.{name} <= {greatest})) {{\n  throw outOfRange({}, of.{name});\n}}",
                    text(&part.name)
                ));
                put(part, &format!("of.{name}"), code);
            }
            Put::Sequence(part) => {
                let name = member(&part.name);
                let is_number = match is_wide(part) {
                    true => format!("typeof of.{name} === \"bigint\""),
                    false => format!("isWhole(of.{name}) && of.{name} >= 0"),
                };
                code.lines(&format!(
                    "if (!({is_number})) {{\n  throw outOfRange({}, of.{name});\n}}",
                    text(&part.name)
                ));
                let kept = match NumberRepresentation::of(part.bits) {
                    NumberRepresentation::Small if part.bits == 8 => format!("of.{name} & 0xff"),
                    NumberRepresentation::Wide => format!("BigInt.asUintN({}, of.{name})", part.bits),
                    _ => format!("of.{name} % {}", 1u64 << part.bits),
                };
                put(part, &kept, code);
            }
            Put::Value(part, right) => put(part, &Self::right(part, right), code),
            Put::Count { part, unit, other } => {
                let counted = if other > 0 { format!("(size + {other})") } else { "size".to_owned() };
                let counted = if unit > 1 { format!("{counted} / {unit}") } else { counted };
                code.lines(&format!(
                    "n = {counted};\nif (n % 1 !== 0 || n > {}) {{\n  \
                     throw badLength(\"a body of \" + size + \" bytes has no length here\");\n}}",
                    part.greatest()
                ));
                put(part, if is_wide(part) { "BigInt(n)" } else { "n" }, code);
            }
            Put::Checksum(index, part) => {
                code.line(format!("var sum{index} = {};", self.checksum(index, part)));
                put(part, &format!("sum{index}"), code);
            }
        }
    }

    /// Makes of `out` what goes over the wire.
    fn stuff(&self, code: &mut Code) {
        let (codes, _) = self.tables();
        let escape = self.codes().map_or(0, |(escape, ..)| escape);
        match self.plan.finder {
            FrameFinder::Stuffed(Stuffing::Cobs) => code.line("out = cobs(out);"),
            FrameFinder::Stuffed(stuffing) => {
                let around = stuffing.delimiter();
                code.line(format!(
                    "out = [{around:#04x}].concat(escaped(out, 0, out.length, {escape:#04x}, {codes}), [{around:#04x}]);"
                ));
            }
            FrameFinder::Escaped(_) => {
                let (sync, last) = (self.plan.sync.len(), self.plan.terminator().len());
                code.line(format!("n = out.length - {last};"));
                code.line(format!(
                    "out = out.slice(0, {sync}).concat(escaped(out, {sync}, n, {escape:#04x}, {codes}), out.slice(n));"
                ));
            }
            FrameFinder::Lines { crlf: true } => code.line("out.push(0x0d, 0x0a);"),
            FrameFinder::Lines { crlf: false } => code.line("out.push(0x0a);"),
            _ => {}
        }
    }

    /// Sets `frame` to the plain frame of what came over the wire.
    fn plain(&self, code: &mut Code) {
        let (codes, meanings) = self.tables();
        let escape = self.codes().map_or(0, |(escape, ..)| escape);
        match self.plan.finder {
            FrameFinder::Stuffed(Stuffing::Cobs) => code.line("frame = withoutCobs(wire);"),
            FrameFinder::Stuffed(stuffing) => {
                let around = stuffing.delimiter();
                code.lines(&format!(
                    "if (wire.length < 2 || wire[0] !== {around:#04x} || wire[wire.length - 1] !== {around:#04x}) {{\n  \
                     throw badValue(\"a frame begins and ends with a delimiter\");\n}}\n\
                     frame = bytesOf(unescaped(wire, 1, wire.length - 1, {escape:#04x}, {codes}, {meanings}));"
                ));
            }
            FrameFinder::Escaped(_) => {
                let (sync, last) = (self.plan.sync.len(), self.plan.terminator().len());
                code.lines(&format!(
                    "var last = Math.max({sync}, wire.length - {last});\n\
                     frame = bytesOf(joined([wire.slice(0, {sync}), unescaped(wire, {sync}, last, {escape:#04x}, {codes}, {meanings}), wire.slice(last)]));"
                ));
            }
            FrameFinder::Lines { crlf } => {
                let (count, end) = if crlf { (2, "\r\n") } else { (1, "\n") };
                let is_ended = (0..count)
                    .map(|n| format!("wire[wire.length - {}] !== {}", count - n, end.as_bytes()[n]))
                    .collect::<Vec<_>>();
                code.lines(&format!(
                    "if ({}) {{\n  throw badValue(\"a line has no end\");\n}}\nframe = wire.slice(0, wire.length - {count});",
                    is_ended.join(" || ")
                ));
            }
            _ => code.line("frame = wire;"),
        }
    }

    fn open(&self, code: &mut Code) {
        let (plan, stem) = (self.plan, &self.stem);
        code.line("");
        code.line("/** Judges one whole frame as it comes over the wire: length, fixed values, checksums. */");
        code.open(format!("function open{stem}(wire) {{"));
        code.line("var frame;");
        too_long("wire", plan.limit, code);
        self.plain(code);
        code.line(format!("return judge{stem}(frame);"));
        code.close("}");
        code.line("");
        code.open(format!("function judge{stem}(frame) {{"));
        code.line(format!("var end = frame.length - {};", plan.tail_bytes));
        for check in checks(plan) {
            self.check(check, code);
        }
        let mut members: Vec<String> = plan
            .parts
            .iter()
            .filter(|part| is_chosen(part))
            .map(|part| format!("{}: {}", member(&part.name), get(part)))
            .collect();
        if plan.key_is_outside() {
            members.push("key: 0".to_owned());
        }
        members.push(format!("body: frame.slice({}, end)", plan.head_bytes));
        code.open("return {");
        code.lines(&members.join(",\n"));
        code.close("};");
        code.close("}");
    }

    /// What is looked at in `frame`, whose body ends at `end`.
    fn check(&self, check: Check<'_>, code: &mut Code) {
        let said = |part: &Part, what: &str| text(&format!("{} {what}", part.name));
        let fail = |condition: String, error: String, code: &mut Code| {
            code.lines(&format!("if ({condition}) {{\n  throw {error};\n}}"));
        };
        match check {
            Check::Bytes(least, most) => {
                if most > 0 {
                    too_long("frame", most, code);
                }
                if least > 0 {
                    let short =
                        format!("badLength(frame.length + \" bytes are fewer than the {least} around a body\")");
                    fail(format!("frame.length < {least}"), short, code);
                }
            }
            Check::Sync(sync) => {
                let one = |(n, byte): (usize, &u8)| format!("frame[{n}] !== {byte:#04x}");
                let wrong: Vec<String> = sync.iter().enumerate().map(one).collect();
                fail(wrong.join(" || "), "badValue(\"the sync bytes are others\")".to_owned(), code);
            }
            Check::Digits(part) => {
                fail(format!("{} < 0", get(part)), format!("badValue({})", said(part, "is not in hex digits")), code);
            }
            Check::Value(part, right) => {
                let wrong = format!("badValue({})", said(part, "is another value"));
                fail(Self::is_wrong(part, right), wrong, code);
            }
            Check::Length { part, unit, other, around } => {
                let count = if is_wide(part) { format!("Number({})", get(part)) } else { format!("({})", get(part)) };
                let count = if unit > 1 { format!("{count} * {unit}") } else { count };
                let whole = match other.cmp(&around) {
                    Ordering::Less => format!("frame.length - {}", around - other),
                    Ordering::Equal => "frame.length".to_owned(),
                    Ordering::Greater => format!("frame.length + {}", other - around),
                };
                let wrong = format!("badLength({})", said(part, "says another length"));
                fail(format!("{count} !== {whole}"), wrong, code);
            }
            Check::Size(bytes) => {
                let wrong = format!("badLength(frame.length + \" bytes are not the {bytes} of a frame\")");
                fail(format!("frame.length !== {bytes}"), wrong, code);
            }
            Check::SizeOfKey(part, sizes) => {
                let wrong = "badLength(frame.length + \" bytes are not those of a frame with its key\")".to_owned();
                fail(format!("{} !== frame.length", size_of_key(part, &sizes)), wrong, code);
            }
            Check::Checksum(index, part) => {
                let wrong = format!("new LinkError(\"bad_checksum\", {})", said(part, "differs"));
                fail(format!("{} !== ({})", self.checksum(index, part), get(part)), wrong, code);
            }
        }
    }

    /// Whether a part has another than its right value, as an expression.
    fn is_wrong(part: &Part, right: ExpectedValue<'_>) -> String {
        format!("({}) !== {}", get(part), Self::right(part, right))
    }

    fn are_wrong(&self, parts: &[usize]) -> String {
        let one = |index: &usize| {
            let part = &self.plan.parts[*index];
            Some(Self::is_wrong(part, right(self.plan, part)?))
        };
        parts.iter().filter_map(one).collect::<Vec<_>>().join(" || ")
    }

    /// The receiver, for channels whose frames come in a stream of bytes.
    pub fn receiver(&self, messages: &str, code: &mut Code) {
        let plan = self.plan;
        let base = match plan.finder {
            FrameFinder::Sync => "FindsBySync",
            FrameFinder::Idle { .. } => "FindsBySilence",
            FrameFinder::Stuffed(_) => "FindsByDelimiter",
            FrameFinder::Escaped(_) => "FindsByEscapes",
            FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. } => return,
        };
        let stem = &self.stem;
        let name = receiver_class(stem);
        code.line("");
        code.lines(&comment(&format!("Finds frames of {} in a stream.", doc(&plan.name))));
        code.open(format!("export class {name} extends {base} {{"));
        code.open("open(plain) {");
        code.line(format!("return judge{stem}(plain);"));
        code.close("}");
        code.line("");
        let (argument, key) = match (plan.key_part(), plan.selected_by, plan.keys.first()) {
            (Some(part), ..) => ("frame", format!("frame.{}", member(&part.name))),
            (None, KeySource::Port | KeySource::CanId | KeySource::Endpoint, _) => ("frame", "frame.key".to_owned()),
            (None, KeySource::Size, _) => ("frame", "frame.body.length".to_owned()),
            (None, _, Some((key, _))) => ("", format!("{key:#x}")),
            (None, _, None) => ("", "0".to_owned()),
        };
        code.open(format!("key({argument}) {{"));
        code.line(format!("return {key};"));
        code.close("}");
        let (codes, meanings) = self.tables();
        let escape = self.codes().map_or(0, |(escape, ..)| escape);
        if let FrameFinder::Stuffed(stuffing) = plan.finder {
            code.line("");
            code.open("plain(some) {");
            code.line(match stuffing {
                Stuffing::Cobs => "return withoutCobs([...some, 0]);".to_owned(),
                _ => format!("return bytesOf(unescaped(some, 0, some.length, {escape:#04x}, {codes}, {meanings}));"),
            });
            code.close("}");
        }
        if let FrameFinder::Escaped(_) = plan.finder {
            code.line("");
            let wrong = self.are_wrong(&fixed_parts(plan, 0, plan.head_bytes));
            code.open(if wrong.is_empty() { "hasWrongHead() {" } else { "hasWrongHead(frame) {" });
            code.line(format!("return {};", if wrong.is_empty() { "false" } else { &wrong }));
            code.close("}");
        }
        if let FrameFinder::Sync | FrameFinder::Escaped(_) = plan.finder {
            self.size(code);
        }
        code.close("}");
        let looks_inside = if plan.looks_inside_unread() { "true" } else { "false" };
        let mut settings = vec![
            ("limit", plan.limit.to_string()),
            ("messages", messages.to_owned()),
            ("looksInside", looks_inside.to_owned()),
        ];
        match plan.finder {
            FrameFinder::Sync => settings.push(("sync", bytes(&plan.sync))),
            FrameFinder::Stuffed(stuffing) => {
                settings.push(("delimiter", format!("{:#04x}", stuffing.delimiter())));
                settings.push(("leads", if stuffing.leads() { "true" } else { "false" }.to_owned()));
            }
            FrameFinder::Escaped(_) => settings.extend([
                ("sync", bytes(&plan.sync)),
                ("end", bytes(&plan.terminator())),
                ("escape", format!("{escape:#04x}")),
                ("codes", codes),
                ("meanings", meanings),
                ("headBytes", plan.head_bytes.to_string()),
            ]),
            _ => {}
        }
        for (setting, value) in settings {
            code.line(format!("{name}.prototype.{setting} = {value};"));
        }
    }

    /// How long a frame is, by its first bytes.
    fn size(&self, code: &mut Code) {
        let Beginning { needs, first, size, then: (whole, then) } = beginning(self.plan);
        code.line("");
        code.line("// How long the frame is: 0 if that cannot be said yet, -1 if it is none.");
        code.open(match (&size, needs) {
            (Size::Unknown, 0) => "size() {",
            _ => "size(frame) {",
        });
        let wrong = |parts: &[usize], code: &mut Code| {
            let wrong = self.are_wrong(parts);
            if !wrong.is_empty() {
                code.lines(&format!("if ({wrong}) {{\n  this.badValues += 1;\n  return -1;\n}}"));
            }
        };
        if needs > 0 {
            code.lines(&format!("if (frame.length < {needs}) {{\n  return 0;\n}}"));
        }
        wrong(&first, code);
        let result = match &size {
            Size::Said { part, unit, other, around, greatest } => {
                let part = &self.plan.parts[*part];
                let said = if is_wide(part) { format!("Number({})", get(part)) } else { get(part) };
                code.line(format!("const count = {said};"));
                code.lines(&format!(
                    "if (!(count >= 0 && count <= {greatest}) || count * {unit} < {other}) {{\n  this.badLengths += 1;\n  return -1;\n}}"
                ));
                format!("count * {unit} - {other} + {around}")
            }
            Size::Always(size) => size.to_string(),
            Size::OfKey { part, sizes } => {
                code.line(format!("const size = {};", size_of_key(&self.plan.parts[*part], sizes)));
                code.lines("if (size === undefined) {\n  this.badLengths += 1;\n  return -1;\n}");
                "size".to_owned()
            }
            Size::Unknown => "-1".to_owned(),
        };
        if !then.is_empty() {
            code.open(format!("if (frame.length >= {whole}) {{"));
            wrong(&then, code);
            code.close("}");
        }
        code.line(format!("return {result};"));
        code.close("}");
    }
}

/// The bytes of the frame with the key in this part, as an expression; `undefined` if no message has it.
fn size_of_key(part: &Part, sizes: &[(u64, usize)]) -> String {
    let one = |(key, size): &(u64, usize)| format!("[{}, {size}]", literal(i128::from(*key), part.bits));
    let all: Vec<String> = sizes.iter().map(one).collect();
    format!("new Map([{}]).get({})", all.join(", "), get(part))
}

/// Refuses more bytes than a frame has.
fn too_long(what: &str, most: usize, code: &mut Code) {
    code.lines(&format!(
        "if ({what}.length > {most}) {{\n  throw badLength({what}.length + \" bytes are more than a frame has here: {most}\");\n}}"
    ));
}

/// The class of a direction's receiver.
pub(crate) fn receiver_class(stem: &str) -> String {
    class(&format!("{}_receiver", plain_snake(stem)))
}

/// What names of a direction end with.
pub fn stem(name: &str, from: Option<End>) -> String {
    class(&key(name, from))
}
