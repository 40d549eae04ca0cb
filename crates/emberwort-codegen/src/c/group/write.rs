//! Writing the fields of a group to a body.

use emberwort_model::model::{Field, Length};
use emberwort_model::plan::{ListPlan, RecordPlan, UnionPlan, count_bytes};

use super::cursor::{Cursor, Size, Stretch};
use super::fixed_layout::{PendingOps, byte_at};
use super::{Group, Target, set, zeroed};
use crate::c::numbers;
use crate::c::tree::{Case, Expr, Stmt, Test, Variable, expr};
use crate::c::words::member;
use crate::lower::{Op, Section, is_ascii};
use crate::names::snake;

impl Group<'_> {
    /// Writes all sections from `target`; `condition` says of a later section whether it is written.
    pub(crate) fn write_sections(
        &self,
        sections: &[Section<'_>],
        target: &str,
        condition: impl Fn(usize, u32) -> Expr,
    ) -> Vec<Stmt> {
        let mut statements = Vec::new();
        for (index, section) in sections.iter().enumerate() {
            let revision = section.plan.revision;
            statements.push(Stmt::Comment(format!("Revision {revision}.")));
            let of_section = self.write_section(section, target);
            match index {
                0 => statements.extend(of_section),
                _ => statements.push(Stmt::If(Test::Other(condition(index, revision)), of_section, Vec::new())),
            }
        }
        statements
    }

    fn write_section(&self, section: &Section<'_>, target: &str) -> Vec<Stmt> {
        let stretch = Stretch::after_fixed(section);
        let mut pending: PendingOps<'_, '_> = section.ops.iter().collect();
        let mut statements = self.write_known(section, target, &mut pending);
        let left: Vec<&Op<'_>> = pending.into();
        statements.extend(self.write_placed(stretch, &left, target));
        statements.push(match (section.size, section.fixed.start) {
            (Some(size), Some(start)) => Stmt::Set(Variable::Start, Expr::number(start + size)),
            (Some(size), None) => Stmt::Add(Variable::Start, Expr::number(size)),
            (None, _) => Stmt::Set(Variable::Start, stretch.cursor.next_byte()),
        });
        statements
    }

    /// Writes what these operations of a section are for.
    pub(crate) fn write_placed(&self, stretch: Stretch<'_>, ops: &[&Op<'_>], target: &str) -> Vec<Stmt> {
        let Stretch { cursor, fixed: known, is_tested } = stretch;
        let mut statements = Vec::new();
        let writer = Writer { group: self, cursor, is_tested };
        for op in ops {
            match op {
                Op::Seek(bit) => statements.push(cursor.seek(known.start, *bit)),
                Op::Field(slot, ops) => {
                    let field = &self.fields[*slot];
                    let name = member(&field.name);
                    let stem = format!("{}_{name}", self.stem);
                    statements.extend(writer.value(&stem, field, ops, Target { prefix: target, name: &name }, 0));
                }
                Op::If { slot: Some(slot), bit, then } => {
                    let byte = byte_at(known, *bit as usize / 8);
                    let marked = expr!["(uint8_t)(", &byte, format!(" | {:#04X}u)", 1u32 << (bit % 8))];
                    let then: Vec<&Op<'_>> = then.iter().collect();
                    let mut inner = vec![set(byte, marked)];
                    inner.extend(self.write_placed(stretch, &then, target));
                    let is_there = expr![format!("{target}has_{}", member(&self.fields[*slot].name))];
                    statements.push(Stmt::If(Test::Other(is_there), inner, Vec::new()));
                }
                // What is retired and optional is never sent.
                Op::If { slot: None, .. } => {}
                op => statements.extend(writer.space(op)),
            }
        }
        statements
    }
}

/// Makes what writes values at a cursor.
struct Writer<'g, 'a> {
    group: &'g Group<'a>,
    cursor: Cursor,
    /// Whether there is certainly room for a value without a length of its own.
    is_tested: bool,
}

