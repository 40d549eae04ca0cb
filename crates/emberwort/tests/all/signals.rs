//! No state in which a signal does not end a command within a second, and nothing that goes on without it.

use std::fs::{self, File};
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::{Duration, Instant};

use crate::common::{self, emberwort, free_port, project_with_recording};

/// How long a command may take to end.
const WITHIN: Duration = Duration::from_secs(1);

/// A command that ends when it is interrupted is done then.
const DONE: i32 = 0;
/// Another one was cut short.
const CUT_SHORT: i32 = 130;

/// Where a command gets its input from, and where its output goes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Pipes {
    /// Standard input says nothing; what is printed is read.
    Silent,
    /// Nobody reads what is printed.
    Unread,
    /// Nobody reads what is said either.
    NothingRead,
}

/// A command in a state in which it stays; a space inside of a word is written as one that does not break.
struct State {
    name: &'static str,
    words: Vec<String>,
    pipes: Pipes,
    code: i32,
}

fn state(name: &'static str, words: &str, pipes: Pipes, code: i32) -> State {
    State { name, words: words.split(' ').map(|word| word.replace('\u{a0}', " ")).collect(), pipes, code }
}

/// A port of this machine that never answers somebody who connects: as many wait there as may.
struct Full {
    _listener: std::os::fd::OwnedFd,
    _waiting: Vec<std::thread::JoinHandle<()>>,
    port: u16,
}

fn full() -> Full {
    use nix::sys::socket::{AddressFamily, Backlog, SockFlag, SockType, SockaddrIn, bind, getsockname, listen, socket};
    let listener = socket(AddressFamily::Inet, SockType::Stream, SockFlag::SOCK_CLOEXEC, None).unwrap();
    let at = std::os::fd::AsRawFd::as_raw_fd(&listener);
    bind(at, &SockaddrIn::new(127, 0, 0, 1, 0)).unwrap();
    listen(&listener, Backlog::new(0).unwrap()).unwrap();
    let port = getsockname::<SockaddrIn>(at).unwrap().port();
    let connect =
        move |_| std::thread::spawn(move || drop(TcpStream::connect(("127.0.0.1", port)).map(std::mem::forget)));
    let waiting = (0..4).map(connect).collect();
    std::thread::sleep(Duration::from_millis(300));
    Full { _listener: listener, _waiting: waiting, port }
}

/// Sends bytes to whoever connects, or packets, as fast as it goes.
struct Flood {
    tcp: u16,
    udp: u16,
    ends: std::sync::Arc<AtomicBool>,
}

impl Flood {
    fn new(frames: &[u8]) -> Self {
        let ends = std::sync::Arc::new(AtomicBool::new(false));
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let tcp = listener.local_addr().unwrap().port();
        let udp = free_port();
        let (block, packet) = (frames.repeat(1000), frames.to_vec());
        let is_over = ends.clone();
        std::thread::spawn(move || {
            for stream in listener.incoming().map_while(Result::ok) {
                let (mut stream, block, is_over) = (stream, block.clone(), is_over.clone());
                std::thread::spawn(
                    move || while !is_over.load(Ordering::Relaxed) && stream.write_all(&block).is_ok() {},
                );
            }
        });
        let is_over = ends.clone();
        std::thread::spawn(move || {
            let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
            while !is_over.load(Ordering::Relaxed) {
                let _ = socket.send_to(&packet, ("127.0.0.1", udp));
                std::thread::sleep(Duration::from_micros(50));
            }
        });
        Self { tcp, udp, ends }
    }
}

impl Drop for Flood {
    fn drop(&mut self) {
        self.ends.store(true, Ordering::Relaxed);
    }
}

/// Processes that were started in the environment with this mark.
fn marked(mark: &str) -> Vec<String> {
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
        let environment = fs::read(entry.path().join("environ")).unwrap_or_default();
        if environment.split(|byte| *byte == 0).any(|entry| entry == mark.as_bytes()) {
            let command = fs::read_to_string(entry.path().join("cmdline")).unwrap_or_default();
            found.push(command.replace('\0', " "));
        }
    }
    found
}

fn start(folder: &Path, state: &State, mark: &str) -> Child {
    let words: Vec<&str> = state.words.iter().map(String::as_str).collect();
    let (name, value) = mark.split_once('=').unwrap();
    let mut command = emberwort(folder, &words);
    command.env(name, value).stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    command.spawn().unwrap()
}

