//! What to read and to write, decided once for all languages; a generator prints it.
//!
//! - Bodies: [`sections`] is a tree of operations, the same one for both directions; [`FixedLayout`] is what lies at known places behind one test of the
//!   length, and which bits go into each of those bytes; [`Valid`] which numbers a sender may send.
//! - Frames: [`frame`] is what is looked at, in which order, what checksums cover, and how a receiver finds a frame.
//! - Names: [`clashes`] finds those that become the same in a language, by its [`Rules`].
//!
//! The tree of a message of the example as [`text()`] shows it; `bits 2[2..0] 1[7..3]` are three bits of byte 2 in front of five of byte 1:
//!
//! ```text
#![doc = include_str!("gate_status.txt")]
//! ```

mod actions;
mod bits;
mod body;
mod clashes;
mod field_content;
mod fixed_layout;
pub mod frame;
mod group;
mod scale;
mod valid;

pub use actions::{
    depends_on_request, each_action, each_action_of, has_ascii, has_record, is_ascii, labelled, records,
};
pub use bits::{Piece, pieces};
pub use body::{Op, Section, sections, text};
pub use clashes::{Rules, clashes};
pub use field_content::{FieldContent, Floats};
pub use fixed_layout::{Byte, FixedItem, FixedItemKind, FixedLayout};
pub use group::Group;
pub use scale::conversions;
pub use valid::Valid;
