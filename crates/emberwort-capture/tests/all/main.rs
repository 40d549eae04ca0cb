//! All tests of emberwort-capture as one program, which is linked once.

mod channels;
mod damaged_sources;
mod files;
mod hex_texts;
mod packing;
mod recorder;
mod revisions;
