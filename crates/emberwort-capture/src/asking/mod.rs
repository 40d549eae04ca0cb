//! Questions about what a decoder finds: filters and collectors between it and whoever shows the items, the same ones for files, live ports and
//! trials.

pub mod changes;
pub mod filter;
pub mod find;
pub mod like;
pub mod query;
pub mod series;
pub mod tee;
pub mod variables;
pub mod walk;
pub mod window;

pub use filter::{Filter, Filtered, First, Matching, Only};
pub use query::Query;
pub use tee::Tee;
pub use window::{Around, Last};
