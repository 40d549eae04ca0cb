//! Values of a link as text: as people write and read them, as JSON, in rows; and values chosen for trying a message.
//!
//! ```text
//! what a user gives ─► text, json ─► filling ─► values (emberwort-wire)
//! values ─► show, json
//! ```
//!
//! Nothing here prints, opens files or knows the time.

pub mod filling;
pub mod formula;
pub mod json;
mod moment;
pub mod nested_frame;
pub mod row;
pub mod samples;
pub mod show;
pub mod text;

pub use filling::{Filling, Problem, forms, holds};
pub use row::RowHeader;
pub use show::{write_raw_value, write_value};
pub use text::{GivenValue, fill, raw_of};
