//! One revision of a link, with its text.

use std::sync::Arc;

use emberwort_model::{Plan, Source, check};

use crate::fold::folded;
use crate::outline::{Outline, StatementKind};

/// One revision of a link.
#[derive(Clone, Debug)]
pub struct Revision {
    /// What it is called: `revision 3`, `revision 4 (working)`.
    pub name: String,
    /// What it means.
    pub plan: Arc<Plan>,
    /// All of its text in one, in canonical style.
    pub text: String,
}

impl Revision {
    /// This revision with another type of a field: `GateStatus.oil 0 .. 400 bar in 12 bits`.
    ///
    /// # Errors
    /// Why there is no such revision.
    pub fn what_if(&self, change: &str) -> Result<Self, String> {
        let wanted = "say which field becomes what: `GateStatus.oil 0 .. 400 bar in 12 bits`";
        let (subject, ty) = change.trim().split_once(' ').ok_or(wanted)?;
        let (owner, field) = subject.split_once('.').ok_or(wanted)?;
        let mut outline = Outline::of(&self.text);
        let item = outline.items.iter_mut().find(|item| item.name == owner);
        let item = item.ok_or_else(|| format!("there is no `{owner}`"))?;
        let found = item.statements.iter_mut().find(|s| s.kind == StatementKind::Field && s.name == field);
        let statement = found.ok_or_else(|| format!("`{owner}` has no field `{field}`"))?;
        let key = statement.text().split(field).next().unwrap_or_default().to_owned();
        statement.lines = vec![format!("{key}{field} : {ty}")];
        Self::of_outline(&format!("{}, with {change}", self.name), &outline)
    }

    /// What an outline says.
    pub(crate) fn of_outline(name: &str, outline: &Outline) -> Result<Self, String> {
        let text: String = outline.items.iter().map(|item| item.text() + "\n").collect();
        let checked = check(&Source::new("what if", text));
        let first = checked.findings.iter().find(|finding| finding.is_error());
        let why = first.map_or_else(String::new, |finding| format!("{}; {}", finding.message, finding.help));
        let text = folded(&checked.sources).map_err(|found| found[0].message.clone())?;
        Ok(Self { name: name.to_owned(), plan: Arc::new(checked.plan.ok_or(why)?), text })
    }
}
