//! `send`: a message through a port, and what is answered; entries of tables by name.

mod exchange;
mod settings;

use std::fs::File;
use std::io::BufReader;
use std::path::Path;

use anyhow::{Context, bail};
use emberwort_model::diagnostics::escaped;
use emberwort_text::{GivenValue, RowHeader};
use exchange::{Exchange, Outcome, Ready};
use serde_json::{Map, Value as Json};

use super::line::{Incoming, Line};
use crate::cli::SendArgs;
use crate::commands::encode::given_words;
use crate::ending::Ending;
use crate::lines::Lines;
use crate::output::{Look, say};
use crate::project::load_plan;
use crate::reading::names::message_index;
use crate::render::plural;

pub fn run(args: &SendArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let plan = load_plan(link, look)?;
    let message = args.message.as_deref().map(|name| message_index(&plan, name)).transpose()?;
    crate::interrupt::catch();
    let mut incoming = Incoming::new(None);
    let line = Line::open(&args.port.port, &args.port.line, &plan, &mut incoming)?;
    if !line.wait_for_peer(&incoming) {
        bail!("nothing was sent: nobody came to {}", escaped(line.port.name()));
    }
    let mut exchange = Exchange::new(args, plan, (line, incoming), look);
    let failed = if args.read_all.is_some() || !args.read.is_empty() || !args.write.is_empty() {
        settings::run(&mut exchange)?
    } else if let Some(path) = &args.rows {
        send_rows(&mut exchange, path)?
    } else if let Some(message) = message {
        let (given, problems) = given_words(&args.values);
        let ready = exchange.ready(message, given, problems, &RowHeader::default())?;
        send_again_and_again(&mut exchange, &ready)?
    } else {
        bail!("say what to send: MESSAGE FIELD=VALUE, --rows FILE, --read NAME, --write NAME=VALUE or --read-all");
    };
    exchange.finish()?;
    Ok(if failed > 0 { Ending::WithFindings } else { Ending::Clean })
}

/// Sends a message as often as was asked for. Returns how many times something went wrong.
fn send_again_and_again(exchange: &mut Exchange<'_>, ready: &Ready) -> anyhow::Result<u64> {
    let args = exchange.args;
    let times = args.count.unwrap_or(if args.every.is_some() { u64::MAX } else { 1 });
    let (mut sent, mut failed) = (0, 0u64);
    let mut next = exchange.now();
    while sent < times && !crate::interrupt::came() {
        failed += u64::from(matches!(exchange.ask(ready)?, Outcome::Failed));
        sent += 1;
        let Some(every) = args.every.filter(|_| sent < times) else { continue };
        next = next.after(every).max(exchange.now());
        if !exchange.pass_time(ready.message, next) {
            break;
        }
    }
    if sent > 1 {
        say!("sent {}, {failed} without a good answer in time", plural(sent, "message"));
    }
    Ok(failed)
}

/// Sends the rows of a file, one after the other, each as soon as the one before is answered. Returns how many times something went
/// wrong.
fn send_rows(exchange: &mut Exchange<'_>, path: &Path) -> anyhow::Result<u64> {
    let shown = crate::files::shown(path);
    let file = File::open(path).with_context(|| format!("{shown} cannot be read"))?;
    let (mut sent, mut failed) = (0u64, 0u64);
    for (n, line) in Lines::of(BufReader::new(file)).enumerate() {
        let line = line.with_context(|| format!("{shown}, line {}", n + 1))?;
        if line.trim().is_empty() {
            continue;
        }
        if crate::interrupt::came() {
            break;
        }
        let place = || format!("{shown}, line {}", n + 1);
        let row: Map<String, Json> = serde_json::from_str(&line).with_context(place)?;
        let name = row.get("message").and_then(Json::as_str).context("a row needs a `message`").with_context(place)?;
        let message = message_index(&exchange.plan, name).with_context(place)?;
        let empty = Map::new();
        let fields = row.get("fields").and_then(Json::as_object).unwrap_or(&empty);
        let given = fields.iter().map(|(name, value)| (name.as_str(), GivenValue::Json(value))).collect();
        let header = RowHeader::of(&row).map_err(|problem| anyhow::anyhow!(problem)).with_context(place)?;
        let ready = exchange.ready(message, given, Vec::new(), &header).with_context(place)?;
        let has_failed = matches!(exchange.ask(&ready)?, Outcome::Failed);
        failed += u64::from(has_failed);
        sent += 1;
        if has_failed && !exchange.args.keep_going {
            say!("stopped at {}; --keep-going sends what follows, too", place());
            break;
        }
        if let Some(every) = exchange.args.every {
            let next = exchange.now().after(every);
            if !exchange.pass_time(message, next) {
                break;
            }
        }
    }
    say!("sent {}, {failed} without a good answer in time", plural(sent, "message"));
    Ok(failed)
}
