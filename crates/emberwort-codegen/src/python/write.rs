//! What writes the body of a message, or a record, at a writer's place.

use std::cell::Cell;

use emberwort_model::model::{Field, Kind, Length, Selector};
use emberwort_model::plan::{Action, ListPlan, RecordPlan, UnionPlan};

use super::names::{member, quoted, text};
use super::one_number::{is_one_number, shift};
use super::values::{case_number, valid};
use crate::code::Code;
use crate::lower::{FixedItem, FixedItemKind, Group, Op, Piece, Section, is_ascii, sections};

/// The method `_write`.
pub fn write(group: &Group<'_>, code: &mut Code) {
    let writer = Writer { group, made: Cell::new(0) };
    let sections = sections(group);
    code.line("");
    match group.message {
        Some(_) => {
            code.open("def _write(self, w: _Writer) -> None:");
            let revisions: Vec<String> = sections.iter().map(|one| one.plan.revision.to_string()).collect();
            code.lines(&format!(
                "if not 1 <= self.sections_held <= {}:\n    raise _out_of_range({}, self.sections_held)",
                sections.len(),
                text(&format!("{}.sections_held", group.name))
            ));
            code.line(format!(
                "revision = REVISION if self.sections_held == {} else ({},)[self.sections_held - 1]",
                sections.len(),
                revisions.join(", ")
            ));
        }
        None => code.open("def _write(self, w: _Writer, revision: int) -> None:"),
    }
    for (index, section) in sections.iter().enumerate() {
        if index > 0 {
            code.open(match group.message {
                Some(_) => format!("if self.sections_held > {index}:"),
                None => format!("if revision >= {}:", section.plan.revision),
            });
        }
        code.line(format!("# Revision {}.", section.plan.revision));
        writer.section(section, code);
        if index > 0 {
            code.dedent();
        }
    }
    code.dedent();
}

struct Writer<'g> {
    group: &'g Group<'g>,
    /// How many names of variables were made.
    made: Cell<usize>,
}

