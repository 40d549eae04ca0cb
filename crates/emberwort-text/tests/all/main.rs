//! All tests of emberwort-text as one program, which is linked once.

mod nested_frames;
mod values_as_text;
