//! What is wrong with a trial file.

use thiserror::Error;

use super::place;
use crate::Nanoseconds;
use crate::file_words::duration;

/// Why a trial file cannot be used.
#[derive(Debug, Error)]
pub enum ScenarioError {
    /// It is not TOML, or has unknown or missing keys.
    #[error(transparent)]
    Form(#[from] Box<toml::de::Error>),
    /// Something in it does not fit the link. The first part says where.
    #[error("{at}: {problem}")]
    Content {
        /// Where in the file, as a path of keys.
        at: String,
        /// What is wrong, and a way out.
        problem: String,
    },
}

impl ScenarioError {
    /// Where in the file's text it is: byte offsets. What is no TOML says so itself.
    pub fn place(&self, text: &str) -> Option<std::ops::Range<usize>> {
        match self {
            Self::Form(_) => None,
            Self::Content { at, .. } => place::of(text, at),
        }
    }
}

pub(super) fn content<T>(at: impl Into<String>, problem: impl Into<String>) -> Result<T, ScenarioError> {
    Err(ScenarioError::Content { at: at.into(), problem: problem.into() })
}

pub(super) fn time(at: &str, text: &str) -> Result<Nanoseconds, ScenarioError> {
    duration(text).or_else(|problem| content(at, problem))
}

pub(super) fn chance(at: &str, value: f64) -> Result<f64, ScenarioError> {
    if (0.0..=1.0).contains(&value) {
        Ok(value)
    } else {
        content(at, format!("{value} is not a probability: write a number from 0 to 1"))
    }
}
