//! What is shown of a computation: sentences, tables and lines that must stay as they are.

/// One computation, from the top to the bottom.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Working {
    /// Its parts in the order in which they are read.
    pub parts: Vec<Part>,
}

/// A part of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Part {
    /// A sentence.
    Text(String),
    /// Columns with titles.
    Table {
        /// The titles.
        titles: Vec<&'static str>,
        /// A cell for each title.
        rows: Vec<Vec<String>>,
    },
    /// Lines whose columns matter, as those of a long division.
    Lines(Vec<String>),
}

impl Working {
    pub(crate) fn text(&mut self, text: impl Into<String>) {
        self.parts.push(Part::Text(text.into()));
    }

    pub(crate) fn table(&mut self, titles: &[&'static str], rows: Vec<Vec<String>>) {
        self.parts.push(Part::Table { titles: titles.to_vec(), rows });
    }
}

/// So many binary digits of a number, in groups of four from the right.
pub fn binary(value: u64, bits: u8) -> String {
    let mut out = String::new();
    for bit in (0..bits).rev() {
        out.push(if value >> bit & 1 == 1 { '1' } else { '0' });
        if bit > 0 && bit % 4 == 0 {
            out.push(' ');
        }
    }
    out
}

/// A number in hex with the digits of so many bits.
pub fn hex(value: u64, bits: u8) -> String {
    format!("0x{value:0digits$X}", digits = usize::from(bits).div_ceil(4))
}
