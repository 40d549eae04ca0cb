//! What the host does step by step: send, expect, expect never, wait; several scripts at once. It reads no clock.

use std::collections::BTreeMap;

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_text::formula::{ComputedField, Formula, number};
use emberwort_wire::Values;

use crate::Nanoseconds;
use crate::reason::Reason;
use crate::signal::nearest;

/// The first number of the variables of formulas that are values which a script keeps; lower ones are slots.
pub const KEPT: usize = 1 << 20;

/// Steps, one after the other.
#[derive(Clone, Debug)]
pub struct Script {
    /// What it is called.
    pub name: String,
    /// When it begins.
    pub at: Nanoseconds,
    /// How many times all steps are done.
    pub repeat: u32,
    /// The steps.
    pub steps: Vec<Step>,
    /// The names of the values that it keeps.
    pub names: Vec<String>,
}

/// A step of a script. Messages are indices in the host's definition.
#[derive(Clone, Debug)]
pub enum Step {
    /// A request is sent.
    Send {
        /// The message.
        message: MessageId,
        /// To which node.
        node: u64,
        /// Its values.
        values: Values,
        /// Fields that are worked out of values that were kept.
        worked: Vec<ComputedField>,
        /// How many times it is sent once more if what the next step expects does not come.
        retries: u32,
    },
    /// A message must come in time.
    Expect(Waiting),
    /// A message must not come in this time.
    Never(Waiting),
    /// Nothing is done for a time.
    Wait(Nanoseconds),
}

/// A message that is waited for.
#[derive(Clone, Debug)]
pub struct Waiting {
    /// The message.
    pub message: MessageId,
    /// From which node.
    pub node: Option<u64>,
    /// What its fields must be like.
    pub when: Option<Formula>,
    /// The values that are kept, by their number: the slots.
    pub keep: BTreeMap<usize, usize>,
    /// How long.
    pub within: Nanoseconds,
}

/// How a script came out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Outcome {
    /// What it is called.
    pub name: String,
    /// Why not all its steps went well; `None` if they did.
    pub failed: Option<Reason>,
    /// What happened.
    pub found: String,
    /// When it failed.
    pub at: Option<Nanoseconds>,
}

/// A step that failed.
#[derive(Clone, Debug)]
struct Failure {
    at: Nanoseconds,
    reason: Reason,
    what: String,
}

/// A message that came while another one was waited for, and what it says about why that does not come.
#[derive(Clone, Debug)]
struct UnexpectedMessage {
    message: MessageId,
    what: String,
}

/// A message to be sent.
#[derive(Clone, Debug)]
pub(crate) struct Sending {
    /// The message.
    pub message: MessageId,
    /// To which node.
    pub node: u64,
    /// Its values.
    pub values: Values,
}

/// Scripts while they run.
#[derive(Clone, Debug)]
pub(crate) struct Runner {
    lanes: Vec<ScriptLane>,
}

#[derive(Clone, Debug)]
struct ScriptLane {
    script: Script,
    step: usize,
    round: u32,
    /// When the step is over by itself; `None` once the script has ended.
    due: Option<Nanoseconds>,
    /// Whether the step has begun, and only waits.
    waits: bool,
    kept: Vec<Option<f64>>,
    /// The last step that sent something, and how many times it may do so once more.
    sent: Option<(usize, u32)>,
    /// What came while the step waited, and was not what it waits for, in words.
    instead: Option<UnexpectedMessage>,
    failed: Option<Failure>,
}

impl Runner {
    /// Scripts that have not begun.
    pub fn new(scripts: &[Script]) -> Self {
        let lane = |script: &Script| ScriptLane {
            step: 0,
            round: 0,
            due: Some(script.at),
            waits: false,
            kept: vec![None; script.names.len()],
            sent: None,
            instead: None,
            failed: None,
            script: script.clone(),
        };
        Self { lanes: scripts.iter().map(lane).collect() }
    }

