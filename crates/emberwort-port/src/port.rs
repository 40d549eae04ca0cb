//! A port: opened, read by a thread of its own, opened again when it vanishes.

use std::cell::Cell;
use std::io;
use std::net::TcpListener;
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::mpsc::{self, Receiver, RecvTimeoutError, SyncSender};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use emberwort_wire::Time;
use thiserror::Error;

use crate::address::Address;
use crate::clock::Clock;
use crate::line::{Line, LineRead, Source, Target};
use crate::list;
use crate::program::Program;
use crate::serial::SerialSettings;
use crate::{pipe, pty, serial, socket};

/// What happens at a port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Event {
    /// Bytes came: a packet, or as many as came at once.
    Bytes(Time, Vec<u8>),
    /// It is there: somebody connected, or a port that had vanished came back.
    Opened,
    /// It is gone, and why. It is waited for.
    Lost(String),
    /// It is gone for good: the other end has no more to say.
    Ended,
}

/// What came of waiting.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Received {
    /// Something happened at the port that was opened with this number.
    Event(usize, Event),
    /// Nothing did, in the time given.
    Nothing,
}

/// Where the events of one or more ports come together, in the order in which they happened.
#[derive(Debug)]
pub struct Events {
    clock: Clock,
    sender: SyncSender<(usize, Event)>,
    receiver: Receiver<(usize, Event)>,
    waiting: Waiting,
    /// Bytes that were given out last, and are perhaps not done with yet.
    given: Cell<usize>,
}

/// How much waits to be taken.
#[derive(Clone, Debug, Default)]
pub struct Waiting(Arc<Queue>);

#[derive(Debug, Default)]
struct Queue {
    bytes: AtomicUsize,
    /// Nobody takes anything any more.
    is_closed: AtomicBool,
}

impl Waiting {
    /// Bytes that were read from the ports and are not done with: those that wait, and those that were given out last.
    pub fn bytes(&self) -> usize {
        self.0.bytes.load(Ordering::Relaxed)
    }

    /// The same as a share of what may wait, from 0 to 1. At 1 ports are not read any further.
    pub fn share(&self) -> f64 {
        (self.bytes() as f64 / MAX_WAITING_BYTES as f64).min(1.0)
    }
}

impl Events {
    /// So far of no port.
    pub fn new(clock: Clock) -> Self {
        let (sender, receiver) = mpsc::sync_channel(MAX_WAITING);
        Self { clock, sender, receiver, waiting: Waiting::default(), given: Cell::new(0) }
    }

    /// How much waits, to be asked at any time, by any thread.
    pub fn waiting(&self) -> Waiting {
        self.waiting.clone()
    }

    /// The clock that all times come from.
    pub fn clock(&self) -> &Clock {
        &self.clock
    }

    /// Waits for what happens next: until a moment, or for ever. What was given out before is done with.
    pub fn receive(&self, until: Option<Time>) -> Received {
        let next = match until {
            Some(until) => self.receiver.recv_timeout(self.clock.until(until)),
            None => self.receiver.recv().map_err(RecvTimeoutError::from),
        };
        let given = match &next {
            Ok((_, Event::Bytes(_, bytes))) => bytes.len(),
            _ => 0,
        };
        self.waiting.0.bytes.fetch_sub(self.given.replace(given), Ordering::Relaxed);
        // Its own sender is there as long as it is.
        next.map_or(Received::Nothing, |(port, event)| Received::Event(port, event))
    }
}

impl Drop for Events {
    fn drop(&mut self) {
        self.waiting.0.is_closed.store(true, Ordering::Relaxed);
    }
}

/// Why a port cannot be opened.
#[derive(Debug, Error)]
#[error("{port} cannot be opened: {reason}")]
pub struct PortError {
    /// The port, as it was written.
    pub port: String,
    /// What is wrong, and a way out.
    pub reason: String,
}

/// So many events wait at most: when nobody takes them, ports are not read any further, so that a flood fills no memory.
const MAX_WAITING: usize = 1 << 16;

/// And so many bytes: few enough that they are looked at in less than a second when it ends.
const MAX_WAITING_BYTES: usize = 1 << 20;

