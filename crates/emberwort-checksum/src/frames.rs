//! What the framing of a channel can promise, in numbers: what damage costs, how often data looks like the start of a frame, and
//! which errors its checksum finds in the longest frame.

use emberwort_model::Plan;
use emberwort_model::algorithm::Algorithm;
use emberwort_model::budget::line_length;
use emberwort_model::budget::wire_time::Seconds;
use emberwort_model::plan::{Direction, FrameFinder, Part, Role, Zone};

use crate::strength::{distances, facts};

/// What one damaged frame costs besides itself, at most.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Damage {
    /// Nothing: the medium keeps frames apart, or a frame begins with bytes that occur nowhere else.
    Nothing,
    /// The frame behind it, which is taken for its end.
    Next,
    /// The frames up to the next status byte that is sent.
    Running,
    /// Time: the receiver waits for the end that a damaged length (or key) claims, and only then looks again.
    Wait {
        /// Bytes that it waits for at most behind the shortest frame.
        bytes: usize,
        /// How long they take at least on the medium, if they come without a pause.
        time: Seconds,
        /// How many of the shortest frames they could be: so many come late.
        frames: usize,
    },
}

/// What the checksum of a channel's frames finds.
#[derive(Clone, Debug, PartialEq)]
pub struct Found {
    /// What is covered in the longest frame.
    pub covered: Covered,
    /// The Hamming distance over it: of wrong bits, all fewer than that are found.
    pub distance: u32,
    /// Whether that is exact; else it is at least this.
    pub exact: bool,
    /// The share of frames with random content that pass.
    pub random_share: f64,
}

/// The widest checksum of a channel, and what it covers in the longest frame.
#[derive(Clone, Debug, PartialEq)]
pub struct Covered {
    /// The part.
    pub part: String,
    /// The algorithm.
    pub algorithm: Algorithm,
    /// Its name.
    pub name: String,
    /// Bytes that it covers.
    pub bytes: usize,
    /// Bytes of the whole frame, before anything is stuffed.
    pub frame: usize,
}

/// What a framing can promise.
#[derive(Clone, Debug, PartialEq)]
pub struct Guarantees {
    /// What one damaged frame costs besides itself.
    pub damage: Damage,
    /// The chance that the sync bytes stand in the longest frame behind its own, if its bytes were random; `None` where they
    /// cannot, or where there are none.
    pub false_start: Option<f64>,
    /// Whether receivers look for frames inside of one that nobody can read, as nothing says that it is a frame at all.
    pub looks_inside_unread: bool,
    /// What the checksum finds, if there is one.
    pub found: Option<Found>,
}

/// The widest checksum of a channel; of two equals the last.
pub fn covered(channel: &Direction) -> Option<Covered> {
    let sums = channel.parts.iter().filter_map(|part| match &part.role {
        Role::Checksum { algorithm, name, over, .. } => Some((part, algorithm, name, over)),
        _ => None,
    });
    let (part, algorithm, name, over) = sums.max_by_key(|(part, ..)| part.bits)?;
    let body_end = channel.head_bytes + channel.greatest_body;
    Some(Covered {
        part: part.name.clone(),
        algorithm: *algorithm,
        name: name.clone(),
        bytes: over.iter().map(|covered| covered.to.at(body_end) - covered.from.at(body_end)).sum(),
        frame: body_end + channel.tail_bytes,
    })
}

/// What the framing of a channel (of one end, where the two send different frames) can promise.
pub fn promises(plan: &Plan, channel: &Direction) -> Guarantees {
    let longest = channel.head_bytes + channel.greatest_body + channel.tail_bytes;
    let places = (longest + 1).saturating_sub(2 * channel.sync.len());
    let start_here = 256f64.powi(-(channel.sync.len() as i32));
    Guarantees {
        damage: damage(plan, channel),
        false_start: (channel.finder.runs_on() && !channel.sync.is_empty())
            .then(|| 1.0 - (1.0 - start_here).powi(places as i32)),
        looks_inside_unread: channel.looks_inside_unread(),
        found: covered(channel).map(found),
    }
}

fn damage(plan: &Plan, channel: &Direction) -> Damage {
    match channel.finder {
        FrameFinder::Packet | FrameFinder::Escaped(_) => Damage::Nothing,
        FrameFinder::Stuffed(_) | FrameFinder::Idle { .. } | FrameFinder::Lines { .. } => Damage::Next,
        FrameFinder::StatusBytes { running: true } => Damage::Running,
        FrameFinder::StatusBytes { running: false } => Damage::Nothing,
        // A receiver compares lengths that are said twice before it waits for what they say.
        FrameFinder::Sync if says_length_twice(channel) => Damage::Nothing,
        FrameFinder::Sync => {
            let bodies = channel.keys.iter().map(|(_, message)| {
                let message = &plan.messages[*message];
                if message.message.line.is_some() { line_length(message).0 } else { message.least_size() }
            });
            let shortest = channel.least_frame_size(bodies.min().unwrap_or(0));
            let bytes = claimed(channel).saturating_sub(shortest);
            match bytes {
                0 => Damage::Nothing,
                _ => Damage::Wait {
                    bytes,
                    time: channel.medium.kind.worst(bytes, false).time,
                    frames: bytes.div_ceil(shortest.max(1)),
                },
            }
        }
    }
}