/// Puts a command into its state, sends the signal, and says what was wrong with how it ended.
fn ended(folder: &Path, state: &State, signal: &str, patience: u32) -> Result<(), String> {
    static NUMBER: AtomicU64 = AtomicU64::new(0);
    for file in
        ["connects.pcapng", "waits.pcapng", "flood.pcapng", "copy.pcapng", "amended.pcapng", "plot.svg", "rows.csv"]
    {
        let _ = fs::remove_file(folder.join(file));
    }
    let _ = fs::remove_dir_all(folder.join("demo"));
    let number = NUMBER.fetch_add(1, Ordering::Relaxed);
    let mark = format!("EMBERWORT_TEST_MARK={}-{number}", std::process::id());
    let mut child = start(folder, state, &mark);
    let _input = child.stdin.take();
    let (out, err) = (child.stdout.take().unwrap(), child.stderr.take().unwrap());
    let read = |mut from: Box<dyn std::io::Read + Send>| {
        std::thread::spawn(move || {
            let mut all = Vec::new();
            let _ = from.read_to_end(&mut all);
            String::from_utf8_lossy(&all).into_owned()
        })
    };
    let mut unread: Vec<Box<dyn std::io::Read>> = Vec::new();
    let mut said = None;
    match state.pipes {
        Pipes::Silent => {
            read(Box::new(out));
            said = Some(read(Box::new(err)));
        }
        Pipes::Unread => {
            unread.push(Box::new(out));
            said = Some(read(Box::new(err)));
        }
        Pipes::NothingRead => {
            unread.push(Box::new(out));
            unread.push(Box::new(err));
        }
    }
    std::thread::sleep(patience * Duration::from_millis(600));
    if let Some(status) = child.try_wait().unwrap() {
        let said = said.map(|said| said.join().unwrap()).unwrap_or_default();
        return Err(format!("ended by itself with {status}: {said}"));
    }
    let began = Instant::now();
    assert!(Command::new("kill").args([signal, &child.id().to_string()]).status().unwrap().success());
    let status = loop {
        match child.try_wait().unwrap() {
            Some(status) => break status,
            None if began.elapsed() > 4 * WITHIN => {
                child.kill().unwrap();
                child.wait().unwrap();
                return Err("did not end".to_owned());
            }
            None => std::thread::sleep(Duration::from_millis(5)),
        }
    };
    let took = began.elapsed();
    let left = marked(&mark);
    let said = said.map(|said| said.join().unwrap()).unwrap_or_default();
    if took > WITHIN {
        return Err(format!("took {took:?}: {said}"));
    }
    if !left.is_empty() {
        return Err(format!("left {left:?} behind"));
    }
    if status.code() != Some(state.code) {
        return Err(format!("ended with {status}, not {}: {said}", state.code));
    }
    Ok(())
}

