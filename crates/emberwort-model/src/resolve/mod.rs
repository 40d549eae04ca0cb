//! From items to meaning: looks up names, checks numbers, and reports what cannot be.

mod advice;
mod channels;
mod defaults;
mod fields;
mod frames;
mod keys;
mod lines;
mod nested_frames;
mod places;
mod records;

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use crate::counting::some_of;
use crate::diagnostics::{Code, Finding, nearest};
use crate::ids::{ChannelId, MessageId};
use crate::model::{Base, ChannelKey, Field, Label, Labelled, Link, Message, Record, Table};
use crate::plan::{Channel, Plan};
use crate::source::Span;
use crate::syntax::ast::{ByteOrder, End, File, LabelItem, LabelledItem, MessageItem, Name, Number, TypeExpr};
use crate::syntax::parse_field_type;

/// Looks up and checks all items. The plan is there if nothing stands in its way.
pub(crate) fn resolve(file: &File, findings: Vec<Finding>) -> (Option<Plan>, Vec<Finding>) {
    let byte_order = file.links.first().and_then(|item| item.byte_order).map_or(ByteOrder::Little, |(order, _)| order);
    let mut resolver = Resolver::new(file, byte_order, findings);
    let plan = resolver.link();
    let mut findings = resolver.findings;
    findings.sort_by_key(|finding| (finding.span.start, finding.code));
    let broken = findings.iter().any(Finding::is_error);
    (plan.filter(|_| !broken), findings)
}

/// The form that a type by itself stands for; enums, flag sets and tables are those of `plan`.
pub(crate) fn field_of_type(text: &str, plan: Option<&Plan>) -> Result<Field, Vec<Finding>> {
    let item = parse_field_type(text)?;
    let file = File::default();
    let order = plan.map_or(ByteOrder::Little, |plan| plan.link.byte_order);
    let mut resolver = Resolver::new(&file, order, Vec::new());
    if let Some(plan) = plan {
        let labelled = plan.link.labelled.iter().map(|labels| (labels.name.clone(), labels.clone()));
        resolver.labelled.extend(labelled);
        for table in &plan.link.tables {
            resolver.table_items.insert(table.name.clone(), 0);
            resolver.tables.insert(table.name.clone(), Lookup::Done(Some(table.clone())));
        }
    }
    match resolver.form(&item) {
        Some(field) if resolver.findings.is_empty() => Ok(field),
        _ => Err(resolver.findings),
    }
}

/// Items by name; the first of each.
fn index<'a, I>(names: impl Iterator<Item = &'a Name>, of: impl Fn(usize) -> I) -> HashMap<String, I> {
    let mut found = HashMap::new();
    for (n, name) in names.enumerate() {
        found.entry(name.text.clone()).or_insert_with(|| of(n));
    }
    found
}

/// An item that is looked up when it is first used.
enum Lookup<T> {
    /// It is being looked up: who asks for it now asks in a circle.
    Begun,
    /// What came of it; `None` after findings.
    Done(Option<Arc<T>>),
}

struct Resolver<'a> {
    file: &'a File,
    byte_order: ByteOrder,
    revision: u32,
    findings: Vec<Finding>,
    /// In order of name, so that findings that list them are always the same.
    labelled: BTreeMap<String, Arc<Labelled>>,
    records: BTreeMap<String, Lookup<Record>>,
    tables: BTreeMap<String, Lookup<Table>>,
    /// Of each record that was looked up, how far its fields reach.
    reaches: HashMap<String, GroupReach>,
    /// How many records and tables are being looked up, each for the one before.
    depth: usize,
    /// For how many unknown names the nearest one was looked for.
    guesses: usize,
    record_items: HashMap<String, usize>,
    table_items: HashMap<String, usize>,
    channels: HashMap<String, ChannelId>,
    messages: HashMap<String, MessageId>,
    /// Items by name, with the place of their first declaration.
    names: HashMap<String, Span>,
    /// Names of enums, flag sets, records and tables that something refers to.
    used: HashSet<String>,
}

/// For so many unknown names the nearest known one is looked for.
const MAX_GUESSES: usize = 100;

/// How far a group of fields reaches: levels of records in it, and fields with those of all records inside.
#[derive(Clone, Copy, Debug, Default)]
struct GroupReach {
    levels: usize,
    fields: usize,
}

/// How names of a kind are written.
#[derive(Clone, Copy)]
enum Style {
    UpperCamel,
    LowerSnake,
}

