//! Programs that are started, and ended with all that they started.

use std::io;
use std::os::unix::process::CommandExt as _;
use std::process::{Child, ChildStderr, ChildStdin, ChildStdout, Command, ExitStatus};
use std::sync::{Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;

/// How long a program may take to end by itself when nothing more can be read at its standard input.
const UNTIL_ASKED: Duration = Duration::from_millis(150);

/// How long a program that was asked to end may take before it is killed.
const UNTIL_KILLED: Duration = Duration::from_millis(200);

/// How often it is looked whether it has ended.
const LOOK_EVERY: Duration = Duration::from_millis(5);

/// The groups of all programs that run.
static GROUPS: Mutex<Vec<Pid>> = Mutex::new(Vec::new());

fn groups() -> MutexGuard<'static, Vec<Pid>> {
    GROUPS.lock().unwrap_or_else(PoisonError::into_inner)
}

/// A program that runs, in a process group of its own. Dropping it ends it, with all that it started: it is asked first (SIGTERM), and killed
/// if it does not end within 0.2 s. One whose standard input was closed before (`input_closed`) has 0.15 s to end by itself.
#[derive(Debug)]
pub struct Program {
    child: Child,
    group: Pid,
    closed: Option<Instant>,
    asked: Option<Instant>,
}

impl Program {
    /// Starts a program.
    ///
    /// # Errors
    /// If it cannot be started.
    pub fn start(command: &mut Command) -> io::Result<Self> {
        let child = command.process_group(0).spawn()?;
        let group = Pid::from_raw(i32::try_from(child.id()).map_err(io::Error::other)?);
        groups().push(group);
        Ok(Self { child, group, closed: None, asked: None })
    }

    /// What it reads, if it was asked for and not taken before.
    pub(crate) fn take_input(&mut self) -> Option<ChildStdin> {
        self.child.stdin.take()
    }

    /// What it prints, if it was asked for and not taken before.
    pub fn take_output(&mut self) -> Option<ChildStdout> {
        self.child.stdout.take()
    }

    /// What it prints to standard error, if it was asked for and not taken before.
    pub fn take_errors(&mut self) -> Option<ChildStderr> {
        self.child.stderr.take()
    }

    /// Whether it has ended by itself.
    pub fn has_ended(&mut self) -> bool {
        !matches!(self.child.try_wait(), Ok(None))
    }

    /// Waits until it has ended by itself, as long as `goes_on`; how it ended, or `None`.
    ///
    /// # Errors
    /// If the system does not know.
    pub fn wait_while(&mut self, goes_on: impl Fn() -> bool) -> io::Result<Option<ExitStatus>> {
        loop {
            if let Some(status) = self.child.try_wait()? {
                return Ok(Some(status));
            }
            if !goes_on() {
                return Ok(None);
            }
            thread::sleep(LOOK_EVERY);
        }
    }

    /// Its standard input was closed just now: who reads that knows that it is over.
    pub(crate) fn input_closed(&mut self) {
        self.closed.get_or_insert_with(Instant::now);
    }

    /// Asks it to end, and does not wait for that.
    pub fn ask(&mut self) {
        if self.asked.is_none() {
            self.asked = Some(Instant::now());
            let _ = killpg(self.group, Signal::SIGTERM);
        }
    }

    fn wait_until(&mut self, moment: Instant) {
        while !self.has_ended() && Instant::now() < moment {
            thread::sleep(LOOK_EVERY);
        }
    }

    /// Ends it, and all that it started.
    pub fn end(&mut self) {
        if let Some(closed) = self.closed {
            self.wait_until(closed + UNTIL_ASKED);
        }
        self.ask();
        let asked = self.asked.unwrap_or_else(Instant::now);
        self.wait_until(asked + UNTIL_KILLED);
        // Also what it started and left behind.
        let _ = killpg(self.group, Signal::SIGKILL);
        let _ = self.child.wait();
        groups().retain(|group| *group != self.group);
    }
}

impl Drop for Program {
    fn drop(&mut self) {
        self.end();
    }
}

/// Ends several programs, all at once.
pub fn end_all(programs: impl IntoIterator<Item = Program>) {
    let mut programs: Vec<Program> = programs.into_iter().collect();
    programs.iter_mut().for_each(Program::ask);
    drop(programs);
}

/// Ends all programs that were started here and still run: for who has to end at once. They have a tenth of a second.
pub fn end_all_at_once() {
    let groups = groups().clone();
    for group in &groups {
        let _ = killpg(*group, Signal::SIGTERM);
    }
    let until = Instant::now() + Duration::from_millis(100);
    let is_there = |group: &Pid| killpg(*group, None).is_ok();
    while groups.iter().any(is_there) && Instant::now() < until {
        thread::sleep(LOOK_EVERY);
    }
    for group in &groups {
        let _ = killpg(*group, Signal::SIGKILL);
    }
}