    /// When [`Runner::act`] has something to do next.
    pub fn next(&self) -> Option<Nanoseconds> {
        self.lanes.iter().filter_map(|lane| lane.due).min()
    }

    /// Does what is to be done by now. Returns what is to be sent.
    pub fn act(&mut self, plan: &Plan, now: Nanoseconds) -> Vec<Sending> {
        let mut sendings = Vec::new();
        for lane in &mut self.lanes {
            lane.act(plan, now, &mut sendings);
        }
        sendings
    }

    /// A message came from a device.
    pub fn hear(&mut self, plan: &Plan, now: Nanoseconds, message: MessageId, node: Option<u64>, values: &Values) {
        for lane in &mut self.lanes {
            lane.hear(plan, now, message, node, values);
        }
    }

    /// How each came out, if it ends now.
    pub fn outcomes(&self, plan: &Plan) -> Vec<Outcome> {
        self.lanes.iter().map(|lane| lane.outcome(plan)).collect()
    }
}

impl Outcome {
    /// Whether all its steps went well.
    pub fn held(&self) -> bool {
        self.failed.is_none()
    }
}

impl ScriptLane {
    fn act(&mut self, plan: &Plan, now: Nanoseconds, sendings: &mut Vec<Sending>) {
        while let Some(due) = self.due.filter(|due| *due <= now) {
            let Some(step) = self.script.steps.get(self.step).cloned() else {
                self.round += 1;
                self.step = 0;
                if self.round >= self.script.repeat {
                    self.due = None;
                }
                continue;
            };
            if !std::mem::replace(&mut self.waits, true) {
                match &step {
                    Step::Send { message, node, values, worked, retries } => {
                        let mut values = values.clone();
                        let fields = &plan.messages[*message].message.fields;
                        for ComputedField { slot, formula } in worked {
                            let kept = |variable: usize| self.kept.get(variable - KEPT).copied().flatten();
                            if let Some(number) = formula.value(now, &kept) {
                                values.set_raw(*slot, nearest(number, &fields[*slot].kind));
                            }
                        }
                        if self.sent.is_none_or(|(step, _)| step != self.step) {
                            self.sent = Some((self.step, *retries));
                        }
                        sendings.push(Sending { message: *message, node: *node, values });
                        self.go_on(due);
                    }
                    Step::Expect(waiting) | Step::Never(waiting) => self.due = Some(due.max(now) + waiting.within),
                    Step::Wait(time) => self.due = Some(due + time),
                }
                continue;
            }
            // Its time is over.
            match &step {
                Step::Expect(waiting) => match &mut self.sent {
                    Some((step, left @ 1..)) => {
                        *left -= 1;
                        (self.step, self.waits, self.instead) = (*step, false, None);
                    }
                    _ => {
                        let instead = self.instead.take();
                        let said = instead.as_ref().map_or("", |instead| &instead.what);
                        let what = describe(plan, waiting);
                        let what = format!("no {what} came within {}{said}", seconds(waiting.within));
                        let instead = instead.map(|instead| instead.message);
                        self.fail(
                            now,
                            Reason::Missed {
                                awaited: waiting.message,
                                instead: instead.map(MessageId::index).map(MessageId::new),
                            },
                            what,
                        );
                    }
                },
                _ => self.go_on(due),
            }
        }
    }

    /// The next step begins at a moment.
    fn go_on(&mut self, at: Nanoseconds) {
        self.step += 1;
        (self.waits, self.instead) = (false, None);
        self.due = Some(at);
    }

    /// What a message is to a step that waits for another one, if it says something about why that does not come.
    fn instead(
        &self,
        plan: &Plan,
        waiting: &Waiting,
        message: MessageId,
        node: Option<u64>,
    ) -> Option<UnexpectedMessage> {
        let is_of_node = waiting.node.is_none_or(|wanted| node.is_none_or(|node| node == wanted));
        let asked = self.script.steps[..self.step].iter().rev().find_map(|step| match step {
            Step::Send { message, .. } => Some(*message),
            _ => None,
        });
        let name = &plan.messages[message].message.name;
        if message == waiting.message {
            let why = match &waiting.when {
                Some(when) if is_of_node => format!("not with `{}`", when.text()),
                _ => "from another node".to_owned(),
            };
            return Some(UnexpectedMessage { message, what: format!("; {name} came, but {why}") });
        }
        let answers = asked.is_some_and(|asked| plan.messages[asked].message.answered_by.contains(&message));
        (answers && is_of_node).then(|| UnexpectedMessage { message, what: format!("; {name} came instead") })
    }

