//! Leaves out tests of a length that an earlier one has answered, and sets of a variable to what it is: what is known is carried from the beginning to
//! the end.

use std::collections::BTreeMap;

use super::expression::{Expr, Variable};
use super::statement::{Bound, Case, Stmt, Test, set_in};

/// What is known between two statements.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Facts {
    /// There are at least so many bytes to read.
    end: u64,
    /// There are at least so many bytes to write.
    room: u64,
    /// What variables were set to, as far as nothing in it changed since.
    held: BTreeMap<Variable, Expr>,
}

impl Facts {
    fn least(&mut self, bound: Bound) -> &mut u64 {
        match bound {
            Bound::End => &mut self.end,
            Bound::Room => &mut self.room,
        }
    }

    /// The number that a variable is, if it is known.
    fn number(&self, name: Variable) -> Option<u64> {
        self.held.get(&name)?.as_number()
    }

    /// These variables change.
    fn forget(&mut self, names: impl IntoIterator<Item = Variable>) {
        for changed in names {
            self.held.retain(|name, value| *name != changed && !value.variables().any(|used| used == changed));
        }
    }

    /// A variable is set; whether it was not this value before.
    fn set(&mut self, name: Variable, value: &Expr) -> bool {
        if self.held.get(&name) == Some(value) {
            return false;
        }
        self.forget([name]);
        if value.is_of_variables() && !value.variables().any(|used| used == name) {
            self.held.insert(name, value.clone());
        }
        true
    }

    /// How many bytes there must be if a test does not hold.
    fn needed(&mut self, test: &Test) -> Option<(Bound, u64)> {
        match test {
            Test::Below(bound, bytes) => Some((*bound, *bytes as u64)),
            Test::Behind(bound, name, bytes) => {
                let place = self.number(*name)?;
                // A place behind all bytes makes the difference a great number.
                (*self.least(*bound) >= place).then_some((*bound, place + *bytes as u64))
            }
            Test::BitsBehind(bound, bits) => {
                self.number(Variable::Bit).map(|bit| (*bound, (bit + *bits as u64).div_ceil(8)))
            }
            // It is not this number: then it is greater, if it is not less.
            Test::Ends(bound, bytes) if *self.least(*bound) == *bytes as u64 => Some((*bound, *bytes as u64 + 1)),
            Test::Ends(..) | Test::Other(_) => None,
        }
    }

    /// What is known if a test did not hold.
    fn passed(&mut self, test: &Test) {
        if let Some((bound, needed)) = self.needed(test) {
            let least = self.least(bound);
            *least = needed.max(*least);
        }
    }

    /// What is known either way.
    fn joined(self, other: Self) -> Self {
        Self {
            end: self.end.min(other.end),
            room: self.room.min(other.room),
            held: self.held.into_iter().filter(|(name, value)| other.held.get(name) == Some(value)).collect(),
        }
    }
}

/// Statements without tests that never hold, and without sets that change nothing.
pub(super) fn without_answered_tests(statements: Vec<Stmt>) -> Vec<Stmt> {
    several(statements, &mut Some(Facts::default()))
}

fn several(statements: Vec<Stmt>, facts: &mut Option<Facts>) -> Vec<Stmt> {
    statements.into_iter().filter_map(|statement| one(statement, facts)).collect()
}

/// A statement, if it does something. Nothing is known where nobody comes by.
fn one(statement: Stmt, known: &mut Option<Facts>) -> Option<Stmt> {
    let Some(facts) = known else { return Some(statement) };
    Some(match statement {
        Stmt::Comment(_) => statement,
        Stmt::Do(ref expression) => {
            facts.forget(expression.changed());
            statement
        }
        Stmt::Set(name, ref value) => {
            if !facts.set(name, value) {
                return None;
            }
            statement
        }
        Stmt::Add(name, ref value) => {
            match facts.number(name).zip(value.as_number()) {
                Some((before, more)) => _ = facts.set(name, &Expr::number((before + more) as usize)),
                None => facts.forget([name]),
            }
            statement
        }
        Stmt::Refuse(ref test, _) => {
            if let Some((bound, needed)) = facts.needed(test).filter(|_| !matches!(test, Test::Ends(..)))
                && *facts.least(bound) >= needed
            {
                return None;
            }
            facts.passed(test);
            facts.forget(test.expression().changed());
            statement
        }
        Stmt::Return(_) => {
            *known = None;
            statement
        }
        Stmt::If(test, then, otherwise) => {
            facts.forget(test.expression().changed());
            let mut of_then = Some(facts.clone());
            let then = several(then, &mut of_then);
            facts.passed(&test);
            let mut of_otherwise = known.take();
            let otherwise = several(otherwise, &mut of_otherwise);
            *known = joined(of_then, of_otherwise);
            Stmt::If(test, then, otherwise)
        }
        Stmt::Block(inner) => Stmt::Block(several(inner, known)),
        Stmt::For(head, inner) => {
            let inner = around(&head, inner, facts);
            Stmt::For(head, inner)
        }
        Stmt::While(condition, inner) => {
            let inner = around(&condition, inner, facts);
            Stmt::While(condition, inner)
        }
        Stmt::Switch(value, cases) => {
            let before = facts.clone();
            let mut all = None;
            let mut kept = Vec::with_capacity(cases.len());
            for Case { number, then } in cases {
                let mut of_case = Some(before.clone());
                let then = several(then, &mut of_case);
                all = joined(all, of_case);
                kept.push(Case { number, then });
            }
            *known = all;
            Stmt::Switch(value, kept)
        }
    })
}

/// What is executed again and again, or not at all: of what it sets nothing is known.
fn around(head: &Expr, inner: Vec<Stmt>, facts: &mut Facts) -> Vec<Stmt> {
    facts.forget(set_in(&inner).into_iter().chain(head.changed()));
    several(inner, &mut Some(facts.clone()))
}

fn joined(one: Option<Facts>, other: Option<Facts>) -> Option<Facts> {
    match (one, other) {
        (Some(one), Some(other)) => Some(one.joined(other)),
        (one, other) => one.or(other),
    }
}
