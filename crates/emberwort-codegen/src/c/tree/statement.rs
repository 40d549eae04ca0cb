//! Statements.

use super::expression::{Expr, Variable, Variables, expr};

/// A statement.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Stmt {
    /// A comment on a line of its own.
    Comment(String),
    /// A declaration, an assignment, or a call, without its semicolon.
    Do(Expr),
    /// Sets a variable to a value.
    Set(Variable, Expr),
    /// Adds to a variable.
    Add(Variable, Expr),
    /// Ends the function with this result if something holds.
    Refuse(Test, String),
    /// One of two.
    If(Test, Vec<Stmt>, Vec<Stmt>),
    /// A block with variables of its own.
    Block(Vec<Stmt>),
    /// A loop: what stands in the brackets behind `for`.
    For(Expr, Vec<Stmt>),
    /// A loop with its condition.
    While(Expr, Vec<Stmt>),
    /// One of several, by a number; the last one is for all others.
    Switch(Expr, Vec<Case>),
    /// The end of the function.
    Return(Expr),
}

/// One of the statements of a `switch`, behind which none of the others is executed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Case {
    /// The number, as C writes it; `None` for all others.
    pub number: Option<String>,
    /// What is executed.
    pub then: Vec<Stmt>,
}

/// What a length is compared with.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Bound {
    /// How many bytes may be read.
    End,
    /// How many bytes may be written.
    Room,
}

impl Bound {
    /// The variable that holds it.
    pub fn name(self) -> Variable {
        match self {
            Self::End => Variable::End,
            Self::Room => Variable::Room,
        }
    }
}

/// A condition.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Test {
    /// There are fewer bytes than this.
    Below(Bound, usize),
    /// There are so many bytes, not more.
    Ends(Bound, usize),
    /// From this place on, which is a byte, there are fewer bytes than this.
    Behind(Bound, Variable, usize),
    /// The bit behind so many from [`Variable::Bit`] on lies in a byte that is not there.
    BitsBehind(Bound, usize),
    /// Anything else.
    Other(Expr),
}

impl Test {
    /// As an expression.
    pub fn expression(&self) -> Expr {
        match self {
            Self::Below(bound, bytes) => expr![bound.name(), " < ", Expr::number(*bytes)],
            Self::Ends(bound, bytes) => expr![bound.name(), " == ", Expr::number(*bytes)],
            Self::Behind(bound, place, bytes) => expr![bound.name(), " - ", *place, " < ", Expr::number(*bytes)],
            Self::BitsBehind(bound, bits) => {
                expr!["(", Variable::Bit, " + ", Expr::number(*bits), " + 7u) / 8u > ", bound.name()]
            }
            Self::Other(expression) => expression.clone(),
        }
    }
}

impl Stmt {
    /// A statement that is nothing but an expression.
    pub fn call(expression: impl Into<Expr>) -> Self {
        Self::Do(expression.into())
    }

    /// The expressions of this statement alone, not those of statements in it.
    fn expressions(&self) -> Vec<Expr> {
        match self {
            Self::Comment(_) | Self::Block(_) => Vec::new(),
            Self::Set(_, value) | Self::Add(_, value) | Self::Do(value) | Self::Return(value) => vec![value.clone()],
            Self::Refuse(test, _) | Self::If(test, ..) => vec![test.expression()],
            Self::For(head, _) | Self::While(head, _) | Self::Switch(head, _) => vec![head.clone()],
        }
    }

    /// The functions that this statement alone calls.
    pub(super) fn functions(&self) -> Vec<String> {
        self.expressions().iter().flat_map(Expr::functions).map(str::to_owned).collect()
    }

    /// The statements in this one.
    fn inner(&self) -> Vec<&[Stmt]> {
        match self {
            Self::Block(all) | Self::For(_, all) | Self::While(_, all) => vec![all],
            Self::If(_, then, otherwise) => vec![then, otherwise],
            Self::Switch(_, cases) => cases.iter().map(|case| case.then.as_slice()).collect(),
            _ => Vec::new(),
        }
    }
}

/// All variables that some statements read or set.
pub fn variables_in(statements: &[Stmt]) -> Variables {
    gathered(statements, &|expression| expression.variables().collect())
}

/// The variables that some statements may set.
pub(super) fn set_in(statements: &[Stmt]) -> Variables {
    gathered(statements, &|expression| expression.changed().collect())
}

/// The variables that some statements set, and those that are wanted of each expression in them.
fn gathered(statements: &[Stmt], wanted: &dyn Fn(&Expr) -> Variables) -> Variables {
    let mut all = Variables::new();
    for statement in statements {
        if let Stmt::Set(name, _) | Stmt::Add(name, _) = statement {
            all.insert(*name);
        }
        statement.expressions().iter().for_each(|expression| all.extend(wanted(expression)));
        statement.inner().iter().for_each(|inner| all.extend(gathered(inner, wanted)));
    }
    all
}

/// Whether some statements call a function.
pub fn calls(statements: &[Stmt]) -> bool {
    statements
        .iter()
        .any(|statement| !statement.functions().is_empty() || statement.inner().iter().any(|inner| calls(inner)))
}
