//! Names of a definition that become the same in JavaScript.

use emberwort_model::Plan;

use super::frames::{key, receiver_class, stem};
use super::names::{after_word, class, constant, member};
use crate::lower::{Rules, clashes as find};
use crate::names::Clash;

/// Names of a link that become the same in JavaScript.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let rules = Rules {
        class,
        member,
        constant,
        beside: |member| [after_word("physical", member), after_word("raw", member)],
        // Those are of the class, not of its objects.
        beside_are_members: false,
        union: None,
        of_message: |_| Vec::new(),
        direction: |name, from| {
            let stem = stem(name, from);
            vec![class(&format!("{stem}_frame")), receiver_class(&stem), format!("build{stem}"), key(name, from)]
        },
    };
    find(plan, &rules)
}
