//! Random definitions, and random edits of them.

use rand::Rng;
use rand::seq::{IndexedMutRandom, IndexedRandom, SliceRandom};
use rand_chacha::ChaCha8Rng;

/// A field: its name, and what stands behind the colon.
#[derive(Clone, Debug)]
struct Field(String, String);

#[derive(Clone, Debug)]
struct Message {
    name: String,
    id: u64,
    from: &'static str,
    on: Vec<&'static str>,
    line: Option<String>,
    sections: Vec<Vec<Field>>,
}

/// A definition that can be edited.
#[derive(Clone, Debug)]
pub struct Definition {
    revision: u32,
    order: &'static str,
    modes: Vec<(u64, String)>,
    signs: Vec<(u64, String)>,
    point: Vec<Field>,
    step: Vec<Vec<Field>>,
    settings: Vec<(u64, Field)>,
    finding: &'static str,
    parts: Vec<String>,
    limit: u32,
    baud: u32,
    messages: Vec<Message>,
    comment: String,
}

const FINDINGS: [&str; 6] = ["", "", "stuffing cobs", "stuffing slip", "stuffing hdlc", "gap 2 ms"];

fn number(random: &mut ChaCha8Rng) -> String {
    let bits = random.random_range(2..=40);
    let narrow = random.random_range(3..=16);
    let sign = if random.random() { "u" } else { "i" };
    let (low, count) = (random.random_range(-90..90i64), random.random_range(1..500i64));
    match random.random_range(0..6) {
        0 | 1 => format!("{sign}{bits}"),
        2 => format!("{sign}{narrow} * 0.{} V", random.random_range(1..99)),
        3 => format!("{low} .. {} m step 1", low + count),
        4 => format!("{low} .. {} m step 0.5", low + count),
        _ => format!("{low} .. {} bar in {narrow} bits", low + count),
    }
}

fn form(random: &mut ChaCha8Rng) -> String {
    let optional = *["", "", "", " optional"].choose(random).unwrap();
    let none = *["", "", " or none"].choose(random).unwrap();
    let size = random.random_range(1..7);
    match random.random_range(0..16) {
        0..6 => number(random) + none + optional,
        6 => "bool".into(),
        7 => "Mode".to_owned() + none,
        8 => "Signs".into(),
        9 => ["f32", "f16"].choose(random).unwrap().to_string() + optional,
        10 => format!("compact {}{}", ["u", "i"].choose(random).unwrap(), random.random_range(4..=40)),
        11 => format!("{}[..{size}]", ["text", "ascii", "bytes"].choose(random).unwrap()) + optional,
        12 => format!("{}[{size}]", ["text", "bytes"].choose(random).unwrap()),
        13 => "Point".into(),
        14 => format!("[..{size}] {}", ["Step", "Point", "u4", "Mode"].choose(random).unwrap()),
        _ => "u8 * 0.1 V = 1.2".into(),
    }
}

fn fields(random: &mut ChaCha8Rng, prefix: &str, most: usize) -> Vec<Field> {
    (0..random.random_range(1..=most)).map(|n| Field(format!("{prefix}{n}"), form(random))).collect()
}

impl Definition {
    /// Any definition; not each is without errors.
    pub fn random(random: &mut ChaCha8Rng) -> Self {
        let finding = *FINDINGS.choose(random).unwrap();
        let mut parts = vec!["node : u8 address".to_owned(), "count : u8 sequence".to_owned()];
        parts.truncate(random.random_range(0..3));
        parts.push("kind : u8 message".into());
        if finding.is_empty() || random.random_bool(0.3) {
            parts.push("size : u8 length of body".into());
        }
        parts.shuffle(random);
        parts.push("body".into());
        if random.random_bool(0.8) {
            let first = parts[0].split(' ').next().unwrap().to_owned();
            let check = ["u16 crc-16/ibm-3740", "u8 sum8", "u32 crc-32/iso-hdlc", "u8 xor8"].choose(random).unwrap();
            parts.push(format!("check : {check} over {first}..body"));
        }
        let mut messages: Vec<Message> = (0..3)
            .map(|n| Message {
                name: format!("M{n}"),
                id: n,
                from: ["device", "host"].choose(random).unwrap(),
                on: vec!["wire"],
                line: None,
                sections: (0..random.random_range(1..4)).map(|s| fields(random, &format!("f{s}"), 5)).collect(),
            })
            .collect();
        if random.random_bool(0.3) {
            messages[0].sections[0].push(Field("setting".into(), "key of Settings".into()));
            messages[0].sections[0].push(Field("value".into(), "value of Settings by setting".into()));
        }
        messages.push(Message {
            name: "Say".into(),
            id: 0,
            from: "device",
            on: vec!["console"],
            line: Some("S{a},{b}".into()),
            sections: vec![vec![Field("a".into(), "u8".into()), Field("b".into(), "0 .. 90 m step 0.5".into())]],
        });
        let label = |n: u64, name: &str| (n, name.to_owned());
        Self {
            revision: 5,
            order: ["little", "big"].choose(random).unwrap(),
            modes: vec![label(0, "off"), label(1, "slow"), label(3, "fast"), label(9, "boost")],
            signs: vec![label(0, "hot"), label(2, "cold"), label(5, "wet")],
            point: vec![Field("x".into(), "i12".into()), Field("y".into(), "u7 * 0.5 m or none".into())],
            step: vec![
                vec![Field("at".into(), "u9".into()), Field("force".into(), "i16 * 0.25 kN".into())],
                vec![Field("hot".into(), "bool".into())],
            ],
            settings: vec![
                (1, Field("ramp".into(), "0 .. 45 s step 0.25".into())),
                (2, Field("current".into(), "i16 * 0.025 A".into())),
                (7, Field("name".into(), "text[..5]".into())),
            ],
            finding,
            parts,
            limit: 250,
            baud: 9600,
            messages,
            comment: String::new(),
        }
    }

