//! Devices, read from a trial file.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::{End, Kind};
use emberwort_text::formula::{ComputedField, Formula};
use serde_json::{Map, Value as Json};

use super::file::{AlarmFile, DelayFile, DeviceFile, ReplyFile};
use super::parts::{Alarm, Delay, Device, PlannedMessage, Recording, Refusal, Reply};
use super::problem::{ScenarioError, chance, content, time};
use super::read::Reader;
use crate::file_words::index;
use crate::signal::{Fixed, Signal, Surroundings};
use crate::tables::tables_on;

/// How long something takes.
fn delay(at: &str, file: &DelayFile) -> Result<Delay, ScenarioError> {
    let time = |text: &str| time(at, text);
    Ok(match file {
        DelayFile::Always(text) => Delay::Always(time(text)?),
        DelayFile::Between(least, most) => match (time(least)?, time(most)?) {
            (least, most) if least <= most => Delay::Between(least, most),
            _ => return content(at, "the lesser of the two times comes first"),
        },
        DelayFile::Normal { mean, deviation } => Delay::Normal { mean: time(mean)?, deviation: time(deviation)? },
        DelayFile::Exponential { mean, least } => match (time(mean)?, time(least)?) {
            (mean, least) if least <= mean => Delay::Exponential { mean, least },
            _ => return content(at, "`least` is more than `mean`"),
        },
    })
}

/// Fields that are given, and those that are worked out: `{ formula = "…" }` over the fields of another message.
fn given_and_worked(
    plan: &Plan,
    message: MessageId,
    fields: &Map<String, Json>,
    of: MessageId,
) -> Result<(Map<String, Json>, Vec<ComputedField>), String> {
    let (mut given, mut worked) = (Map::new(), Vec::new());
    for (name, value) in fields {
        let formula = value.as_object().filter(|object| object.len() == 1).and_then(|object| object.get("formula"));
        let Some(formula) = formula else {
            given.insert(name.clone(), value.clone());
            continue;
        };
        let text = formula.as_str().ok_or_else(|| format!("{name}: `formula` must be a text in quotes"))?;
        let message = &plan.messages[message].message;
        index(&format!("field of {}", message.name), name, message.fields.iter().map(|field| field.name.as_str()))?;
        let Some((slot, field)) = message.field(name) else { return Err(format!("there is no field `{name}`")) };
        if !matches!(field.kind, Kind::Number(_) | Kind::Varint(_) | Kind::Float(_) | Kind::Bool) {
            return Err(format!("{name}: only numbers can be worked out"));
        }
        let formula = Formula::of_fields(text, &plan.messages[of].message.fields);
        worked.push(ComputedField { slot, formula: formula.map_err(|problem| format!("{name}: {problem}"))? });
    }
    Ok((given, worked))
}

