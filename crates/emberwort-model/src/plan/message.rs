//! The plan of a message's body: sections, and in each a flat list of steps with their bit places.

use std::sync::Arc;

use crate::model::{ByteOrder, Field, Kind, Message};

/// The compiled form of a message's body.
#[derive(Clone, Debug)]
pub struct MessagePlan {
    /// What the message means. Slots of the steps are indices into its fields.
    pub message: Arc<Message>,
    /// The order of bytes and bits.
    pub byte_order: ByteOrder,
    /// The section of revision 1, then one for each later revision that added fields.
    pub sections: Vec<SectionPlan>,
}

impl MessagePlan {
    /// Compiles a message.
    pub fn new(message: Arc<Message>, byte_order: ByteOrder) -> Self {
        let sections =
            message.section_revisions().into_iter().map(|revision| SectionPlan::new(&message, revision)).collect();
        Self { message, byte_order, sections }
    }

    /// How many sections a sender of this revision writes.
    pub fn sections_of(&self, revision: u32) -> usize {
        self.sections.iter().take_while(|section| section.revision <= revision).count()
    }

    /// The fewest bytes of a body with all sections.
    pub fn least_size(&self) -> usize {
        self.sections.iter().map(|section| section.least_size).sum()
    }

    /// The most bytes of a body with all sections.
    pub fn greatest_size(&self) -> usize {
        self.sections.iter().map(|section| section.greatest_size).sum()
    }
}

/// The compiled form of one section.
#[derive(Clone, Debug)]
pub struct SectionPlan {
    /// The revision that added it; 1 for the first.
    pub revision: u32,
    /// Bytes of the presence bitmap at its start; 0 without optional fields.
    pub presence_bytes: usize,
    /// What to do, field after field.
    pub steps: Vec<Step>,
    /// The raw numbers at the section's start whose places are fixed, for reading them fast; `steps` has them too.
    pub lead: Vec<LeadField>,
    /// How many of the steps `lead` stands for, spare space included.
    pub lead_steps: usize,
    /// The bit behind them.
    pub lead_end: usize,
    /// Its fewest bytes.
    pub least_size: usize,
    /// Its most bytes. Equal to `least_size` if all places are fixed.
    pub greatest_size: usize,
    /// Whether its size, and with it every place, is always the same.
    pub fixed: bool,
}

/// A raw number at a fixed place, ready to be read with one load of eight bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LeadField {
    /// Index of the field in the message.
    pub slot: u32,
    /// The byte in which it begins, from the section's start.
    pub byte: u32,
    /// The first bit in that byte, in the order in which bits are filled.
    pub shift: u8,
    /// Width; `shift + width` is at most 64.
    pub width: u8,
    /// Whether it is in two's complement.
    pub signed: bool,
}

/// What to do for one field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Step {
    /// Index of the field in the message.
    pub slot: usize,
    /// Where it lies.
    pub place: Place,
    /// Its bit in the presence bitmap, if it is optional.
    pub presence: Option<u32>,
    /// What lies there.
    pub action: Action,
}

/// Where a field lies in its section.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// Always at this bit from the section's start, counted in the order in which bits are filled.
    Fixed(u32),
    /// Behind the field before it, whose place or size varies; from the next byte boundary on if `aligned`.
    Behind {
        /// Whether zero bits fill up the byte before.
        aligned: bool,
    },
}

/// What lies at a place.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Action {
    /// A raw number.
    Bits {
        /// Width, 1 to 64.
        width: u8,
        /// Whether it is in two's complement.
        signed: bool,
    },
    /// A count, then that many bytes.
    Counted {
        /// Most bytes.
        max: u32,
        /// Bytes of the count: 1 or 2.
        count_bytes: u8,
    },
    /// A fixed number of bytes.
    Bytes {
        /// How many.
        length: u32,
    },
    /// Space without a name.
    Skip {
        /// How many bits.
        bits: u32,
    },
}

