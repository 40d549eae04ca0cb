//! `decode --exchanges`: a line for each request with its answer.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::sync::Arc;

use emberwort_capture::exchanges::{Exchange, ExchangeSink, ExchangedMessage, Outcome};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_rows::time::{self, rfc3339};
use emberwort_rows::{Paint, RowForm, has_unit};
use emberwort_text::json::{self, Writing};
use emberwort_text::show;
use emberwort_wire::ValueRef;
use serde_json::{Value as Json, json};

use crate::output::{self, Look, Stdout, say};
use crate::render::wrapped_under;

/// Prints exchanges, and counts them.
pub struct ExchangePrinter {
    form: RowForm,
    look: Look,
    plan: Arc<Plan>,
    out: io::BufWriter<Stdout>,
    has_title: bool,
    /// By request: how many came out how, and the times of the answers.
    counts: BTreeMap<String, (BTreeMap<Outcome, u64>, Vec<u64>)>,
}

/// So many times of answers to each request are kept for the quantiles.
const MAX_TIMES: usize = 1_000_000;

/// The fields of a message as people read them.
fn fields(exchanged: &ExchangedMessage) -> String {
    let message = &exchanged.plan.messages[exchanged.message].message;
    let mut out = String::new();
    for (slot, field) in message.fields.iter().enumerate().filter(|(_, field)| !field.is_spare()) {
        let value = exchanged.values.get(slot);
        if matches!(value, ValueRef::Absent | ValueRef::Unset) {
            continue;
        }
        let mut text = String::new();
        // Writing to memory cannot fail.
        let _ = show::write_value(field, &exchanged.values, slot, &mut text);
        if has_unit(field, value) {
            let _ = write!(text, " {}", field.unit);
        }
        let _ = write!(out, " {}={}", field.name, escaped(&text));
    }
    out
}

fn name(exchanged: &ExchangedMessage) -> &str {
    &exchanged.plan.messages[exchanged.message].message.name
}

fn as_json(exchanged: &ExchangedMessage) -> Json {
    let compiled = &exchanged.plan.messages[exchanged.message];
    let mut text = String::new();
    // Writing to memory cannot fail.
    let _ = json::write_fields(compiled, &exchanged.values, Writing::default(), &mut text);
    let fields: Json = serde_json::from_str(&text).unwrap_or(Json::Null);
    json!({"time": rfc3339(exchanged.time), "message": name(exchanged), "fields": fields})
}

impl ExchangePrinter {
    pub fn new(plan: &Arc<Plan>, form: RowForm, look: Look) -> Self {
        let (plan, out) = (plan.clone(), output::stdout());
        Self { form, look, plan, out, has_title: false, counts: BTreeMap::new() }
    }

    fn line(&mut self, exchange: &Exchange) -> io::Result<()> {
        if !std::mem::replace(&mut self.has_title, true) {
            writeln!(
                self.out,
                "{:26}  {:8}  {:>4}  {:10}  {:>12}  EXCHANGE",
                "TIME (UTC)", "CHANNEL", "NODE", "OUTCOME", "AFTER"
            )?;
        }
        let said = |exchanged: &Option<ExchangedMessage>| {
            exchanged
                .as_ref()
                .map_or_else(|| "-".to_owned(), |exchanged| format!("{}{}", name(exchanged), fields(exchanged)))
        };
        let outcome = exchange.outcome();
        let word = format!("{:10}", outcome.as_str());
        let word = if outcome == Outcome::Answered { word } else { self.look.paint(Paint::Bad, word) };
        let again = if exchange.asked > 1 { format!(" ({} times)", exchange.asked) } else { String::new() };
        let line = format!(
            "{:26}  {:8}  {:>4}  {word}  {:>12}  {}{again} > {}",
            rfc3339(exchange.time()).trim_end_matches('Z').chars().take(26).collect::<String>(),
            escaped(&self.plan.channels[exchange.channel].name),
            exchange.node.map_or_else(String::new, |node| node.to_string()),
            exchange.after().map_or_else(String::new, time::duration),
            said(&exchange.request),
            said(&exchange.answer)
        );
        // On a narrow terminal the exchange goes on below.
        writeln!(self.out, "{}", wrapped_under(&line, "      "))
    }

    /// Says how many came out how.
    fn summary(&mut self) -> io::Result<()> {
        self.out.flush()?;
        for (request, (counts, mut times)) in std::mem::take(&mut self.counts) {
            let counted: Vec<String> = Outcome::ALL
                .iter()
                .filter_map(|outcome| counts.get(outcome).map(|count| format!("{count} {}", outcome.as_str())))
                .collect();
            times.sort_unstable();
            let quantile =
                |share: f64| times.get(((times.len() as f64 * share) as usize).min(times.len().saturating_sub(1)));
            let quantiles = match (quantile(0.5), quantile(0.99), times.last()) {
                (Some(median), Some(most), Some(slowest)) => format!(
                    "; after {} in the middle, {} for 99 of 100, {} at most",
                    time::duration(*median),
                    time::duration(*most),
                    time::duration(*slowest)
                ),
                _ => String::new(),
            };
            say!("{request}: {}{quantiles}", counted.join(", "));
        }
        Ok(())
    }
}

impl ExchangeSink for ExchangePrinter {
    type Error = io::Error;

    fn exchange(&mut self, exchange: &Exchange) -> io::Result<ControlFlow<()>> {
        let about = exchange.request.as_ref().or(exchange.answer.as_ref()).map_or("", name).to_owned();
        let (counts, times) = self.counts.entry(about).or_default();
        *counts.entry(exchange.outcome()).or_default() += 1;
        if let Some(after) = exchange.after().filter(|_| times.len() < MAX_TIMES) {
            times.push(after);
        }
        match self.form {
            RowForm::Ndjson => {
                let row = json!({
                    "time": rfc3339(exchange.time()), "channel": self.plan.channels[exchange.channel].name, "node": exchange.node,
                    "outcome": exchange.outcome().as_str(), "asked": exchange.asked, "after_ns": exchange.after(),
                    "request": exchange.request.as_ref().map(as_json), "answer": exchange.answer.as_ref().map(as_json),
                });
                writeln!(self.out, "{row}")?;
            }
            _ => self.line(exchange)?,
        }
        Ok(if crate::interrupt::came() { ControlFlow::Break(()) } else { ControlFlow::Continue(()) })
    }

    fn pause(&mut self) -> io::Result<()> {
        self.out.flush()
    }

    fn finish(&mut self) -> io::Result<()> {
        self.summary()
    }
}
