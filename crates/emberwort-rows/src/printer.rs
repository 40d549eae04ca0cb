//! Writing rows as they come.

use std::io::{self, Write};
use std::ops::ControlFlow;

use emberwort_capture::{Item, ItemSink, RevisionMap};

use crate::form::{Form, RowStyle, Stops, write_item};
use crate::forms::form_of;
use crate::text_buffer::TextBuffer;

/// As many bytes are written at once.
const AT_ONCE: usize = 1 << 16;

/// Writes rows as they come.
pub struct RowPrinter<W> {
    form: Box<dyn Form>,
    lines: TextBuffer,
    out: W,
    stops: Stops,
}

impl<W: Write> RowPrinter<W> {
    /// Writes rows to `out` until `stops` says that it is to end.
    pub fn new(revisions: &RevisionMap, style: &RowStyle, out: W, stops: Stops) -> Self {
        Self { form: form_of(revisions, style), lines: TextBuffer::default(), out, stops }
    }

    fn write_out(&mut self) -> io::Result<()> {
        let written = self.out.write_all(self.lines.as_bytes());
        self.lines.clear();
        written
    }
}

impl<W: Write> ItemSink for RowPrinter<W> {
    type Error = io::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.form.update_revisions(revisions);
    }

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        write_item(&mut *self.form, item, &mut self.lines);
        if self.lines.len() >= AT_ONCE {
            self.write_out()?;
        }
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        (self.stops)()
    }

    fn pause(&mut self) -> io::Result<()> {
        self.write_out()?;
        self.out.flush()
    }
}
