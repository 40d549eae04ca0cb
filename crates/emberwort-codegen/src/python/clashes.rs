//! Names of a definition that become the same in Python.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};

use super::channel::{frame_class, receiver_class, stem};
use super::names::{class, constant, member};
use crate::lower::frame::is_chosen;
use crate::lower::labelled;
use crate::names::{Clash, Scope};

/// Names of a link that become the same in Python.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let mut found = Vec::new();
    let mut classes = Scope::default();
    labelled(plan).for_each(|labelled| {
        classes.add(class(&labelled.name), vec![labelled.name.clone()], &mut found);
        let mut labels = Scope::default();
        for label in &labelled.labels {
            labels.add(constant(&label.name), vec![labelled.name.clone(), label.name.clone()], &mut found);
        }
    });
    let mut group = |name: &str, fields: &[Field]| {
        classes.add(class(name), vec![name.to_owned()], &mut found);
        let mut members = Scope::default();
        for field in fields.iter().filter(|field| !field.is_spare()) {
            let origin = || vec![name.to_owned(), field.name.clone()];
            let plain = member(&field.name);
            members.add(plain.clone(), origin(), &mut found);
            if matches!(field.kind, Kind::Number(_) | Kind::Varint(_)) {
                members.add(format!("physical_{plain}"), origin(), &mut found);
                members.add(format!("raw_{plain}"), origin(), &mut found);
            }
        }
    };
    let channels: Vec<_> = plan.channels.iter().flat_map(|channel| channel.directions()).collect();
    for record in &plan.records {
        group(&record.record.name, &record.record.fields);
    }
    for message in &plan.messages {
        group(&message.message.name, &message.message.fields);
    }
    for (from, direction) in channels {
        for name in [frame_class(&direction.name, from), receiver_class(&stem(&direction.name, from))] {
            classes.add(name, vec![direction.name.clone()], &mut found);
        }
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
