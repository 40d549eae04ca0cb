//! Numbers at known places as parts of one large number, which Python handles faster than many bytes.

use emberwort_model::model::ByteOrder;
use emberwort_model::plan::{Action, Place, Step};

use crate::lower::{FixedItemKind, Group, Section};

/// Whether the numbers at known places of a section are parts of one large number: several of them, in the order of the link.
pub(crate) fn is_one_number(group: &Group<'_>, section: &Section<'_>) -> bool {
    let known = &section.fixed;
    let steps = &section.plan.steps;
    let numbers = known.items.iter().filter_map(|item| match (&item.kind, &steps[item.step].action) {
        (FixedItemKind::Number(_), Action::Bits { width, order, .. }) => Some((*width, *order)),
        _ => None,
    });
    let (mut count, mut bytes) = (0, 0);
    for (width, order) in numbers {
        if order != group.order && width > 8 {
            return false;
        }
        count += 1;
        bytes += usize::from(width).div_ceil(8);
    }
    let is_own = |step: &Step| !matches!(step.action, Action::Bits { order, .. } if order != group.order);
    count > 1 && bytes > 2 && known.bytes <= 32 && steps[..section.plan.fixed_steps].iter().all(is_own)
}

/// How far a number is moved up in the large number that the known bytes of its section are.
pub fn shift(group: &Group<'_>, step: &Step, width: u8, bytes: usize) -> usize {
    let Place::Fixed(bit) = step.place else { return 0 };
    match group.order {
        ByteOrder::Little => bit as usize,
        ByteOrder::Big => bytes * 8 - bit as usize - usize::from(width),
    }
}
