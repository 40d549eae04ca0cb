//! Every byte that a live command takes from a port is in its account: however much comes, however slowly its output is read, and however
//! it ends.

use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream, UdpSocket};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{self, emberwort, free_port, project, stats};

/// A frame of 22 bytes on `bus485`, and its body as a packet on `house`.
fn frame(folder: &Path) -> Vec<u8> {
    let words = "encode GateStatus state=open opening=50 upstream=1 oil=100 pump_temp=20 faults=[] latch_force=1 --on bus485 --node 3 --as bytes";
    let frame = emberwort(folder, &words.split(' ').collect::<Vec<_>>()).output().unwrap().stdout;
    assert_eq!(frame.len(), 22);
    frame
}

/// Somebody who waits at a port of TCP, sends so many bytes to whoever connects, and closes.
fn sender(frame: &[u8], frames: usize) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = format!("tcp://{}", listener.local_addr().unwrap());
    let block = frame.repeat(1000);
    std::thread::spawn(move || {
        let (mut stream, _) = listener.accept().unwrap();
        let mut left = frames * 22;
        while left > 0 {
            let part = &block[..left.min(block.len())];
            if stream.write_all(part).is_err() {
                break;
            }
            left -= part.len();
        }
        // What it is told is read, since a connection with unread bytes is cut off at both ends.
        let _ = stream.shutdown(std::net::Shutdown::Write);
        let _ = std::io::copy(&mut stream, &mut std::io::sink());
    });
    at
}

/// How fast output is read.
#[derive(Clone, Copy, Debug)]
enum Reader {
    Quick,
    Slow,
}

/// Runs a command to its end, whose output is read so fast; what it said.
fn said(mut command: Command, reader: Reader, kill_after: Option<Duration>) -> String {
    let mut child = command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut out = child.stdout.take().unwrap();
    let reading = std::thread::spawn(move || {
        let mut room = vec![0; 1 << 16];
        while out.read(&mut room).unwrap() > 0 {
            if let Reader::Slow = reader {
                std::thread::sleep(Duration::from_millis(2));
            }
        }
    });
    if let Some(after) = kill_after {
        std::thread::sleep(after);
        assert!(Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap().success());
    }
    let mut said = String::new();
    child.stderr.take().unwrap().read_to_string(&mut said).unwrap();
    child.wait().unwrap();
    reading.join().unwrap();
    said
}

/// The bytes of an account: `24200 bytes: 24200 in 1100 good frames, …`.
fn accounted(said: &str) -> u64 {
    let line = said.lines().find(|line| line.contains(" bytes: ") || line.contains(" bytes from "));
    let line = line.unwrap_or_else(|| panic!("no account: {said}"));
    line.split_whitespace().next().unwrap().parse().unwrap()
}

fn listens_to_all(frames: usize) {
    let folder = project();
    let frame = frame(folder.path());
    for reader in [Reader::Quick, Reader::Slow] {
        for form in ["ndjson", "table"] {
            let from = sender(&frame, frames);
            let words = ["listen", &from, "--on", "bus485", "--once", "--as", form];
            let said = said(emberwort(folder.path(), &words), reader, None);
            assert_eq!(accounted(&said), 22 * frames as u64, "{reader:?}, {form}: {said}");
            assert!(said.contains(&format!("in {frames} good frames")), "{said}");
        }
    }
}

#[test]
fn a_listener_accounts_for_all_that_came_before_the_end() {
    listens_to_all(200_000);
}

/// A gigabyte, four times: two minutes.
#[test]
#[ignore = "takes minutes; see CONTRIBUTING.md"]
fn a_listener_accounts_for_a_gigabyte() {
    listens_to_all(if std::env::var_os("EMBERWORT_SMALL").is_some() { 1_000_000 } else { 48_806_447 });
}

#[test]
fn a_recorder_and_a_device_account_for_all_too() {
    let folder = project();
    let frame = frame(folder.path());
    let frames = 300_000;
    let from = sender(&frame, frames);
    let words = ["record", &from, "--on", "bus485", "--once", "--out", "all.pcapng"];
    let recorded = said(emberwort(folder.path(), &words), Reader::Quick, None);
    assert_eq!(accounted(&recorded), 22 * frames as u64, "{recorded}");
    assert_eq!(stats(folder.path(), &["all.pcapng"])["bytes"]["good"], 22 * frames);
    // A device hears what the host says; of frames that devices send it says that they are not.
    let from = sender(&frame, 50_000);
    let words = ["device", "trials/moving-gate.toml", "--port", &from, "--once", "--as", "ndjson"];
    let played = said(emberwort(folder.path(), &words), Reader::Slow, None);
    // With what it sends itself.
    assert!(accounted(&played) >= 22 * 50_000, "{played}");
}