fn says_length_twice(channel: &Direction) -> bool {
    let is_length = |part: usize| matches!(channel.parts[part].role, Role::Length { .. });
    channel
        .parts
        .iter()
        .any(|part| part.zone == Zone::Head && matches!(part.role, Role::Same { part: of, .. } if is_length(of)))
}

/// The longest frame that a length part, or a key, can claim, up to the limit.
fn claimed(channel: &Direction) -> usize {
    let around = channel.head_bytes + channel.tail_bytes;
    let greatest = |part: &Part| usize::try_from(u64::MAX >> (64 - u32::from(part.bits))).unwrap_or(usize::MAX);
    let by_length = channel.parts.iter().find_map(|part| match part.role {
        Role::Length { other_bytes, unit } => {
            Some(greatest(part).saturating_mul(unit).saturating_sub(other_bytes).saturating_add(around))
        }
        _ => None,
    });
    let by_key = || channel.body_sizes.iter().flatten().max().map_or(around, |size| around + size);
    by_length.unwrap_or_else(by_key).min(channel.limit)
}

fn found(covered: Covered) -> Found {
    let facts = facts(&covered.algorithm, covered.bytes);
    let (distance, exact) = match (&covered.algorithm, facts.distance) {
        (Algorithm::Crc(crc), _) => distances(crc, covered.bytes * 8).at(covered.bytes * 8),
        (_, Some((distance, _))) => (distance, true),
        (_, None) => (1, false),
    };
    Found { covered, distance, exact, random_share: facts.random_share }
}

#[cfg(test)]
mod tests {
    use super::*;
    use emberwort_model::budget::wire_time::nanoseconds;
    use emberwort_model::model::End;
    use emberwort_model::{Source, check};

    fn of(finding: &str, frame: &str) -> Guarantees {
        let text = format!(
            "link l {{ revision 1  byte_order little }}\nchannel c {{\n medium uart 9600 8N1\n {finding}\n limit 64 bytes\n frame {{ {frame} }}\n}}\n\
             message A {{ id 1  from host  on c\n a : u16 }}\nmessage B {{ id 2  from host  on c\n b : bytes[..19] }}"
        );
        let plan = check(&Source::new("l.ember", text)).plan.unwrap();
        promises(&plan, plan.channels[0].direction(End::Device))
    }

    #[test]
    fn worked_out_by_hand() {
        let sized = "sync C6 39\n kind : u8 message\n size : u8 length of body\n body\n check : u16 crc-16/ibm-3740 over kind..body";
        let promises = of("", sized);
        // Frames have 6 bytes around bodies of 1 (B without bytes) to 20: 7 to 26; a length claims up to the limit of 64.
        let Damage::Wait { bytes, time, frames } = promises.damage else { panic!("{promises:?}") };
        // 57 bytes of ten bits at 9600 baud are 59.375 ms; 57 / 7 is a little more than 8.
        assert_eq!((bytes, nanoseconds(time), frames), (57, 59_375_000, 9));
        // Two sync bytes can begin at 23 places behind the first two of 26.
        let expected = 1.0 - (1.0 - 1.0 / 65_536.0f64).powi(23);
        assert!((promises.false_start.unwrap() - expected).abs() < 1e-12);
        let found = promises.found.unwrap();
        assert_eq!((found.covered.bytes, found.covered.frame), (22, 26));
        // Koopman and Chakravarty (2004): this polynomial has distance 4 up to 32,751 bits of data.
        assert_eq!((found.distance, found.exact), (4, true));
        assert_eq!(found.random_share, 1.0 / 65_536.0);
    }

    #[test]
    fn each_way_to_find_frames() {
        let plain = "kind : u8 message\n body\n check : u8 xor8 over kind..body";
        let stuffed = of("stuffing cobs", plain);
        assert_eq!((stuffed.damage, stuffed.false_start), (Damage::Next, None));
        assert_eq!(stuffed.found.map(|found| (found.distance, found.exact)), Some((2, true)));
        assert_eq!(of("gap 2 ms", plain).damage, Damage::Next);
        let twice = "sync C6 39\n size : u8 length of body\n again : u8 same as size\n kind : u8 message\n body";
        assert_eq!(of("", twice).damage, Damage::Nothing);
        let escaped = "sync C6\n kind : u8 message\n size : u8 length of body\n body";
        let escaped = of("stuffing escape 7D xor 20 of 7D C6", escaped);
        let damage = Damage::Nothing;
        assert_eq!(escaped, Guarantees { damage, false_start: None, looks_inside_unread: true, found: None });
        assert!(!stuffed.looks_inside_unread);
    }
}
