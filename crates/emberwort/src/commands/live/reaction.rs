//! Programs that are run when a message comes.

use std::io;
use std::ops::ControlFlow;
use std::process::{Command, Stdio};
use std::sync::Arc;

use anyhow::bail;
use emberwort_capture::{Item, ItemSink, RevisionMap, Row};
use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_port::Program;
use emberwort_port::program::end_all;
use emberwort_text::show;

use crate::interrupt;
use crate::output::say;
use crate::reading::names::message_index;
use crate::render::plural;

/// So many programs may run at once; what comes meanwhile starts none.
const MAX_RUNNING: usize = 16;

/// Runs a program when one of some messages comes, and hands all on.
pub struct Reaction<S> {
    /// Names of the messages.
    messages: Vec<String>,
    /// The program and its arguments, with `{field}` in them.
    words: Vec<Vec<Part>>,
    running: Vec<Program>,
    left_out: u64,
    sink: S,
}

/// A part of an argument.
enum Part {
    Text(String),
    /// A field, by its name.
    Field(String),
    Message,
    Node,
}

/// Splits an argument at its `{field}`s; `{{` is a brace.
fn parts(word: &str, names: &[&str]) -> anyhow::Result<Vec<Part>> {
    let mut parts = Vec::new();
    let mut text = String::new();
    let mut rest = word;
    while let Some(at) = rest.find(['{', '}']) {
        text.push_str(&rest[..at]);
        let brace = &rest[at..=at];
        if rest[at + 1..].starts_with(brace) {
            text.push_str(brace);
            rest = &rest[at + 2..];
            continue;
        }
        let Some((name, behind)) = rest[at + 1..].split_once('}').filter(|_| brace == "{") else {
            bail!("`{}` has a brace without its other; write {{{{ or }}}} for one as it stands", escaped(word));
        };
        let part = match name {
            "message" => Part::Message,
            "node" => Part::Node,
            name if names.contains(&name) => Part::Field(name.to_owned()),
            name => {
                let near = nearest(name, names.iter().copied())
                    .map_or(String::new(), |near| format!("; did you mean `{near}`?"));
                bail!("no field of these messages is called `{}`{near}", escaped(name));
            }
        };
        parts.extend([Part::Text(std::mem::take(&mut text)), part]);
        rest = behind;
    }
    text.push_str(rest);
    parts.push(Part::Text(text));
    Ok(parts)
}

impl<S> Reaction<S> {
    /// To messages of a link; without any it only hands on.
    ///
    /// # Errors
    /// If there is no such message, or an argument names a field that none of them has.
    pub fn new(plan: &Arc<Plan>, messages: &[String], words: &[String], sink: S) -> anyhow::Result<Self> {
        let mut names = Vec::new();
        for name in messages {
            let fields = &plan.messages[message_index(plan, name)?].message.fields;
            names.extend(fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str()));
        }
        let words = words.iter().map(|word| parts(word, &names)).collect::<anyhow::Result<_>>()?;
        Ok(Self { messages: messages.to_vec(), words, running: Vec::new(), left_out: 0, sink })
    }

    fn react(&mut self, row: &Row<'_>) {
        self.running.retain_mut(|program| !program.has_ended());
        if self.running.len() >= MAX_RUNNING {
            self.left_out += 1;
            return;
        }
        let words: Vec<String> = self.words.iter().map(|word| filled(word, row)).collect();
        let Some((program, arguments)) = words.split_first() else { return };
        // Never through a shell: an argument stays one, whatever is in it.
        match Program::start(Command::new(program).args(arguments).stdin(Stdio::null())) {
            Ok(program) => self.running.push(program),
            Err(error) => say!("`{}` cannot be run: {error}", escaped(program)),
        }
    }

    /// Waits for the programs that still run, as long as the user does not interrupt.
    fn end(&mut self) {
        for program in &mut self.running {
            let _ = program.wait_while(|| !interrupt::came());
        }
        self.running.retain_mut(|program| !program.has_ended());
        if !self.running.is_empty() {
            say!("{} did not end in time and were ended", plural(self.running.len(), "program"));
        }
        end_all(self.running.drain(..));
        if self.left_out > 0 {
            say!("{} messages started no program, as {MAX_RUNNING} were running", self.left_out);
        }
    }
}

/// An argument for a row. Text from the wire is escaped as it is wherever it is shown.
fn filled(word: &[Part], row: &Row<'_>) -> String {
    let message = &row.plan.messages[row.message].message;
    let mut out = String::new();
    for part in word {
        match part {
            Part::Text(text) => out.push_str(text),
            Part::Message => out.push_str(&message.name),
            Part::Node => out.push_str(&row.frame.node.map_or_else(String::new, |node| node.to_string())),
            Part::Field(name) => {
                let Some((slot, field)) = message.field(name) else { continue };
                let mut text = String::new();
                // Writing to memory cannot fail.
                let _ = show::write_value(field, row.values, slot, &mut text);
                let quoted = text.strip_prefix('"').and_then(|text| text.strip_suffix('"'));
                out.push_str(&escaped(quoted.unwrap_or(&text)));
            }
        }
    }
    out
}

impl<S: ItemSink<Error = io::Error>> ItemSink for Reaction<S> {
    type Error = io::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.sink.update_revisions(revisions);
    }

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        if let Item::Row(row) = item
            && self.messages.contains(&row.plan.messages[row.message].message.name)
        {
            self.react(row);
        }
        self.sink.item(item)
    }

    fn is_full(&self) -> bool {
        self.sink.is_full()
    }

    fn pause(&mut self) -> io::Result<()> {
        self.sink.pause()
    }
}

impl<S> Drop for Reaction<S> {
    fn drop(&mut self) {
        self.end();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn braces_name_fields() {
        let shown = |word: &str| {
            let parts = parts(word, &["oil", "text"]).map_err(|error| error.to_string())?;
            Ok::<_, String>(
                parts
                    .iter()
                    .map(|part| match part {
                        Part::Text(text) => text.clone(),
                        Part::Field(name) => format!("<{name}>"),
                        Part::Message => "<m>".into(),
                        Part::Node => "<n>".into(),
                    })
                    .collect::<String>(),
            )
        };
        assert_eq!(shown("{message} of {node}: {oil} bar"), Ok("<m> of <n>: <oil> bar".into()));
        assert_eq!(shown("{{oil}} {text}"), Ok("{oil} <text>".into()));
        assert!(shown("{oli}").unwrap_err().contains("did you mean `oil`?"));
        assert!(shown("{oil").is_err() && shown("oil}").is_err());
    }
}
