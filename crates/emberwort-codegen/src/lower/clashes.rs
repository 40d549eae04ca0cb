//! Names of a definition that become the same in a language whose names follow from its own alone.

use emberwort_model::Plan;
use emberwort_model::model::{End, Field, Kind};

use super::frame::is_chosen;
use super::labelled;
use crate::names::{Clash, Scope};

/// How a language names things.
pub struct Rules {
    /// A message, a record, an enum.
    pub class: fn(&str) -> String,
    /// A field.
    pub member: fn(&str) -> String,
    /// A label.
    pub constant: fn(&str) -> String,
    /// What is beside a number with a scale, by its field's name in the language.
    pub beside: fn(&str) -> [String; 2],
    /// Whether that is of one kind with the fields, so that the two may not be the same.
    pub beside_are_members: bool,
    /// The type of a value whose form another number decides, by message or record and field, where it has a type of its own.
    pub union: Option<fn(&str, &str) -> String>,
    /// Types beside that of a message.
    pub of_message: fn(&str) -> Vec<String>,
    /// What there is of a direction's frames.
    pub direction: fn(&str, Option<End>) -> Vec<String>,
}

/// Names of a link that become the same.
pub fn clashes(plan: &Plan, rules: &Rules) -> Vec<Clash> {
    let mut found = Vec::new();
    let mut types = Scope::default();
    for labelled in labelled(plan) {
        types.add((rules.class)(&labelled.name), vec![labelled.name.clone()], &mut found);
        let mut labels = Scope::default();
        for label in &labelled.labels {
            let origin = vec![labelled.name.clone(), label.name.clone()];
            labels.add((rules.constant)(&label.name), origin, &mut found);
        }
    }
    let mut group = |name: &str, fields: &[Field]| {
        types.add((rules.class)(name), vec![name.to_owned()], &mut found);
        let (mut members, mut functions) = (Scope::default(), Scope::default());
        for field in fields.iter().filter(|field| !field.is_spare()) {
            let origin = || vec![name.to_owned(), field.name.clone()];
            let plain = (rules.member)(&field.name);
            members.add(plain.clone(), origin(), &mut found);
            match (&field.kind, rules.union) {
                (Kind::Number(_) | Kind::Varint(_), _) => {
                    let scope = if rules.beside_are_members { &mut members } else { &mut functions };
                    (rules.beside)(&plain).into_iter().for_each(|name| scope.add(name, origin(), &mut found));
                }
                (Kind::Union(union), Some(union_type)) => {
                    types.add(union_type(name, &field.name), origin(), &mut found);
                    let mut forms = Scope::default();
                    for form in union.cases.iter().map(|case| &case.field).chain(&union.otherwise) {
                        forms.add((rules.class)(&form.name), [origin(), vec![form.name.clone()]].concat(), &mut found);
                    }
                }
                _ => {}
            }
        }
    };
    for record in &plan.records {
        group(&record.record.name, &record.record.fields);
    }
    for message in &plan.messages {
        group(&message.message.name, &message.message.fields);
    }
    for message in &plan.messages {
        let name = &message.message.name;
        (rules.of_message)(name).into_iter().for_each(|of| types.add(of, vec![name.clone()], &mut found));
    }
    for (from, direction) in plan.channels.iter().flat_map(|channel| channel.directions()) {
        for name in (rules.direction)(&direction.name, from) {
            types.add(name, vec![direction.name.clone()], &mut found);
        }
        let mut members = Scope::default();
        members.add("body".to_owned(), Vec::new(), &mut found);
        if direction.key_is_outside() {
            members.add("key".to_owned(), Vec::new(), &mut found);
        }
        for part in direction.parts.iter().filter(|part| is_chosen(part)) {
            members.add((rules.member)(&part.name), vec![direction.name.clone(), part.name.clone()], &mut found);
        }
    }
    found
}
