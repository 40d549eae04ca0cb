
/// The frames of a channel, as its receiver needs them.
pub trait Frames {
    /// A frame, whose body lies in the receiver.
    type Frame<'a>;
    /// Any of its messages.
    type Message;
    /// Whether another frame may stand inside of one whose body cannot be read.
    const LOOKS_INSIDE: bool;
    /// Judges a plain frame: length, fixed values, checksums.
    ///
    /// # Errors
    /// If something is wrong with it.
    fn judge(plain: &[u8]) -> Result<(), Error>;
    /// The parts of a frame that was judged to be right.
    fn frame(plain: &[u8]) -> Option<Self::Frame<'_>>;
    /// Reads its body.
    ///
    /// # Errors
    /// If that cannot be read.
    fn read(plain: &[u8]) -> Result<Self::Message, Error>;
}

/// A frame that was found in a stream, and what it carries: a message, or why its body cannot be read.
pub struct Received<'a, C: Frames> {
    /// The frame.
    pub frame: C::Frame<'a>,
    /// The message.
    pub message: Result<C::Message, Error>,
}

/// What a receiver has seen. Every byte belongs to a good frame, an unread one, or is skipped.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counters {
    /// Frames whose body was read.
    pub good_frames: u32,
    /// Their bytes.
    pub good_bytes: u32,
    /// Frames that are right, and whose body cannot be read.
    pub unread_frames: u32,
    /// Their bytes.
    pub unread_bytes: u32,
    /// Frames with a wrong checksum.
    pub bad_checksums: u32,
    /// Frames with a wrong length.
    pub bad_lengths: u32,
    /// Frames with another wrong value.
    pub bad_values: u32,
    /// Bytes of no frame.
    pub skipped_bytes: u32,
}

impl Counters {
    fn skip(&mut self, bytes: usize) {
        self.skipped_bytes = self.skipped_bytes.wrapping_add(bytes as u32);
    }

    fn bad(&mut self, error: Error) {
        let counter = match error {
            Error::BadChecksum => &mut self.bad_checksums,
            Error::BadLength => &mut self.bad_lengths,
            _ => &mut self.bad_values,
        };
        *counter = counter.wrapping_add(1);
    }

    /// Judges a frame that has so many bytes on the wire; what it carries, if it is one.
    fn judge<C: Frames>(&mut self, plain: &[u8], bytes: usize) -> Option<Result<C::Message, Error>> {
        if let Err(error) = C::judge(plain) {
            self.bad(error);
            return None;
        }
        let message = C::read(plain);
        if message.is_ok() {
            self.good_frames = self.good_frames.wrapping_add(1);
            self.good_bytes = self.good_bytes.wrapping_add(bytes as u32);
        } else {
            self.unread_frames = self.unread_frames.wrapping_add(1);
            if !C::LOOKS_INSIDE {
                self.unread_bytes = self.unread_bytes.wrapping_add(bytes as u32);
            }
        }
        Some(message)
    }
}

/// Bytes that came and are not decided on yet.
struct Held<const N: usize> {
    bytes: [u8; N],
    from: usize,
    to: usize,
}

impl<const N: usize> Held<N> {
    const fn new() -> Self {
        Self { bytes: [0; N], from: 0, to: 0 }
    }

    const fn count(&self) -> usize {
        self.to - self.from
    }

    fn all(&self) -> &[u8] {
        self.bytes.get(self.from..self.to).unwrap_or(&[])
    }

    fn clear(&mut self) {
        (self.from, self.to) = (0, 0);
    }

    fn push(&mut self, byte: u8) {
        if self.to == N {
            let (from, count) = (self.from, self.count());
            for at in 0..count {
                let moved = self.bytes.get(from + at).copied();
                if let (Some(moved), Some(place)) = (moved, self.bytes.get_mut(at)) {
                    *place = moved;
                }
            }
            (self.from, self.to) = (0, count);
        }
        if let Some(place) = self.bytes.get_mut(self.to) {
            *place = byte;
            self.to += 1;
        }
    }
}

/// The next of some bytes, which is taken from their front.
fn next_byte(data: &mut &[u8]) -> Option<u8> {
    let (first, rest) = data.split_first()?;
    *data = rest;
    Some(*first)
}

/// How long a frame is, as far as its first bytes say it.
pub enum Size {
    /// More bytes are needed.
    More,
    /// So many bytes.
    Is(usize),
    /// This is no frame.
    None(Error),
}

/// Frames that begin with sync bytes, and say how long they are.
pub trait SyncFrames: Frames {
    /// What they begin with.
    const SYNC: &'static [u8];
    /// How long a frame is by its first bytes, which begin with [`Self::SYNC`].
    fn size(frame: &[u8]) -> Size;
}

