//! Findings with their place, the underlined text and the way out.

use std::fmt;

use emberwort_model::Source;
use emberwort_model::diagnostics::{Finding, Severity, escaped, is_unsafe_to_show};
use miette::{Diagnostic, GraphicalReportHandler, GraphicalTheme, LabeledSpan, NamedSource, SourceCode};
use owo_colors::Style;

/// A finding as the renderer wants it.
struct Shown<'a> {
    finding: &'a Finding,
    code: &'a NamedSource<String>,
    message: String,
    help: String,
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
        let span = self.finding.span;
        let main = LabeledSpan::new_primary_with_span(label(&self.finding.label), (span.start, span.end - span.start));
        let related = self
            .finding
            .related
            .as_ref()
            .map(|(span, what)| LabeledSpan::new_with_span(label(what), (span.start, span.end - span.start)));
        Some(Box::new([main].into_iter().chain(related)))
    }
}

/// The same text with harmless characters of the same size in place of those that could change how a terminal shows it,
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

/// The findings of a source, one under the other.
pub fn render(source: &Source, findings: &[Finding], colour: bool) -> String {
    let mut theme = GraphicalTheme::unicode_nocolor();
    if colour {
        // Few colours, that can be read on dark and on light grounds.
        theme.styles.error = Style::new().red().bold();
        theme.styles.warning = Style::new().yellow().bold();
        theme.styles.help = Style::new().bold();
        theme.styles.link = Style::new().bold();
        theme.styles.highlights = vec![Style::new().red().bold(), Style::new().blue().bold()];
    }
    let handler = GraphicalReportHandler::new_themed(theme).with_links(false).with_width(WIDTH).with_context_lines(1);
    let code = NamedSource::new(escaped(&source.name), harmless(&source.text));
    let mut out = String::new();
    for finding in findings {
        let shown = Shown { finding, code: &code, message: escaped(&finding.message), help: escaped(&finding.help) };
        if handler.render_report(&mut out, &shown).is_err() {
            let (line, column) = source.line_column(finding.span.start);
            out.push_str(&format!("{}: {} ({line}:{column})\n", finding.code.as_str(), shown.message));
        }
        out.push('\n');
    }
    out
}
