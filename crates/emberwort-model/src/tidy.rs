//! The one canonical style of a definition: every statement on a line of its own, four spaces a level, columns aligned,
//! comments and blank lines between groups kept.
//!
//! Only the space between tokens changes, so the meaning stays.

use crate::diagnostics::Finding;
use crate::syntax::{Token, TokenKind, parse, tokens};

/// Longest line up to which a block with a single statement that was written on one line stays on it.
const SHORT_LINE: usize = 100;

/// The text in canonical style, with a line feed at its end.
///
/// # Errors
/// The findings, if the text's form has errors: then it is not clear what belongs together.
pub fn tidy(text: &str) -> Result<String, Vec<Finding>> {
    let parsed = parse(text, 0);
    if parsed.findings.iter().any(Finding::is_error) {
        return Err(parsed.findings);
    }
    let all = tokens(text, 0, &mut Vec::new());
    let mut layout = Layout {
        text,
        starts: &parsed.statements,
        lines: Vec::new(),
        depth: 0,
        blank: false,
        at_start: true,
        openers: Vec::new(),
    };
    layout.take(&all);
    Ok(layout.finish())
}

/// One line of the result.
#[derive(Debug)]
struct Line {
    depth: usize,
    /// Whether blank lines stood in front of it.
    blank: bool,
    /// Cells; columns of neighbouring lines of one shape are aligned.
    cells: Vec<String>,
    shape: Shape,
    /// A comment behind it.
    comment: String,
}

/// Lines of the same shape that follow each other have common columns.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Shape {
    /// `name : type`
    Named,
    /// `code name "text"`, `key name : type`
    Coded,
    /// `keyword rest`
    Keyed,
    /// A statement of a word or two, which has nothing to align and may stand among others that do.
    Short,
    /// A comment, a block's beginning or end, an item.
    Alone,
}

struct Layout<'a> {
    text: &'a str,
    starts: &'a [usize],
    lines: Vec<Line>,
    depth: usize,
    blank: bool,
    /// Whether nothing stands on the line at hand yet.
    at_start: bool,
    /// The first words of the blocks that are open.
    openers: Vec<&'a str>,
}