impl Reader<'_> {
    /// A device that the file describes.
    pub fn device(
        &self,
        at: &str,
        file: &DeviceFile,
        revision: u32,
        read: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<Device, ScenarioError> {
        if self.plan.channels[self.channel].direction(End::Host).broadcast == Some(file.node) {
            return content(format!("{at}.node"), format!("the node {} means all of them", file.node));
        }
        for (index, compiled) in self.plan.message_ids() {
            let channel = self.plan.channels[self.channel].direction(End::Device);
            if compiled.message.from == End::Device && compiled.message.every.is_some() && channel.carries(index) {
                self.node_fits(&format!("{at}.node"), file.node, index)?;
            }
        }
        Ok(Device {
            node: file.node,
            definition: self.index,
            revision,
            first_report: match &file.first_report {
                Some(text) => time(&format!("{at}.first_report"), text)?,
                None => 0,
            },
            answers_after: match &file.answers_after {
                Some(file) => delay(&format!("{at}.answers_after"), file)?,
                None => Delay::Always(2_000_000),
            },
            signals: self.signals(at, file, read)?,
            sends: self.sends(at, file)?,
            replies: self.replies(at, file)?,
            restarts: restarts(at, file)?,
            alarms: self.alarms(at, &file.alarm)?,
            settings: self.settings(at, file)?,
            refusal: self.refusal(at, file)?,
            recording: recording(at, file)?,
            program: match &file.program {
                Some(program) if program.command.is_empty() => {
                    return content(format!("{at}.program.command"), "names no program: write command = [\"./gate\"]");
                }
                program => program.as_ref().map(|program| program.command.clone()),
            },
        })
    }

    fn signals(
        &self,
        at: &str,
        file: &DeviceFile,
        read: &dyn Fn(&str) -> Result<String, String>,
    ) -> Result<BTreeMap<(MessageId, usize), Signal>, ScenarioError> {
        let mut signals = BTreeMap::new();
        for (name, fields) in &file.signals {
            let at = format!("{at}.signals.{name}");
            if self.plan.message_index(name).is_none() && self.came_later(name, None) {
                continue;
            }
            let message = self.message(&at, name, End::Device)?;
            let compiled = &self.plan.messages[message].message;
            for (field_name, value) in fields {
                let at = format!("{at}.{field_name}");
                if compiled.field(field_name).is_none() && self.came_later(name, Some(field_name)) {
                    continue;
                }
                let names = compiled.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
                if let Err(problem) = index("field", field_name, names) {
                    return self.wrong(&at, problem);
                }
                if let Some((slot, field)) = compiled.field(field_name) {
                    let around = Surroundings { plan: self.plan, fields: &compiled.fields, read };
                    let signal = Signal::parse(value, field, &around).or_else(|problem| self.wrong(&at, problem))?;
                    signals.insert((message, slot), signal);
                }
            }
        }
        Ok(signals)
    }

    fn sends(&self, at: &str, file: &DeviceFile) -> Result<Vec<PlannedMessage>, ScenarioError> {
        let mut sends = Vec::new();
        for (n, send) in file.sends.iter().enumerate() {
            let at = format!("{at}.sends {}", n + 1);
            let message = self.message(&at, &send.message, End::Device)?;
            self.node_fits(&format!("{at}.node"), file.node, message)?;
            let values = self.values(&at, message, &send.fields)?;
            let at = time(&at, &send.at)?;
            sends.push(PlannedMessage { at, every: None, until: at, message, node: file.node, values });
        }
        Ok(sends)
    }

    fn replies(&self, at: &str, file: &DeviceFile) -> Result<Vec<Reply>, ScenarioError> {
        let mut replies = Vec::new();
        for (n, reply) in file.reply.iter().enumerate() {
            replies.push(self.reply(&format!("{at}.reply {}", n + 1), reply)?);
        }
        // The latest that has begun counts.
        replies.sort_by_key(|reply| std::cmp::Reverse(reply.from));
        Ok(replies)
    }

    fn reply(&self, at: &str, reply: &ReplyFile) -> Result<Reply, ScenarioError> {
        let to = self.message(at, &reply.to, End::Host)?;
        let asked = &self.plan.messages[to].message;
        let with = match reply.with.as_str() {
            "none" => None,
            name => Some(self.message(at, name, End::Device)?),
        };
        if let Some(with) = with.filter(|with| !asked.answered_by.contains(with)) {
            let (to, with) = (&reply.to, &self.plan.messages[with].message.name);
            return self.wrong(at, format!("the definition does not say that `{to}` is answered by `{with}`"));
        }
        let (mut fields, mut worked, mut echo) = (Map::new(), Vec::new(), Vec::new());
        if let Some(with) = with {
            (fields, worked) = given_and_worked(self.plan, with, &reply.fields, to)
                .or_else(|problem| self.wrong(&format!("{at}.fields"), problem))?;
            self.values(at, with, &fields)?;
            for name in &reply.echo {
                echo.push(self.echo(&format!("{at}.echo"), name, to, with)?);
            }
            if let Some(node) = reply.from_node {
                self.node_fits(&format!("{at}.from_node"), node, with)?;
            }
        }
        let when = reply.when.as_deref().map(|text| Formula::of_fields(text, &asked.fields)).transpose();
        Ok(Reply {
            to,
            from: reply.from.as_deref().map_or(Ok(0), |text| time(at, text))?,
            with: with.map(MessageId::index).map(MessageId::new),
            when: when.or_else(|problem| self.wrong(&format!("{at}.when"), problem))?,
            chance: chance(&format!("{at}.chance"), reply.chance.unwrap_or(1.0))?,
            after: reply.after.as_ref().map(|file| delay(&format!("{at}.after"), file)).transpose()?,
            times: reply.times,
            node: reply.from_node,
            worked,
            fields,
            echo,
        })
    }

    fn alarms(&self, at: &str, file: &[AlarmFile]) -> Result<Vec<Alarm>, ScenarioError> {
        let mut alarms = Vec::new();
        for (n, alarm) in file.iter().enumerate() {
            let at = format!("{at}.alarm {}", n + 1);
            let message = self.message(&at, &alarm.message, End::Device)?;
            let of = self.message(&at, &alarm.of, End::Device)?;
            let decides = &self.plan.messages[of].message;
            if decides.every.is_none() {
                return self.wrong(&at, format!("`{}` is not sent regularly, so nothing can depend on it", alarm.of));
            }
            let when = Formula::of_fields(&alarm.when, &decides.fields)
                .or_else(|problem| self.wrong(&format!("{at}.when"), problem))?;
            let (fields, worked) = given_and_worked(self.plan, message, &alarm.fields, of)
                .or_else(|problem| self.wrong(&format!("{at}.fields"), problem))?;
            self.values(&at, message, &fields)?;
            alarms.push(Alarm { message, of, when, fields, worked });
        }
        Ok(alarms)
    }

    /// What is given for the entries of tables.
    fn settings(&self, at: &str, file: &DeviceFile) -> Result<BTreeMap<(usize, usize), Fixed>, ScenarioError> {
        let tables = tables_on(self.plan, self.channel);
        let mut settings = BTreeMap::new();
        for (name, entries) in &file.tables {
            let at = format!("{at}.tables.{name}");
            let table = index("table", name, tables.iter().map(|access| access.table.name.as_str()))
                .or_else(|problem| self.wrong(&at, problem))?;
            let access = &tables[table];
            let place = access.read.map(|read| (read.answer, read.value));
            let place = place.or(access.write.map(|write| (write.request, write.value)));
            let Some((message, slot)) = place else {
                let channel = &self.plan.channels[self.channel].name;
                return self.wrong(&at, format!("no message on `{channel}` reads or writes `{name}`"));
            };
            let field = &self.plan.messages[message].message.fields[slot];
            for (entry_name, value) in entries {
                let at = format!("{at}.{entry_name}");
                let names = access.table.entries.iter().map(|entry| entry.field.name.as_str());
                let entry = index("entry", entry_name, names).or_else(|problem| self.wrong(&at, problem))?;
                let value = Json::Object(Map::from_iter([(entry_name.clone(), value.clone())]));
                let value = Fixed::of(&value, field).or_else(|problem| self.wrong(&at, problem))?;
                settings.insert((table, entry), value);
            }
        }
        Ok(settings)
    }

    fn refusal(&self, at: &str, file: &DeviceFile) -> Result<Option<Refusal>, ScenarioError> {
        let Some(refusal) = &file.refusal else { return Ok(None) };
        let at = format!("{at}.refusal");
        let with = self.message(&at, &refusal.with, End::Device)?;
        self.values(&at, with, &refusal.fields)?;
        Ok(Some((with, refusal.fields.clone())))
    }

    /// The slots of a field that an answer takes from its request: `NAME`, or `NAME of NAME-IN-THE-REQUEST`.
    fn echo(&self, at: &str, text: &str, to: MessageId, with: MessageId) -> Result<(usize, usize), ScenarioError> {
        let (answer, request) = text.split_once(" of ").unwrap_or((text, text));
        let field = |message: MessageId, name: &str| {
            let message = &self.plan.messages[message].message;
            let names = message.fields.iter().filter(|field| !field.is_spare()).map(|field| field.name.as_str());
            index(&format!("field of {}", message.name), name.trim(), names)
                .or_else(|problem| self.wrong(at, problem))?;
            match message.field(name.trim()) {
                Some(found) => Ok(found),
                None => self.wrong(at, format!("there is no field `{name}`")),
            }
        };
        let ((from, asked), (slot, answered)) = (field(to, request)?, field(with, answer)?);
        let simple =
            !matches!(asked.kind, Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::NestedFrame { .. });
        if asked.kind != answered.kind || asked.optional != answered.optional || !simple {
            let problem =
                format!("`{}` and `{}` do not have the same type, or hold more than one value", request, answer);
            return self.wrong(at, problem);
        }
        Ok((from, slot))
    }
}

