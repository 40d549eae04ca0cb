//! `checksum`: computes checksums, shows the working, and looks for what is wrong with one.

use std::fs::File;
use std::io::{self, Read, Write};
use std::ops::Range;
use std::path::Path;

use algorithms::algorithms;
use anyhow::{Context, bail};
use emberwort_checksum::code::{Language, function};
use emberwort_checksum::explain::explain;
use emberwort_checksum::verify::{MAX_SEARCHED, mistakes};
use emberwort_checksum::working::hex;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::number::Decimal;
use emberwort_wire::checksum::Checksum;
use serde_json::json;

use crate::cli::{BytesArgs, ChecksumArgs, ChecksumJob, CodeLanguage, TableForm};
use crate::ending::Ending;
use crate::output::{self, Look};
use crate::reading::inputs::given_hex;
use crate::render::table::table;
use crate::render::{plural, working, wrapped};

mod algorithms;
mod identify;
mod packet;
mod strength;

pub fn run(args: &ChecksumArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    match &args.job {
        Some(ChecksumJob::Packet(args)) => return packet::run(args),
        Some(ChecksumJob::Identify(args)) => return identify::run(args, link, look),
        Some(ChecksumJob::Strength(args)) => return strength::run(args, link, look),
        None => {}
    }
    let mut out = output::stdout();
    if args.list {
        for name in Algorithm::names() {
            writeln!(out, "{name}")?;
        }
        out.flush()?;
        return Ok(Ending::Clean);
    }
    let algorithms = algorithms(args.algorithm.as_deref().unwrap_or_default(), look)?;
    if let Some(language) = args.code {
        for (n, (algorithm, name)) in algorithms.iter().enumerate() {
            if n > 0 {
                writeln!(out)?;
            }
            // Of an algorithm that is given by its parameters, the first words.
            let words: Vec<&str> =
                name.split(|c: char| !c.is_ascii_alphanumeric()).filter(|word| !word.is_empty()).collect();
            let short = words[..words.len().min(8)].join(" ");
            out.write_all(function(algorithm, &short, language_of(language)).as_bytes())?;
        }
        out.flush()?;
        return Ok(Ending::Clean);
    }
    if let Some(value) = &args.verify {
        let [(algorithm, _)] = algorithms.as_slice() else { bail!("--verify compares with one algorithm") };
        return verify(args, algorithm, value);
    }
    if args.explain {
        let (bytes, range) = ranged(&args.bytes)?;
        for (n, (algorithm, name)) in algorithms.iter().enumerate() {
            if algorithms.len() > 1 {
                writeln!(out, "{}{name}", if n > 0 { "\n" } else { "" })?;
            }
            out.write_all(
                working::render(&explain(algorithm, &bytes[range.clone()], args.bits), args.form).as_bytes(),
            )?;
        }
        out.flush()?;
        return Ok(Ending::Clean);
    }
    let checksums: Vec<Checksum> = algorithms.iter().map(|(algorithm, _)| Checksum::new(algorithm)).collect();
    let mut states: Vec<_> = checksums.iter().map(Checksum::start).collect();
    let mut count = 0u64;
    let mut take = |bytes: &[u8]| {
        for (checksum, state) in checksums.iter().zip(&mut states) {
            *state = checksum.update(*state, bytes);
        }
        count += bytes.len() as u64;
    };
    match &args.bytes.file {
        // Of a file that is summed whole nothing needs to be kept.
        Some(path) if args.bytes.from == 0 && args.bytes.to.is_none() => stream(path, take)?,
        _ => {
            let (bytes, range) = ranged(&args.bytes)?;
            take(&bytes[range]);
        }
    }
    let values = checksums.iter().zip(states).map(|(checksum, state)| checksum.finish(state));
    let mut rows = table(&["algorithm", "value"], &[false, false]);
    for ((algorithm, name), value) in algorithms.iter().zip(values) {
        let value = hex(value, algorithm.bits());
        match args.form {
            TableForm::Table if algorithms.len() == 1 => writeln!(out, "{value}")?,
            TableForm::Table => rows.add_row([name.clone(), value]),
            TableForm::Ndjson => writeln!(out, "{}", json!({"algorithm": name, "bytes": count, "value": value}))?,
        }
    }
    if args.form == TableForm::Table && algorithms.len() > 1 {
        write!(out, "{}", rows.lines())?;
    }
    out.flush()?;
    Ok(Ending::Clean)
}

