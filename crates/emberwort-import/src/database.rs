//! What a CAN database says.

/// A CAN database.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Database {
    /// Names of the nodes of the bus.
    pub nodes: Vec<String>,
    /// The messages, in the order of the file.
    pub messages: Vec<Message>,
    /// What is said of the whole.
    pub comment: Option<String>,
    /// Bits a second, if an attribute says it.
    pub bitrate: Option<u64>,
    /// What was read and means nothing here, or could not be read.
    pub skipped: Vec<Skipped>,
    /// Whether the file was UTF-8.
    pub is_utf8: bool,
}

/// Something in the file that is not in the database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Skipped {
    /// Its line, from 1.
    pub line: usize,
    /// What it is.
    pub item: String,
    /// Why it is left out.
    pub reason: String,
    /// Whether the bytes of a frame mean less without it.
    pub is_about_bytes: bool,
}

/// A message: a frame with an identifier.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Message {
    /// Its line, from 1.
    pub line: usize,
    /// Its name.
    pub name: String,
    /// Its identifier.
    pub id: u32,
    /// Whether that has 29 bits.
    pub is_extended: bool,
    /// Bytes of its frame.
    pub size: usize,
    /// Who sends it.
    pub senders: Vec<String>,
    /// What it carries.
    pub signals: Vec<Signal>,
    /// What is said of it.
    pub comment: Option<String>,
    /// It is sent every so many milliseconds.
    pub cycle: Option<f64>,
}

/// A signal: a number at a place of a frame.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Signal {
    /// Its line, from 1.
    pub line: usize,
    /// Its name.
    pub name: String,
    /// Whether it says which of the others are there.
    pub is_multiplexor: bool,
    /// It is there if a multiplexor has one of these values.
    pub multiplexed: Option<Multiplexed>,
    /// Its least significant bit if it is little-endian, its most significant one if it is big-endian; bit 0 is the least significant one of
    /// byte 0.
    pub start: usize,
    /// Its bits.
    pub bits: usize,
    /// Whether it is big-endian.
    pub is_big_endian: bool,
    /// What its bits are.
    pub form: SignalForm,
    /// What the raw number is multiplied with, without an exponent.
    pub factor: String,
    /// What is added then, without an exponent.
    pub offset: String,
    /// The least and the greatest physical value, as they are written, if they say something.
    pub range: Option<(String, String)>,
    /// Its unit.
    pub unit: String,
    /// Who receives it.
    pub receivers: Vec<String>,
    /// What its values mean.
    pub texts: Vec<(i64, String)>,
    /// What is said of it.
    pub comment: Option<String>,
}

/// What the bits of a signal are.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum SignalForm {
    /// A number without a sign.
    #[default]
    Unsigned,
    /// A number in two's complement.
    Signed,
    /// IEEE 754.
    Float,
}

/// When a signal is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Multiplexed {
    /// The multiplexor; empty for the only one that is always there.
    pub by: String,
    /// Its values, each from one to another.
    pub values: Vec<(u64, u64)>,
}
