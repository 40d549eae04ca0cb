//! What is in a link, for those who write only what it needs.

use emberwort_model::Plan;
use emberwort_model::plan::{Action, FrameFinder, MessagePlan};

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

/// Whether a channel's frames come in a stream, so that a receiver must find them.
pub fn has_receiver(finder: FrameFinder) -> bool {
    finder != FrameFinder::Packet
}
