//! Conditions on what a decoder finds: `GateStatus.opening > 40 and state == held`, `broken == checksum`, `oil jumped by 20`.

use std::cell::{Cell, RefCell};
use std::collections::HashMap;

use emberwort_model::Plan;
use emberwort_model::ids::{ChannelId, MessageId};
use emberwort_model::model::{ByteOrder, End, Field};
use emberwort_model::plan::{Action, MessagePlan, Place};
use emberwort_text::formula::{Formula, Named, Variables, number, number_of};
use emberwort_wire::{FrameFault, Time, ValueRef, Values, bits};

use super::variables::{Aspect, Names, Path, Variable, all_names, field_at};
use crate::items::{Item, Row, Wants};
use crate::revision_map::DefinitionId;
use crate::revision_map::RevisionMap;

/// A condition on items.
///
/// Names are those of fields, also with their message in front, and those of [`Variable`]. What an item does not have makes all that is said
/// of it alone neither true nor false, so that the item does not match, also not behind `not`.
#[derive(Clone, Debug)]
pub struct Query {
    text: String,
    names: Names,
    /// By definition and message.
    rows: Vec<Vec<Bound>>,
    /// For what is no row.
    other: Option<Bound>,
    /// Whether it asks for what came before.
    looks_back: bool,
    /// Whether it asks for the time, which counts from the first frame of any kind.
    asks_for_time: bool,
    /// The last row of each message by its number in `names`, of each channel, end and node.
    last: HashMap<Sender, EarlierRow>,
    /// The time of the first item.
    start: Option<Time>,
}

/// The last rows of so many senders are kept; what others sent before is not known.
pub(super) const MAX_SENDERS: usize = 1 << 16;

/// Who sent what: the number of the message's name, the channel, the end, the node.
type Sender = (usize, ChannelId, End, Option<u64>);

/// A row that came before.
#[derive(Clone, Debug)]
struct EarlierRow {
    time: Option<Time>,
    definition: DefinitionId,
    values: Values,
}

/// A formula with what its variables stand for in one message.
#[derive(Clone, Debug)]
struct Bound {
    formula: Formula,
    variables: Vec<Variable>,
    /// The number of the message's name.
    name: usize,
    /// Whether it can hold at all.
    is_possible: bool,
    /// Where each variable lies in the body, if all do at places that are known; a variable that lies nowhere is no field.
    places: Option<Vec<Option<FixedPlace>>>,
    /// What it said of bodies before, if the bits at those places are few enough to be told apart.
    answers: Option<Answers>,
}

/// What a formula said of some codes before.
///
/// Fields repeat themselves, and working a formula out costs more than everything else that is done for a frame that does not match.
#[derive(Clone, Debug)]
struct Answers(Vec<Cell<u64>>);

impl Answers {
    /// The most bits of codes that it can tell apart: two bits beside them say whether an answer is known, and which.
    const MAX_BITS: u32 = 62;
    /// So many answers are kept, a power of two.
    const KEPT: usize = 256;

    fn new() -> Self {
        Self(vec![Cell::new(0); Self::KEPT])
    }

    /// The answer for some codes, which lie beside each other in `codes`; worked out, if it is not known.
    #[inline]
    fn of(&self, codes: u64, work_out: impl FnOnce() -> bool) -> bool {
        // Fibonacci hashing (Knuth, The Art of Computer Programming 3, 6.4): the upper bits depend on all others.
        let hash = codes.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> (u64::BITS - Self::KEPT.ilog2());
        let kept = &self.0[hash as usize];
        let entry = kept.get();
        if entry >> 1 == codes << 1 | 1 {
            return entry & 1 == 1;
        }
        let answer = work_out();
        kept.set(codes << 2 | 2 | u64::from(answer));
        answer
    }
}

/// Bits at a place of every body of a message.
#[derive(Clone, Copy, Debug)]
struct FixedPlace {
    bit: usize,
    width: u8,
    is_signed: bool,
    order: ByteOrder,
}

