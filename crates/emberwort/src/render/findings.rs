//! Findings with their place, the underlined text and the way out.

use std::fmt;

use emberwort_model::diagnostics::{Finding, Severity, escaped, is_unsafe_to_show};
use emberwort_model::{Source, Sources, Span};
use miette::{
    Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteError, MietteSpanContents, SourceCode,
    SourceSpan, SpanContents,
};
use owo_colors::Style;
use serde_json::json;

use crate::output;

/// The text of a file under its name, and where its lines begin: excerpts are found without reading all before them.
struct FileText<'a> {
    name: String,
    text: String,
    lines: &'a [usize],
}

impl SourceCode for FileText<'_> {
    fn read_span<'a>(
        &'a self,
        span: &SourceSpan,
        before: usize,
        after: usize,
    ) -> Result<Box<dyn SpanContents<'a> + 'a>, MietteError> {
        if span.offset() + span.len() > self.text.len() {
            return Err(MietteError::OutOfBounds);
        }
        let line_of = |at: usize| self.lines.partition_point(|start| *start <= at) - 1;
        let first = line_of(span.offset()).saturating_sub(before);
        let last = line_of(span.offset() + span.len().saturating_sub(1)) + after;
        let start = self.lines[first];
        let end = self.lines.get(last + 1).copied().unwrap_or(self.text.len());
        let data = &self.text.as_bytes()[start..end];
        // Places far from each other are shown apart only if an excerpt says how many lines it has itself.
        let lines = data.iter().filter(|byte| **byte == b'\n').count();
        let part = SourceSpan::from((start, end - start));
        // An excerpt without lines around it is asked for its place.
        let column = if before == 0 { self.text[start..span.offset()].chars().count() } else { 0 };
        Ok(Box::new(MietteSpanContents::new_named(self.name.clone(), data, part, first, column, lines)))
    }
}

impl<'a> FileText<'a> {
    fn of(source: &'a Source) -> Self {
        // A harmless character has the size of the one that it stands for, so places stay where they are.
        Self { name: escaped(&source.name), text: harmless(&source.text), lines: source.line_starts() }
    }
}

/// A finding as the renderer wants it.
struct Shown<'a> {
    finding: &'a Finding,
    code: &'a FileText<'a>,
    message: String,
    help: String,
    /// The place in its file.
    span: Span,
    /// A second place, if it is in the same file.
    related: Option<(Span, String)>,
}

impl fmt::Debug for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.message)
    }
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.finding.code.as_str(), self.message)
    }
}

impl std::error::Error for Shown<'_> {}

impl Diagnostic for Shown<'_> {
    fn severity(&self) -> Option<miette::Severity> {
        Some(match self.finding.code.severity() {
            Severity::Error => miette::Severity::Error,
            Severity::Warning => miette::Severity::Warning,
            Severity::Hint => miette::Severity::Advice,
        })
    }

    fn help<'a>(&'a self) -> Option<Box<dyn fmt::Display + 'a>> {
        Some(Box::new(&self.help))
    }

    fn source_code(&self) -> Option<&dyn SourceCode> {
        Some(self.code)
    }

    fn labels(&self) -> Option<Box<dyn Iterator<Item = LabeledSpan> + '_>> {
        let label = |text: &str| Some(escaped(text)).filter(|text| !text.is_empty());
        let span = self.span;
        let main = LabeledSpan::new_primary_with_span(label(&self.finding.label), (span.start, span.end - span.start));
        let related = self
            .related
            .as_ref()
            .map(|(span, what)| LabeledSpan::new_with_span(label(what), (span.start, span.end - span.start)));
        Some(Box::new([main].into_iter().chain(related)))
    }
}

/// A text with harmless characters of the same size in place of those that could change how a terminal shows it,
/// so that places stay right.
fn harmless(text: &str) -> String {
    text.chars()
        .map(|c| match (c, c.len_utf8()) {
            ('\n' | '\t', _) => c,
            ('\r', _) => ' ',
            (c, 1) if is_unsafe_to_show(c) => '?',
            (c, 2) if is_unsafe_to_show(c) => '¿',
            (c, _) if is_unsafe_to_show(c) => '\u{fffd}',
            (c, _) => c,
        })
        .collect()
}

/// Sentences are broken at this column.
const WIDTH: usize = 110;

/// Findings, one under the other.
pub fn render(sources: &Sources, findings: &[Finding], colour: bool) -> String {
    let mut theme = GraphicalTheme::unicode_nocolor();
    if colour {
        // Few colours, that can be read on dark and on light grounds.
        theme.styles.error = Style::new().red().bold();
        theme.styles.warning = Style::new().yellow().bold();
        theme.styles.advice = Style::new().blue().bold();
        theme.styles.help = Style::new().bold();
        theme.styles.link = Style::new().bold();
        theme.styles.highlights = vec![Style::new().red().bold(), Style::new().blue().bold()];
    }
    let width = output::terminal_width().unwrap_or(WIDTH).min(WIDTH);
    let handler = GraphicalReportHandler::new_themed(theme).with_links(false).with_width(width).with_context_lines(1);
    let codes: Vec<FileText<'_>> = sources.files().iter().map(FileText::of).collect();
    let mut out = String::new();
    for finding in findings {
        let (file, span) = sources.locate(finding.span);
        let mut help = escaped(&finding.help);
        let related = finding.related.as_ref().and_then(|(place, what)| {
            let (other, local) = sources.locate(*place);
            if other == file {
                return Some((local, what.clone()));
            }
            help.push_str(&format!("\n{}: {}", escaped(&sources.place(*place)), escaped(what)));
            None
        });
        let shown = Shown { finding, code: &codes[file], message: escaped(&finding.message), help, span, related };
        if handler.render_report(&mut out, &shown).is_err() {
            let place = escaped(&sources.place(finding.span));
            out.push_str(&format!("{}: {} ({place})\n", finding.code.as_str(), shown.message));
        }
        out.push('\n');
    }
    out
}

/// Findings as NDJSON, a line each.
pub fn as_ndjson(sources: &Sources, findings: &[Finding]) -> String {
    let place = |span: Span| {
        let (file, local) = sources.locate(span);
        let source = &sources.files()[file];
        let (line, column) = source.line_column(local.start);
        let (end_line, end_column) = source.line_column(local.end);
        json!({
            "file": source.name, "line": line, "column": column, "end_line": end_line, "end_column": end_column,
            "bytes": [local.start, local.end],
        })
    };
    let mut out = String::new();
    for finding in findings {
        let severity = match finding.code.severity() {
            Severity::Error => "error",
            Severity::Warning => "warning",
            Severity::Hint => "hint",
        };
        let mut row = json!({
            "code": finding.code.as_str(), "severity": severity, "place": place(finding.span),
            "message": finding.message, "label": finding.label, "help": finding.help,
        });
        if let Some((span, what)) = &finding.related {
            row["related"] = json!({"place": place(*span), "what": what});
        }
        out.push_str(&row.to_string());
        out.push('\n');
    }
    out
}
