//! What a difference does by itself, where several meet in one message. One can hide another: once fields have moved, nobody sees
//! any more that one of them has another unit. And one can be blamed for what another does: a frame that is not found, as the
//! stuffing changed, says nothing of the limit, which changed, too.

use std::collections::{BTreeMap, BTreeSet};

use crate::comparison::{Comparison, Judgement};
use crate::difference::{Difference, DifferenceKind};
use crate::outline::{Outline, StatementKind};
use crate::revision::Revision;
use crate::trying::tried;
use crate::verdict::{Pair, Verdict};

/// Differences that are looked at by themselves: more than anybody reads.
const MOST: usize = 16;

/// Raises the verdicts of differences that others hide to what they are by themselves.
pub(crate) fn uncover(old: &Revision, new: &Revision, comparison: &mut Comparison) {
    let hidden: Vec<usize> = (0..comparison.changes.len()).filter(|index| is_hidden(*index, comparison)).collect();
    let outlines = [Outline::of(&old.text), Outline::of(&new.text)];
    for index in hidden.into_iter().take(MOST) {
        let difference = &comparison.changes[index].difference;
        let Some(one) = with_one(old, &outlines, difference) else { continue };
        let name = difference.to_string();
        let found = tried(old, &one);
        let Some(own) = found.changes.iter().find(|change| change.difference.to_string() == name) else { continue };
        for pair in Pair::ALL {
            let (by_itself, judgement) =
                (own.judgement(pair), &mut comparison.changes[index].judgements[pair as usize]);
            if by_itself.verdict > judgement.verdict {
                *judgement = alone(by_itself);
            }
        }
    }
}

/// A judgement of one difference by itself: the bytes of its example belong to a revision that nobody has.
fn alone(judgement: &Judgement) -> Judgement {
    match judgement.verdict {
        Verdict::Fine => Judgement::default(),
        verdict => Judgement { verdict, sentence: format!("by itself, {}", judgement.sentence), example: None },
    }
}

/// Lowers the verdicts of differences that share their evidence with others to what they are by themselves, wherever one remains
/// that does the harm by itself.
pub(crate) fn lower_shared_verdicts(old: &Revision, new: &Revision, comparison: &mut Comparison) {
    let outlines = [Outline::of(&old.text), Outline::of(&new.text)];
    let groups: Vec<(Pair, Vec<usize>)> = Pair::ALL
        .into_iter()
        .flat_map(|pair| sharing(pair, comparison).into_iter().map(move |all| (pair, all)))
        .collect();
    let blamed: BTreeSet<usize> = groups.iter().flat_map(|(_, all)| all).copied().collect();
    let mut by_themselves: BTreeMap<usize, [Judgement; 4]> = BTreeMap::new();
    for index in blamed.into_iter().take(MOST) {
        let difference = &comparison.changes[index].difference;
        let Some(one) = with_one(old, &outlines, difference) else { continue };
        let found = tried(old, &one);
        // What the definition says may need another difference to be seen at all.
        let own = |pair: Pair| {
            let of = found.changes.iter().map(|change| change.judgement(pair));
            of.max_by_key(|judgement| judgement.verdict).cloned().unwrap_or_default()
        };
        by_themselves.insert(index, Pair::ALL.map(own));
    }
    for (pair, all) in groups {
        let verdict = comparison.changes[all[0]].judgement(pair).verdict;
        let by_itself = |index: &usize| by_themselves.get(index).map(|judgements| &judgements[pair as usize]);
        let is_guilty = |index: &usize| by_itself(index).is_none_or(|own| own.verdict >= verdict);
        if !all.iter().any(is_guilty) {
            continue;
        }
        for index in all.iter().filter(|index| !is_guilty(index)) {
            if let Some(own) = by_itself(index) {
                comparison.changes[*index].judgements[pair as usize] = alone(own);
            }
        }
    }
}

/// The differences that strand one pair of ends with the same message as evidence, where there are several.
fn sharing(pair: Pair, comparison: &Comparison) -> Vec<Vec<usize>> {
    let mut groups: BTreeMap<(&str, &[u8]), Vec<usize>> = BTreeMap::new();
    for (index, change) in comparison.changes.iter().enumerate() {
        let judgement = change.judgement(pair);
        if let Some(example) = judgement.example.as_ref().filter(|_| judgement.verdict.strands()) {
            groups.entry((&judgement.sentence, &example.wire)).or_default().push(index);
        }
    }
    groups.into_values().filter(|all| all.len() > 1).collect()
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

/// The statements around fields that a difference of this kind is about, and the keyword of the item in which they stand.
fn header(kind: DifferenceKind) -> Option<(&'static str, &'static [&'static str])> {
    use DifferenceKind::*;
    match kind {
        Medium => Some(("channel", &["medium"])),
        Limit => Some(("channel", &["limit"])),
        Framing | Checksum => Some(("channel", &["frame", "stuffing", "packet", "lines", "gap", "status"])),
        Selection => Some(("channel", &["select"])),
        Key => Some(("message", &["id", "on"])),
        Direction => Some(("message", &["from"])),
        Channels => Some(("message", &["on"])),
        Pattern => Some(("message", &["line"])),
        _ => None,
    }
}

/// The old revision with this difference alone.
fn with_one(old: &Revision, outlines: &[Outline; 2], difference: &Difference) -> Option<Revision> {
    let mut outline = outlines[0].clone();
    if let Some((keyword, words)) = header(difference.kind) {
        let new = outlines[1].find(keyword, &difference.place)?;
        let item = outline.items.iter_mut().find(|item| item.keyword == keyword && item.name == difference.place)?;
        let is = |statement: &crate::outline::Statement| {
            statement.kind == StatementKind::Header && words.contains(&statement.name.as_str())
        };
        item.statements.retain(|statement| !is(statement));
        item.statements.splice(0..0, new.statements.iter().filter(|statement| is(statement)).cloned());
        return Revision::of_outline(&old.name, &outline).ok();
    }
    let [before, now] = &difference.at;
    let place = now.as_ref().or(before.as_ref())?;
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
