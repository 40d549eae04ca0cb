/// Why bytes cannot be read, or a value cannot be sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Error {
    /// The bytes end inside a section.
    Truncated,
    /// A count is above its maximum, or a text or list too long for its place.
    TooMany,
    /// A value does not fit this field.
    OutOfRange(&'static str),
    /// No form belongs to the deciding number of this field.
    NoForm(&'static str),
    /// A compact number has too many bits.
    BadNumber,
    /// The buffer is too short for what is written.
    NoRoom,
    /// The length of a frame is wrong.
    BadLength,
    /// A checksum of a frame differs.
    BadChecksum,
    /// A part of a frame with a fixed value has another, or a byte stands where no sender writes it.
    BadValue,
    /// No message has the key of the frame.
    UnknownMessage,
}

impl Error {
    /// A number for each kind of error, which stays the same.
    pub const fn number(self) -> u8 {
        match self {
            Self::Truncated => 1,
            Self::TooMany => 2,
            Self::OutOfRange(_) => 3,
            Self::NoForm(_) => 4,
            Self::BadNumber => 5,
            Self::NoRoom => 6,
            Self::BadLength => 7,
            Self::BadChecksum => 8,
            Self::BadValue => 9,
            Self::UnknownMessage => 10,
        }
    }
}

impl core::fmt::Display for Error {
    fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        match self {
            Self::Truncated => out.write_str("the bytes end inside a section"),
            Self::TooMany => out.write_str("a count is above its maximum"),
            Self::OutOfRange(field) => write!(out, "{field}: the value does not fit"),
            Self::NoForm(field) => write!(out, "{field}: another form is selected"),
            Self::BadNumber => out.write_str("a compact number has too many bits"),
            Self::NoRoom => out.write_str("the buffer is too short"),
            Self::BadLength => out.write_str("the length of the frame is wrong"),
            Self::BadChecksum => out.write_str("the checksum of the frame differs"),
            Self::BadValue => out.write_str("a fixed part of the frame has another value"),
            Self::UnknownMessage => out.write_str("no message has the key of the frame"),
        }
    }
}

impl core::error::Error for Error {}

/// Up to `N` bytes.
#[derive(Clone, Copy)]
pub struct Bytes<const N: usize> {
    count: usize,
    bytes: [u8; N],
}

impl<const N: usize> Bytes<N> {
    /// No bytes.
    pub const EMPTY: Self = Self { count: 0, bytes: [0; N] };

    /// A copy of some bytes.
    ///
    /// # Errors
    /// If they are more than `N`.
    pub fn new(some: &[u8]) -> Result<Self, Error> {
        let mut copy = Self::EMPTY;
        let place = copy.bytes.get_mut(..some.len()).ok_or(Error::TooMany)?;
        copy_bytes(place, some);
        copy.count = some.len();
        Ok(copy)
    }

    /// The bytes.
    pub fn as_slice(&self) -> &[u8] {
        self.bytes.get(..self.count).unwrap_or(&[])
    }
}

impl<const N: usize> Default for Bytes<N> {
    fn default() -> Self {
        Self::EMPTY
    }
}

impl<const N: usize> PartialEq for Bytes<N> {
    fn eq(&self, other: &Self) -> bool {
        self.as_slice() == other.as_slice()
    }
}

impl<const N: usize> core::fmt::Debug for Bytes<N> {
    fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        core::fmt::Debug::fmt(self.as_slice(), out)
    }
}

/// Text of up to `N` bytes.
#[derive(Clone, Copy, Default, PartialEq)]
pub struct Text<const N: usize>(Bytes<N>);

impl<const N: usize> Text<N> {
    /// No text.
    pub const EMPTY: Self = Self(Bytes::EMPTY);

    /// A copy of a text.
    ///
    /// # Errors
    /// If it has more than `N` bytes.
    pub fn new(text: &str) -> Result<Self, Error> {
        Bytes::new(text.as_bytes()).map(Self)
    }

    /// A copy of a text as it is received, perhaps not in UTF-8.
    ///
    /// # Errors
    /// If it has more than `N` bytes.
    pub fn from_bytes(some: &[u8]) -> Result<Self, Error> {
        Bytes::new(some).map(Self)
    }

