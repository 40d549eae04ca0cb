//! What must hold for the values of received messages: always, once, or within bounds.

use emberwort_model::ids::MessageId;
use emberwort_text::formula::Formula;
use emberwort_wire::Values;

use crate::Nanoseconds;
use crate::definitions::{Definitions, MessageNumber, TrialDefinitionId};
use crate::reason::Reason;

/// A condition on the values of a message, looked at whenever one is received.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Probe {
    /// The message, where those of all definitions are counted through.
    pub message: MessageNumber,
    /// Its node.
    pub node: Option<u64>,
    /// What is looked at.
    pub kind: ProbeKind,
    /// By definition: the formula, if that definition has the message with all that the formula needs.
    formulas: Vec<Option<Formula>>,
}

/// What is looked at.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum ProbeKind {
    /// The formula holds each time.
    Always,
    /// It holds at least once.
    Once,
    /// Its value lies between two numbers; without a value it is passed over.
    Between(f64, f64),
}

/// What a probe found.
#[derive(Clone, Debug, Default, PartialEq)]
pub(crate) struct Probed {
    /// How many messages were looked at.
    pub looked: u64,
    /// For how many of them it held.
    pub held: u64,
    /// When it first did not.
    pub first_failed: Option<Nanoseconds>,
    /// The least and the greatest value.
    pub range: Option<(f64, f64)>,
}

impl Probe {
    /// A probe of a message by number, with a formula over its fields.
    ///
    /// # Errors
    /// What is wrong with the formula.
    pub fn new(
        definitions: &Definitions,
        (message, node): (MessageNumber, Option<u64>),
        kind: ProbeKind,
        formula: &str,
    ) -> Result<Self, String> {
        let mut formulas = Vec::new();
        let mut problem = None;
        for definition in definitions.all() {
            let index = definition
                .plan
                .message_ids()
                .map(|(index, _)| index)
                .find(|index| definition.number(*index) == message);
            let parsed =
                index.map(|index| Formula::of_fields(formula, &definition.plan.messages[index].message.fields));
            formulas.push(match parsed {
                Some(Ok(formula)) => Some(formula),
                Some(Err(error)) => {
                    problem = problem.or(Some(error));
                    None
                }
                None => None,
            });
        }
        match problem.filter(|_| formulas.iter().all(Option::is_none)) {
            Some(problem) => Err(problem),
            None => Ok(Self { message, node, kind, formulas }),
        }
    }

    /// Looks at a message that a receiver of a definition, by index, received.
    pub(crate) fn look(
        &self,
        definitions: &Definitions,
        (definition, index): (TrialDefinitionId, MessageId),
        now: Nanoseconds,
        values: &Values,
        found: &mut Probed,
    ) {
        let Some(formula) = &self.formulas[definition.index()] else { return };
        let fields = &definitions.get(definition).plan.messages[index].message.fields;
        let value = formula.value_of(now, fields, values);
        let held = match (self.kind, value) {
            (ProbeKind::Between(..), None) => return,
            (ProbeKind::Between(least, most), Some(value)) => {
                let (low, high) = found.range.unwrap_or((value, value));
                found.range = Some((low.min(value), high.max(value)));
                (least..=most).contains(&value)
            }
            (_, value) => value.is_some_and(|value| value != 0.0),
        };
        found.looked += 1;
        found.held += u64::from(held);
        if !held && found.first_failed.is_none() {
            found.first_failed = Some(now);
        }
    }

    /// Why it did not hold, if it did not, and what was found, in words.
    pub(crate) fn judge(&self, found: &Probed) -> (Option<Reason>, String) {
        let Probed { looked, held, .. } = *found;
        let unless = |held: bool| (!held).then_some(Reason::Value);
        match self.kind {
            _ if looked == 0 => (Some(Reason::NoneReceived), "none was received".to_owned()),
            ProbeKind::Always => (unless(held == looked), format!("held in {held} of {looked}")),
            ProbeKind::Once => (unless(held > 0), format!("held in {held} of {looked}")),
            ProbeKind::Between(..) => {
                let (low, high) = found.range.unwrap_or_default();
                let short =
                    |number: f64| format!("{:.3}", number).trim_end_matches('0').trim_end_matches('.').to_owned();
                (unless(held == looked), format!("between {} and {} in {looked}", short(low), short(high)))
            }
        }
    }
}
