//! Captures that were packed with gzip (RFC 1952) or Zstandard (RFC 8878): unpacked while they are read.

use std::cell::RefCell;
use std::io::{self, Cursor, Read};
use std::rc::Rc;

use flate2::read::MultiGzDecoder;
use ruzstd::decoding::StreamingDecoder;

use crate::pieces::DETECT_BYTES;

/// The bytes with which each begins.
const GZIP: [u8; 3] = [0x1F, 0x8B, 0x08];
const ZSTD: [u8; 4] = [0x28, 0xB5, 0x2F, 0xFD];

/// An input that is unpacked, if it was packed.
pub struct Unpacked<'a> {
    reader: Box<dyn Read + 'a>,
    /// Why it could not be unpacked any further.
    broken: Option<Rc<RefCell<Option<String>>>>,
}

/// Ends where the packed bytes are damaged or cut, and keeps why.
struct UpToDamage<R> {
    reader: R,
    error: Rc<RefCell<Option<String>>>,
}

impl<R: Read> Read for UpToDamage<R> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        if self.error.borrow().is_some() {
            return Ok(0);
        }
        self.reader.read(room).or_else(|error| match error.kind() {
            io::ErrorKind::Interrupted => Err(error),
            io::ErrorKind::UnexpectedEof => {
                *self.error.borrow_mut() = Some("the packed file ends too early".to_owned());
                Ok(0)
            }
            _ => {
                *self.error.borrow_mut() = Some(format!("the packed file is damaged: {error}"));
                Ok(0)
            }
        })
    }
}

/// A frame of Zstandard after the other, as gzip does with its members.
struct ManyFrames<R: Read> {
    /// The frame that is read, or what comes behind the last one.
    at: Option<UnpackState<R>>,
}

enum UnpackState<R: Read> {
    Frame(Box<StreamingDecoder<R, ruzstd::decoding::FrameDecoder>>),
    Between(R),
}

impl<R: Read> Read for ManyFrames<io::Chain<Cursor<Vec<u8>>, R>> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        loop {
            match self.at.take() {
                None => return Ok(0),
                Some(UnpackState::Frame(mut frame)) => match frame.read(room)? {
                    0 if !room.is_empty() => self.at = Some(UnpackState::Between(frame.into_inner())),
                    read => {
                        self.at = Some(UnpackState::Frame(frame));
                        return Ok(read);
                    }
                },
                Some(UnpackState::Between(mut rest)) => {
                    let mut first = [0; 1];
                    if rest.read(&mut first)? == 0 {
                        return Ok(0);
                    }
                    let (looked_at, inner) = rest.into_inner();
                    let unread = &looked_at.get_ref()[looked_at.position() as usize..];
                    let again = Cursor::new([&first, unread].concat()).chain(inner);
                    let frame = StreamingDecoder::new(again).map_err(|error| io::Error::other(error.to_string()))?;
                    self.at = Some(UnpackState::Frame(Box::new(frame)));
                }
            }
        }
    }
}

impl<'a> Unpacked<'a> {
    /// Looks at the first bytes of an input, and unpacks it if they say that it is packed.
    ///
    /// # Errors
    /// Those of the reader.
    pub fn new(mut input: impl Read + 'a) -> io::Result<Self> {
        // As many as come at once, so that pieces stay as they came; more only if what came could be the start of a mark.
        let mut first = vec![0; DETECT_BYTES];
        let mut filled = 0;
        let may_be = |first: &[u8]| GZIP.starts_with(first) || ZSTD.starts_with(first);
        while may_be(&first[..filled]) {
            match input.read(&mut first[filled..]) {
                Ok(0) => break,
                Ok(read) => filled += read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) => return Err(error),
            }
        }
        first.truncate(filled);
        let (is_gzip, is_zstd) = (first.starts_with(&GZIP), first.starts_with(&ZSTD));
        let whole = Cursor::new(first).chain(input);
        let why = Rc::new(RefCell::new(None));
        let broken = Some(why.clone());
        if is_gzip {
            let reader = Box::new(UpToDamage { reader: MultiGzDecoder::new(whole), error: why });
            return Ok(Self { reader, broken });
        }
        if is_zstd {
            let reader =
                Box::new(UpToDamage { reader: ManyFrames { at: Some(UnpackState::Between(whole)) }, error: why });
            return Ok(Self { reader, broken });
        }
        Ok(Self { reader: Box::new(whole), broken: None })
    }

    /// An input that is taken as it is, whatever it begins with.
    pub fn as_it_is(input: impl Read + 'a) -> Self {
        Self { reader: Box::new(input), broken: None }
    }

    /// Whether it was packed.
    pub fn was_packed(&self) -> bool {
        self.broken.is_some()
    }

    /// Why it could not be unpacked to its end; `None` if it could, so far.
    pub fn damage(&self) -> Option<String> {
        self.broken.as_ref()?.borrow().clone()
    }
}

impl Read for Unpacked<'_> {
    fn read(&mut self, room: &mut [u8]) -> io::Result<usize> {
        self.reader.read(room)
    }
}