    /// The text; `None` if it is not UTF-8.
    pub fn as_str(&self) -> Option<&str> {
        core::str::from_utf8(self.0.as_slice()).ok()
    }

    /// Its bytes.
    pub fn as_bytes(&self) -> &[u8] {
        self.0.as_slice()
    }
}

impl<const N: usize> core::fmt::Debug for Text<N> {
    fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        match self.as_str() {
            Some(text) => core::fmt::Debug::fmt(text, out),
            None => core::fmt::Debug::fmt(self.as_bytes(), out),
        }
    }
}

/// Up to `N` values.
#[derive(Clone, Copy)]
pub struct List<T, const N: usize> {
    count: usize,
    items: [T; N],
}

/// Values that a list has before it is filled.
pub trait Blank: Copy {
    /// One of them.
    fn blank() -> Self;
}

macro_rules! blank_numbers {
    ($($number:ty)*) => {
        $(impl Blank for $number {
            fn blank() -> Self {
                Self::default()
            }
        })*
    };
}

blank_numbers!(bool u8 u16 u32 u64 i8 i16 i32 i64 f32 f64);

impl<const N: usize> Blank for Bytes<N> {
    fn blank() -> Self {
        Self::EMPTY
    }
}

impl<const N: usize> Blank for Text<N> {
    fn blank() -> Self {
        Self::EMPTY
    }
}

impl<T: Blank, const N: usize> Blank for [T; N] {
    fn blank() -> Self {
        [T::blank(); N]
    }
}

impl<T: Blank, const N: usize> Blank for List<T, N> {
    fn blank() -> Self {
        Self::default()
    }
}

impl<T: Blank, const N: usize> List<T, N> {
    /// A copy of some values.
    ///
    /// # Errors
    /// If they are more than `N`.
    pub fn new(some: &[T]) -> Result<Self, Error> {
        let mut list = Self::default();
        for item in some {
            list.push(*item)?;
        }
        Ok(list)
    }

    /// Adds a value.
    ///
    /// # Errors
    /// If there are `N` already.
    pub fn push(&mut self, item: T) -> Result<(), Error> {
        *self.items.get_mut(self.count).ok_or(Error::TooMany)? = item;
        self.count += 1;
        Ok(())
    }
}

impl<T, const N: usize> List<T, N> {
    /// The values.
    pub fn as_slice(&self) -> &[T] {
        self.items.get(..self.count).unwrap_or(&[])
    }
}

impl<T: Blank, const N: usize> Default for List<T, N> {
    fn default() -> Self {
        Self { count: 0, items: [T::blank(); N] }
    }
}

impl<T: PartialEq, const N: usize> PartialEq for List<T, N> {
    fn eq(&self, other: &Self) -> bool {
        self.as_slice() == other.as_slice()
    }
}

impl<T: core::fmt::Debug, const N: usize> core::fmt::Debug for List<T, N> {
    fn fmt(&self, out: &mut core::fmt::Formatter<'_>) -> core::fmt::Result {
        core::fmt::Debug::fmt(self.as_slice(), out)
    }
}

fn copy_bytes(to: &mut [u8], from: &[u8]) {
    for (to, from) in to.iter_mut().zip(from) {
        *to = *from;
    }
}

/// A place in some bytes, counted in bits in the order in which they are filled.
struct Reader<'a> {
    body: &'a [u8],
    end: usize,
    bit: usize,
    key: Option<u64>,
}

impl<'a> Reader<'a> {
    fn new(body: &'a [u8], key: Option<u64>) -> Self {
        Self { body, end: body.len(), bit: 0, key }
    }

    fn need(&self, bits: usize) -> Result<(), Error> {
        if self.bit + bits > self.end * 8 {
            return Err(Error::Truncated);
        }
        Ok(())
    }

    fn align(&mut self) {
        self.bit = self.bit.div_ceil(8) * 8;
    }

