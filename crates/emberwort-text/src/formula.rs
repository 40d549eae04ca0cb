//! Formulas over the fields of a message and the time, as trial files and `--where` have them: `oil > 200 and not moving`.
//!
//! Numbers are physical; a label stands for its code, and booleans for 0 and 1. What has no value makes every comparison false. What is no
//! part of a message at all is neither true nor false there, nor is anything that is said of it alone (the three values of Kleene's logic).

use emberwort_model::diagnostics::nearest;
use emberwort_model::float::float_value;
use emberwort_model::hex::parse_hex;
use emberwort_model::model::{Field, Kind, Labelled};
use emberwort_wire::values::signed;
use emberwort_wire::{ValueRef, Values};

/// A moment in nanoseconds from some start.
pub type Nanoseconds = u64;

/// A formula that was read.
#[derive(Clone, Debug, PartialEq)]
pub struct Formula {
    text: String,
    root: Node,
}

#[derive(Clone, Debug, PartialEq)]
enum Node {
    Number(f64),
    /// Seconds since the start.
    Time,
    /// A variable, by its number.
    Variable(usize),
    Negative(Box<Node>),
    Not(Box<Node>),
    Two(Operator, Box<(Node, Node)>),
    Call(Function, Vec<Node>),
    /// Between two numbers, both among them.
    Within(Box<[Node; 3]>),
    /// Whether it has a value.
    Has(Box<Node>),
    /// Whether it is there, and has none.
    IsNone(Box<Node>),
    /// Whether a variable is that text, or holds it.
    Text {
        variable: usize,
        bytes: Vec<u8>,
        is_whole: bool,
    },
}

/// What the variables of a formula stand for at a moment.
pub trait Variables {
    /// The value of a variable: `None` if it has none; not a number if there is no such thing here at all.
    fn number(&self, variable: usize) -> Option<f64>;

    /// The bytes of one that is text, or bytes.
    fn bytes(&self, variable: usize) -> Option<&[u8]> {
        let _ = variable;
        None
    }
}

impl<F: Fn(usize) -> Option<f64>> Variables for F {
    fn number(&self, variable: usize) -> Option<f64> {
        self(variable)
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Operator {
    Or,
    And,
    Equal,
    Unequal,
    Less,
    AtMost,
    More,
    AtLeast,
    /// A flag set holds a flag.
    Has,
    Plus,
    Minus,
    Times,
    Over,
    Remainder,
}

/// The operators, how strongly each binds, and how it is written. Longer ones stand before those that they begin with.
const OPERATORS: [(&str, Operator, u8); 14] = [
    ("or", Operator::Or, 1),
    ("and", Operator::And, 2),
    ("==", Operator::Equal, 3),
    ("!=", Operator::Unequal, 3),
    ("<=", Operator::AtMost, 3),
    (">=", Operator::AtLeast, 3),
    ("<", Operator::Less, 3),
    (">", Operator::More, 3),
    ("has", Operator::Has, 3),
    ("+", Operator::Plus, 4),
    ("-", Operator::Minus, 4),
    ("*", Operator::Times, 5),
    ("/", Operator::Over, 5),
    ("%", Operator::Remainder, 5),
];

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Function {
    Abs,
    Min,
    Max,
    Sqrt,
    Sin,
    Floor,
}

/// The functions, and how many values each takes.
const FUNCTIONS: [(&str, Function, usize); 6] = [
    ("abs", Function::Abs, 1),
    ("min", Function::Min, 2),
    ("max", Function::Max, 2),
    ("sqrt", Function::Sqrt, 1),
    ("sin", Function::Sin, 1),
    ("floor", Function::Floor, 1),
];

/// A field that is worked out.
#[derive(Clone, Debug)]
pub struct ComputedField {
    /// Its slot.
    pub slot: usize,
    /// How.
    pub formula: Formula,
}

/// A variable that a formula may name: its number, and the field that it is, if it is one.
pub type Named<'f> = (usize, Option<&'f Field>);

/// So many names are listed where none is near to the one that was written.
const MAX_NAMES: usize = 16;

/// How deeply parentheses may stand in each other.
const MAX_DEPTH: u32 = 64;

impl Formula {
    /// Reads a formula whose names `known` knows; `names` are all of them, for the case that one is misspelled.
    ///
    /// # Errors
    /// What is wrong, and where it stands.
    pub fn parse<'f>(text: &str, known: &dyn Fn(&str) -> Option<Named<'f>>, names: &[&str]) -> Result<Self, String> {
        let mut parser = Parser { text, at: 0, depth: 0, known, names };
        let root = parser.binary(0)?.fixed(None, &parser)?;
        parser.space();
        if parser.at < text.len() {
            let hint = if text[parser.at..].starts_with('=') { "; write == to compare" } else { "" };
            return Err(format!("`{}` was not expected in `{text}`{hint}", &text[parser.at..]));
        }
        Ok(Self { text: text.to_owned(), root })
    }