impl<'a> Resolver<'a> {
    fn new(file: &'a File, byte_order: ByteOrder, findings: Vec<Finding>) -> Self {
        Self {
            file,
            byte_order,
            revision: 1,
            findings,
            labelled: BTreeMap::new(),
            records: BTreeMap::new(),
            tables: BTreeMap::new(),
            reaches: HashMap::new(),
            depth: 0,
            guesses: 0,
            record_items: index(file.records.iter().map(|item| &item.name), |at| at),
            table_items: index(file.tables.iter().map(|item| &item.name), |at| at),
            channels: index(file.channels.iter().map(|item| &item.name), ChannelId::new),
            messages: index(file.messages.iter().map(|item| &item.name), MessageId::new),
            names: HashMap::new(),
            used: HashSet::new(),
        }
    }

    fn report(&mut self, finding: Finding) {
        self.findings.push(finding);
    }

    fn style(&mut self, name: &Name, style: Style, what: &str) {
        let first = name.text.chars().next().unwrap_or('_');
        let (fits, wanted) = match style {
            Style::UpperCamel => {
                (first.is_ascii_uppercase() && !name.text.contains('_'), "UpperCamel, as in `GateStatus`")
            }
            Style::LowerSnake => (!name.text.chars().any(|c| c.is_ascii_uppercase()), "lower_snake, as in `pump_temp`"),
        };
        if !fits {
            self.report(Finding::new(
                Code::NameStyle,
                name.span,
                format!("the name of this {what}, `{}`, is not written like others of its kind", name.text),
                format!("{what}s are written in {wanted}"),
            ));
        }
    }

    /// Reports a name that stands for two things.
    fn declare(&mut self, name: &Name, what: &str) {
        if let Some(first) = self.names.get(&name.text) {
            let first = *first;
            self.report(
                Finding::new(
                    Code::DuplicateName,
                    name.span,
                    format!("`{}` is already the name of another item", name.text),
                    format!("give this {what} another name"),
                )
                .label("taken")
                .related(first, "first used here"),
            );
        } else {
            self.names.insert(name.text.clone(), name.span);
        }
    }