/// At the end so many bytes are still read that have come by then.
const MAX_REST: usize = 1 << 19;

/// At the end so long is read what has come by then: a flood is cut there.
const RESTS_END_WITHIN: Duration = Duration::from_millis(100);

/// How often it is looked whether there is room again.
const FULL: Duration = Duration::from_millis(1);

/// How long a vanished port is left alone before it is tried again.
const AGAIN_AFTER: Duration = Duration::from_millis(200);

/// How often it is looked whether somebody is at the other side.
const LOOK_EVERY: Duration = Duration::from_millis(10);

/// The most bytes that are read at once; no packet is longer.
const ROOM: usize = 1 << 16;

type SharedWriter = Arc<Mutex<Option<Box<dyn Target>>>>;

/// When the first bytes came since sending last began, if any did.
///
/// A peer may answer before the thread that sends gets the processor again. What was answered had been sent, so the answer's time bounds the
/// time of sending. A moment is taken only while this is locked: the later of two moments then knows the earlier one.
type FirstAnswer = Arc<Mutex<Option<Time>>>;

/// An open port. Dropping it closes it.
pub struct Port {
    name: String,
    address: Address,
    clock: Clock,
    writer: SharedWriter,
    first_answer: FirstAnswer,
    wanted: Arc<AtomicBool>,
    program: Arc<Mutex<Option<Program>>>,
}

/// What a port does when the other side goes away.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenLost {
    /// It waits for it.
    Wait,
    /// It ends.
    End,
}

impl Port {
    /// Opens a port, whose events come with this number. Serial lines need their settings; the others have none. A connection is waited for
    /// as long as `is_wanted`, and 10 s at most.
    ///
    /// # Errors
    /// If there is no such port, somebody else has it, it may not be used, or it is not wanted any more.
    pub fn open(
        address: &Address,
        settings: Option<SerialSettings>,
        when_lost: WhenLost,
        (events, number): (&Events, usize),
        is_wanted: &dyn Fn() -> bool,
    ) -> Result<Self, PortError> {
        let failed = |error: io::Error| PortError { port: address.to_string(), reason: reason(address, &error) };
        let mut name = address.to_string();
        let first = match address {
            Address::Pty => {
                let (line, path) = pty::make().map_err(failed)?;
                name = path;
                Opening::Line(line)
            }
            Address::TcpAt(at) => Opening::Waiting(socket::listen(at).map_err(failed)?),
            _ => Opening::Line(open_again(address, settings, is_wanted).map_err(failed)?),
        };
        let clock = events.clock;
        let writer = SharedWriter::default();
        let first_answer = FirstAnswer::default();
        let wanted = Arc::new(AtomicBool::new(true));
        let program = Arc::default();
        let ends = when_lost == WhenLost::End || matches!(address, Address::Command(_) | Address::Standard);
        let serving = Serving {
            address: address.clone(),
            settings,
            ends,
            clock,
            sender: events.sender.clone(),
            waiting: events.waiting(),
            number,
            writer: writer.clone(),
            first_answer: first_answer.clone(),
            wanted: wanted.clone(),
            program: Arc::clone(&program),
        };
        let (reader, listener) = match first {
            Opening::Line(line) => (Some(serving.keep(line)), None),
            Opening::Waiting(listener) => (None, Some(listener)),
        };
        thread::spawn(move || serving.run(reader, listener));
        Ok(Self { name, address: address.clone(), clock, writer, first_answer, wanted, program })
    }

    /// Nothing more is wanted of it: it is read on as far as something has come already, then [`Event::Ended`] says that this was all.
    pub fn stop(&self) {
        self.wanted.store(false, Ordering::Relaxed);
    }

    /// If it is a program, it is told that it is over: its standard input ends. Nobody waits for it here.
    pub fn ask_to_end(&self) {
        self.stop();
        // Who reads its standard input knows by its end.
        *locked(&self.writer) = None;
        if let Some(program) = locked(&self.program).as_mut() {
            program.input_closed();
        }
    }