/// Where a field lies, if it does at a place that is known: in the first section, which every body has whole.
fn fixed_place(message: &MessagePlan, slot: usize) -> Option<FixedPlace> {
    let section = message.sections.first().filter(|_| message.message.line.is_none())?;
    let step = section.steps.iter().find(|step| step.slot == slot && step.presence.is_none())?;
    match (&step.place, &step.action) {
        (Place::Fixed(bit), Action::Bits { width, signed, order }) => {
            Some(FixedPlace { bit: *bit as usize, width: *width, is_signed: *signed, order: *order })
        }
        _ => None,
    }
}

/// The variables of a formula that asks for fields at known places alone, before anything is decoded.
struct InBody<'a> {
    bound: &'a Bound,
    places: &'a [Option<FixedPlace>],
    message: MessageId,
    body: &'a [u8],
}

impl Variables for InBody<'_> {
    fn number(&self, variable: usize) -> Option<f64> {
        match (&self.bound.variables[variable], self.places[variable]) {
            (Variable::Of(aspect, path), Some(place)) => {
                let raw = match place.is_signed {
                    true => bits::read_signed(self.body, place.bit, place.width, place.order),
                    false => bits::read(self.body, place.bit, place.width, place.order),
                };
                match aspect {
                    Aspect::Raw => Some(emberwort_wire::values::signed(&path.field.kind, raw) as f64),
                    _ => number_of(&path.field, raw),
                }
            }
            (Variable::Constant(_, constant), _) => Some(*constant),
            (Variable::Message, _) => Some(self.message.index() as f64),
            // Of a row.
            (Variable::Broken | Variable::Unread | Variable::Stray, _) => Some(0.0),
            _ => Some(f64::NAN),
        }
    }
}

