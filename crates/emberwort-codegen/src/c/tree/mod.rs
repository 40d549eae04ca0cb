//! Statements of a function of generated C as a tree, in which it is known where its variables are read and set.
//!
//! Code that reads and writes bodies is made as a tree, so that what is decided about it afterwards is decided on the tree, and not on text: sets
//! that nobody reads, and tests of a length that an earlier one has answered ([`simplified`]); which variables are declared, and which parameters are
//! marked as unused ([`variables_in`]); whether a function calls another one ([`calls`]).

mod answered_tests;
mod dead_stores;
pub mod expression;
mod print;
mod statement;

pub use expression::{Expr, Variable, Variables};
pub use print::print;
pub use statement::{Bound, Case, Stmt, Test, calls, variables_in};

pub(crate) use expression::expr;

/// A function's statements without what has no effect, and behind which these variables are read.
pub(crate) fn simplified(mut statements: Vec<Stmt>, read_behind: &Variables) -> Vec<Stmt> {
    // What a test that is left out looked at may be set for nobody then.
    loop {
        let before = statements.clone();
        statements = dead_stores::without_dead_stores(statements, read_behind);
        statements = answered_tests::without_answered_tests(statements);
        if statements == before {
            return statements;
        }
    }
}

#[cfg(test)]
mod tests;
