//! Where the time of a line went: at rest, in good frames, in broken ones, or in something that nobody can explain. What is said of
//! different wires may overlap; each moment counts once.

use std::collections::VecDeque;

use crate::chunk::Time;

/// What a time was spent with. Where several things happened at once, the last one in this order counts.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Spent {
    /// Nothing, unless something else is said of it: the line was looked at from the first such moment to the last.
    Rest,
    /// No level changed, but one did closely before and one behind: it belongs to what these are.
    Between,
    /// Levels changed.
    Changing,
    /// A transfer that is right as far as the line itself can tell, with all that belongs to it beside its bytes: a CAN frame from its
    /// first bit to its last, what was transferred between start and stop, a packet without data. What its bytes turn out to be counts for
    /// all of it.
    Transfer,
    /// A good frame.
    Good,
    /// Bytes that belong to no frame.
    Stray,
    /// A broken frame, or a transfer that the line itself shows to be broken.
    Broken,
}

/// How long each took, in nanoseconds. The sum is the length.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct TimeAccount {
    /// Nothing happened.
    pub resting: u64,
    /// Good frames, and transfers that carry none and are right.
    pub good: u64,
    /// Broken frames.
    pub broken: u64,
    /// Levels changed, and it was no frame.
    pub unexplained: u64,
}

impl TimeAccount {
    /// All of it.
    pub fn length(&self) -> u64 {
        self.resting + self.good + self.broken + self.unexplained
    }
}

/// So many pieces are kept apart; of more of them the oldest are summed up, and what is said of their time later counts no more.
const MAX_PIECES: usize = 16_384;

/// So many transfers are remembered, for what their bytes turn out to be.
const MAX_TRANSFERS: usize = 1_024;

/// A time that was spent with one thing.
#[derive(Clone, Copy, Debug)]
struct Piece {
    from: u64,
    until: u64,
    spent: Spent,
}

/// What was said of a line so far.
#[derive(Clone, Debug, Default)]
pub struct Timeline {
    /// Pieces that do not overlap, in the order of their times.
    pieces: VecDeque<Piece>,
    /// The beginnings and ends of the last transfers, in the order in which they ended.
    transfers: VecDeque<(u64, u64)>,
    /// From when to when the line was looked at.
    seen: Option<(u64, u64)>,
    /// Before this moment all is summed up.
    settled: u64,
    /// What was summed up last.
    last: Option<Spent>,
    sums: TimeAccount,
}

impl Timeline {
    /// A time was spent with something.
    pub fn add(&mut self, spent: Spent, from: Time, until: Time) {
        let (from, until) = (from.nanoseconds(), until.nanoseconds());
        match spent {
            Spent::Rest => {
                let (first, last) = self.seen.unwrap_or((from, until));
                self.seen = Some((first.min(from), last.max(until)));
            }
            Spent::Transfer => {
                self.transfers.push_back((from, until));
                if self.transfers.len() > MAX_TRANSFERS {
                    self.transfers.pop_front();
                }
                self.paint(spent, from, until);
            }
            // Bytes are only a part of the transfer that carries them.
            Spent::Good | Spent::Stray | Spent::Broken => {
                let (mut first, mut last) = (from, until);
                for (begun, ended) in self.transfers.iter().rev().take_while(|(_, ended)| *ended > from) {
                    if *begun < until {
                        (first, last) = (first.min(*begun), last.max(*ended));
                    }
                }
                self.paint(spent, first, last);
            }
            Spent::Between | Spent::Changing => self.paint(spent, from, until),
        }
        while self.pieces.len() > MAX_PIECES {
            self.settle();
        }
    }

    /// Paints over what counts for less.
    fn paint(&mut self, spent: Spent, from: u64, until: u64) {
        let mut from = from.max(self.settled);
        if from >= until {
            return;
        }
        // Nearly always it comes behind all that is there.
        if self.pieces.back().is_none_or(|last| last.until <= from) {
            self.put(spent, from, until);
            return;
        }
        let first = self.pieces.partition_point(|piece| piece.until <= from);
        for piece in self.pieces.split_off(first) {
            if piece.spent >= spent || piece.from >= until {
                self.put(spent, from, piece.from.min(until));
                self.pieces.push_back(piece);
                from = from.max(piece.until);
                continue;
            }
            // What began before, or ends behind, is cut.
            self.put(piece.spent, piece.from, from);
            self.put(spent, from, piece.until.min(until));
            self.put(piece.spent, piece.from.max(until), piece.until);
            from = piece.until;
        }
        self.put(spent, from, until);
    }

    /// A piece behind all others; it is joined to one like it in front.
    fn put(&mut self, spent: Spent, from: u64, until: u64) {
        if from >= until {
            return;
        }
        match self.pieces.back_mut() {
            Some(last) if last.until == from && last.spent == spent => last.until = until,
            _ => self.pieces.push_back(Piece { from, until, spent }),
        }
    }

