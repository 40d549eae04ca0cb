//! Statements of a function of generated C as a tree, in which it is known where its variables are read and set.
//!
//! Code that reads and writes bodies is made as a tree, so that what is decided about it afterwards is decided on the tree, and not on text: sets
//! that nobody reads, and tests of a length that an earlier one has answered ([`simplified`]); which variables are declared, and which parameters are
//! marked as unused ([`names_in`]); whether a function calls another one ([`calls`]).

mod answered_tests;
mod dead_stores;
pub mod expression;
mod print;
mod statement;

pub use expression::{Expr, Name, Names};
pub use print::print;
pub use statement::{Bound, Case, Stmt, Test, calls, names_in};

pub(crate) use expression::expr;

/// A function's statements without what has no effect, and behind which these variables are read.
pub fn simplified(mut statements: Vec<Stmt>, read_behind: &Names) -> Vec<Stmt> {
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
mod tests {
    use super::*;
    use crate::code::Code;

    fn text(statements: Vec<Stmt>, read_behind: &[Name]) -> String {
        let mut code = Code::default();
        print(&simplified(statements, &read_behind.iter().copied().collect()), &mut code);
        code.finish()
    }

    fn lacks(bytes: usize) -> Stmt {
        Stmt::Refuse(Test::Behind(Bound::End, Name::Here, bytes), "SHORT".to_owned())
    }

    fn at(byte: usize) -> Stmt {
        Stmt::Set(Name::Here, Expr::number(byte))
    }

    fn go(bytes: usize) -> Stmt {
        Stmt::Add(Name::Here, Expr::number(bytes))
    }

    fn read() -> Stmt {
        Stmt::Do(expr!["take(", Name::Here, ")"])
    }

    const AT_LEAST_5: Stmt = Stmt::Refuse(Test::Below(Bound::End, 5), String::new());

    #[test]
    fn a_test_that_an_earlier_one_has_answered_is_left_out() {
        let code = text(vec![AT_LEAST_5, at(1), lacks(4), read(), go(4), lacks(1), read()], &[]);
        assert_eq!(code.matches("if (").count(), 2, "{code}");
        assert!(code.contains("if (end - here < 1u)"), "{code}");
        // Each round of a loop goes on from where the last one ended.
        let code = text(vec![AT_LEAST_5, at(1), Stmt::For("".into(), vec![lacks(2), read(), go(2)])], &[]);
        assert!(code.contains("if (end - here < 2u)"), "{code}");
        // What only one of two ways has asked is not known behind both.
        let asked = Stmt::If(Test::Other("maybe".into()), vec![lacks(3)], Vec::new());
        let code = text(vec![at(0), asked.clone(), lacks(3), read()], &[]);
        assert_eq!(code.matches("end - here < 3u").count(), 2, "{code}");
        let code = text(vec![at(0), lacks(3), asked, read()], &[]);
        assert_eq!(code.matches("end - here < 3u").count(), 1, "{code}");
        // A function that is given the address may change it.
        let moved = Stmt::Do(expr!["get(", Expr::address(Name::Here), ")"]);
        let code = text(vec![AT_LEAST_5, at(1), moved, lacks(4), read()], &[]);
        assert!(code.contains("if (end - here < 4u)"), "{code}");
        // Not 2, and not less: 3 or more.
        let ends = Stmt::If(Test::Ends(Bound::End, 2), vec![Stmt::Return("OK".into())], Vec::new());
        let below = |bytes| Stmt::Refuse(Test::Below(Bound::End, bytes), "SHORT".to_owned());
        let code = text(vec![below(2), ends.clone(), below(3), read()], &[]);
        assert_eq!(code.matches("if (end <").count(), 1, "{code}");
        let code = text(vec![below(1), ends, below(3), read()], &[]);
        assert_eq!(code.matches("if (end <").count(), 2, "{code}");
    }

    #[test]
    fn a_set_that_nobody_reads_is_left_out() {
        assert_eq!(text(vec![at(1), go(2), at(4)], &[]), "");
        assert_eq!(text(vec![at(1), at(4), read(), go(4)], &[]), "here = 4u;\ntake(here);\n");
        assert_eq!(text(vec![at(1), go(2)], &[Name::Here]).lines().count(), 2);
        // The next round reads it, and what comes behind the loop does.
        let code = text(vec![at(0), Stmt::For("".into(), vec![read(), go(2)])], &[]);
        assert!(code.contains("here += 2u"), "{code}");
        let code = text(vec![at(0), Stmt::For("".into(), vec![go(2)]), read()], &[]);
        assert!(code.contains("here = 0u") && code.contains("here += 2u"), "{code}");
        // One way out of several is enough; a return ends it.
        let case = |number: Option<&str>, then| Case { number: number.map(str::to_owned), then };
        let back = Stmt::Return("OK".into());
        let both = vec![case(Some("1"), vec![go(1)]), case(None, vec![go(2), back.clone()])];
        let code = text(vec![at(0), Stmt::Switch("n".into(), both), read()], &[]);
        assert!(code.contains("here += 1u") && !code.contains("here += 2u"), "{code}");
        // A set to what it is changes nothing.
        let same = Stmt::If(Test::Other("maybe".into()), vec![at(3), read()], Vec::new());
        assert_eq!(text(vec![at(3), same, read()], &[]).matches("here = 3u").count(), 1);
        // The same text is not the same value where it holds a variable of which nothing is known.
        let from_inner = || vec![Stmt::call("call(&inner)"), Stmt::Set(Name::Here, "inner".into()), read()];
        assert_eq!(text([from_inner(), from_inner()].concat(), &[]).matches("here = inner").count(), 2);
        let behind = || Stmt::Set(Name::Here, expr![Name::Start, " + ", Expr::number(2)].of_names());
        assert_eq!(text(vec![behind(), read(), behind(), read()], &[]).matches("here = start").count(), 1);
        let later = Stmt::Add(Name::Start, Expr::number(1));
        assert_eq!(text(vec![behind(), read(), later, behind(), read()], &[]).matches("here = start").count(), 2);
        // A block of which nothing is left goes.
        assert_eq!(text(vec![Stmt::Block(vec![at(3)]), back], &[]), "return OK;\n");
    }
}
