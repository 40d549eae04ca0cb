//! All tests of emberwort-codegen as one program, which is linked once.

#[path = "../../../../examples/plan_of_marlock.rs"]
mod plan_of_marlock;

mod bad_values;
mod by_hand;
mod c_compiles_and_agrees;
mod common;
mod damaged_frames;
mod hostile_names;
mod javascript;
mod lowered;
mod lowered_frames;
mod name_matrix;
mod payload_codec;
mod python;
mod random_channels;
mod random_definitions;
mod rust;
mod strict;
mod toolchains;
mod vectors;
