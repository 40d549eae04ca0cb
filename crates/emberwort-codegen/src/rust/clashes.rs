//! Names of a definition that become the same in Rust.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind};

use super::frames::stem;
use super::names::{class, constant, member};
use crate::lower::frame::is_chosen;
use crate::lower::labelled;
use crate::names::{Clash, Scope, plain_snake};

/// Names of a link that become the same in Rust.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let mut found = Vec::new();
    let mut types = Scope::default();
    for labelled in labelled(plan) {
        types.add(class(&labelled.name), vec![labelled.name.clone()], &mut found);
        let mut labels = Scope::default();
        for label in &labelled.labels {
            labels.add(constant(&label.name), vec![labelled.name.clone(), label.name.clone()], &mut found);
        }
    }
    let mut group = |name: &str, fields: &[Field]| {
        types.add(class(name), vec![name.to_owned()], &mut found);
        let (mut members, mut functions) = (Scope::default(), Scope::default());
        for field in fields.iter().filter(|field| !field.is_spare()) {
            let origin = || vec![name.to_owned(), field.name.clone()];
            let plain = member(&field.name);
            members.add(plain.clone(), origin(), &mut found);
            match &field.kind {
                Kind::Number(_) | Kind::Varint(_) => {
                    functions.add(format!("physical_{plain}"), origin(), &mut found);
                    functions.add(format!("raw_{plain}"), origin(), &mut found);
                }
                Kind::Union(union) => {
                    let of_union = class(&format!("{}_{}", plain_snake(name), field.name));
                    types.add(of_union, origin(), &mut found);
                    let mut forms = Scope::default();
                    for form in union.cases.iter().map(|case| &case.field).chain(&union.otherwise) {
                        forms.add(class(&form.name), [origin(), vec![form.name.clone()]].concat(), &mut found);
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
    for (from, direction) in plan.channels.iter().flat_map(|channel| channel.directions()) {
        let stem = stem(&direction.name, from);
        for name in [stem.clone(), format!("{stem}_frame"), format!("{stem}_message"), format!("{stem}_receiver")] {
            types.add(class(&name), vec![direction.name.clone()], &mut found);
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