impl Bound {
    /// Reads a condition for one message of a plan; for what is no row without one.
    fn new(text: &str, plan: &Plan, message: Option<MessageId>, names: &mut Names) -> Result<Self, String> {
        let own = message.map(|index| &plan.messages[index].message);
        let variables: RefCell<Vec<Variable>> = RefCell::default();
        let known_names = RefCell::new(&mut *names);
        let intern = |variable: Variable| {
            let mut all = variables.borrow_mut();
            all.iter().position(|known| *known == variable).unwrap_or_else(|| {
                all.push(variable);
                all.len() - 1
            })
        };
        let message_is_own = |index: usize| message == Some(MessageId::new(index));
        // A field by its name: where it stands in this message, and what it is there or, if it has none, in the first that does.
        let place = |name: &str| -> Option<(Option<Path>, Option<&Field>)> {
            if let Some(own) = own
                && let Some(path) = Path::find(&own.fields, name)
            {
                return Some((Some(path), field_at(&own.fields, name)));
            }
            if let Some((message, rest)) = name.split_once('.')
                && let Some(index) = plan.message_index(message)
            {
                let there = &plan.messages[index].message;
                let path = Path::find(&there.fields, rest)?;
                return Some((message_is_own(index.index()).then_some(path), field_at(&there.fields, rest)));
            }
            let elsewhere = plan.messages.iter().find_map(|compiled| field_at(&compiled.message.fields, name))?;
            Some((None, Some(elsewhere)))
        };
        let reason = |name: &str| {
            FrameFault::REASONS.iter().position(|reason| reason.replace(' ', "_") == name).map(|index| index + 1)
        };
        let known = |name: &str| -> Option<Named<'_>> {
            if let Some((word, inner)) = name.strip_suffix(')').and_then(|name| name.split_once('(')) {
                let aspect = match word {
                    "raw" => Aspect::Raw,
                    "previous" => Aspect::Previous,
                    "changed" => Aspect::Changed,
                    _ => {
                        plan.message_index(inner)?;
                        return Some((intern(Variable::AgeOf(known_names.borrow_mut().number(inner))), None));
                    }
                };
                let (path, field) = place(inner)?;
                let field = field.filter(|_| aspect == Aspect::Previous);
                return Some((
                    intern(path.map_or(Variable::Never, |path| Variable::Of(aspect, Box::new(path)))),
                    field,
                ));
            }
            if let Some((path, field)) = place(name) {
                return Some((
                    intern(path.map_or(Variable::Never, |path| Variable::Of(Aspect::Value, Box::new(path)))),
                    field,
                ));
            }
            let variable = match name {
                "message" => Variable::Message,
                "node" => Variable::Node,
                "sequence" => Variable::Sequence,
                "direction" => Variable::Direction,
                "channel" => Variable::Channel,
                "length" => Variable::Length,
                "broken" => Variable::Broken,
                "unread" => Variable::Unread,
                "stray" => Variable::Stray,
                "age" => Variable::Age,
                "device" => Variable::Constant("direction", 0.0),
                "host" => Variable::Constant("direction", 1.0),
                name => {
                    let constant = |what, index: usize| Variable::Constant(what, index as f64);
                    let message = plan.message_index(name).map(|index| constant("message", index.index()));
                    let channel = || plan.channel_index(name).map(|index| constant("channel", index.index()));
                    message.or_else(channel).or_else(|| Some(constant("broken", reason(name)?)))?
                }
            };
            Some((intern(variable), None))
        };
        let formula = Formula::parse(text, &known, &all_names(plan))?;
        let variables = variables.into_inner();
        for variable in formula.conditions() {
            if let Some(said) = lone_constant(&variables[variable], plan) {
                return Err(said);
            }
        }
        let is_possible = formula.can_hold(&|number: usize| match &variables[number] {
            Variable::Never => Some(f64::NAN),
            Variable::Constant(_, constant) => Some(*constant),
            Variable::Message => message.map_or(Some(f64::NAN), |index| Some(index.index() as f64)),
            Variable::Broken | Variable::Unread | Variable::Stray if message.is_some() => Some(0.0),
            _ => None,
        });
        let name = own.map_or(usize::MAX, |own| names.number(&own.name));
        let place = |variable: &Variable| match variable {
            Variable::Of(Aspect::Value | Aspect::Raw, path) => {
                let slot = path.plain_slot()?;
                Some(Some(fixed_place(&plan.messages[message?], slot)?))
            }
            Variable::Constant(..) | Variable::Message | Variable::Never => Some(None),
            Variable::Broken | Variable::Unread | Variable::Stray => Some(None),
            _ => None,
        };
        let places = if formula.asks_for_time() { None } else { variables.iter().map(place).collect() };
        let bits = |places: &Vec<Option<FixedPlace>>| places.iter().flatten().map(|place| u32::from(place.width)).sum();
        let answers = places.as_ref().map(bits).filter(|bits: &u32| *bits <= Answers::MAX_BITS).map(|_| Answers::new());
        Ok(Self { formula, variables, name, is_possible, places, answers })
    }

    /// Whether it may hold for a body of its message, which is this one by index.
    #[inline]
    fn may_hold(&self, message: MessageId, body: &[u8]) -> bool {
        let Some(places) = &self.places else { return true };
        let work_out = || {
            let inside = InBody { bound: self, places, message, body };
            self.formula.value(0, &inside).is_some_and(|value| value != 0.0)
        };
        let Some(answers) = &self.answers else { return work_out() };
        let codes = places
            .iter()
            .flatten()
            .fold(0, |codes, place| codes << place.width | bits::read(body, place.bit, place.width, place.order));
        answers.of(codes, work_out)
    }
}

/// What to write in place of a name that says nothing by itself.
fn lone_constant(variable: &Variable, plan: &Plan) -> Option<String> {
    let Variable::Constant(of, index) = variable else { return None };
    let name = match *of {
        "message" => plan.messages[*index as usize].message.name.clone(),
        "channel" => plan.channels[*index as usize].name.clone(),
        "broken" => FrameFault::REASONS[*index as usize - 1].replace(' ', "_"),
        _ => if *index == 0.0 { "device" } else { "host" }.to_owned(),
    };
    Some(format!("`{name}` is no condition by itself; write {of} == {name}"))
}

