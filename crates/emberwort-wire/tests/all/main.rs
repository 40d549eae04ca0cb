//! All tests of emberwort-wire as one program, which is linked once.

mod codec_properties;
mod crc_oracle;
mod every_construct;
mod frame_properties;
mod lines;
mod receivers;
mod timed;
mod worked_by_hand;
