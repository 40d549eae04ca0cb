//! Reading the fields of a group from a body, and stepping over those that nobody wants.

use emberwort_model::model::{Field, Length, Selector};
use emberwort_model::plan::{ListPlan, RecordPlan, UnionPlan, count_bytes};

use super::cursor::{Cursor, Size, Stretch};
use super::fixed_layout::{PendingOps, byte_at};
use super::{Group, Target, ValueUse, set};
use crate::c::numbers;
use crate::c::tree::{Bound, Case, Expr, Stmt, Test, Variable, expr};
use crate::c::words::member;
use crate::lower::{Op, Section};
use crate::names::snake;

/// What the code around a section wants to know of a field before it is read.
type BeforeField<'n> = &'n dyn Fn(Cursor, usize) -> Option<Stmt>;

impl Group<'_> {
    /// What stands before a section is read: `lacking` where the sender's revision does not have it, and a body that is too short.
    pub(crate) fn begin_section(&self, index: usize, section: &Section<'_>, lacking: Vec<Stmt>) -> Vec<Stmt> {
        let mut statements = vec![Stmt::Comment(format!("Revision {}.", section.plan.revision))];
        let start = section.fixed.start;
        if index > 0 {
            let ends = match start {
                Some(start) => Test::Ends(Bound::End, start),
                None => Test::Other(expr![Variable::End, " == ", Variable::Start]),
            };
            statements.push(Stmt::If(ends, lacking, Vec::new()));
        }
        if section.need > 0 {
            let lacks = match start {
                Some(start) => Test::Below(Bound::End, start + section.need),
                None => Test::Behind(Bound::End, Variable::Start, section.need),
            };
            statements.push(self.refuse(lacks, "TRUNCATED"));
        }
        statements
    }

    /// Reads one section whose length was tested; `start` then is behind it. `noted` is executed where a field is, before it is read.
    pub(crate) fn read_section(
        &self,
        index: usize,
        sections: &[Section<'_>],
        take: ValueUse,
        target: &str,
        noted: BeforeField<'_>,
    ) -> Vec<Stmt> {
        let section = &sections[index];
        let mut pending: PendingOps<'_, '_> = section.ops.iter().collect();
        let mut statements = self.read_known(section, take, target, &mut pending);
        let stretch = Stretch::after_fixed(section);
        let left: Vec<&Op<'_>> = pending.into();
        statements.extend(self.read_placed(stretch, &left, take, target, noted));
        statements.extend(self.end_section(section, sections.get(index + 1), stretch.cursor));
        statements
    }

    /// Reads what these operations of a section are for.
    pub(crate) fn read_placed(
        &self,
        stretch: Stretch<'_>,
        ops: &[&Op<'_>],
        take: ValueUse,
        target: &str,
        noted: BeforeField<'_>,
    ) -> Vec<Stmt> {
        let Stretch { cursor, fixed: known, is_tested } = stretch;
        let mut statements = Vec::new();
        for op in ops {
            match op {
                Op::Seek(bit) => statements.push(cursor.seek(known.start, *bit)),
                Op::Field(slot, ops) => {
                    statements.extend(noted(cursor, *slot));
                    statements.extend(self.read_field(stretch, *slot, ops, take, target));
                }
                Op::If { slot, bit, then } => {
                    let name = slot.filter(|_| take == ValueUse::Keep).map(|slot| member(&self.fields[slot].name));
                    let has = |is_there: &str| name.as_ref().map(|name| set(format!("{target}has_{name}"), is_there));
                    let then: Vec<&Op<'_>> = then.iter().collect();
                    let inner = self.read_placed(stretch, &then, take, target, noted);
                    let there: Vec<Stmt> = has("true").into_iter().chain(inner).collect();
                    let mut absent: Vec<Stmt> = has("false").into_iter().collect();
                    if let Some(slot) = slot.filter(|_| take == ValueUse::Keep) {
                        let step =
                            self.sections.iter().flat_map(|section| &section.steps).find(|step| step.slot == slot);
                        absent.extend(step.map(|step| self.unset(slot, &step.action, target)).into_iter().flatten());
                    }
                    let mask = 1u32 << (bit % 8);
                    let is_there = expr!["(", byte_at(known, *bit as usize / 8), format!(" & {mask:#04X}u) != 0u")];
                    statements.push(Stmt::If(Test::Other(is_there), there, absent));
                }
                op => statements.extend(Reader { group: self, cursor, is_tested, take: ValueUse::Nothing }.space(op)),
            }
        }
        statements
    }

    /// Reads the field that lies at the cursor, and goes behind it. `target` stands in front of members' names.
    fn read_field(&self, stretch: Stretch<'_>, slot: usize, ops: &[Op<'_>], take: ValueUse, target: &str) -> Vec<Stmt> {
        let field = &self.fields[slot];
        let name = member(&field.name);
        let decides = self.deciders().contains(&slot).then_some(slot);
        let take = if field.is_spare() { ValueUse::Nothing } else { take };
        let Stretch { cursor, is_tested, .. } = stretch;
        Reader { group: self, cursor, is_tested, take }.value(
            field,
            ops,
            Target { prefix: target, name: &name },
            0,
            decides,
        )
    }

    /// Sets `start` to what lies behind a section that was read, where somebody wants to know it.
    fn end_section(&self, section: &Section<'_>, next: Option<&Section<'_>>, cursor: Cursor) -> Vec<Stmt> {
        let is_wanted = match next {
            Some(next) => next.fixed.start.is_none(),
            None => !self.is_body,
        };
        let mut statements = Vec::new();
        if is_wanted {
            statements.push(match section.size {
                Some(size) => Stmt::Add(Variable::Start, Expr::number(size)),
                None => Stmt::Set(Variable::Start, cursor.next_byte()),
            });
        }
        if section.size.is_none() && cursor == Cursor::Bits {
            let place = if is_wanted { expr![Variable::Start] } else { cursor.next_byte() };
            statements.push(self.refuse(Test::Other(expr![place, " > ", Variable::End]), "TRUNCATED"));
        }
        statements
    }

    /// Ends the function if a count is above its maximum, where it can be.
    pub fn too_many(&self, count: &str, most: u32) -> Option<Stmt> {
        let greatest = if count_bytes(most) == 1 { 255 } else { 65_535 };
        (most < greatest).then(|| self.refuse(Test::Other(expr![format!("{count} > {most}u")]), "TOO_MANY"))
    }

    /// A block that calls a function which reads or writes from byte `inner` on, and goes behind what it did.
    pub(crate) fn call_inside(&self, cursor: Cursor, from: Expr, call: Expr) -> Vec<Stmt> {
        vec![
            Stmt::Do(expr!["size_t inner = ", from]),
            Stmt::Do(expr![format!("{}_codec_result_t result = ", self.link), call]),
            self.failed(),
            cursor.go_to("inner"),
        ]
    }

    /// Ends the function if the one that was called did not succeed.
    pub fn failed(&self) -> Stmt {
        Stmt::Refuse(Test::Other(expr![format!("result != {}_OK", self.upper)]), "result".to_owned())
    }
}

