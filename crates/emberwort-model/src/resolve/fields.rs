//! Fields: from the type as written to raw codes, and what may stand behind a type.

use std::sync::Arc;

use super::Resolver;
use super::defaults::default_value;
use super::records::reaches_end;
use crate::counting::some_of;
use crate::diagnostics::{Code, Finding, nearest};
use crate::model::{ByteOrder, Case, Field, Kind, Length, NumberForm, Selector, Table, Union, Value};
use crate::number::{Decimal, Scaling};
use crate::source::Span;
use crate::syntax::TYPE_WORDS;
use crate::syntax::ast::{CaseItem, FieldItem, Literal, MessageItem, Name, Number, TypeExpr};

const ZERO: Decimal = Decimal { mantissa: 0, decimals: 0 };

/// What surrounds a field: the fields before it, and the message that it stands in, if it is not a record's.
#[derive(Clone, Copy)]
struct FieldContext<'a> {
    before: &'a [Field],
    message: Option<&'a MessageItem>,
}

impl Resolver<'_> {
    /// A field of a message or record. `before` are the fields before it.
    pub(super) fn field(
        &mut self,
        item: &FieldItem,
        since: u32,
        before: &[Field],
        message: Option<&MessageItem>,
    ) -> Option<Field> {
        let kind = self.kind(item, Some(FieldContext { before, message }))?;
        let mut field = self.finished(item, kind)?;
        self.stands_in_list(item, &field);
        if let (Some(span), None) = (item.counter, message) {
            let help = "let the message that holds the record count: put the counter there";
            self.modifier(span, "a record is not a message, so it cannot count messages", help);
        }
        field.since = since;
        Some(field)
    }

    /// A form by itself: the entry of a table, the element of a list, a form of a union, a type on the command line.
    pub(super) fn form(&mut self, item: &FieldItem) -> Option<Field> {
        for (span, what) in [
            (item.optional, "optional"),
            (item.counter, "a counter"),
            (item.retired, "retired"),
            (item.at.map(|(_, span)| span), "at an explicit place"),
            (item.default.as_ref().map(|(_, span)| *span), "given a default"),
        ] {
            if let Some(span) = span {
                self.report(Finding::new(
                    Code::BadModifier,
                    span,
                    format!("an entry, an element or a form cannot be {what}: only whole fields can"),
                    "leave this out here, or say it of the field that holds it",
                ));
            }
        }
        let kind = self.kind(item, None)?;
        self.finished(item, kind)
    }

    fn finished(&mut self, item: &FieldItem, kind: Kind) -> Option<Field> {
        let order = self.order_of(item, &kind);
        let mut field = Field {
            doc: item.doc.clone(),
            unit: item.unit.clone(),
            optional: item.optional.is_some(),
            at: item.at.map(|(at, _)| at),
            counter: item.counter.is_some(),
            retired: item.retired.is_some(),
            ..Field::plain(item.name.as_ref().map_or("", |name| name.text.as_str()), kind, order)
        };
        if let TypeExpr::Exactly { .. } = item.ty
            && let Kind::Number(form) = &field.kind
        {
            field.default = Some(Value::Raw(form.low as u64));
        }
        if let Some((literal, span)) = &item.default {
            if matches!(item.ty, TypeExpr::Exactly { .. }) {
                let help = "take the default out: an older sender lacks the field, and its constant is assumed";
                self.modifier(*span, "a constant needs no default", help);
            } else {
                match default_value(&field, literal) {
                    Ok(value) => field.default = Some(value),
                    Err((message, help)) => self.report(Finding::new(Code::BadDefault, *span, message, help)),
                }
            }
        }
        if let Some(span) = item.counter
            && !matches!(&field.kind, Kind::Number(form) if !form.signed && form.scaling.is_identity())
        {
            let help = "write `counter` after a plain unsigned integer, as in `number : u8 counter`";
            self.modifier(span, "only whole numbers from 0 on can count messages", help);
        }
        if let Some(span) = item.retired {
            let fixed = match &field.kind {
                Kind::Text { length, .. } | Kind::Bytes(length) => matches!(length, Length::Exact(_)),
                Kind::Spare { .. } => false,
                kind => kind.raw_bits().is_some() && !matches!(kind, Kind::Varint(_)),
            };
            if !fixed {
                let help = "keep it as it is and say in its documentation that nobody uses it any more";
                self.modifier(span, "only fields of a fixed size can be retired, since their place must stay", help);
            }
        }
        Some(field)
    }

    /// Reports an extensible record that stands by itself: an old receiver could not step over what it does not know.
    fn stands_in_list(&mut self, item: &FieldItem, field: &Field) {
        if let Kind::Record(record) = &field.kind
            && record.extensible
        {
            let name = &record.name;
            self.report(Finding::new(
                Code::BadGrowth,
                item.ty_span,
                format!("`{name}` may grow, and only a list carries the size that lets an old receiver step over it"),
                format!("write `[1] {name}` for a single one"),
            ));
        }
    }

    fn modifier(&mut self, span: Span, message: &str, help: &str) {
        self.report(Finding::new(Code::BadModifier, span, message, help));
    }

    /// The byte order of a field: the link's, or the one written behind its type.
    fn order_of(&mut self, item: &FieldItem, kind: &Kind) -> ByteOrder {
        let Some((order, span)) = item.order else { return self.byte_order };
        let bits = kind.raw_bits().filter(|_| !matches!(kind, Kind::Varint(_)));
        let (message, help) = match bits {
            None => (
                "only a single number has a byte order of its own".to_owned(),
                "write `be` or `le` after an integer, a range, a float or an enum".to_owned(),
            ),
            Some(bits) if bits % 8 != 0 && item.at.is_none() => (
                format!("{bits} bits are not whole bytes, so their order means nothing"),
                "widen the field to whole bytes, or say where it lies: `u12 be at 2.7`".to_owned(),
            ),
            Some(_) => return order,
        };
        self.report(Finding::new(Code::BadByteOrder, span, message, help));
        order
    }

    fn kind(&mut self, item: &FieldItem, context: Option<FieldContext<'_>>) -> Option<Kind> {
        let none = item.none;
        let kind = match &item.ty {
            TypeExpr::Integer { signed, bits, scale, offset } => {
                return self.integer(item, *signed, *bits, *scale, *offset).map(Kind::Number);
            }
            TypeExpr::Steps { low, high, step } => {
                return self.steps(item, *low, *high, *step).map(Kind::Number);
            }
            TypeExpr::Spread { low, high, bits } => {
                return self.spread(item, *low, *high, *bits).map(Kind::Number);
            }
            TypeExpr::Varint { signed, bits } => {
                return self.integer(item, *signed, *bits, None, None).map(Kind::Varint);
            }
            TypeExpr::Named(name) => return self.named(item, name),
            TypeExpr::KeyOf(name) => {
                let table = self.table_named(name)?;
                return self.coded(item, &table.keys);
            }
            TypeExpr::Exactly { value, signed, bits } => self.exactly(*value, *signed, *bits)?,
            TypeExpr::List { element, length } => self.list(element, *length)?,
            TypeExpr::By { field, cases, otherwise } => self.by(context, item, field, cases, otherwise.as_deref())?,
            TypeExpr::ValueOf { table, request, field } => {
                self.value_of(context, item, table, request.as_ref(), field)?
            }
            TypeExpr::FrameOf(name) => match self.channels.get(&name.text) {
                _ if context.is_none_or(|around| around.message.is_none()) => {
                    self.element(item.ty_span, "a nested frame");
                    return None;
                }
                Some(channel) => Kind::NestedFrame { channel: *channel, name: name.text.as_str().into() },
                None => {
                    let known = &self.file.channels;
                    self.unknown_name(name, "channel", known.iter().map(|c| c.name.text.as_str()));
                    return None;
                }
            },
            TypeExpr::Bool => Kind::Bool,
            TypeExpr::Float(bits) => Kind::Float(*bits),
            TypeExpr::Time { milliseconds } => Kind::Time { milliseconds: *milliseconds },
            TypeExpr::Text { ascii, length } => Kind::Text { ascii: *ascii, length: *length },
            TypeExpr::Bytes(length) => Kind::Bytes(*length),
            TypeExpr::Spare { bits } => Kind::Spare { bits: *bits },
        };
        if let Some(span) = none {
            self.report(Finding::new(
                Code::NoCodeForNone,
                span,
                "a field of this type has no raw code that could mean \"no reading\"",
                "write `optional` instead: a presence bit then says whether the field is there",
            ));
        }
        Some(kind)
    }

    /// The name of an enum, a flag set or a record.
    fn named(&mut self, item: &FieldItem, name: &Name) -> Option<Kind> {
        if let Some(labels) = self.labelled.get(&name.text).cloned() {
            self.used.insert(name.text.clone());
            return self.coded(item, &labels);
        }
        if self.record_begun(&name.text) {
            let message = format!("`{}` contains itself, and would never end", name.text);
            let help = "take one of the two out, or carry the inner one in a message of its own";
            self.report(Finding::new(Code::RecordCycle, name.span, message, help));
            return None;
        }
        if self.record_items.contains_key(&name.text) {
            self.used.insert(name.text.clone());
            let record = self.record(&name.text)?;
            if let Some(span) = item.none {
                let help = "write `optional` instead: a presence bit then says whether the record is there";
                self.report(Finding::new(Code::NoCodeForNone, span, "a record has no code for \"no reading\"", help));
            }
            return Some(Kind::Record(record));
        }
        if let Some(own) = own_word(&name.text) {
            let message = format!("there is no type `{}`", name.text);
            self.report(
                Finding::new(Code::UnknownName, name.span, message, format!("write {own}")).label("not defined"),
            );
            return None;
        }
        let known: Vec<String> = self.labelled.keys().chain(self.record_items.keys()).cloned().collect();
        let mut known: Vec<&str> = known.iter().map(String::as_str).collect();
        known.sort_unstable();
        let known = known.into_iter().chain(TYPE_WORDS.iter().copied());
        self.unknown_name(name, "type", known);
        None
    }

    /// A field of labelled codes or bits.
    fn coded(&mut self, item: &FieldItem, labels: &Arc<crate::model::Labelled>) -> Option<Kind> {
        if labels.flags {
            if let Some(span) = item.none {
                let help = "write `optional` instead: a presence bit then says whether the field is there";
                let message = "a set of flags has no raw code that could mean \"no reading\"";
                self.report(Finding::new(Code::NoCodeForNone, span, message, help));
            }
            return Some(Kind::Flags(labels.clone()));
        }
        let code = if labels.bits == 64 { u64::MAX } else { (1 << labels.bits) - 1 };
        if let (Some(span), Some(label)) = (item.none, labels.label(code)) {
            let message =
                format!("`or none` keeps the highest code, {code}, but `{}` of `{}` has it", label.name, labels.name);
            let help = format!("widen it to u{}, or free its highest code", labels.bits + 1);
            self.report(Finding::new(Code::NoCodeForNone, span, message, help));
            return None;
        }
        Some(Kind::Enum { labels: labels.clone(), none: item.none.map(|_| code) })
    }

    fn table_named(&mut self, name: &Name) -> Option<Arc<Table>> {
        if !self.table_items.contains_key(&name.text) {
            let known = &self.file.tables;
            self.unknown_name(name, "table", known.iter().map(|table| table.name.text.as_str()));
            return None;
        }
        self.used.insert(name.text.clone());
        self.table(&name.text)
    }

    fn exactly(&mut self, value: Number, signed: bool, bits: u8) -> Option<Kind> {
        let (low, high) = reach(signed, bits);
        match value.value.as_integer().filter(|value| (low..=high).contains(value)) {
            Some(only) => {
                let scaling = Scaling::IDENTITY;
                let form = NumberForm { bits, signed, scaling, low: only, high: only, none: None, is_range: false };
                Some(Kind::Number(form))
            }
            None => {
                let message = format!("{} does not fit into {bits} bits", value.value);
                let help = format!("choose a whole number from {low} to {high}, or widen the type");
                self.report(Finding::new(Code::CodeTooLarge, value.span, message, help));
                None
            }
        }
    }

    // ---- lists and unions ----

    fn element(&mut self, span: Span, what: &str) {
        self.report(Finding::new(
            Code::BadElement,
            span,
            format!("{what} cannot stand in a list, a record, a table or a form"),
            "make it a field of the message itself",
        ));
    }

    fn list(&mut self, item: &FieldItem, length: Length) -> Option<Kind> {
        let element = self.form(item)?;
        if reaches_end(&element.kind) {
            self.report(Finding::new(
                Code::RestNotLast,
                item.ty_span,
                "an element cannot reach to the end of the body: the next one could never be found",
                "give it a greatest size, as in `[..4] text[..24]`",
            ));
            return None;
        }
        if length == Length::Rest && element.kind.raw_bits().is_some_and(|bits| bits < 8) && !element.kind.is_varint() {
            self.report(Finding::new(
                Code::BadElement,
                item.ty_span,
                "elements of less than a byte cannot fill the rest of a body: zero bits that fill up the last byte would \
                 look like more of them",
                "widen them to 8 bits, or count them: `[..8] u4`",
            ));
            return None;
        }
        Some(Kind::List { element: Arc::new(element), length })
    }

    /// The field that decides, among those before.
    fn selector(&mut self, context: Option<FieldContext<'_>>, item: &FieldItem, name: &Name) -> Option<usize> {
        let Some(around) = context else {
            self.element(item.ty_span, "a value whose form depends on another field");
            return None;
        };
        let found = around.before.iter().position(|field| field.name == name.text && !field.is_spare());
        let Some(slot) = found else {
            let before = around.before.iter().map(|field| field.name.as_str()).filter(|name| !name.is_empty());
            let help = match nearest(&name.text, before) {
                Some(near) => format!("did you mean `{near}`?"),
                None => "the field that decides stands before the one that it decides about".to_owned(),
            };
            let message = format!("there is no field `{}` before this one", name.text);
            self.report(Finding::new(Code::BadSelector, name.span, message, help));
            return None;
        };
        let field = &around.before[slot];
        let whole = match &field.kind {
            Kind::Number(form) => form.scaling.is_identity(),
            Kind::Bool | Kind::Enum { .. } | Kind::Varint(_) => true,
            _ => false,
        };
        if !whole || field.optional {
            let message = format!("`{}` cannot decide about another field", name.text);
            let help =
                "a deciding field is an integer without a scale, an enum, a key of a table or a bool, and always there";
            self.report(Finding::new(Code::BadSelector, name.span, message, help));
            return None;
        }
        Some(slot)
    }

    fn by(
        &mut self,
        context: Option<FieldContext<'_>>,
        item: &FieldItem,
        name: &Name,
        cases: &[CaseItem],
        otherwise: Option<&FieldItem>,
    ) -> Option<Kind> {
        let slot = self.selector(context, item, name)?;
        let decider = context.map(|around| around.before[slot].clone())?;
        let mut found: Vec<Case> = Vec::new();
        let mut fine = true;
        for case in cases {
            let raw = self.case_number(&decider, &case.case);
            if let Some(raw) = raw
                && found.iter().any(|other| other.raw == raw)
            {
                let message = format!("`{}` already has a form for this value of `{}`", item.shown(), name.text);
                let help = "give each form a value of its own";
                self.report(Finding::new(Code::DuplicateCode, case.case.1, message, help));
                fine = false;
            }
            let field = self.form(&case.field);
            if let Some(field) = &field {
                self.stands_in_list(&case.field, field);
            }
            match raw.zip(field) {
                Some((raw, field)) => {
                    let shown = match &case.case.0 {
                        Literal::Word(word) => word.clone(),
                        Literal::Number(number) => number.to_string(),
                        _ => raw.to_string(),
                    };
                    found.push(Case { raw, shown, field: Arc::new(field) });
                }
                None => fine = false,
            }
        }
        let otherwise = match otherwise {
            None => None,
            Some(item) => Some(Arc::new(self.form(item)?)),
        };
        let names = || cases.iter().map(|case| &case.field);
        for (n, field) in names().enumerate() {
            if let (Some(name), true) = (&field.name, names().take(n).any(|other| other.shown() == field.shown())) {
                let message = format!("`{}` is already the name of another form", name.text);
                self.report(Finding::new(Code::DuplicateName, name.span, message, "give each form a name of its own"));
                fine = false;
            }
        }
        if found.is_empty() && fine {
            let help = "write at least one form: `1 level : u16 * 0.1 m`";
            self.report(Finding::new(Code::BadSelector, name.span, "no value chooses a form here", help));
            return None;
        }
        let union = Union { selector: Selector::Field(slot), cases: found, otherwise, table: None };
        fine.then(|| Kind::Union(Arc::new(union)))
    }

    /// The raw number of the deciding field that a case names.
    fn case_number(&mut self, decider: &Field, (literal, span): &(Literal, Span)) -> Option<u64> {
        let problem = match (&decider.kind, literal) {
            (Kind::Enum { labels, .. }, Literal::Word(word)) => match labels.named(word) {
                Some(label) => return Some(label.code),
                None => {
                    let all = || labels.labels.iter().map(|label| label.name.as_str());
                    let help = match nearest(word, all()) {
                        Some(near) => format!("did you mean `{near}`?"),
                        None => format!("it has {}", some_of(all())),
                    };
                    (format!("`{}` has no label `{word}`", labels.name), help)
                }
            },
            (Kind::Bool, Literal::Word(word)) if word == "true" || word == "false" => {
                return Some(u64::from(word == "true"));
            }
            (kind, Literal::Number(number)) => {
                let (low, high) = reach(kind.is_signed(), kind.raw_bits().unwrap_or(64));
                match number.as_integer().filter(|raw| (low..=high).contains(raw)) {
                    Some(raw) => return Some(raw as u64),
                    None => (
                        format!("`{}` can never be {number}", decider.name),
                        format!("its raw numbers go from {low} to {high}"),
                    ),
                }
            }
            _ => (
                format!("this is not a value of `{}`", decider.name),
                "write its raw number, or for an enum a label".to_owned(),
            ),
        };
        self.report(Finding::new(Code::BadSelector, *span, problem.0, problem.1));
        None
    }

    fn value_of(
        &mut self,
        context: Option<FieldContext<'_>>,
        item: &FieldItem,
        table: &Name,
        request: Option<&Name>,
        field: &Name,
    ) -> Option<Kind> {
        let found = self.table_named(table)?;
        let (selector, otherwise) = match request {
            None => {
                let slot = self.selector(context, item, field)?;
                (Selector::Field(slot), None)
            }
            Some(request) => {
                let selector = self.request(context, item, request, field)?;
                // Without the request, a receiver can only keep the bytes.
                let bytes = Field::plain("unknown", Kind::Bytes(Length::Rest), self.byte_order);
                if found.entries.iter().any(|entry| entry.field.name == bytes.name) {
                    let message = format!(
                        "`{}` has an entry `{}`, which is how the bytes of an answer without its request are called",
                        table.text, bytes.name
                    );
                    self.report(Finding::new(Code::DuplicateName, table.span, message, "give the entry another name"));
                    return None;
                }
                (selector, Some(Arc::new(bytes)))
            }
        };
        let case = |entry: &crate::model::Entry| Case {
            raw: entry.key,
            shown: found.keys.code_text(entry.key),
            field: entry.field.clone(),
        };
        let cases = found.entries.iter().map(case).collect();
        Some(Kind::Union(Arc::new(Union { selector, cases, otherwise, table: Some(found) })))
    }

    /// The deciding field of the request that this message answers.
    fn request(
        &mut self,
        context: Option<FieldContext<'_>>,
        item: &FieldItem,
        request: &Name,
        field: &Name,
    ) -> Option<Selector> {
        let Some(message) = context.and_then(|around| around.message) else {
            self.element(item.ty_span, "a value that depends on a request");
            return None;
        };
        let Some(index) = self.messages.get(&request.text).copied() else {
            let known = &self.file.messages;
            self.unknown_name(request, "message", known.iter().map(|m| m.name.text.as_str()));
            return None;
        };
        let asking = &self.file.messages[index];
        if !asking.answered_by.iter().any(|name| name.text == message.name.text) {
            let text = format!("`{}` is not answered by `{}`", request.text, message.name.text);
            let help = format!("write `answered by {}` in `{}`", message.name.text, request.text);
            self.report(
                Finding::new(Code::BadSelector, request.span, text, help).related(asking.name.span, "the request"),
            );
            return None;
        }
        let mut fields = asking.sections.iter().flat_map(|section| &section.fields);
        let slot = fields.position(|other| other.name.as_ref().is_some_and(|name| name.text == field.text));
        let Some(slot) = slot else {
            let names = asking.sections.iter().flat_map(|section| &section.fields).filter_map(|f| f.name.as_ref());
            self.unknown_name_in(
                &format!(" in `{}`", request.text),
                field,
                "field",
                names.map(|name| name.text.as_str()),
            );
            return None;
        };
        let decider = asking.sections.iter().flat_map(|section| &section.fields).nth(slot)?;
        let whole = matches!(decider.ty, TypeExpr::KeyOf(_) | TypeExpr::Integer { scale: None, offset: None, .. });
        if !whole || decider.optional.is_some() {
            let text = format!("`{}` of `{}` cannot decide about this value", field.text, request.text);
            let help = format!("make it a `key of {}`", item.table_name());
            self.report(Finding::new(Code::BadSelector, field.span, text, help).related(decider.ty_span, "the field"));
            return None;
        }
        Some(Selector::Request { message: index, slot })
    }

    // ---- numbers ----

    fn beyond(&mut self, span: Span) {
        self.report(Finding::new(
            Code::TooManyCodes,
            span,
            "these numbers are beyond what can be computed exactly, or need more than 64 bits",
            "use fewer digits, a narrower range or a coarser step (and a scale that is not 0)",
        ));
    }

    fn integer(
        &mut self,
        item: &FieldItem,
        signed: bool,
        bits: u8,
        scale: Option<Number>,
        offset: Option<Number>,
    ) -> Option<NumberForm> {
        let scaling = Scaling::linear(scale.map_or(Decimal::integer(1), |n| n.value), offset.map_or(ZERO, |n| n.value));
        let Some(scaling) = scaling else {
            self.beyond(item.ty_span);
            return None;
        };
        let (mut low, mut high) = reach(signed, bits);
        let mut none = None;
        if item.none.is_some() {
            if signed {
                none = Some(low);
                low += 1;
            } else {
                none = Some(high);
                high -= 1;
            }
        }
        Some(NumberForm { bits, signed, scaling, low, high, none, is_range: false })
    }

    fn empty_range(&mut self, low: Number, high: Number) -> bool {
        let empty = low.value.compare(high.value).is_ge();
        if empty {
            self.report(Finding::new(
                Code::EmptyRange,
                low.span.to(high.span),
                format!("the range {} .. {} holds no values", low.value, high.value),
                format!("the least value stands first: {} .. {}", high.value, low.value),
            ));
        }
        empty
    }

    fn steps(&mut self, item: &FieldItem, low: Number, high: Number, step: Number) -> Option<NumberForm> {
        if self.empty_range(low, high) {
            return None;
        }
        if step.value.mantissa <= 0 {
            self.report(Finding::new(
                Code::StepsDoNotFit,
                step.span,
                format!("a step of {} leads nowhere", step.value),
                "a step is greater than 0",
            ));
            return None;
        }
        let Some(scaling) = Scaling::linear(step.value, low.value) else {
            self.beyond(item.ty_span);
            return None;
        };
        let last = scaling.nearest_raw(high.value).filter(|last| *last < 1 << 64);
        let Some(last) = last else {
            self.beyond(item.ty_span);
            return None;
        };
        if scaling.physical(last).compare(high.value).is_ne() {
            let below = if scaling.physical(last).compare(high.value).is_lt() { last } else { last - 1 };
            let offers = [below, below + 1].map(|n| format!("`{} .. {}`", low.value, trimmed(scaling.physical(n))));
            self.report(
                Finding::new(
                    Code::StepsDoNotFit,
                    item.ty_span,
                    format!(
                        "{} .. {} does not divide into steps of {}: the greatest value would lie between two codes",
                        low.value, high.value, step.value
                    ),
                    format!("the nearest ranges that do are {} and {}", offers[0], offers[1]),
                )
                .label(format!("{below} steps and a rest")),
            );
            return None;
        }
        let none = item.none.map(|_| last + 1);
        let most = none.unwrap_or(last);
        if most >= 1 << 64 {
            self.beyond(item.ty_span);
            return None;
        }
        let bits = (128 - most.leading_zeros()).max(1) as u8;
        // `or none` keeps the highest raw code of the width.
        let none = none.map(|_| (1i128 << bits) - 1);
        Some(NumberForm { bits, signed: false, scaling, low: 0, high: last, none, is_range: true })
    }

    fn spread(&mut self, item: &FieldItem, low: Number, high: Number, bits: u8) -> Option<NumberForm> {
        if self.empty_range(low, high) {
            return None;
        }
        let highest = (1i128 << bits) - 1;
        let none = item.none.map(|_| highest);
        let last = if none.is_some() { highest - 1 } else { highest };
        if last == 0 {
            let help = "use more bits, or leave `or none` out";
            let message = "with one bit and `or none` a single code is left, and a range needs two";
            self.report(Finding::new(Code::NoCodeForNone, item.none.unwrap_or(item.ty_span), message, help));
            return None;
        }
        let Some(scaling) = Scaling::spread(low.value, high.value, last as u64) else {
            self.beyond(item.ty_span);
            return None;
        };
        Some(NumberForm { bits, signed: false, scaling, low: 0, high: last, none, is_range: true })
    }
}

