//! Captures: reading and writing the files, and decoding what is in them.
//!
//! ```text
//! file ─► source ─► pieces ─► demux ─► chunks of streams ─► decoder (one receiver for each) ─► sink of items
//! chunks of streams ─► recorder ─► file
//! ```

pub mod amend;
pub mod anatomy;
pub mod assign;
pub mod checksum_slips;
pub mod decode;
pub mod demux;
pub mod exchanges;
pub mod hex_text;
pub mod items;
pub mod labels;
mod lane;
pub mod line_timing;
mod lines;
pub mod merge;
pub mod monitor;
pub mod network;
mod output;
mod packet_files;
pub mod packets;
pub mod packing;
pub mod pieces;
pub mod query;
pub mod recorder;
pub mod records;
pub mod revision_map;
pub mod source;
mod stamps;
pub mod stats;
pub mod stored_items;
pub mod summary;
pub mod traced;
pub mod writer;

pub use decode::Decoder;
pub use demux::{Demux, StreamSink};
pub use items::{BrokenFrame, Item, ItemSink, Row, StrayBytes, Wants};
pub use monitor::Monitor;
pub use pieces::{About, Comment, Damage, Interface, InterfaceKind, Outcome, Piece, PieceSink};
pub use query::{ContextWindow, Filter, Filtered, FirstRows, LastRows, Matching, Query, SelectedRows};
pub use recorder::{Recorder, lane_description};
pub use revision_map::{DefinitionId, RevisionMap};
pub use source::CaptureFormat;
pub use stats::{Gaps, Statistics};
pub use stored_items::StoredItems;
pub use writer::PcapngWriter;
