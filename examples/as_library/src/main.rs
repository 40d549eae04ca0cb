//! Prints the rows of a recording as CSV: `lamp-log LINK.ember RECORDING`.

use std::error::Error;
use std::fs::File;
use std::io::{BufReader, Read, stdout};
use std::path::Path;
use std::sync::Arc;

use emberwort_capture::source::{detect, read, read_first};
use emberwort_capture::{Decoder, RevisionMap};
use emberwort_model::{Source, check_with};
use emberwort_rows::{RowForm, RowPrinter, RowStyle};

fn main() -> Result<(), Box<dyn Error>> {
    let mut arguments = std::env::args().skip(1);
    let (Some(link), Some(recording)) = (arguments.next(), arguments.next()) else {
        return Err("which link, and which recording?".into());
    };

    // The definition with the files that it imports, which lie beside it, checked and compiled to a plan.
    let read_text = |path: &Path| std::fs::read_to_string(path).map_err(|error| error.to_string());
    let checked = check_with(Source::new(&link, read_text(Path::new(&link))?), &mut |importing, imported| {
        let path = Path::new(importing).with_file_name(imported);
        Ok(Source::new(path.to_string_lossy(), read_text(&path)?))
    });
    let Some(plan) = checked.plan else {
        return Err(format!("{link} has {} findings", checked.findings.len()).into());
    };

    // Pieces of the file go to a demultiplexer, chunks of streams to a decoder, rows to a printer.
    let revisions = RevisionMap::of(Arc::new(plan));
    let rows = RowPrinter::new(&revisions, &RowStyle::new(RowForm::Csv), stdout().lock(), || false);
    let mut demux = Decoder::of(revisions, rows).demuxed();
    let mut file = BufReader::new(File::open(&recording)?);
    let first = read_first(&mut file)?;
    let outcome = read(detect(&first), first.chain(file), &mut demux)?;

    let (_, statistics) = demux.into_sink().finish()?;
    eprintln!("{} good frames", statistics.good_frames());
    outcome.damage.map_or(Ok(()), |damage| Err(format!("{recording} is damaged: {damage:?}").into()))
}
