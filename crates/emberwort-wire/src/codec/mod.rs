//! Values to body bytes and back, by the steps of a plan.

mod decode;
mod encode;
pub mod errors;
mod measure;

pub use decode::{PRESENCE, ValuePlace, check, decode, decode_answer, decode_places};
pub use encode::encode;
pub use errors::{BodyError, EncodeError};
pub use measure::Measure;

use emberwort_model::plan::MessagePlan;

use crate::line;
use crate::values::Values;

/// Whether a body is the one that a sender of a revision writes for its values. Another one holds more than its fields say: bytes of a later
/// revision, spare bits that are set, numbers with more bytes than they need. `again` is room to encode them in.
pub fn is_lossless(plan: &MessagePlan, body: &[u8], values: &Values, revision: u32, again: &mut Vec<u8>) -> bool {
    if plan.message.line.is_none() && plan.sections_of(revision).max(1) != values.sections() {
        return false;
    }
    if let Some(said) = blanks_are_zero(plan, body, values) {
        return said;
    }
    again.clear();
    let encoded = match plan.message.line {
        Some(_) => line::write(plan, values, again),
        None => encode(plan, values, revision, again),
    };
    encoded.is_ok() && again == body
}

/// The revision of the sender of a body, as far as that tells it: the greatest one, up to `own`, with which its values give this body, or the
/// least where fields of a later one are not there. `None` if the body holds more than its fields say ([`is_lossless`]).
pub fn sender_revision(plan: &MessagePlan, own: u32, body: &[u8], values: &Values, again: &mut Vec<u8>) -> Option<u32> {
    let held = values.sections().clamp(1, plan.sections.len());
    let least = plan.sections[held - 1].revision;
    let (usual, most) = match plan.sections.get(held) {
        None => (own, own),
        Some(next) => (least, next.revision - 1),
    };
    let others = plan.growth.iter().rev().copied().filter(|revision| (least..=most).contains(revision));
    [usual].into_iter().chain(others).chain([least]).find(|revision| is_lossless(plan, body, values, *revision, again))
}

/// What [`is_lossless`] says, where the bits that no field fills tell it without encoding: for most messages.
fn blanks_are_zero(plan: &MessagePlan, body: &[u8], values: &Values) -> Option<bool> {
    if values.later_bytes() > 0 || plan.message.line.is_some() || !plan.growth.is_empty() {
        return None;
    }
    let held = plan.sections.get(..values.sections())?;
    let fixed_bytes: usize = held.iter().filter(|section| section.fixed).map(|section| section.greatest_size).sum();
    // One section takes what the others leave.
    if held.iter().filter(|section| !section.fixed).count() > 1 {
        return None;
    }
    let mut at = 0;
    for section in held {
        for (byte, mask) in section.blank.as_ref()? {
            if body.get(at + *byte as usize)? & mask != 0 {
                return Some(false);
            }
        }
        at += if section.fixed { section.greatest_size } else { body.len().checked_sub(fixed_bytes)? };
    }
    Some(at == body.len())
}

/// How far a body reaches: how many sections it holds, and how many bytes come from a later revision.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Extent {
    /// Sections held.
    pub sections: usize,
    /// Bytes behind the last section that the plan knows, and in elements of lists behind the fields that it knows.
    pub later_bytes: usize,
}