impl Writer<'_, '_> {
    fn room(&self, size: &Size<'_>) -> Stmt {
        self.group.room(self.cursor, size)
    }

    /// Ends the function if there is no room for something of this size, and goes behind it if there is; `act` is executed before that.
    fn stepping(&self, size: &Size<'_>, act: Vec<Stmt>) -> Vec<Stmt> {
        let is_certain = self.is_tested && matches!(size, Size::Bits(_));
        let room = (!is_certain).then(|| self.room(size));
        room.into_iter().chain(act).chain([self.cursor.go(size)]).collect()
    }

    fn put_count(&self, bytes: u8, value: impl Into<Expr>) -> Vec<Stmt> {
        let put = self.group.put_count(self.cursor, bytes, value.into());
        self.stepping(&Size::Bits(usize::from(bytes) * 8), put)
    }

    /// Ends the function if a number does not mean anything.
    fn invalid(&self, stem: &str, field: &Field, value: &str) -> Option<Stmt> {
        let is_needed = !numbers::is_always_valid(field);
        let test = || Test::Other(expr!["!", Expr::function(format!("{stem}_valid")), format!("({value})")]);
        is_needed.then(|| self.group.refuse(test(), "OUT_OF_RANGE"))
    }

    /// Refuses a text with other characters than those of ASCII; one that is too long is refused before it is looked at.
    fn not_ascii(&self, length: Length, target: Target<'_>) -> Vec<Stmt> {
        let count = target.length();
        let too_many = match length {
            Length::Exact(most) | Length::UpTo(most) => self.group.too_many(&count, most),
            Length::Rest => None,
        };
        let is_ascii = Expr::function(format!("{}_is_ascii", self.group.link));
        let test = Test::Other(expr!["!", is_ascii, format!("({}, {count})", target.value())]);
        too_many.into_iter().chain([self.group.refuse(test, "OUT_OF_RANGE")]).collect()
    }

