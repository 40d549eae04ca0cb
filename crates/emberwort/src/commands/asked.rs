//! The filters that arguments ask for, in front of any sink.

use emberwort_capture::{Around, Filtered, Matching, Only, Query};
use emberwort_model::Plan;

use crate::cli::AskedArgs;

/// A sink behind the filters. Conditions see all rows, since they may ask for those that came before.
pub type Asked<S> = Filtered<Matching, Around<Filtered<Only, S>>>;

/// A sink behind the filters that the arguments ask for.
pub fn asked<S>(args: &AskedArgs, plan: &Plan, sink: S) -> anyhow::Result<Asked<S>> {
    let query = |option: &str, text: &Option<String>| {
        let read = text.as_deref().map(|text| Query::new(text, plan)).transpose();
        read.map_err(|problem| anyhow::anyhow!("{option} cannot be read: {problem}"))
    };
    let only = Filtered::new(Only::new(&args.message, args.node), sink);
    let around = Around::new(query("--around", &args.around)?, (args.before, args.after), only);
    Ok(Filtered::new(Matching::new(query("--where", &args.condition)?, (args.since, args.until)), around))
}
