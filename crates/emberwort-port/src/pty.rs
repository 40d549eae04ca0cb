//! A pseudo-terminal: whoever opens its far end talks to us as through a serial line.

use std::fs::OpenOptions;
use std::io::{self, Read, Write};
use std::os::fd::AsFd;
use std::sync::Arc;
use std::thread;
use std::time::Duration;

use nix::fcntl::OFlag;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::pty::{PtyMaster, grantpt, posix_openpt, ptsname_r, unlockpt};
use nix::sys::termios::{SetArg, cfmakeraw, tcgetattr, tcsetattr};

use crate::line::{Line, LineRead, Source, Target, is_nothing};

/// How long, in milliseconds, a full line is waited for before bytes are given up.
const FULL: u16 = 200;

/// Makes one; returns the path of its far end, too.
pub(crate) fn make() -> io::Result<(Line, String)> {
    let near = posix_openpt(OFlag::O_RDWR | OFlag::O_NOCTTY | OFlag::O_NONBLOCK | OFlag::O_CLOEXEC)?;
    grantpt(&near)?;
    unlockpt(&near)?;
    let path = ptsname_r(&near)?;
    // Bytes pass as they are, also to those who do not ask for that. The far end is closed again: we are told when others open it.
    let far = OpenOptions::new().read(true).write(true).open(&path)?;
    let mut settings = tcgetattr(&far)?;
    cfmakeraw(&mut settings);
    tcsetattr(&far, SetArg::TCSANOW, &settings)?;
    let near = Arc::new(near);
    let line = Line { reader: Box::new(MasterEnd(near.clone())), writer: Box::new(MasterEnd(near)), program: None };
    Ok((line, path))
}

struct MasterEnd(Arc<PtyMaster>);

impl MasterEnd {
    /// Waits until it can be read or written; whether it can, and whether nobody has the far end open.
    fn wait(&self, what: PollFlags, milliseconds: u16) -> io::Result<(bool, bool)> {
        let mut wanted = [PollFd::new(self.0.as_fd(), what)];
        match poll(&mut wanted, PollTimeout::from(milliseconds)) {
            Ok(_) => {}
            Err(nix::errno::Errno::EINTR) => return Ok((false, false)),
            Err(error) => return Err(error.into()),
        }
        let found = wanted[0].revents().unwrap_or(PollFlags::empty());
        Ok((found.intersects(what), found.contains(PollFlags::POLLHUP)))
    }
}

impl Source for MasterEnd {
    fn next(&mut self, room: &mut [u8]) -> io::Result<LineRead> {
        let (is_ready, is_alone) = self.wait(PollFlags::POLLIN, 100)?;
        if is_ready {
            return match (&*self.0).read(room) {
                Ok(length) => Ok(LineRead::Bytes(length)),
                // What was left is read, and nobody is there.
                Err(error) if error.raw_os_error() == Some(nix::errno::Errno::EIO as i32) => Ok(LineRead::Nothing),
                Err(error) if is_nothing(&error) => Ok(LineRead::Nothing),
                Err(error) => Err(error),
            };
        }
        if is_alone {
            thread::sleep(Duration::from_millis(5));
        }
        Ok(LineRead::Nothing)
    }
}

impl Write for MasterEnd {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let (is_ready, is_alone) = self.wait(PollFlags::POLLOUT, FULL)?;
        let unread = || Err(io::Error::other("whoever has the far end open does not read"));
        match (is_alone, is_ready) {
            (true, _) => Err(io::ErrorKind::NotConnected.into()),
            (false, false) => unread(),
            (false, true) => match (&*self.0).write(bytes) {
                Err(error) if is_nothing(&error) => unread(),
                written => written,
            },
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Target for MasterEnd {
    /// Whether somebody has the far end open.
    fn has_peer(&self) -> bool {
        self.wait(PollFlags::POLLOUT, 0).is_ok_and(|(_, is_alone)| !is_alone)
    }
}