    /// A formula over the fields of a message: variables are slots.
    ///
    /// # Errors
    /// As [`Formula::parse`].
    pub fn of_fields(text: &str, fields: &[Field]) -> Result<Self, String> {
        let names: Vec<&str> =
            fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str()).collect();
        let known = |name: &str| {
            let slot = fields.iter().position(|field| !field.is_spare() && field.name == name)?;
            Some((slot, Some(&fields[slot])))
        };
        Self::parse(text, &known, &names)
    }

    /// As it was written.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// Its value at a moment, with that of each variable: `None` if it has none, not a number if there is no such thing at all, which is then
    /// neither equal to `none` nor to anything else. `None` if it needs a variable that has none, or divides by zero.
    pub fn value(&self, now: Nanoseconds, variables: &dyn Variables) -> Option<f64> {
        value(&self.root, now, variables).filter(|value| value.is_finite())
    }

    /// Whether it asks for the time.
    pub fn asks_for_time(&self) -> bool {
        fn walk(node: &Node) -> bool {
            match node {
                Node::Time => true,
                Node::Number(_) | Node::Variable(_) | Node::Text { .. } => false,
                Node::Negative(inner) | Node::Not(inner) | Node::Has(inner) | Node::IsNone(inner) => walk(inner),
                Node::Two(_, both) => walk(&both.0) || walk(&both.1),
                Node::Call(_, inner) => inner.iter().any(walk),
                Node::Within(three) => three.iter().any(walk),
            }
        }
        walk(&self.root)
    }

    /// Whether it can hold at all, given the variables whose values are fixed; `None` for those that can be anything.
    pub fn can_hold(&self, fixed: &dyn Fn(usize) -> Option<f64>) -> bool {
        can_hold(&self.root, fixed)
    }

    /// The variables that stand as conditions by themselves: `moving` in `moving and oil > 3`.
    pub fn conditions(&self) -> Vec<usize> {
        fn walk(node: &Node, found: &mut Vec<usize>) {
            match node {
                Node::Variable(variable) => found.push(*variable),
                Node::Not(inner) => walk(inner, found),
                Node::Two(Operator::And | Operator::Or, both) => {
                    walk(&both.0, found);
                    walk(&both.1, found);
                }
                _ => {}
            }
        }
        let mut found = Vec::new();
        walk(&self.root, &mut found);
        found
    }

    /// Its value for the fields of a message.
    pub fn value_of(&self, now: Nanoseconds, fields: &[Field], values: &Values) -> Option<f64> {
        self.value(now, &|slot: usize| number(&fields[slot], values, slot))
    }

    /// Whether it holds for the fields of a message.
    pub fn holds(&self, now: Nanoseconds, fields: &[Field], values: &Values) -> bool {
        self.value_of(now, fields, values).is_some_and(|value| value != 0.0)
    }
}

