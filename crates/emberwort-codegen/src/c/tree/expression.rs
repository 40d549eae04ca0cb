//! Expressions: text in which the variables that count stand as themselves.

use std::collections::BTreeSet;
use std::fmt;

/// A variable or a parameter of a function that reads or writes a body. Others are only text.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Variable {
    /// The bytes of the body.
    Body,
    /// How many bytes may be read.
    End,
    /// How many bytes may be written.
    Room,
    /// The byte where the section at hand begins.
    Start,
    /// The place of the value at hand: a byte of the body.
    Here,
    /// The place of the value at hand: a bit of the body.
    Bit,
    /// A pointer to the section at hand.
    Section,
    /// The revision of the sender.
    Revision,
}

/// Several of them.
pub type Variables = BTreeSet<Variable>;

impl fmt::Display for Variable {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Body => "body",
            Self::End => "end",
            Self::Room => "room",
            Self::Start => "start",
            Self::Here => "here",
            Self::Bit => "bit",
            Self::Section => "section",
            Self::Revision => "revision",
        })
    }
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Variable(Variable),
    /// The address of a variable, through which a function that is called changes it.
    Address(Variable),
    /// The name of a function of the link, or of the C library.
    Function(String),
}

/// An expression, or a statement that is nothing more; [`expr!`] puts it together.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Expr {
    pieces: Vec<Piece>,
    number: Option<u64>,
    in_brackets: bool,
    is_of_variables: bool,
}

impl Expr {
    /// A whole number that is not negative.
    pub fn number(number: usize) -> Self {
        Self { pieces: vec![Piece::Text(format!("{number}u"))], number: Some(number as u64), ..Self::default() }
    }

    /// The name of a function that is called.
    pub fn function(name: impl Into<String>) -> Self {
        Self { pieces: vec![Piece::Function(name.into())], ..Self::default() }
    }

    /// The address of a variable, for a function that reads and changes it.
    pub fn address(name: Variable) -> Self {
        Self { pieces: vec![Piece::Address(name)], ..Self::default() }
    }

    /// This in round brackets, which nothing around it can tear apart.
    pub(crate) fn bracketed(self) -> Self {
        let mut all = Self::from("(");
        all.push(self);
        all.push(")");
        Self { in_brackets: true, ..all }
    }

    /// Whether it stands in brackets as a whole.
    pub(crate) fn is_bracketed(&self) -> bool {
        self.in_brackets
    }

    /// This, of which it is said that numbers and variables of [`Variable`] are all that its value comes from.
    pub(crate) fn of_variables(self) -> Self {
        Self { is_of_variables: true, ..self }
    }

    /// Whether its value stays the same until one of [`Self::variables`] is set: other variables in it are text, of which nothing is known.
    pub(crate) fn is_of_variables(&self) -> bool {
        self.is_of_variables || self.number.is_some()
    }

    /// The number that it is, if it is a constant.
    pub(crate) fn as_number(&self) -> Option<u64> {
        self.number
    }

    /// The variables in it.
    pub fn variables(&self) -> impl Iterator<Item = Variable> + '_ {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Variable(name) | Piece::Address(name) => Some(*name),
            Piece::Text(_) | Piece::Function(_) => None,
        })
    }

    /// The variables that a function called in it may change.
    pub fn changed(&self) -> impl Iterator<Item = Variable> + '_ {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Address(name) => Some(*name),
            _ => None,
        })
    }

    /// The functions that are called in it.
    pub fn functions(&self) -> impl Iterator<Item = &str> + '_ {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Function(name) => Some(name.as_str()),
            _ => None,
        })
    }

    /// Adds something behind it.
    pub fn push(&mut self, part: impl Into<Expr>) {
        let part = part.into();
        (self.number, self.in_brackets, self.is_of_variables) = (None, false, false);
        for piece in part.pieces {
            match (self.pieces.last_mut(), piece) {
                (Some(Piece::Text(text)), Piece::Text(more)) => text.push_str(&more),
                (_, piece) => self.pieces.push(piece),
            }
        }
    }

    /// Several with a text between them.
    pub fn joined(parts: impl IntoIterator<Item = Expr>, between: &str) -> Self {
        let mut all = Self::default();
        for (n, part) in parts.into_iter().enumerate() {
            if n > 0 {
                all.push(between);
            }
            all.push(part);
        }
        all
    }
}

impl fmt::Display for Expr {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for piece in &self.pieces {
            match piece {
                Piece::Text(text) | Piece::Function(text) => f.write_str(text)?,
                Piece::Variable(name) => write!(f, "{name}")?,
                Piece::Address(name) => write!(f, "&{name}")?,
            }
        }
        Ok(())
    }
}

impl From<&str> for Expr {
    fn from(text: &str) -> Self {
        Self { pieces: vec![Piece::Text(text.to_owned())], ..Self::default() }
    }
}

impl From<String> for Expr {
    fn from(text: String) -> Self {
        Self { pieces: vec![Piece::Text(text)], ..Self::default() }
    }
}

impl From<&String> for Expr {
    fn from(text: &String) -> Self {
        text.as_str().into()
    }
}

impl From<Variable> for Expr {
    fn from(name: Variable) -> Self {
        Self { pieces: vec![Piece::Variable(name)], ..Self::default() }
    }
}

impl From<&Expr> for Expr {
    fn from(other: &Expr) -> Self {
        other.clone()
    }
}

/// An expression of its parts: texts, variables, other expressions. A single part stays what it is.
macro_rules! expr {
    ($only:expr $(,)?) => { $crate::c::tree::expression::Expr::from($only) };
    ($first:expr, $($more:expr),+ $(,)?) => {{
        let mut all = $crate::c::tree::expression::Expr::from($first);
        $( all.push($more); )+
        all
    }};
}
pub(crate) use expr;
