//! What is to become of the packets of a capture.
//!
//! However many there are, little of it is in memory: what was collected is put away in order of the packets' numbers from time to time, and
//! all that was put away is read back together, packet by packet.

use std::collections::BTreeMap;
use std::io::{self, BufReader, Read, Seek, SeekFrom, Write};
use std::ops::Range;

use crate::traced::PacketPart;

/// What becomes of one packet.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PacketEdit {
    /// Stretches of its bytes that are replaced, by rising place and without overlap.
    pub cuts: Vec<(Range<usize>, Vec<u8>)>,
    /// Whether it is left out.
    pub is_dropped: bool,
    /// How many times it is there once more.
    pub copies: u32,
    /// By how many nanoseconds its time is later, or earlier.
    pub delay: i64,
    /// All of its bytes, in place of its own.
    pub instead: Option<Vec<u8>>,
}

/// A place to put something away, and to read it back: a temporary file, or memory.
pub trait Spool: Read + Write + Seek {}

impl<T: Read + Write + Seek> Spool for T {}

/// Makes such a place.
pub(crate) type NewSpool = Box<dyn FnMut() -> io::Result<Box<dyn Spool>>>;

/// So many bytes of edits are collected before they are put away.
const MUCH: usize = 16 << 20;

/// What becomes of the packets of a capture, by their numbers from 1.
pub struct Edits {
    /// Those that are changed, and were not put away.
    packets: BTreeMap<u64, PacketEdit>,
    /// Bytes of memory that these take, about.
    collected: usize,
    new_spool: NewSpool,
    put_away: Vec<Box<dyn Spool>>,
    /// The stretch of time outside of which packets are left out, both ends in it, in nanoseconds since 1970.
    pub span: Option<(u64, u64)>,
}

impl Edits {
    /// None yet; `new_spool` makes room for what memory is not for.
    pub fn new(new_spool: NewSpool) -> Self {
        Self { packets: BTreeMap::new(), collected: 0, new_spool, put_away: Vec::new(), span: None }
    }

    /// What becomes of a packet, as far as it was not put away.
    pub fn of(&mut self, packet: u64) -> &mut PacketEdit {
        self.packets.entry(packet).or_insert_with(|| {
            self.collected += std::mem::size_of::<(u64, PacketEdit)>();
            PacketEdit::default()
        })
    }

    /// Puts away what was collected if it is much, but not what becomes of packets that are `needed` again.
    ///
    /// # Errors
    /// If there is no room for it.
    pub fn spill(&mut self, needed: impl Fn(u64) -> bool) -> io::Result<()> {
        if self.collected < MUCH {
            return Ok(());
        }
        self.collected = 0;
        let all = std::mem::take(&mut self.packets);
        let (stay, go): (BTreeMap<_, _>, BTreeMap<_, _>) = all.into_iter().partition(|(packet, _)| needed(*packet));
        self.packets = stay;
        let mut spool = (self.new_spool)()?;
        let mut out = io::BufWriter::new(&mut spool);
        for (packet, edit) in &go {
            edit.write(*packet, &mut out)?;
        }
        out.flush()?;
        drop(out);
        self.put_away.push(spool);
        Ok(())
    }

    /// All edits, to be asked for by rising number.
    ///
    /// # Errors
    /// If what was put away cannot be read.
    pub fn in_order(self) -> io::Result<EditsInOrder> {
        let mut runs = Vec::new();
        for mut spool in self.put_away {
            spool.seek(SeekFrom::Start(0))?;
            let mut spool = BufReader::new(spool);
            let next = number_of_next(&mut spool)?;
            runs.push(Run { spool, next });
        }
        Ok(EditsInOrder { runs, last: self.packets.into_iter().peekable(), span: self.span })
    }

    /// Replaces the bytes of a frame, which stands in these parts, by others.
    ///
    /// # Errors
    /// If its bytes were put together from several packets of a network.
    pub fn replace(&mut self, parts: &[PacketPart], bytes: &[u8]) -> Result<(), String> {
        for (n, part) in parts.iter().enumerate() {
            let at = part.at.ok_or_else(put_together)?;
            let new = if n == 0 { bytes.to_vec() } else { Vec::new() };
            self.collected += CUT + new.len();
            self.of(part.packet).cut(at..at + part.length, new);
        }
        Ok(())
    }

    /// Leaves the bytes of a frame out, and packets that hold nothing else.
    ///
    /// # Errors
    /// As [`Self::replace`].
    pub fn leave_out(&mut self, parts: &[PacketPart]) -> Result<(), String> {
        for part in parts {
            if part.length == part.whole {
                self.of(part.packet).is_dropped = true;
            } else {
                self.replace(std::slice::from_ref(part), &[])?;
            }
        }
        Ok(())
    }

