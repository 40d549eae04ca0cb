//! All that lies in messages, however deep.

use std::sync::Arc;

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind, Labelled, Selector};
use emberwort_model::plan::{Action, MessagePlan, RecordPlan};

/// Every action of a link: of messages, and of all that lies in them.
pub fn each_action(plan: &Plan, visit: &mut dyn FnMut(&Action)) {
    each_action_of(plan.messages.iter(), visit);
}

/// Every action of some messages, and of all that lies in them.
pub fn each_action_of<'m>(messages: impl Iterator<Item = &'m MessagePlan>, visit: &mut dyn FnMut(&Action)) {
    let sections = messages.flat_map(|message| &message.sections);
    for step in sections.flat_map(|section| &section.steps) {
        inside(&step.action, visit);
    }
}

fn inside(action: &Action, visit: &mut dyn FnMut(&Action)) {
    visit(action);
    match action {
        Action::List(list) => inside(&list.element.action, visit),
        Action::Union(union) => union.forms.iter().for_each(|form| inside(&form.action, visit)),
        Action::Record(record) => {
            for step in record.sections.iter().flat_map(|section| &section.steps) {
                inside(&step.action, visit);
            }
        }
        _ => {}
    }
}

/// Whether a field takes no characters but those of ASCII.
pub fn is_ascii(field: &Field) -> bool {
    matches!(field.kind, Kind::Text { ascii: true, .. })
}

/// Whether a link has a field, however deep, that takes no characters but those of ASCII.
pub fn has_ascii(plan: &Plan) -> bool {
    let messages = plan.messages.iter().flat_map(|message| &message.message.fields);
    let records = plan.link.records.iter().flat_map(|record| &record.fields);
    let mut found = messages.chain(records).any(is_ascii);
    each_action(plan, &mut |action| match action {
        Action::List(list) => found |= is_ascii(&list.element.field),
        Action::Union(union) => found |= union.forms.iter().any(|form| is_ascii(&form.field)),
        _ => {}
    });
    found
}

/// All records, each behind those that it uses itself.
pub fn records(plan: &Plan) -> Vec<Arc<RecordPlan>> {
    let mut found: Vec<Arc<RecordPlan>> = Vec::new();
    each_action(plan, &mut |action| {
        if let Action::Record(record) = action {
            found.retain(|other| other.record.name != record.record.name);
            found.push(record.clone());
        }
    });
    found.reverse();
    found
}

/// All that has labels: enums, flags, and the keys of tables.
pub fn labelled(plan: &Plan) -> impl Iterator<Item = &Labelled> {
    let link = &plan.link;
    link.labelled.iter().chain(link.tables.iter().map(|table| &table.keys)).map(Arc::as_ref)
}

/// Whether a record lies in it, whose size depends on the sender's revision.
pub fn has_record(action: &Action) -> bool {
    let mut found = false;
    inside(action, &mut |one| found |= matches!(one, Action::Record(_)));
    found
}

/// Whether a request decides about a value in it.
pub fn depends_on_request(action: &Action) -> bool {
    let mut found = false;
    inside(action, &mut |one| {
        found |= matches!(one, Action::Union(union) if matches!(union.union.selector, Selector::Request { .. }));
    });
    found
}
