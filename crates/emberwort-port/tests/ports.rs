//! Ports of every kind that a machine without hardware has: bytes go through both ways, and a far end that goes away may come back.

use std::io::{Read, Write};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::process::Command;
use std::time::{Duration, Instant};

use emberwort_model::medium::UartFormat;
use emberwort_port::{Address, Clock, ControlLines, Event, Events, Port, Program, Received, SerialSettings, WhenLost};

const CONTROL: ControlLines = ControlLines { rts: None, dtr: None, rts_while_sending: false };
const SETTINGS: SerialSettings = SerialSettings { format: UartFormat::usual(115_200), control: CONTROL };

/// A port with events of its own.
struct Alone {
    port: Port,
    events: Events,
}

impl std::ops::Deref for Alone {
    type Target = Port;

    fn deref(&self) -> &Port {
        &self.port
    }
}

impl std::ops::DerefMut for Alone {
    fn deref_mut(&mut self) -> &mut Port {
        &mut self.port
    }
}

fn open(address: &str, when_lost: WhenLost) -> Alone {
    let address: Address = address.parse().unwrap();
    let events = Events::new(Clock::new());
    let port = Port::open(&address, Some(SETTINGS), when_lost, (&events, 0), &|| true).unwrap();
    Alone { port, events }
}

/// Waits for the next event, no longer than a test may take.
fn event(port: &Alone) -> Event {
    match port.events.receive(Some(port.events.clock().now().after(5_000_000_000))) {
        Received::Event(_, event) => event,
        Received::Nothing => panic!("nothing happened at {}", port.name()),
    }
}

/// Waits until so many bytes came.
fn bytes(port: &Alone, count: usize) -> Vec<u8> {
    let mut all = Vec::new();
    while all.len() < count {
        if let Event::Bytes(_, bytes) = event(port) {
            all.extend(bytes);
        }
    }
    all
}

/// A free port number of this machine.
fn free_number() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

#[test]
fn a_pseudo_terminal_is_a_serial_line_for_others() {
    let mut near = open("pty", WhenLost::Wait);
    // Nobody listens: what is sent is gone, and does not come later.
    assert_eq!(near.send(b"into the dark").unwrap_err().kind(), std::io::ErrorKind::NotConnected);
    assert!(!near.has_peer());
    let all: Vec<u8> = (0..=255).collect();
    for round in 0..3 {
        let mut far = open(near.name(), WhenLost::End);
        // Its reader may need a moment to see that somebody is there.
        std::thread::sleep(Duration::from_millis(30));
        far.send(&all).unwrap();
        assert_eq!(bytes(&near, 256), all, "round {round}");
        near.send(&all).unwrap();
        let came = bytes(&far, 256);
        assert_eq!(came[came.len() - 256..], all, "round {round}");
        drop(far);
        std::thread::sleep(Duration::from_millis(300));
    }
}

#[test]
fn many_bytes_pass_a_pseudo_terminal_without_loss() {
    let mut near = open("pty", WhenLost::Wait);
    let far = open(near.name(), WhenLost::End);
    std::thread::sleep(Duration::from_millis(30));
    let sent: Vec<u8> = (0..2_000_000u32).map(|n| (n.wrapping_mul(2_654_435_761) >> 24) as u8).collect();
    let copy = sent.clone();
    let writer = std::thread::spawn(move || {
        for piece in copy.chunks(1000) {
            near.send(piece).unwrap();
        }
        near
    });
    assert!(bytes(&far, sent.len()) == sent);
    writer.join().unwrap();
}

#[test]
fn a_tcp_port_waits_for_one_and_for_the_next() {
    let number = free_number();
    let mut port = open(&format!("tcp://:{number}"), WhenLost::Wait);
    assert!(port.send(b"x").is_err());
    for _ in 0..2 {
        let mut peer = TcpStream::connect(("127.0.0.1", number)).unwrap();
        assert_eq!(event(&port), Event::Opened);
        peer.write_all(b"abc").unwrap();
        assert_eq!(bytes(&port, 3), b"abc");
        port.send(b"answer").unwrap();
        let mut answer = [0; 6];
        peer.read_exact(&mut answer).unwrap();
        assert_eq!(&answer, b"answer");
        drop(peer);
        assert!(matches!(event(&port), Event::Lost(_)));
    }
}

#[test]
fn a_tcp_connection_that_breaks_is_made_again() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let to = format!("tcp://{}", listener.local_addr().unwrap());
    let port = open(&to, WhenLost::Wait);
    let (first, _) = listener.accept().unwrap();
    drop(first);
    assert!(matches!(event(&port), Event::Lost(_)));
    let (mut second, _) = listener.accept().unwrap();
    assert_eq!(event(&port), Event::Opened);
    second.write_all(b"again").unwrap();
    assert_eq!(bytes(&port, 5), b"again");
    let once = open(&to, WhenLost::End);
    drop(listener.accept().unwrap());
    assert_eq!(event(&once), Event::Ended);
}

#[test]
fn udp_packets_stay_packets() {
    let number = free_number();
    let mut at = open(&format!("udp://:{number}"), WhenLost::Wait);
    assert_eq!(at.send(b"x").unwrap_err().kind(), std::io::ErrorKind::NotConnected);
    assert!(!at.has_peer());
    let peer = UdpSocket::bind("127.0.0.1:0").unwrap();
    peer.connect(("127.0.0.1", number)).unwrap();
    peer.send(b"one").unwrap();
    peer.send(b"").unwrap();
    peer.send(b"three").unwrap();
    for expected in [&b"one"[..], b"", b"three"] {
        assert!(matches!(event(&at), Event::Bytes(_, bytes) if bytes == expected));
    }
    at.send(b"answer").unwrap();
    let mut room = [0; 20];
    assert_eq!(peer.recv(&mut room).unwrap(), 6);
    let mut to = open(&format!("udp://127.0.0.1:{number}"), WhenLost::Wait);
    to.send(b"hello").unwrap();
    assert_eq!(bytes(&at, 5), b"hello");
    at.send(b"you").unwrap();
    assert_eq!(bytes(&to, 3), b"you");
}

