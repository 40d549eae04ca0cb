//! Names of a definition that become the same in Rust.

use emberwort_model::Plan;

use super::frames::stem;
use super::names::{class, constant, member};
use super::{ordered, view};
use crate::lower::{Rules, clashes as find};
use crate::names::{Clash, plain_snake};

/// Names of a link that become the same in Rust.
pub fn clashes(plan: &Plan) -> Vec<Clash> {
    let rules = Rules {
        class,
        member,
        constant,
        beside: |member| [format!("physical_{member}"), format!("raw_{member}")],
        // Functions and fields have names of their own.
        beside_are_members: false,
        union: Some(|group, field| class(&format!("{}_{field}", plain_snake(group)))),
        of_message: |name| vec![ordered::type_of(name), view::type_of(name)],
        direction: |name, from| {
            let stem = stem(name, from);
            ["_channel", "_frame", "_message", "_receiver"].iter().map(|end| class(&format!("{stem}{end}"))).collect()
        },
    };
    find(plan, &rules)
}
