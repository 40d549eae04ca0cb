//! What to read and to write, decided once for all languages: which bits of which bytes make a number, which bytes a section has at known
//! places, and which bits go into each of them; which numbers a
//! sender may send; what is looked at in a frame, and how a receiver finds one. A generator prints it.

mod actions;
mod bits;
mod clashes;
pub mod frame;
mod group;
mod known;
mod scale;
mod valid;

pub use actions::{each_action, each_action_of, labelled, records};
pub use bits::{Piece, pieces};
pub use clashes::{Rules, clashes};
pub use group::Group;
pub use known::{Byte, Item, Known, What};
pub use scale::conversions;
pub use valid::Valid;
