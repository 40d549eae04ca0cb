//! All tests of emberwort-model as one program, which is linked once.

mod budget;
mod findings;
mod floats;
mod imports;
mod language;
mod misuse;
mod robust;
mod tidy;
mod views;