    /// What others call it: of a pseudo-terminal, the path of its far end.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Sends bytes; of a socket that keeps packets, one packet. Returns when they were handed over, which is never later than the time of what
    /// is answered to them.
    ///
    /// # Errors
    /// [`io::ErrorKind::NotConnected`] if nobody is at the other side, else what the system says.
    pub fn send(&mut self, bytes: &[u8]) -> io::Result<Time> {
        let mut writer = locked(&self.writer);
        let Some(writer) = writer.as_mut() else { return Err(io::ErrorKind::NotConnected.into()) };
        *locked(&self.first_answer) = None;
        writer.write_all(bytes)?;
        writer.flush()?;
        let first_answer = locked(&self.first_answer);
        let now = self.clock.now();
        Ok(first_answer.map_or(now, |answer| answer.min(now)))
    }
}

impl Port {
    /// Whether somebody is at the other side, as far as one can know: of a serial line nobody can.
    pub fn has_peer(&self) -> bool {
        let writer = locked(&self.writer);
        writer.as_ref().is_some_and(|writer| writer.has_peer())
    }
}

impl Port {
    /// How many packets the system has thrown away because nobody read them in time, as far as it says.
    pub fn dropped(&self) -> u64 {
        match &self.address {
            Address::UdpAt(_) => self.address.port_number().map_or(0, socket::dropped_at),
            _ => 0,
        }
    }

    /// Waits until somebody is at the other side, at most so long; whether somebody is. What comes meanwhile is kept.
    pub fn wait_for_peer(&self, longest: Duration) -> bool {
        let turns = longest.div_duration_f64(LOOK_EVERY).ceil() as u32;
        (0..turns).any(|_| {
            let is_there = self.has_peer();
            if !is_there {
                thread::sleep(LOOK_EVERY);
            }
            is_there
        })
    }
}

impl Drop for Port {
    fn drop(&mut self) {
        self.ask_to_end();
        let program = locked(&self.program).take();
        drop(program);
    }
}

/// What a lock guards, whatever became of others that had it.
fn locked<T>(lock: &Mutex<T>) -> MutexGuard<'_, T> {
    lock.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How a port begins.
enum Opening {
    Line(Line),
    Waiting(TcpListener),
}

/// Opens what can be opened again.
fn open_again(address: &Address, settings: Option<SerialSettings>, is_wanted: &dyn Fn() -> bool) -> io::Result<Line> {
    match address {
        Address::Serial(path) => {
            let settings = settings.ok_or_else(|| io::Error::other("nothing says its speed: give it with --baud"))?;
            serial::open(path, settings)
        }
        Address::TcpTo(to) => socket::connect(to, is_wanted),
        Address::UdpTo(to) => socket::udp_to(to),
        Address::UdpAt(at) => socket::udp_at(at),
        Address::Command(words) => pipe::start(words),
        Address::Standard => Ok(pipe::standard()),
        Address::Can(_) => Err(io::Error::other("CAN interfaces cannot be used yet by this build")),
        Address::Pty | Address::TcpAt(_) => Err(io::ErrorKind::Unsupported.into()),
    }
}

/// Why opening failed, for people.
fn reason(address: &Address, error: &io::Error) -> String {
    let Address::Serial(path) = address else { return error.to_string() };
    match error.kind() {
        // A port that somebody has is reported as one that is not there, too.
        io::ErrorKind::NotFound if !path.exists() => {
            format!("there is no {}; `emberwort ports` lists those that are there", path.display())
        }
        io::ErrorKind::PermissionDenied => match list::group_of(path) {
            Some(group) => format!("you may not use it; it belongs to the group {group}, which you can join"),
            None => "you may not use it".to_owned(),
        },
        _ if !is_terminal(path) => "it is not a serial port".to_owned(),
        // Which of them has it for itself, the system does not say.
        _ => match list::users_of(path).as_slice() {
            [] => error.to_string(),
            [user] => format!("{user} has it open"),
            [users @ .., last] => format!("{} and {last} have it open", users.join(", ")),
        },
    }
}

fn is_terminal(path: &Path) -> bool {
    use std::io::IsTerminal;
    use std::os::unix::fs::{FileTypeExt, OpenOptionsExt};
    let is_device = path.metadata().is_ok_and(|metadata| metadata.file_type().is_char_device());
    // A port that somebody has may not be opened at all; then its kind alone has a say.
    // Without waiting for a carrier.
    let flags = (nix::fcntl::OFlag::O_NONBLOCK | nix::fcntl::OFlag::O_NOCTTY).bits();
    let opened = std::fs::OpenOptions::new().read(true).custom_flags(flags).open(path);
    is_device && opened.map_or(true, |file| file.is_terminal())
}

