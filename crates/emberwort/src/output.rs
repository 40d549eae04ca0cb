//! Where output goes: standard output that ends quietly with its reader, standard error that nobody has to read, colour.

use std::fmt::Display;
use std::io::{self, BufWriter, IsTerminal, StdoutLock, Write};
use std::time::{Duration, Instant};

use clap::ValueEnum;
use emberwort_model::diagnostics::{escaped, is_unsafe_to_show};
use emberwort_rows::{Paint, painted};
use indicatif::{ProgressBar, ProgressStyle};

/// When colour is used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum ColorChoice {
    /// On a terminal, unless NO_COLOR is set or TERM is dumb
    #[default]
    Auto,
    /// Always
    Always,
    /// Never
    Never,
}

/// Whether standard output and standard error are coloured.
#[derive(Clone, Copy, Debug)]
pub struct Look {
    pub out: bool,
    pub err: bool,
}

impl Look {
    pub fn new(choice: ColorChoice) -> Self {
        let wanted = std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty())
            && std::env::var_os("TERM").is_none_or(|value| value != "dumb");
        match choice {
            ColorChoice::Always => Self { out: true, err: true },
            ColorChoice::Never => Self { out: false, err: false },
            ColorChoice::Auto => {
                Self { out: wanted && io::stdout().is_terminal(), err: wanted && io::stderr().is_terminal() }
            }
        }
    }

    /// Text for standard output.
    pub fn paint(self, paint: Paint, text: impl Display) -> String {
        painted(self.out, paint, text)
    }

    /// Text for standard error.
    pub fn paint_err(self, paint: Paint, text: impl Display) -> String {
        painted(self.err, paint, text)
    }
}

/// Standard output for text, for those who collect large blocks themselves.
pub fn stdout_at_once() -> Stdout {
    Stdout { out: io::stdout().lock(), text: true, kept: Vec::new() }
}

/// Standard output for text, in large blocks.
pub fn stdout() -> BufWriter<Stdout> {
    BufWriter::with_capacity(1 << 16, Stdout { out: io::stdout().lock(), text: true, kept: Vec::new() })
}

/// Standard output for bytes that are none of ours, which are written as they are.
pub fn stdout_for_bytes() -> BufWriter<Stdout> {
    BufWriter::with_capacity(1 << 16, Stdout { out: io::stdout().lock(), text: false, kept: Vec::new() })
}

/// Standard output. If it was closed from the beginning, writing fails. Text that could change how a terminal shows what stands
/// around it is escaped where it was made; what was forgotten there does not get past this.
pub struct Stdout {
    out: StdoutLock<'static>,
    text: bool,
    /// The beginning of a character or a colour that goes on in what is written next.
    kept: Vec<u8>,
}

impl Write for Stdout {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if emberwort_startup::stdout_was_closed() {
            return Err(io::Error::other("standard output is closed"));
        }
        if !self.text || (self.kept.is_empty() && is_plain(bytes)) {
            return self.out.write(bytes);
        }
        self.kept.extend_from_slice(bytes);
        let whole = whole_text(&self.kept);
        let text = harmless(&String::from_utf8_lossy(&self.kept[..whole]));
        self.kept.drain(..whole);
        self.out.write_all(text.as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.out.flush()
    }
}

/// Whether all bytes are characters that are shown as they are: ASCII without controls, but for line ends and tabs.
fn is_plain(bytes: &[u8]) -> bool {
    // Without an early end inside of a piece, and in bytes without branches, so that many are looked at together.
    let other =
        |byte: u8| u8::from(byte.wrapping_sub(b' ') > b'~' - b' ') & u8::from(byte != b'\n') & u8::from(byte != b'\t');
    bytes.chunks(256).all(|piece| piece.iter().fold(0, |others, byte| others | other(*byte)) == 0)
}

/// How many of these bytes end with a whole character and a whole colour.
fn whole_text(bytes: &[u8]) -> usize {
    let whole = match std::str::from_utf8(bytes) {
        Err(error) if error.error_len().is_none() => error.valid_up_to(),
        _ => bytes.len(),
    };
    match bytes[..whole].iter().rposition(|byte| *byte == b'\x1b') {
        Some(at) if whole - at < MAX_COLOUR && !bytes[at..whole].contains(&b'm') => at,
        _ => whole,
    }
}

/// No colour that is written here has more bytes.
const MAX_COLOUR: usize = 24;

/// Text in which nothing but line ends, tabs and colours (ECMA-48, SGR) does anything: the rest is escaped as JSON does it.
fn harmless(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    loop {
        // Almost all of it are characters that are shown as they are.
        let (plain, behind) = rest.split_at(plain_bytes(rest.as_bytes()));
        out.push_str(plain);
        rest = behind;
        let Some(c) = rest.chars().next() else { return out };
        let colour = rest.strip_prefix("\x1b[").and_then(|inner| {
            let digits = inner.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            inner[digits..].starts_with('m').then_some(digits + 3)
        });
        let size = colour.unwrap_or(c.len_utf8());
        match c {
            _ if colour.is_some() => out.push_str(&rest[..size]),
            c if is_unsafe_to_show(c) => {
                for unit in c.encode_utf16(&mut [0; 2]) {
                    out.push_str(&format!("\\u{unit:04x}"));
                }
            }
            c => out.push(c),
        }
        rest = &rest[size..];
    }
}

