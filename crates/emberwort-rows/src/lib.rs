//! Decoded rows as text: tables, trees, NDJSON, CSV and bytes. Nothing here knows how they were decoded, or where they are written.
//!
//! ```
//! use std::sync::Arc;
//!
//! use emberwort_capture::{Decoder, RevisionMap};
//! use emberwort_model::ids::ChannelId;
//! use emberwort_model::model::End;
//! use emberwort_rows::{RowForm, RowPrinter, RowStyle};
//! use emberwort_wire::{Chunk, ChunkSink, StreamId, Times};
//!
//! let source = emberwort_model::Source::new("lamp.ember", "
//!     link lamp { revision 1  byte_order little }
//!     channel wire {
//!         medium uart 9600 8N1
//!         frame {
//!             sync A5 5A
//!             kind : u8 message
//!             size : u8 length of body
//!             body
//!         }
//!     }
//!     message Brightness {
//!         id 1
//!         from device
//!         on wire
//!         level : 0 .. 100 % step 0.5
//!     }
//! ");
//! let plan = Arc::new(emberwort_model::check(&source).plan.unwrap());
//! let revisions = RevisionMap::of(plan);
//! let mut text = Vec::new();
//! let rows = RowPrinter::new(&revisions, &RowStyle::new(RowForm::Csv), &mut text, || false);
//! let mut decoder = Decoder::of(revisions, rows);
//! let stream = StreamId { channel: ChannelId::new(0), from: Some(End::Device), tap: 0 };
//! let bytes = &[0xA5, 0x5A, 0x01, 0x01, 0x51];
//! let _ = decoder.chunk(&Chunk { stream, times: Times::Unknown, key: None, bytes });
//! decoder.finish().unwrap();
//! assert!(String::from_utf8(text).unwrap().contains("Brightness"));
//! ```

mod cells;
mod columns;
mod csv;
mod form;
mod forms;
mod hex;
mod lines;
mod ndjson;
mod on_cores;
mod paint;
mod printer;
mod row_context;
mod table;
mod text_buffer;
pub mod time;
mod times;
mod tree;

pub use cells::has_unit;
pub use csv::cell as write_csv_cell;
pub use form::{RowForm, RowStyle, Stops};
pub use hex::{meaning, place};
pub use lines::wrapped;
pub use on_cores::RowsOnCores;
pub use paint::{Paint, painted};
pub use printer::RowPrinter;
pub use row_context::{RowContext, write_value};
pub use times::{ShownTimes, UnknownZone, Zone};
pub use tree::write_tree_fields;