/// All commands that can be kept in a state, in each of their states.
fn states(full: &Full, flood: &Flood) -> Vec<State> {
    use Pipes::{NothingRead, Silent, Unread};
    let connect = format!("tcp://127.0.0.1:{}", full.port);
    let come = || format!("tcp://127.0.0.1:{}", free_port_that_listens());
    let (bytes, packets) = (format!("tcp://127.0.0.1:{}", flood.tcp), format!("udp://:{}", flood.udp));
    let trial = "trials/moving-gate.toml";
    let mut all = Vec::new();
    // Connecting to somebody who does not answer.
    all.extend([
        state("listen connects", &format!("listen {connect} --on bus485"), Silent, CUT_SHORT),
        state("record connects", &format!("record {connect} --on bus485 --out connects.pcapng"), Silent, CUT_SHORT),
        state(
            "send connects",
            &format!("send {connect} MoveGate target=1 speed=2 --node 3 --on bus485"),
            Silent,
            CUT_SHORT,
        ),
        state("host connects", &format!("host {trial} --port {connect}"), Silent, CUT_SHORT),
        state("device connects", &format!("device {trial} --port {connect}"), Silent, CUT_SHORT),
        state("watch connects", &format!("watch {connect} --on bus485 --frames 1000"), Silent, CUT_SHORT),
    ]);
    // Waiting for somebody, or for what he says.
    for port in ["pty".to_owned(), "tcp://:PORT".to_owned()] {
        let here = || port.replace("PORT", &free_port().to_string());
        all.extend([
            state("listen waits", &format!("listen {} --on bus485", here()), Silent, DONE),
            state(
                "send waits",
                &format!("send {} MoveGate target=1 speed=2 --node 3 --on bus485", here()),
                Silent,
                CUT_SHORT,
            ),
            state("host waits", &format!("host {trial} --port {}", here()), Silent, CUT_SHORT),
            state("device waits", &format!("device {trial} --port {}", here()), Silent, DONE),
            state("watch waits", &format!("watch {} --on bus485 --frames 1000", here()), Silent, DONE),
        ]);
    }
    all.extend([
        state("record waits", "record --between pty pty --on bus485 --out waits.pcapng", Silent, DONE),
        state("listen hears nothing", &format!("listen {} --on bus485", come()), Silent, DONE),
        state(
            "send is not answered",
            &format!("send {} MoveGate target=1 speed=2 --node 3 --within 60s --on bus485", come()),
            Silent,
            CUT_SHORT,
        ),
        state(
            "send repeats",
            &format!("send {} MoveGate target=1 speed=2 --node 3 --every 100ms --no-answer --on bus485", come()),
            Silent,
            CUT_SHORT,
        ),
        state("listen to a program", "listen command:sleep\u{a0}40 --on bus485", Silent, DONE),
        state("device on standard input", &format!("device {trial} --port -"), Silent, DONE),
    ]);
    // More than can be shown, and nobody who reads it.
    for pipes in [Silent, Unread, NothingRead] {
        let code = if pipes == Silent { DONE } else { CUT_SHORT };
        all.push(state("listen to a flood", &format!("listen {bytes} --on bus485 --as ndjson"), pipes, code));
        all.push(state("listen to packets", &format!("listen {packets} --on house --as ndjson"), pipes, code));
    }
    all.extend([
        state("record a flood", &format!("record {bytes} --on bus485 --out flood.pcapng"), Silent, DONE),
        state("watch a flood", &format!("watch {bytes} --on bus485 --frames 1000"), Silent, DONE),
        state("device in a flood", &format!("device {trial} --port {bytes} --as ndjson"), Unread, CUT_SHORT),
        state("host in a flood", &format!("host {trial} --port {bytes} --as ndjson"), Unread, CUT_SHORT),
    ]);
    // Input that does not come, from a pipe and from a file that is none.
    for input in ["-", "silent.fifo"] {
        all.extend([
            state("decode reads", &format!("decode {input} --on bus485"), Silent, CUT_SHORT),
            state("decode hex", &format!("decode {input} --form hex --on bus485"), Silent, CUT_SHORT),
            state("stats reads", &format!("stats {input} --on bus485"), Silent, CUT_SHORT),
            state("find reads", &format!("find 1 {input} --on bus485"), Silent, CUT_SHORT),
            state(
                "plot reads",
                &format!("plot {input} --field GateStatus.oil --out plot.svg --on bus485"),
                Silent,
                CUT_SHORT,
            ),
            state("survey reads", &format!("survey {input}"), Silent, CUT_SHORT),
            state("identify reads", &format!("checksum identify {input}"), Silent, CUT_SHORT),
            state("packet reads", &format!("checksum packet {input}"), Silent, CUT_SHORT),
            state("encode reads", &format!("encode --values {input}"), Silent, CUT_SHORT),
        ]);
    }
    all.extend([state(
        "amend reads",
        "amend silent.fifo --out copy.pcapng --message GateStatus --set oil=100",
        Silent,
        CUT_SHORT,
    )]);
    // Long work.
    let long: Vec<String> = vec!["stormy-night.pcapng".into(); 300];
    let long = long.join(" ");
    all.extend([
        state("decode into a pipe", &format!("decode {long}"), Unread, CUT_SHORT),
        state("decode on one core", &format!("decode --threads 1 --as ndjson {long}"), Unread, CUT_SHORT),
        state("decode, nobody reads anything", &format!("decode {long}"), NothingRead, CUT_SHORT),
        state("decode into a file", &format!("decode {long} --as csv --out rows.csv"), Silent, CUT_SHORT),
        state("decode follows", "decode stormy-night.pcapng --follow", Silent, DONE),
        state("stats follows", "stats stormy-night.pcapng --follow", Silent, DONE),
        state(
            "amend works",
            "amend large.pcapng --out amended.pcapng --message GateStatus --set oil=100",
            Silent,
            CUT_SHORT,
        ),
        state(
            "a sweep",
            "trial trials/stormy-night.toml --sweep bit_errors=1e-6..1e-2 --seeds 10000",
            Silent,
            CUT_SHORT,
        ),
        state("mutated frames", "trial trials/stormy-night.toml --hostile 60s", Silent, CUT_SHORT),
        state("a long trial", "trial long.toml", Silent, CUT_SHORT),
        state("a trial with programs", "trial programs.toml", Silent, CUT_SHORT),
        state("the demo", "demo demo", Silent, CUT_SHORT),
        state(
            "a program for each message",
            "listen command:cat\u{a0}frames.bin --on bus485 --on-message GateStatus --run sleep 40",
            Silent,
            DONE,
        ),
    ]);
    all
}

