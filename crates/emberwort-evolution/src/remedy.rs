//! What to write instead of a change that would strand units in the field.
//!
//! Each way out is an item of the definition, written anew: what units in the field know stays as it is, and what is new comes
//! behind it, or beside it. It is offered only if it has been tried: the definition with it has no errors, and the verdict is then
//! fine, or fine with loss.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};

use emberwort_model::{Source, check};

use crate::compare::compare;
use crate::comparison::{Change, Comparison};
use crate::difference::{Difference, DifferenceKind};
use crate::fold::folded;
use crate::outline::{Item, Outline, Statement, StatementKind};
use crate::revision::Revision;

/// One item written anew.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rewrite {
    /// What it is: `message`, `channel`, …
    pub keyword: String,
    /// Its name in the new revision.
    pub name: String,
    /// Its text.
    pub text: String,
    /// Its text in the new revision; empty if that does not have it.
    pub before: String,
}

/// What to write instead.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remedy {
    /// The changes that it settles, by their index in the comparison.
    pub changes: Vec<usize>,
    /// What to do, in a sentence without an end.
    pub sentence: String,
    /// The items.
    pub items: Vec<Rewrite>,
}

/// The ways out of all changes that would strand units, one for each item that has such changes.
pub fn ways_out(old: &Revision, new: &Revision, comparison: &Comparison) -> Vec<Remedy> {
    let outlines = Outlines {
        old: Outline::of(&old.text),
        new: Outline::of(&new.text),
        revision: grown(old, new),
        keys: RefCell::default(),
    };
    let mut owners: BTreeMap<(&str, String), Vec<usize>> = BTreeMap::new();
    for (index, change) in comparison.changes.iter().enumerate().filter(|(_, change)| change.worst().strands()) {
        owners.entry(owner(&change.difference)).or_default().push(index);
    }
    let mut plans: Vec<Attempt> = owners
        .into_iter()
        .map(|((keyword, name), changes)| {
            let found: Vec<&Change> = changes.iter().map(|index| &comparison.changes[*index]).collect();
            let mut candidates = outlines.candidates(keyword, &name, &found);
            candidates.reverse();
            Attempt { name, changes, candidates }
        })
        .collect();
    // All first choices together, since one can need another: a message that is gone is wanted back, and its key has a new owner.
    // Whoever is still stranded gets the next choice.
    loop {
        // Where two ways touch one item, its own comes last, and wins.
        let of_others = |own: bool| {
            plans.iter().flat_map(move |plan| plan.items().iter().filter(move |item| (item.name == plan.name) == own))
        };
        let items: Vec<Item> = of_others(false).chain(of_others(true)).cloned().collect();
        if items.is_empty() {
            return Vec::new();
        }
        let left: BTreeSet<String> = match revision_of(&new.name, &written(&new.text, &items)) {
            Ok(mended) => {
                let after = compare(old, &mended);
                let left = after.changes.iter().filter(|change| change.worst().strands());
                let left: BTreeSet<String> = left.map(|change| owner(&change.difference).1).collect();
                if !plans.iter().any(|plan| plan.fails(&left)) {
                    let settled: Vec<Attempt> = plans.into_iter().filter(|plan| !plan.items().is_empty()).collect();
                    let names: BTreeSet<String> = settled.iter().map(|plan| plan.name.clone()).collect();
                    return without_idle(settled.into_iter().filter_map(|plan| plan.way(&outlines, &names)).collect());
                }
                left
            }
            Err(names) => names,
        };
        let mut moved = false;
        for plan in plans.iter_mut().filter(|plan| plan.fails(&left)) {
            moved |= plan.candidates.pop().is_some();
            if plan.candidates.last().is_some_and(|(_, items)| items.is_empty()) {
                let found: Vec<&Change> = plan.changes.iter().map(|index| &comparison.changes[*index]).collect();
                plan.candidates = outlines.last_resort(&plan.name, &found);
            }
        }
        if !moved {
            return Vec::new();
        }
    }
}

/// An item that strands somebody, and what could be written instead; the next choice is the last one.
struct Attempt {
    name: String,
    changes: Vec<usize>,
    candidates: Vec<Candidate>,
}

impl Attempt {
    fn items(&self) -> &[Item] {
        self.candidates.last().map_or(&[], |(_, items)| items)
    }

