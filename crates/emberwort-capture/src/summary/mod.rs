//! What a recording says in numbers: how often messages come and how regularly, who lost or repeated frames, began again or fell silent,
//! when frames were broken, and what the fields held.

mod breakage;
mod devices;
mod fields;
mod nested;
mod quantiles;
mod timing;

use std::collections::{BTreeMap, HashMap};
use std::convert::Infallible;
use std::ops::ControlFlow;

use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::End;
use emberwort_wire::Time;

pub use breakage::Breakage;
pub use devices::Device;
pub use fields::{FieldSummary, Span};
pub use nested::{Found, NestedFrames};
pub use quantiles::Quantiles;
pub use timing::Timing;

use crate::exchanges::{Exchange, ExchangeSink, Outcome};
use crate::items::{Item, ItemSink, Row, Wants};
use crate::revision_map::DefinitionId;

/// Whose frames are summed up together: the channel by index, the end, the node.
pub type Sender = (ChannelId, End, Option<u64>);

/// So many senders, and so many of their messages, are kept apart.
const MAX_KEPT: usize = 4096;

/// Sums up what a decoder finds.
#[derive(Clone, Debug, Default)]
pub struct Summary {
    /// Whether fields are summed up, too.
    with_fields: bool,
    /// By sender and message.
    pub messages: BTreeMap<(Sender, String), Timing>,
    /// The fields of each message, by its name.
    pub fields: BTreeMap<String, Vec<FieldSummary>>,
    /// Rows of senders that came when so many were kept that no more could be.
    pub not_kept: u64,
    /// The places of what rows belong to, which many rows share.
    places: HashMap<(Sender, DefinitionId, MessageId), String>,
}

impl Summary {
    /// Nothing yet; fields only if they are wanted.
    pub fn new(with_fields: bool) -> Self {
        Self { with_fields, ..Self::default() }
    }

    fn row(&mut self, row: &Row<'_>) {
        let sender = (row.channel, row.from, row.frame.node);
        let message = &row.plan.messages[row.message].message;
        let name = match self.places.get(&(sender, row.definition, row.message)) {
            Some(name) => name.clone(),
            None if self.places.len() < MAX_KEPT => {
                self.places.insert((sender, row.definition, row.message), message.name.clone());
                message.name.clone()
            }
            None => {
                self.not_kept += 1;
                return;
            }
        };
        let key = (sender, name);
        let timing = self.messages.entry(key).or_insert_with(|| Timing::new(message.every));
        let before = timing.last;
        timing.add(row.time, row.wire.len());
        if self.with_fields {
            let fields = self.fields.entry(message.name.clone()).or_default();
            FieldSummary::add_all(fields, &message.fields, row.values, (before, row.time, sender));
        }
    }
}

impl ItemSink for Summary {
    type Error = Infallible;

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        if self.with_fields { Wants::Values } else { Wants::Frame }
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        if let Item::Row(row) = item {
            self.row(row);
        }
        Ok(ControlFlow::Continue(()))
    }
}

/// What only all frames together say, whatever is asked of them: numbers that are missing, and when frames were broken.
#[derive(Clone, Debug, Default)]
pub struct Senders {
    /// By sender.
    pub devices: BTreeMap<Sender, Device>,
    /// Broken and unread frames by reason, over the time.
    pub breakage: Breakage,
    /// The last moment of anything.
    pub end: Option<Time>,
}

impl Senders {
    /// Devices that said nothing for long at the end, and since when: more than three of their usual pauses, and of what the definition says.
    pub fn silent(&self, summary: &Summary) -> Vec<(Sender, Time)> {
        let Some(end) = self.end else { return Vec::new() };
        let of_device = |(sender, device): (&Sender, &Device)| {
            let regular = summary.messages.iter().filter(|((of, _), timing)| of == sender && timing.every.is_some());
            let every = regular.filter_map(|(_, timing)| timing.every).min()?;
            let last = device.last?;
            (end.since(last) > 3 * every).then_some((*sender, last))
        };
        self.devices.iter().filter_map(of_device).collect()
    }
}

impl ItemSink for Senders {
    type Error = Infallible;

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Frame
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, Infallible> {
        self.end = self.end.max(item.time());
        match item {
            Item::Row(row) => {
                let sender = (row.channel, row.from, row.frame.node);
                if self.devices.len() < MAX_KEPT || self.devices.contains_key(&sender) {
                    self.devices.entry(sender).or_default().add(row);
                }
            }
            Item::Broken(broken) => self.breakage.add(broken.fault.reason(), broken.time),
            Item::Stray(_) => {}
        }
        Ok(ControlFlow::Continue(()))
    }
}

/// How requests were answered, by the name of the request.
#[derive(Clone, Debug, Default)]
pub struct Latencies {
    /// How many came out how, and how long answers took, in nanoseconds.
    pub requests: BTreeMap<String, (BTreeMap<Outcome, u64>, Quantiles)>,
}

impl ExchangeSink for Latencies {
    type Error = Infallible;

    fn exchange(&mut self, exchange: &Exchange) -> Result<ControlFlow<()>, Infallible> {
        let Some(exchanged) = exchange.request.as_ref().or(exchange.answer.as_ref()) else {
            return Ok(ControlFlow::Continue(()));
        };
        let name = &exchanged.plan.messages[exchanged.message].message.name;
        let (outcomes, times) = self.requests.entry(name.clone()).or_default();
        *outcomes.entry(exchange.outcome()).or_default() += 1;
        if let Some(after) = exchange.after() {
            times.add(after);
        }
        Ok(ControlFlow::Continue(()))
    }
}
