//! Groups of fields: the sections of messages and records, and the entries of tables.

use std::collections::HashMap;
use std::sync::Arc;

use super::{GroupReach, Lookup, Resolver, Style};
use crate::diagnostics::{Code, Finding};
use crate::model::{Base, Entry, Field, Kind, Label, Labelled, Length, Record, Selector, Table};
use crate::source::Span;
use crate::syntax::ast::{FieldItem, MessageItem, Name, SectionItem};

/// Whether a field of this form reaches to the body's end, or only its body's end shows where it ends.
pub(super) fn reaches_end(kind: &Kind) -> bool {
    match kind {
        Kind::Text { length, .. } | Kind::Bytes(length) | Kind::List { length, .. } => *length == Length::Rest,
        Kind::NestedFrame { .. } => true,
        Kind::Union(union) => {
            // Without the request nobody knows the form.
            matches!(union.selector, Selector::Request { .. })
                || union.cases.iter().any(|case| reaches_end(&case.field.kind))
                || union.otherwise.as_ref().is_some_and(|field| reaches_end(&field.kind))
        }
        _ => false,
    }
}

/// Levels of records inside of each other that a message may have.
const MAX_LEVELS: usize = 32;

/// Fields that a message may have with those of all records inside.
const MAX_FIELDS: usize = 10_000;

