//! How results look: findings, tables, rows, times.

pub mod findings;
pub mod rows;
pub mod stats;
pub mod table;
pub mod time;