/// A port at which somebody listens, accepts, and says nothing.
fn free_port_that_listens() -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        let all: Vec<_> = listener.incoming().collect();
        drop(all);
    });
    port
}

/// What the commands of the table read.
fn prepare(folder: &Path) -> Vec<u8> {
    let words = "encode GateStatus state=open opening=50 upstream=1 oil=100 pump_temp=20 faults=[] latch_force=1 --on bus485 --node 3 --as bytes";
    let frames = emberwort(folder, &words.split(' ').collect::<Vec<_>>()).output().unwrap().stdout;
    assert!(frames.len() > 10);
    fs::write(folder.join("frames.bin"), frames.repeat(3)).unwrap();
    assert!(Command::new("mkfifo").arg(folder.join("silent.fifo")).status().unwrap().success());
    let capture = fs::read(folder.join("stormy-night.pcapng")).unwrap();
    let mut large = File::create(folder.join("large.pcapng")).unwrap();
    for _ in 0..400 {
        large.write_all(&capture).unwrap();
    }
    let trial = fs::read_to_string(folder.join("trials/moving-gate.toml")).unwrap();
    let long = trial.lines().map(|line| if line.starts_with("span") { "span = \"3 h\"" } else { line });
    fs::write(folder.join("long.toml"), long.collect::<Vec<_>>().join("\n")).unwrap();
    fs::write(
        folder.join("programs.toml"),
        "channel = \"bus485\"\nspan = \"60 s\"\n[[device]]\nnode = 1\n[device.program]\ncommand = [\"sh\", \"-c\", \"sleep 40 & trap '' TERM; sleep 41\"]\n",
    )
    .unwrap();
    frames
}

fn all_end(signal: &str) {
    let folder = project_with_recording();
    let folder = folder.path();
    let frames = prepare(folder);
    let (full, flood) = (full(), Flood::new(&frames));
    let mut wrong = Vec::new();
    for state in states(&full, &flood) {
        // Again, with more time to get into its state, if the machine was busy with something else.
        let first = ended(folder, &state, signal, 1);
        let result = first.or_else(|_| ended(folder, &state, signal, 3)).or_else(|_| ended(folder, &state, signal, 6));
        if let Err(what) = result {
            wrong.push(format!(
                "{}: {what}\n    emberwort {}",
                state.name,
                state.words.iter().take(12).cloned().collect::<Vec<_>>().join(" ")
            ));
        }
        let left: Vec<_> = fs::read_dir(folder).unwrap().flatten().map(|entry| entry.file_name()).collect();
        let temporary = left.iter().find(|name| name.to_string_lossy().starts_with(".emberwort-"));
        if let Some(name) = temporary {
            wrong.push(format!("{} left {name:?}", state.name));
            let _ = fs::remove_file(folder.join(name));
        }
    }
    assert!(wrong.is_empty(), "{} commands:\n{}", signal, wrong.join("\n"));
}

/// A connection that nobody answers is not waited for longer than `--for` says.
#[test]
fn connecting_has_the_time_that_is_given() {
    let folder = project_with_recording();
    let full = full();
    let to = format!("tcp://127.0.0.1:{}", full.port);
    let listen = ["listen", &to, "--on", "bus485", "--for", "1s"];
    let host = ["host", "trials/moving-gate.toml", "--port", &to, "--for", "1s"];
    for words in [&listen[..], &host] {
        let began = Instant::now();
        let ran = common::run(folder.path(), words);
        assert!(ran.code == 2 && ran.err.contains("was not opened in time"), "{ran:?}");
        assert!(began.elapsed() < Duration::from_secs(4), "{words:?} took {:?}", began.elapsed());
    }
}

#[test]
fn every_command_ends_in_a_second_when_it_is_interrupted() {
    all_end("-INT");
}

#[test]
fn every_command_ends_in_a_second_when_it_is_asked_to_end() {
    all_end("-TERM");
}