    fn known<const K: usize>(&self, start: usize) -> Result<&'a [u8; K], Error> {
        self.body.get(start..self.end).and_then(|some| some.first_chunk()).ok_or(Error::Truncated)
    }

    fn pass(&mut self, bits: usize) -> Result<(), Error> {
        self.need(bits)?;
        self.bit += bits;
        Ok(())
    }

    fn bits(&mut self, width: usize, little: bool) -> Result<u64, Error> {
        self.need(width)?;
        let mut value = 0;
        let mut done = 0;
        while done < width {
            let place = self.bit + done;
            let skip = place % 8;
            let bits = (8 - skip).min(width - done);
            let byte = u64::from(*self.body.get(place / 8).ok_or(Error::Truncated)?);
            let mask = (1 << bits) - 1;
            if little {
                value |= (byte >> skip & mask) << done;
            } else {
                value = value << bits | byte >> (8 - skip - bits) & mask;
            }
            done += bits;
        }
        self.bit += width;
        Ok(value)
    }

    fn varint(&mut self, width: usize) -> Result<u64, Error> {
        let mut value = 0;
        let mut shift = 0;
        while shift < width {
            let byte = self.bits(8, true)?;
            let group = byte & 0x7f;
            if width - shift < 7 && group >> (width - shift) != 0 {
                break;
            }
            value |= group << shift;
            if byte < 0x80 {
                return Ok(value);
            }
            shift += 7;
        }
        Err(Error::BadNumber)
    }

    fn count(&mut self, most: usize, little: bool) -> Result<usize, Error> {
        let found = self.bits(if most < 256 { 8 } else { 16 }, little)? as usize;
        if found > most { Err(Error::TooMany) } else { Ok(found) }
    }

    fn take<const K: usize>(&mut self, many: usize, little: bool) -> Result<Bytes<K>, Error> {
        self.need(many * 8)?;
        let first = self.bit / 8;
        if self.bit % 8 == 0 {
            self.bit += many * 8;
            return Bytes::new(self.body.get(first..first + many).ok_or(Error::Truncated)?);
        }
        let mut some = Bytes::EMPTY;
        for place in some.bytes.get_mut(..many).ok_or(Error::TooMany)? {
            *place = self.bits(8, little)? as u8;
        }
        some.count = many;
        Ok(some)
    }

    fn rest<const K: usize>(&mut self) -> Result<Bytes<K>, Error> {
        self.need(0)?;
        self.take((self.end * 8 - self.bit) / 8, true)
    }
}

/// Bytes that are filled bit by bit; those from `end` on are not set yet.
struct Writer<'a> {
    out: &'a mut [u8],
    end: usize,
    bit: usize,
}

impl<'a> Writer<'a> {
    fn new(out: &'a mut [u8]) -> Self {
        Self { out, end: 0, bit: 0 }
    }

    fn reach(&mut self) -> Result<(), Error> {
        let bytes = self.bit.div_ceil(8);
        if bytes > self.end {
            self.out.get_mut(self.end..bytes).ok_or(Error::NoRoom)?.fill(0);
            self.end = bytes;
        }
        Ok(())
    }

    fn align(&mut self) -> Result<(), Error> {
        self.bit = self.bit.div_ceil(8) * 8;
        self.reach()
    }

    fn known<const K: usize>(&mut self, start: usize) -> Result<&mut [u8; K], Error> {
        self.end = self.end.max(start + K);
        self.out.get_mut(start..).and_then(|some| some.first_chunk_mut()).ok_or(Error::NoRoom)
    }

    fn mark(&mut self, at: usize, mask: u8) -> Result<(), Error> {
        *self.out.get_mut(at).ok_or(Error::NoRoom)? |= mask;
        Ok(())
    }

    fn set(&mut self, bit: usize, value: u64, width: usize, little: bool) -> Result<(), Error> {
        let mut done = 0;
        while done < width {
            let place = bit + done;
            let skip = place % 8;
            let bits = (8 - skip).min(width - done);
            let mask = (1 << bits) - 1;
            let part = if little {
                (value >> done & mask) << skip
            } else {
                (value >> (width - done - bits) & mask) << (8 - skip - bits)
            };
            self.mark(place / 8, part as u8)?;
            done += bits;
        }
        Ok(())
    }

    fn put(&mut self, value: u64, width: usize, little: bool) -> Result<(), Error> {
        let at = self.bit;
        self.bit += width;
        self.reach()?;
        self.set(at, value, width, little)
    }