impl Resolver<'_> {
    /// How far a form reaches.
    fn reach(&self, kind: &Kind) -> GroupReach {
        match kind {
            Kind::Record(record) => self.reaches.get(&record.name).copied().unwrap_or_default(),
            Kind::List { element, .. } => self.reach(&element.kind),
            Kind::Union(union) => {
                let forms = union.cases.iter().map(|case| &case.field).chain(&union.otherwise);
                self.reach_of(forms.map(|field| &field.kind))
            }
            _ => GroupReach::default(),
        }
    }

    fn reach_of<'k>(&self, kinds: impl Iterator<Item = &'k Kind>) -> GroupReach {
        kinds.map(|kind| self.reach(kind)).fold(GroupReach::default(), |all, one| GroupReach {
            levels: all.levels.max(one.levels),
            fields: all.fields.saturating_add(one.fields).saturating_add(1),
        })
    }

    /// Whether the fields of a record or a message reach no further than they may; else a finding says it.
    pub(super) fn within_reach(&mut self, owner: &Name, fields: &[Field]) -> bool {
        let inside = self.reach_of(fields.iter().map(|field| &field.kind));
        if inside.levels >= MAX_LEVELS {
            self.too_deep(owner);
            return false;
        }
        if inside.fields > MAX_FIELDS {
            self.report(Finding::new(
                Code::BodyTooLong,
                owner.span,
                format!(
                    "with those of all records in it `{}` has {} fields; {MAX_FIELDS} is the most",
                    owner.text, inside.fields
                ),
                "use fewer records inside of records, or lists of them",
            ));
            return false;
        }
        self.reaches.insert(owner.text.clone(), GroupReach { levels: inside.levels + 1, fields: inside.fields });
        true
    }

    fn too_deep(&mut self, name: &Name) {
        self.report(Finding::new(
            Code::TooDeep,
            name.span,
            format!("`{}` has more than {MAX_LEVELS} levels of records in it", name.text),
            "put the fields of some of them together into one record",
        ));
    }

    /// The fields of all sections of a message (given) or a record.
    pub(super) fn group(
        &mut self,
        owner: &Name,
        sections: &[SectionItem],
        message: Option<&MessageItem>,
    ) -> Vec<Field> {
        let mut fields: Vec<Field> = Vec::new();
        let mut places: HashMap<&str, Span> = HashMap::new();
        let mut last = 1;
        let mut open_end: Option<Span> = None;
        for section in sections {
            let since = match section.revision {
                None => 1,
                Some(number) => self.checked_revision(number, last + 1, self.revision),
            };
            last = last.max(since);
            for item in &section.fields {
                if let Some(name) = &item.name {
                    self.style(name, Style::LowerSnake, "field");
                    if let Some(first) = places.insert(&name.text, name.span) {
                        let message = format!("`{}` already has a field `{}`", owner.text, name.text);
                        self.report(
                            Finding::new(Code::DuplicateName, name.span, message, "give one of the two another name")
                                .related(first, "first used here"),
                        );
                    }
                }
                let span = item.name.as_ref().map_or(item.ty_span, |name| name.span);
                if let Some(first) = open_end {
                    self.report(
                        Finding::new(
                            Code::RestNotLast,
                            span,
                            "this field can never be found: the one before it takes everything up to the body's end",
                            "move the field that reaches to the end to the last place, or give it a greatest size: `[..24]`",
                        )
                        .related(first, "reaches to the body's end"),
                    );
                    open_end = None;
                }
                let Some(field) = self.field(item, since, &fields, message) else { continue };
                if reaches_end(&field.kind) {
                    open_end = Some(item.ty_span);
                    if message.is_none() {
                        self.report(Finding::new(
                            Code::RestNotLast,
                            item.ty_span,
                            "a field of a record cannot reach to the end of the body: other fields may follow the record",
                            "give it a greatest size, as in `text[..24]`, or put it into the message",
                        ));
                        open_end = None;
                    }
                }
                fields.push(field);
            }
        }
        fields
    }

    /// A record by name, looked up when it is first used. `None` after findings, or if there is no such record.
    pub(super) fn record(&mut self, name: &str) -> Option<Arc<Record>> {
        if let Some(Lookup::Done(found)) = self.records.get(name) {
            return found.clone();
        }
        let item = &self.file.records[*self.record_items.get(name)?];
        self.records.insert(name.to_owned(), Lookup::Begun);
        if self.depth >= 2 * MAX_LEVELS {
            self.too_deep(&item.name);
            self.records.insert(name.to_owned(), Lookup::Done(None));
            return None;
        }
        self.depth += 1;
        let fields = self.group(&item.name, &item.sections, None);
        self.depth -= 1;
        let is_within_reach = self.within_reach(&item.name, &fields);
        if let (false, Some(section)) = (item.extensible, item.sections.get(1)) {
            let span = section.revision.map_or(item.name.span, |number| number.span);
            self.report(
                Finding::new(
                    Code::BadGrowth,
                    span,
                    format!("`{name}` cannot have fields added: an old receiver could not step over them"),
                    format!("write `record {name} growing {{ … }}`; lists of it then carry the size of their elements"),
                )
                .related(item.name.span, "not growing"),
            );
        }
        if fields.is_empty() && !item.damaged && item.sections.iter().all(|section| section.fields.is_empty()) {
            self.report(Finding::new(
                Code::BadSize,
                item.name.span,
                format!("`{name}` has no fields, and so no bytes"),
                "give it a field, or take it out",
            ));
        }
        let record = Record { name: name.to_owned(), doc: item.doc.clone(), extensible: item.extensible, fields };
        let record = (!item.damaged && is_within_reach).then(|| Arc::new(record));
        self.records.insert(name.to_owned(), Lookup::Done(record.clone()));
        record
    }

    /// Whether a record is being looked up: then it contains itself.
    pub(super) fn record_begun(&self, name: &str) -> bool {
        matches!(self.records.get(name), Some(Lookup::Begun))
    }

    /// A table by name, as [`Self::record`] finds records.
    pub(super) fn table(&mut self, name: &str) -> Option<Arc<Table>> {
        match self.tables.get(name) {
            Some(Lookup::Done(found)) => return found.clone(),
            Some(Lookup::Begun) => return None,
            None => {}
        }
        let item = &self.file.tables[*self.table_items.get(name)?];
        self.tables.insert(name.to_owned(), Lookup::Begun);
        if self.depth >= 2 * MAX_LEVELS {
            self.too_deep(&item.name);
            return None;
        }
        self.depth += 1;
        if item.entries.is_empty() && !item.damaged {
            self.nothing_inside(&item.name, "entries", "`1 ramp_time : u16 ms read write`");
        }
        let greatest = if item.bits == 64 { u64::MAX } else { (1 << item.bits) - 1 };
        let mut entries: Vec<Entry> = Vec::new();
        let (mut keys, mut names): (HashMap<u64, Span>, HashMap<&str, Span>) = Default::default();
        for entry in &item.entries {
            let number = entry.key;
            let key = number.value.as_integer().and_then(|n| u64::try_from(n).ok()).filter(|n| *n <= greatest);
            let Some(key) = key else {
                let message = format!("{} does not fit: the keys of `{name}` are u{}", number.value, item.bits);
                let help = format!("choose a whole number from 0 to {greatest}, or widen the keys");
                self.report(Finding::new(Code::CodeTooLarge, number.span, message, help));
                continue;
            };
            if let Some(first) = keys.insert(key, number.span) {
                let message = format!("`{name}` already has an entry {}", number.base.text(key, 2));
                self.report(
                    Finding::new(Code::DuplicateCode, number.span, message, "give each entry a number of its own")
                        .related(first, "used here already"),
                );
                continue;
            }
            let field_name: &FieldItem = &entry.field;
            if let Some(entry_name) = &field_name.name {
                self.style(entry_name, Style::LowerSnake, "entry");
                if let Some(first) = names.insert(&entry_name.text, entry_name.span) {
                    let message = format!("`{name}` already has an entry `{}`", entry_name.text);
                    self.report(
                        Finding::new(
                            Code::DuplicateName,
                            entry_name.span,
                            message,
                            "give each entry a name of its own",
                        )
                        .related(first, "first used here"),
                    );
                    continue;
                }
            }
            let Some(field) = self.form(&entry.field) else { continue };
            let (read, write, kept) = (entry.read, entry.write, entry.kept);
            entries.push(Entry { key, field: Arc::new(field), read, write, kept });
        }
        self.depth -= 1;
        let labels = entries
            .iter()
            .map(|entry| Label { code: entry.key, name: entry.field.name.clone(), text: entry.field.doc.clone() })
            .collect();
        let base = Base::of_all(item.entries.iter().map(|entry| entry.key.base));
        let keys =
            Labelled { name: name.to_owned(), doc: item.doc.clone(), flags: false, bits: item.bits, labels, base };
        let table = Table { name: name.to_owned(), doc: item.doc.clone(), keys: Arc::new(keys), entries };
        let table = (!item.damaged).then(|| Arc::new(table));
        self.tables.insert(name.to_owned(), Lookup::Done(table.clone()));
        table
    }
}
