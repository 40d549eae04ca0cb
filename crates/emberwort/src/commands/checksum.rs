//! `checksum`: computes checksums.

use std::fs::File;
use std::io::{self, Read, Write};
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_model::algorithm::Algorithm;
use emberwort_model::hex::parse_hex;
use emberwort_model::syntax::parse_algorithm;
use emberwort_model::{Source, Sources};
use emberwort_wire::checksum::Checksum;
use serde_json::json;

use super::Ending;
use crate::cli::{ChecksumArgs, TableForm};
use crate::output::{self, Look};
use crate::render::findings;

pub fn run(args: &ChecksumArgs, look: Look) -> anyhow::Result<Ending> {
    let mut out = output::stdout();
    if args.list {
        for name in Algorithm::names() {
            writeln!(out, "{name}")?;
        }
        out.flush()?;
        return Ok(Ending::Clean);
    }
    let text = args.algorithm.as_deref().unwrap_or_default();
    let (algorithm, name) = match parse_algorithm(text) {
        Ok(found) => found,
        Err(found) => {
            eprint!("{}", findings::render(&Sources::of(Source::new("ALGORITHM", text)), &found, look.err));
            bail!("the algorithm cannot be read");
        }
    };
    let checksum = Checksum::new(&algorithm);
    let mut state = checksum.start();
    let mut count = 0u64;
    let mut take = |bytes: &[u8]| {
        state = checksum.update(state, bytes);
        count += bytes.len() as u64;
    };
    match (&args.hex, &args.text, &args.file) {
        (Some(hex), _, _) => match parse_hex(hex) {
            Some(bytes) => take(&bytes),
            None => bail!("--hex wants pairs of hex digits, as in --hex '00 01 F2 03'"),
        },
        (_, Some(text), _) => take(text.as_bytes()),
        (_, _, Some(path)) => {
            let failed = || format!("{} cannot be read", path.display());
            let mut input: Box<dyn Read> = if path == Path::new("-") {
                Box::new(io::stdin().lock())
            } else {
                Box::new(File::open(path).with_context(failed)?)
            };
            let mut buffer = vec![0; 1 << 16];
            loop {
                match input.read(&mut buffer).with_context(failed)? {
                    0 => break,
                    n => take(&buffer[..n]),
                }
            }
        }
        _ => bail!("say what to sum: --hex '00 01', --text 123456789, or a file (`-` for standard input)"),
    }
    let digits = usize::from(algorithm.bits()).div_ceil(4);
    let value = format!("0x{:0digits$X}", checksum.finish(state));
    match args.form {
        TableForm::Table => writeln!(out, "{value}")?,
        TableForm::Ndjson => writeln!(out, "{}", json!({"algorithm": name, "bytes": count, "value": value}))?,
    }
    out.flush()?;
    Ok(Ending::Clean)
}