    fn varint(&mut self, mut value: u64) -> Result<(), Error> {
        while value > 0x7f {
            self.put(value & 0x7f | 0x80, 8, true)?;
            value >>= 7;
        }
        self.put(value, 8, true)
    }

    fn count(&mut self, many: usize, most: usize, little: bool) -> Result<(), Error> {
        if many > most {
            return Err(Error::TooMany);
        }
        self.put(many as u64, if most < 256 { 8 } else { 16 }, little)
    }

    fn bytes(&mut self, some: &[u8], little: bool) -> Result<(), Error> {
        if self.bit % 8 == 0 {
            let first = self.bit / 8;
            let place = self.out.get_mut(first..first + some.len()).ok_or(Error::NoRoom)?;
            copy_bytes(place, some);
            self.end = self.end.max(first + some.len());
            self.bit += some.len() * 8;
            return Ok(());
        }
        for byte in some {
            self.put(u64::from(*byte), 8, little)?;
        }
        Ok(())
    }
}

const fn signed(raw: u64, width: u32) -> i64 {
    ((raw << (64 - width)) as i64) >> (64 - width)
}

const fn zigzag(raw: u64) -> i64 {
    (raw >> 1) as i64 ^ -((raw & 1) as i64)
}

const fn unzigzag(value: i64) -> u64 {
    ((value << 1) ^ (value >> 63)) as u64
}

/// The nearest whole number; of two that are as near the one away from zero.
fn nearest(value: f64) -> i64 {
    (if value >= 0.0 { value + 0.5 } else { value - 0.5 }) as i64
}

/// The same for numbers of 64 bits without a sign.
fn nearest_unsigned(value: f64) -> u64 {
    (value + 0.5) as u64
}

/// The value of 16 bits as IEEE 754 has them.
fn half_value(raw: u16) -> f32 {
    let fraction = u32::from(raw & 0x3ff);
    let size = match u32::from(raw >> 10 & 0x1f) {
        0 => f32::from(raw & 0x3ff) * f32::from_bits(0x3380_0000),
        31 => f32::from_bits(0x7f80_0000 | fraction << 13),
        exponent => f32::from_bits(exponent + 112 << 23 | fraction << 13),
    };
    if raw & 0x8000 == 0 { size } else { -size }
}

/// The 16 bits of a finite number as IEEE 754 has them; of two that are as near the even one.
fn half_bits(value: f32, field: &'static str) -> Result<u16, Error> {
    let bits = value.to_bits();
    let size = bits & 0x7fff_ffff;
    let rounded = match size {
        0x477f_f000.. => return Err(Error::OutOfRange(field)),
        // In steps of the last place below the least exponent.
        0..0x3880_0000 => (f32::from_bits(size) + 0.5).to_bits() - 0x3f00_0000,
        size => (size + 0xfff + (size >> 13 & 1) >> 13) - (112 << 10),
    };
    Ok((rounded | (bits & 0x8000_0000) >> 16) as u16)
}

/// Bytes of a body that was checked.
fn known<const K: usize>(body: &[u8], start: usize) -> &[u8; K] {
    body.get(start..).and_then(|some| some.first_chunk()).unwrap_or(&[0; K])
}

/// Some of a frame; nothing if it does not reach so far.
fn stretch(frame: &[u8], from: usize, to: usize) -> &[u8] {
    frame.get(from..to).unwrap_or(&[])
}

/// A number in hex digits.
fn digits(some: &[u8]) -> Option<u64> {
    let mut value = 0;
    for byte in some {
        let digit = match byte {
            b'0'..=b'9' => byte - b'0',
            b'a'..=b'f' => byte - b'a' + 10,
            b'A'..=b'F' => byte - b'A' + 10,
            _ => return None,
        };
        value = value << 4 | u64::from(digit);
    }
    Some(value)
}

/// Writes a number in hex digits.
fn set_digits(some: &mut [u8], mut value: u64) {
    for byte in some.iter_mut().rev() {
        let digit = (value & 15) as u8;
        *byte = if digit < 10 { b'0' + digit } else { b'A' + digit - 10 };
        value >>= 4;
    }
}

/// What stands in front of the zeros that fill up a text.
fn unpadded(some: &[u8]) -> &[u8] {
    let end = some.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    some.get(..end).unwrap_or(&[])
}