    /// Puts the bytes of a frame behind it once more.
    ///
    /// # Errors
    /// As [`Self::replace`].
    pub fn repeat(&mut self, parts: &[PacketPart], bytes: &[u8]) -> Result<(), String> {
        let Some(last) = parts.last() else { return Ok(()) };
        let end = last.at.ok_or_else(put_together)? + last.length;
        self.collected += CUT + bytes.len();
        self.of(last.packet).cut(end..end, bytes.to_vec());
        Ok(())
    }
}

/// Bytes of memory that a cut takes beside those that it puts in.
const CUT: usize = 48;

/// What was put away at once, by rising number of the packet.
struct Run {
    spool: BufReader<Box<dyn Spool>>,
    /// The packet of the next edit, which is read when it is asked for.
    next: Option<u64>,
}

impl Run {
    /// The next edit, if it is of a packet up to this one.
    fn take_up_to(&mut self, packet: u64) -> io::Result<Option<(u64, PacketEdit)>> {
        let Some(number) = self.next.filter(|number| *number <= packet) else { return Ok(None) };
        let edit = PacketEdit::read(&mut self.spool)?;
        self.next = number_of_next(&mut self.spool)?;
        Ok(Some((number, edit)))
    }
}

/// The number of a packet; `None` at the end.
fn number_of_next(from: &mut impl Read) -> io::Result<Option<u64>> {
    let mut room = [0; 8];
    match from.read_exact(&mut room) {
        Ok(()) => Ok(Some(u64::from_le_bytes(room))),
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => Ok(None),
        Err(error) => Err(error),
    }
}

/// What becomes of the packets of a capture, asked for in their order.
pub struct EditsInOrder {
    runs: Vec<Run>,
    last: std::iter::Peekable<std::collections::btree_map::IntoIter<u64, PacketEdit>>,
    /// The stretch of time outside of which packets are left out, both ends in it, in nanoseconds since 1970.
    pub span: Option<(u64, u64)>,
}

impl EditsInOrder {
    /// What becomes of the packet with this number, which is greater than all before; those between are passed over.
    ///
    /// # Errors
    /// If what was put away cannot be read.
    pub fn of(&mut self, packet: u64) -> io::Result<PacketEdit> {
        let mut all = PacketEdit::default();
        while let Some(edit) = self.next_of(packet)? {
            all.add(edit);
        }
        Ok(all)
    }

    /// What becomes of the packet with this number, as [`Self::of`], but piece by piece as it was put away; `None` behind the last piece.
    ///
    /// # Errors
    /// As [`Self::of`].
    pub(crate) fn next_of(&mut self, packet: u64) -> io::Result<Option<PacketEdit>> {
        for run in &mut self.runs {
            while let Some((number, edit)) = run.take_up_to(packet)? {
                if number == packet {
                    return Ok(Some(edit));
                }
            }
        }
        while let Some((number, edit)) = self.last.next_if(|(number, _)| *number <= packet) {
            if number == packet {
                return Ok(Some(edit));
            }
        }
        Ok(None)
    }
}

fn put_together() -> String {
    "its bytes were put together from several packets, of which none can be changed by itself".to_owned()
}

impl PacketEdit {
    /// Puts bytes in place of others. Cuts mostly come in their order, and there may be millions in one stream.
    fn cut(&mut self, range: Range<usize>, bytes: Vec<u8>) {
        let place = self.cuts.partition_point(|(before, _)| before.start <= range.start);
        self.cuts.insert(place, (range, bytes));
    }

    /// Takes what else becomes of the same packet.
    fn add(&mut self, other: Self) {
        self.cuts.extend(other.cuts);
        self.cuts.sort_by_key(|(range, _)| range.start);
        self.is_dropped |= other.is_dropped;
        self.copies += other.copies;
        self.delay += other.delay;
        self.instead = other.instead.or(self.instead.take());
    }

    fn write(&self, packet: u64, out: &mut impl Write) -> io::Result<()> {
        let mut number = |number: u64| out.write_all(&number.to_le_bytes());
        number(packet)?;
        number(u64::from(self.is_dropped) | u64::from(self.instead.is_some()) << 1 | u64::from(self.copies) << 32)?;
        number(self.delay as u64)?;
        number(self.cuts.len() as u64)?;
        for (range, bytes) in &self.cuts {
            for value in [range.start, range.end, bytes.len()] {
                out.write_all(&(value as u64).to_le_bytes())?;
            }
            out.write_all(bytes)?;
        }
        if let Some(instead) = &self.instead {
            out.write_all(&(instead.len() as u64).to_le_bytes())?;
            out.write_all(instead)?;
        }
        Ok(())
    }