fn can_hold(node: &Node, fixed: &dyn Fn(usize) -> Option<f64>) -> bool {
    match node {
        Node::Two(Operator::And, both) => can_hold(&both.0, fixed) && can_hold(&both.1, fixed),
        Node::Two(Operator::Or, both) => can_hold(&both.0, fixed) || can_hold(&both.1, fixed),
        node if is_fixed(node, fixed) => {
            value(node, 0, &|variable: usize| fixed(variable)).is_some_and(|is| is != 0.0 && !is.is_nan())
        }
        _ => true,
    }
}

/// Whether nothing in it can change.
fn is_fixed(node: &Node, fixed: &dyn Fn(usize) -> Option<f64>) -> bool {
    let of = |node: &Node| is_fixed(node, fixed);
    match node {
        Node::Number(_) => true,
        Node::Time => false,
        Node::Variable(variable) | Node::Text { variable, .. } => fixed(*variable).is_some(),
        Node::Negative(inner) | Node::Not(inner) | Node::Has(inner) | Node::IsNone(inner) => of(inner),
        Node::Two(_, both) => of(&both.0) && of(&both.1),
        Node::Call(_, inner) => inner.iter().all(of),
        Node::Within(three) => three.iter().all(of),
    }
}

/// The physical number of a field, as rows show it; of labels and flags the code, of booleans 0 or 1. `None` if it holds none.
pub fn number(field: &Field, values: &Values, slot: usize) -> Option<f64> {
    match values.get(slot) {
        ValueRef::Raw(raw) => number_of(field, raw),
        _ => None,
    }
}

/// The physical number of a code of a field, as [`number`] gives it.
#[inline]
pub fn number_of(field: &Field, raw: u64) -> Option<f64> {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let code = signed(&field.kind, raw);
            if !(form.low..=form.high).contains(&code) {
                return None;
            }
            if !form.scaling.is_exact() {
                // What a row says: whoever reads 60.01 there asks for 60.01.
                let shown = form.scaling.physical(code);
                return Some(shown.mantissa as f64 / 10f64.powi(shown.decimals as i32));
            }
            let (offset, step, divisor) = form.scaling.parts();
            Some((offset as f64 + step as f64 * code as f64) / divisor as f64)
        }
        Kind::Float(bits) => Some(float_value(*bits, raw)),
        Kind::Time { milliseconds } => Some(raw as f64 / if *milliseconds { 1e3 } else { 1.0 }),
        Kind::Enum { none, .. } if *none == Some(raw) => None,
        _ => Some(raw as f64),
    }
}