impl Writer<'_> {
    /// A number that no other variable has in its name.
    fn fresh(&self) -> usize {
        self.made.replace(self.made.get() + 1)
    }

    fn what(&self, field: &Field) -> String {
        text(&format!("{}.{}", self.group.name, field.name))
    }

    fn section(&self, section: &Section<'_>, code: &mut Code) {
        code.line("s = w.bit // 8");
        self.known(section, code);
        for op in &section.ops {
            match op {
                // Nobody sends it any more.
                Op::If { slot: None, .. } => {}
                Op::If { slot: Some(slot), bit, then } => {
                    code.open(format!("if self.{} is not None:", member(&self.group.fields[*slot].name)));
                    let place = match bit / 8 {
                        0 => "s".to_owned(),
                        byte => format!("s + {byte}"),
                    };
                    code.line(format!("w.out[{place}] |= {:#04x}", 1u32 << (bit % 8)));
                    then.iter().for_each(|op| self.placed(op, code));
                    code.dedent();
                }
                op => self.placed(op, code),
            }
        }
        code.line(match section.size {
            Some(size) => format!("w.bit = (s + {size}) * 8"),
            None => "w.bit = (w.bit + 7) // 8 * 8".to_owned(),
        });
    }

    /// What lies at known places: values are looked at first, and become raw numbers, of which the bytes are sums.
    fn known(&self, section: &Section<'_>, code: &mut Code) {
        let (group, known) = (self.group, &section.fixed);
        let mut widths: Vec<(usize, u8)> = Vec::new();
        for item in &known.items {
            let field = &group.fields[item.slot];
            if let (FixedItemKind::Number(_), Action::Bits { width, .. }) =
                (&item.kind, &section.plan.steps[item.step].action)
            {
                let name = member(&field.name);
                self.raw(field, *width, &format!("self.{name}"), &format!("n_{name}"), code);
                widths.push((item.slot, *width));
            }
        }
        let part = |(slot, piece): &(usize, Piece)| {
            let name = format!("n_{}", member(&group.fields[*slot].name));
            let width = widths.iter().find(|(of, _)| of == slot).map_or(8, |(_, width)| u32::from(*width));
            let moved = if piece.shift > 0 { format!("{name} >> {}", piece.shift) } else { name };
            let is_all = piece.shift + piece.bits == width;
            let masked = if is_all { moved } else { format!("{moved} & {:#04x}", piece.mask()) };
            match (piece.low, masked.contains(' ')) {
                (0, _) => masked,
                (low, true) => format!("({masked}) << {low}"),
                (low, false) => format!("{masked} << {low}"),
            }
        };
        let sums = known.sums(|slot| !group.fields[slot].is_spare());
        let byte = |at: usize| {
            let found = sums.iter().find(|byte| byte.byte == at);
            let parts: Vec<String> = found.iter().flat_map(|byte| &byte.parts).map(part).collect();
            if parts.is_empty() { "0".to_owned() } else { parts.join(" | ") }
        };
        let whole = |item: &FixedItem| {
            let width = widths.iter().find(|(slot, _)| *slot == item.slot).map(|(_, width)| *width)?;
            let shift = shift(group, &section.plan.steps[item.step], width, known.bytes);
            let name = format!("n_{}", member(&group.fields[item.slot].name));
            Some(if shift > 0 { format!("{name} << {shift}") } else { name })
        };
        if is_one_number(group, section) {
            let parts: Vec<String> = known.items.iter().filter_map(whole).collect();
            code.line(format!(
                "w.out[s : s + {0}] = ({1}).to_bytes({0}, {2})",
                known.bytes,
                parts.join(" | "),
                quoted(group.order)
            ));
        } else if known.bytes > 0 {
            let all: Vec<String> = (0..known.bytes).map(byte).collect();
            match all.iter().all(|byte| byte == "0") {
                true => code.line(format!("w.out[s : s + {0}] = bytes({0})", known.bytes)),
                false => {
                    code.open(format!("w.out[s : s + {}] = bytes((", known.bytes));
                    all.iter().for_each(|byte| code.line(format!("{byte},")));
                    code.close("))");
                }
            }
        }
    }

    /// Sets a variable to the raw number of a value, if it has a meaning.
    fn raw(&self, field: &Field, width: u8, value: &str, to: &str, code: &mut Code) {
        let what = self.what(field);
        match &field.kind {
            Kind::Float(bits) => {
                code.line(format!("{to} = _float_raw({value}, {bits}, {what})"));
                return;
            }
            Kind::Bool => {
                code.line(format!("{to} = 1 if {value} else 0"));
                return;
            }
            _ => {}
        }
        code.line(format!("{to} = {value}"));
        code.lines(&format!("if not ({}):\n    raise _out_of_range({what}, {to})", valid(field, width, to)));
        if field.kind.is_signed() {
            code.line(format!("{to} &= {:#x}", (1u128 << width) - 1));
        }
    }

    /// An operation of a section.
    fn placed(&self, op: &Op<'_>, code: &mut Code) {
        match op {
            Op::Seek(bit) => code.line(format!("w.bit = s * 8 + {bit}")),
            Op::Field(slot, ops) => {
                let field = &self.group.fields[*slot];
                self.value(field, ops, &format!("self.{}", member(&field.name)), code);
            }
            Op::Align => code.line("w.align()"),
            Op::Skip(bits) => code.lines(&format!("w.bit += {bits}\nw.reach()")),
            _ => {}
        }
    }

    /// Writes a value at the writer's place.
    fn value(&self, field: &Field, ops: &[Op<'_>], value: &str, code: &mut Code) {
        let (order, what) = (quoted(self.group.order), self.what(field));
        for op in ops {
            match op {
                Op::Bytes { byte, count } => {
                    code.line(format!("w.bit = s * 8 + {}", byte * 8));
                    self.run(Length::Exact(*count), false, &what, value, code);
                }
                Op::Number { width, order, .. } => {
                    let to = format!("n{}", self.fresh());
                    self.raw(field, *width, value, &to, code);
                    code.line(format!("w.put({to}, {width}, {})", quoted(*order)));
                }
                Op::Varint { width, signed } => {
                    code.lines(&format!(
                        "if not ({}):\n    raise _out_of_range({what}, {value})",
                        valid(field, *width, value)
                    ));
                    code.line(match signed {
                        true => format!("w.varint({value} << 1 if {value} >= 0 else (-{value} << 1) - 1)"),
                        false => format!("w.varint(int({value}))"),
                    });
                }
                Op::Run { length, text } => {
                    if is_ascii(field) {
                        code.line(format!("_ascii({what}, {value})"));
                    }
                    self.run(*length, *text, &what, value, code);
                }
                Op::Call(_) | Op::Sized { bytes: None, .. } => code.line(format!("{value}._write(w, revision)")),
                Op::Sized { bytes: Some(bytes), .. } => {
                    let depth = self.fresh();
                    code.lines(&format!(
                        "at{depth} = w.bit // 8\nw.bit += {}\nw.reach()\n{value}._write(w, revision)\n\
                         size{depth} = w.bit // 8 - at{depth} - {bytes}\nif size{depth} >= {}:\n    \
                             raise TooMany(f\"{{size{depth}}} bytes are too many for an element\")\n\
                         w.out[at{depth} : at{depth} + {bytes}] = size{depth}.to_bytes({bytes}, {order})",
                        bytes * 8,
                        1u64 << (bytes * 8)
                    ));
                }
                Op::Repeat { list, once, each } => self.list(list, *once, each, value, &what, code),
                Op::Select { union, forms } => self.union(union, forms, value, &what, code),
                op => self.placed(op, code),
            }
        }
    }

    fn run(&self, length: Length, text: bool, what: &str, value: &str, code: &mut Code) {
        let (order, some) = (quoted(self.group.order), format!("some{}", self.fresh()));
        code.line(match text {
            true => format!("{some} = _utf8({value})"),
            false => format!("{some} = bytes({value})"),
        });
        match (length, text) {
            (Length::Exact(count), true) => code.lines(&format!(
                "if len({some}) > {count}:\n    raise TooMany(f\"{{len({some})}} bytes are more than {count}\")\n\
                 w.bytes({some} + bytes({count} - len({some})), {order})"
            )),
            (Length::Exact(count), false) => code.lines(&format!(
                "if len({some}) != {count}:\n    raise _out_of_range({what}, {value})\nw.bytes({some}, {order})"
            )),
            (Length::UpTo(most), _) => {
                code.line(format!("w.count(len({some}), {most}, {order}, {what})"));
                code.line(format!("w.bytes({some}, {order})"));
            }
            (Length::Rest, _) => code.line(format!("w.bytes({some}, {order})")),
        }
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], value: &str, what: &str, code: &mut Code) {
        let depth = self.fresh();
        let order = quoted(self.group.order);
        match list.length {
            Length::Exact(count) => {
                code.lines(&format!("if len({value}) != {count}:\n    raise _out_of_range({what}, {value})"))
            }
            Length::UpTo(most) => code.line(format!("w.count(len({value}), {most}, {order}, {what})")),
            Length::Rest => {}
        }
        if let (Some(bytes), Action::Record(record)) = (once, &list.element.action) {
            if list.length == Length::Rest {
                code.open(format!("if {value}:"));
            }
            code.line("w.align()");
            code.line(format!("w.put({}, {}, {order})", size_of(record), bytes * 8));
            if list.length == Length::Rest {
                code.dedent();
            }
        }
        let one = format!("one{depth}");
        code.open(format!("for {one} in {value}:"));
        self.value(&list.element.field, each, &one, code);
        code.dedent();
    }

    fn union(&self, union: &UnionPlan, forms: &[Vec<Op<'_>>], value: &str, what: &str, code: &mut Code) {
        let meaning = &union.union;
        let mut word = "if";
        for (index, element) in union.forms.iter().enumerate() {
            code.open(format!("{word} {value}.name == {}:", text(&element.field.name)));
            if let Selector::Field(slot) = meaning.selector {
                let decider = &self.group.fields[slot];
                let (key, signed) = (format!("self.{}", member(&decider.name)), decider.kind.is_signed());
                let number = |raw: u64| case_number(raw, signed);
                let wrong = match meaning.cases.get(index) {
                    Some(case) => format!("{key} != {}", number(case.raw)),
                    None => {
                        let others: Vec<String> = meaning.cases.iter().map(|case| number(case.raw)).collect();
                        format!("{key} in ({}{})", others.join(", "), if others.len() == 1 { "," } else { "" })
                    }
                };
                code.lines(&format!("if {wrong}:\n    raise NoForm(f\"{{{key}}} selects another form\")"));
            }
            self.value(&element.field, &forms[index], &format!("{value}.value"), code);
            code.dedent();
            word = "elif";
        }
        if word == "elif" {
            code.open("else:");
            code.line(format!("raise NoForm({what} + f\": there is no form {{{value}.name!r}}\")"));
            code.dedent();
        }
    }
}

/// The size of a record as a sender of a revision writes it.
fn size_of(record: &RecordPlan) -> String {
    let one = |section: &emberwort_model::plan::SectionPlan| {
        format!("({} if revision >= {} else 0)", section.greatest_size, section.revision)
    };
    record.sections.iter().map(one).collect::<Vec<_>>().join(" + ")
}
