//! What is left out has no effect: by examples, and by running statements before and after.

use proptest::prelude::*;

use super::*;
use crate::code::Code;

fn text(statements: Vec<Stmt>, read_behind: &[Variable]) -> String {
    let mut code = Code::default();
    print(&simplified(statements, &read_behind.iter().copied().collect()), &mut code);
    code.finish()
}

fn lacks(bytes: usize) -> Stmt {
    Stmt::Refuse(Test::Behind(Bound::End, Variable::Here, bytes), "SHORT".to_owned())
}

fn at(byte: usize) -> Stmt {
    Stmt::Set(Variable::Here, Expr::number(byte))
}

fn go(bytes: usize) -> Stmt {
    Stmt::Add(Variable::Here, Expr::number(bytes))
}

fn read() -> Stmt {
    Stmt::Do(expr!["take(", Variable::Here, ")"])
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
    let moved = Stmt::Do(expr!["get(", Expr::address(Variable::Here), ")"]);
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
    assert_eq!(text(vec![at(1), go(2)], &[Variable::Here]).lines().count(), 2);
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
    let from_inner = || vec![Stmt::call("call(&inner)"), Stmt::Set(Variable::Here, "inner".into()), read()];
    assert_eq!(text([from_inner(), from_inner()].concat(), &[]).matches("here = inner").count(), 2);
    let behind = || Stmt::Set(Variable::Here, expr![Variable::Start, " + ", Expr::number(2)].of_variables());
    assert_eq!(text(vec![behind(), read(), behind(), read()], &[]).matches("here = start").count(), 1);
    let later = Stmt::Add(Variable::Start, Expr::number(1));
    assert_eq!(text(vec![behind(), read(), later, behind(), read()], &[]).matches("here = start").count(), 2);
    // A block of which nothing is left goes.
    assert_eq!(text(vec![Stmt::Block(vec![at(3)]), back], &[]), "return OK;\n");
}

/// What a run of some statements does that can be seen from outside: the places that were looked at, and how it ended.
#[derive(Debug, PartialEq)]
struct Behaviour {
    looked_at: Vec<usize>,
    ended: &'static str,
    here: usize,
}

/// A machine for the statements that [`statement`] makes. Numbers go around as those of `size_t` do.
struct Machine {
    end: usize,
    start: usize,
    here: usize,
    bit: usize,
    /// What conditions say of which nothing is known, by the number that stands in them.
    coins: u64,
    looked_at: Vec<usize>,
}

impl Machine {
    fn coin(&self, asked: &Expr) -> bool {
        let digits: String = asked.to_string().chars().filter(char::is_ascii_digit).collect();
        self.coins >> digits.parse::<u32>().unwrap() & 1 == 1
    }

    fn value(&self, value: &Expr) -> usize {
        match (value.as_number(), value.variables().next()) {
            (Some(number), _) => number as usize,
            (None, Some(Variable::Start)) => self.start + 2,
            // Here and there the local variable of a block is something else.
            (None, _) => self.looked_at.len(),
        }
    }

    fn variable(&mut self, variable: Variable) -> &mut usize {
        match variable {
            Variable::Here => &mut self.here,
            Variable::Bit => &mut self.bit,
            Variable::Start => &mut self.start,
            other => panic!("{other} is set"),
        }
    }

    fn holds(&mut self, test: &Test) -> bool {
        match test {
            Test::Below(_, bytes) => self.end < *bytes,
            Test::Ends(_, bytes) => self.end == *bytes,
            Test::Behind(_, place, bytes) => {
                let place = *self.variable(*place);
                self.end.wrapping_sub(place) < *bytes
            }
            Test::BitsBehind(_, bits) => (self.bit + bits).div_ceil(8) > self.end,
            Test::Other(expression) => {
                if expression.changed().next().is_some() {
                    self.here += 3;
                }
                self.coin(expression)
            }
        }
    }

