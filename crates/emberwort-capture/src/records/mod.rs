//! Text in which each line is a record that somebody describes: lines of any log, rows of a table, objects of NDJSON.

mod cells;
mod json;
mod pattern;
mod table;

use std::io::{self, Read};
use std::ops::ControlFlow;

pub use cells::{BytesForm, CellKind, Cells, Forms, TimeForm};
pub use json::Pointers;
pub use pattern::{Pattern, can_log};
pub use table::Columns;

use crate::lines::each_line;
use crate::pieces::{Outcome, PieceSink, serial_interface};

/// How records stand in a text.
#[derive(Clone, Debug)]
pub enum Shape {
    /// Lines that a pattern describes.
    Lines(Pattern),
    /// A table with a heading, or without one.
    Table(Columns),
    /// A JSON object in each line.
    Json(Pointers),
}

/// Lines that hold no record.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Skipped {
    /// How many.
    pub lines: u64,
    /// The first of them, by its number from 1, and why it is none.
    pub first: Option<(u64, String)>,
}

/// Reads records to the end of a text, or until the sink has enough. Lines that hold none are counted.
///
/// # Errors
/// Those of the reader.
pub fn read(shape: &Shape, forms: Forms, input: impl Read, sink: &mut dyn PieceSink) -> io::Result<(Outcome, Skipped)> {
    sink.section();
    sink.interface(serial_interface());
    let mut cells = Cells::new(forms);
    let mut table = None;
    let mut skipped = Skipped::default();
    let mut number = 0;
    let mut pending = String::new();
    let outcome = each_line(input, sink, |sink, line| {
        number += 1;
        if line.trim().is_empty() && pending.is_empty() {
            return Ok(ControlFlow::Continue(()));
        }
        cells.clear();
        let found = match shape {
            Shape::Lines(pattern) => pattern.find(line, &mut cells),
            Shape::Json(pointers) => pointers.find(line, &mut cells),
            Shape::Table(columns) => {
                // A cell in quotes may hold ends of lines.
                pending.push_str(line);
                if pending.matches('"').count() % 2 == 1 {
                    pending.push('\n');
                    return match pending.len() > crate::lines::MAX_LINE {
                        true => Err("a quoted cell is not closed".to_owned()),
                        false => Ok(ControlFlow::Continue(())),
                    };
                }
                let row = std::mem::take(&mut pending);
                match &table {
                    None => {
                        let (known, is_heading) = columns.of_first_row(&row)?;
                        let known = table.insert(known);
                        if is_heading {
                            return Ok(ControlFlow::Continue(()));
                        }
                        known.find(&row, &mut cells)
                    }
                    Some(known) => known.find(&row, &mut cells),
                }
            }
        };
        match found.and_then(|()| cells.record()) {
            Ok(record) => Ok(sink.record(&record)),
            Err(why) => {
                skipped.lines += 1;
                skipped.first.get_or_insert((number, why));
                Ok(ControlFlow::Continue(()))
            }
        }
    })?;
    if !pending.is_empty() {
        skipped.lines += 1;
        skipped.first.get_or_insert((number, "a quoted cell is not closed".to_owned()));
    }
    Ok((outcome, skipped))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pieces::{Interface, Piece};

    #[derive(Default)]
    struct Count(u64);

    impl PieceSink for Count {
        fn section(&mut self) {}

        fn interface(&mut self, _: Interface) {}

        fn piece(&mut self, _: Piece<'_>) -> ControlFlow<()> {
            self.0 += 1;
            ControlFlow::Continue(())
        }
    }

    #[test]
    fn lines_without_a_record_are_counted_to_the_end() {
        let shape = Shape::Table(Columns::parse("bytes=Data").unwrap());
        let read = |text: &str| {
            let mut count = Count::default();
            let (outcome, skipped) = read(&shape, Forms::default(), text.as_bytes(), &mut count).unwrap();
            assert_eq!((outcome.bytes, outcome.damage), (text.len() as u64, None));
            (count.0, skipped.lines, skipped.first.map(|(line, _)| line))
        };
        assert_eq!(read("Data,What\n01 02,a\n03,b\n"), (2, 0, None));
        assert_eq!(read("Data,What\n01 02,a\nno,b\n\n04,c\n05 6,d\n"), (2, 2, Some(3)));
        // A quoted cell over two lines, and one that the file ends in.
        assert_eq!(read("Data,What\n01,\"a\nb\"\n02,\"c\n03,d\n"), (1, 1, Some(5)));
    }
}
