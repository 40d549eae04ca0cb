//! Decoded rows as tables, one for each message: columns for its fields, files by message and day.
//!
//! ```text
//! rows ─► columns of their message ─► a table for each message and day ─► Parquet or CSV in a folder
//! ```

pub mod columns;
pub mod csv_table;
pub mod folder;
#[cfg(feature = "parquet")]
pub mod parquet_table;

pub use columns::{Cell, Column, ColumnKind};
pub use folder::{DatasetError, Folder, TableForm};
