//! Collecting lines of code with indentation, without definitions that nothing uses.

use std::collections::BTreeSet;
use std::ops::Range;

/// Lines of code; four spaces for each level, if nothing else is said.
#[derive(Debug)]
pub struct Code {
    text: String,
    level: usize,
    step: &'static str,
    /// What is used outside of `definitions`.
    uses: BTreeSet<String>,
    definitions: Vec<Definition>,
}

/// Lines that define something, and are left out if nothing uses it.
#[derive(Debug)]
struct Definition {
    name: String,
    lines: Range<usize>,
    uses: BTreeSet<String>,
}

impl Default for Code {
    fn default() -> Self {
        Self::with_step("    ")
    }
}

impl Code {
    /// No lines yet, and these spaces for each level.
    pub(crate) fn with_step(step: &'static str) -> Self {
        Self { text: String::new(), level: 0, step, uses: BTreeSet::new(), definitions: Vec::new() }
    }

    /// Writes lines that define something, which are left out unless something uses it: [`Self::uses`].
    pub fn define(&mut self, name: impl Into<String>, write: impl FnOnce(&mut Self)) {
        let (from, outer) = (self.text.len(), std::mem::take(&mut self.uses));
        write(self);
        let uses = std::mem::replace(&mut self.uses, outer);
        self.definitions.push(Definition { name: name.into(), lines: from..self.text.len(), uses });
    }

    /// Says that the lines at hand use something that may be defined with [`Self::define`].
    pub fn uses(&mut self, name: impl Into<String>) {
        self.uses.insert(name.into());
    }

    /// Whether the lines so far use something that [`Self::uses`] was told of.
    pub(crate) fn is_used(&self, name: &str) -> bool {
        self.uses.contains(name)
    }

    /// Adds a line at the current level; an empty one without spaces.
    pub fn line(&mut self, line: impl AsRef<str>) {
        let line = line.as_ref();
        if !line.is_empty() {
            for _ in 0..self.level {
                self.text.push_str(self.step);
            }
            self.text.push_str(line);
        }
        self.text.push('\n');
    }

    /// Adds a line that stands at the left whatever the level is: one for the preprocessor.
    pub(crate) fn unindented(&mut self, line: impl AsRef<str>) {
        self.text.push_str(line.as_ref());
        self.text.push('\n');
    }

    /// Adds lines that are already indented for this level.
    pub fn lines(&mut self, lines: &str) {
        for line in lines.lines() {
            self.line(line);
        }
    }

    /// Adds a line, and puts what follows one level deeper.
    pub fn open(&mut self, line: impl AsRef<str>) {
        self.line(line);
        self.level += 1;
    }

    /// Ends a level and adds a line.
    pub fn close(&mut self, line: impl AsRef<str>) {
        self.level = self.level.saturating_sub(1);
        self.line(line);
    }

    /// Puts what follows one level deeper, without a line.
    pub(crate) fn open_more(&mut self) {
        self.level += 1;
    }

    /// Ends a level, without a line.
    pub(crate) fn dedent(&mut self) {
        self.level = self.level.saturating_sub(1);
    }

    /// The whole text, without definitions that nothing in it uses.
    pub fn finish(self) -> String {
        let mut used = BTreeSet::new();
        let mut more: Vec<String> = self.uses.into_iter().collect();
        while let Some(name) = more.pop() {
            let uses = self.definitions.iter().filter(|definition| definition.name == name).map(|one| &one.uses);
            more.extend(uses.flatten().filter(|name| !used.contains(*name)).cloned());
            used.insert(name);
        }
        let (mut out, mut from) = (String::with_capacity(self.text.len()), 0);
        for definition in self.definitions.iter().filter(|definition| !used.contains(&definition.name)) {
            out.push_str(&self.text[from..definition.lines.start]);
            from = definition.lines.end;
        }
        out + &self.text[from..]
    }
}

/// A text with words in it replaced, all at once: what is put in is not looked at again.
pub fn filled(text: &str, words: &[(&str, &str)]) -> String {
    let (mut out, mut rest) = (String::new(), text);
    while let Some((at, (word, value))) =
        words.iter().filter_map(|pair| rest.find(pair.0).map(|at| (at, pair))).min_by_key(|(at, _)| *at)
    {
        out.push_str(&rest[..at]);
        out.push_str(value);
        rest = &rest[at + word.len()..];
    }
    out + rest
}

#[cfg(test)]
mod tests {
    use super::{Code, filled};

    #[test]
    fn what_nothing_uses_is_left_out_with_what_it_alone_uses() {
        let mut code = Code::default();
        code.line("first");
        code.define("lowest", |code| code.line("lowest"));
        code.define("inner", |code| {
            code.uses("lowest");
            code.line("inner");
        });
        code.define("outer", |code| {
            code.uses("inner");
            // One that calls itself is not used by that.
            code.uses("outer");
            code.line("outer");
        });
        code.define("used", |code| {
            code.uses("lowest");
            code.line("used");
        });
        code.uses("used");
        code.line("last");
        assert_eq!(code.finish(), "first\nlowest\nused\nlast\n");
    }

    #[test]
    fn what_is_put_in_is_not_looked_at_again() {
        let words = [("LINK", "bits"), ("UPPER", "BITS"), ("BITS", "32")];
        assert_eq!(filled("LINK_get_BITS(UPPER_MOST) BIT", &words), "bits_get_32(BITS_MOST) BIT");
        assert_eq!(filled("", &words), "");
    }
}
