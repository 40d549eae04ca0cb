//! All tests of emberwort-import as one program, which is linked once.

mod damaged;
mod whole;
