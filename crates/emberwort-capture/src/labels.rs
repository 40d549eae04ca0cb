//! Texts beside nodes and values: what people call a device, what a value means at this site.

use std::collections::HashMap;
use std::fmt::Write as _;

use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::model::{Field, Kind, Message};
use emberwort_text::formula::number;
use emberwort_wire::{ValueRef, Values};

use crate::items::Row;
use crate::query::variables::{Path, all_names, field_at};
use crate::revision_map::RevisionMap;

/// Texts for nodes and values, from a table with a heading: the columns `node`, `field`, `address`, `value` and `text`, of which `text` and
/// one other have to be there.
///
/// A line names what it is about, and leaves empty what does not matter: `node` alone names a device; `field` (also with its message in
/// front, and inside of others) and `value` a value, a label, or a range like `80..100` in physical units; `address` the key of an entry
/// of a table in place of a field. The first line that fits a value says its text.
#[derive(Clone, Debug, Default)]
pub struct Labels {
    nodes: HashMap<u64, String>,
    lines: Vec<Line>,
}

/// A line about values.
#[derive(Clone, Debug)]
struct Line {
    /// Its number in the file, the heading being 1.
    number: u64,
    node: Option<u64>,
    field: Option<String>,
    address: Option<u64>,
    value: String,
    text: String,
}

/// The columns that a table may have.
const COLUMNS: [&str; 5] = ["node", "field", "address", "value", "text"];

impl Labels {
    /// Reads them.
    ///
    /// # Errors
    /// What is wrong, with the number of its line.
    pub fn read(bytes: &[u8]) -> Result<Self, String> {
        let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).flexible(true).from_reader(bytes);
        let headings = reader.headers().map_err(|error| error.to_string())?.clone();
        let headings: Vec<&str> = headings.iter().map(|heading| heading.trim_start_matches('\u{FEFF}')).collect();
        if let Some(other) = headings.iter().find(|heading| !COLUMNS.contains(heading)) {
            return Err(format!("line 1: a column `{}`; it may have {}", escaped(other), COLUMNS.join(", ")));
        }
        let column = |name: &str| headings.iter().position(|heading| *heading == name);
        let [node, field, address, value, Some(text)] = COLUMNS.map(column) else {
            return Err(format!("line 1: no column `text`; it may have {}", COLUMNS.join(", ")));
        };
        let mut labels = Self::default();
        for record in reader.records() {
            let record = record.map_err(|error| error.to_string())?;
            let number = record.position().map_or(0, csv::Position::line);
            let said =
                |column: Option<usize>| column.and_then(|column| record.get(column)).filter(|said| !said.is_empty());
            let whole = |column: Option<usize>, what: &str| {
                said(column)
                    .map(|text| {
                        whole_number(text)
                            .ok_or_else(|| format!("line {number}: {what} is a whole number, not `{}`", escaped(text)))
                    })
                    .transpose()
            };
            let (node, address) = (whole(node, "node")?, whole(address, "address")?);
            let Some(text) = said(Some(text)) else {
                return Err(format!("line {number}: it has no text"));
            };
            let (field, value) = (said(field).map(str::to_owned), said(value).unwrap_or_default().to_owned());
            match (node, &field, address) {
                (Some(node), None, None) if value.is_empty() => {
                    labels.nodes.entry(node).or_insert_with(|| text.to_owned());
                }
                (_, None, None) => {
                    return Err(format!("line {number}: it says neither node alone, nor field, nor address"));
                }
                (_, Some(_), Some(_)) => {
                    return Err(format!(
                        "line {number}: it says field and address; the address is an entry's, in any table"
                    ));
                }
                _ => labels.lines.push(Line { number, node, field, address, value, text: text.to_owned() }),
            }
        }
        Ok(labels)
    }

    /// Looks up the fields in a definition.
    ///
    /// # Errors
    /// A line about a field, an entry or a value that there is not.
    pub fn check(&self, plan: &Plan) -> Result<(), String> {
        for line in &self.lines {
            let mut problem = None;
            let mut is_found = false;
            for compiled in &plan.messages {
                match line.bind(&compiled.message.name, &compiled.message.fields) {
                    Ok(bound) => is_found |= !bound.is_empty(),
                    Err(said) => {
                        problem.get_or_insert(format!("{}.{said}", compiled.message.name));
                    }
                }
            }
            if is_found {
                continue;
            }
            let number = line.number;
            return Err(match (problem, &line.field, line.address) {
                (Some(problem), ..) => format!("line {number}: {problem}"),
                (None, Some(field), _) => {
                    let near = nearest(field, all_names(plan));
                    let near = near.map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
                    format!("line {number}: no message has a field `{}`{near}", escaped(field))
                }
                (None, None, address) => {
                    format!("line {number}: no table has an entry {}", address.unwrap_or_default())
                }
            });
        }
        Ok(())
    }

    /// What a device is called.
    pub fn of_node(&self, node: u64) -> Option<&str> {
        self.nodes.get(&node).map(String::as_str)
    }

    /// The longest text beside a field of a message, by its slot, in characters.
    pub fn longest_beside(&self, message: &Message, slot: usize) -> Option<usize> {
        let all = self.lines.iter().filter_map(|line| line.bind(&message.name, &message.fields).ok()).flatten();
        all.filter(|bound| bound.path.first_slot() == slot).map(|bound| escaped(&bound.text).chars().count()).max()
    }

    /// The longest name of a device, in characters.
    pub fn longest_of_nodes(&self) -> Option<usize> {
        self.nodes.values().map(|text| escaped(text).chars().count()).max()
    }
}

