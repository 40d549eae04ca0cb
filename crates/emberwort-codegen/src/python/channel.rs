//! Frames of a channel: building one around a body, and judging one.

use emberwort_checksum::code::{CrcForm, Language, Printer, about, program};
use emberwort_model::Plan;
use emberwort_model::model::End;
use emberwort_model::plan::{self, Bound, Direction, FrameFinder, KeySource, Part, Role, Zone};
use emberwort_model::stuffing::Stuffing;

use super::names::{bytes, class, member, quoted};
use crate::code::Code;
use crate::lower::frame::{
    Beginning, Check, Escapes, ExpectedValue, Put, Size, Stretch, beginning, checks, covered, escapes, fixed_parts,
    is_chosen, longest_body, puts, right,
};
use crate::names::plain_snake;

/// What the names of a direction's functions end with: `bus485`, or `bus485_from_host`.
pub fn stem(name: &str, from: Option<End>) -> String {
    let name = plain_snake(name);
    from.map_or_else(|| name.clone(), |end| format!("{name}_from_{}", end.as_str()))
}

/// The class of a direction's frames.
pub(crate) fn frame_class(name: &str, from: Option<End>) -> String {
    class(&format!("{}_frame", stem(name, from)))
}

pub fn write(plan: &Plan, channel: &plan::Channel, code: &mut Code) {
    for (from, direction) in channel.directions() {
        let this =
            Frames { plan: direction, stem: stem(&direction.name, from), class: frame_class(&direction.name, from) };
        this.write(plan, code);
    }
}

struct Frames<'a> {
    plan: &'a Direction,
    stem: String,
    class: String,
}

/// Where a part begins, as a bit.
fn bit(part: &Part) -> String {
    match part.zone {
        Zone::Head => part.at_bit.to_string(),
        Zone::Tail => format!("end * 8 + {}", part.at_bit),
    }
}

fn byte(bound: Bound) -> String {
    match bound {
        Bound::Head(offset) => offset.to_string(),
        Bound::Tail(0) => "end".to_owned(),
        Bound::Tail(offset) => format!("end + {offset}"),
    }
}

