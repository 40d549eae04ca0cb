//! Where output goes: standard output that ends quietly with its reader, standard error that nobody has to read, colour.

use std::fmt::Display;
use std::io::{self, BufWriter, IsTerminal, StdoutLock, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use clap::ValueEnum;
use emberwort_model::diagnostics::escaped;
use indicatif::{ProgressBar, ProgressStyle};

/// When colour is used.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum ColorChoice {
    /// On a terminal, unless NO_COLOR is set
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

/// What a stretch of text is; told by words as well as by colour.
#[derive(Clone, Copy, Debug)]
pub enum Paint {
    Bold,
    Good,
    Bad,
    Dim,
}

impl Look {
    pub fn new(choice: ColorChoice) -> Self {
        let wanted = std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty());
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

fn painted(coloured: bool, paint: Paint, text: impl Display) -> String {
    let code = match paint {
        Paint::Bold => "1",
        Paint::Good => "32",
        Paint::Bad => "1;31",
        Paint::Dim => "2",
    };
    if coloured { format!("\x1b[{code}m{text}\x1b[0m") } else { text.to_string() }
}

/// Standard output in large blocks.
pub fn stdout() -> BufWriter<Stdout> {
    BufWriter::with_capacity(1 << 16, Stdout(io::stdout().lock()))
}

/// Standard output. If it was closed from the beginning, writing fails.
pub struct Stdout(StdoutLock<'static>);

impl Write for Stdout {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if emberwort_startup::stdout_was_closed() {
            return Err(io::Error::other("standard output is closed"));
        }
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
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

/// Writes to standard error; one that is closed or full is nothing to fail of.
macro_rules! say {
    ($($what:tt)*) => {{
        use std::io::Write as _;
        let _ = writeln!(std::io::stderr(), $($what)*);
    }};
}
pub(crate) use say;

/// Writes text that ends with its own line to standard error.
pub fn say_text(text: &str) {
    let _ = io::stderr().write_all(text.as_bytes());
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

    /// It is done, and leaves nothing on the terminal.
    pub fn end(&mut self) {
        if let Some(bar) = &self.bar {
            bar.finish_and_clear();
        }
    }
}

static INTERRUPTED: AtomicBool = AtomicBool::new(false);

/// From now on Ctrl-C (and SIGTERM) does not kill the program but is told by [`interrupted`]; a second one ends it at once.
pub fn catch_interrupt() {
    // A handler that is there already, or cannot be set, leaves Ctrl-C as it is.
    let _ = ctrlc::set_handler(|| {
        if INTERRUPTED.swap(true, Ordering::SeqCst) {
            std::process::exit(2);
        }
    });
}

/// Whether Ctrl-C was pressed.
pub fn interrupted() -> bool {
    INTERRUPTED.load(Ordering::Relaxed)
}
