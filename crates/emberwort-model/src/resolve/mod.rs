//! From items to meaning: looks up names, checks numbers, and reports what cannot be.

mod fields;
mod frames;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use crate::diagnostics::{Code, Finding, nearest};
use crate::model::{Label, Labelled, Link, Message};
use crate::plan::{ChannelPlan, Plan};
use crate::source::Span;
use crate::syntax::ast::{ByteOrder, End, File, LabelledItem, MessageItem, Name, Number};

/// Looks up and checks all items. The plan is there if nothing stands in its way.
pub(crate) fn resolve(file: &File, findings: Vec<Finding>) -> (Option<Plan>, Vec<Finding>) {
    let mut resolver = Resolver { findings, labelled: BTreeMap::new(), names: HashMap::new() };
    let plan = resolver.link(file);
    let mut findings = resolver.findings;
    findings.sort_by_key(|finding| (finding.span.start, finding.code));
    let broken = findings.iter().any(Finding::is_error);
    (plan.filter(|_| !broken), findings)
}

struct Resolver {
    findings: Vec<Finding>,
    /// In order of name, so that findings that list them are always the same.
    labelled: BTreeMap<String, Arc<Labelled>>,
    /// Items by name, with the place of their first declaration.
    names: HashMap<String, Span>,
}

/// How names of a kind are written.
#[derive(Clone, Copy)]
enum Style {
    UpperCamel,
    LowerSnake,
}

impl Resolver {
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