/// What had come when the user interrupts is looked at, and is in the recording.
#[test]
fn what_came_before_ctrl_c_is_not_lost() {
    let folder = project();
    let frame = frame(folder.path());
    for (number, command) in ["listen", "record"].into_iter().enumerate() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let from = format!("tcp://{}", listener.local_addr().unwrap());
        let bytes = frame.repeat(50);
        // It stays connected.
        let peer = std::thread::spawn(move || -> TcpStream {
            let (mut stream, _) = listener.accept().unwrap();
            for byte in bytes.chunks(2) {
                stream.write_all(byte).unwrap();
                std::thread::sleep(Duration::from_micros(200));
            }
            stream
        });
        let out = format!("{number}.pcapng");
        let mut words = vec![command, &from, "--on", "bus485"];
        if command == "record" {
            words.extend(["--out", &out]);
        }
        let said = said(emberwort(folder.path(), &words), Reader::Quick, Some(Duration::from_millis(1500)));
        assert_eq!(accounted(&said), 1100, "{said}");
        drop(peer.join().unwrap());
    }
    assert_eq!(stats(folder.path(), &["1.pcapng"])["bytes"]["good"], 1100);
}

/// Packets that the system let through are all there; the others are counted.
#[test]
fn packets_are_accounted_for_or_said_to_be_thrown_away() {
    let folder = project();
    let words = "encode GateStatus state=open opening=50 upstream=1 oil=100 pump_temp=20 faults=[] latch_force=1 --on house --node 3 --as bytes";
    let packet = emberwort(folder.path(), &words.split(' ').collect::<Vec<_>>()).output().unwrap().stdout;
    let port = free_port();
    let bytes = packet.clone();
    let sending = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_millis(1000));
        let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
        // However busy the machine is, all was sent well before the end.
        let (began, mut sent) = (Instant::now(), 0u64);
        while sent < 60_000 && began.elapsed() < Duration::from_millis(1500) {
            socket.send_to(&bytes, ("127.0.0.1", port)).unwrap();
            sent += 1;
            if sent.is_multiple_of(20) {
                std::thread::sleep(Duration::from_micros(100));
            }
        }
        sent
    });
    let at = format!("udp://127.0.0.1:{port}");
    let at = at.replace("127.0.0.1", "");
    let said = said(
        emberwort(folder.path(), &["listen", &at, "--on", "house", "--as", "tree", "--for", "4s"]),
        Reader::Slow,
        None,
    );
    let sent = sending.join().unwrap();
    let thrown = said
        .lines()
        .find(|line| line.contains("came too fast"))
        .map_or(0, |line| line.split_whitespace().next().unwrap().parse().unwrap());
    assert!(sent > 1000);
    assert_eq!(accounted(&said) / packet.len() as u64 + thrown, sent, "{said}");
}

/// Half a frame before a connection is lost, and the rest after it, make no frame: live, and in the recording.
#[test]
fn frames_are_not_joined_over_a_lost_connection() {
    let folder = project();
    let frame = frame(folder.path());
    for command in ["listen", "record"] {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let from = format!("tcp://{}", listener.local_addr().unwrap());
        let bytes = frame.clone();
        let peer = std::thread::spawn(move || {
            let (mut first, _) = listener.accept().unwrap();
            first.write_all(&[&bytes[..], &bytes[..12]].concat()).unwrap();
            std::thread::sleep(Duration::from_millis(100));
            drop(first);
            let (mut second, _) = listener.accept().unwrap();
            second.write_all(&[&bytes[12..], &bytes[..]].concat()).unwrap();
            second
        });
        let words = [
            &[command, &from, "--on", "bus485"][..],
            if command == "record" { &["--out", "lost.pcapng"] } else { &[] },
        ]
        .concat();
        let said = said(emberwort(folder.path(), &words), Reader::Quick, Some(Duration::from_millis(1500)));
        drop(peer.join().unwrap());
        assert!(said.contains("is gone: the other end closed it"), "{said}");
        let found = match command {
            "listen" => said,
            _ => common::run(folder.path(), &["decode", "lost.pcapng"]).err,
        };
        assert!(found.contains("66 bytes: 44 in 2 good frames"), "{command}: {found}");
    }
}

/// Whoever has seen enough is told how much more came; who reads no further hears nothing.
#[test]
fn what_comes_after_the_last_row_is_said_and_a_closed_pipe_ends_quietly() {
    let folder = project();
    let frame = frame(folder.path());
    let from = sender(&frame, 1000);
    let words = ["listen", &from, "--on", "bus485", "--once", "--count", "10"];
    let said = said(emberwort(folder.path(), &words), Reader::Quick, None);
    let left = said.lines().find_map(|line| line.strip_suffix(" bytes came after the end and were not decoded"));
    assert_eq!(accounted(&said) + left.map_or(0, |left| left.parse::<u64>().unwrap()), 22_000, "{said}");
    let from = sender(&frame, 300_000);
    let mut command = emberwort(folder.path(), &["listen", &from, "--on", "bus485", "--once"]);
    let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    let mut some = [0; 100];
    child.stdout.take().unwrap().read_exact(&mut some).unwrap();
    let ended = child.wait_with_output().unwrap();
    assert_eq!(ended.status.code(), Some(0));
    assert_eq!(String::from_utf8_lossy(&ended.stderr), "");
}