    /// One that was written, behind its packet's number.
    fn read(from: &mut impl Read) -> io::Result<Self> {
        let mut room = [0; 8];
        let mut number = |from: &mut dyn Read| from.read_exact(&mut room).map(|()| u64::from_le_bytes(room));
        let bits = number(from)?;
        let delay = number(from)? as i64;
        let mut cuts = Vec::new();
        for _ in 0..number(from)? {
            let (start, end) = (number(from)? as usize, number(from)? as usize);
            let mut bytes = vec![0; number(from)? as usize];
            from.read_exact(&mut bytes)?;
            cuts.push((start..end, bytes));
        }
        let instead = match bits & 2 {
            0 => None,
            _ => {
                let mut bytes = vec![0; number(from)? as usize];
                from.read_exact(&mut bytes)?;
                Some(bytes)
            }
        };
        Ok(Self { cuts, is_dropped: bits & 1 != 0, copies: (bits >> 32) as u32, delay, instead })
    }

    /// Where the bytes that are changed begin and end, and what stands there then.
    pub fn payload(&self, packet: &[u8]) -> Option<(Range<usize>, Vec<u8>)> {
        let (first, last) = (self.cuts.first()?.0.start, self.cuts.iter().map(|(range, _)| range.end).max()?);
        let mut new = Vec::new();
        let mut at = first;
        for (range, bytes) in &self.cuts {
            new.extend_from_slice(packet.get(at..range.start).unwrap_or_default());
            new.extend_from_slice(bytes);
            at = at.max(range.end);
        }
        Some((first..last, new))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_put_away_comes_back_in_order() {
        let mut edits = Edits::new(Box::new(|| Ok(Box::new(io::Cursor::new(Vec::new())))));
        let part = |packet, at| PacketPart { packet, at: Some(at), length: 2, whole: 100 };
        // Later packets first, one of them in two goes, and one that is needed again.
        for packet in [9, 4, 7] {
            edits.replace(&[part(packet, 10)], &[packet as u8; 3]).unwrap();
        }
        edits.of(4).delay = -5;
        edits.of(9).instead = Some(vec![1, 2]);
        edits.collected = MUCH;
        edits.spill(|packet| packet == 7).unwrap();
        assert_eq!(edits.packets.keys().copied().collect::<Vec<_>>(), [7]);
        edits.replace(&[part(4, 2)], &[8]).unwrap();
        edits.of(3).is_dropped = true;
        edits.of(9).copies = 2;
        edits.collected = MUCH;
        edits.spill(|_| false).unwrap();
        edits.repeat(&[part(4, 20)], &[6]).unwrap();
        let mut all = edits.in_order().unwrap();
        assert_eq!(all.of(1).unwrap(), PacketEdit::default());
        assert!(all.of(3).unwrap().is_dropped);
        let four = all.of(4).unwrap();
        assert_eq!(four.cuts, [(2..4, vec![8]), (10..12, vec![4; 3]), (22..22, vec![6])]);
        assert_eq!((four.delay, four.copies), (-5, 0));
        // Five to eight are passed over.
        let nine = all.of(9).unwrap();
        assert_eq!((nine.cuts, nine.copies, nine.instead), (vec![(10..12, vec![9; 3])], 2, Some(vec![1, 2])));
        assert_eq!(all.of(10).unwrap(), PacketEdit::default());
    }

    /// A raw stream is one packet with as many cuts as frames.
    #[test]
    fn time_grows_with_the_cuts() {
        let of = |cuts: usize| {
            let runs = (0..5).map(|_| {
                let mut edits = Edits::new(Box::new(|| Ok(Box::new(io::Cursor::new(Vec::new())))));
                let start = std::time::Instant::now();
                for cut in 0..cuts {
                    let part = PacketPart { packet: 1, at: Some(cut * 10), length: 4, whole: usize::MAX };
                    edits.replace(&[part], &[1, 2]).unwrap();
                }
                start.elapsed()
            });
            runs.min().unwrap()
        };
        // Four times as many take about four times as long; all sorted for each of them, it would be sixteen times.
        let (few, many) = (of(5_000), of(20_000));
        assert!(many < 10 * few, "{few:?} and {many:?}");
    }
}
