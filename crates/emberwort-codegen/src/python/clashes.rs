//! Names of a definition that become the same in Python.

use emberwort_model::Plan;

use super::channel::{frame_class, receiver_class, stem};
use super::names::{class, constant, member};
use crate::lower::{Rules, clashes as find};
use crate::names::Clash;

/// Names of a link that become the same in Python.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let rules = Rules {
        class,
        member,
        constant,
        beside: |member| [format!("physical_{member}"), format!("raw_{member}")],
        beside_are_members: true,
        union: None,
        of_message: |_| Vec::new(),
        direction: |name, from| vec![frame_class(name, from), receiver_class(&stem(name, from))],
    };
    find(plan, &rules)
}