fn value(node: &Node, now: Nanoseconds, variables: &dyn Variables) -> Option<f64> {
    let of = |node: &Node| value(node, now, variables);
    let truth = |is: bool| if is { 1.0 } else { 0.0 };
    Some(match node {
        Node::Number(number) => *number,
        Node::Time => now as f64 / 1e9,
        Node::Variable(number) => variables.number(*number)?,
        Node::Negative(inner) => -of(inner)?,
        Node::Not(inner) => match of(inner) {
            Some(value) if value.is_nan() => value,
            value => truth(value.is_none_or(|value| value == 0.0)),
        },
        Node::Two(operator @ (Operator::Or | Operator::And), both) => {
            // One of them may decide alone.
            let deciding = *operator == Operator::Or;
            let one = of(&both.0).unwrap_or(0.0);
            if !one.is_nan() && (one != 0.0) == deciding {
                return Some(truth(deciding));
            }
            let other = of(&both.1).unwrap_or(0.0);
            if !other.is_nan() && (other != 0.0) == deciding {
                return Some(truth(deciding));
            }
            if one.is_nan() || other.is_nan() { f64::NAN } else { truth(!deciding) }
        }
        Node::Two(operator, both) => {
            let pair = of(&both.0).zip(of(&both.1));
            let compared = |is: fn(f64, f64) -> bool| match pair {
                Some((a, b)) if a.is_nan() || b.is_nan() => Some(f64::NAN),
                Some((a, b)) => Some(truth(is(a, b))),
                None => Some(0.0),
            };
            match operator {
                // Two numbers of different steps are equal if nobody could tell them apart.
                Operator::Equal => compared(|a, b| (a - b).abs() <= 1e-9 * a.abs().max(b.abs()))?,
                Operator::Unequal => compared(|a, b| (a - b).abs() > 1e-9 * a.abs().max(b.abs()))?,
                Operator::Less => compared(|a, b| a < b)?,
                Operator::AtMost => compared(|a, b| a <= b)?,
                Operator::More => compared(|a, b| a > b)?,
                Operator::AtLeast => compared(|a, b| a >= b)?,
                Operator::Has => compared(|set, bit| set as u64 & bit as u64 != 0)?,
                _ => {
                    let (a, b) = pair?;
                    match operator {
                        Operator::Plus => a + b,
                        Operator::Minus => a - b,
                        Operator::Times => a * b,
                        Operator::Over => a / b,
                        _ => a % b,
                    }
                }
            }
        }
        Node::Has(inner) => of(inner).map_or(0.0, |value| if value.is_nan() { value } else { 1.0 }),
        Node::IsNone(inner) => of(inner).map_or(1.0, |value| if value.is_nan() { value } else { 0.0 }),
        Node::Text { variable, bytes, is_whole } => match (variables.bytes(*variable), variables.number(*variable)) {
            (Some(found), _) if *is_whole => truth(found == bytes),
            (Some(found), _) => truth(bytes.is_empty() || found.windows(bytes.len()).any(|window| window == bytes)),
            (None, number) => number.filter(|number| number.is_nan()).unwrap_or(0.0),
        },
        Node::Within(three) => {
            let [at, least, most] = three.as_ref();
            let (least, most) = (of(least)?, of(most)?);
            of(at).map_or(0.0, |at| if at.is_nan() { at } else { truth((least..=most).contains(&at)) })
        }
        Node::Call(function, inner) => {
            let first = of(inner.first()?)?;
            match function {
                Function::Abs => first.abs(),
                Function::Sqrt => first.sqrt(),
                Function::Sin => first.sin(),
                Function::Floor => first.floor(),
                Function::Min => first.min(of(inner.get(1)?)?),
                Function::Max => first.max(of(inner.get(1)?)?),
            }
        }
    })
}

/// Whether a field is this text, is not, or holds it.
fn text_node(operator: Operator, variable: usize, field: &Field, text: &str) -> Result<Node, String> {
    let name = &field.name;
    let bytes = match &field.kind {
        Kind::Text { .. } => text.as_bytes().to_vec(),
        Kind::Bytes(_) => parse_hex(text)
            .ok_or_else(|| format!("`{name}` holds bytes: write them in hex, as in \"0A 1F\", not \"{text}\""))?,
        _ => return Err(format!("`{name}` is not text; compare it with a number or a label, without quotes")),
    };
    let of = |is_whole| Node::Text { variable, bytes, is_whole };
    match operator {
        Operator::Equal => Ok(of(true)),
        Operator::Unequal => Ok(Node::Not(Box::new(of(true)))),
        Operator::Has => Ok(of(false)),
        _ => Err(format!("`{name}` is compared with \"{text}\" by ==, != or has")),
    }
}

/// A part of a formula, before it is known which field a label belongs to.
enum Part<'f> {
    Done(Node, Option<&'f Field>),
    /// A variable.
    Variable {
        name: String,
        number: usize,
        field: Option<&'f Field>,
    },
    /// A name that is no variable.
    Word(String),
    /// What stands in quotes.
    Quoted(String),
}