    /// As it is written.
    pub fn text(&self) -> String {
        let body =
            |fields: &[Field]| fields.iter().map(|Field(name, form)| format!(" {name} : {form}\n")).collect::<String>();
        let labels =
            |labels: &[(u64, String)]| labels.iter().map(|(n, name)| format!(" {n} {name}\n")).collect::<String>();
        let sections = |sections: &[Vec<Field>]| {
            let added = sections.iter().enumerate().filter(|(_, fields)| !fields.is_empty());
            let text = |(n, fields): (usize, &Vec<Field>)| match n {
                0 => body(fields),
                _ => format!(" added in {} {{\n{} }}\n", n + 1, body(fields)),
            };
            added.map(text).collect::<String>()
        };
        let mut text = format!(
            "{}link l {{ revision {}  byte_order {} }}\nenum Mode : u4 {{\n{}}}\nflags Signs : u6 {{\n{}}}\nrecord Point {{\n{}}}\n",
            self.comment,
            self.revision,
            self.order,
            labels(&self.modes),
            labels(&self.signs),
            body(&self.point),
        );
        text += &format!("record Step growing {{\n{}}}\ntable Settings : u8 {{\n", sections(&self.step));
        for (key, Field(name, form)) in &self.settings {
            text += &format!(" {key} {name} : {form} read write\n");
        }
        let sync = if self.finding.is_empty() { "sync C6 39\n" } else { "" };
        text += &format!(
            "}}\nchannel wire {{ medium uart {} 8N1\n{}\nlimit {} bytes\nframe {{\n{sync}{}\n}} }}\n",
            self.baud,
            self.finding,
            self.limit,
            self.parts.join("\n"),
        );
        text += "channel console { medium uart 9600 8N1\n lines lf\n }\n";
        for message in &self.messages {
            let key = match &message.line {
                Some(line) => format!("line \"{line}\""),
                None => format!("id {}", message.id),
            };
            text += &format!(
                "message {} {{\n{key}\nfrom {}\non {}\n{}}}\n",
                message.name,
                message.from,
                message.on.join(", "),
                sections(&message.sections)
            );
        }
        text
    }