    /// Whether what it writes is among what is still wrong.
    fn fails(&self, left: &BTreeSet<String>) -> bool {
        !self.items().is_empty()
            && (left.contains(&self.name) || self.items().iter().any(|item| left.contains(&item.name)))
    }

    /// Without the items that have ways out of their own.
    fn way(mut self, outlines: &Outlines, names: &BTreeSet<String>) -> Option<Remedy> {
        let (sentence, items) = self.candidates.pop()?;
        let items = items.iter().filter(|item| item.name == self.name || !names.contains(&item.name));
        let items = items.map(|item| outlines.rewrite(item)).collect();
        Some(Remedy { changes: self.changes, sentence, items })
    }
}

impl Remedy {
    fn parsed(&self) -> Vec<Item> {
        self.items.iter().flat_map(|item| Outline::of(&item.text).items).collect()
    }
}

/// Ways out that change something: what is left as it stands in the new revision is settled by the others.
fn without_idle(remedies: Vec<Remedy>) -> Vec<Remedy> {
    let is_idle = |remedy: &Remedy| remedy.items.iter().all(|item| words(&item.text) == words(&item.before));
    let (idle, mut real): (Vec<Remedy>, Vec<Remedy>) = remedies.into_iter().partition(is_idle);
    match real.first_mut() {
        Some(first) => first.changes.extend(idle.into_iter().flat_map(|way| way.changes)),
        None => return idle,
    }
    real
}

/// The text of a definition with ways out written into it.
pub fn with_ways_out(new: &Revision, remedies: &[Remedy]) -> String {
    let items: Vec<Item> = remedies.iter().flat_map(Remedy::parsed).collect();
    written(&new.text, &items)
}

/// The number that the new revision has, or must have.
fn grown(old: &Revision, new: &Revision) -> u32 {
    new.plan.link.revision.max(old.plan.link.revision + 1)
}

/// The item to which a difference belongs.
fn owner(difference: &Difference) -> (&'static str, String) {
    use DifferenceKind::*;
    let name = difference.place.split('.').next().unwrap_or_default().to_owned();
    let keyword = match difference.kind {
        LinkRenamed | ByteOrder => "link",
        kind if kind.is_of_channel() => "channel",
        _ => "",
    };
    (keyword, name)
}

/// A revision of one text.
///
/// # Errors
/// The names of the items that have errors.
fn revision_of(name: &str, text: &str) -> Result<Revision, BTreeSet<String>> {
    let checked = check(&Source::new(format!("{name}.ember"), text));
    let names = checked.findings.iter().filter(|finding| finding.is_error()).map(|finding| {
        // Items begin at the start of a line: `message GateStatus {`.
        let before = text.get(..finding.span.end.min(text.len())).unwrap_or(text);
        let head = before.lines().rev().find(|line| line.starts_with(|c: char| c.is_ascii_lowercase()));
        head.and_then(|head| head.split_whitespace().nth(1)).unwrap_or_default().to_owned()
    });
    let names: BTreeSet<String> = names.collect();
    match (checked.plan, folded(&checked.sources)) {
        (Some(plan), Ok(text)) => Ok(Revision { name: name.to_owned(), plan: plan.into(), text }),
        _ => Err(names),
    }
}

/// A text with items in place of those of the same name; new ones come at the end.
fn written(text: &str, items: &[Item]) -> String {
    let mut outline = Outline::of(text);
    for item in items {
        let same = |other: &&mut Item| other.name == item.name && other.keyword == item.keyword;
        match outline.items.iter_mut().find(same) {
            Some(other) => *other = item.clone(),
            None => outline.items.push(item.clone()),
        }
    }
    outline.items.iter().map(Item::text).collect::<Vec<_>>().join("\n")
}

struct Outlines {
    old: Outline,
    new: Outline,
    /// The number of the section that takes what is new.
    revision: u32,
    /// The keys that are taken, by kind: those of both revisions, and those that were given away here.
    keys: RefCell<BTreeMap<String, BTreeSet<u64>>>,
}

type Candidate = (String, Vec<Item>);

