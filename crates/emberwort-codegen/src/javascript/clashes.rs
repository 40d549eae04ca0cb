//! Names of a definition that become the same in JavaScript.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};

use super::frames::{key, receiver_class, stem};
use super::names::{behind, class, constant, member};
use crate::lower::frame::is_chosen;
use crate::lower::labelled;
use crate::names::{Clash, Scope};

/// Names of a link that become the same in JavaScript.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let mut found = Vec::new();
    let mut classes = Scope::default();
    for labelled in labelled(plan) {
        classes.add(class(&labelled.name), vec![labelled.name.clone()], &mut found);
        let mut labels = Scope::default();
        for label in &labelled.labels {
            labels.add(constant(&label.name), vec![labelled.name.clone(), label.name.clone()], &mut found);
        }
    }
    let mut group = |name: &str, fields: &[Field]| {
        classes.add(class(name), vec![name.to_owned()], &mut found);
        let (mut members, mut functions) = (Scope::default(), Scope::default());
        for field in fields.iter().filter(|field| !field.is_spare()) {
            let origin = || vec![name.to_owned(), field.name.clone()];
            let plain = member(&field.name);
            members.add(plain.clone(), origin(), &mut found);
            if let Kind::Number(_) | Kind::Varint(_) = field.kind {
                functions.add(behind("physical", &plain), origin(), &mut found);
                functions.add(behind("raw", &plain), origin(), &mut found);
            }
        }
    };
    for record in &plan.records {
        group(&record.record.name, &record.record.fields);
    }
    for message in &plan.messages {
        group(&message.message.name, &message.message.fields);
    }
    for (from, direction) in plan.channels.iter().flat_map(|channel| channel.directions()) {
        let origin = || vec![direction.name.clone()];
        let stem = stem(&direction.name, from);
        classes.add(class(&format!("{stem}_frame")), origin(), &mut found);
        classes.add(receiver_class(&stem), origin(), &mut found);
        classes.add(format!("build{stem}"), origin(), &mut found);
        classes.add(key(&direction.name, from), origin(), &mut found);
        let mut members = Scope::default();
        members.add("body".to_owned(), Vec::new(), &mut found);
        if direction.key_is_outside() {
            members.add("key".to_owned(), Vec::new(), &mut found);
        }
        for part in direction.parts.iter().filter(|part| is_chosen(part)) {
            members.add(member(&part.name), vec![direction.name.clone(), part.name.clone()], &mut found);
        }
    }
    found
}
