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

/// Whether a body is the one that its values are encoded as. Another one holds more than its fields say: bytes of a later
/// revision, spare bits that are set, numbers with more bytes than they need. `again` is room to encode them in.
pub fn says_all(plan: &MessagePlan, body: &[u8], values: &Values, again: &mut Vec<u8>) -> bool {
    if let Some(said) = blanks_are_zero(plan, body, values) {
        return said;
    }
    again.clear();
    let revision = plan.sections[values.sections().clamp(1, plan.sections.len()) - 1].revision;
    let encoded = match plan.message.line {
        Some(_) => line::write(plan, values, again),
        None => encode(plan, values, revision, again),
    };
    encoded.is_ok() && again == body
}

/// What [`says_all`] says, where the bits that no field fills tell it without encoding: for most messages.
fn blanks_are_zero(plan: &MessagePlan, body: &[u8], values: &Values) -> Option<bool> {
    if values.later_bytes() > 0 || plan.message.line.is_some() {
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
