//! TCP connections and UDP packets.

use std::io::{self, Write};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::sync::{Arc, Mutex, PoisonError, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use nix::sys::socket::{setsockopt, sockopt};

use crate::line::{Line, LineRead, PlainWriter, Source, Stream, Target, is_nothing};

/// Whoever waits looks this often whether it is still wanted.
const PATIENCE: Duration = Duration::from_millis(100);

/// So long a peer that does not read is waited for before what is sent is given up.
const FULL: Duration = Duration::from_secs(1);

/// So long it may take until a connection is made.
const CONNECTING: Duration = Duration::from_secs(10);

/// A TCP connection.
pub(crate) fn tcp(stream: TcpStream) -> io::Result<Line> {
    // A frame is sent at once, however short.
    stream.set_nodelay(true)?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(FULL))?;
    Ok(Line { writer: Box::new(PlainWriter(stream.try_clone()?)), reader: Box::new(Stream(stream)), program: None })
}

/// Connects to `host:port`, as long as that is wanted.
///
/// # Errors
/// [`io::ErrorKind::Interrupted`] if it is not wanted any more.
pub(crate) fn connect(to: &str, is_wanted: &dyn Fn() -> bool) -> io::Result<Line> {
    // Finding the address and connecting wait in the system, where nothing else is heard. If they are not wanted any more, they are left
    // alone there.
    let (told, hears) = mpsc::channel();
    let place = to.to_owned();
    thread::spawn(move || told.send(TcpStream::connect(place)));
    let began = Instant::now();
    loop {
        match hears.recv_timeout(PATIENCE) {
            Ok(connected) => return tcp(connected?),
            Err(_) if !is_wanted() => return Err(io::ErrorKind::Interrupted.into()),
            Err(_) if began.elapsed() >= CONNECTING => {
                let seconds = CONNECTING.as_secs();
                return Err(io::Error::new(io::ErrorKind::TimedOut, format!("nobody answered within {seconds} s")));
            }
            Err(_) => {}
        }
    }
}

/// Waits for connections at `host:port`; who asks for one gets an error if there is none.
pub(crate) fn listen(at: &str) -> io::Result<TcpListener> {
    let listener = TcpListener::bind(at)?;
    listener.set_nonblocking(true)?;
    Ok(listener)
}

/// The next connection, if there is one.
pub(crate) fn accept(listener: &TcpListener) -> io::Result<Line> {
    let (stream, _) = listener.accept()?;
    stream.set_nonblocking(false)?;
    tcp(stream)
}

/// UDP packets to and from one place.
pub(crate) fn udp_to(to: &str) -> io::Result<Line> {
    let mut last = io::Error::other("the name has no address");
    let places = std::net::ToSocketAddrs::to_socket_addrs(to)?;
    for place in places {
        let own: SocketAddr = if place.is_ipv4() { ([0, 0, 0, 0], 0).into() } else { ([0u16; 8], 0).into() };
        match UdpSocket::bind(own).and_then(|socket| socket.connect(place).map(|()| socket)) {
            Ok(socket) => return udp(socket, Some(place)),
            Err(error) => last = error,
        }
    }
    Err(last)
}

/// UDP packets from everybody; what is sent goes to whoever sent last.
pub(crate) fn udp_at(at: &str) -> io::Result<Line> {
    udp(UdpSocket::bind(at)?, None)
}

/// So many bytes of packets may wait until they are read, as far as the system lets us; its own default is 200 kB, which a flood fills in
/// some milliseconds.
const ROOM: usize = 8 << 20;

/// How many packets to a port of this machine the system has thrown away because nobody read them in time (`/proc/net/udp`, Linux).
pub(crate) fn dropped_at(port: u16) -> u64 {
    let lines = |file: &str| std::fs::read_to_string(file).unwrap_or_default();
    let at = format!(":{port:04X}");
    let dropped = |line: &str| -> Option<u64> {
        let words: Vec<&str> = line.split_whitespace().collect();
        if words.get(1)?.ends_with(&at) { words.last()?.parse().ok() } else { None }
    };
    let all = lines("/proc/net/udp") + &lines("/proc/net/udp6");
    all.lines().filter_map(dropped).sum()
}

fn udp(socket: UdpSocket, to: Option<SocketAddr>) -> io::Result<Line> {
    // What the system does not allow is not needed.
    let _ = setsockopt(&socket, sockopt::RcvBuf, &ROOM);
    socket.set_read_timeout(Some(PATIENCE))?;
    let peer = Arc::new(Mutex::new(to));
    let writer = Sender { socket: socket.try_clone()?, peer: peer.clone() };
    Ok(Line {
        reader: Box::new(Packets { socket, peer, is_fixed: to.is_some() }),
        writer: Box::new(writer),
        program: None,
    })
}

struct Packets {
    socket: UdpSocket,
    peer: Arc<Mutex<Option<SocketAddr>>>,
    /// Whether there is one peer only.
    is_fixed: bool,
}

impl Source for Packets {
    fn next(&mut self, room: &mut [u8]) -> io::Result<LineRead> {
        match self.socket.recv_from(room) {
            Ok((length, from)) => {
                if !self.is_fixed {
                    *self.peer.lock().unwrap_or_else(PoisonError::into_inner) = Some(from);
                }
                Ok(LineRead::Bytes(length))
            }
            // Nobody listens there yet, says the other host.
            Err(error) if is_nothing(&error) || error.kind() == io::ErrorKind::ConnectionRefused => {
                Ok(LineRead::Nothing)
            }
            Err(error) => Err(error),
        }
    }
}

struct Sender {
    socket: UdpSocket,
    peer: Arc<Mutex<Option<SocketAddr>>>,
}

impl Write for Sender {
    fn write(&mut self, packet: &[u8]) -> io::Result<usize> {
        let peer = *self.peer.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(peer) = peer else {
            return Err(io::ErrorKind::NotConnected.into());
        };
        match self.socket.peer_addr() {
            Ok(_) => self.socket.send(packet),
            Err(_) => self.socket.send_to(packet, peer),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Target for Sender {
    /// Packets go to whoever sent the last one.
    fn has_peer(&self) -> bool {
        self.peer.lock().unwrap_or_else(PoisonError::into_inner).is_some()
    }
}