/// The variables of a formula at one item.
struct ItemVariables<'a, 'i> {
    variables: &'a [Variable],
    item: &'a Item<'i>,
    last: &'a HashMap<Sender, EarlierRow>,
    sender: Option<Sender>,
}

impl ItemVariables<'_, '_> {
    fn row(&self) -> Option<&Row<'_>> {
        match self.item {
            Item::Row(row) => Some(row),
            _ => None,
        }
    }

    fn before(&self) -> Option<&EarlierRow> {
        let definition = self.row()?.definition;
        self.last.get(&self.sender?).filter(|before| before.definition == definition)
    }

    fn seconds_since(&self, before: Option<Time>) -> Option<f64> {
        Some(self.item.time()?.since(before?) as f64 / 1e9)
    }
}

/// The number of a value at a path.
#[inline]
fn value_at(path: &Path, values: &Values) -> Option<f64> {
    let slot = path.slot(values)?;
    match values.get(slot) {
        // Whether a text is there can be asked, too.
        ValueRef::Bytes(bytes) => Some(bytes.len() as f64),
        ValueRef::Group { count, .. } => Some(count as f64),
        _ => number(&path.field, values, slot),
    }
}

impl Variables for ItemVariables<'_, '_> {
    fn number(&self, variable: usize) -> Option<f64> {
        let missing = Some(f64::NAN);
        match &self.variables[variable] {
            Variable::Of(aspect, path) => {
                let values = self.row()?.values;
                match aspect {
                    Aspect::Value => value_at(path, values),
                    Aspect::Raw => match values.get(path.slot(values)?) {
                        ValueRef::Raw(code) => Some(emberwort_wire::values::signed(&path.field.kind, code) as f64),
                        _ => None,
                    },
                    Aspect::Previous => value_at(path, &self.before()?.values),
                    Aspect::Changed => {
                        let Some(before) = self.before() else { return Some(0.0) };
                        let is_same = match (path.slot(values), path.slot(&before.values)) {
                            (Some(now), Some(then)) => values.is_same(now, &before.values, then),
                            (now, then) => now == then,
                        };
                        Some(if is_same { 0.0 } else { 1.0 })
                    }
                }
            }
            Variable::Never => missing,
            Variable::Constant(_, constant) => Some(*constant),
            Variable::Message => self.row().map_or(missing, |row| Some(row.message.index() as f64)),
            Variable::Node => self.item.frame().and_then(|frame| frame.node).map(|node| node as f64),
            Variable::Sequence => self.item.frame().and_then(|frame| frame.sequence).map(|number| number as f64),
            Variable::Direction => self.item.from().map(|from| if from == End::Device { 0.0 } else { 1.0 }),
            Variable::Channel => Some(self.item.channel().index() as f64),
            Variable::Length => Some(self.item.wire().len() as f64),
            Variable::Broken | Variable::Unread => {
                let is_unread = self.variables[variable] == Variable::Unread;
                let Item::Broken(broken) = self.item else { return Some(0.0) };
                let reason = FrameFault::REASONS.iter().position(|reason| *reason == broken.fault.reason());
                Some(if broken.is_unread() == is_unread { reason? as f64 + 1.0 } else { 0.0 })
            }
            Variable::Stray => Some(match self.item {
                Item::Stray(stray) if !stray.is_packet => 1.0,
                _ => 0.0,
            }),
            Variable::Age => {
                let Some(sender) = self.sender else { return missing };
                self.seconds_since(self.last.get(&sender)?.time)
            }
            Variable::AgeOf(name) => {
                let node = self.item.frame().and_then(|frame| frame.node);
                let channel = self.item.channel();
                let of = |end| self.last.get(&(*name, channel, end, node));
                self.seconds_since(of(End::Device).or_else(|| of(End::Host))?.time)
            }
        }
    }

