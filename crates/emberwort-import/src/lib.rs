//! Databases that others describe their buses with, as Emberwort definitions.
//!
//! ```text
//! bytes ─► text ─► tokens ─► database ─► definition, what was renamed, what was left out
//! ```
//!
//! The form that is read is the CAN database (`.dbc`) that the vehicle trade exchanges.

pub mod database;
pub mod decimal;
pub mod definition;
pub mod encoding;
pub mod names;
mod parser;
mod placing;
mod tokens;

pub use database::Database;
pub use definition::{Imported, Options, definition};
pub use parser::read;