impl Outlines {
    fn candidates(&self, keyword: &str, name: &str, changes: &[&Change]) -> Vec<Candidate> {
        let (was, is) = self.both(keyword, name, changes);
        let mut candidates = match (was, is) {
            (Some(was), Some(is)) if is.keyword == "message" => self.message(was, is, changes),
            (Some(was), Some(is)) if is.keyword == "record" => self.record(was, is, changes),
            (Some(was), Some(is)) if ["enum", "flags", "table"].contains(&is.keyword.as_str()) => self.codes(was, is),
            (Some(was), Some(is)) => {
                let sentence = match is.keyword.as_str() {
                    "link" => {
                        "keep the link's byte order; a new field can have its own with `be` or `le` after its type"
                            .to_owned()
                    }
                    _ => format!("keep `{name}` as it was; frames of another kind need a channel of their own"),
                };
                let alone = vec![self.with_new_revision(was.clone())];
                let with_messages = alone.iter().cloned().chain(self.keyed_as_before(&was.name)).collect();
                let keys = format!("{sentence}; its messages keep their keys");
                vec![(sentence, alone), (keys, with_messages)]
            }
            (Some(was), None) => {
                vec![(format!("keep `{name}` until no unit in the field needs it"), self.with_what_it_needs(was))]
            }
            (None, Some(is)) => self.fresh(is),
            (None, None) => Vec::new(),
        };
        // The last choice takes longest, and is seldom needed.
        if matches!(is, Some(is) if is.keyword == "message" && was.is_some()) {
            candidates.push((String::new(), Vec::new()));
        }
        candidates
    }

    /// The last choice for a message: another one beside it.
    fn last_resort(&self, name: &str, changes: &[&Change]) -> Vec<Candidate> {
        match self.both("", name, changes) {
            (Some(was), Some(is)) => self.beside(was, is),
            _ => Vec::new(),
        }
    }

