//! What was sent and has not arrived everywhere yet, by number.

use std::collections::VecDeque;

/// Things that are kept until they are settled, mostly in the order in which they came. A number is a place, so that nothing has to
/// be looked up.
#[derive(Clone, Debug)]
pub(crate) struct InFlight<T> {
    /// The number of the first that is kept.
    first: u64,
    kept: VecDeque<Option<T>>,
}

impl<T> InFlight<T> {
    pub fn new() -> Self {
        Self { first: 0, kept: VecDeque::new() }
    }

    /// The number that the next one gets.
    pub(crate) fn next_number(&self) -> u64 {
        self.first + self.kept.len() as u64
    }

    pub fn push(&mut self, one: T) {
        self.kept.push_back(Some(one));
    }

    fn place(&self, number: u64) -> Option<usize> {
        number.checked_sub(self.first).map(|place| place as usize)
    }

    pub fn get(&self, number: u64) -> Option<&T> {
        self.kept.get(self.place(number)?)?.as_ref()
    }

    pub fn get_mut(&mut self, number: u64) -> Option<&mut T> {
        let place = self.place(number)?;
        self.kept.get_mut(place)?.as_mut()
    }

    pub fn remove(&mut self, number: u64) -> Option<T> {
        let place = self.place(number)?;
        let removed = self.kept.get_mut(place)?.take();
        while let Some(None) = self.kept.front() {
            self.kept.pop_front();
            self.first += 1;
        }
        removed
    }

    /// The numbers of all that are kept, rising.
    pub fn numbers(&self) -> Vec<u64> {
        let kept = self.kept.iter().zip(self.first..);
        kept.filter(|(one, _)| one.is_some()).map(|(_, number)| number).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_stay_while_others_leave() {
        let mut kept = InFlight::new();
        for one in ["a", "b", "c", "d"] {
            assert_eq!(kept.next_number(), kept.numbers().len() as u64);
            kept.push(one);
        }
        assert_eq!((kept.remove(1), kept.remove(1), kept.get(1)), (Some("b"), None, None));
        assert_eq!(kept.kept.len(), 4);
        assert_eq!(kept.remove(0), Some("a"));
        assert_eq!((kept.kept.len(), kept.numbers()), (2, vec![2, 3]), "what left in front takes no room");
        assert_eq!((kept.get(0), kept.get(3), kept.get(9)), (None, Some(&"d"), None));
        assert_eq!(kept.get_mut(3), Some(&mut "d"));
        assert_eq!((kept.remove(3), kept.remove(2), kept.next_number()), (Some("d"), Some("c"), 4));
    }
}