/// Least and greatest raw number of so many bits.
pub(super) fn reach(signed: bool, bits: u8) -> (i128, i128) {
    if signed { (-(1i128 << (bits - 1)), (1i128 << (bits - 1)) - 1) } else { (0, (1i128 << bits) - 1) }
}

/// A decimal without zeros at its end.
fn trimmed(mut value: Decimal) -> Decimal {
    while value.decimals > 0 && value.mantissa % 10 == 0 {
        value.mantissa /= 10;
        value.decimals -= 1;
    }
    value
}

/// What a type of C or of other languages is here.
fn own_word(name: &str) -> Option<&'static str> {
    Some(match name.to_ascii_lowercase().as_str() {
        "uint8_t" | "uint8" | "byte" | "uchar" | "unsigned" => "`u8`",
        "uint16_t" | "uint16" | "ushort" | "word" => "`u16`",
        "uint32_t" | "uint32" | "uint" | "dword" | "ulong" => "`u32`",
        "uint64_t" | "uint64" | "qword" => "`u64`",
        "int8_t" | "int8" | "sint8" => "`i8`",
        "int16_t" | "int16" | "short" => "`i16`",
        "int32_t" | "int32" | "int" | "long" => "`i32`",
        "int64_t" | "int64" => "`i64`",
        "float" | "float32" | "real" | "single" => "`f32`",
        "double" | "float64" => "`f64`",
        "half" | "float16" => "`f16`",
        "boolean" | "_bool" | "bit" => "`bool`",
        "char" | "string" | "str" | "utf8" => "a text, as `text[..24]`; a byte is a `u8`",
        "bcd" => "two `u4` fields, the tens first: there is no type for BCD",
        "padding" | "pad" | "reserved" => "`spare 3 bits` or `spare 2 bytes`, without a name",
        "varint" | "leb128" => "`compact u32`",
        _ => return None,
    })
}