impl Frames<'_> {
    fn write(&self, plan: &Plan, code: &mut Code) {
        let parts = &self.plan.parts;
        for (index, part) in parts.iter().enumerate() {
            if let Role::Checksum { algorithm, .. } = &part.role {
                let name = self.checksum(index, part);
                let table = format!("{}_TABLE", name.to_ascii_uppercase());
                let printer = Printer { language: Language::Python, table: &table, rust_type: "", indent: "    " };
                // With a table it is faster.
                let program = program(algorithm, CrcForm::Bytes);
                code.lines("\n\n");
                code.line(format!("# {}", about(algorithm)));
                if !program.table.is_empty() {
                    code.lines(&printer.table(&program.table, 0));
                    code.lines("\n\n");
                }
                code.open(format!("def {name}(data: bytes) -> int:"));
                code.lines(&printer.body(&program, 0));
                code.dedent();
            }
        }
        code.line("");
        code.line("");
        code.line("@dataclass");
        code.open(format!("class {}:", self.class));
        code.line(format!("\"\"\"A frame on {}.\"\"\"", self.plan.name));
        code.line("");
        for part in parts.iter().filter(|part| is_chosen(part)) {
            // A sender says its own revision.
            let usual = if part.role == Role::Revision { "REVISION" } else { "0" };
            code.line(format!("{}: int = {usual}", member(&part.name)));
        }
        if self.plan.key_is_outside() {
            code.line("#: What selects the message and stands outside of the frame: a port, or an identifier.");
            code.line("key: int = 0");
        }
        code.line("body: bytes = b\"\"");
        code.dedent();
        // What a line of text carries is no body, and must not be read as one.
        if !matches!(self.plan.finder, FrameFinder::Lines { .. }) {
            code.line("");
            code.line("");
            code.line(format!("#: The message that each key on {} selects.", self.plan.name));
            code.open(format!("{}_MESSAGES: Dict[int, Type[Any]] = {{", self.stem.to_ascii_uppercase()));
            for (key, message) in &self.plan.keys {
                code.line(format!("{key:#x}: {},", class(&plan.messages[*message].message.name)));
            }
            code.close("}");
        }
        self.build(code);
        self.open(code);
        self.receiver(code);
    }

    fn checksum(&self, index: usize, part: &Part) -> String {
        let name = format!("checksum of {} {} {index}", self.stem, part.name);
        let words = name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty());
        words.map(str::to_ascii_lowercase).collect::<Vec<_>>().join("_")
    }

    /// The bytes that a checksum covers, as an expression over `frame`.
    fn covered(&self, index: usize) -> String {
        let piece = |stretch: &Stretch| match stretch {
            Stretch::Bytes(from, to) => format!("frame[{}:{}]", byte(*from), byte(*to)),
            Stretch::Zeros(count) => format!("bytes({count})"),
        };
        covered(self.plan, index).iter().map(piece).collect::<Vec<_>>().join(" + ")
    }

    /// Sets a part of `out` to a value.
    fn put(part: &Part, value: &str, code: &mut Code) {
        if part.hex {
            let first = match part.zone {
                Zone::Head => (part.at_bit / 8).to_string(),
                Zone::Tail => format!("end + {}", part.at_bit / 8),
            };
            let digits = part.bits / 4;
            code.line(format!("out[{first} : {first} + {digits}] = b\"%0{digits}X\" % ({value})"));
            return;
        }
        code.line(format!("_set_bits(out, {}, {}, {}, {value})", bit(part), part.bits, quoted(part.order)));
    }

    /// A part of `frame`, as an expression.
    fn get(part: &Part, digits: Digits) -> String {
        if part.hex {
            let first = match part.zone {
                Zone::Head => (part.at_bit / 8).to_string(),
                Zone::Tail => format!("end + {}", part.at_bit / 8),
            };
            let read = match digits {
                Digits::Sure => "_digits",
                Digits::Possible => "_maybe_digits",
            };
            return format!("{read}(frame[{first} : {first} + {}])", part.bits / 4);
        }
        format!("_bits(frame, {}, {}, {})", bit(part), part.bits, quoted(part.order))
    }

    /// The right value of a part, as an expression over `frame`.
    fn right(right: ExpectedValue<'_>, digits: Digits) -> String {
        match right {
            ExpectedValue::Number(value) => format!("{value:#x}"),
            ExpectedValue::Again { of, inverted: true } => {
                format!("({} ^ {:#x})", Self::get(of, digits), of.greatest())
            }
            ExpectedValue::Again { of, inverted: false } => Self::get(of, digits),
        }
    }

    fn build(&self, code: &mut Code) {
        let (plan, stem) = (self.plan, &self.stem);
        code.line("");
        code.line("");
        code.open(format!("def build_{stem}(of: {}) -> bytes:", self.class));
        code.line("\"\"\"The frame around a body, as it goes over the wire.\"\"\"");
        let longest = longest_body(plan).unwrap_or(0);
        code.line("size = len(of.body)");
        code.lines(&format!(
            "if size > {longest}:\n    raise BadLength(f\"{{size}} bytes are more than the {longest} of the longest body\")"
        ));
        if let FrameFinder::StatusBytes { .. } = plan.finder {
            code.lines("if any(byte > 0x7F for byte in of.body):\n    raise _out_of_range(\"body\", of.body)");
        }
        code.line(format!("out = bytearray({}) + of.body + bytes({})", plan.head_bytes, plan.tail_bytes));
        if plan.parts.iter().any(|part| part.zone == Zone::Tail || matches!(part.role, Role::Checksum { .. })) {
            code.line(format!("end = {} + size", plan.head_bytes));
        }
        for put in puts(plan) {
            self.put_into(put, code);
        }
        code.line(format!("wire = {}", self.stuffed()));
        code.lines(&format!(
            "if len(wire) > {0}:\n    raise BadLength(f\"{{len(wire)}} bytes are more than a frame has here: {0}\")\nreturn wire",
            plan.limit
        ));
        code.dedent();
    }

    /// Writes one thing around the body of `out`.
    fn put_into(&self, put: Put<'_>, code: &mut Code) {
        match put {
            Put::Sync(sync) => code.line(format!("out[0:{}] = {}", sync.len(), bytes(sync))),
            Put::Given(part) => {
                let name = member(&part.name);
                code.lines(&format!(
                    "if not 0 <= of.{name} <= {:#x}:\n    raise _out_of_range({}, of.{name})",
                    part.greatest(),
                    super::names::text(&part.name)
                ));
                Self::put(part, &format!("of.{name}"), code);
            }
            Put::Sequence(part) => {
                Self::put(part, &format!("of.{} & {:#x}", member(&part.name), part.greatest()), code);
            }
            Put::Value(part, right) => {
                if let ExpectedValue::Again { .. } = right {
                    code.line("frame = bytes(out)");
                }
                Self::put(part, &Self::right(right, Digits::Sure), code);
            }
            Put::Count { part, unit, other } => {
                code.lines(&format!(
                    "count, left = divmod(size + {other}, {unit})\nif left or count > {:#x}:\n    \
                         raise BadLength(f\"a body of {{size}} bytes has no length here\")",
                    part.greatest()
                ));
                Self::put(part, "count", code);
            }
            Put::Checksum(index, part) => {
                code.line("frame = bytes(out)");
                Self::put(part, &format!("{}({})", self.checksum(index, part), self.covered(index)), code);
            }
        }
    }

    /// The escape byte, the codes of the bytes that it stands for, and what each code means.
    fn codes(&self) -> Option<(u8, String, String)> {
        let Escapes { escape, codes, meanings } = escapes(self.plan)?;
        let codes: Vec<String> =
            codes.iter().map(|(byte, code)| format!("{byte:#04x}: {}", bytes(&[escape, *code]))).collect();
        let plain = match meanings.as_slice() {
            few if few.len() < 8 => {
                let few: Vec<String> = few.iter().map(|(code, byte)| format!("{code:#04x}: {byte:#04x}")).collect();
                format!("{{{}}}", few.join(", "))
            }
            [(code, byte), ..] => {
                let is_none = |code: &u8| !meanings.iter().any(|(known, _)| known == code);
                let none: Vec<String> = (0..=255).filter(is_none).map(|code| format!("{code:#04x}")).collect();
                format!(
                    "{{code: code ^ {:#04x} for code in range(256) if code not in ({},)}}",
                    code ^ byte,
                    none.join(", ")
                )
            }
            [] => "{}".to_owned(),
        };
        Some((escape, format!("{{{}}}", codes.join(", ")), plain))
    }

    /// What goes over the wire of `out`.
    fn stuffed(&self) -> String {
        match (self.plan.finder, self.codes()) {
            (FrameFinder::Stuffed(Stuffing::Cobs), _) => "_cobs(bytes(out))".into(),
            (FrameFinder::Stuffed(stuffing), Some((_, codes, _))) => {
                let around = bytes(&[stuffing.delimiter()]);
                format!("{around} + _escaped(bytes(out), {codes}) + {around}")
            }
            (FrameFinder::Escaped(_), Some((_, codes, _))) => {
                let (sync, last) = (self.plan.sync.len(), self.plan.terminator().len());
                format!(
                    "bytes(out[:{sync}]) + _escaped(bytes(out[{sync} : len(out) - {last}]), {codes}) + bytes(out[len(out) - {last} :])"
                )
            }
            (FrameFinder::Lines { crlf }, _) => {
                format!("bytes(out) + {}", bytes(if crlf { b"\r\n" } else { b"\n" }))
            }
            _ => "bytes(out)".into(),
        }
    }

    /// The plain frame of what came over the wire, as statements that set `frame`.
    fn plain(&self, code: &mut Code) {
        match (self.plan.finder, self.codes()) {
            (FrameFinder::Stuffed(Stuffing::Cobs), _) => code.line("frame = _without_cobs(wire)"),
            (FrameFinder::Stuffed(stuffing), Some((escape, codes, plain))) => {
                let around = bytes(&[stuffing.delimiter()]);
                code.lines(&format!(
                    "if len(wire) < 2 or wire[:1] != {around} or wire[-1:] != {around}:\n    \
                         raise BadValue(\"a frame begins and ends with a delimiter\")\n\
                     frame = _unescaped(wire[1:-1], {escape:#04x}, {codes}, {plain})"
                ));
            }
            (FrameFinder::Escaped(_), Some((escape, codes, plain))) => {
                let (sync, last) = (self.plan.sync.len(), self.plan.terminator().len());
                code.lines(&format!(
                    "last = max({sync}, len(wire) - {last})\n\
                     frame = wire[:{sync}] + _unescaped(wire[{sync}:last], {escape:#04x}, {codes}, {plain}) + wire[last:]"
                ));
            }
            (FrameFinder::Lines { crlf }, _) => {
                let end = bytes(if crlf { b"\r\n" } else { b"\n" });
                let count = if crlf { 2 } else { 1 };
                code.lines(&format!(
                    "if not wire.endswith({end}):\n    raise BadValue(\"a line has no end\")\nframe = wire[:-{count}]"
                ));
            }
            _ => code.line("frame = wire"),
        }
    }

    fn open(&self, code: &mut Code) {
        let (plan, stem, class) = (self.plan, &self.stem, &self.class);
        code.line("");
        code.line("");
        code.open(format!("def open_{stem}(wire: bytes) -> {class}:"));
        code.line("\"\"\"Judges one whole frame as it comes over the wire: length, fixed values, checksums.\"\"\"");
        code.lines(&format!(
            "wire = bytes(wire)\nif len(wire) > {0}:\n    raise BadLength(f\"{{len(wire)}} bytes are more than a frame has here: {0}\")",
            plan.limit
        ));
        self.plain(code);
        code.line(format!("return _judge_{stem}(frame)"));
        code.dedent();
        code.line("");
        code.line("");
        code.open(format!("def _judge_{stem}(frame: bytes) -> {class}:"));
        for check in checks(plan) {
            self.check(check, code);
        }
        code.open(format!("return {class}("));
        for part in plan.parts.iter().filter(|part| is_chosen(part)) {
            code.line(format!("{}={},", member(&part.name), Self::get(part, Digits::Sure)));
        }
        code.line(format!("body=frame[{}:end],", plan.head_bytes));
        code.close(")");
        code.dedent();
    }
    /// What is looked at in `frame`, whose body ends at `end`.
    fn check(&self, check: Check<'_>, code: &mut Code) {
        let said = |part: &Part| super::names::text(&part.name);
        let fail = |condition: String, error: String, code: &mut Code| {
            code.lines(&format!("if {condition}:\n    raise {error}"));
        };
        match check {
            Check::Bytes(least, most) => {
                if most > 0 {
                    let long = format!("BadLength(f\"{{len(frame)}} bytes are more than a frame has here: {most}\")");
                    fail(format!("len(frame) > {most}"), long, code);
                }
                if least > 0 {
                    let short =
                        format!("BadLength(f\"{{len(frame)}} bytes are fewer than the {least} around a body\")");
                    fail(format!("len(frame) < {least}"), short, code);
                }
                code.line(format!("end = len(frame) - {}", self.plan.tail_bytes));
            }
            Check::Sync(sync) => {
                let wrong = "BadValue(\"the sync bytes are others\")".to_owned();
                fail(format!("not frame.startswith({})", bytes(sync)), wrong, code);
            }
            // Reading digits that are none fails.
            Check::Digits(part) => code.line(Self::get(part, Digits::Sure)),
            Check::Value(part, right) => {
                let wrong = format!("BadValue({} + \" is another value\")", said(part));
                fail(format!("{} != {}", Self::get(part, Digits::Sure), Self::right(right, Digits::Sure)), wrong, code);
            }
            Check::Length { part, unit, other, around } => {
                let wrong = format!("BadLength({} + \" says another length\")", said(part));
                fail(
                    format!("{} * {unit} != len(frame) - {around} + {other}", Self::get(part, Digits::Sure)),
                    wrong,
                    code,
                );
            }
            Check::Size(bytes) => {
                let wrong = format!("BadLength(f\"{{len(frame)}} bytes are not the {bytes} of a frame\")");
                fail(format!("len(frame) != {bytes}"), wrong, code);
            }
            Check::SizeOfKey(part, sizes) => {
                let all: Vec<String> = sizes.iter().map(|(key, size)| format!("{key:#x}: {size}")).collect();
                let wrong = "BadLength(f\"{len(frame)} bytes are not those of a frame with its key\")".to_owned();
                fail(
                    format!("{{{}}}.get({}) != len(frame)", all.join(", "), Self::get(part, Digits::Sure)),
                    wrong,
                    code,
                );
            }
            Check::Checksum(index, part) => {
                let wrong = format!("BadChecksum({} + \" differs\")", said(part));
                let sum = format!("{}({})", self.checksum(index, part), self.covered(index));
                fail(format!("{sum} != {}", Self::get(part, Digits::Sure)), wrong, code);
            }
        }
    }
}