    fn unknown_name<'n>(&mut self, name: &Name, what: &str, known: impl Iterator<Item = &'n str> + Clone) {
        self.unknown_name_in("", name, what, known);
    }

    /// `place` follows the sentence, as in " in `Ask`".
    fn unknown_name_in<'n>(
        &mut self,
        place: &str,
        name: &Name,
        what: &str,
        known: impl Iterator<Item = &'n str> + Clone,
    ) {
        // Behind many names that are not there, the next ones are hardly misspelt, and looking for each takes its time.
        self.guesses += 1;
        let near = if self.guesses <= MAX_GUESSES { nearest(&name.text, known.clone()) } else { None };
        let help = match near {
            Some(near) => format!("did you mean `{near}`?"),
            None => {
                let all = some_of(known);
                if all.is_empty() {
                    format!("define the {what} `{}`", name.text)
                } else {
                    format!("define it, or use one of: {all}")
                }
            }
        };
        self.report(
            Finding::new(Code::UnknownName, name.span, format!("there is no {what} `{}`{place}", name.text), help)
                .label("not defined"),
        );
    }

    fn link(&mut self) -> Option<Plan> {
        let file = self.file;
        if let Some(second) = file.links.get(1) {
            self.report(
                Finding::new(
                    Code::TwoLinks,
                    second.name.span,
                    "a definition describes one link, but a second `link` item stands here",
                    "keep one, or split the definition into two files",
                )
                .related(file.links[0].name.span, "the first one"),
            );
        }
        let item = file.links.first();
        match item {
            None => self.report(Finding::new(
                Code::NoLink,
                Span::new(0, 0),
                "there is no `link` item, so the link has no name, revision and byte order",
                "begin with: link my_link { revision 1  byte_order little }",
            )),
            Some(item) => {
                self.style(&item.name, Style::LowerSnake, "link");
                match item.revision {
                    None if item.damaged => {}
                    None => self.missing(item.name.span, "link", "revision", "revision 1"),
                    Some(number) => self.revision = self.checked_revision(number, 1, u32::MAX),
                }
                if item.byte_order.is_none() && !item.damaged {
                    self.missing(item.name.span, "link", "byte_order", "byte_order little");
                }
            }
        }
        for item in &file.labelled {
            self.labelled(item);
        }
        for item in &file.records {
            self.style(&item.name, Style::UpperCamel, "record");
            self.declare(&item.name, "record");
        }
        for item in &file.tables {
            self.style(&item.name, Style::UpperCamel, "table");
            self.declare(&item.name, "table");
        }
        for item in &file.messages {
            self.style(&item.name, Style::UpperCamel, "message");
            self.declare(&item.name, "message");
        }
        let mut channels: Vec<Option<Channel>> = Vec::new();
        for item in &file.channels {
            self.style(&item.name, Style::LowerSnake, "channel");
            self.declare(&item.name, "channel");
            channels.push(self.channel(item));
        }
        let records = file.records.iter().filter_map(|item| self.record(&item.name.text)).collect();
        let tables = file.tables.iter().filter_map(|item| self.table(&item.name.text)).collect();
        let messages: Vec<Arc<Message>> = file.messages.iter().map(|item| Arc::new(self.message(item))).collect();
        let link = Link {
            name: item.map_or_else(String::new, |item| item.name.text.clone()),
            doc: item.map_or_else(String::new, |item| item.doc.clone()),
            revision: self.revision,
            byte_order: self.byte_order,
            labelled: file.labelled.iter().filter_map(|l| self.labelled.get(&l.name.text).cloned()).collect(),
            records,
            tables,
            messages,
        };
        let channels: Vec<Channel> = channels.into_iter().collect::<Option<_>>()?;
        let mut plan = Plan::new(link, channels);
        self.places(&plan);
        self.endless_nesting(&plan);
        if self.findings.iter().any(Finding::is_error) && plan.messages.len() != file.messages.len() {
            return None;
        }
        self.assign_keys(&mut plan);
        self.advise(&plan);
        Some(plan)
    }

    fn missing(&mut self, span: Span, item: &str, statement: &str, example: &str) {
        self.report(Finding::new(
            Code::MissingStatement,
            span,
            format!("this {item} has no `{statement}`"),
            format!("add, for example: {example}"),
        ));
    }

    /// What has no value that could be sent.
    fn nothing_inside(&mut self, name: &Name, lacking: &str, example: &str) {
        self.report(Finding::new(
            Code::MissingStatement,
            name.span,
            format!("`{}` has no {lacking}, and so no value", name.text),
            format!("add one, for example: {example}"),
        ));
    }

    fn checked_revision(&mut self, number: Number, least: u32, greatest: u32) -> u32 {
        match number.value.as_integer().and_then(|n| u32::try_from(n).ok()) {
            Some(n) if (least..=greatest).contains(&n) => n,
            _ => {
                let help = if greatest == u32::MAX {
                    format!("revisions count 1, 2, 3, …; the least here is {least}")
                } else if least > greatest && number.value.as_integer().is_none_or(|n| n >= i128::from(least)) {
                    format!("raise the link's revision to at least {least} first: it is {greatest}")
                } else if number.value.as_integer().is_some_and(|n| (2..i128::from(least)).contains(&n)) {
                    "sections stand in the order of their revisions, each once: add to that one, or move it up".into()
                } else {
                    format!("here a revision from {least} to {greatest} (the link's own) can stand")
                };
                self.report(Finding::new(
                    Code::BadRevision,
                    number.span,
                    format!("{} cannot be a revision here", number.value),
                    help,
                ));
                least
            }
        }
    }

    fn labelled(&mut self, item: &LabelledItem) {
        let what = if item.flags { "flag set" } else { "enum" };
        self.style(&item.name, Style::UpperCamel, what);
        self.declare(&item.name, what);
        if item.labels.is_empty() && !item.damaged {
            let (lacking, example) = if item.flags { ("flags", "`0 too_hot`") } else { ("labels", "`0 off`") };
            self.nothing_inside(&item.name, lacking, example);
        }
        let labels = self.labels(item, what);
        let labelled = Labelled {
            name: item.name.text.clone(),
            doc: item.doc.clone(),
            flags: item.flags,
            bits: item.bits,
            labels,
            base: Base::of_all(item.labels.iter().map(|label| label.code.base)),
        };
        self.labelled.entry(item.name.text.clone()).or_insert_with(|| Arc::new(labelled));
    }

    fn labels(&mut self, item: &LabelledItem, what: &str) -> Vec<Label> {
        let greatest: u64 = match (item.flags, item.bits) {
            (true, bits) => u64::from(bits) - 1,
            (false, 64) => u64::MAX,
            (false, bits) => (1 << bits) - 1,
        };
        // What stands in lines of text is written as the line has it.
        let in_lines = self.file.messages.iter().filter(|message| message.line.is_some()).any(|message| {
            let fields = message.sections.iter().flat_map(|section| &section.fields);
            fields.into_iter().any(|field| matches!(&field.ty, TypeExpr::Named(name) if *name.text == item.name.text))
        });
        let mut labels: Vec<Label> = Vec::new();
        let (mut codes, mut names): (HashMap<u64, &LabelItem>, HashMap<&str, &LabelItem>) = Default::default();
        for label in &item.labels {
            if !in_lines {
                self.style(&label.name, Style::LowerSnake, "label");
            }
            let Some(code) =
                label.code.value.as_integer().and_then(|n| u64::try_from(n).ok()).filter(|n| *n <= greatest)
            else {
                self.report(
                    Finding::new(
                        Code::CodeTooLarge,
                        label.code.span,
                        format!("{} does not fit: {what} `{}` is u{}", label.code.value, item.name.text, item.bits),
                        format!("choose a whole number from 0 to {greatest}, or widen the type"),
                    )
                    .label(format!("0 to {greatest}")),
                );
                continue;
            };
            let place = |other: &LabelItem| other.code.span.to(other.name.span);
            if let Some(first) = codes.get(&code) {
                let message = format!("`{}` and `{}` have the same code {code}", first.name.text, label.name.text);
                let help = "give each label a code of its own";
                self.report(
                    Finding::new(Code::DuplicateCode, label.code.span, message, help)
                        .related(place(first), "used here already"),
                );
            } else if let Some(first) = names.get(label.name.text.as_str()) {
                let message = format!("`{}` already labels code {}", label.name.text, first.code.value);
                let help = "give each code a label of its own";
                self.report(
                    Finding::new(Code::DuplicateName, label.name.span, message, help)
                        .related(place(first), "first used here"),
                );
            } else {
                codes.insert(code, label);
                names.insert(&label.name.text, label);
                labels.push(Label { code, name: label.name.text.clone(), text: label.text.clone() });
            }
        }
        labels
    }

    fn message(&mut self, item: &MessageItem) -> Message {
        let from = match item.from {
            Some((end, _)) => end,
            None => {
                if !item.damaged {
                    self.missing(item.name.span, "message", "from", "from device every 200 ms");
                }
                End::Device
            }
        };
        let fields = self.group(&item.name, &item.sections, Some(item));
        let fields = if self.within_reach(&item.name, &fields) { fields } else { Vec::new() };
        let mut channels = Vec::new();
        let mut keys = Vec::new();
        for on in &item.on {
            let name = &on.channel;
            match self.channels.get(&name.text) {
                Some(index) if channels.contains(index) => self.report(Finding::new(
                    Code::DuplicateStatement,
                    name.span,
                    format!("`{}` already travels on `{}`", item.name.text, name.text),
                    "take one of the two out",
                )),
                Some(index) => {
                    channels.push(*index);
                    let key = on.key.and_then(|key| {
                        let value = self.key_number(key.number)?;
                        Some(ChannelKey { value, nodes: key.nodes, extended: key.extended, base: key.number.base })
                    });
                    keys.push(key);
                }
                None => {
                    let known = &self.file.channels;
                    self.unknown_name(name, "channel", known.iter().map(|c| c.name.text.as_str()));
                }
            }
        }
        let mut answered_by = Vec::new();
        for name in &item.answered_by {
            match self.messages.get(&name.text) {
                Some(index) => answered_by.push(*index),
                None => {
                    let known = &self.file.messages;
                    self.unknown_name(name, "message", known.iter().map(|m| m.name.text.as_str()));
                }
            }
        }
        let id = item.id.and_then(|number| self.key_number(number));
        let line = item.line.as_ref().and_then(|(text, span)| self.line(text, *span, &fields));
        Message {
            name: item.name.text.clone(),
            doc: item.doc.clone(),
            id,
            id_base: item.id.map_or(Base::Hex, |number| number.base),
            id_nodes: item.id_nodes,
            from,
            every: item.every.map(|(every, _)| every),
            channels,
            keys,
            line,
            answered_by,
            within: item.within,
            fields,
        }
    }

    fn key_number(&mut self, number: Number) -> Option<u64> {
        let key = number.value.as_integer().and_then(|n| u64::try_from(n).ok());
        if key.is_none() {
            self.report(Finding::new(
                Code::KeyTooLarge,
                number.span,
                format!("{} cannot be a message's key", number.value),
                "choose a whole number that fits what selects the message: an id, a port, a CAN identifier",
            ));
        }
        key
    }
}