    /// Sums up the oldest piece.
    fn settle(&mut self) {
        let Some(piece) = self.pieces.pop_front() else { return };
        self.sums.resting += piece.from - self.settled;
        let before = self.last.filter(|_| piece.from == self.settled);
        let behind = self.pieces.front().filter(|next| next.from == piece.until).map(|next| next.spent);
        let is_changing = |spent: Option<Spent>| spent == Some(Spent::Changing);
        (self.settled, self.last) = (piece.until, Some(piece.spent));
        *match piece.spent {
            // Beside a frame it is the rest in front of it, or behind.
            Spent::Between if !is_changing(before) || !is_changing(behind) => &mut self.sums.resting,
            Spent::Rest => &mut self.sums.resting,
            Spent::Between | Spent::Changing | Spent::Stray => &mut self.sums.unexplained,
            Spent::Transfer | Spent::Good => &mut self.sums.good,
            Spent::Broken => &mut self.sums.broken,
        } += piece.until - piece.from;
    }

    /// Where the time went in which the line was looked at; what reaches beyond it is cut off.
    pub fn account(&self) -> TimeAccount {
        let Some((begin, end)) = self.seen else { return TimeAccount::default() };
        let mut all = self.clone();
        all.pieces.truncate(all.pieces.partition_point(|piece| piece.from < end));
        if let Some(last) = all.pieces.back_mut() {
            last.until = last.until.min(end);
        }
        while !all.pieces.is_empty() {
            all.settle();
        }
        all.sums.resting += end.saturating_sub(all.settled);
        // Nobody looked before the beginning.
        all.sums.resting = all.sums.resting.saturating_sub(begin);
        all.sums
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(nanoseconds: u64) -> Time {
        Time::from_nanoseconds(nanoseconds)
    }

    #[test]
    fn the_most_telling_of_what_overlaps_counts() {
        let mut line = Timeline::default();
        line.add(Spent::Changing, at(10), at(40));
        line.add(Spent::Good, at(20), at(30));
        line.add(Spent::Broken, at(25), at(28));
        line.add(Spent::Changing, at(60), at(70));
        let mut cut = line.clone();
        line.add(Spent::Rest, at(0), at(100));
        assert_eq!(line.account(), TimeAccount { resting: 60, good: 7, broken: 3, unexplained: 30 });
        cut.add(Spent::Rest, at(4), at(27));
        assert_eq!(cut.account(), TimeAccount { resting: 6, good: 5, broken: 2, unexplained: 10 });
    }

    #[test]
    fn a_transfer_is_what_its_bytes_are() {
        let mut line = Timeline::default();
        for (from, is_good) in [(0, true), (100, false)] {
            line.add(Spent::Transfer, at(from), at(from + 50));
            line.add(if is_good { Spent::Good } else { Spent::Broken }, at(from + 10), at(from + 20));
        }
        // One without bytes.
        line.add(Spent::Transfer, at(200), at(210));
        line.add(Spent::Rest, at(0), at(300));
        assert_eq!(line.account(), TimeAccount { resting: 190, good: 60, broken: 50, unexplained: 0 });
    }

    #[test]
    fn what_is_between_changes_is_what_they_are() {
        let mut line = Timeline::default();
        line.add(Spent::Changing, at(10), at(20));
        line.add(Spent::Between, at(20), at(30));
        line.add(Spent::Changing, at(30), at(40));
        line.add(Spent::Between, at(40), at(50));
        line.add(Spent::Changing, at(50), at(60));
        line.add(Spent::Good, at(48), at(60));
        line.add(Spent::Rest, at(0), at(100));
        assert_eq!(line.account(), TimeAccount { resting: 58, good: 12, broken: 0, unexplained: 30 });
    }

    proptest::proptest! {
        /// As if each nanosecond were painted alone.
        #[test]
        fn each_moment_counts_once(spans in proptest::collection::vec((0..4usize, 0..200u64, 0..60u64), 0..60), end in 1..260u64) {
            let kinds = [Spent::Changing, Spent::Good, Spent::Stray, Spent::Broken];
            let mut line = Timeline::default();
            let mut moments = vec![None; 260];
            for (kind, from, length) in spans {
                line.add(kinds[kind], at(from), at(from + length));
                for moment in &mut moments[from as usize..(from + length) as usize] {
                    *moment = (*moment).max(Some(kinds[kind]));
                }
            }
            let count = |wanted: &[Option<Spent>]| moments[..end as usize].iter().filter(|moment| wanted.contains(moment)).count() as u64;
            let expected = TimeAccount {
                resting: count(&[None]),
                good: count(&[Some(Spent::Good)]),
                broken: count(&[Some(Spent::Broken)]),
                unexplained: count(&[Some(Spent::Changing), Some(Spent::Stray)]),
            };
            line.add(Spent::Rest, at(0), at(end));
            let found = line.account();
            proptest::prop_assert_eq!(found, expected);
            proptest::prop_assert_eq!(found.length(), end);
            // Summed up early, it is the same.
            while line.pieces.len() > 3 {
                line.settle();
            }
            line.add(Spent::Rest, at(0), at(260));
            proptest::prop_assert_eq!(line.account().length(), 260);
        }
    }
}
