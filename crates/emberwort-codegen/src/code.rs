//! Collecting lines of code with indentation.

/// Lines of code; four spaces for each level.
#[derive(Debug, Default)]
pub struct Code {
    text: String,
    level: usize,
}

impl Code {
    /// Adds a line at the current level; an empty one without spaces.
    pub fn line(&mut self, line: impl AsRef<str>) {
        let line = line.as_ref();
        if !line.is_empty() {
            for _ in 0..self.level {
                self.text.push_str("    ");
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

    /// Ends a level, without a line.
    pub fn dedent(&mut self) {
        self.level = self.level.saturating_sub(1);
    }

    /// The whole text.
    pub fn finish(self) -> String {
        self.text
    }
}