/// The recording that plays a device, which then does nothing else.
fn recording(at: &str, file: &DeviceFile) -> Result<Option<Recording>, ScenarioError> {
    let Some(recording) = &file.recording else { return Ok(None) };
    let others = [
        ("program", file.program.is_some()),
        ("signals", !file.signals.is_empty()),
        ("sends", !file.sends.is_empty()),
        ("reply", !file.reply.is_empty()),
        ("alarm", !file.alarm.is_empty()),
        ("tables", !file.tables.is_empty()),
        ("refusal", file.refusal.is_some()),
        ("first_report", file.first_report.is_some()),
        ("answers_after", file.answers_after.is_some()),
    ];
    if let Some((other, _)) = others.iter().find(|(_, is_given)| *is_given) {
        return content(format!("{at}.recording"), format!("plays the device, so its `{other}` would do nothing"));
    }
    Ok(Some(Recording { file: recording.clone(), frames: Default::default() }))
}

/// When a device is off, and from when on it runs again.
fn restarts(at: &str, file: &DeviceFile) -> Result<Vec<(u64, u64)>, ScenarioError> {
    let mut restarts = Vec::new();
    for (n, restart) in file.restart.iter().enumerate() {
        let at = format!("{at}.restart {}", n + 1);
        let begin = time(&at, &restart.at)?;
        restarts.push((begin, begin + time(&at, &restart.lasting)?));
    }
    Ok(restarts)
}
