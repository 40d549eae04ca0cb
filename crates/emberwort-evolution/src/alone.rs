//! What a difference would do by itself, where another one in the same message hides it: once fields have moved, nobody sees any
//! more that one of them has another unit.

use crate::compare::{Comparison, Judgement, Revision, tried};
use crate::difference::{Difference, DifferenceKind};
use crate::outline::{Outline, StatementKind};
use crate::verdict::Pair;

/// Differences that are looked at by themselves: more than anybody reads.
const MOST: usize = 16;

/// Raises the verdicts of differences that others hide to what they are by themselves.
pub(crate) fn uncover(old: &Revision, new: &Revision, comparison: &mut Comparison) {
    let hidden: Vec<usize> = (0..comparison.changes.len()).filter(|index| is_hidden(*index, comparison)).collect();
    let outlines = [Outline::of(&old.text), Outline::of(&new.text)];
    for index in hidden.into_iter().take(MOST) {
        let difference = &comparison.changes[index].difference;
        let Some(alone) = with_one(old, &outlines, difference) else { continue };
        let name = difference.to_string();
        let found = tried(old, &alone);
        let Some(own) = found.changes.iter().find(|change| change.difference.to_string() == name) else { continue };
        for pair in Pair::ALL {
            let (by_itself, judgement) =
                (own.judgement(pair), &mut comparison.changes[index].judgements[pair as usize]);
            if by_itself.verdict > judgement.verdict {
                let sentence = format!("by itself, {}", by_itself.sentence);
                *judgement = Judgement { verdict: by_itself.verdict, sentence, example: None };
            }
        }
    }
}

/// Whether a difference is about what values mean, and another one moves or refuses them.
fn is_hidden(index: usize, comparison: &Comparison) -> bool {
    use DifferenceKind::*;
    let own = &comparison.changes[index].difference;
    if !matches!(own.kind, Range | Step | Offset | Unit | NoReading | LabelAdded | LabelRemoved | LabelRenumbered) {
        return false;
    }
    comparison.changes.iter().enumerate().any(|(other, change)| {
        let touches = &change.difference.touches;
        other != index
            && change.worst().strands()
            && change.difference.kind.moves_bytes()
            && own.touches.iter().zip(touches).any(|(own, touches)| !own.is_disjoint(touches))
    })
}

/// The old revision with this difference alone.
fn with_one(old: &Revision, outlines: &[Outline; 2], difference: &Difference) -> Option<Revision> {
    let [before, now] = &difference.at;
    let place = now.as_ref().or(before.as_ref())?;
    let mut outline = outlines[0].clone();
    let new = outlines[1].items.iter().find(|item| item.name == place.owner)?;
    let item = outline.items.iter_mut().find(|item| item.name == before.as_ref().unwrap_or(place).owner)?;
    if ["enum", "flags"].contains(&item.keyword.as_str()) {
        *item = new.clone();
    } else {
        let is = |name: &str| {
            let name = name.to_owned();
            move |statement: &crate::outline::Statement| {
                statement.kind == StatementKind::Field && statement.name == name
            }
        };
        let statement = new.statements.iter().find(|statement| is(&place.field)(statement))?;
        let own =
            item.statements.iter_mut().find(|statement| is(&before.as_ref().unwrap_or(place).field)(statement))?;
        own.lines.clone_from(&statement.lines);
    }
    Revision::of_outline(&old.name, &outline).ok()
}
