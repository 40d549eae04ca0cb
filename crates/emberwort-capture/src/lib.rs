//! Captures: reading and writing the files, and decoding what is in them.
//!
//! ```text
//! file ─► source ─► pieces ─► demux ─► chunks of streams ─► decoder (one receiver for each) ─► sink of items
//! chunks of streams ─► recorder ─► file
//! ```

pub mod amend;
pub mod anatomy;
pub mod asking;
pub mod assign;
pub mod checksum_slips;
pub mod decode;
pub mod demux;
pub mod exchanges;
pub mod hex_text;
pub mod items;
pub mod kept;
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
pub mod recorder;
pub mod records;
pub mod source;
pub mod speakers;
mod stamps;
pub mod stats;
pub mod summary;
pub mod traced;
pub mod writer;

pub use asking::{Around, Filter, Filtered, First, Last, Matching, Only, Query};
pub use decode::Decoder;
pub use demux::{Demux, StreamSink};
pub use items::{BrokenFrame, Item, ItemSink, Row, StrayBytes, Wants};
pub use kept::KeptItems;
pub use monitor::Monitor;
pub use pieces::{About, Comment, Damage, Interface, InterfaceKind, Outcome, Piece, PieceSink};
pub use recorder::{Recorder, lane_description};
pub use source::Form;
pub use speakers::Speakers;
pub use stats::{Gaps, Statistics};
pub use writer::PcapngWriter;