fn language_of(language: CodeLanguage) -> Language {
    match language {
        CodeLanguage::C => Language::C,
        CodeLanguage::Rust => Language::Rust,
        CodeLanguage::Python => Language::Python,
        CodeLanguage::Javascript => Language::JavaScript,
        CodeLanguage::Java => Language::Java,
        CodeLanguage::Go => Language::Go,
    }
}

/// Hands a file to `take` piece by piece.
fn stream(path: &Path, mut take: impl FnMut(&[u8])) -> anyhow::Result<()> {
    let failed = || format!("{} cannot be read", crate::files::shown(path));
    let mut input: Box<dyn Read> = if path == Path::new("-") {
        Box::new(io::stdin().lock())
    } else {
        Box::new(File::open(path).with_context(failed)?)
    };
    let mut buffer = vec![0; 1 << 16];
    loop {
        match input.read(&mut buffer).with_context(failed)? {
            0 => return Ok(()),
            n => take(&buffer[..n]),
        }
    }
}

/// All bytes given, and which of them are meant.
fn ranged(args: &BytesArgs) -> anyhow::Result<(Vec<u8>, Range<usize>)> {
    let mut bytes = Vec::new();
    match (&args.hex, &args.text, &args.file) {
        (Some(hex), _, _) => bytes = given_hex(hex)?,
        (_, Some(text), _) => bytes.extend_from_slice(text.as_bytes()),
        (_, _, Some(path)) => stream(path, |piece| bytes.extend_from_slice(piece))?,
        _ => bail!("say what to sum: --hex '00 01', --text 123456789, or a file (`-` for standard input)"),
    }
    let length = bytes.len() as i64;
    let place = |n: i64| if n < 0 { length + n } else { n };
    let (from, to) = (place(args.from), args.to.map_or(length, place));
    if from < 0 || to > length || from > to {
        bail!("{from} to {to} is out of range: there are {}", plural(bytes.len(), "byte"));
    }
    Ok((bytes, from as usize..to as usize))
}

fn verify(args: &ChecksumArgs, algorithm: &Algorithm, value: &str) -> anyhow::Result<Ending> {
    let mut out = output::stdout();
    let bits = algorithm.bits();
    let found = Decimal::parse(value)
        .and_then(|value| value.as_integer())
        .and_then(|value| u64::try_from(value).ok())
        .filter(|value| *value <= u64::MAX >> (64 - bits));
    let Some(found) = found else {
        bail!(
            "--verify needs a number of {bits} bits, as in --verify {}",
            hex(0x1D0F & (u64::MAX >> (64 - bits)), bits)
        );
    };
    let (bytes, range) = ranged(&args.bytes)?;
    let computed = Checksum::new(algorithm).compute(&bytes[range.clone()]);
    let agrees = computed == found;
    let length = range.len();
    let mistakes = if agrees { Default::default() } else { mistakes(algorithm, &bytes, range, found) };
    if args.form == TableForm::Ndjson {
        let row = json!({
            "computed": hex(computed, bits), "found": hex(found, bits), "agrees": agrees,
            "fits": mistakes.fitting, "tried": mistakes.tried, "by_chance": mistakes.by_chance,
        });
        writeln!(out, "{row}")?;
    } else if agrees {
        writeln!(out, "{} agrees", hex(found, bits))?;
    } else {
        writeln!(out, "computed {}, found {}", hex(computed, bits), hex(found, bits))?;
        for clause in &mistakes.fitting {
            writeln!(out, "{}", wrapped(&format!("  {} fits {clause}", hex(found, bits))))?;
        }
        if length > MAX_SEARCHED {
            writeln!(out, "  one wrong bit was not looked for, since these are more than {MAX_SEARCHED} bytes")?;
        }
        let tried = plural(mistakes.tried, "variation");
        if mistakes.fitting.is_empty() {
            writeln!(out, "{}", wrapped(&format!("  none of the {tried} that were tried fits: are these the bytes?")))?;
        } else if mistakes.by_chance >= 0.01 {
            let chance = format!(
                "  {tried} were tried, of which ≈{:.2} fit by chance: compare with a second frame",
                mistakes.by_chance
            );
            writeln!(out, "{}", wrapped(&chance))?;
        }
    }
    out.flush()?;
    Ok(if agrees { Ending::Clean } else { Ending::WithFindings })
}