impl<'f> Part<'f> {
    /// The node; a word is a label of `field`.
    fn fixed(self, field: Option<&Field>, parser: &Parser<'_, 'f>) -> Result<Node, String> {
        let word = match self {
            Part::Done(node, _) => return Ok(node),
            Part::Variable { number, .. } => return Ok(Node::Variable(number)),
            Part::Quoted(text) => {
                return Err(format!(
                    "\"{text}\" can only be compared with a field that is text or bytes: == \"{text}\""
                ));
            }
            Part::Word(word) => word,
        };
        let code = |labels: &Labelled| labels.labels.iter().find(|label| label.name == word).map(|label| label.code);
        match field.map(|field| &field.kind) {
            Some(Kind::Enum { labels, .. }) => match code(labels) {
                Some(code) => return Ok(Node::Number(code as f64)),
                None => return Err(format!("{} has no label `{word}`", labels.name)),
            },
            Some(Kind::Flags(flags)) => match code(flags) {
                Some(bit) => return Ok(Node::Number((1u64 << bit) as f64)),
                None => return Err(format!("{} has no flag `{word}`", flags.name)),
            },
            _ => {}
        }
        Err(match nearest(&word, parser.names.iter().copied()) {
            Some(near) => format!("nothing is called `{word}` in `{}`; did you mean `{near}`?", parser.text),
            None => {
                let (some, more) = parser.names.split_at(parser.names.len().min(MAX_NAMES));
                let more = if more.is_empty() { String::new() } else { format!(" and {} more", more.len()) };
                format!("nothing is called `{word}` in `{}`; there are time, {}{more}", parser.text, some.join(", "))
            }
        })
    }

    fn field(&self) -> Option<&'f Field> {
        match self {
            Part::Done(_, field) | Part::Variable { field, .. } => *field,
            Part::Word(_) | Part::Quoted(_) => None,
        }
    }
}

struct Parser<'p, 'f> {
    text: &'p str,
    at: usize,
    depth: u32,
    known: &'p dyn Fn(&str) -> Option<Named<'f>>,
    names: &'p [&'p str],
}