    fn unknown_name<'a>(&mut self, name: &Name, what: &str, known: impl Iterator<Item = &'a str> + Clone) {
        let help = match nearest(&name.text, known.clone()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => {
                let all: Vec<_> = known.take(12).collect();
                if all.is_empty() {
                    format!("define the {what} `{}`", name.text)
                } else {
                    format!("define it, or use one of: {}", all.join(", "))
                }
            }
        };
        self.report(
            Finding::new(Code::UnknownName, name.span, format!("there is no {what} `{}`", name.text), help)
                .label("not defined"),
        );
    }

    fn link(&mut self, file: &File) -> Option<Plan> {
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
        let mut revision = 1;
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
                    Some(number) => revision = self.revision(number, 1, u32::MAX),
                }
                if item.byte_order.is_none() && !item.damaged {
                    self.missing(item.name.span, "link", "byte_order", "byte_order little");
                }
            }
        }
        let byte_order = item.and_then(|item| item.byte_order).map_or(ByteOrder::Little, |(order, _)| order);

        for item in &file.labelled {
            self.labelled(item);
        }
        for item in &file.messages {
            self.style(&item.name, Style::UpperCamel, "message");
            self.declare(&item.name, "message");
        }
        let mut channels: Vec<Option<ChannelPlan>> = Vec::new();
        for item in &file.channels {
            self.style(&item.name, Style::LowerSnake, "channel");
            self.declare(&item.name, "channel");
            channels.push(self.channel(item, byte_order));
        }
        let messages: Vec<Arc<Message>> =
            file.messages.iter().map(|item| Arc::new(self.message(item, file, revision))).collect();
        let link = Link {
            name: item.map_or_else(String::new, |item| item.name.text.clone()),
            doc: item.map_or_else(String::new, |item| item.doc.clone()),
            revision,
            byte_order,
            labelled: file.labelled.iter().filter_map(|l| self.labelled.get(&l.name.text).cloned()).collect(),
            messages,
        };
        let channels: Vec<ChannelPlan> = channels.into_iter().collect::<Option<_>>()?;
        let mut plan = Plan::new(link, channels);
        self.assign_keys(&mut plan, file);
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

    fn revision(&mut self, number: Number, least: u32, greatest: u32) -> u32 {
        match number.value.as_integer().and_then(|n| u32::try_from(n).ok()) {
            Some(n) if (least..=greatest).contains(&n) => n,
            _ => {
                let help = if greatest == u32::MAX {
                    format!("revisions count 1, 2, 3, …; the least here is {least}")
                } else if least > greatest {
                    format!("raise the link's revision to at least {least} first: it is {greatest}")
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
        let greatest: u64 = match (item.flags, item.bits) {
            (true, bits) => u64::from(bits) - 1,
            (false, 64) => u64::MAX,
            (false, bits) => (1 << bits) - 1,
        };
        let mut labels: Vec<Label> = Vec::new();
        let mut places: Vec<Span> = Vec::new();
        for label in &item.labels {
            self.style(&label.name, Style::LowerSnake, "label");
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
            if let Some(first) = labels.iter().position(|other| other.code == code) {
                self.report(
                    Finding::new(
                        Code::DuplicateCode,
                        label.code.span,
                        format!("`{}` and `{}` have the same code {code}", labels[first].name, label.name.text),
                        "give each label a code of its own",
                    )
                    .related(places[first], "used here already"),
                );
            } else if let Some(first) = labels.iter().position(|other| other.name == label.name.text) {
                self.report(
                    Finding::new(
                        Code::DuplicateName,
                        label.name.span,
                        format!("`{}` already labels code {}", label.name.text, labels[first].code),
                        "give each code a label of its own",
                    )
                    .related(places[first], "first used here"),
                );
            } else {
                labels.push(Label { code, name: label.name.text.clone(), text: label.text.clone() });
                places.push(label.code.span.to(label.name.span));
            }
        }
        let labelled = Labelled {
            name: item.name.text.clone(),
            doc: item.doc.clone(),
            flags: item.flags,
            bits: item.bits,
            labels,
        };
        self.labelled.entry(item.name.text.clone()).or_insert_with(|| Arc::new(labelled));
    }

    fn message(&mut self, item: &MessageItem, file: &File, revision: u32) -> Message {
        let from = match item.from {
            Some((end, _)) => end,
            None => {
                if !item.damaged {
                    self.missing(item.name.span, "message", "from", "from device every 200 ms");
                }
                End::Device
            }
        };
        let mut fields = Vec::new();
        let mut places: HashMap<String, Span> = HashMap::new();
        let mut last = 1;
        for section in &item.sections {
            let since = match section.revision {
                None => 1,
                Some(number) => self.revision(number, last + 1, revision),
            };
            last = last.max(since);
            for field in &section.fields {
                if let Some(name) = &field.name {
                    self.style(name, Style::LowerSnake, "field");
                    if let Some(first) = places.insert(name.text.clone(), name.span) {
                        self.report(
                            Finding::new(
                                Code::DuplicateName,
                                name.span,
                                format!("`{}` already has a field `{}`", item.name.text, name.text),
                                "give one of the two another name",
                            )
                            .related(first, "first used here"),
                        );
                    }
                }
                fields.extend(self.field(field, since));
            }
        }
        let mut channels = Vec::new();
        for name in &item.on {
            match file.channels.iter().position(|channel| channel.name.text == name.text) {
                Some(index) if channels.contains(&index) => self.report(Finding::new(
                    Code::DuplicateStatement,
                    name.span,
                    format!("`{}` already travels on `{}`", item.name.text, name.text),
                    "take one of the two out",
                )),
                Some(index) => channels.push(index),
                None => self.unknown_name(name, "channel", file.channels.iter().map(|c| c.name.text.as_str())),
            }
        }
        let mut answered_by = Vec::new();
        for name in &item.answered_by {
            match file.messages.iter().position(|message| message.name.text == name.text) {
                Some(index) => answered_by.push(index),
                None => self.unknown_name(name, "message", file.messages.iter().map(|m| m.name.text.as_str())),
            }
        }
        let id = item.id.and_then(|number| match number.value.as_integer().and_then(|n| u64::try_from(n).ok()) {
            Some(id) => Some(id),
            None => {
                self.report(Finding::new(
                    Code::KeyTooLarge,
                    number.span,
                    format!("{} cannot be a message's id", number.value),
                    "choose a whole number that fits the frame's `message` part",
                ));
                None
            }
        });
        Message {
            name: item.name.text.clone(),
            doc: item.doc.clone(),
            id,
            from,
            every: item.every,
            channels,
            answered_by,
            within: item.within,
            fields,
        }
    }
}
