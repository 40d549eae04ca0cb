//! How fields moved over the time, to be drawn.

use std::collections::{BTreeMap, HashMap};
use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::model::{End, Field, Kind};
use emberwort_text::formula::number;
use emberwort_wire::{Time, ValueRef};

use super::variables::{Path, field_at};
use crate::items::{Item, ItemSink, Row, Wants};
use crate::revision_map::DefinitionId;

/// A series of more points is thinned: of neighbours the least and the greatest stay.
const MAX_POINTS: usize = 40_000;

/// So many moments of broken frames are kept, as are changes of a label.
const MAX_MARKS: usize = 20_000;

/// So many different values of a series are counted.
const MAX_VALUES: usize = 1 << 16;

/// So many series are kept apart.
const MAX_SERIES: usize = 64;

/// One field of one node.
#[derive(Clone, Debug)]
pub struct Series {
    /// The message.
    pub message: String,
    /// The field's name.
    pub name: String,
    /// The field.
    pub field: Field,
    /// The end that sends it, and the node.
    pub sender: (End, Option<u64>),
    /// What the definition says of the time between messages, in nanoseconds.
    pub every: Option<u64>,
    /// Moments and values, in their order; `None` where it held none.
    pub points: Vec<(Time, Option<f64>)>,
    /// How often each value came, by its bits; of all values, thinned or not.
    pub counts: HashMap<u64, u64>,
    /// Values that came when so many different ones were kept that no more could be.
    pub uncounted: u64,
    /// How many values each point stands for at most.
    thinned: usize,
    /// Values that wait to be thinned.
    pending: Vec<(Time, Option<f64>)>,
}

impl Series {
    fn add(&mut self, time: Time, value: Option<f64>) {
        if let Some(value) = value {
            let bits = value.to_bits();
            if self.counts.len() < MAX_VALUES || self.counts.contains_key(&bits) {
                *self.counts.entry(bits).or_default() += 1;
            } else {
                self.uncounted += 1;
            }
        }
        self.pending.push((time, value));
        if self.pending.len() < self.thinned {
            return;
        }
        let pending = std::mem::take(&mut self.pending);
        self.points.extend(thinned(&pending));
        if self.points.len() >= MAX_POINTS {
            let points = std::mem::take(&mut self.points);
            self.points = points.chunks(4).flat_map(thinned).collect();
            self.thinned = if self.thinned == 1 { 4 } else { self.thinned * 2 };
        }
    }

    fn settle(&mut self) {
        let pending = std::mem::take(&mut self.pending);
        self.points.extend(pending);
    }

    /// Whether it has labels, which are drawn as bands, and not as a line.
    pub fn has_labels(&self) -> bool {
        matches!(self.field.kind, Kind::Enum { .. } | Kind::Bool | Kind::Flags(_))
    }

    /// The label of a code.
    pub fn label(&self, code: f64) -> String {
        let code = code as u64;
        match &self.field.kind {
            Kind::Enum { labels, .. } => {
                labels.label(code).map_or_else(|| format!("raw {code}"), |label| label.name.clone())
            }
            Kind::Flags(labels) => {
                let set = labels.labels.iter().filter(|label| code >> label.code & 1 == 1);
                let names: Vec<&str> = set.map(|label| label.name.as_str()).collect();
                if names.is_empty() { "-".to_owned() } else { names.join("+") }
            }
            _ => if code == 0 { "false" } else { "true" }.to_owned(),
        }
    }

    /// A pause that is longer is a gap: more than three periods of the definition, or ten of the usual ones.
    pub fn gap(&self) -> u64 {
        if let Some(every) = self.every {
            return 3 * every * self.thinned as u64;
        }
        let mut pauses: Vec<u64> = self.points.windows(2).map(|pair| pair[1].0.since(pair[0].0)).collect();
        pauses.sort_unstable();
        pauses.get(pauses.len() / 2).map_or(u64::MAX, |median| median.saturating_mul(10).max(1))
    }
}

/// Of some neighbours the least and the greatest, in their order, and those that hold none.
fn thinned(points: &[(Time, Option<f64>)]) -> Vec<(Time, Option<f64>)> {
    if points.len() <= 2 {
        return points.to_vec();
    }
    let value = |n: &usize| points[*n].1.unwrap_or(f64::NAN);
    let with: Vec<usize> = (0..points.len()).filter(|n| points[*n].1.is_some()).collect();
    let least = with.iter().copied().min_by(|a, b| value(a).total_cmp(&value(b)));
    let greatest = with.iter().copied().max_by(|a, b| value(a).total_cmp(&value(b)));
    let mut chosen: Vec<usize> = least.into_iter().chain(greatest).collect();
    if with.len() < points.len() {
        chosen.extend((0..points.len()).find(|n| points[*n].1.is_none()));
    }
    chosen.sort_unstable();
    chosen.dedup();
    chosen.into_iter().map(|n| points[n]).collect()
}

/// Collects series.
#[derive(Clone, Debug)]
pub struct Collect {
    /// The fields that are wanted: the message, if one was said, and the field.
    wanted: Vec<(Option<String>, String)>,
    /// By the place of the wish, the message, the end and the node.
    pub series: BTreeMap<(usize, String, End, Option<u64>), Series>,
    /// The first and the last moment of anything.
    pub span: Option<(Time, Time)>,
    /// Rows that came when so many series were kept that no more could be.
    pub not_kept: u64,
}