impl<'a> Layout<'a> {
    fn word(&self, token: Token) -> &'a str {
        &self.text[token.span.start..token.span.end]
    }

    fn push(&mut self, cells: Vec<String>, shape: Shape) {
        let blank = std::mem::take(&mut self.blank) && !self.opens_block();
        self.lines.push(Line { depth: self.depth, blank, cells, shape, comment: String::new() });
    }

    /// Whether the last line opens a block (behind which a blank line says nothing), or is none.
    fn opens_block(&self) -> bool {
        self.lines.last().is_none_or(|line| line.cells.last().is_some_and(|cell| cell.ends_with('{')))
    }

    fn take(&mut self, all: &[Token]) {
        let mut at = 0;
        let mut newlines = 0;
        while at < all.len() {
            let token = all[at];
            match token.kind {
                TokenKind::End => return,
                TokenKind::Newline => {
                    newlines += 1;
                    self.blank |= newlines > 1;
                    self.at_start = true;
                    at += 1;
                }
                TokenKind::Comment | TokenKind::Doc => {
                    let comment = tidy_comment(self.word(token));
                    // Documentation belongs to what follows, and keeps a line of its own.
                    let behind = !self.at_start && token.kind == TokenKind::Comment;
                    match self.lines.last_mut() {
                        Some(line) if behind && line.comment.is_empty() => line.comment = comment,
                        _ => self.push(vec![comment], Shape::Short),
                    }
                    newlines = 0;
                    at += 1;
                }
                TokenKind::Punct('}') => {
                    self.depth = self.depth.saturating_sub(1);
                    self.openers.pop();
                    self.blank = false;
                    // What the field with forms says behind them: `} optional`.
                    let goes_on = all.get(at + 1).is_some_and(|next| {
                        !matches!(
                            next.kind,
                            TokenKind::Newline
                                | TokenKind::End
                                | TokenKind::Comment
                                | TokenKind::Doc
                                | TokenKind::Punct('}')
                        ) && self.starts.binary_search(&next.span.start).is_err()
                    });
                    let end = if goes_on { self.statement_end(all, at + 1) } else { at + 1 };
                    let more = self.joined(&all[at + 1..end]);
                    self.push(vec![if goes_on { format!("}} {more}") } else { "}".into() }], Shape::Alone);
                    self.at_start = false;
                    newlines = 0;
                    at = end;
                }
                _ => {
                    let end = self.statement_end(all, at);
                    self.statement(&all[at..end]);
                    self.at_start = false;
                    newlines = 0;
                    at = end;
                }
            }
        }
    }

    /// One past the last token of the statement that begins at `at`: up to the next statement, comment, brace or line.
    fn statement_end(&self, all: &[Token], at: usize) -> usize {
        let mut end = at + 1;
        while end < all.len() {
            let token = all[end];
            match token.kind {
                TokenKind::Punct('{') => return end + 1,
                TokenKind::Newline | TokenKind::End | TokenKind::Comment | TokenKind::Doc | TokenKind::Punct('}') => {
                    break;
                }
                _ if self.starts.binary_search(&token.span.start).is_ok() => break,
                _ => end += 1,
            }
        }
        end
    }

    fn statement(&mut self, tokens: &[Token]) {
        let opens = tokens.last().is_some_and(|token| token.kind == TokenKind::Punct('{'));
        let first = self.word(tokens[0]);
        let is_name = tokens.get(1).is_some_and(|token| token.kind == TokenKind::Punct(':'));
        // A new statement that opens a block deeper in.
        if opens {
            let cell = self.joined(tokens);
            self.push(vec![cell], Shape::Alone);
            self.depth += 1;
            self.openers.push(first);
            return;
        }
        // What goes on behind a block, or a whole item on one line.
        if self.depth == 0 {
            let cell = self.joined(tokens);
            self.push(vec![cell], Shape::Alone);
            return;
        }
        let colon = tokens.iter().position(|token| token.kind == TokenKind::Punct(':'));
        let coded = matches!(tokens[0].kind, TokenKind::Number | TokenKind::Punct('-'));
        let in_frame = self.openers.last() == Some(&"frame");
        if is_name && in_frame && tokens.len() > 3 {
            // A part of a frame: its role has a column of its own.
            let behind = if ["be", "le"].contains(&self.word(tokens[3])) { 4 } else { 3 };
            let (ty, role) = (self.joined(&tokens[2..behind]), self.joined(&tokens[behind..]));
            self.push(vec![first.to_owned(), format!(": {ty}"), role], Shape::Named);
        } else if is_name {
            let value = format!(": {}", self.joined(&tokens[2..]));
            self.push(vec![first.to_owned(), value], Shape::Named);
        } else if first == "sync" && in_frame {
            let bytes = self.joined(&tokens[1..]);
            self.push(vec![first.to_owned(), bytes], Shape::Named);
        } else if coded || colon == Some(2) {
            let code_end = if tokens[0].kind == TokenKind::Punct('-') { 2 } else { 1 };
            let mut cells = vec![self.joined(&tokens[..code_end])];
            if let Some(name) = tokens.get(code_end) {
                cells.push(self.word(*name).to_owned());
            }
            let rest = &tokens[(code_end + 1).min(tokens.len())..];
            match rest.first() {
                Some(token) if token.kind == TokenKind::Punct(':') => {
                    cells.push(format!(": {}", self.joined(&rest[1..])));
                }
                Some(_) => cells.push(self.joined(rest)),
                None => {}
            }
            self.push(cells, Shape::Coded);
        } else if first == "spare" || tokens.len() == 1 {
            let cell = self.joined(tokens);
            self.push(vec![cell], Shape::Short);
        } else {
            let rest = self.joined(&tokens[1..]);
            self.push(vec![first.to_owned(), rest], Shape::Keyed);
        }
    }

    /// Tokens with one space between them where there was some, and none where there was none, but for signs that always
    /// have the same.
    fn joined(&self, tokens: &[Token]) -> String {
        let mut out = String::new();
        for (n, token) in tokens.iter().enumerate() {
            if n > 0 {
                let before = tokens[n - 1];
                let apart = before.span.end < token.span.start;
                if self.spaced(tokens, n, apart) {
                    out.push(' ');
                }
            }
            out.push_str(self.word(*token));
        }
        out
    }

    /// Whether a space stands in front of the `n`th token.
    fn spaced(&self, tokens: &[Token], n: usize, apart: bool) -> bool {
        let (before, token) = (tokens[n - 1].kind, tokens[n].kind);
        let ranges_of_numbers = |at: usize| {
            // `0 .. 100` has spaces, `node..body` and `[..8]` have none.
            let number = |at: Option<usize>| {
                at.and_then(|at| tokens.get(at))
                    .is_some_and(|t| matches!(t.kind, TokenKind::Number | TokenKind::Punct('-')))
            };
            number(at.checked_sub(1)) && number(Some(at + 1))
        };
        match (before, token) {
            (_, TokenKind::Punct('{')) => true,
            (_, TokenKind::Punct(',' | ']')) => false,
            (TokenKind::Punct(','), _) => true,
            (_, TokenKind::DotDot) => ranges_of_numbers(n),
            (TokenKind::DotDot, _) => ranges_of_numbers(n - 1),
            (TokenKind::Punct('['), _) => false,
            (TokenKind::Punct(']'), _) => true,
            // A minus belongs to its number, but where it stands between two.
            (TokenKind::Punct('-'), TokenKind::Number) => n > 1 && tokens[n - 2].kind == TokenKind::Number,
            (TokenKind::Number, TokenKind::Punct('-')) => apart,
            (TokenKind::Punct('*' | '+'), TokenKind::Number | TokenKind::Punct('-')) => true,
            (_, TokenKind::Punct('*')) if is_scale(tokens, n) => true,
            (_, TokenKind::Punct('=')) | (TokenKind::Punct('='), _) => true,
            (_, TokenKind::Punct(':')) | (TokenKind::Punct(':'), _) => true,
            _ => apart,
        }
    }

    fn finish(mut self) -> String {
        self.join_short_blocks();
        let lines = self.lines;
        let mut out = String::new();
        let mut start = 0;
        while start < lines.len() {
            let mut shape = lines[start].shape;
            let mut end = start + 1;
            while let Some(line) = lines.get(end)
                && shape != Shape::Alone
                && line.shape != Shape::Alone
                && (line.shape == shape || line.shape == Shape::Short || shape == Shape::Short)
                && line.depth == lines[start].depth
                && !line.blank
            {
                if shape == Shape::Short {
                    shape = line.shape;
                }
                end += 1;
            }
            write_group(&lines[start..end], &mut out);
            start = end;
        }
        out
    }

    /// Blocks that hold a short statement or two, and were written on one line, go back onto one: `link`, and what else was
    /// small enough for its author.
    fn join_short_blocks(&mut self) {
        let mut at = 0;
        while at + 2 < self.lines.len() {
            let (open, inner, close) = (&self.lines[at], &self.lines[at + 1], &self.lines[at + 2]);
            let shape = open.cells.last().is_some_and(|cell| cell.ends_with('{'))
                && close.cells == ["}"]
                && inner.depth == open.depth + 1
                && close.depth == open.depth
                && open.depth > 0
                && inner.cells.len() == 1
                && inner.shape == Shape::Short
                && !inner.cells[0].starts_with('#')
                && open.comment.is_empty()
                && inner.comment.is_empty();
            let joined = shape.then(|| format!("{} {} }}", open.cells[0], inner.cells[0]));
            match joined.filter(|joined| joined.len() + open.depth * 4 <= SHORT_LINE) {
                Some(joined) => {
                    self.lines[at].cells = vec![joined];
                    self.lines[at].comment = std::mem::take(&mut self.lines[at + 2].comment);
                    self.lines.drain(at + 1..at + 3);
                }
                None => at += 1,
            }
        }
    }
}

