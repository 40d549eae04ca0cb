//! Where a name of a definition is declared.

use crate::source::{Sources, Span};
use crate::syntax::ast::{Name, SectionItem};
use crate::syntax::parse;

/// The place at which an item (the first of these names), or what stands in it (the second: a field, a label, an entry, a frame
/// part), is declared. `None` if there is no such item.
pub fn named_place(sources: &Sources, path: &[String]) -> Option<Span> {
    let (item, inner) = (path.first()?, path.get(1));
    sources.with_bases().find_map(|(base, source)| {
        let file = parse(&source.text, base).file;
        let of_sections = |sections: &[SectionItem]| -> Vec<Name> {
            sections.iter().flat_map(|section| &section.fields).filter_map(|field| field.name.clone()).collect()
        };
        let mut items: Vec<(Name, Vec<Name>)> = Vec::new();
        items.extend(file.messages.iter().map(|item| (item.name.clone(), of_sections(&item.sections))));
        items.extend(file.records.iter().map(|item| (item.name.clone(), of_sections(&item.sections))));
        let labels =
            |item: &crate::syntax::ast::LabelledItem| item.labels.iter().map(|label| label.name.clone()).collect();
        items.extend(file.labelled.iter().map(|item| (item.name.clone(), labels(item))));
        items.extend(file.tables.iter().map(|item| {
            let entries = item.entries.iter().filter_map(|entry| entry.field.name.clone());
            (item.name.clone(), entries.collect())
        }));
        items.extend(file.channels.iter().map(|item| (item.name.clone(), Vec::new())));
        items.extend(file.links.iter().map(|item| (item.name.clone(), Vec::new())));
        let (name, names) = items.into_iter().find(|(name, _)| name.text == *item)?;
        let found = inner.and_then(|inner| names.into_iter().find(|name| name.text == *inner));
        Some(found.unwrap_or(name).span)
    })
}
