//! How far a body reaches, told from as few of its bytes as possible: the usual case of [`check`](super::check), which says the same
//! of all bodies, and why one cannot be decoded.

use emberwort_model::model::{ByteOrder, Length};
use emberwort_model::plan::{Action, ElementSizes, MessagePlan, Place, SectionPlan, Step, count_bytes};

use super::Extent;
use crate::bits;

/// What has to be looked at to say how far a message's body reaches.
#[derive(Clone, Debug)]
pub struct Measure {
    order: ByteOrder,
    /// Bytes of a body with all sections and nothing that can be absent, and the presence bits of that in the first byte; where all
    /// else has one size.
    usual: Option<(usize, u8)>,
    sections: Vec<SectionMeasure>,
}

#[derive(Clone, Debug)]
struct SectionMeasure {
    /// Its fewest bytes, which are all of them if no steps follow.
    least: usize,
    /// The bits of what always has the same size.
    fixed_bits: usize,
    /// Of the first byte, the presence bits of all that varies; 0 if something varies that cannot be absent, or has its bit elsewhere.
    present: u8,
    /// What varies.
    steps: Vec<StepMeasure>,
    /// Bytes of this section and those behind it, if all of them have one size; else 0.
    all_behind: usize,
}

#[derive(Clone, Copy, Debug)]
struct StepMeasure {
    /// Its bit in the presence bitmap, if it can be absent.
    presence: Option<u32>,
    /// Its bit in the section, if that is always the same.
    at: Option<u32>,
    /// Whether zero bits fill up the byte before.
    aligned: bool,
    size: Size,
}

#[derive(Clone, Copy, Debug)]
enum Size {
    Bits(usize),
    /// A count of so many bits, up to a maximum, and so many bits for each.
    Counted {
        count_bits: u8,
        max: u32,
        each: usize,
    },
}

impl Measure {
    /// That of a message; `None` if the sizes in its body depend on more than counts and presence bits.
    pub fn of(plan: &MessagePlan) -> Option<Self> {
        let mut sections = plan.sections.iter().map(SectionMeasure::of).collect::<Option<Vec<_>>>()?;
        let mut behind = 0;
        for section in sections.iter_mut().rev().take_while(|section| section.steps.is_empty()) {
            behind += section.least;
            section.all_behind = behind;
        }
        let usual = match sections.as_slice() {
            [first, others @ ..] if others.iter().all(|section| section.steps.is_empty()) => {
                let behind: usize = others.iter().map(|section| section.least).sum();
                match first.steps.is_empty() {
                    true => Some((first.least + behind, 0)),
                    false if first.present != 0 => Some((first.fixed_bits.div_ceil(8) + behind, first.present)),
                    false => None,
                }
            }
            _ => None,
        };
        Some(Self { order: plan.byte_order, usual, sections })
    }

    /// How far a body reaches; `None` if it cannot be decoded.
    #[inline]
    pub fn extent(&self, body: &[u8]) -> Option<Extent> {
        if let Some((size, present)) = self.usual
            && body.len() == size
            && body.first().is_none_or(|first| first & present == 0)
            && self.sections.last().is_none_or(|last| last.least > 0)
        {
            return Some(Extent { sections: self.sections.len(), later_bytes: 0 });
        }
        self.extent_by_sections(body)
    }

    #[inline(never)]
    fn extent_by_sections(&self, body: &[u8]) -> Option<Extent> {
        let mut at = 0;
        for (index, section) in self.sections.iter().enumerate() {
            if index > 0 && at == body.len() {
                return Some(Extent { sections: index, later_bytes: 0 });
            }
            if body.len() - at < section.least {
                return None;
            }
            if section.all_behind > 0 && body.len() - at == section.all_behind {
                return Some(Extent { sections: self.sections.len(), later_bytes: 0 });
            }
            at += if section.steps.is_empty() {
                section.least
            } else if section.present != 0 && section.present & body[at] == 0 {
                section.fixed_bits.div_ceil(8)
            } else {
                self.varying(section, body, at)?
            };
        }
        Some(Extent { sections: self.sections.len(), later_bytes: body.len() - at })
    }

    /// Bytes of a section that begins at a byte of the body, which holds its fewest bytes.
    fn varying(&self, section: &SectionMeasure, body: &[u8], start: usize) -> Option<usize> {
        let end = body.len() * 8;
        let mut bit = start * 8 + section.fixed_bits;
        for step in &section.steps {
            if let Some(presence) = step.presence
                && body[start + presence as usize / 8] >> (presence % 8) & 1 == 0
            {
                continue;
            }
            if let Some(at) = step.at {
                bit = start * 8 + at as usize;
            } else if step.aligned {
                bit = bit.next_multiple_of(8);
            }
            bit += match step.size {
                Size::Bits(bits) => bits,
                Size::Counted { count_bits, max, each } => {
                    if bit + usize::from(count_bits) > end {
                        return None;
                    }
                    let count = bits::read(body, bit, count_bits, self.order);
                    if count > u64::from(max) {
                        return None;
                    }
                    usize::from(count_bits) + count as usize * each
                }
            };
            if bit > end {
                return None;
            }
        }
        let size = bit.div_ceil(8).max(start + section.fixed_bits.div_ceil(8));
        (size <= body.len()).then_some(size - start)
    }
}

impl SectionMeasure {
    fn of(section: &SectionPlan) -> Option<Self> {
        let steps = if section.fixed { &[] } else { &section.steps[section.fixed_steps..] };
        let in_first_byte = |step: &Step| step.presence.filter(|bit| *bit < 8).map(|bit| 1u8 << bit);
        Some(Self {
            least: section.least_size,
            fixed_bits: section.fixed_end,
            present: steps.iter().map(in_first_byte).try_fold(0, |all, bit| Some(all | bit?)).unwrap_or(0),
            steps: steps.iter().map(StepMeasure::of).collect::<Option<_>>()?,
            all_behind: 0,
        })
    }
}

impl StepMeasure {
    fn of(step: &Step) -> Option<Self> {
        let counted = |max: u32, each: usize| Size::Counted { count_bits: count_bytes(max) * 8, max, each };
        let size = match &step.action {
            Action::Bits { width, .. } => Size::Bits(usize::from(*width)),
            Action::Skip { bits } => Size::Bits(*bits as usize),
            Action::Run { length: Length::Exact(count), .. } => Size::Bits(*count as usize * 8),
            Action::Run { length: Length::UpTo(max), .. } => counted(*max, 8),
            Action::List(list) => match (&list.element.action, list.length, list.sizes) {
                (Action::Bits { width, .. }, length, ElementSizes::None)
                    if !list.element.aligned || width.is_multiple_of(8) =>
                {
                    match length {
                        Length::UpTo(max) if !list.element.aligned || step_is_aligned(step) => {
                            counted(max, usize::from(*width))
                        }
                        Length::Exact(count) if !list.element.aligned => {
                            Size::Bits(count as usize * usize::from(*width))
                        }
                        _ => return None,
                    }
                }
                _ => return None,
            },
            Action::Run { length: Length::Rest, .. } | Action::Varint { .. } | Action::Record(_) | Action::Union(_) => {
                return None;
            }
        };
        let (at, aligned) = match step.place {
            Place::Fixed(at) => (Some(at), false),
            Place::Behind { aligned } => (None, aligned),
        };
        Some(Self { presence: step.presence, at, aligned, size })
    }
}

/// Whether what a step holds always begins at a byte boundary.
fn step_is_aligned(step: &Step) -> bool {
    match step.place {
        Place::Fixed(at) => at % 8 == 0,
        Place::Behind { aligned } => aligned,
    }
}