impl Collect {
    /// Of these fields: `GateStatus.oil`, `oil` of all messages that have it.
    ///
    /// # Errors
    /// Which one is none, or has no numbers or labels.
    pub fn new(names: &[String], plan: &Plan) -> Result<Self, String> {
        let mut wanted = Vec::new();
        for name in names {
            let (message, field) = match name.split_once('.') {
                Some((message, field)) if plan.message_index(message).is_some() => (Some(message.to_owned()), field),
                _ => (None, name.as_str()),
            };
            let mut having = plan
                .messages
                .iter()
                .filter(|compiled| message.as_ref().is_none_or(|message| *message == compiled.message.name))
                .filter_map(|compiled| field_at(&compiled.message.fields, field));
            let Some(found) = having.next() else {
                let all = super::variables::all_names(plan);
                let near = emberwort_model::diagnostics::nearest(name, all)
                    .map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
                return Err(format!("there is no field `{}`{near}", emberwort_model::diagnostics::escaped(name)));
            };
            if found.kind.raw_bits().is_none() {
                return Err(format!("`{name}` has neither numbers nor labels"));
            }
            wanted.push((message, field.to_owned()));
        }
        Ok(Self { wanted, series: BTreeMap::new(), span: None, not_kept: 0 })
    }

    fn row(&mut self, row: &Row<'_>, time: Time) {
        let message = &row.plan.messages[row.message].message;
        for (index, (of, name)) in self.wanted.iter().enumerate() {
            if of.as_ref().is_some_and(|of| *of != message.name) {
                continue;
            }
            let Some(path) = Path::find(&message.fields, name) else { continue };
            let Some(slot) = path.slot(row.values) else { continue };
            let ValueRef::Raw(_) = row.values.get(slot) else { continue };
            let value = number(&path.field, row.values, slot).filter(|value| value.is_finite());
            let key = (index, message.name.clone(), row.from, row.frame.node);
            if self.series.len() >= MAX_SERIES && !self.series.contains_key(&key) {
                self.not_kept += 1;
                continue;
            }
            let series = self.series.entry(key).or_insert_with(|| Series {
                message: message.name.clone(),
                name: name.clone(),
                field: path.field.clone(),
                sender: (row.from, row.frame.node),
                every: message.every,
                points: Vec::new(),
                counts: HashMap::new(),
                uncounted: 0,
                thinned: 1,
                pending: Vec::new(),
            });
            series.add(time, value);
        }
    }
}

impl ItemSink for Collect {
    type Error = Infallible;

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        let Some(time) = item.time() else { return Ok(ControlFlow::Continue(())) };
        let (first, last) = self.span.unwrap_or((time, time));
        self.span = Some((first.min(time), last.max(time)));
        match item {
            Item::Row(row) => self.row(row, time),
            Item::Broken(_) | Item::Stray(_) => {}
        }
        Ok(ControlFlow::Continue(()))
    }

    fn finish(&mut self) -> Result<(), Infallible> {
        self.series.values_mut().for_each(Series::settle);
        Ok(())
    }
}

/// Collects when frames were broken or unread.
#[derive(Clone, Debug, Default)]
pub struct BrokenTimes(pub Vec<Time>);

impl ItemSink for BrokenTimes {
    type Error = Infallible;

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Nothing
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let (Item::Broken(_), Some(time)) = (item, item.time())
            && self.0.len() < MAX_MARKS
        {
            self.0.push(time);
        }
        Ok(ControlFlow::Continue(()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thinning_keeps_what_stands_out() {
        let points: Vec<(Time, Option<f64>)> = [1.0, 9.0, -3.0, 2.0]
            .iter()
            .enumerate()
            .map(|(n, value)| (Time::from_nanoseconds(n as u64), Some(*value)))
            .collect();
        let values: Vec<f64> = thinned(&points).iter().filter_map(|(_, value)| *value).collect();
        assert_eq!(values, [9.0, -3.0]);
        let with_none = [points[0], (Time::from_nanoseconds(9), None), points[1]];
        assert_eq!(thinned(&with_none).len(), 3);
    }

    #[test]
    fn so_many_different_values_are_counted() {
        let text = "link l { revision 1\n byte_order little }\nchannel c { medium uart 9600 8N1\n frame { sync 0A\n kind : u8 message\n body\n check : u8 sum8 over kind..body } }\n\
             message M { id 1\n from device\n on c\n value : u32 }";
        let source = emberwort_model::Source::new("l.ember".to_owned(), text.to_owned());
        let plan = emberwort_model::check(&source).plan.unwrap();
        let field = plan.messages[0].message.fields[0].clone();
        let mut series = Series {
            message: "M".to_owned(),
            name: "value".to_owned(),
            field,
            sender: (End::Device, None),
            every: None,
            points: Vec::new(),
            counts: HashMap::new(),
            uncounted: 0,
            thinned: 1,
            pending: Vec::new(),
        };
        let mut time = 0;
        let mut add = |series: &mut Series, value: Option<f64>| {
            time += 1;
            series.add(Time::from_nanoseconds(time), value);
        };
        for value in 0..MAX_VALUES {
            add(&mut series, Some(value as f64));
            add(&mut series, None);
        }
        assert_eq!((series.counts.len(), series.uncounted), (MAX_VALUES, 0));
        // One that is known goes on being counted, others are told apart no more.
        add(&mut series, Some(7.0));
        add(&mut series, Some(-1.0));
        add(&mut series, Some(-2.0));
        assert_eq!((series.counts.len(), series.uncounted, series.counts[&7f64.to_bits()]), (MAX_VALUES, 2, 2));
        // 131,075 points were thinned; first and last stand where they stood.
        series.settle();
        assert!(series.points.len() < MAX_POINTS, "{}", series.points.len());
        assert!(series.points.windows(2).all(|pair| pair[0].0 < pair[1].0));
    }
}
