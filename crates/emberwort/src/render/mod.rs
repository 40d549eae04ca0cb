//! How results look: findings, tables, rows, times.

pub mod figure;
pub mod findings;
pub mod picture;
pub mod rows;
pub mod stats;
pub mod table;
pub mod time;

/// `1 error`, `2 errors`.
pub fn plural(count: impl std::fmt::Display, what: &str) -> String {
    let count = count.to_string();
    if count == "1" { format!("1 {what}") } else { format!("{count} {what}s") }
}
