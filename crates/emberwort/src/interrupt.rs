//! Ctrl-C and SIGTERM: told to commands that end by themselves, and the end of the program if they do not within a moment.

use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError, mpsc};
use std::thread;
use std::time::Duration;

/// The exit code of a command that was interrupted before it was done: 128 and the number of SIGINT, as shells have it.
pub const EXIT_CODE: u8 = 130;

/// How long a command may take to end by itself: whoever asks for it waits for a second at most.
const GRACE: Duration = Duration::from_millis(500);

/// How long what is left behind may take to be put in order.
const TIDYING: Duration = Duration::from_millis(250);

static CAME: AtomicBool = AtomicBool::new(false);

/// Whether the command that runs looks at [`came`].
static IS_HEARD: AtomicBool = AtomicBool::new(false);

/// Whether a signal is how the command that runs usually ends.
static IS_END: AtomicBool = AtomicBool::new(false);

static NEXT: AtomicU64 = AtomicU64::new(0);

type LastAction = Box<dyn FnOnce() + Send>;

/// What is done last, by number.
static LAST: Mutex<Vec<(u64, LastAction)>> = Mutex::new(Vec::new());

fn last() -> MutexGuard<'static, Vec<(u64, LastAction)>> {
    LAST.lock().unwrap_or_else(PoisonError::into_inner)
}

/// From now on an interrupted program leaves nothing behind that it began ([`at_the_end`]).
pub fn watch() {
    // A handler that is there already, or cannot be set, leaves the signals as they are.
    let _ = ctrlc::set_handler(|| {
        if CAME.swap(true, Ordering::SeqCst) || !IS_HEARD.load(Ordering::SeqCst) {
            give_up();
        }
        thread::spawn(|| {
            thread::sleep(GRACE);
            give_up();
        });
    });
}

/// From now on the first signal does not end the program but is told by [`came`]. If the command does not end by itself within a moment, or
/// at a second signal, it is given up.
pub fn catch() {
    IS_HEARD.store(true, Ordering::SeqCst);
}

/// The same for a command that goes on until it is interrupted, and is done then.
pub fn catch_as_end() {
    IS_END.store(true, Ordering::SeqCst);
    catch();
}

/// Whether the user has interrupted a command that was not done then.
pub fn cut_short() -> bool {
    came() && !IS_END.load(Ordering::SeqCst)
}

/// Whether the user has interrupted.
pub fn came() -> bool {
    CAME.load(Ordering::Relaxed)
}

/// Something that is done when the program is given up, and not when this is dropped before.
#[must_use]
pub struct AtTheEnd(u64);

/// Does something when the program is given up, as putting a terminal in order. It runs beside what the program does at that moment.
pub fn at_the_end(act: impl FnOnce() + Send + 'static) -> AtTheEnd {
    let number = NEXT.fetch_add(1, Ordering::Relaxed);
    last().push((number, Box::new(act)));
    AtTheEnd(number)
}

impl Drop for AtTheEnd {
    fn drop(&mut self) {
        last().retain(|(number, _)| *number != self.0);
    }
}

/// Ends the program at once, whatever it waits for.
fn give_up() -> ! {
    // Whoever should read what is said may not read.
    let (done, is_done) = mpsc::channel();
    thread::spawn(move || {
        emberwort_port::program::end_all_at_once();
        for (_, act) in last().drain(..).rev() {
            act();
        }
        let _ = done.send(());
    });
    let _ = is_done.recv_timeout(TIDYING);
    std::process::exit(EXIT_CODE.into())
}