impl Frames<'_> {
    /// The receiver, for channels whose frames come in a stream of bytes.
    fn receiver(&self, code: &mut Code) {
        let plan = self.plan;
        let base = match plan.finder {
            FrameFinder::Sync => "_SyncReceiver",
            FrameFinder::Idle { .. } => "_IdleReceiver",
            FrameFinder::Stuffed(_) => "_DelimitedReceiver",
            FrameFinder::Escaped(_) => "_EscapedReceiver",
            FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. } => return,
        };
        let upper = self.stem.to_ascii_uppercase();
        code.line("");
        code.line("");
        code.open(format!("class {}({base}):", receiver_class(&self.stem)));
        code.line(format!("\"\"\"Finds frames of {} in a stream.\"\"\"", plan.name));
        code.line("");
        code.line(format!("LIMIT = {}", plan.limit));
        code.line(format!("_MESSAGES = {upper}_MESSAGES"));
        code.line(format!("_LOOKS_INSIDE = {}", if plan.looks_inside_unread() { "True" } else { "False" }));
        if let FrameFinder::Sync | FrameFinder::Escaped(_) = plan.finder {
            code.line(format!("_SYNC = {}", bytes(&plan.sync)));
        }
        match (plan.finder, self.codes()) {
            (FrameFinder::Stuffed(stuffing), codes) => {
                code.line(format!("_DELIMITER = {:#04x}", stuffing.delimiter()));
                code.line(format!("_LEADS = {}", if stuffing.leads() { "True" } else { "False" }));
                code.line("");
                code.open("def _plain(self, some: bytes) -> bytes:");
                code.line(match codes {
                    Some((escape, codes, plain)) => format!("return _unescaped(some, {escape:#04x}, {codes}, {plain})"),
                    None => "return _without_cobs(some + b\"\\0\")".to_owned(),
                });
                code.dedent();
            }
            (FrameFinder::Escaped(_), Some((escape, codes, plain))) => {
                code.line(format!("_END = {}", bytes(&plan.terminator())));
                code.line(format!("_ESCAPE = {escape:#04x}"));
                code.line(format!("_CODES = {codes}"));
                code.line(format!("_PLAIN = {plain}"));
                code.line(format!("_HEAD = {}", plan.head_bytes));
                code.line("");
                code.open("def _has_wrong_head(self, frame: bytearray) -> bool:");
                let wrong = self.wrong(&fixed_parts(plan, 0, plan.head_bytes));
                code.line(format!("return {}", if wrong.is_empty() { "False".to_owned() } else { wrong.join(" or ") }));
                code.dedent();
            }
            _ => {}
        }
        code.line("");
        code.open(format!("def _open(self, plain: bytes) -> {}:", self.class));
        code.line(format!("return _judge_{}(plain)", self.stem));
        code.dedent();
        code.line("");
        code.open(format!("def _key(self, frame: {}) -> int:", self.class));
        code.line(match (plan.key_part(), plan.selected_by, plan.keys.first()) {
            (Some(part), ..) => format!("return frame.{}", member(&part.name)),
            (None, KeySource::Port | KeySource::CanId | KeySource::Endpoint, _) => "return frame.key".to_owned(),
            (None, KeySource::Size, _) => "return len(frame.body)".to_owned(),
            (None, _, Some((key, _))) => format!("return {key:#x}"),
            (None, _, None) => "return 0".to_owned(),
        });
        code.dedent();
        if let FrameFinder::Sync | FrameFinder::Escaped(_) = plan.finder {
            self.size(code);
        }
        code.dedent();
    }

    /// Conditions that say that one of these parts has another than its one right value.
    fn wrong(&self, parts: &[usize]) -> Vec<String> {
        let one = |index: &usize| {
            let part = &self.plan.parts[*index];
            let right = Self::right(right(self.plan, part)?, Digits::Possible);
            Some(format!("{} != {right}", Self::get(part, Digits::Possible)))
        };
        parts.iter().filter_map(one).collect()
    }

    /// How long a frame is, by its first bytes.
    fn size(&self, code: &mut Code) {
        let Beginning { needs, first, size, then: (whole, then) } = beginning(self.plan);
        code.line("");
        code.open("def _size(self, frame: bytearray) -> int:");
        let wrong = |parts: &[usize], code: &mut Code| {
            let wrong = self.wrong(parts);
            if !wrong.is_empty() {
                code.lines(&format!("if {}:\n    self.bad_values += 1\n    return -1", wrong.join(" or ")));
            }
        };
        if needs > 0 {
            code.lines(&format!("if len(frame) < {needs}:\n    return 0"));
        }
        wrong(&first, code);
        let result = match &size {
            Size::Said { part, unit, other, around, greatest } => {
                code.line(format!("count = {}", Self::get(&self.plan.parts[*part], Digits::Possible)));
                code.lines(&format!(
                    "if not 0 <= count <= {greatest} or count * {unit} < {other}:\n    self.bad_lengths += 1\n    return -1"
                ));
                format!("count * {unit} - {other} + {around}")
            }
            Size::Always(size) => size.to_string(),
            Size::OfKey { part, sizes } => {
                let all: Vec<String> = sizes.iter().map(|(key, size)| format!("{key:#x}: {size}")).collect();
                let key = Self::get(&self.plan.parts[*part], Digits::Possible);
                code.line(format!("size = {{{}}}.get({key}, -1)", all.join(", ")));
                code.lines("if size < 0:\n    self.bad_lengths += 1\n    return -1");
                "size".to_owned()
            }
            Size::Unknown => "-1".to_owned(),
        };
        if !then.is_empty() {
            code.open(format!("if len(frame) >= {whole}:"));
            wrong(&then, code);
            code.dedent();
        }
        code.line(format!("return {result}"));
        code.dedent();
    }
}

/// Whether frames that come in this way have a receiver.
pub fn has_receiver(finder: FrameFinder) -> bool {
    !matches!(finder, FrameFinder::Packet | FrameFinder::Lines { .. } | FrameFinder::StatusBytes { .. })
}

/// What is known of the characters of a number in hex.
#[derive(Clone, Copy)]
enum Digits {
    /// They are digits, or the frame is refused.
    Sure,
    /// They may be none, and are then a number that nothing has: a frame is still looked for.
    Possible,
}

/// The class of a direction's receiver.
pub(crate) fn receiver_class(stem: &str) -> String {
    class(&format!("{stem}_receiver"))
}
