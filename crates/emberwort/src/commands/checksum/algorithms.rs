//! Checksums by the names that a user gives.

use anyhow::bail;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::syntax::parse_algorithm;
use emberwort_model::{Source, Sources};

use crate::output::{self, Look};
use crate::render::findings;

/// The algorithms named, with their names.
pub fn algorithms(text: &str, look: Look) -> anyhow::Result<Vec<(Algorithm, String)>> {
    let one = |text: &str| match parse_algorithm(text) {
        // As written, so that those that are spelled out can be told apart.
        Ok((algorithm, _)) => Ok((algorithm, text.to_owned())),
        Err(found) => {
            output::say_text(&findings::render(&Sources::of(Source::new("ALGORITHM", text)), &found, look.err));
            bail!("the algorithm cannot be read");
        }
    };
    text.split(',').map(|text| one(text.trim())).collect()
}