#[test]
fn a_program_is_a_port_until_it_ends() {
    let mut port = open("command:head -c 4", WhenLost::Wait);
    port.send(b"four and more").unwrap();
    assert_eq!(bytes(&port, 4), b"four");
    assert_eq!(event(&port), Event::Ended);
}

#[test]
fn what_cannot_be_opened_says_why() {
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("plain");
    std::fs::write(&file, "").unwrap();
    for (address, says) in [
        (folder.path().join("none").display().to_string(), "`emberwort ports` lists"),
        (file.display().to_string(), "it is not a serial port"),
        (format!("tcp://127.0.0.1:{}", free_number()), "refused"),
        ("command:./no-such-program".to_owned(), "No such file"),
    ] {
        let read: Address = address.parse().unwrap();
        let events = Events::new(Clock::new());
        let error = Port::open(&read, Some(SETTINGS), WhenLost::End, (&events, 0), &|| true).err().unwrap().to_string();
        assert!(error.contains(says) && error.contains(&address), "{address}: {error}");
    }
}

/// The one who has a port open is named.
#[test]
fn a_port_that_is_taken_says_by_whom() {
    let near = open("pty", WhenLost::Wait);
    let script = format!("exec 9<>{}; flock -x 9; echo taken; read line", near.name());
    let mut taker = std::process::Command::new("sh")
        .args(["-c", &script])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut said = [0; 5];
    taker.stdout.take().unwrap().read_exact(&mut said).unwrap();
    let read: Address = near.name().parse().unwrap();
    let events = Events::new(Clock::new());
    let error = Port::open(&read, Some(SETTINGS), WhenLost::End, (&events, 0), &|| true).err().unwrap().to_string();
    assert!(error.contains(&format!("sh (process {}) has it open", taker.id())), "{error}");
    drop(taker.stdin.take());
    taker.wait().unwrap();
}

/// A peer may answer before the thread that sends gets the processor again: an answer that seems to come before its request belongs to none.
#[test]
fn nothing_is_answered_before_it_was_sent() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let there = listener.local_addr().unwrap();
    let echo = std::thread::spawn(move || {
        let (mut peer, _) = listener.accept().unwrap();
        peer.set_nodelay(true).unwrap();
        let mut byte = [0];
        while peer.read_exact(&mut byte).is_ok() {
            peer.write_all(&byte).unwrap();
        }
    });
    let mut port = open(&format!("tcp://{there}"), WhenLost::End);
    // The processor is wanted by others, too.
    let stop = std::sync::Arc::new(std::sync::atomic::AtomicBool::new(false));
    let others = std::array::from_fn::<_, 4, _>(|_| {
        let stop = stop.clone();
        std::thread::spawn(move || while !stop.load(std::sync::atomic::Ordering::Relaxed) {})
    });
    let early = (0..1000u32).filter(|round| {
        let sent = port.send(&[*round as u8]).unwrap();
        match event(&port) {
            Event::Bytes(came, _) => came < sent,
            other => panic!("{other:?}"),
        }
    });
    let early = early.count();
    stop.store(true, std::sync::atomic::Ordering::Relaxed);
    for other in others {
        other.join().unwrap();
    }
    drop(port);
    assert_eq!(early, 0);
    echo.join().unwrap();
}

#[test]
fn who_waits_for_a_peer_waits_as_long_as_is_said() {
    let port = open("pty", WhenLost::Wait);
    let began = Instant::now();
    assert!(!port.wait_for_peer(Duration::from_millis(300)), "nobody is there");
    assert!(began.elapsed() >= Duration::from_millis(250), "{:?}", began.elapsed());
}

/// A shell script that has started when this returns.
fn script(folder: &std::path::Path, text: &str) -> Program {
    let text = format!("{text}\ntouch begun\nsleep 20 & wait\n");
    let program = Program::start(Command::new("sh").args(["-c", &text]).current_dir(folder)).unwrap();
    let began = Instant::now();
    while !folder.join("begun").exists() {
        assert!(began.elapsed() < Duration::from_secs(10), "it does not start");
        std::thread::sleep(Duration::from_millis(5));
    }
    program
}

#[test]
fn a_program_is_asked_before_it_is_killed() {
    let folder = tempfile::tempdir().unwrap();
    let mut program = script(folder.path(), "trap 'touch asked; exit 0' TERM");
    program.end();
    assert!(folder.path().join("asked").exists());
    // One that does not listen is killed all the same.
    let folder = tempfile::tempdir().unwrap();
    let mut program = script(folder.path(), "trap '' TERM");
    let began = Instant::now();
    program.end();
    assert!(program.has_ended() && began.elapsed() < Duration::from_secs(5), "{:?}", began.elapsed());
}

#[test]
fn who_waits_for_a_program_can_stop_waiting() {
    let folder = tempfile::tempdir().unwrap();
    let mut program = script(folder.path(), "");
    let mut turns = 0;
    let turn = std::cell::RefCell::new(&mut turns);
    let ended = program.wait_while(|| {
        **turn.borrow_mut() += 1;
        **turn.borrow() < 3
    });
    assert!(ended.unwrap().is_none());
    assert_eq!(turns, 3);
}