/// Whether some bytes begin as a frame does, as far as they go.
fn begins(some: &[u8], sync: &[u8]) -> bool {
    some.iter().zip(sync).all(|(one, other)| one == other)
}

/// Finds frames with sync bytes in a stream. Frames have up to `N` bytes.
pub struct FindsBySync<C, const N: usize> {
    held: Held<N>,
    /// Bytes of the frame that was given out.
    given: usize,
    /// What has been seen.
    pub counters: Counters,
    channel: core::marker::PhantomData<C>,
}

impl<C: SyncFrames, const N: usize> Default for FindsBySync<C, N> {
    fn default() -> Self {
        Self::new()
    }
}

impl<C: SyncFrames, const N: usize> FindsBySync<C, N> {
    /// One that has not seen anything yet.
    pub const fn new() -> Self {
        let counters = Counters {
            good_frames: 0,
            good_bytes: 0,
            unread_frames: 0,
            unread_bytes: 0,
            bad_checksums: 0,
            bad_lengths: 0,
            bad_values: 0,
            skipped_bytes: 0,
        };
        Self { held: Held::new(), given: 0, counters, channel: core::marker::PhantomData }
    }

    /// Takes bytes from the front of `data` until a frame is whole with them, or all are taken.
    pub fn next(&mut self, data: &mut &[u8]) -> Option<Received<'_, C>> {
        self.drop_given();
        loop {
            if let Some(found) = self.find(false) {
                return self.give(found);
            }
            self.held.push(next_byte(data)?);
        }
    }

    /// After nothing came for a while: what is half is dropped, and what stands whole in it is given out, one frame each time.
    pub fn gap(&mut self) -> Option<Received<'_, C>> {
        self.drop_given();
        let found = self.find(true)?;
        self.give(found)
    }

    fn drop_given(&mut self) {
        self.held.from += core::mem::take(&mut self.given);
    }

    fn skip(&mut self) {
        self.held.from += 1;
        self.counters.skip(1);
    }

    fn give(&mut self, found: (usize, Result<C::Message, Error>)) -> Option<Received<'_, C>> {
        let (size, message) = found;
        // Nothing says of a frame that cannot be read that it is one at all: the next can stand inside of it.
        if message.is_err() && C::LOOKS_INSIDE {
            self.counters.skip(1);
            self.given = 1;
        } else {
            self.given = size;
        }
        let frame = C::frame(self.held.all().get(..size)?)?;
        Some(Received { frame, message })
    }

    fn find(&mut self, ended: bool) -> Option<(usize, Result<C::Message, Error>)> {
        while self.held.count() > 0 {
            let held = self.held.all();
            if !begins(held, C::SYNC) {
                self.skip();
                continue;
            }
            match C::size(held) {
                Size::None(error) => {
                    self.counters.bad(error);
                    self.skip();
                    continue;
                }
                Size::Is(size) => {
                    if let Some(whole) = held.get(..size) {
                        if let Some(message) = self.counters.judge::<C>(whole, size) {
                            return Some((size, message));
                        }
                        self.skip();
                        continue;
                    }
                }
                Size::More => {}
            }
            if !ended && self.held.count() < N {
                return None;
            }
            self.skip();
        }
        None
    }
}

/// Frames that silence ends. Frames have up to `N` bytes.
pub struct FindsBySilence<C, const N: usize> {
    held: Held<N>,
    skipping: bool,
    /// Whether the held bytes were given out.
    given: bool,
    /// What has been seen.
    pub counters: Counters,
    channel: core::marker::PhantomData<C>,
}

impl<C: Frames, const N: usize> Default for FindsBySilence<C, N> {
    fn default() -> Self {
        let channel = core::marker::PhantomData;
        Self { held: Held::new(), skipping: false, given: false, counters: Counters::default(), channel }
    }
}

impl<C: Frames, const N: usize> FindsBySilence<C, N> {
    /// One that has not seen anything yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes all bytes. A frame is over when nothing comes for a while, and never before.
    pub fn next(&mut self, data: &mut &[u8]) -> Option<Received<'_, C>> {
        if core::mem::take(&mut self.given) {
            self.held.clear();
        }
        while let Some(byte) = next_byte(data) {
            if self.held.count() == N {
                if !self.skipping {
                    self.counters.bad(Error::BadLength);
                }
                self.counters.skip(N);
                self.held.clear();
                self.skipping = true;
            }
            if self.skipping {
                self.counters.skip(1);
            } else {
                self.held.push(byte);
            }
        }
        None
    }

    /// After silence: the frame before it, if there was one.
    pub fn gap(&mut self) -> Option<Received<'_, C>> {
        self.skipping = false;
        if core::mem::take(&mut self.given) {
            self.held.clear();
        }
        let count = self.held.count();
        if count == 0 {
            return None;
        }
        let found = self.counters.judge::<C>(self.held.all(), count);
        if !matches!(&found, Some(message) if message.is_ok() || !C::LOOKS_INSIDE) {
            self.counters.skip(count);
        }
        self.given = true;
        let message = found?;
        let frame = C::frame(self.held.all())?;
        Some(Received { frame, message })
    }
}

