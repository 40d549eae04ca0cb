//! How a link changes from revision to revision: what was released, and stays as it is.

mod fold;
mod history;

pub use fold::{folded, same_content};
pub use history::{History, Problem, Sealed, digest_file, digest_line, file_name, sealed_text};
