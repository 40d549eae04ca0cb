//! Questions about what a decoder finds: filters and collectors between it and whoever shows the items, the same ones for files, live ports and
//! trials.

pub mod changes;
pub mod conditions;
pub mod filter;
pub mod find;
pub mod like;
pub mod series;
pub mod tee;
pub mod variables;
pub mod walk;
pub mod window;

pub use conditions::Query;
pub use filter::{Filter, Filtered, FirstRows, Matching, SelectedRows};
pub use tee::Tee;
pub use window::{ContextWindow, LastRows};
