//! Collecting lines of code with indentation.

/// Lines of code; four spaces for each level, if nothing else is said.
#[derive(Debug)]
pub struct Code {
    text: String,
    level: usize,
    step: &'static str,
}

impl Default for Code {
    fn default() -> Self {
        Self::with_step("    ")
    }
}

impl Code {
    /// No lines yet, and these spaces for each level.
    pub fn with_step(step: &'static str) -> Self {
        Self { text: String::new(), level: 0, step }
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
    pub fn open_more(&mut self) {
        self.level += 1;
    }

    /// Ends a level, without a line.
    pub fn dedent(&mut self) {
        self.level = self.level.saturating_sub(1);
    }

    /// The whole text.
    pub fn finish(self) -> String {
        self.text
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
    use super::filled;

    #[test]
    fn what_is_put_in_is_not_looked_at_again() {
        let words = [("LINK", "bits"), ("UPPER", "BITS"), ("BITS", "32")];
        assert_eq!(filled("LINK_get_BITS(UPPER_MOST) BIT", &words), "bits_get_32(BITS_MOST) BIT");
        assert_eq!(filled("", &words), "");
    }
}