    fn value(&self, stem: &str, field: &Field, ops: &[Op<'_>], target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let cursor = self.cursor;
        let value = target.value();
        let mut statements = Vec::new();
        for (at, op) in ops.iter().enumerate() {
            match op {
                // What is called goes to the next byte itself.
                Op::Align if matches!(ops.get(at + 1), Some(Op::Call(_))) => {}
                Op::Number { width, order, .. } => {
                    statements.extend(self.invalid(stem, field, &value));
                    let put = self.group.put_number(cursor, &field.kind, *width, *order, &value);
                    statements.extend(self.stepping(&Size::Bits(usize::from(*width)), put));
                }
                Op::Varint { width, signed } => {
                    statements.extend(self.invalid(stem, field, &value));
                    statements.extend(self.compact(*width, *signed, &value));
                }
                Op::Run { length, text } => {
                    if is_ascii(field) {
                        statements.extend(self.not_ascii(*length, target));
                    }
                    statements.extend(self.run(*length, *text, target, depth));
                }
                Op::Call(record) => {
                    let call = self.call(record, &value);
                    statements.push(Stmt::Block(self.group.call_inside(cursor, cursor.next_byte(), call)));
                }
                // The list has said the size.
                Op::Sized { bytes: None, record } => {
                    let call = self.call(record, &value);
                    statements.push(Stmt::Block(self.group.call_inside(cursor, cursor.next_byte(), call)));
                }
                Op::Sized { bytes: Some(bytes), record } => {
                    statements.push(self.room(&Size::Bits(usize::from(*bytes) * 8)));
                    let from = expr![cursor.byte(), format!(" + {bytes}u")];
                    let mut inner = self.group.call_inside(cursor, from, self.call(record, &value));
                    inner.insert(1, Stmt::call("size_t first = inner"));
                    let size = self.group.put_count(cursor, *bytes, expr!["(inner - first)"]);
                    let last = inner.len() - 1;
                    inner.splice(last..last, size);
                    statements.push(Stmt::Block(inner));
                }
                Op::Repeat { list, once, each } => {
                    statements.push(Stmt::Block(self.list(stem, list, *once, each, target, depth)));
                }
                Op::Select { union, forms } => statements.push(self.union(stem, union, forms, target, depth)),
                op => statements.extend(self.space(op)),
            }
        }
        statements
    }

    /// What has no value.
    fn space(&self, op: &Op<'_>) -> Vec<Stmt> {
        match op {
            Op::Align => self.cursor.align().into_iter().collect(),
            Op::Skip(bits) => {
                let zeros = expr![Variable::Body, " + ", Variable::Here, format!(", 0, {}u", bits / 8)];
                let put = (self.cursor == Cursor::Bytes).then(|| zeroed(zeros));
                self.stepping(&Size::Bits(*bits as usize), put.into_iter().collect())
            }
            // Sections have these, and values.
            _ => Vec::new(),
        }
    }

    /// The call that writes a record from byte `inner` on.
    fn call(&self, record: &RecordPlan, value: &str) -> Expr {
        let write = Expr::function(format!("{}_{}_write", self.group.link, snake(&record.record.name)));
        expr![
            write,
            "(",
            Variable::Body,
            ", ",
            Variable::Room,
            format!(", &inner, &{value}, "),
            Variable::Revision,
            ")"
        ]
    }

    /// An integer of variable length.
    fn compact(&self, width: u8, signed: bool, value: &str) -> Vec<Stmt> {
        let (cursor, link) = (self.cursor, self.group.link);
        let bits = if width > 32 { 64 } else { 32 };
        let raw = if signed {
            format!("((uint{bits}_t)(int{bits}_t){value} << 1) ^ ({value} < 0 ? UINT{bits}_MAX : 0u)")
        } else {
            format!("(uint{bits}_t){value}")
        };
        let put = |place: Expr| {
            let put = Expr::function(format!("{link}_put_compact{bits}"));
            let test = expr!["!", put, "(", Variable::Body, ", ", Variable::Room, ", ", place, format!(", {raw})")];
            self.group.refuse(Test::Other(test), "NO_ROOM")
        };
        match cursor {
            Cursor::Bytes => vec![put(Expr::address(Variable::Here))],
            Cursor::Bits => vec![Stmt::Block(vec![
                Stmt::Do(expr!["size_t inner = ", cursor.byte()]),
                put(expr!["&inner"]),
                cursor.go_to("inner"),
            ])],
        }
    }

    fn run(&self, length: Length, text: bool, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let (cursor, value, count) = (self.cursor, target.value(), target.length());
        let mut statements = Vec::new();
        match length {
            Length::Exact(exact) => {
                if text {
                    statements.extend(self.group.too_many(&count, exact));
                }
                let put = self.put_exact(exact, text, target, depth);
                statements.extend(self.stepping(&Size::Bits(exact as usize * 8), put));
                return statements;
            }
            Length::UpTo(most) => {
                statements.extend(self.group.too_many(&count, most));
                statements.extend(self.put_count(count_bytes(most), count.as_str()));
            }
            Length::Rest => {}
        }
        let copy = Expr::function("memcpy");
        let copied = Stmt::Do(expr![copy, "(", Variable::Body, " + ", cursor.byte(), format!(", {value}, {count})")]);
        let put = Stmt::If(Test::Other(expr![format!("{count} > 0u")]), vec![copied], Vec::new());
        statements.extend(self.stepping(&Size::Bytes(&count), vec![put]));
        statements
    }

    /// So many bytes, or a text that zeros fill up.
    fn put_exact(&self, exact: u32, text: bool, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let value = target.value();
        let used = if text { target.length() } else { format!("{exact}u") };
        match self.cursor {
            Cursor::Bytes => {
                let here = || expr![Variable::Body, " + ", Variable::Here];
                let zeros = text.then(|| zeroed(expr![here(), format!(", 0, {exact}u")]));
                let copy = Expr::function("memcpy");
                let copied = Stmt::Do(expr![copy, "(", here(), format!(", {value}, {used})")]);
                zeros.into_iter().chain([copied]).collect()
            }
            Cursor::Bits => {
                let n = format!("b{depth}");
                let put = Expr::function(format!("{}_put", self.group.link));
                let one = expr![
                    put,
                    "(",
                    Variable::Body,
                    ", ",
                    Variable::Bit,
                    format!(" + {n} * 8u, 8u, (uint8_t){value}[{n}])")
                ];
                let head = format!("{n} = 0; {n} < {used}; {n}++");
                vec![Stmt::Block(vec![Stmt::call(format!("size_t {n}")), Stmt::For(expr![head], vec![Stmt::Do(one)])])]
            }
        }
    }

    fn list(
        &self,
        stem: &str,
        list: &ListPlan,
        once: Option<u8>,
        ops: &[Op<'_>],
        target: Target<'_>,
        depth: usize,
    ) -> Vec<Stmt> {
        let n = format!("n{depth}");
        let mut statements = vec![Stmt::call(format!("size_t {n}"))];
        let count = match list.length {
            Length::Exact(count) => format!("{count}u"),
            Length::UpTo(most) => {
                statements.extend(self.group.too_many(&target.count(), most));
                statements.extend(self.put_count(count_bytes(most), target.count()));
                target.count()
            }
            Length::Rest => {
                let test = Test::Other(expr![format!("{} > {}u", target.count(), self.group.capacity(list))]);
                statements.push(self.group.refuse(test, "TOO_MANY"));
                target.count()
            }
        };
        if let (Some(bytes), Some(size)) = (once, self.size_of(list)) {
            let mut put: Vec<Stmt> = self.cursor.align().into_iter().collect();
            put.extend(self.put_count(bytes, size));
            match list.length {
                Length::Rest => {
                    statements.push(Stmt::If(Test::Other(expr![format!("{count} > 0u")]), put, Vec::new()));
                }
                _ => statements.extend(put),
            }
        }
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        let one = self.value(stem, &list.element.field, ops, element, depth + 1);
        statements.push(Stmt::For(expr![format!("{n} = 0; {n} < {count}; {n}++")], one));
        statements
    }

    /// The size of each element of a list of records, which is that of the sender's revision.
    fn size_of(&self, list: &ListPlan) -> Option<Expr> {
        let emberwort_model::plan::Action::Record(record) = &list.element.action else { return None };
        let of_section = |section: &emberwort_model::plan::SectionPlan| {
            expr!["(", Variable::Revision, format!(" >= {}u ? {}u : 0u)", section.revision, section.greatest_size)]
        };
        Some(Expr::joined(record.sections.iter().map(of_section), " + ").bracketed())
    }

    fn union(&self, stem: &str, union: &UnionPlan, forms: &[Vec<Op<'_>>], target: Target<'_>, depth: usize) -> Stmt {
        let meaning = &union.union;
        let value = target.value();
        let mut cases = Vec::new();
        for (index, (form, ops)) in union.forms.iter().zip(forms).enumerate() {
            let mut then = Vec::new();
            if let Some(other) = self.group.other_form(meaning, index, target) {
                then.push(self.group.refuse(Test::Other(expr![other]), "NO_FORM"));
            }
            let name = member(&form.field.name);
            let prefix = format!("{value}.{name}.");
            let element = Target { prefix: &prefix, name: "value" };
            then.extend(self.value(&format!("{stem}_{name}"), &form.field, ops, element, depth + 1));
            cases.push(Case { number: Some(format!("{index}u")), then });
        }
        let no_form = Stmt::Return(expr![format!("{}_NO_FORM", self.group.upper)]);
        cases.push(Case { number: None, then: vec![no_form] });
        Stmt::Switch(expr![target.form()], cases)
    }
}