/// Frames that stand between delimiters.
pub trait DelimitedFrames: Frames {
    /// What stands behind a frame.
    const DELIMITER: u8;
    /// Whether it stands in front of frames, too.
    const LEADS: bool;
    /// Makes the plain frame of what stands between delimiters, in place; how many bytes it has.
    ///
    /// # Errors
    /// If no sender writes such bytes.
    fn plain(some: &mut [u8]) -> Result<usize, Error>;
}

/// Finds frames between delimiters in a stream. Frames have up to `N` bytes on the wire.
pub struct FindsByDelimiter<C, const N: usize> {
    held: Held<N>,
    lead: usize,
    skipping: bool,
    /// Whether the held bytes were given out.
    given: bool,
    /// What has been seen.
    pub counters: Counters,
    channel: core::marker::PhantomData<C>,
}

impl<C: DelimitedFrames, const N: usize> Default for FindsByDelimiter<C, N> {
    fn default() -> Self {
        let channel = core::marker::PhantomData;
        Self { held: Held::new(), lead: 0, skipping: false, given: false, counters: Counters::default(), channel }
    }
}

impl<C: DelimitedFrames, const N: usize> FindsByDelimiter<C, N> {
    /// One that has not seen anything yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes bytes from the front of `data` until a frame is whole with them, or all are taken.
    pub fn next(&mut self, data: &mut &[u8]) -> Option<Received<'_, C>> {
        if core::mem::take(&mut self.given) {
            self.held.clear();
        }
        loop {
            let byte = next_byte(data)?;
            if let Some((count, message)) = self.put(byte) {
                self.given = true;
                let frame = C::frame(self.held.all().get(..count)?)?;
                return Some(Received { frame, message });
            }
        }
    }

    /// After nothing came for a while: what is half is dropped.
    pub fn gap(&mut self) -> Option<Received<'_, C>> {
        if core::mem::take(&mut self.given) {
            self.held.clear();
        }
        self.counters.skip(self.held.count() + self.lead);
        self.held.clear();
        self.lead = 0;
        self.skipping = false;
        None
    }

    fn put(&mut self, byte: u8) -> Option<(usize, Result<C::Message, Error>)> {
        let is_end = byte == C::DELIMITER;
        if C::LEADS && is_end && self.held.count() == 0 && !self.skipping {
            // Of several delimiters in front of a frame the last.
            self.counters.skip(self.lead);
            self.lead = 1;
            return None;
        }
        if self.held.count() + self.lead == N {
            // Too long for a frame: passed over up to its delimiter.
            if !self.skipping {
                self.counters.bad(Error::BadLength);
            }
            self.counters.skip(self.held.count() + self.lead);
            self.held.clear();
            self.lead = 0;
            self.skipping = true;
        }
        if self.skipping {
            if C::LEADS && is_end {
                self.lead = 1;
            } else {
                self.counters.skip(1);
            }
            self.skipping = !is_end;
            return None;
        }
        if !is_end {
            self.held.push(byte);
            return None;
        }
        let count = self.held.count() + 1 + self.lead;
        let mut found = None;
        let (from, to) = (self.held.from, self.held.to);
        if let Some(some) = self.held.bytes.get_mut(from..to).filter(|some| !some.is_empty()) {
            match C::plain(some) {
                Ok(plain) => {
                    let judged = some.get(..plain).and_then(|some| self.counters.judge::<C>(some, count));
                    found = judged.map(|message| (plain, message));
                }
                Err(error) => self.counters.bad(error),
            }
        }
        if found.is_some() {
            self.lead = 0;
            return found;
        }
        self.held.clear();
        // The delimiter that ended it may begin the next one.
        self.counters.skip(if C::LEADS { count - 1 } else { count });
        self.lead = usize::from(C::LEADS);
        None
    }
}

/// Frames that begin with sync bytes, in whose rest some bytes are escaped.
pub trait EscapedFrames: SyncFrames {
    /// What ends a frame; empty where its length says it.
    const END: &'static [u8];
    /// What stands in front of a code.
    const ESCAPE: u8;
    /// Bytes of the head.
    const HEAD: usize;
    /// The code of a byte that has to be escaped.
    fn code(byte: u8) -> Option<u8>;
    /// The byte of a code.
    fn meaning(code: u8) -> Option<u8>;
    /// Whether a fixed part of the head has another value.
    fn has_wrong_head(head: &[u8]) -> bool;
}

