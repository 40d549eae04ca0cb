//! Which fields change together with another one.

use std::collections::{BTreeMap, HashMap};
use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_model::Plan;
use emberwort_text::formula::number;
use emberwort_wire::ValueRef;

use super::walk::each_value;
use crate::items::{Item, ItemSink, Row};

/// A field of the messages of one node: the message, the field, the node.
pub(crate) type FieldOf = (String, String, Option<u64>);

/// So many fields are compared.
const MAX_FIELDS: usize = 4096;

/// How a field moves together with the one that is asked for.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Likeness {
    /// How many pairs of values there were.
    pub count: u64,
    sums: [f64; 5],
    /// How many times both changed from one pair to the next, one did, and the other.
    pub changed: [u64; 3],
    last: Option<(f64, f64)>,
}

impl Likeness {
    fn add(&mut self, one: f64, other: f64) {
        self.count += 1;
        for (sum, more) in self.sums.iter_mut().zip([one, other, one * one, other * other, one * other]) {
            *sum += more;
        }
        if let Some((a, b)) = self.last.replace((one, other)) {
            match (a != one, b != other) {
                (true, true) => self.changed[0] += 1,
                (true, false) => self.changed[1] += 1,
                (false, true) => self.changed[2] += 1,
                (false, false) => {}
            }
        }
    }

    /// Pearson's coefficient of correlation, from -1 to 1; `None` if one of them never changed.
    pub fn correlation(&self) -> Option<f64> {
        let n = self.count as f64;
        let [a, b, aa, bb, ab] = self.sums;
        let (of_a, of_b) = (n * aa - a * a, n * bb - b * b);
        // Rounding leaves something of what is nothing.
        let is_flat = of_a <= 1e-9 * n * aa || of_b <= 1e-9 * n * bb;
        (self.count > 2 && !is_flat).then(|| ((n * ab - a * b) / (of_a * of_b).sqrt()).clamp(-1.0, 1.0))
    }

    /// Of the times at which one of both changed, the share at which both did.
    pub fn together(&self) -> Option<f64> {
        let all: u64 = self.changed.iter().sum();
        (all > 0).then(|| self.changed[0] as f64 / all as f64)
    }
}

/// Compares all numbers, labels and flags with one field, each time that one comes; others count with their last value of the same node, or of
/// senders without one.
#[derive(Clone, Debug)]
pub struct Like {
    message: String,
    field: String,
    /// The last values of all fields.
    last: HashMap<FieldOf, f64>,
    /// By the node of the field that is asked for, and the other field.
    pub likenesses: BTreeMap<(Option<u64>, FieldOf), Likeness>,
    /// How many values of the field there were.
    pub count: u64,
}

impl Like {
    /// Compares with a field: `GateStatus.oil`, or `oil` if one message alone has it.
    ///
    /// # Errors
    /// If there is no such field, or several.
    pub fn new(name: &str, plan: &Plan) -> Result<Self, String> {
        let having: Vec<&str> = plan
            .messages
            .iter()
            .filter(|compiled| super::variables::field_at(&compiled.message.fields, name).is_some())
            .map(|compiled| compiled.message.name.as_str())
            .collect();
        let (message, field) = match (name.split_once('.'), having.as_slice()) {
            (Some((message, field)), _) if plan.message_index(message).is_some() => (message, field),
            (_, [only]) => (*only, name),
            (_, []) => (name, ""),
            (_, several) => {
                return Err(format!("`{name}` is a field of {}; write {}.{name}", several.join(", "), several[0]));
            }
        };
        let known = plan
            .message_index(message)
            .and_then(|index| super::variables::field_at(&plan.messages[index].message.fields, field));
        if known.is_none() {
            let all = super::variables::all_names(plan);
            let near = emberwort_model::diagnostics::nearest(name, all)
                .map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
            return Err(format!("there is no field `{}`{near}", emberwort_model::diagnostics::escaped(name)));
        }
        let (message, field) = (message.to_owned(), field.to_owned());
        Ok(Self { message, field, last: HashMap::new(), likenesses: BTreeMap::new(), count: 0 })
    }

    fn row(&mut self, row: &Row<'_>) {
        let message = &row.plan.messages[row.message].message;
        let node = row.frame.node;
        let mut asked = None;
        each_value(&message.fields, row.values, |name, field, slot| {
            if !matches!(row.values.get(slot), ValueRef::Raw(_)) {
                return;
            }
            let Some(value) = number(field, row.values, slot).filter(|value| value.is_finite()) else { return };
            if message.name == self.message && name == self.field {
                asked = Some(value);
                return;
            }
            let key = (message.name.clone(), name.to_owned(), node);
            if self.last.len() < MAX_FIELDS || self.last.contains_key(&key) {
                self.last.insert(key, value);
            }
        });
        let Some(asked) = asked else { return };
        self.count += 1;
        for (key, value) in self.last.iter().filter(|((_, _, of), _)| of.is_none() || *of == node) {
            self.likenesses.entry((node, key.clone())).or_default().add(asked, *value);
        }
    }
}

impl ItemSink for Like {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let Item::Row(row) = item {
            self.row(row);
        }
        Ok(ControlFlow::Continue(()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_moves_together_is_told() {
        let (mut same, mut against, mut flat) = (Likeness::default(), Likeness::default(), Likeness::default());
        for n in 0..50 {
            let value = f64::from(n * 7 % 11);
            same.add(value, 3.0 * value + 2.0);
            against.add(value, 5.0 - value);
            flat.add(value, 4.0);
        }
        assert!((same.correlation().unwrap() - 1.0).abs() < 1e-9 && same.together() == Some(1.0));
        assert!((against.correlation().unwrap() + 1.0).abs() < 1e-9);
        assert_eq!((flat.correlation(), flat.together()), (None, Some(0.0)));
    }
}