    /// How the run ended, if it did.
    fn run(&mut self, statements: &[Stmt]) -> Option<&'static str> {
        for statement in statements {
            match statement {
                Stmt::Comment(_) => {}
                Stmt::Do(expression) if expression.changed().next().is_some() => self.here += 3,
                Stmt::Do(expression) => {
                    let looks_at_bits = expression.variables().any(|variable| variable == Variable::Bit);
                    self.looked_at.push(if looks_at_bits { self.bit } else { self.here });
                }
                Stmt::Set(variable, value) => *self.variable(*variable) = self.value(value),
                Stmt::Add(variable, value) => *self.variable(*variable) += self.value(value),
                Stmt::Refuse(test, _) if self.holds(test) => return Some("refused"),
                Stmt::Refuse(..) => {}
                Stmt::If(test, then, otherwise) => {
                    let taken = if self.holds(test) { then } else { otherwise };
                    if let Some(ended) = self.run(taken) {
                        return Some(ended);
                    }
                }
                Stmt::Block(inner) => {
                    if let Some(ended) = self.run(inner) {
                        return Some(ended);
                    }
                }
                Stmt::For(_, inner) | Stmt::While(_, inner) => {
                    for _ in 0..3 {
                        if let Some(ended) = self.run(inner) {
                            return Some(ended);
                        }
                    }
                }
                Stmt::Switch(value, cases) => {
                    let case = if self.coin(value) { &cases[0] } else { &cases[1] };
                    if let Some(ended) = self.run(&case.then) {
                        return Some(ended);
                    }
                }
                Stmt::Return(_) => return Some("returned"),
            }
        }
        None
    }
}

/// Any condition.
fn condition() -> impl Strategy<Value = Test> {
    let end = Bound::End;
    prop_oneof![
        (0..9usize).prop_map(move |bytes| Test::Below(end, bytes)),
        (0..9usize).prop_map(move |bytes| Test::Ends(end, bytes)),
        (0..5usize).prop_map(move |bytes| Test::Behind(end, Variable::Here, bytes)),
        (0..5usize).prop_map(move |bytes| Test::Behind(end, Variable::Start, bytes)),
        (0..30usize).prop_map(move |bits| Test::BitsBehind(end, bits)),
        (0..64u32).prop_map(|coin| Test::Other(format!("maybe{coin}").into())),
        (0..64u32).prop_map(|coin| {
            let put = Expr::function("put");
            Test::Other(expr!["!", put, "(", Expr::address(Variable::Here), format!(", {coin})")])
        }),
    ]
}

/// Any statement of a function that reads a body.
fn statement() -> impl Strategy<Value = Stmt> {
    let behind_start = || expr![Variable::Start, " + ", Expr::number(2)].of_variables();
    let variable = || prop_oneof![Just(Variable::Here), Just(Variable::Bit), Just(Variable::Start)];
    let one = prop_oneof![
        3 => Just(read()),
        1 => Just(Stmt::Do(expr!["take(", Variable::Bit, ")"])),
        1 => Just(Stmt::Do(expr![Expr::function("get"), "(", Expr::address(Variable::Here), ")"])),
        4 => (variable(), 0..9usize).prop_map(|(variable, number)| Stmt::Set(variable, Expr::number(number))),
        3 => (variable(), 0..4usize).prop_map(|(variable, number)| Stmt::Add(variable, Expr::number(number))),
        2 => Just(Stmt::Set(Variable::Here, behind_start())),
        3 => Just(Stmt::Set(Variable::Here, "inner".into())),
        1 => Just(Stmt::Add(Variable::Here, "count".into())),
        6 => condition().prop_map(|test| Stmt::Refuse(test, "SHORT".to_owned())),
        1 => Just(Stmt::Return("OK".into())),
    ];
    one.prop_recursive(3, 24, 4, |inner| {
        let several = || prop::collection::vec(inner.clone(), 0..4);
        let case = |number: Option<&str>, then| Case { number: number.map(str::to_owned), then };
        prop_oneof![
            several().prop_map(Stmt::Block),
            several().prop_map(|inner| Stmt::For("n = 0; n < 3u; n++".into(), inner)),
            (condition(), several(), several()).prop_map(|(test, then, other)| Stmt::If(test, then, other)),
            (0..64u32, several(), several()).prop_map(move |(coin, one, other)| {
                Stmt::Switch(format!("n{coin}").into(), vec![case(Some("1u"), one), case(None, other)])
            }),
        ]
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(20_000))]

    /// However many bytes there are, and whatever else is the case, the same places are looked at, and the end is the same.
    #[test]
    fn what_is_left_out_has_no_effect(
        statements in prop::collection::vec(statement(), 1..14),
        end in 0..12usize,
        start in 0..6usize,
        coins: u64,
    ) {
        let read_behind = Variables::from([Variable::Here]);
        let run = |statements: &[Stmt]| {
            let mut machine = Machine { end, start, here: 0, bit: 0, coins, looked_at: Vec::new() };
            let ended = machine.run(statements);
            // Nobody reads a variable behind a return.
            let here = if ended.is_none() { machine.here } else { 0 };
            Behaviour { looked_at: machine.looked_at, ended: ended.unwrap_or("ran through"), here }
        };
        let left = simplified(statements.clone(), &read_behind);
        prop_assert_eq!(run(&statements), run(&left), "{:#?}\n{:#?}", statements, left);
    }
}