impl<'f> Parser<'_, 'f> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn space(&mut self) {
        self.at += self.rest().len() - self.rest().trim_start().len();
    }

    /// Takes these signs, or this word, if they come next.
    fn take(&mut self, what: &str) -> bool {
        self.space();
        let is_word = what.as_bytes().last().is_some_and(u8::is_ascii_alphabetic);
        let goes_on = |rest: &str| rest.starts_with(|c: char| c.is_ascii_alphanumeric() || c == '_');
        let found = self.rest().strip_prefix(what).is_some_and(|rest| !(is_word && goes_on(rest)));
        if found {
            self.at += what.len();
        }
        found
    }

    /// What is joined by operators that bind at least so strongly (precedence climbing).
    fn binary(&mut self, least: u8) -> Result<Part<'f>, String> {
        self.depth += 1;
        if self.depth > MAX_DEPTH {
            return Err(format!("`{}` has too many parts inside of each other", self.text));
        }
        let mut left = self.with_suffix(least)?;
        loop {
            let before = self.at;
            if least < 3 && self.take("in") {
                left = self.within(left)?;
                continue;
            }
            let next = OPERATORS.iter().find(|(sign, _, binds)| *binds > least && self.take(sign));
            let Some((_, operator, binds)) = next else {
                self.at = before;
                self.depth -= 1;
                return Ok(left);
            };
            let right = self.binary(*binds)?;
            let (of_left, of_right) = (left.field(), right.field());
            let is_none = |part: &Part<'_>| matches!(part, Part::Word(word) if word == "none");
            if matches!(operator, Operator::Equal | Operator::Unequal) && is_none(&right) {
                let left_node = Box::new(left.fixed(None, self)?);
                let is_equal = *operator == Operator::Equal;
                left = Part::Done(if is_equal { Node::IsNone(left_node) } else { Node::Has(left_node) }, None);
                continue;
            }
            if let (Part::Variable { number, field: Some(field), .. }, Part::Quoted(text)) = (&left, &right) {
                left = Part::Done(text_node(*operator, *number, field, text)?, None);
                continue;
            }
            let both = (left.fixed(of_right, self)?, right.fixed(of_left, self)?);
            left = Part::Done(Node::Two(*operator, Box::new(both)), None);
        }
    }

    /// `x in a .. b`, with `x` read already.
    fn within(&mut self, at: Part<'f>) -> Result<Part<'f>, String> {
        let field = at.field();
        let least = self.binary(3)?.fixed(field, self)?;
        if !self.take("..") {
            return Err(self.expected("`..`"));
        }
        let most = self.binary(3)?.fixed(field, self)?;
        let at = at.fixed(None, self)?;
        Ok(Part::Done(Node::Within(Box::new([at, least, most])), None))
    }

    /// A value with what may stand behind it: `opening changed`, `opening jumped by 10`.
    fn with_suffix(&mut self, least: u8) -> Result<Part<'f>, String> {
        let part = self.unary()?;
        let Part::Variable { name, number, .. } = &part else { return Ok(part) };
        if least >= 3 {
            return Ok(part);
        }
        let earlier = |parser: &Self, word: &str| {
            let found = (parser.known)(&format!("{word}({name})")).map(|(number, _)| Node::Variable(number));
            found.ok_or_else(|| format!("`{}` knows nothing of earlier values of `{name}`", parser.text))
        };
        if self.take("changed") {
            return Ok(Part::Done(earlier(self, "changed")?, None));
        }
        if self.take("jumped") {
            if !self.take("by") {
                return Err(self.expected("`by`"));
            }
            let both = Box::new((Node::Variable(*number), earlier(self, "previous")?));
            let jump = Node::Call(Function::Abs, vec![Node::Two(Operator::Minus, both)]);
            let by = self.binary(3)?.fixed(None, self)?;
            return Ok(Part::Done(Node::Two(Operator::AtLeast, Box::new((jump, by))), None));
        }
        Ok(part)
    }

    /// A name as it may stand in front of `(` or by itself: with dots, and elements of lists.
    fn name(&mut self) -> String {
        self.space();
        let is_part = |c: char| c.is_ascii_alphanumeric() || matches!(c, '_' | '.' | '[' | ']');
        let word: String = self.rest().chars().take_while(|c| is_part(*c)).collect();
        // Two dots are those of a range.
        let word = word.split("..").next().unwrap_or_default().to_owned();
        self.at += word.len();
        word
    }

    fn unary(&mut self) -> Result<Part<'f>, String> {
        if self.take("not") {
            let inner = self.binary(2)?.fixed(None, self)?;
            return Ok(Part::Done(Node::Not(Box::new(inner)), None));
        }
        if self.take("-") {
            let inner = self.binary(5)?.fixed(None, self)?;
            return Ok(Part::Done(Node::Negative(Box::new(inner)), None));
        }
        if self.take("(") {
            let inner = self.binary(0)?;
            let inner = inner.fixed(None, self)?;
            return if self.take(")") { Ok(Part::Done(inner, None)) } else { Err(self.expected("`)`")) };
        }
        self.space();
        if let Some(quote @ ('"' | '\'')) = self.rest().chars().next() {
            let Some(end) = self.rest()[1..].find(quote) else { return Err(self.expected("the second quote")) };
            let text = self.rest()[1..=end].to_owned();
            self.at += end + 2;
            return Ok(Part::Quoted(text));
        }
        let word = self.name();
        if word.is_empty() {
            return Err(self.expected("a number or a name"));
        }
        if word.starts_with(|c: char| c.is_ascii_digit()) {
            let number = word.parse().map_err(|_| format!("`{word}` is not a number in `{}`", self.text))?;
            return Ok(Part::Done(Node::Number(number), None));
        }
        if matches!(word.as_str(), "has" | "raw" | "previous" | "changed" | "age") && self.take("(") {
            let name = self.name();
            if !self.take(")") {
                return Err(self.expected("`)`"));
            }
            let asked = if word == "has" { name.clone() } else { format!("{word}({name})") };
            let Some((number, _)) = (self.known)(&asked) else {
                return Part::Word(name).fixed(None, self).map(|node| Part::Done(node, None));
            };
            let variable = Node::Variable(number);
            let node = if word == "has" { Node::Has(Box::new(variable)) } else { variable };
            return Ok(Part::Done(node, None));
        }
        if let Some((_, function, count)) = FUNCTIONS.iter().find(|(name, ..)| *name == word)
            && self.take("(")
        {
            let mut inner = vec![self.binary(0)?.fixed(None, self)?];
            while self.take(",") {
                inner.push(self.binary(0)?.fixed(None, self)?);
            }
            if !self.take(")") {
                return Err(self.expected("`)`"));
            }
            return if inner.len() == *count {
                Ok(Part::Done(Node::Call(*function, inner), None))
            } else {
                Err(format!("`{word}` takes {count} values, not {}", inner.len()))
            };
        }
        Ok(match (word.as_str(), (self.known)(&word)) {
            (_, Some((number, field))) => Part::Variable { name: word, number, field },
            ("time", None) => Part::Done(Node::Time, None),
            ("true", None) => Part::Done(Node::Number(1.0), None),
            ("false", None) => Part::Done(Node::Number(0.0), None),
            _ => Part::Word(word),
        })
    }

    fn expected(&self, what: &str) -> String {
        match self.rest() {
            "" => format!("{what} is missing at the end of `{}`", self.text),
            rest => format!("{what} is missing before `{rest}`"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn value_of(text: &str) -> Option<f64> {
        let known = |name: &str| match name {
            "x" => Some((0, None)),
            "nothing" => Some((1, None)),
            _ => None,
        };
        let formula = Formula::parse(text, &known, &["x", "nothing"]).unwrap_or_else(|error| panic!("{text}: {error}"));
        formula.value(2_500_000_000, &|number: usize| (number == 0).then_some(7.0))
    }

    #[test]
    fn operators_bind_as_everywhere() {
        for (text, expected) in [
            ("1 + 2 * 3 - 4", 3.0),
            ("(1 + 2) * 3", 9.0),
            ("2 - 3 - 4", -5.0),
            ("-x + 1", -6.0),
            ("-(x + 1) * 2", -16.0),
            ("x % 4 / 2", 1.5),
            ("time * 2", 5.0),
            ("x > 6 and x < 8", 1.0),
            ("x > 6 and not x < 8 or x == 7", 1.0),
            ("not x == 7", 0.0),
            ("max(1, min(x, 3)) + abs(-2)", 5.0),
            ("sqrt(16) + floor(2.9) + sin(0)", 6.0),
            ("6 has 2", 1.0),
            ("0.1 + 0.2 == 0.3", 1.0),
            ("x in 3 .. 7", 1.0),
            ("x in 3..6 or x in 8 .. 2 * 5", 0.0),
            ("nothing in 0 .. 1", 0.0),
            ("has(x) and not has(nothing)", 1.0),
            ("nothing == none and x != none", 1.0),
        ] {
            assert_eq!(value_of(text), Some(expected), "{text}");
        }
    }

    #[test]
    fn what_has_no_value_is_never_equal_to_anything() {
        assert_eq!(value_of("nothing + 1"), None);
        for text in ["nothing == 0", "nothing != 0", "nothing < 1", "nothing >= 1", "nothing and true"] {
            assert_eq!(value_of(text), Some(0.0), "{text}");
        }
        assert_eq!(value_of("1 / 0"), None);
    }

    #[test]
    fn mistakes_are_named() {
        let known = |name: &str| (name == "opening").then_some((0, None));
        for (text, said) in [
            ("openin > 3", "did you mean `opening`?"),
            ("opening >", "a number or a name is missing at the end"),
            ("(opening", "`)` is missing at the end"),
            ("opening 3", "`3` was not expected"),
            ("opening = 3", "write == to compare"),
            ("min(opening)", "`min` takes 2 values, not 1"),
            ("1.2.3", "is not a number"),
            ("", "a number or a name is missing"),
            (&"(".repeat(1000), "too many parts inside of each other"),
        ] {
            let error = Formula::parse(text, &known, &["opening"]).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
