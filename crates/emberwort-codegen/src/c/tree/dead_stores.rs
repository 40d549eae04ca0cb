//! Leaves out what sets a variable that nobody reads before it is set again, or the function ends: liveness, from the end to the beginning (Aho, Lam,
//! Sethi, Ullman, "Compilers", 2nd edition, section 9.2.5).

use super::expression::{Expr, Variables};
use super::statement::{Case, Stmt};

/// Statements without those that only set variables that nobody reads. Behind them these are read.
pub(super) fn without_dead_stores(statements: Vec<Stmt>, read_behind: &Variables) -> Vec<Stmt> {
    several(statements, read_behind.clone()).0
}

/// Those, and the variables that are read from the first statement on.
fn several(statements: Vec<Stmt>, mut live: Variables) -> (Vec<Stmt>, Variables) {
    let mut kept: Vec<Stmt> = statements.into_iter().rev().filter_map(|statement| one(statement, &mut live)).collect();
    kept.reverse();
    (kept, live)
}

/// A statement if it has an effect; `live` are the variables that are read behind it, and then those that are read from it on.
fn one(statement: Stmt, live: &mut Variables) -> Option<Stmt> {
    Some(match statement {
        Stmt::Comment(_) => statement,
        Stmt::Do(ref expression) => {
            live.extend(expression.variables());
            statement
        }
        Stmt::Set(name, ref value) => {
            if !live.remove(&name) {
                return None;
            }
            live.extend(value.variables());
            statement
        }
        Stmt::Add(name, ref value) => {
            if !live.contains(&name) {
                return None;
            }
            live.extend(value.variables());
            statement
        }
        Stmt::Refuse(ref test, _) => {
            live.extend(test.expression().variables());
            statement
        }
        Stmt::Return(ref value) => {
            *live = value.variables().collect();
            statement
        }
        Stmt::If(test, then, otherwise) => {
            let (then, of_then) = several(then, live.clone());
            let (otherwise, of_otherwise) = several(otherwise, live.clone());
            if then.is_empty() && otherwise.is_empty() && test.expression().functions().next().is_none() {
                return None;
            }
            *live = &of_then | &of_otherwise;
            live.extend(test.expression().variables());
            Stmt::If(test, then, otherwise)
        }
        Stmt::Block(inner) => {
            let (inner, before) = several(inner, live.clone());
            *live = before;
            if inner.is_empty() {
                return None;
            }
            Stmt::Block(inner)
        }
        Stmt::For(head, inner) => {
            let (inner, before) = around(&head, inner, live);
            *live = before;
            Stmt::For(head, inner)
        }
        Stmt::While(condition, inner) => {
            let (inner, before) = around(&condition, inner, live);
            *live = before;
            Stmt::While(condition, inner)
        }
        Stmt::Switch(value, cases) => {
            let mut before: Variables = value.variables().collect();
            let mut kept = Vec::with_capacity(cases.len());
            for Case { number, then } in cases {
                let (then, of_then) = several(then, live.clone());
                before.extend(of_then);
                kept.push(Case { number, then });
            }
            *live = before;
            Stmt::Switch(value, kept)
        }
    })
}

/// What is executed again and again: what is read behind it is also what is read the next time around.
fn around(head: &Expr, inner: Vec<Stmt>, behind: &Variables) -> (Vec<Stmt>, Variables) {
    let mut live: Variables = behind.clone();
    live.extend(head.variables());
    loop {
        let (kept, before) = several(inner.clone(), live.clone());
        if before.is_subset(&live) {
            return (kept, live);
        }
        live.extend(before);
    }
}