impl Action {
    fn of(field: &Field) -> Self {
        match &field.kind {
            Kind::Text { max } => Action::Counted { max: *max, count_bytes: if *max < 256 { 1 } else { 2 } },
            Kind::Bytes { length } => Action::Bytes { length: *length },
            Kind::Spare { bits } => Action::Skip { bits: *bits },
            kind => Action::Bits { width: kind.raw_bits().unwrap_or(1), signed: kind.is_signed() },
        }
    }

    /// Fewest and most bits.
    pub fn bits(self) -> (u64, u64) {
        match self {
            Action::Bits { width, .. } => (u64::from(width), u64::from(width)),
            Action::Counted { max, count_bytes } => {
                (u64::from(count_bytes) * 8, (u64::from(count_bytes) + u64::from(max)) * 8)
            }
            Action::Bytes { length } => (u64::from(length) * 8, u64::from(length) * 8),
            Action::Skip { bits } => (u64::from(bits), u64::from(bits)),
        }
    }
}

/// Whether fields of this form start at a byte boundary (20-wire: counted items and floats do).
fn starts_at_byte(kind: &Kind) -> bool {
    matches!(kind, Kind::Float32 | Kind::Text { .. })
}

impl SectionPlan {
    fn new(message: &Message, revision: u32) -> Self {
        let in_section = |field: &&(usize, &Field)| field.1.since == revision;
        let all: Vec<(usize, &Field)> = message.fields.iter().enumerate().collect();
        let optional = all.iter().filter(in_section).filter(|(_, field)| field.optional).count();
        let presence_bytes = optional.div_ceil(8);

        let mut steps = Vec::new();
        let mut presence = 0;
        // Fewest and most bits so far; while they are equal, places are fixed.
        let (mut least, mut greatest) = (presence_bytes as u64 * 8, presence_bytes as u64 * 8);
        let mut fixed = true;
        for &(slot, field) in all.iter().filter(in_section) {
            let aligned = starts_at_byte(&field.kind);
            if aligned {
                greatest = greatest.next_multiple_of(8);
                // An absent field takes no space, and none is filled up in front of it.
                if !field.optional {
                    least = least.next_multiple_of(8);
                }
            }
            let action = Action::of(field);
            let place = if fixed { Place::Fixed(greatest as u32) } else { Place::Behind { aligned } };
            let (fewest, most) = action.bits();
            let presence_bit = field.optional.then(|| {
                presence += 1;
                presence - 1
            });
            if !field.optional {
                least += fewest;
            }
            greatest += most;
            fixed &= least == greatest;
            steps.push(Step { slot, place, presence: presence_bit, action });
        }
        let (lead, lead_steps) = lead_of(&steps);
        let lead_end = match steps[..lead_steps].last() {
            Some(&Step { place: Place::Fixed(bit), action, .. }) => bit as usize + action.bits().1 as usize,
            _ => presence_bytes * 8,
        };
        Self {
            revision,
            presence_bytes,
            steps,
            lead,
            lead_steps,
            lead_end,
            least_size: least.div_ceil(8) as usize,
            greatest_size: greatest.div_ceil(8) as usize,
            fixed,
        }
    }
}

/// The fields at a section's start that can be read with one load each, and how many steps they are.
fn lead_of(steps: &[Step]) -> (Vec<LeadField>, usize) {
    let mut lead = Vec::new();
    for (index, step) in steps.iter().enumerate() {
        match (step.place, step.action, step.presence) {
            (Place::Fixed(bit), Action::Bits { width, signed }, None) if bit % 8 + u32::from(width) <= 64 => {
                let (byte, shift) = (bit / 8, (bit % 8) as u8);
                lead.push(LeadField { slot: step.slot as u32, byte, shift, width, signed });
            }
            (Place::Fixed(_), Action::Skip { .. }, _) => {}
            _ => return (lead, index),
        }
    }
    (lead, steps.len())
}
