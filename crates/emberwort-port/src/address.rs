//! How a port is written: a device path, `pty`, `tcp://…`, `udp://…`, `can:…`, `command:…`, or `-`.

use std::fmt;
use std::path::PathBuf;
use std::str::FromStr;

use thiserror::Error;

/// Where a link can be reached.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Address {
    /// A serial line, by the path of its device.
    Serial(PathBuf),
    /// A pseudo-terminal that is made for this: others open its far end.
    Pty,
    /// A TCP connection to `host:port`.
    TcpTo(String),
    /// Waits for a TCP connection at `host:port`; of all interfaces, if the host is empty.
    TcpAt(String),
    /// UDP packets to and from `host:port`.
    UdpTo(String),
    /// UDP packets to this port; answers go to whoever sent last.
    UdpAt(String),
    /// An interface of SocketCAN.
    Can(String),
    /// Standard input and output of a program, with its arguments.
    Command(Vec<String>),
    /// Standard input and output of this program.
    Standard,
}

/// Why a text is no address of a port.
#[derive(Clone, Debug, Error, PartialEq, Eq)]
pub enum AddressError {
    /// There is nothing where a name should be.
    #[error("`{text}` names no {what}")]
    Missing {
        /// What was written.
        text: String,
        /// What is missing.
        what: &'static str,
    },
    /// A socket without a port number from 1 to 65535.
    #[error("`{0}` has no port number from 1 to 65535: write host:port, or :port to wait for others")]
    PortNumber(String),
    /// Quotes of a command that are not closed.
    #[error("the quotes in `{0}` are not closed")]
    Quotes(String),
    /// A scheme that is not known.
    #[error("`{0}:` is no kind of port; those are: a device path, pty, tcp://, udp://, can:, command:, -")]
    Scheme(String),
}

/// `host:port`, or `:port`, which waits for others.
fn socket(text: &str, place: &str) -> Result<(bool, String), AddressError> {
    let bad = || AddressError::PortNumber(text.to_owned());
    let (host, number) = place.trim_end_matches('/').rsplit_once(':').ok_or_else(bad)?;
    let number: u16 = number.parse().ok().filter(|number| *number > 0).ok_or_else(bad)?;
    Ok(if host.is_empty() { (true, format!("0.0.0.0:{number}")) } else { (false, format!("{host}:{number}")) })
}

impl FromStr for Address {
    type Err = AddressError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let missing = |what| AddressError::Missing { text: text.to_owned(), what };
        match text {
            "" => return Err(missing("port")),
            "-" => return Ok(Self::Standard),
            "pty" => return Ok(Self::Pty),
            _ => {}
        }
        // Only letters make a scheme, so that any path is one: `/dev/serial/by-path/pci-0000:00`, `./can:0`.
        let scheme = text.split_once(':').filter(|(name, _)| name.bytes().all(|byte| byte.is_ascii_lowercase()));
        let Some((scheme, rest)) = scheme else { return Ok(Self::Serial(PathBuf::from(text))) };
        let place = || rest.strip_prefix("//").unwrap_or(rest);
        match scheme {
            "tcp" => socket(text, place()).map(|(waits, at)| if waits { Self::TcpAt(at) } else { Self::TcpTo(at) }),
            "udp" => socket(text, place()).map(|(waits, at)| if waits { Self::UdpAt(at) } else { Self::UdpTo(at) }),
            "can" if rest.is_empty() => Err(missing("CAN interface")),
            "can" => Ok(Self::Can(rest.to_owned())),
            "command" => {
                let words = shlex::split(rest).ok_or_else(|| AddressError::Quotes(text.to_owned()))?;
                if words.is_empty() { Err(missing("program")) } else { Ok(Self::Command(words)) }
            }
            other => Err(AddressError::Scheme(other.to_owned())),
        }
    }
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let waiting = |at: &str| at.strip_prefix("0.0.0.0").unwrap_or(at).to_owned();
        match self {
            Self::Serial(path) => write!(f, "{}", path.display()),
            Self::Pty => f.write_str("pty"),
            Self::TcpTo(at) => write!(f, "tcp://{at}"),
            Self::TcpAt(at) => write!(f, "tcp://{}", waiting(at)),
            Self::UdpTo(at) => write!(f, "udp://{at}"),
            Self::UdpAt(at) => write!(f, "udp://{}", waiting(at)),
            Self::Can(name) => write!(f, "can:{name}"),
            Self::Command(words) => write!(f, "command:{}", words.join(" ")),
            Self::Standard => f.write_str("-"),
        }
    }
}

impl Address {
    /// Whether each piece that comes is a packet of its own.
    pub fn keeps_packets(&self) -> bool {
        matches!(self, Self::UdpTo(_) | Self::UdpAt(_) | Self::Can(_))
    }

    /// The number of the port that is listened to or sent to, for links that tell messages by it.
    pub fn port_number(&self) -> Option<u16> {
        match self {
            Self::TcpTo(at) | Self::TcpAt(at) | Self::UdpTo(at) | Self::UdpAt(at) => {
                at.rsplit_once(':').and_then(|(_, number)| number.parse().ok())
            }
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_form_is_read_and_written_alike() {
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        for (text, expected) in [
            ("/dev/ttyUSB0", Address::Serial("/dev/ttyUSB0".into())),
            ("/dev/serial/by-path/pci-0000:00:14.0", Address::Serial("/dev/serial/by-path/pci-0000:00:14.0".into())),
            ("COM3", Address::Serial("COM3".into())),
            ("pty", Address::Pty),
            ("tcp://house.test:4850", Address::TcpTo("house.test:4850".into())),
            ("tcp://:4850", Address::TcpAt("0.0.0.0:4850".into())),
            ("udp://[::1]:4850", Address::UdpTo("[::1]:4850".into())),
            ("udp://:4850", Address::UdpAt("0.0.0.0:4850".into())),
            ("can:can0", Address::Can("can0".into())),
            ("command:./gate 3", Address::Command(words(&["./gate", "3"]))),
            ("-", Address::Standard),
        ] {
            let read: Address = text.parse().unwrap();
            assert_eq!(read, expected);
            assert_eq!(read.to_string(), text);
        }
        let quoted: Address = "command:./gate 'two words'".parse().unwrap();
        assert_eq!(quoted, Address::Command(words(&["./gate", "two words"])));
    }

    #[test]
    fn what_is_no_address_says_why() {
        for (text, says) in [
            ("", "names no port"),
            ("can:", "names no CAN interface"),
            ("command:", "names no program"),
            ("command:'x", "are not closed"),
            ("tcp://host", "has no port number"),
            ("tcp://host:0", "has no port number"),
            ("udp://host:70000", "has no port number"),
            ("serial:/dev/ttyUSB0", "`serial:` is no kind of port"),
        ] {
            let error = text.parse::<Address>().unwrap_err().to_string();
            assert!(error.contains(says), "{text}: {error}");
        }
    }
}