    fn fail(&mut self, at: Nanoseconds, reason: Reason, what: String) {
        self.failed = Some(Failure { at, reason, what });
        self.due = None;
    }

    fn hear(&mut self, plan: &Plan, now: Nanoseconds, message: MessageId, node: Option<u64>, values: &Values) {
        if self.due.is_none() || !self.waits {
            return;
        }
        let (is_wanted, waiting) = match self.script.steps.get(self.step) {
            Some(Step::Expect(waiting)) => (true, waiting),
            Some(Step::Never(waiting)) => (false, waiting),
            _ => return,
        };
        let fields = &plan.messages[message].message.fields;
        let variable = |variable: usize| match variable.checked_sub(KEPT) {
            Some(kept) => self.kept.get(kept).copied().flatten(),
            None => number(&fields[variable], values, variable),
        };
        let fits = waiting.message == message
            && waiting.node.is_none_or(|wanted| node.is_none_or(|node| node == wanted))
            && waiting.when.as_ref().is_none_or(|when| when.value(now, &variable).is_some_and(|value| value != 0.0));
        if !fits {
            let instead = self.instead(plan, waiting, message, node).filter(|_| is_wanted);
            self.instead = instead.or(self.instead.take());
            return;
        }
        if is_wanted {
            let kept: Vec<_> =
                waiting.keep.iter().map(|(kept, slot)| (*kept, number(&fields[*slot], values, *slot))).collect();
            for (kept, value) in kept {
                self.kept[kept] = value;
            }
            self.sent = None;
            self.go_on(now);
        } else {
            let what = format!("{} came, which never should", describe(plan, waiting));
            self.fail(now, Reason::Forbidden(message), what);
        }
    }

    fn outcome(&self, plan: &Plan) -> Outcome {
        let total = self.script.steps.len();
        let place = |step: usize| match self.script.repeat {
            1 => format!("step {} of {total}", step + 1),
            repeat => format!("step {} of {total}, round {} of {repeat}", step + 1, self.round + 1),
        };
        let (failed, found, at) = match (&self.failed, self.due) {
            (Some(Failure { at, reason, what }), _) => {
                (Some(*reason), format!("{}: {what}", place(self.step)), Some(*at))
            }
            (None, None) => (None, format!("all {total} steps, {}", times(self.script.repeat)), None),
            (None, Some(due)) => {
                let what = match self.script.steps.get(self.step) {
                    Some(Step::Expect(waiting)) => format!("still waits for {}", describe(plan, waiting)),
                    _ => "was not over at the end of the trial".to_owned(),
                };
                (Some(Reason::Unfinished), format!("{}: {what}", place(self.step.min(total - 1))), Some(due))
            }
        };
        Outcome { name: self.script.name.clone(), failed, found, at }
    }
}

fn times(count: u32) -> String {
    if count == 1 { "once".to_owned() } else { format!("{count} times") }
}

/// What is waited for, in words.
fn describe(plan: &Plan, waiting: &Waiting) -> String {
    let mut said = plan.messages[waiting.message].message.name.clone();
    if let Some(node) = waiting.node {
        said += &format!(" from node {node}");
    }
    if let Some(when) = &waiting.when {
        said += &format!(" with `{}`", when.text());
    }
    said
}

fn seconds(time: Nanoseconds) -> String {
    if time < 1_000_000_000 { format!("{} ms", time as f64 / 1e6) } else { format!("{} s", time as f64 / 1e9) }
}