fn whole_number(text: &str) -> Option<u64> {
    match text.strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => text.parse().ok(),
    }
}

/// What a line says of one field of one message.
#[derive(Clone, Debug)]
struct Bound {
    path: Path,
    node: Option<u64>,
    wanted: Wanted,
    text: String,
}

#[derive(Clone, Debug)]
enum Wanted {
    Any,
    Number(f64, f64),
    Bytes(Vec<u8>),
}

impl Line {
    /// What it says of the fields of a message: nothing, if it has none of them.
    fn bind(&self, message: &str, fields: &[Field]) -> Result<Vec<Bound>, String> {
        let names: Vec<String> = match (&self.field, self.address) {
            (Some(field), _) => {
                let own = field.strip_prefix(message).and_then(|rest| rest.strip_prefix('.'));
                vec![own.unwrap_or(field).to_owned()]
            }
            (None, address) => {
                let entry = |field: &Field| {
                    let Kind::Union(union) = &field.kind else { return None };
                    union.table.as_ref()?;
                    let case = union.cases.iter().find(|case| Some(case.raw) == address)?;
                    Some(format!("{}.{}", field.name, case.field.name))
                };
                fields.iter().filter_map(entry).collect()
            }
        };
        let mut bound = Vec::new();
        for name in names {
            let (Some(path), Some(field)) = (Path::find(fields, &name), field_at(fields, &name)) else { continue };
            let (node, wanted, text) = (self.node, self.wanted(field)?, self.text.clone());
            bound.push(Bound { path, node, wanted, text });
        }
        Ok(bound)
    }

