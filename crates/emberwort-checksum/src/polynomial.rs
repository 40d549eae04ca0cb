//! Polynomials over the field with two elements: adding is XOR.

/// A polynomial; bit `n` of the words, counted from the lowest bit of the first, is the coefficient of x^n.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Polynomial(Vec<u64>);

impl Polynomial {
    /// 0.
    pub fn zero() -> Self {
        Self(Vec::new())
    }

    /// x^n.
    pub fn power(n: usize) -> Self {
        let mut words = vec![0; n / 64 + 1];
        words[n / 64] = 1 << (n % 64);
        Self(words)
    }

    /// The polynomial whose coefficients are the bits of a number.
    pub fn from_bits(bits: u64) -> Self {
        Self(vec![bits]).trimmed()
    }

    /// The polynomial of a message, the first bit of which is the coefficient of the highest power. `mirrored`: the least
    /// significant bit of each byte comes first.
    pub fn of_message(bytes: &[u8], mirrored: bool) -> Self {
        let mut words = vec![0u64; bytes.len().div_ceil(8)];
        for (n, byte) in bytes.iter().rev().enumerate() {
            let byte = if mirrored { byte.reverse_bits() } else { *byte };
            words[n / 8] |= u64::from(byte) << (n % 8 * 8);
        }
        Self(words).trimmed()
    }

    fn trimmed(mut self) -> Self {
        while self.0.last() == Some(&0) {
            self.0.pop();
        }
        self
    }

    /// The highest power with a coefficient; `None` for 0.
    pub fn degree(&self) -> Option<usize> {
        self.0.last().map(|last| self.0.len() * 64 - 1 - last.leading_zeros() as usize)
    }

    /// Whether it is 0.
    pub fn is_zero(&self) -> bool {
        self.0.is_empty()
    }

    /// Its 64 lowest coefficients.
    pub(crate) fn low_bits(&self) -> u64 {
        self.0.first().copied().unwrap_or(0)
    }

    /// The sum, which is also the difference.
    pub fn plus(mut self, other: &Self) -> Self {
        self.add_shifted(other, 0);
        self.trimmed()
    }

    /// Adds `other` times x^shift.
    fn add_shifted(&mut self, other: &Self, shift: usize) {
        let (words, bits) = (shift / 64, shift % 64);
        let needed = other.0.len() + words + 1;
        if self.0.len() < needed {
            self.0.resize(needed, 0);
        }
        for (n, word) in other.0.iter().enumerate() {
            self.0[n + words] ^= word << bits;
            if bits > 0 {
                self.0[n + words + 1] ^= word >> (64 - bits);
            }
        }
    }

    /// Times x^n.
    pub fn shifted(&self, n: usize) -> Self {
        let mut out = Self::zero();
        out.add_shifted(self, n);
        out.trimmed()
    }

    /// The product.
    pub fn times(&self, other: &Self) -> Self {
        let mut out = Self::zero();
        for (n, word) in self.0.iter().enumerate() {
            let mut word = *word;
            while word != 0 {
                out.add_shifted(other, n * 64 + word.trailing_zeros() as usize);
                word &= word - 1;
            }
        }
        out.trimmed()
    }

    /// The quotient and the remainder.
    ///
    /// # Panics
    /// If `divisor` is 0.
    pub fn divided(mut self, divisor: &Self) -> (Self, Self) {
        let Some(of_divisor) = divisor.degree() else { panic!("division by 0") };
        let mut quotient = Self::zero();
        while let Some(degree) = self.degree().filter(|degree| *degree >= of_divisor) {
            let shift = degree - of_divisor;
            self.add_shifted(divisor, shift);
            self = self.trimmed();
            quotient.add_shifted(&Self::power(0), shift);
        }
        (quotient.trimmed(), self)
    }

    /// The remainder.
    ///
    /// # Panics
    /// If `divisor` is 0.
    pub fn modulo(self, divisor: &Self) -> Self {
        self.divided(divisor).1
    }

    /// The greatest common divisor, by Euclid's algorithm.
    pub(crate) fn common_divisor(mut self, mut other: Self) -> Self {
        while !other.is_zero() {
            let rest = self.modulo(&other);
            self = other;
            other = rest;
        }
        self
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn any_polynomial() -> impl Strategy<Value = Polynomial> {
        proptest::collection::vec(any::<u64>(), 0..5).prop_map(|words| Polynomial(words).trimmed())
    }

    /// (x + 1)(x² + x + 1) = x³ + 1, since 2x² and 2x are 0.
    #[test]
    fn by_hand() {
        let (a, b) = (Polynomial::from_bits(0b11), Polynomial::from_bits(0b111));
        assert_eq!(a.times(&b), Polynomial::from_bits(0b1001));
        assert_eq!(Polynomial::from_bits(0b1011).divided(&b), (a.clone(), Polynomial::from_bits(0b10)));
        assert_eq!(Polynomial::of_message(&[0x80, 0x01], true), Polynomial::from_bits(0x0180));
        assert_eq!(Polynomial::power(70).degree(), Some(70));
        assert_eq!(a.shifted(64).divided(&Polynomial::power(64)), (a, Polynomial::zero()));
    }

    proptest! {
        #[test]
        fn quotients_and_remainders_give_the_same_again(a in any_polynomial(), b in any_polynomial()) {
            prop_assume!(!b.is_zero());
            let (quotient, rest) = a.clone().divided(&b);
            prop_assert!(rest.degree() < b.degree());
            prop_assert_eq!(quotient.times(&b).plus(&rest), a);
        }

        #[test]
        fn a_common_factor_is_found(a in any_polynomial(), b in any_polynomial(), factor in any_polynomial()) {
            prop_assume!(!a.is_zero() && !b.is_zero() && !factor.is_zero());
            let found = a.times(&factor).common_divisor(b.times(&factor));
            prop_assert!(found.clone().modulo(&factor).is_zero());
            prop_assert!(a.times(&factor).modulo(&found).is_zero() && b.times(&factor).modulo(&found).is_zero());
        }
    }
}
