//! The filters that arguments ask for, in front of any sink.

use std::ops::ControlFlow;

use emberwort_capture::{
    ContextWindow, DefinitionId, Filtered, Item, ItemSink, Matching, Query, RevisionMap, SelectedRows, Wants,
};
use emberwort_model::Plan;
use emberwort_model::ids::MessageId;

use crate::cli::AskedArgs;

/// A sink that takes no more after Ctrl-C.
pub struct Interruptible<S>(pub S);

impl<S: ItemSink> ItemSink for Interruptible<S> {
    type Error = S::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        self.0.update_revisions(revisions);
    }

    fn wants(&self, definition: DefinitionId, message: MessageId) -> Wants {
        self.0.wants(definition, message)
    }

    fn wants_body(&self, definition: DefinitionId, message: MessageId, body: &[u8]) -> bool {
        self.0.wants_body(definition, message, body)
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, S::Error> {
        self.0.item(item)
    }

    fn is_full(&self) -> bool {
        crate::interrupt::came() || self.0.is_full()
    }

    fn pause(&mut self) -> Result<(), S::Error> {
        self.0.pause()
    }

    fn finish(&mut self) -> Result<(), S::Error> {
        self.0.finish()
    }
}

/// A sink behind the filters. Conditions see all rows, since they may ask for those that came before.
pub type QueriedSink<S> = Filtered<Matching, ContextWindow<Filtered<SelectedRows, S>>>;

/// The filters of the arguments by themselves, but for what lies around rows.
pub fn filters(args: &AskedArgs, plan: &Plan) -> anyhow::Result<(Matching, SelectedRows)> {
    let query = query("--where", &args.condition, plan)?;
    Ok((Matching::new(query, (args.since, args.until)), SelectedRows::new(&args.message, args.node)))
}

fn query(option: &str, text: &Option<String>, plan: &Plan) -> anyhow::Result<Option<Query>> {
    let read = text.as_deref().map(|text| Query::new(text, plan)).transpose();
    read.map_err(|problem| anyhow::anyhow!("{option} cannot be read: {problem}"))
}

/// A sink behind the filters that the arguments ask for.
pub fn asked<S>(args: &AskedArgs, plan: &Plan, sink: S) -> anyhow::Result<QueriedSink<S>> {
    let (matching, only) = filters(args, plan)?;
    Ok(Filtered::new(matching, around(args, plan, Filtered::new(only, sink))?))
}

/// A sink that gets what lies around the rows that the arguments ask for; all, if they do not say any.
pub fn around<S>(args: &AskedArgs, plan: &Plan, sink: S) -> anyhow::Result<ContextWindow<S>> {
    let condition = query("--around", &args.around, plan)?;
    Ok(ContextWindow::new(condition, (args.before, args.after), sink))
}
