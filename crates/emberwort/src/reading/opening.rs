//! Inputs: their names, and how they are opened.

use std::fs::File;
use std::io::{self, Read};
use std::path::Path;

use anyhow::bail;
use emberwort_port::Follow;

/// An input as it is shown.
pub fn input_name(path: &Path) -> String {
    if path == Path::new("-") { "standard input".to_owned() } else { crate::files::shown(path) }
}

/// Opens an input, `-` as standard input; one that follows a file waits at its end for what is still written.
pub fn open(path: &Path, follows: bool) -> anyhow::Result<Box<dyn Read>> {
    if path == Path::new("-") {
        return Ok(Box::new(io::stdin().lock()));
    }
    if std::fs::metadata(path)?.is_dir() {
        bail!("it is a folder");
    }
    Ok(match follows {
        true => Box::new(Follow::open(path, || !crate::interrupt::came())?),
        false => Box::new(File::open(path)?),
    })
}
