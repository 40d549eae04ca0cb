//! Captures: reading and writing the files, and decoding what is in them.
//!
//! ```text
//! file ─► source ─► pieces ─► demux ─► chunks of streams ─► decoder (one receiver for each) ─► sink of items
//! chunks of streams ─► recorder ─► file
//! ```
//!
//! The good frames of a file are counted, without its rows being kept:
//!
//! ```
//! use std::ops::ControlFlow;
//! use std::sync::Arc;
//!
//! use emberwort_capture::{CaptureFormat, Decoder, Item, ItemSink};
//! use emberwort_model::ids::ChannelId;
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
//!         from device every 1 s
//!         on wire
//!         level : 0 .. 100 % step 0.5
//!     }
//! ");
//! let plan = Arc::new(emberwort_model::check(&source).plan.unwrap());
//! let file = b"A5 5A 01 01 51  A5 5A 01 01 52  FF";
//!
//! struct Nothing;
//! impl ItemSink for Nothing {
//!     type Error = std::convert::Infallible;
//!
//!     fn item(&mut self, _: Item<'_>) -> Result<ControlFlow<()>, Self::Error> {
//!         Ok(ControlFlow::Continue(()))
//!     }
//! }
//! let mut pieces = Decoder::new(plan, Nothing).demuxed().on(Some(ChannelId::new(0)));
//! emberwort_capture::source::read(CaptureFormat::Hex, &file[..], &mut pieces).unwrap();
//! let (_, statistics) = pieces.into_sink().finish().unwrap();
//! assert_eq!((statistics.good_frames(), statistics.stray), (2, 1));
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