    /// Changes one thing; returns what.
    pub fn edit(&mut self, random: &mut ChaCha8Rng) -> &'static str {
        let fresh = format!("n{}", random.random_range(0..1000));
        let kind = random.random_range(0..34);
        let message = self.messages.choose_mut(random).unwrap();
        match kind {
            0..3 => edit_fields(message.sections.choose_mut(random).unwrap(), random, fresh),
            3 => edit_fields(&mut self.point, random, fresh),
            4 => edit_fields(self.step.choose_mut(random).unwrap(), random, fresh),
            5 => {
                message.sections.resize(self.revision as usize, Vec::new());
                message.sections.push(vec![Field(fresh, form(random))]);
                self.revision += 1;
                "field added in a section"
            }
            6 => edit_labels(&mut self.modes, random, fresh, 16),
            7 => edit_labels(&mut self.signs, random, fresh, 6),
            8 => {
                message.id = random.random_range(0..8);
                "id"
            }
            9 => {
                let ids: Vec<u64> = self.messages.iter().map(|message| message.id).collect();
                (self.messages[0].id, self.messages[1].id) = (ids[1], ids[0]);
                "ids swapped"
            }
            10 => {
                let at = random.random_range(0..self.messages.len());
                self.messages.remove(at);
                "message removed"
            }
            11 => {
                let mut other = message.clone();
                (other.name, other.id) = ("Fresh".into(), random.random_range(0..8));
                if let Some(line) = &mut other.line {
                    line.insert(0, 'X');
                }
                self.messages.push(other);
                "message added"
            }
            12 => {
                message.name = "Renamed".into();
                "message renamed"
            }
            13 => {
                message.from = if message.from == "device" { "host" } else { "device" };
                "direction"
            }
            14 => {
                let at = random.random_range(0..self.settings.len());
                self.settings[at].0 = random.random_range(0..12);
                "entry renumbered"
            }
            15 => {
                let mut entries: Vec<Field> = self.settings.iter().map(|(_, field)| field.clone()).collect();
                let what = edit_fields(&mut entries, random, fresh);
                self.settings = entries.into_iter().zip([1, 2, 7, 9, 11]).map(|(field, key)| (key, field)).collect();
                what
            }
            16 => {
                self.order = if self.order == "big" { "little" } else { "big" };
                "byte order"
            }
            17 => {
                self.finding = FINDINGS.choose(random).unwrap();
                "framing"
            }
            18 => {
                self.parts.swap(0, 1);
                "parts swapped"
            }
            19 => {
                self.parts.remove(random.random_range(0..self.parts.len()));
                "part removed"
            }
            20 => {
                self.parts.insert(
                    0,
                    ["rev : u8 revision", "mark : u8 = 5", "extra : u8 sequence"].choose(random).unwrap().to_string(),
                );
                "part added"
            }
            21 => {
                let checks = ["crc-16/ibm-3740", "crc-16/arc", "sum16", "internet"];
                let check = format!("check : u16 {} over body", checks.choose(random).unwrap());
                self.parts.retain(|part| !part.starts_with("check"));
                self.parts.push(check);
                "checksum"
            }
            22 => {
                self.limit = random.random_range(40..300);
                "limit"
            }
            23 => {
                self.baud = *[9600, 19200].choose(random).unwrap();
                "medium"
            }
            24 => {
                if let Some(line) = &mut message.line {
                    *line = ["S{a};{b}", "S{b},{a}", "T{a},{b}", "S{a:hex2},{b}", "S{a},{b:fixed 1}"]
                        .choose(random)
                        .unwrap()
                        .to_string();
                }
                "pattern"
            }
            25 => {
                self.comment = "# Another word.\n\n## And the link's own.\n".into();
                "comment"
            }
            26 => {
                self.messages.shuffle(random);
                "messages in another order"
            }
            _ => {
                let section = message.sections.choose_mut(random).unwrap();
                let Some(Field(_, form)) = section.choose_mut(random) else { return "nothing" };
                tweak(form, random)
            }
        }
    }
}

fn edit_fields(fields: &mut Vec<Field>, random: &mut ChaCha8Rng, fresh: String) -> &'static str {
    if fields.is_empty() {
        return "nothing";
    }
    let at = random.random_range(0..fields.len());
    match random.random_range(0..7) {
        0 => {
            fields.insert(random.random_range(0..=fields.len()), Field(fresh, form(random)));
            "field inserted"
        }
        1 => {
            fields.remove(at);
            "field removed"
        }
        2 => {
            fields.swap(at, 0);
            "fields swapped"
        }
        3 => {
            fields[at].1 = form(random);
            "type"
        }
        4 => {
            fields[at].0 = fresh;
            "field renamed"
        }
        5 => {
            fields[at].1 += " retired";
            "field retired"
        }
        _ => {
            fields.insert(at, Field("s".into(), "u8 retired".into()));
            "room made"
        }
    }
}

fn edit_labels(labels: &mut Vec<(u64, String)>, random: &mut ChaCha8Rng, fresh: String, most: u64) -> &'static str {
    let at = random.random_range(0..labels.len());
    match random.random_range(0..5) {
        0 => {
            labels.push((random.random_range(0..most), fresh));
            "label added"
        }
        1 => {
            labels.remove(at);
            "label removed"
        }
        2 => {
            labels[at].0 = random.random_range(0..most);
            "label renumbered"
        }
        3 => {
            labels[at].1 = fresh;
            "label renamed"
        }
        _ => {
            let code = labels[0].0;
            labels[0].0 = labels[at].0;
            labels[at].0 = code;
            "labels swapped"
        }
    }
}

/// A small change of a type.
fn tweak(form: &mut String, random: &mut ChaCha8Rng) -> &'static str {
    let (from, to, what) = *[
        (" or none", "", "none removed"),
        (" optional", "", "optional removed"),
        (" m ", " ft ", "unit"),
        (" V", " mV", "unit"),
        (" bar", " psi", "unit"),
        ("u", "i", "sign"),
        ("step 1", "step 0.5", "step"),
        ("step 0.5", "step 0.25", "step"),
        (" * 0.", " * 0.5", "scale"),
        ("= 1.2", "= 1.3", "default"),
        ("..", "..1", "length or range"),
        ("text", "bytes", "text"),
        ("ascii", "text", "text"),
        ("u1", "u2", "width"),
        ("1 bits", "2 bits", "width"),
    ]
    .choose(random)
    .unwrap();
    if form.contains(from) {
        *form = form.replacen(from, to, 1);
        return what;
    }
    if random.random() && !form.contains("none") && !form.contains("optional") {
        *form += " or none";
        return "none added";
    }
    "nothing"
}