    fn bytes(&self, variable: usize) -> Option<&[u8]> {
        let Variable::Of(aspect, path) = &self.variables[variable] else { return None };
        let values = if *aspect == Aspect::Previous { &self.before()?.values } else { self.row()?.values };
        match values.get(path.slot(values)?) {
            ValueRef::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }
}

impl Query {
    /// A condition on items of a link.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn new(text: &str, plan: &Plan) -> Result<Self, String> {
        let mut names = Names::default();
        let mut all = (0..plan.messages.len()).map(Some).chain([None]);
        // A name can mean another thing in each message: what it cannot be in one is never true there.
        let mut first = None;
        let is_read = all.any(|message| match Bound::new(text, plan, message.map(MessageId::new), &mut names) {
            Ok(_) => true,
            Err(problem) => {
                first.get_or_insert(problem);
                false
            }
        });
        if let Some(problem) = first.filter(|_| !is_read) {
            return Err(problem);
        }
        let (rows, last) = (Vec::new(), HashMap::new());
        Ok(Self {
            text: text.to_owned(),
            names,
            rows,
            other: None,
            looks_back: false,
            asks_for_time: false,
            last,
            start: None,
        })
    }

    /// Reads it for all definitions in use. What a definition does not have can never hold there.
    pub fn update_revisions(&mut self, revisions: &RevisionMap) {
        let never = |names: &mut Names, plan: &Plan, message| {
            let mut bound = Bound::new("false", plan, message, names).ok()?;
            bound.is_possible = false;
            Some(bound)
        };
        for definition in &revisions.definitions()[self.rows.len()..] {
            let plan = &definition.plan;
            let names = &mut self.names;
            let mut read =
                |message| Bound::new(&self.text, plan, message, names).ok().or_else(|| never(names, plan, message));
            let of_messages = plan.message_ids().filter_map(|(index, _)| read(Some(index))).collect();
            if self.other.is_none() {
                self.other = read(None);
            }
            self.rows.push(of_messages);
        }
        let all = || self.rows.iter().flatten().chain(&self.other);
        let looks_back = all().flat_map(|bound| &bound.variables).any(Variable::looks_back);
        let asks_for_time = all().any(|bound| bound.formula.asks_for_time());
        (self.looks_back, self.asks_for_time) = (looks_back, asks_for_time);
    }

    /// What it needs of a message, both by index, if so much is wanted of it behind.
    pub fn wants(&self, definition: DefinitionId, message: MessageId, behind: Wants) -> Wants {
        let bound = &self.rows[definition.index()][message.index()];
        match self.looks_back {
            true => Wants::Values,
            false if behind == Wants::Nothing || !bound.is_possible => {
                if self.asks_for_time {
                    Wants::Frame
                } else {
                    Wants::Nothing
                }
            }
            false => Wants::Values,
        }
    }

    /// Whether it may hold for a row with this body.
    #[inline]
    pub(crate) fn may_hold(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.looks_back || self.asks_for_time || self.rows[definition.index()][message.index()].may_hold(message, body)
    }

    /// Whether it holds for the next item; to be asked of all in their order.
    #[inline]
    pub fn holds(&mut self, item: &Item<'_>) -> bool {
        let bound = match item {
            Item::Row(row) => &self.rows[row.definition.index()][row.message.index()],
            _ => match &self.other {
                Some(other) => other,
                None => return false,
            },
        };
        let start = *self.start.get_or_insert(item.time().unwrap_or_default());
        let sender = match item {
            Item::Row(row) => Some((bound.name, row.channel, row.from, row.frame.node)),
            _ => None,
        };
        let holds = bound.is_possible && {
            let at = ItemVariables { variables: &bound.variables, item, last: &self.last, sender };
            let now = item.time().map_or(0, |time| time.since(start));
            bound.formula.value(now, &at).is_some_and(|value| value != 0.0)
        };
        if self.looks_back
            && let (Some(sender), Item::Row(row)) = (sender, item)
        {
            let before = self.last.entry(sender).or_insert_with(|| EarlierRow {
                time: None,
                definition: row.definition,
                values: Values::default(),
            });
            (before.time, before.definition) = (row.time, row.definition);
            before.values.assign(row.values);
        }
        holds
    }
}
