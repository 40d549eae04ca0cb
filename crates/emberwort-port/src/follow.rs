//! A file that somebody still writes.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

/// How often a file is looked at for more.
const EVERY: Duration = Duration::from_millis(50);

/// Reads a file to its end and waits there for more, until nobody wants it any longer. A file that becomes shorter, or is replaced by another
/// one of its name, ends.
pub struct Follow<W> {
    path: PathBuf,
    file: File,
    read: u64,
    is_wanted: W,
}

impl<W: FnMut() -> bool> Follow<W> {
    /// Opens a file; `is_wanted` is asked while nothing comes.
    ///
    /// # Errors
    /// If it cannot be opened.
    pub fn open(path: &Path, is_wanted: W) -> io::Result<Self> {
        Ok(Self { path: path.to_owned(), file: File::open(path)?, read: 0, is_wanted })
    }

    /// Whether the file is no longer the one that was opened, or was cut.
    fn is_gone(&self) -> bool {
        use std::os::unix::fs::MetadataExt;
        let (Ok(own), Ok(named)) = (self.file.metadata(), std::fs::metadata(&self.path)) else { return true };
        own.len() < self.read || (own.dev(), own.ino()) != (named.dev(), named.ino())
    }
}

impl<W: FnMut() -> bool> Read for Follow<W> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        loop {
            let read = self.file.read(room)?;
            self.read += read as u64;
            if read > 0 || room.is_empty() || !(self.is_wanted)() || self.is_gone() {
                return Ok(read);
            }
            thread::sleep(EVERY);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::Write;

    #[test]
    fn what_is_written_later_is_read_too() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        std::fs::write(&path, b"one ").unwrap();
        let mut asked = 0;
        let writer = path.clone();
        let mut follow = Follow::open(&path, move || {
            asked += 1;
            if asked == 2 {
                std::fs::File::options().append(true).open(&writer).unwrap().write_all(b"two").unwrap();
            }
            asked < 4
        })
        .unwrap();
        let mut text = String::new();
        follow.read_to_string(&mut text).unwrap();
        assert_eq!(text, "one two");
    }

    #[test]
    fn a_file_that_is_replaced_ends() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        std::fs::write(&path, b"one").unwrap();
        let mut follow = Follow::open(&path, || true).unwrap();
        std::fs::rename(&path, folder.path().join("log.1")).unwrap();
        std::fs::write(&path, b"other").unwrap();
        let mut text = String::new();
        follow.read_to_string(&mut text).unwrap();
        assert_eq!(text, "one");
    }

    #[test]
    fn a_file_that_is_cut_ends() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("log");
        std::fs::write(&path, b"one").unwrap();
        let cut = path.clone();
        let mut asked = 0;
        let mut follow = Follow::open(&path, move || {
            asked += 1;
            if asked == 2 {
                std::fs::write(&cut, b"n").unwrap();
            }
            assert!(asked < 50, "it waits for more than a file has that was cut");
            true
        })
        .unwrap();
        let mut text = String::new();
        follow.read_to_string(&mut text).unwrap();
        assert_eq!(text, "one");
    }
}