    fn wanted(&self, field: &Field) -> Result<Wanted, String> {
        let text = self.value.as_str();
        if text.is_empty() {
            return Ok(Wanted::Any);
        }
        let of_label = |label: &str| match &field.kind {
            Kind::Enum { labels, .. } => labels.named(label).map(|label| label.code as f64),
            Kind::Bool => ["false", "true"].iter().position(|word| *word == label).map(|index| index as f64),
            _ => None,
        };
        let one =
            |text: &str| of_label(text.trim()).or_else(|| text.trim().parse().ok().filter(|n: &f64| n.is_finite()));
        match (&field.kind, text.split_once("..")) {
            (Kind::Text { .. }, _) => Ok(Wanted::Bytes(text.as_bytes().to_vec())),
            (_, Some((low, high))) => match (one(low), one(high)) {
                (Some(low), Some(high)) if low <= high => Ok(Wanted::Number(low, high)),
                (Some(_), Some(_)) => {
                    Err(format!("{}: the range `{}` ends before it begins", field.name, escaped(text)))
                }
                _ => Err(format!("{} has no range `{}`; write it as 80..100", field.name, escaped(text))),
            },
            (kind, None) => one(text).map(|value| Wanted::Number(value, value)).ok_or_else(|| {
                let mut said = format!("{} has no value `{}`", field.name, escaped(text));
                if let Kind::Enum { labels, .. } = kind {
                    let names: Vec<&str> = labels.labels.iter().map(|label| label.name.as_str()).collect();
                    // Writing to memory cannot fail.
                    let _ = write!(said, "; it has {}", names.join(", "));
                }
                said
            }),
        }
    }
}

impl Bound {
    fn fits(&self, node: Option<u64>, values: &Values) -> bool {
        if self.node.is_some() && self.node != node {
            return false;
        }
        let Some(slot) = self.path.slot(values) else { return false };
        match (&self.wanted, values.get(slot)) {
            (_, ValueRef::Absent | ValueRef::Unset) => false,
            (Wanted::Any, _) => true,
            (Wanted::Bytes(bytes), ValueRef::Bytes(found)) => found == bytes,
            (Wanted::Number(low, high), _) => {
                number(&self.path.field, values, slot).is_some_and(|value| (*low..=*high).contains(&value))
            }
            _ => false,
        }
    }
}

/// Labels with the places of the fields that they are about, in the definitions in use.
#[derive(Clone, Debug, Default)]
pub struct LabelledFields {
    /// By definition and message, in the order of the file.
    bound: Vec<Vec<Vec<Bound>>>,
}

impl LabelledFields {
    /// Looks up the fields in further definitions.
    pub fn update_revisions(&mut self, labels: &Labels, revisions: &RevisionMap) {
        for definition in &revisions.definitions()[self.bound.len()..] {
            let of = |compiled: &emberwort_model::plan::MessagePlan| {
                let message = &compiled.message;
                // What a definition does not have, or not in that form, has no text there.
                let all = labels.lines.iter().filter_map(|line| line.bind(&message.name, &message.fields).ok());
                all.flatten().collect()
            };
            self.bound.push(definition.plan.messages.iter().map(of).collect());
        }
    }

    /// The text beside what stands in a slot of a row, or inside of it.
    pub fn of_slot(&self, row: &Row<'_>, slot: usize) -> Option<&str> {
        let all = &self.bound[row.definition.index()][row.message.index()];
        let fitting =
            all.iter().find(|bound| bound.path.first_slot() == slot && bound.fits(row.frame.node, row.values));
        fitting.map(|bound| bound.text.as_str())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn mistakes_say_where_they_are() {
        for (text, said) in [
            ("node,name\n1,x\n", "line 1: a column `name`"),
            ("node\n1\n", "line 1: no column `text`"),
            ("node,text\nx,y\n", "line 2: node is a whole number, not `x`"),
            ("node,text\n\n1,a\n2,\n", "line 4: it has no text"),
            ("node,value,text\n,3,y\n", "line 2: it says neither"),
            ("field,address,text\na,1,y\n", "line 2: it says field and address"),
        ] {
            let found = Labels::read(text.as_bytes()).unwrap_err();
            assert!(found.starts_with(said), "{text:?}: {found}");
        }
        let labels = Labels::read("\u{FEFF}node,text\n0x10,north gate\n16,other\n".as_bytes()).unwrap();
        assert_eq!(labels.of_node(16), Some("north gate"));
    }
}