/// What the reading thread has.
struct Serving {
    address: Address,
    settings: Option<SerialSettings>,
    /// Whether it is not waited for when it is gone.
    ends: bool,
    clock: Clock,
    sender: SyncSender<(usize, Event)>,
    waiting: Waiting,
    number: usize,
    writer: SharedWriter,
    first_answer: FirstAnswer,
    wanted: Arc<AtomicBool>,
    program: Arc<Mutex<Option<Program>>>,
}

impl Serving {
    /// Puts the half that writes where it is written to; gives the other back.
    fn keep(&self, line: Line) -> Box<dyn Source> {
        *locked(&self.writer) = Some(line.writer);
        *locked(&self.program) = line.program;
        line.reader
    }

    fn is_wanted(&self) -> bool {
        self.wanted.load(Ordering::Relaxed)
    }

    /// Hands on what came, as soon as there is room for it.
    fn tell_bytes(&self, time: Time, bytes: &[u8]) {
        let before = self.waiting.0.bytes.fetch_add(bytes.len(), Ordering::Relaxed);
        while before > MAX_WAITING_BYTES
            && self.waiting.bytes() > MAX_WAITING_BYTES
            && !self.waiting.0.is_closed.load(Ordering::Relaxed)
        {
            thread::sleep(FULL);
        }
        self.tell(Event::Bytes(time, bytes.to_vec()));
    }

    fn tell(&self, event: Event) {
        if self.sender.send((self.number, event)).is_err() {
            self.wanted.store(false, Ordering::Relaxed);
        }
    }

    fn run(self, mut reader: Option<Box<dyn Source>>, listener: Option<TcpListener>) {
        while self.is_wanted() {
            let Some(mut open) = reader.take().or_else(|| self.again(listener.as_ref())) else { break };
            let lost = self.read(open.as_mut());
            *locked(&self.writer) = None;
            if self.ends || !self.is_wanted() {
                break;
            }
            self.tell(Event::Lost(lost));
        }
        self.tell(Event::Ended);
    }

    /// Reads until the line is gone; says why it is.
    fn read(&self, reader: &mut dyn Source) -> String {
        let mut room = vec![0; ROOM];
        while self.is_wanted() {
            match reader.next(&mut room) {
                Ok(LineRead::Bytes(length)) => self.tell_bytes(self.time_of_bytes(), &room[..length]),
                Ok(LineRead::Nothing) => {}
                Ok(LineRead::Closed) => return "the other end closed it".to_owned(),
                Err(error) => return error.to_string(),
            }
        }
        self.read_rest(reader, &mut room);
        String::new()
    }

    /// Reads what had come when nothing more was wanted.
    fn read_rest(&self, reader: &mut dyn Source, room: &mut [u8]) {
        let (mut rest, began) = (0, Instant::now());
        while rest < MAX_REST
            && began.elapsed() < RESTS_END_WITHIN
            && let Ok(LineRead::Bytes(length)) = reader.next(room)
        {
            self.tell_bytes(self.time_of_bytes(), &room[..length]);
            rest += length.max(1);
        }
    }

    /// Now, as the time of bytes that came.
    fn time_of_bytes(&self) -> Time {
        let mut first_answer = locked(&self.first_answer);
        let now = self.clock.now();
        first_answer.get_or_insert(now);
        now
    }

    /// Waits until the port is there again.
    fn again(&self, listener: Option<&TcpListener>) -> Option<Box<dyn Source>> {
        while self.is_wanted() {
            let line = match listener {
                Some(listener) => socket::accept(listener),
                None => open_again(&self.address, self.settings, &|| self.is_wanted()),
            };
            match line {
                Ok(line) => {
                    let reader = self.keep(line);
                    self.tell(Event::Opened);
                    return Some(reader);
                }
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => thread::sleep(LOOK_EVERY),
                Err(_) => thread::sleep(AGAIN_AFTER),
            }
        }
        None
    }
}