    /// An item in both revisions.
    fn both(&self, keyword: &str, name: &str, changes: &[&Change]) -> (Option<&Item>, Option<&Item>) {
        let find = |outline: &'_ Outline, name: &str| {
            outline.items.iter().position(|item| item.name == name && (keyword.is_empty() || item.keyword == keyword))
        };
        let renamed = changes.iter().find(|change| change.difference.kind == DifferenceKind::MessageRenamed);
        let old_name = renamed.map_or(name, |change| change.difference.old.as_str());
        let was = find(&self.old, old_name).map(|index| &self.old.items[index]);
        (was, find(&self.new, name).map(|index| &self.new.items[index]))
    }

    /// An old item; if it is the link, with the number of the new revision.
    fn with_new_revision(&self, mut item: Item) -> Item {
        let own = |statement: &&Statement| statement.name == "revision";
        let now = self.new.items.iter().find(|other| other.keyword == "link").filter(|_| item.keyword == "link");
        if let Some(revision) = now.and_then(|link| link.statements.iter().find(own)) {
            item.statements.retain(|statement| !own(&statement));
            item.statements.insert(0, revision.clone());
        }
        item
    }

    /// The messages of a channel with the keys that they had.
    fn keyed_as_before(&self, channel: &str) -> Vec<Item> {
        let key = |s: &&Statement| s.kind == StatementKind::Header && ["id", "on"].contains(&s.name.as_str());
        let on = |item: &&Item| {
            let mut words = item.statements.iter().filter(|s| s.name == "on").map(Statement::text);
            item.keyword == "message" && words.any(|text| text.split([' ', ',']).any(|word| word == channel))
        };
        let messages = self.old.items.iter().filter(on);
        let both = messages.filter_map(|was| Some((was, self.new.find("message", &was.name)?)));
        let keyed = both.map(|(was, now)| {
            let own = was.statements.iter().filter(key).cloned();
            let others = now.statements.iter().filter(|statement| !key(statement)).cloned();
            Item { statements: own.chain(others).collect(), ..now.clone() }
        });
        keyed.collect()
    }

    /// A message whose fields stay as they were, with what is new behind them.
    fn message(&self, was: &Item, is: &Item, changes: &[&Change]) -> Vec<Candidate> {
        use DifferenceKind::*;
        let has = |kinds: &[DifferenceKind]| changes.iter().any(|change| kinds.contains(&change.difference.kind));
        let mut item = is.clone();
        let mut kept = Vec::new();
        let headers =
            [(Key, vec!["id", "on"]), (Direction, vec!["from"]), (Channels, vec!["on"]), (Pattern, vec!["line"])];
        for (kind, words) in headers {
            if !has(&[kind]) {
                continue;
            }
            let of = |item: &Item| -> Vec<Statement> {
                let header = |s: &&Statement| s.kind == StatementKind::Header && words.contains(&s.name.as_str());
                item.statements.iter().filter(header).cloned().collect()
            };
            let (back, gone) = (of(was), of(&item));
            if back != gone {
                item.statements.retain(|statement| !gone.contains(statement));
                let other = |statement: &&Statement| gone.iter().all(|gone| gone.text() != statement.text());
                kept.extend(back.iter().filter(other).map(|statement| format!("`{}`", statement.text())));
                item.statements.splice(0..0, back);
            }
        }
        let (fields, added) = self.merged(was, &item, changes);
        if let Some(fields) = fields {
            item.statements.retain(|statement| statement.kind == StatementKind::Header);
            item.statements.extend(fields);
        }
        let mut parts = Vec::new();
        kept.extend(self.doubled(&added));
        if !kept.is_empty() {
            parts.push(kept_as_before(&kept));
        }
        if !added.is_empty() {
            parts.push(format!("put {} into `added in {} {{ … }}`", listed(&added), self.revision));
        }
        let gone = changes.iter().filter(|change| matches!(change.difference.kind, FieldRemoved | FieldRetired));
        let gone: Vec<String> = gone.map(|change| field_of(&change.difference)).collect();
        if !gone.is_empty() {
            parts.push(format!("keep sending {} until no receiver in the field reads it", listed(&gone)));
        }
        if parts.is_empty() {
            parts.push(format!("keep the fields of {} where they were", was.name));
        }
        vec![(parts.join("; "), vec![item])]
    }

    /// The fields of the old item as they were, then what is new; and the names of the latter. `None` if no field needs it.
    fn merged(&self, was: &Item, is: &Item, changes: &[&Change]) -> (Option<Vec<Statement>>, Vec<String>) {
        use DifferenceKind::*;
        let around = [Key, Direction, Channels, MessageAdded, MessageRemoved, MessageRenamed];
        if changes.iter().all(|change| around.contains(&change.difference.kind)) {
            return (None, Vec::new());
        }
        let strands = |name: &str| {
            let own = |change: &&&Change| field_of(&change.difference) == name;
            changes.iter().filter(own).any(|change| !matches!(change.difference.kind, FieldMoved | FieldInserted))
        };
        let find = |item: &Item, name: &str| {
            item.statements.iter().find(|s| s.kind == StatementKind::Field && s.name == name).cloned()
        };
        let mut fields = Vec::new();
        let mut added = Vec::new();
        let mut later: Vec<Statement> = Vec::new();
        for statement in was.statements.iter().filter(|s| s.kind != StatementKind::Header) {
            let now = find(is, &statement.name).filter(|_| statement.kind == StatementKind::Field);
            match now {
                Some(now) if strands(&statement.name) => {
                    fields.push(statement.clone());
                    if !now.text().ends_with(" retired") {
                        let name = format!("{}_r{}", statement.name, self.revision);
                        later.push(self.moved(&now, &name));
                        added.push(name);
                    }
                }
                // What did not hurt stays changed, at its old place.
                Some(now) => {
                    fields.push(Statement { section: statement.section, lines: at_old_place(&now, statement), ..now })
                }
                None => fields.push(statement.clone()),
            }
        }
        let sections: BTreeSet<u32> = was.statements.iter().map(|statement| statement.section).collect();
        for statement in
            is.statements.iter().filter(|s| s.kind == StatementKind::Field && !s.text().ends_with(" retired"))
        {
            if find(was, &statement.name).is_some() {
                continue;
            }
            if sections.iter().all(|section| statement.section > *section) {
                later.push(statement.clone());
            } else {
                later.push(self.moved(statement, &statement.name));
                added.push(statement.name.clone());
            }
        }
        later.sort_by_key(|statement| statement.section);
        fields.extend(later);
        (Some(fields), added)
    }

    /// The fields that stay as they were, since what is new has a name of its own.
    fn doubled(&self, added: &[String]) -> Vec<String> {
        let end = format!("_r{}", self.revision);
        added.iter().filter_map(|name| name.strip_suffix(&end)).map(|name| format!("`{name}`")).collect()
    }

    /// A field under a name, in the new section.
    fn moved(&self, statement: &Statement, name: &str) -> Statement {
        let lines = statement.lines.iter().map(|line| match line.split_once(" : ") {
            Some((before, ty)) if before.trim() == statement.name => format!("{name} : {}", without_place(ty)),
            _ => line.clone(),
        });
        Statement { name: name.to_owned(), section: self.revision, lines: lines.collect(), kind: statement.kind }
    }

    /// A extensible record as a message; another one with what is new in a record of its own, in messages behind what they have.
    fn record(&self, was: &Item, is: &Item, changes: &[&Change]) -> Vec<Candidate> {
        let mut candidates = Vec::new();
        if is.head.ends_with(" growing") && was.head == is.head {
            let (fields, added) = self.merged(was, is, changes);
            let item = Item { statements: fields.unwrap_or_default(), ..is.clone() };
            let kept = self.doubled(&added);
            let keep = if kept.is_empty() { String::new() } else { kept_as_before(&kept) + "; " };
            let sentence = match added.is_empty() {
                true => format!("keep the fields of {} as they were", was.name),
                false => {
                    format!("{keep}put {} into `added in {} {{ … }}` of {}", listed(&added), self.revision, was.name)
                }
            };
            candidates.push((sentence, vec![item]));
        }
        let name = format!("{}{}", is.name, self.revision);
        let head = is.head.replacen(&is.name, &name, 1);
        let mut items = vec![was.clone(), Item { name: name.clone(), head, ..is.clone() }];
        let mut users = Vec::new();
        for message in self.new.items.iter().filter(|item| item.keyword == "message") {
            let uses = |statement: &&Statement| {
                let mut words = statement.text().split_whitespace().map(str::to_owned).collect::<Vec<_>>().into_iter();
                statement.kind == StatementKind::Field && words.any(|word| word == is.name)
            };
            let found: Vec<&Statement> = message.statements.iter().filter(uses).collect();
            if found.is_empty() {
                continue;
            }
            let mut item = message.clone();
            for statement in found {
                let mut other = self.moved(statement, &format!("{}_r{}", statement.name, self.revision));
                for line in &mut other.lines {
                    *line = line
                        .split(' ')
                        .map(|word| if word == is.name { name.as_str() } else { word })
                        .collect::<Vec<_>>()
                        .join(" ");
                }
                item.statements.push(other);
            }
            item.statements.sort_by_key(|statement| (statement.kind != StatementKind::Header, statement.section));
            users.push(item.name.clone());
            items.push(item);
        }
        let sentence = format!(
            "keep {} as it was, and put a new record {name} into `added in {} {{ … }}` of {}",
            was.name,
            self.revision,
            listed(&users)
        );
        candidates.push((sentence, items));
        candidates.push((format!("keep {} as it was", was.name), vec![was.clone()]));
        candidates
    }

    /// Labels and entries with the codes that they had; new ones with codes of their own.
    fn codes(&self, was: &Item, is: &Item) -> Vec<Candidate> {
        let code =
            |statement: &Statement| statement.text().split_whitespace().next().map(str::to_owned).unwrap_or_default();
        let number = |text: &str| match text.strip_prefix("0x") {
            Some(hex) => u64::from_str_radix(hex, 16).unwrap_or(0),
            None => text.parse().unwrap_or(0),
        };
        let mut taken: BTreeSet<u64> = was.named().map(|statement| number(&code(statement))).collect();
        let mut statements: Vec<Statement> = Vec::new();
        let mut news = Vec::new();
        for statement in was.named() {
            let now = is.named().find(|other| other.name == statement.name);
            match now {
                // Under the code that it had; an entry whose value has another form now keeps the old one.
                Some(now) if now.kind == StatementKind::Label => {
                    statements.push(coded(now, &code(now), &code(statement)))
                }
                _ => statements.push(statement.clone()),
            }
            if let Some(now) =
                now.filter(|now| now.kind == StatementKind::Field && strip_code(now) != strip_code(statement))
            {
                let name = format!("{}_r{}", now.name, self.revision);
                let mut renamed = now.clone();
                for line in &mut renamed.lines {
                    *line = line.replacen(&now.name, &name, 1);
                }
                news.push(Statement { name, ..renamed });
            }
        }
        news.extend(is.named().filter(|other| was.named().all(|statement| statement.name != other.name)).cloned());
        let mut names = Vec::new();
        for statement in news {
            let own = number(&code(&statement));
            let greatest = greatest_code(&is.head);
            let mut free = (own..=greatest).chain(0..own).filter(|code| !taken.contains(code));
            let free = free.next().unwrap_or(own);
            taken.insert(free);
            let own = code(&statement);
            let digits = own.len().saturating_sub(2);
            let text = if own.starts_with("0x") { format!("0x{free:0digits$X}") } else { free.to_string() };
            names.push(format!("{} ({text})", statement.name));
            statements.push(coded(&statement, &code(&statement), &text));
        }
        let sentence = match names.is_empty() {
            true => format!("keep the codes of {}", is.name),
            false => format!("keep the codes of {}; new ones take free codes: {}", is.name, names.join(", ")),
        };
        let mut candidates =
            vec![(sentence, vec![Item { head: is.head.clone(), statements: statements.clone(), ..is.clone() }])];
        if was.head != is.head {
            let sentence = format!("keep {} as it was", was.name);
            candidates.push((sentence.clone(), vec![Item { head: was.head.clone(), statements, ..is.clone() }]));
            candidates.push((sentence, vec![was.clone()]));
        }
        candidates
    }

    /// A new message under a key that nobody knows.
    fn fresh(&self, is: &Item) -> Vec<Candidate> {
        let mut item = is.clone();
        let mut said = Vec::new();
        for statement in &mut item.statements {
            if statement.kind != StatementKind::Header || !["id", "on"].contains(&statement.name.as_str()) {
                continue;
            }
            for line in &mut statement.lines {
                let text = self.with_free_keys(line);
                if text != *line {
                    said.push(format!(
                        "`{}`",
                        text.split('#').next().unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ")
                    ));
                    *line = text;
                }
            }
        }
        if said.is_empty() {
            return Vec::new();
        }
        vec![(format!("give {} a key that no revision has used: {}", is.name, said.join(", ")), vec![item])]
    }

    /// The old message as it was, and the new one beside it under a key of its own.
    fn beside(&self, was: &Item, is: &Item) -> Vec<Candidate> {
        let name = format!("{}{}", is.name, self.revision);
        let head = is.head.replacen(&is.name, &name, 1);
        // What answers a request answers it as before.
        let statements = is.statements.iter().map(|statement| Statement { section: 1, ..statement.clone() });
        let copy = Item { name: name.clone(), head, statements: statements.collect(), ..is.clone() };
        let old = self.with_what_it_needs(was);
        self.fresh(&copy)
            .into_iter()
            .map(|(_, items)| {
                let key = items[0].statements.iter().find(|s| s.name == "id" || s.name == "on");
                let key = key.map_or_else(String::new, |statement| format!(" with `{}`", statement.text()));
                let all = old.iter().cloned().chain(items).collect();
                (format!("keep {} as it was, and add {name}{key}", was.name), all)
            })
            .collect()
    }

    /// An item of the old revision with the items that it names and the new revision does not have.
    fn with_what_it_needs(&self, was: &Item) -> Vec<Item> {
        let mut items = vec![was.clone()];
        let mut next = 0;
        while next < items.len() {
            let text = items[next].text();
            let words: BTreeSet<&str> = text.split(|c: char| !c.is_alphanumeric() && c != '_').collect();
            let needed = self.old.items.iter().filter(|item| {
                words.contains(item.name.as_str())
                    && self.new.items.iter().all(|new| new.name != item.name)
                    && items.iter().all(|other| other.name != item.name)
            });
            let needed: Vec<Item> = needed.cloned().collect();
            items.extend(needed);
            next += 1;
        }
        items
    }

    /// A line with each key in it changed to one that neither revision has.
    fn with_free_keys(&self, line: &str) -> String {
        let mut words: Vec<String> = line.split(' ').map(str::to_owned).collect();
        for at in 0..words.len() {
            let key = words[..at]
                .iter()
                .rev()
                .find(|word| !word.is_empty())
                .is_some_and(|word| ["id", "port", "can_id", "endpoint"].contains(&word.as_str()));
            if !key || words[at].is_empty() {
                continue;
            }
            let kind = words[..at].iter().rev().find(|word| !word.is_empty()).cloned().unwrap_or_default();
            let mut keys = self.keys.borrow_mut();
            let taken = keys.entry(kind.clone()).or_insert_with(|| self.keys(&kind));
            let number = |text: &str| match text.strip_prefix("0x") {
                Some(hex) => u64::from_str_radix(hex, 16).unwrap_or(0),
                None => text.parse().unwrap_or(0),
            };
            let own = number(words[at].trim_end_matches(','));
            let Some(free) = (own..own + 100_000).chain(0..own).find(|key| !taken.contains(key)) else { continue };
            taken.insert(free);
            let comma = if words[at].ends_with(',') { "," } else { "" };
            words[at] =
                if words[at].starts_with("0x") { format!("0x{free:02X}{comma}") } else { format!("{free}{comma}") };
        }
        words.join(" ")
    }

    /// All keys of a kind in both revisions.
    fn keys(&self, kind: &str) -> BTreeSet<u64> {
        let mut keys = BTreeSet::new();
        let items = self.old.items.iter().chain(&self.new.items).filter(|item| item.keyword == "message");
        for statement in items.flat_map(|item| &item.statements).filter(|s| s.kind == StatementKind::Header) {
            let text = statement.text();
            let words: Vec<&str> = text.split_whitespace().collect();
            for pair in words.windows(2).filter(|pair| pair[0] == kind) {
                let number = pair[1].trim_end_matches(',');
                keys.extend(match number.strip_prefix("0x") {
                    Some(hex) => u64::from_str_radix(hex, 16).ok(),
                    None => number.parse().ok(),
                });
            }
        }
        keys
    }

    fn rewrite(&self, item: &Item) -> Rewrite {
        let before = self.new.find(&item.keyword, &item.name).map_or_else(String::new, Item::text);
        // In columns, as everything is.
        let tidy = |text: String| emberwort_model::tidy::tidy(&text).unwrap_or(text);
        Rewrite { keyword: item.keyword.clone(), name: item.name.clone(), text: tidy(item.text()), before }
    }
}