/// Whether the star at `at` stands before a scale, and not in a unit.
fn is_scale(tokens: &[Token], at: usize) -> bool {
    tokens.get(at + 1).is_some_and(|next| matches!(next.kind, TokenKind::Number | TokenKind::Punct('-')))
}

/// A comment with one space behind its signs, and none at its end.
fn tidy_comment(text: &str) -> String {
    let signs = text.chars().take_while(|c| *c == '#').count();
    let rest = text[signs..].trim_end();
    match rest.chars().next() {
        None => text[..signs].to_owned(),
        Some(' ' | '\t') => format!(
            "{} {}",
            &text[..signs],
            rest.trim_start_matches('\t').strip_prefix(' ').unwrap_or(rest.trim_start())
        ),
        Some(_) => format!("{} {rest}", &text[..signs]),
    }
}

/// Lines of one shape, with their columns aligned.
fn write_group(lines: &[Line], out: &mut String) {
    let count = |text: &str| text.chars().count();
    let columns = lines.iter().map(|line| line.cells.len()).max().unwrap_or(0);
    let mut widths = vec![0; columns];
    for line in lines {
        // The last cell of a line needs no room behind it, but for its comment.
        let to_align = if line.shape == Shape::Short { 0 } else { line.cells.len() - 1 };
        for (n, cell) in line.cells.iter().enumerate().take(to_align) {
            widths[n] = widths[n].max(count(cell));
        }
    }
    let texts: Vec<String> = lines
        .iter()
        .map(|line| {
            let mut text = "    ".repeat(line.depth);
            for (n, cell) in line.cells.iter().enumerate() {
                text.push_str(cell);
                if n + 1 < line.cells.len() {
                    // Codes stand close to their names.
                    let gap = if line.shape == Shape::Coded && n == 0 { 1 } else { 2 };
                    text.push_str(&" ".repeat(widths[n] - count(cell) + gap));
                }
            }
            text.trim_end().to_owned()
        })
        .collect();
    let behind = lines
        .iter()
        .zip(&texts)
        .filter(|(line, _)| !line.comment.is_empty())
        .map(|(_, text)| count(text))
        .max()
        .unwrap_or(0);
    for (line, text) in lines.iter().zip(&texts) {
        if line.blank {
            out.push('\n');
        }
        out.push_str(text);
        if !line.comment.is_empty() {
            out.push_str(&" ".repeat(behind - count(text) + 2));
            out.push_str(&line.comment);
        }
        out.push('\n');
    }
}
