//! What the host does, read from a trial file.

use std::collections::BTreeMap;

use emberwort_model::model::{End, Kind};
use emberwort_text::formula::{ComputedField, Formula};
use serde_json::{Map, Value as Json};

use super::file::{RequestFile, ScriptFile, StepFile};
use super::parts::PlannedMessage;
use super::problem::{ScenarioError, content, time};
use super::read::Reader;
use crate::Nanoseconds;
use crate::file_words::index;
use crate::script::{KEPT, Script, Step, Waiting};

impl Reader<'_> {
    /// A request that the file describes.
    pub fn request(
        &self,
        at: &str,
        file: &RequestFile,
        span: Nanoseconds,
        retries: u32,
    ) -> Result<PlannedMessage, ScenarioError> {
        let message = self.message(at, &file.message, End::Host)?;
        self.node_fits(at, file.node, message)?;
        let values = self.values(at, message, &file.fields)?;
        let compiled = &self.plan.messages[message].message;
        if retries > 0 && !compiled.answered_by.is_empty() && compiled.within.is_none() {
            let problem = format!(
                "`retries` needs to know when `{}` is too late: write `answered by … within 50 ms` in its message",
                compiled.name
            );
            return self.wrong("host.retries", problem);
        }
        let moment = time(at, &file.at)?;
        let until = file.until.as_deref().map_or(Ok(span), |text| time(at, text))?;
        let every = file.every.as_deref().map(|text| time(at, text)).transpose()?;
        if every == Some(0) {
            return content(at, "`every` must be more than 0");
        }
        Ok(PlannedMessage { at: moment, every, until, message, node: file.node, values })
    }

    /// Steps of the host that the file describes.
    pub fn script(&self, at: &str, file: &ScriptFile) -> Result<Script, ScenarioError> {
        let mut names: Vec<String> = Vec::new();
        let mut steps = Vec::new();
        for (n, step) in file.steps.iter().enumerate() {
            steps.push(self.step(&format!("{at}.steps {}", n + 1), step, &mut names)?);
        }
        if steps.is_empty() {
            return content(at, "has no steps");
        }
        let takes_time = |step: &Step| !matches!(step, Step::Send { .. });
        if file.repeat > 1 && !steps.iter().any(takes_time) {
            return content(at, "repeats steps that take no time: add a { wait = \"1 s\" }");
        }
        Ok(Script {
            name: if file.name.is_empty() { at.replace("host.", "") } else { file.name.clone() },
            at: file.at.as_deref().map_or(Ok(0), |text| time(at, text))?,
            repeat: file.repeat,
            steps,
            names,
        })
    }

    fn step(&self, at: &str, file: &StepFile, names: &mut Vec<String>) -> Result<Step, ScenarioError> {
        let within = |default: Option<Nanoseconds>| match (&file.within, default) {
            (Some(text), _) => time(at, text),
            (None, Some(default)) => Ok(default),
            (None, None) => content(at, "`within` is missing: write within = \"5 s\""),
        };
        match (&file.send, &file.expect, &file.never, &file.wait) {
            (Some(name), None, None, None) => self.send_step(at, name, file, names),
            (None, Some(name), None, None) => {
                Ok(Step::Expect(self.waiting(at, name, file, within(Some(1_000_000_000))?, names)?))
            }
            (None, None, Some(name), None) => Ok(Step::Never(self.waiting(at, name, file, within(None)?, names)?)),
            (None, None, None, Some(text)) => Ok(Step::Wait(time(at, text)?)),
            _ => content(at, "each step has exactly one of `send`, `expect`, `never` and `wait`"),
        }
    }

    fn send_step(&self, at: &str, name: &str, file: &StepFile, names: &[String]) -> Result<Step, ScenarioError> {
        let message = self.message(at, name, End::Host)?;
        let node = file.node.unwrap_or(0);
        self.node_fits(at, node, message)?;
        let fields = &self.plan.messages[message].message.fields;
        let (mut given, mut worked) = (Map::new(), Vec::new());
        for (name, value) in &file.fields {
            let Some(text) = value.get("formula").and_then(Json::as_str) else {
                given.insert(name.clone(), value.clone());
                continue;
            };
            let slot = index("field", name, fields.iter().map(|field| field.name.as_str()))
                .or_else(|problem| self.wrong(at, problem))?;
            if !matches!(fields[slot].kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_) | Kind::Bool) {
                return self.wrong(at, format!("{name}: only numbers can be worked out"));
            }
            let known = |name: &str| names.iter().position(|kept| kept == name).map(|kept| (KEPT + kept, None));
            let all: Vec<&str> = names.iter().map(String::as_str).collect();
            let formula = Formula::parse(text, &known, &all).or_else(|problem| self.wrong(at, problem))?;
            worked.push(ComputedField { slot, formula });
        }
        let values = self.values(at, message, &given)?;
        Ok(Step::Send { message, node, values, worked, retries: file.retries })
    }

    fn waiting(
        &self,
        at: &str,
        name: &str,
        file: &StepFile,
        within: Nanoseconds,
        names: &mut Vec<String>,
    ) -> Result<Waiting, ScenarioError> {
        let message = self.message(at, name, End::Device)?;
        let fields = &self.plan.messages[message].message.fields;
        let slot = |name: &str| fields.iter().position(|field| !field.is_spare() && field.name == name);
        let mut keep = BTreeMap::new();
        for (variable, field) in &file.keep {
            let all = fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            index("field", field, all).or_else(|problem| self.wrong(&format!("{at}.keep"), problem))?;
            let number = names.iter().position(|kept| kept == variable).unwrap_or_else(|| {
                names.push(variable.clone());
                names.len() - 1
            });
            if let Some(slot) = slot(field) {
                keep.insert(number, slot);
            }
        }
        let known = |name: &str| {
            let field = slot(name).map(|slot| (slot, Some(&fields[slot])));
            field.or_else(|| names.iter().position(|kept| kept == name).map(|kept| (KEPT + kept, None)))
        };
        let all: Vec<&str> =
            fields.iter().map(|field| field.name.as_str()).chain(names.iter().map(String::as_str)).collect();
        let when = file.when.as_deref().map(|text| Formula::parse(text, &known, &all)).transpose();
        let when = when.or_else(|problem| self.wrong(&format!("{at}.when"), problem))?;
        Ok(Waiting { message, node: file.node, when, keep, within })
    }
}
