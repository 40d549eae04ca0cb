
/// Some bytes that are filled from the front.
struct Filled<'a> {
    out: &'a mut [u8],
    count: usize,
}

impl<'a> Filled<'a> {
    fn new(out: &'a mut [u8]) -> Self {
        Self { out, count: 0 }
    }

    fn push(&mut self, byte: u8) -> Result<(), Error> {
        *self.out.get_mut(self.count).ok_or(Error::NoRoom)? = byte;
        self.count += 1;
        Ok(())
    }
}

/// Consistent overhead byte stuffing, with the zero at the end.
fn cobs(plain: &[u8], out: &mut [u8]) -> Result<usize, Error> {
    let mut out = Filled::new(out);
    let (mut code, mut run) = (0, 1);
    out.push(1)?;
    for (at, byte) in plain.iter().enumerate() {
        if *byte == 0 {
            (code, run) = (out.count, 1);
            out.push(1)?;
            continue;
        }
        out.push(*byte)?;
        run += 1;
        *out.out.get_mut(code).ok_or(Error::NoRoom)? = run;
        if run == 0xff && at + 1 < plain.len() {
            (code, run) = (out.count, 1);
            out.push(1)?;
        }
    }
    out.push(0)?;
    Ok(out.count)
}

/// Undoes [`cobs`] in place; the zero at the end is not among the bytes.
fn without_cobs(some: &mut [u8]) -> Result<usize, Error> {
    let (mut at, mut count) = (0, 0);
    while at < some.len() {
        let code = usize::from(*some.get(at).ok_or(Error::BadValue)?);
        if code == 0 || at + code > some.len() {
            return Err(Error::BadValue);
        }
        for from in at + 1..at + code {
            let byte = *some.get(from).ok_or(Error::BadValue)?;
            if byte == 0 {
                return Err(Error::BadValue);
            }
            *some.get_mut(count).ok_or(Error::BadValue)? = byte;
            count += 1;
        }
        at += code;
        if code < 0xff && at < some.len() {
            *some.get_mut(count).ok_or(Error::BadValue)? = 0;
            count += 1;
        }
    }
    Ok(count)
}

/// How some bytes are written that may not stand in a frame.
struct Escapes {
    escape: u8,
    /// The code of a byte that has to be escaped.
    code: fn(u8) -> Option<u8>,
    /// The byte of a code.
    meaning: fn(u8) -> Option<u8>,
}

impl Escapes {
    fn write(&self, plain: &[u8], out: &mut Filled<'_>) -> Result<(), Error> {
        for byte in plain {
            if let Some(code) = (self.code)(*byte) {
                out.push(self.escape)?;
                out.push(code)?;
            } else {
                out.push(*byte)?;
            }
        }
        Ok(())
    }

    /// Undoes [`Self::write`] in place.
    fn undo(&self, some: &mut [u8]) -> Result<usize, Error> {
        let (mut at, mut count) = (0, 0);
        while let Some(byte) = some.get(at).copied() {
            at += 1;
            let plain = if byte == self.escape {
                let code = *some.get(at).ok_or(Error::BadValue)?;
                at += 1;
                (self.meaning)(code).ok_or(Error::BadValue)?
            } else if (self.code)(byte).is_some() {
                return Err(Error::BadValue);
            } else {
                byte
            };
            *some.get_mut(count).ok_or(Error::BadValue)? = plain;
            count += 1;
        }
        Ok(count)
    }
}
