//! What a document is made of.

/// Something that stands in the document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Block {
    /// A heading, and what links to it say.
    Heading {
        /// 1 is the title.
        level: u8,
        /// What it says.
        text: String,
        /// The name that links have; unique in the document.
        anchor: String,
    },
    /// A paragraph.
    Text(String),
    /// A table.
    Table {
        /// The titles of the columns.
        head: Vec<&'static str>,
        /// The cells of each row.
        rows: Vec<Vec<String>>,
        /// Columns of code and bytes, by number.
        code: Vec<usize>,
    },
    /// Where the fields of a message lie.
    Picture {
        /// The name of its file, where it is one of its own.
        file: String,
        /// The drawing.
        svg: String,
        /// What it shows.
        about: String,
    },
    /// Lines of code.
    Code(String),
}
