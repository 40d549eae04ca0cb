//! From text to tokens.

/// A token, with its line from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Token {
    pub kind: Kind,
    pub line: usize,
    /// Whether it is the first one of its line.
    pub is_first: bool,
}

#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Kind {
    Word(String),
    Number(String),
    Text(String),
    Punct(char),
}

impl Token {
    pub(crate) fn word(&self) -> Option<&str> {
        match &self.kind {
            Kind::Word(word) => Some(word),
            _ => None,
        }
    }

    pub(crate) fn is(&self, punct: char) -> bool {
        self.kind == Kind::Punct(punct)
    }
}

fn is_word(c: char) -> bool {
    c.is_alphanumeric() || c == '_'
}

/// The tokens of a text; a text in quotes that never ends goes to the end of the file.
pub(crate) fn tokens(text: &str) -> Vec<Token> {
    let mut found: Vec<Token> = Vec::new();
    let mut chars = text.char_indices().peekable();
    let (mut line, mut last_line) = (1, 0);
    while let Some((at, c)) = chars.next() {
        let begun = line;
        let kind = match c {
            '\n' => {
                line += 1;
                continue;
            }
            c if c.is_whitespace() => continue,
            '"' => {
                let mut inside = String::new();
                while let Some((_, c)) = chars.next() {
                    match c {
                        '"' => break,
                        '\\' if chars.peek().is_some_and(|(_, next)| *next == '"') => {
                            inside.push('"');
                            chars.next();
                        }
                        c => {
                            line += usize::from(c == '\n');
                            inside.push(c);
                        }
                    }
                }
                Kind::Text(inside)
            }
            c if c.is_ascii_digit()
                || (matches!(c, '+' | '-' | '.') && chars.peek().is_some_and(|(_, next)| next.is_ascii_digit())) =>
            {
                let mut end = at + c.len_utf8();
                while let Some((place, next)) = chars.peek().copied() {
                    let is_exponent = matches!(next, '+' | '-') && text[at..end].ends_with(['e', 'E']);
                    let goes_on = is_word(next) || next == '.' || is_exponent;
                    if !goes_on {
                        break;
                    }
                    end = place + next.len_utf8();
                    chars.next();
                }
                let number = &text[at..end];
                if number.trim_start_matches(['+', '-']).starts_with(|c: char| c.is_ascii_digit() || c == '.')
                    && number.chars().all(|c| c.is_ascii_digit() || matches!(c, '.' | 'e' | 'E' | '+' | '-'))
                {
                    Kind::Number(number.to_owned())
                } else {
                    Kind::Word(number.to_owned())
                }
            }
            c if is_word(c) => {
                let mut end = at + c.len_utf8();
                while let Some((place, next)) = chars.peek().copied().filter(|(_, next)| is_word(*next)) {
                    end = place + next.len_utf8();
                    chars.next();
                }
                Kind::Word(text[at..end].to_owned())
            }
            c => Kind::Punct(c),
        };
        found.push(Token { kind, line: begun, is_first: begun != last_line });
        last_line = line;
    }
    found
}
