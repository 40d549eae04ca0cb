//! Does what the lowered form of a body says, operation by operation.

use emberwort_codegen::lower::{FixedItemKind, Group, Op, Section, sections};
use emberwort_model::Plan;
use emberwort_model::model::{ByteOrder, Length, Selector};
use emberwort_model::plan::{Action, ListPlan, RecordPlan, UnionPlan, count_bytes};
use emberwort_wire::{ValueRef, Values};

/// A value, with all that lies in it.
#[derive(Clone, Debug, PartialEq)]
pub enum Value {
    Unset,
    Absent,
    Raw(u64),
    Bytes(Vec<u8>),
    Group(Vec<Value>),
    Chosen(usize, Box<Value>),
}

impl Value {
    pub fn of(values: &Values, slot: usize) -> Self {
        match values.get(slot) {
            ValueRef::Unset => Self::Unset,
            ValueRef::Absent => Self::Absent,
            ValueRef::Raw(raw) => Self::Raw(raw),
            ValueRef::Bytes(bytes) => Self::Bytes(bytes.to_vec()),
            ValueRef::Group { first, count } => {
                Self::Group((first..first + count).map(|slot| Self::of(values, slot)).collect())
            }
            ValueRef::Chosen { form, slot } => Self::Chosen(form, Box::new(Self::of(values, slot))),
        }
    }

    fn raw(&self) -> u64 {
        match self {
            Self::Raw(raw) => *raw,
            other => panic!("{other:?} is no number"),
        }
    }

    fn bytes(&self) -> &[u8] {
        match self {
            Self::Bytes(bytes) => bytes,
            other => panic!("{other:?} is no bytes"),
        }
    }

    fn group(&self) -> &[Self] {
        match self {
            Self::Group(group) => group,
            other => panic!("{other:?} is no group"),
        }
    }
}

/// Why a body cannot be read.
#[derive(Debug, PartialEq)]
pub enum Fault {
    Truncated,
    TooMany,
    BadNumber,
    NoForm,
}

pub struct Reader<'a> {
    plan: &'a Plan,
    body: &'a [u8],
    end: usize,
    bit: usize,
    key: Option<u64>,
}

impl<'a> Reader<'a> {
    pub fn new(plan: &'a Plan, body: &'a [u8], key: Option<u64>) -> Self {
        Self { plan, body, end: body.len(), bit: 0, key }
    }

    /// The fields of a message or a record, and how many sections it has.
    pub fn group(&mut self, group: &Group<'_>) -> Result<(Vec<Value>, usize), Fault> {
        let mut values = vec![Value::Unset; group.fields.len()];
        let mut start = self.bit / 8;
        let sections = sections(group);
        let mut held = sections.len();
        for (index, section) in sections.iter().enumerate() {
            if index > 0 && start == self.end {
                held = held.min(index);
                lacking(group, section, &mut values);
                continue;
            }
            start = self.section(group, section, start, &mut values)?;
        }
        self.bit = start * 8;
        Ok((values, held))
    }

    fn section(
        &mut self,
        group: &Group<'_>,
        section: &Section<'_>,
        start: usize,
        values: &mut [Value],
    ) -> Result<usize, Fault> {
        if self.end - start < section.need {
            return Err(Fault::Truncated);
        }
        for item in &section.fixed.items {
            let action = &section.plan.steps[item.step].action;
            if let (FixedItemKind::Number(pieces), Action::Bits { width, signed, .. }) = (&item.kind, action) {
                let part = |piece: &emberwort_codegen::lower::Piece| {
                    u64::from(u32::from(self.body[start + piece.byte]) >> piece.low & piece.mask()) << piece.shift
                };
                values[item.slot] = number(pieces.iter().map(part).sum(), *width, *signed);
            }
        }
        for op in &section.ops {
            match op {
                Op::If { slot, bit, then } => {
                    let bit = *bit as usize;
                    if self.body[start + bit / 8] >> (bit % 8) & 1 == 1 {
                        then.iter().try_for_each(|op| self.placed(group, op, start, values))?;
                    } else if let Some(slot) = slot {
                        values[*slot] = Value::Absent;
                    }
                }
                op => self.placed(group, op, start, values)?,
            }
        }
        let end = match section.size {
            Some(size) => start + size,
            None => self.bit.div_ceil(8),
        };
        if end > self.end { Err(Fault::Truncated) } else { Ok(end) }
    }