/// Makes what reads values at a cursor.
struct Reader<'g, 'a> {
    group: &'g Group<'a>,
    cursor: Cursor,
    /// Whether there are certainly all bytes that a value without a length of its own has.
    is_tested: bool,
    take: ValueUse,
}

impl Reader<'_, '_> {
    fn keeps(&self) -> bool {
        self.take == ValueUse::Keep
    }

    fn lacks(&self, size: &Size<'_>) -> Stmt {
        self.group.lacks(self.cursor, size)
    }

    /// Ends the function if a value of this size is not all there, and goes behind it if it is; `act` is executed before that.
    fn stepping(&self, size: &Size<'_>, act: Vec<Stmt>) -> Vec<Stmt> {
        let is_certain = self.is_tested && matches!(size, Size::Bits(_));
        let lacks = (!is_certain).then(|| self.lacks(size));
        lacks.into_iter().chain(act).chain([self.cursor.go(size)]).collect()
    }

    fn value(
        &self,
        field: &Field,
        ops: &[Op<'_>],
        target: Target<'_>,
        depth: usize,
        decides: Option<usize>,
    ) -> Vec<Stmt> {
        let cursor = self.cursor;
        let mut statements = Vec::new();
        for (at, op) in ops.iter().enumerate() {
            match op {
                // What is called goes to the next byte itself.
                Op::Align if matches!(ops.get(at + 1), Some(Op::Call(_))) => {}
                Op::Number { width, order, .. } => {
                    let raw = || self.group.number_at(cursor, &field.kind, *width, *order);
                    let key = decides.map(|slot| set(format!("key_{slot}"), expr!["(uint64_t)(", raw(), ")"]));
                    let kept = self.keeps().then(|| set(target.value(), raw()));
                    let act = key.into_iter().chain(kept).collect();
                    statements.extend(self.stepping(&Size::Bits(usize::from(*width)), act));
                }
                Op::Varint { width, signed } => {
                    statements.push(self.compact(field, *width, *signed, target, decides));
                }
                Op::Run { length, text } => statements.extend(self.run(*length, *text, target, depth)),
                Op::Call(record) => {
                    let call = self.call(record, expr![Variable::End], target);
                    statements.push(Stmt::Block(self.group.call_inside(cursor, cursor.next_byte(), call)));
                }
                Op::Sized { bytes, record } => {
                    let each = format!("each{}", depth.saturating_sub(1));
                    if let Some(bytes) = bytes {
                        statements.extend(self.size(*bytes, format!("size_t {each}")));
                    }
                    // What a later revision added to the element is stepped over.
                    let size = Size::Bytes(&each);
                    let call = self.call(record, expr![format!("inner + {each}")], target);
                    let mut inner = self.group.call_inside(cursor, cursor.byte(), call);
                    inner.pop();
                    statements.extend(self.stepping(&size, vec![Stmt::Block(inner)]));
                }
                Op::Repeat { list, once, each } => {
                    statements.push(Stmt::Block(self.list(list, *once, each, target, depth)));
                }
                Op::Select { union, forms } => statements.push(self.union(union, forms, target, depth)),
                op => statements.extend(self.space(op)),
            }
        }
        statements
    }

    /// What has no value.
    fn space(&self, op: &Op<'_>) -> Vec<Stmt> {
        match op {
            Op::Align => self.cursor.align().into_iter().collect(),
            Op::Skip(bits) => self.stepping(&Size::Bits(*bits as usize), Vec::new()),
            // Sections have these, and values.
            _ => Vec::new(),
        }
    }

    /// The call that reads a record from byte `inner` on; it is kept if values are.
    fn call(&self, record: &RecordPlan, end: Expr, target: Target<'_>) -> Expr {
        let name = snake(&record.record.name);
        let (function, value) =
            if self.keeps() { ("keep", format!(", &{}", target.value())) } else { ("check", String::new()) };
        let function = Expr::function(format!("{}_{name}_{function}", self.group.link));
        expr![function, "(", Variable::Body, ", ", end, ", &inner", value, ")"]
    }

    /// An integer of variable length.
    fn compact(&self, field: &Field, width: u8, signed: bool, target: Target<'_>, decides: Option<usize>) -> Stmt {
        let (cursor, Group { link, .. }) = (self.cursor, self.group);
        let bits = if width > 32 { 64 } else { 32 };
        let mut inner = vec![Stmt::call(format!("uint{bits}_t compact"))];
        let place = match cursor {
            Cursor::Bytes => Expr::address(Variable::Here),
            Cursor::Bits => {
                inner.push(Stmt::Do(expr!["size_t inner = ", cursor.byte()]));
                expr!["&inner"]
            }
        };
        let get = Expr::function(format!("{link}_get_compact{bits}"));
        inner.push(Stmt::Do(expr![
            format!("{link}_codec_result_t result = "),
            get,
            "(",
            Variable::Body,
            ", ",
            Variable::End,
            ", ",
            place,
            format!(", {width}u, &compact)")
        ]));
        inner.push(self.group.failed());
        if cursor == Cursor::Bits {
            inner.push(cursor.go_to("inner"));
        }
        if signed {
            inner.push(set("compact", "(compact >> 1) ^ (0u - (compact & 1u))"));
        }
        inner.extend(decides.map(|slot| set(format!("key_{slot}"), "compact")));
        if self.keeps() {
            let cast = numbers::raw_type(link, &field.kind);
            let value = if signed { format!("({cast})(int{bits}_t)compact") } else { format!("({cast})compact") };
            inner.push(set(target.value(), value));
        }
        Stmt::Block(inner)
    }

    fn run(&self, length: Length, text: bool, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let cursor = self.cursor;
        match length {
            Length::Exact(count) => {
                let kept = self.keeps().then(|| Stmt::Block(self.keep_exact(count, text, target, depth)));
                self.stepping(&Size::Bits(count as usize * 8), kept.into_iter().collect())
            }
            Length::UpTo(most) => {
                let bytes = count_bytes(most);
                let size = Size::Bits(usize::from(bytes) * 8);
                let mut inner = vec![Stmt::Do(expr!["size_t count = ", self.group.count_at(cursor, bytes)])];
                inner.extend(self.group.too_many("count", most));
                inner.push(cursor.go(&size));
                let mut kept = Vec::new();
                if self.keeps() {
                    kept.push(set(target.length(), format!("(uint{}_t)count", bytes * 8)));
                    let copy = Expr::function("memcpy");
                    let to = format!("({}, ", target.value());
                    kept.push(Stmt::Do(expr![copy, to, Variable::Body, " + ", cursor.byte(), ", count)"]));
                }
                inner.extend(self.stepping(&Size::Bytes("count"), kept));
                vec![self.lacks(&size), Stmt::Block(inner)]
            }
            Length::Rest => {
                let mut statements = Vec::new();
                if cursor == Cursor::Bits {
                    statements.push(self.lacks(&Size::Bits(0)));
                }
                if self.keeps() {
                    let ty = if text { "char" } else { "uint8_t" };
                    let from = expr![format!("(const {ty} *)("), Variable::Body, " + ", cursor.byte(), ")"];
                    statements.push(set(target.value(), from));
                    statements.push(set(target.length(), expr![Variable::End, " - ", cursor.byte()]));
                }
                statements.push(cursor.go_to(Variable::End));
                statements
            }
        }
    }

    /// Keeps so many bytes, or a text that fills them up with zeros.
    fn keep_exact(&self, count: u32, text: bool, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let (value, link) = (target.value(), self.group.link);
        let n = format!("b{depth}");
        let mut inner = Vec::new();
        if self.cursor == Cursor::Bits || text {
            inner.push(Stmt::call(format!("size_t {n}")));
        }
        inner.push(match self.cursor {
            Cursor::Bytes => {
                let copy = Expr::function("memcpy");
                Stmt::Do(expr![
                    copy,
                    format!("({value}, "),
                    Variable::Body,
                    " + ",
                    Variable::Here,
                    format!(", {count}u)")
                ])
            }
            Cursor::Bits => {
                let ty = if text { "char" } else { "uint8_t" };
                let get = Expr::function(format!("{link}_get"));
                let byte = expr![
                    format!("({ty})"),
                    get,
                    "(",
                    Variable::Body,
                    ", ",
                    Variable::Bit,
                    format!(" + {n} * 8u, 8u)")
                ];
                let head = format!("{n} = 0; {n} < {count}u; {n}++");
                Stmt::For(expr![head], vec![set(format!("{value}[{n}]"), byte)])
            }
        });
        if text {
            let ty = format!("uint{}_t", count_bytes(count) * 8);
            inner.push(set(n.as_str(), format!("{count}u")));
            let is_filling = expr![format!("{n} > 0u && {value}[{n} - 1u] == 0")];
            inner.push(Stmt::While(is_filling, vec![Stmt::call(format!("{n}--"))]));
            inner.push(set(target.length(), format!("({ty}){n}")));
        }
        inner
    }

    /// The size of each element, of so many bytes, into a variable.
    fn size(&self, bytes: u8, into: String) -> Vec<Stmt> {
        let size = Size::Bits(usize::from(bytes) * 8);
        self.stepping(&size, vec![set(into, self.group.count_at(self.cursor, bytes))])
    }

    fn list(&self, list: &ListPlan, once: Option<u8>, ops: &[Op<'_>], target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let cursor = self.cursor;
        let (count, n, each) = (format!("count{depth}"), format!("n{depth}"), format!("each{depth}"));
        let is_rest = list.length == Length::Rest;
        let mut statements = vec![Stmt::call(format!("size_t {n}"))];
        if !is_rest {
            statements.push(Stmt::call(format!("size_t {count}")));
        }
        if once.is_some() {
            statements.push(Stmt::call(format!("size_t {each}{}", if is_rest { " = 0" } else { "" })));
        }
        match list.length {
            Length::Exact(exact) => statements.push(set(count.as_str(), format!("{exact}u"))),
            Length::UpTo(most) => {
                let bytes = count_bytes(most);
                let size = Size::Bits(usize::from(bytes) * 8);
                statements.push(self.lacks(&size));
                statements.push(set(count.as_str(), self.group.count_at(cursor, bytes)));
                statements.extend(self.group.too_many(&count, most));
                statements.push(cursor.go(&size));
                if self.keeps() {
                    statements.push(set(target.count(), format!("(uint{}_t){count}", bytes * 8)));
                }
            }
            Length::Rest => {}
        }
        if let Some(bytes) = once {
            let mut size: Vec<Stmt> = cursor.align().into_iter().collect();
            size.extend(self.size(bytes, each));
            if is_rest {
                let is_left = match cursor {
                    Cursor::Bytes => expr![Variable::Here, " < ", Variable::End],
                    Cursor::Bits => expr![Variable::Bit, " < ", Variable::End, " * 8u"],
                };
                if (cursor, bytes) == (Cursor::Bytes, 1) {
                    // There is a byte.
                    size.remove(0);
                }
                statements.push(Stmt::If(Test::Other(is_left), size, Vec::new()));
            } else {
                statements.extend(size);
            }
        }
        let mut one: Vec<Stmt> = Vec::new();
        let condition = if is_rest {
            let capacity = self.group.capacity(list);
            one.push(self.group.refuse(Test::Other(expr![format!("{n} >= {capacity}u")]), "TOO_MANY"));
            match cursor {
                Cursor::Bytes => expr![Variable::Here, " < ", Variable::End],
                Cursor::Bits => expr![Variable::Bit, " + 8u <= ", Variable::End, " * 8u"],
            }
        } else {
            expr![format!("{n} < {count}")]
        };
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        one.extend(self.value(&list.element.field, ops, element, depth + 1, None));
        statements.push(Stmt::For(expr![format!("{n} = 0; "), condition, format!("; {n}++")], one));
        if is_rest && self.keeps() {
            statements.push(set(target.count(), n.as_str()));
        }
        statements
    }

    fn union(&self, union: &UnionPlan, forms: &[Vec<Op<'_>>], target: Target<'_>, depth: usize) -> Stmt {
        let meaning = &union.union;
        let key = match meaning.selector {
            Selector::Field(slot) => format!("key_{slot}"),
            // Without the request, only the bytes can be kept.
            Selector::Request { .. } => "key_known ? key : UINT64_MAX".to_owned(),
        };
        let mut cases: Vec<Case> = Vec::new();
        for (index, (element, ops)) in union.forms.iter().zip(forms).enumerate() {
            let mut then = Vec::new();
            if self.keeps() {
                then.push(set(target.form(), format!("{index}u")));
            }
            let prefix = format!("{}.{}.", target.value(), member(&element.field.name));
            let value = Target { prefix: &prefix, name: "value" };
            then.extend(self.value(&element.field, ops, value, depth + 1, None));
            let number = meaning.cases.get(index).map(|case| format!("UINT64_C({})", case.raw));
            cases.push(Case { number, then });
        }
        if cases.len() == meaning.cases.len() {
            let no_form = Stmt::Return(expr![format!("{}_NO_FORM", self.group.upper)]);
            cases.push(Case { number: None, then: vec![no_form] });
        }
        Stmt::Switch(expr![key], cases)
    }
}