/// What to keep, in words.
fn kept_as_before(names: &[String]) -> String {
    match names {
        [one] => format!("keep {one} as it was"),
        [all @ .., last] => format!("keep {} and {last} as they were", all.join(", ")),
        [] => String::new(),
    }
}

/// A line with single spaces.
fn words(line: &str) -> String {
    line.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// The field at which a difference is.
fn field_of(difference: &Difference) -> String {
    difference.place.split_once('.').map_or_else(String::new, |(_, field)| field.to_owned())
}

fn listed(names: &[String]) -> String {
    names.iter().map(|name| format!("`{name}`")).collect::<Vec<_>>().join(", ")
}

/// A type without its explicit place.
fn without_place(ty: &str) -> String {
    let words: Vec<&str> = ty.split(' ').collect();
    let place = words.iter().position(|word| *word == "at");
    let kept = words.iter().enumerate().filter(|(n, _)| place.is_none_or(|place| *n != place && *n != place + 1));
    kept.map(|(_, word)| *word).collect::<Vec<_>>().join(" ")
}

/// The lines of a field that stands at the explicit place of another, if that has one.
fn at_old_place(now: &Statement, before: &Statement) -> Vec<String> {
    let place = |statement: &Statement| {
        let text = statement.text();
        let words: Vec<String> = text.split_whitespace().map(str::to_owned).collect();
        words.iter().position(|word| word == "at").and_then(|at| words.get(at + 1).cloned())
    };
    if place(now) == place(before) { now.lines.clone() } else { before.lines.clone() }
}

/// A label or entry with another code.
fn coded(statement: &Statement, from: &str, to: &str) -> Statement {
    let lines = statement.lines.iter().map(|line| match line.trim_start().starts_with(from) {
        true => line.replacen(from, to, 1),
        false => line.clone(),
    });
    Statement { lines: lines.collect(), ..statement.clone() }
}

/// The greatest code of an enum, flag set or table that begins with this line.
fn greatest_code(head: &str) -> u64 {
    let bits = head.rsplit(" : u").next().and_then(|bits| bits.trim().parse::<u32>().ok()).unwrap_or(16);
    if head.starts_with("flags") { u64::from(bits) - 1 } else { u64::MAX >> (64 - bits.clamp(1, 64)) }
}

/// What is said of an entry, without its code.
fn strip_code(statement: &Statement) -> String {
    let text = statement.text();
    text.split_once(' ').map_or_else(String::new, |(_, rest)| words(rest))
}