    fn placed(&mut self, group: &Group<'_>, op: &Op<'_>, start: usize, values: &mut [Value]) -> Result<(), Fault> {
        match op {
            Op::Seek(bit) => self.bit = start * 8 + bit,
            Op::Align => self.bit = self.bit.next_multiple_of(8),
            Op::Skip(bits) => {
                self.need(*bits as usize)?;
                self.bit += *bits as usize;
            }
            Op::Field(slot, ops) => {
                if let [Op::Bytes { byte, .. }] = ops[..] {
                    self.bit = (start + byte) * 8;
                }
                values[*slot] = self.value(ops, group.order, values)?;
            }
            op => panic!("{op:?} is the operation of a value"),
        }
        Ok(())
    }

    /// The value that operations read; `fields` are those around it.
    fn value(&mut self, ops: &[Op<'_>], order: ByteOrder, fields: &[Value]) -> Result<Value, Fault> {
        let mut found = Value::Unset;
        for op in ops {
            found = match op {
                Op::Align => {
                    self.bit = self.bit.next_multiple_of(8);
                    continue;
                }
                Op::Bytes { count, .. } => Value::Bytes(self.take(*count as usize, order)?),
                Op::Number { width, signed, order } => number(self.get(*width, *order)?, *width, *signed),
                Op::Varint { width, signed } => Value::Raw(self.varint(*width, *signed)?),
                Op::Run { length, text } => {
                    let mut some = match length {
                        Length::Exact(count) => self.take(*count as usize, order)?,
                        Length::UpTo(most) => {
                            let count = self.count(*most, order)?;
                            self.take(count, order)?
                        }
                        Length::Rest => {
                            self.need(0)?;
                            let from = self.bit / 8;
                            self.bit = self.end * 8;
                            self.body[from..self.end].to_vec()
                        }
                    };
                    while *text && matches!(length, Length::Exact(_)) && some.last() == Some(&0) {
                        some.pop();
                    }
                    Value::Bytes(some)
                }
                Op::Call(record) => self.record(record)?,
                Op::Sized { .. } => panic!("only an element has its size"),
                Op::Repeat { list, once, each } => self.list(list, *once, each, order, fields)?,
                Op::Select { union, forms } => self.union(union, forms, order, fields)?,
                op => panic!("{op:?} is no operation of a value"),
            };
        }
        Ok(found)
    }

    fn record(&mut self, record: &RecordPlan) -> Result<Value, Fault> {
        Ok(Value::Group(self.group(&Group::of_record(self.plan, record))?.0))
    }

    fn list(
        &mut self,
        list: &ListPlan,
        once: Option<u8>,
        each: &[Op<'_>],
        order: ByteOrder,
        fields: &[Value],
    ) -> Result<Value, Fault> {
        let count = match list.length {
            Length::Exact(count) => count as usize,
            Length::UpTo(most) => self.count(most, order)?,
            Length::Rest => usize::MAX,
        };
        let is_rest = list.length == Length::Rest;
        let mut size = 0;
        if let Some(bytes) = once.filter(|_| !is_rest || self.bit < self.end * 8) {
            self.bit = self.bit.next_multiple_of(8);
            size = self.get(bytes * 8, order)? as usize;
        }
        let mut items = Vec::new();
        while items.len() < count && (!is_rest || self.bit + 8 <= self.end * 8) {
            let before = self.bit;
            let (last, placing) = each.split_last().unwrap();
            match last {
                Op::Sized { bytes, record } => {
                    assert!(placing.iter().all(|op| matches!(op, Op::Align)));
                    self.bit = self.bit.next_multiple_of(8);
                    if let Some(bytes) = bytes {
                        size = self.get(bytes * 8, order)? as usize;
                    }
                    self.need(size * 8)?;
                    let (after, end) = (self.bit / 8 + size, self.end);
                    self.end = after;
                    items.push(self.record(record)?);
                    (self.end, self.bit) = (end, after * 8);
                }
                _ => items.push(self.value(each, order, fields)?),
            }
            if is_rest && self.bit <= before {
                return Err(Fault::Truncated);
            }
        }
        Ok(Value::Group(items))
    }

    fn union(
        &mut self,
        union: &UnionPlan,
        forms: &[Vec<Op<'_>>],
        order: ByteOrder,
        fields: &[Value],
    ) -> Result<Value, Fault> {
        let key = match union.union.selector {
            Selector::Field(slot) => Some(fields[slot].raw()),
            Selector::Request { .. } => self.key,
        };
        let cases = &union.union.cases;
        let form = cases.iter().position(|case| Some(case.raw) == key).unwrap_or(cases.len());
        let ops = forms.get(form).ok_or(Fault::NoForm)?;
        Ok(Value::Chosen(form, Box::new(self.value(ops, order, fields)?)))
    }

    fn need(&self, bits: usize) -> Result<(), Fault> {
        if self.bit + bits > self.end * 8 { Err(Fault::Truncated) } else { Ok(()) }
    }

    /// Bit by bit, so that it has nothing in common with what it is compared to.
    fn get(&mut self, width: u8, order: ByteOrder) -> Result<u64, Fault> {
        self.need(usize::from(width))?;
        let mut raw = 0;
        for n in 0..usize::from(width) {
            let at = self.bit + n;
            match order {
                ByteOrder::Little => raw |= u64::from(self.body[at / 8] >> (at % 8) & 1) << n,
                ByteOrder::Big => raw = raw << 1 | u64::from(self.body[at / 8] >> (7 - at % 8) & 1),
            }
        }
        self.bit += usize::from(width);
        Ok(raw)
    }

    fn varint(&mut self, width: u8, signed: bool) -> Result<u64, Fault> {
        let mut value = 0u128;
        for shift in (0..width).step_by(7) {
            let byte = self.get(8, ByteOrder::Little)?;
            value |= u128::from(byte & 0x7F) << shift;
            if value >> width != 0 {
                break;
            }
            if byte & 0x80 == 0 {
                let value = value as u64;
                return Ok(if signed { value >> 1 ^ (value & 1).wrapping_neg() } else { value });
            }
        }
        Err(Fault::BadNumber)
    }

    fn count(&mut self, most: u32, order: ByteOrder) -> Result<usize, Fault> {
        let count = self.get(count_bytes(most) * 8, order)?;
        if count > u64::from(most) { Err(Fault::TooMany) } else { Ok(count as usize) }
    }

    fn take(&mut self, count: usize, order: ByteOrder) -> Result<Vec<u8>, Fault> {
        self.need(count * 8)?;
        (0..count).map(|_| Ok(self.get(8, order)? as u8)).collect()
    }
}

/// What fields hold whose section the sender's revision lacks.
fn lacking(group: &Group<'_>, section: &Section<'_>, values: &mut [Value]) {
    for step in section.plan.steps.iter().filter(|step| !group.fields[step.slot].is_spare()) {
        values[step.slot] = match &group.fields[step.slot].default {
            Some(emberwort_model::model::Value::Raw(raw)) => Value::Raw(*raw),
            Some(emberwort_model::model::Value::Bytes(bytes)) => Value::Bytes(bytes.clone()),
            None => Value::Absent,
        };
    }
}

fn number(raw: u64, width: u8, signed: bool) -> Value {
    let up = 64 - u32::from(width);
    Value::Raw(if signed { ((raw << up) as i64 >> up) as u64 } else { raw })
}

pub struct Writer<'a> {
    plan: &'a Plan,
    revision: u32,
    pub out: Vec<u8>,
    bit: usize,
}

impl<'a> Writer<'a> {
    pub fn new(plan: &'a Plan, revision: u32) -> Self {
        Self { plan, revision, out: Vec::new(), bit: 0 }
    }

    /// Writes so many sections of a message or a record.
    pub fn group(&mut self, group: &Group<'_>, held: usize, values: &[Value]) {
        for section in &sections(group)[..held] {
            self.section(group, section, values);
        }
    }

    fn section(&mut self, group: &Group<'_>, section: &Section<'_>, values: &[Value]) {
        let start = self.bit / 8;
        self.reach((start + section.fixed.bytes) * 8);
        for byte in section.fixed.sums(|slot| !group.fields[slot].is_spare()) {
            let part = |(slot, piece): &(usize, emberwort_codegen::lower::Piece)| {
                ((values[*slot].raw() >> piece.shift) as u32 & piece.mask()) << piece.low
            };
            self.out[start + byte.byte] = byte.parts.iter().map(part).sum::<u32>() as u8;
        }
        for op in &section.ops {
            match op {
                Op::If { slot: None, .. } => {}
                Op::If { slot: Some(slot), bit, then } => {
                    if values[*slot] != Value::Absent {
                        self.out[start + *bit as usize / 8] |= 1 << (bit % 8);
                        then.iter().for_each(|op| self.placed(group, op, start, values));
                    }
                }
                op => self.placed(group, op, start, values),
            }
        }
        let end = section.size.map_or(self.bit.div_ceil(8), |size| start + size);
        self.reach(end * 8);
        self.bit = end * 8;
    }

    fn placed(&mut self, group: &Group<'_>, op: &Op<'_>, start: usize, values: &[Value]) {
        match op {
            Op::Seek(bit) => self.bit = start * 8 + bit,
            Op::Align => self.bit = self.bit.next_multiple_of(8),
            Op::Skip(bits) => {
                self.bit += *bits as usize;
                self.reach(self.bit);
            }
            Op::Field(slot, ops) => {
                if let [Op::Bytes { byte, .. }] = ops[..] {
                    self.bit = (start + byte) * 8;
                }
                self.value(ops, group.order, &values[*slot]);
            }
            op => panic!("{op:?} is the operation of a value"),
        }
    }

    fn value(&mut self, ops: &[Op<'_>], order: ByteOrder, value: &Value) {
        for op in ops {
            match op {
                Op::Align => self.bit = self.bit.next_multiple_of(8),
                Op::Bytes { .. } => self.bytes(value.bytes(), order),
                Op::Number { width, order, .. } => self.put(value.raw(), *width, *order),
                Op::Varint { signed, .. } => {
                    let raw = value.raw();
                    let mut left = if *signed { raw << 1 ^ ((raw as i64) >> 63) as u64 } else { raw };
                    while left > 0x7F {
                        self.put(left & 0x7F | 0x80, 8, order);
                        left >>= 7;
                    }
                    self.put(left, 8, order);
                }
                Op::Run { length, .. } => {
                    let mut some = value.bytes().to_vec();
                    match length {
                        Length::Exact(count) => some.resize(*count as usize, 0),
                        Length::UpTo(most) => self.put(some.len() as u64, count_bytes(*most) * 8, order),
                        Length::Rest => {}
                    }
                    self.bytes(&some, order);
                }
                Op::Call(record) | Op::Sized { bytes: None, record } => self.record(record, value),
                Op::Sized { bytes: Some(bytes), record } => {
                    let at = self.bit;
                    self.put(0, bytes * 8, order);
                    self.record(record, value);
                    let (end, size) = (self.bit, (self.bit - at) / 8 - usize::from(*bytes));
                    self.bit = at;
                    self.put(size as u64, bytes * 8, order);
                    self.bit = end;
                }
                Op::Repeat { list, once, each } => self.list(list, *once, each, order, value.group()),
                Op::Select { forms, .. } => {
                    let Value::Chosen(form, inner) = value else { panic!("{value:?} is no form") };
                    self.value(&forms[*form], order, inner);
                }
                op => panic!("{op:?} is no operation of a value"),
            }
        }
    }

    fn record(&mut self, record: &RecordPlan, value: &Value) {
        self.group(&Group::of_record(self.plan, record), record.sections_of(self.revision), value.group());
    }

    fn list(&mut self, list: &ListPlan, once: Option<u8>, each: &[Op<'_>], order: ByteOrder, items: &[Value]) {
        if let Length::UpTo(most) = list.length {
            self.put(items.len() as u64, count_bytes(most) * 8, order);
        }
        if let (Some(bytes), Action::Record(record)) = (once, &list.element.action)
            && (list.length != Length::Rest || !items.is_empty())
        {
            self.bit = self.bit.next_multiple_of(8);
            self.put(record.sizes(record.sections_of(self.revision)).1 as u64, bytes * 8, order);
        }
        items.iter().for_each(|item| self.value(each, order, item));
    }

    fn reach(&mut self, bits: usize) {
        let bytes = bits.div_ceil(8).max(self.out.len());
        self.out.resize(bytes, 0);
    }

    fn put(&mut self, raw: u64, width: u8, order: ByteOrder) {
        let width = usize::from(width);
        self.reach(self.bit + width);
        for n in 0..width {
            let at = self.bit + n;
            let (bit, place) = match order {
                ByteOrder::Little => (raw >> n & 1, at % 8),
                ByteOrder::Big => (raw >> (width - 1 - n) & 1, 7 - at % 8),
            };
            self.out[at / 8] = self.out[at / 8] & !(1 << place) | (bit as u8) << place;
        }
        self.bit += width;
    }

    fn bytes(&mut self, some: &[u8], order: ByteOrder) {
        some.iter().for_each(|byte| self.put(u64::from(*byte), 8, order));
    }
}
