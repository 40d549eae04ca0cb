//! What to read and to write, decided once for all languages: which bits of which bytes make a number, which bytes a section has at known
//! places, and which bits go into each of them. A generator prints it.

mod bits;
mod known;

pub use bits::{Piece, pieces};
pub use known::{Byte, Item, Known, What};
