//! Decoded rows as a table, a tree, NDJSON or CSV. Nothing here knows how they were decoded.

mod cells;
mod columns;
mod csv;
mod form;
mod forms;
mod hex;
mod ndjson;
mod on_cores;
mod printer;
mod row_context;
mod table;
mod text_buffer;
mod times;
mod tree;

pub use cells::has_unit;
pub use csv::cell as write_csv_cell;
pub use form::RowStyle;
pub use hex::{meaning, place};
pub use on_cores::RowsOnCores;
pub use printer::RowPrinter;
pub use row_context::{RowContext, write_value};
pub use times::{ShownTimes, set_zone};
pub use tree::write_tree_fields;
