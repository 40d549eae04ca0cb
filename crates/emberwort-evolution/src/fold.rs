//! Several files as one: what a revision is sealed as.

use emberwort_model::Sources;
use emberwort_model::diagnostics::Finding;
use emberwort_model::syntax::{TokenKind, parse, tokens};
use emberwort_model::tidy::tidy;

/// One text, in canonical style, that says what all files of a definition say, in the order in which they were read.
///
/// # Errors
/// The findings of the first file whose form is wrong.
pub fn folded(sources: &Sources) -> Result<String, Vec<Finding>> {
    let mut text = String::new();
    for file in sources.files() {
        let parsed = parse(&file.text, 0);
        let mut behind = 0;
        for import in &parsed.file.imports {
            // The word stands before the file's name, with nothing but space between them.
            let word = file.text[..import.span.start].rfind("import").unwrap_or(import.span.start);
            text.push_str(&file.text[behind..word.max(behind)]);
            behind = import.span.end;
        }
        text.push_str(&file.text[behind..]);
        if !text.ends_with('\n') {
            text.push('\n');
        }
        text.push('\n');
    }
    tidy(&text)
}

/// Whether two texts differ in comments, documentation and space alone.
pub fn same_content(one: &str, other: &str) -> bool {
    fn words(text: &str) -> Vec<&str> {
        let all = tokens(text, 0, &mut Vec::new());
        let said = |kind| !matches!(kind, TokenKind::Comment | TokenKind::Doc | TokenKind::Newline | TokenKind::End);
        all.iter().filter(|token| said(token.kind)).map(|token| &text[token.span.start..token.span.end]).collect()
    }
    words(one) == words(other)
}