/// Finds frames with escapes in a stream. Frames have up to `N` bytes on the wire.
pub struct FindsByEscapes<C, const N: usize> {
    held: Held<N>,
    /// The frame without escapes, as far as it was read.
    plain: Held<N>,
    read: usize,
    given: usize,
    /// What has been seen.
    pub counters: Counters,
    channel: core::marker::PhantomData<C>,
}

impl<C: EscapedFrames, const N: usize> Default for FindsByEscapes<C, N> {
    fn default() -> Self {
        let channel = core::marker::PhantomData;
        Self { held: Held::new(), plain: Held::new(), read: 0, given: 0, counters: Counters::default(), channel }
    }
}

impl<C: EscapedFrames, const N: usize> FindsByEscapes<C, N> {
    /// One that has not seen anything yet.
    pub fn new() -> Self {
        Self::default()
    }

    /// Takes bytes from the front of `data` until a frame is whole with them, or all are taken.
    pub fn next(&mut self, data: &mut &[u8]) -> Option<Received<'_, C>> {
        self.held.from += core::mem::take(&mut self.given);
        loop {
            if let Some(message) = self.find(false) {
                return self.give(message);
            }
            self.held.push(next_byte(data)?);
        }
    }

    /// After nothing came for a while: what is half is dropped, and what stands whole in it is given out, one frame each time.
    pub fn gap(&mut self) -> Option<Received<'_, C>> {
        self.held.from += core::mem::take(&mut self.given);
        let message = self.find(true)?;
        self.give(message)
    }

    fn give(&mut self, message: (usize, Result<C::Message, Error>)) -> Option<Received<'_, C>> {
        let (size, message) = message;
        if message.is_err() && C::LOOKS_INSIDE {
            self.counters.skip(1);
            self.given = 1;
        } else {
            self.given = size;
        }
        let frame = C::frame(self.plain.all())?;
        Some(Received { frame, message })
    }

    fn skip(&mut self) {
        self.held.from += 1;
        self.counters.skip(1);
        self.read = 0;
    }

    fn find(&mut self, ended: bool) -> Option<(usize, Result<C::Message, Error>)> {
        while self.held.count() > 0 {
            if !begins(self.held.all(), C::SYNC) {
                self.skip();
                continue;
            }
            if self.held.count() >= C::SYNC.len() {
                if self.read == 0 {
                    self.plain.clear();
                    for byte in C::SYNC {
                        self.plain.push(*byte);
                    }
                    self.read = C::SYNC.len();
                }
                match self.read_on() {
                    Ok(false) => {}
                    Ok(true) => {
                        let count = core::mem::take(&mut self.read);
                        if let Some(message) = self.counters.judge::<C>(self.plain.all(), count) {
                            return Some((count, message));
                        }
                        self.skip();
                        continue;
                    }
                    Err(error) => {
                        self.counters.bad(error);
                        self.skip();
                        continue;
                    }
                }
            }
            if !ended && self.held.count() < N {
                return None;
            }
            self.skip();
        }
        None
    }

    /// Reads on in the frame; whether this is its end.
    fn read_on(&mut self) -> Result<bool, Error> {
        loop {
            if self.read + C::END.len() > N {
                return Err(Error::BadLength);
            }
            if self.plain.count() == C::HEAD && C::has_wrong_head(self.plain.all()) {
                return Err(Error::BadValue);
            }
            let left = self.held.all().get(self.read..).unwrap_or(&[]);
            if C::END.is_empty() {
                match C::size(self.plain.all()) {
                    Size::None(error) => return Err(error),
                    Size::Is(size) if size <= self.plain.count() => return Ok(true),
                    _ => {}
                }
            } else if begins(left, C::END) {
                if left.len() < C::END.len() {
                    return Ok(false);
                }
                for byte in C::END {
                    self.plain.push(*byte);
                }
                self.read += C::END.len();
                return Ok(true);
            }
            let Some(byte) = left.first().copied() else { return Ok(false) };
            if byte == C::ESCAPE {
                let Some(code) = left.get(1) else { return Ok(false) };
                let byte = C::meaning(*code).ok_or(Error::BadValue)?;
                self.plain.push(byte);
                self.read += 2;
            } else if C::code(byte).is_some() {
                return Err(Error::BadValue);
            } else {
                self.plain.push(byte);
                self.read += 1;
            }
        }
    }
}