/// How many bytes at the start are characters that are shown as they are ([`is_plain`]).
fn plain_bytes(bytes: &[u8]) -> usize {
    let whole: usize = bytes.chunks(32).take_while(|piece| is_plain(piece)).map(<[u8]>::len).sum();
    whole + bytes[whole..].iter().take(32).take_while(|byte| is_plain(&[**byte])).count()
}

/// Columns of the terminal on standard output, if it is one.
pub fn terminal_width() -> Option<usize> {
    terminal_size::terminal_size_of(io::stdout()).map(|(width, _)| usize::from(width.0)).filter(|width| *width >= 40)
}

/// Whether an error only says that nobody reads the output any longer.
pub fn is_broken_pipe(error: &anyhow::Error) -> bool {
    error
        .chain()
        .filter_map(|cause| cause.downcast_ref::<io::Error>())
        .any(|cause| cause.kind() == io::ErrorKind::BrokenPipe)
}

/// Shows why something could not be done.
pub fn print_error(error: &anyhow::Error, look: Look) {
    let mut text = String::new();
    for (index, cause) in error.chain().enumerate() {
        if index > 0 {
            text.push_str(": ");
        }
        text.push_str(&cause.to_string());
    }
    // The message's own line breaks stay; anything else that could change the terminal does not.
    let shown: Vec<String> = text.split('\n').map(escaped).collect();
    say!("{} {}", look.paint_err(Paint::Bad, "error:"), shown.join("\n"));
}

/// Writes sentences to standard error, in lines that fit the terminal if it is one; one that is closed or full is nothing to fail of.
macro_rules! say {
    ($($what:tt)*) => {
        $crate::output::say_text(&($crate::output::fitted(&format!($($what)*)) + "\n"))
    };
}
pub(crate) use say;

/// Sentences in lines that fit the terminal that standard error is, if it is one.
pub fn fitted(text: &str) -> String {
    let width = terminal_size::terminal_size_of(io::stderr()).map(|(width, _)| usize::from(width.0));
    match width.filter(|width| *width >= 40) {
        Some(width) => textwrap::fill(text, textwrap::Options::new(width).subsequent_indent("  ").break_words(false)),
        None => text.to_owned(),
    }
}

/// Writes text that ends with its own line to standard error.
pub fn say_text(text: &str) {
    let _ = io::stderr().write_all(harmless(text).as_bytes());
}

/// How far long work has come, on standard error if that is a terminal.
pub struct Progress {
    bar: Option<ProgressBar>,
    began: Instant,
    all: u64,
}

impl Progress {
    /// Work that shows itself once it has taken a second.
    pub fn new(all: u64) -> Self {
        Self { bar: None, began: Instant::now(), all }
    }

    /// So much of it is done.
    pub fn at(&mut self, done: u64) {
        if self.bar.is_none() && self.began.elapsed() > Duration::from_secs(1) {
            let bar = ProgressBar::new(self.all);
            if let Ok(style) = ProgressStyle::with_template("{bar:40} {percent} %, {eta} left") {
                bar.set_style(style);
            }
            self.bar = Some(bar);
        }
        if let Some(bar) = &self.bar {
            bar.set_position(done);
        }
    }

    /// So much of all of it is done, which was not known before.
    pub fn at_of(&mut self, done: u64, all: u64) {
        self.all = all;
        if let Some(bar) = &self.bar {
            bar.set_length(all);
        }
        self.at(done);
    }

    /// It is done, and leaves nothing on the terminal.
    pub fn end(&mut self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn plain_text_is_as_long_as_it_is() {
        let text = "0123456789 abcdefghijklmnopqrstuvwxyz\n\tABCDEFGHIJKLMNOPQRSTUVWXYZ ~!".repeat(3);
        for at in 0..text.len() {
            let cut = format!("{}°{}", &text[..at], &text[at..]);
            assert_eq!(plain_bytes(cut.as_bytes()), at);
            assert_eq!(harmless(&cut), cut);
            let steering = format!("{}\u{7f}{}", &text[..at], &text[at..]);
            assert_eq!(harmless(&steering), format!("{}\\u007f{}", &text[..at], &text[at..]));
        }
        assert_eq!(plain_bytes(text.as_bytes()), text.len());
    }

    /// Colours stay; what else could steer a terminal is shown as what it is.
    #[test]
    fn what_steers_a_terminal_is_shown_and_does_nothing() {
        let shown = harmless("a\u{202e}b\u{1b}[1;31mc\u{1b}[0m\u{1b}[2J\td\u{e0041}\n");
        assert_eq!(shown, "a\\u202eb\u{1b}[1;31mc\u{1b}[0m\\u001b[2J\td\\udb40\\udc41\n");
    }
}
