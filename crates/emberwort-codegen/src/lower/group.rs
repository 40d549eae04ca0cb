//! A message or a record: what its sections hold, field after field.

use emberwort_model::Plan;
use emberwort_model::model::{ByteOrder, Field, Length};
use emberwort_model::plan::{Action, MessagePlan, RecordPlan, SectionPlan};

/// A message or a record, as generators walk over it.
#[derive(Clone, Copy, Debug)]
pub struct Group<'a> {
    /// Its name in the definition.
    pub name: &'a str,
    /// Its documentation.
    pub doc: &'a str,
    /// Its fields; slots of the steps are indices into them.
    pub fields: &'a [Field],
    /// The section of revision 1, then one for each later revision that added fields.
    pub sections: &'a [SectionPlan],
    /// The link's order of bytes and bits.
    pub order: ByteOrder,
    /// Of a message: the number that selects it, if it has one.
    pub message: Option<Option<u64>>,
    /// Whether it travels as a line of text.
    pub is_line: bool,
    /// Most bytes, if no field reaches to the body's end.
    pub greatest: Option<usize>,
}

impl<'a> Group<'a> {
    /// Of a message.
    pub fn of_message(plan: &Plan, message: &'a MessagePlan) -> Self {
        let said = &message.message;
        Self {
            name: &said.name,
            doc: &said.doc,
            fields: &said.fields,
            sections: &message.sections,
            order: plan.link.byte_order,
            message: Some(said.id),
            is_line: said.line.is_some(),
            greatest: (!message.has_rest).then(|| message.greatest_size()),
        }
    }

    /// Of a record.
    pub fn of_record(plan: &Plan, record: &'a RecordPlan) -> Self {
        let said = &record.record;
        Self {
            name: &said.name,
            doc: &said.doc,
            fields: &said.fields,
            sections: &record.sections,
            order: plan.link.byte_order,
            message: None,
            is_line: false,
            greatest: Some(record.sizes(record.sections.len()).1),
        }
    }

    /// The fields that have values, with the index of their section and what lies there.
    pub fn named(&self) -> impl Iterator<Item = (usize, &'a Field, &'a Action)> + use<'a> {
        let Self { sections, fields, .. } = *self;
        sections
            .iter()
            .enumerate()
            .flat_map(|(index, section)| section.steps.iter().map(move |step| (index, step)))
            .map(move |(index, step)| (index, &fields[step.slot], &step.action))
            .filter(|(_, field, _)| !field.is_spare())
    }

    /// Whether a value in it reaches to the end of the body, so that bytes of a later revision become its.
    pub(crate) fn reaches_to_the_end(&self) -> bool {
        fn reaches(action: &Action) -> bool {
            match action {
                Action::Union(union) => union.forms.iter().any(|form| reaches(&form.action)),
                Action::List(list) => list.length == Length::Rest || reaches(&list.element.action),
                Action::Record(record) => {
                    record.sections.iter().flat_map(|section| &section.steps).any(|step| reaches(&step.action))
                }
                action => action.has_rest(),
            }
        }
        self.sections.iter().flat_map(|section| &section.steps).any(|step| reaches(&step.action))
    }
}
