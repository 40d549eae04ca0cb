//! Random definitions: every type of field, in both byte orders, with records that grow, unions, tables, and explicit places.

use rand::{Rng, SeedableRng};
use rand_chacha::ChaCha8Rng;

/// A random number's type, without anything behind it.
fn number(random: &mut ChaCha8Rng) -> String {
    let bits = random.random_range(2..=64);
    let narrow = random.random_range(2..=30);
    let sign = if random.random() { "u" } else { "i" };
    let (low, count) = (random.random_range(-90..90i64), random.random_range(1..5000i64));
    match random.random_range(0..7) {
        0 | 1 => format!("{sign}{bits}"),
        2 => format!("{sign}{narrow} * 0.{} V", random.random_range(1..99)),
        3 => format!("{sign}{narrow} * -{}.5 + {low}.25", random.random_range(0..40)),
        4 => format!("{low} .. {} m step 1", low + count),
        5 => format!("{low} .. {}.{:02} m step 0.01", low + count, random.random_range(0..100)).replace("-0.", "0."),
        _ => format!("{low} .. {} bar in {narrow} bits", low + count),
    }
}

/// A type that can stand in lists and forms.
fn element(random: &mut ChaCha8Rng, depth: usize) -> String {
    let size = [1, 3, 5][random.random_range(0..3)];
    match random.random_range(0..13) {
        0..4 => number(random) + ["", " or none"][random.random_range(0..2)],
        4 => ["bool", "Mode", "Signs", "f16", "f32", "f64", "time s", "time ms"][random.random_range(0..8)].to_owned(),
        5 => format!("compact {}{}", ["u", "i"][random.random_range(0..2)], random.random_range(2..=64)),
        6 => format!("{}[..{size}]", ["text", "ascii", "bytes"][random.random_range(0..3)]),
        7 => format!("{}[{size}]", ["text", "ascii", "bytes"][random.random_range(0..3)]),
        8 => "Point".to_owned(),
        9 => ["u16 be", "u32 le", "i16 be", "f32 le", "f64 be"][random.random_range(0..5)].to_owned(),
        _ if depth == 0 => "u5".to_owned(),
        _ => format!("[{}{}] {}", ["..", ""][random.random_range(0..2)], size, element(random, depth - 1)),
    }
}

/// A random type of a field, and what stands behind it.
fn field(random: &mut ChaCha8Rng) -> String {
    let optional = ["", "", " optional"][random.random_range(0..3)];
    match random.random_range(0..24) {
        0..8 => number(random) + ["", "", " or none", " optional", " or none optional"][random.random_range(0..5)],
        8 | 9 => {
            ["bool", "f32", "Mode", "Signs", "f32 optional", "Mode optional"][random.random_range(0..6)].to_owned()
        }
        10 => format!("text[..{}]", [3, 40, 255, 256, 300][random.random_range(0..5)]),
        11 => format!("bytes[{}]", random.random_range(1..9)),
        12 => format!("spare {} bits", random.random_range(1..20)),
        13 => format!("[..{}] Step{optional}", random.random_range(1..6)),
        14 => format!("[{}] Note", random.random_range(1..4)),
        15 => format!("exactly {} : u8", random.random_range(0..200)),
        16 => "u12 retired".to_owned(),
        17 => "u16 counter".to_owned(),
        _ => {
            // Fields of whole bytes need a boundary in front of them for an order of their own.
            let mut ty = element(random, 2);
            if ty.ends_with("be") || ty.ends_with("le") {
                ty.truncate(ty.len() - 3);
            }
            ty.replace(" be", "").replace(" le", "") + optional
        }
    }
}

/// The fields of one section, by random.
fn section(random: &mut ChaCha8Rng, prefix: &str, text: &mut String) {
    for index in 0..random.random_range(1..9) {
        let field = field(random);
        if field.starts_with("spare") {
            *text += &format!("{field}\n");
        } else {
            *text += &format!("{prefix}{index} : {field}\n");
        }
    }
}

/// A link with so many messages of random fields.
pub fn definition(seed: u64, big: bool, messages: usize) -> String {
    let mut random = ChaCha8Rng::seed_from_u64(seed);
    let order = if big { "big" } else { "little" };
    let mut text = format!(
        "link random {{ revision 3  byte_order {order} }}
         enum Mode : u5 {{ 0 off  3 on  30 boost }}
         flags Signs : u12 {{ 0 a  11 l }}
         record Point {{\n x : i12\n y : u7 * 0.5 m or none\n name : text[..4] optional\n }}
         record Step growing {{\n at : u9\n force : i16 * 0.25\n added in 2 {{\n hot : bool\n heat : f32 optional\n }}\n \
         added in 3 {{\n more : [2] u3\n }}\n }}
         record Note growing {{\n day : u8\n added in 3 {{\n points : [..2] Point\n }}\n }}
         table Settings : u16 {{\n 1 ramp : 0 .. 45 s step 0.25 read write\n 0x140 current : i16 * 0.025 A\n 7 name : text[..9]\n \
         9 spots : [..3] Point\n }}
         channel c {{\n medium uart 9600 8N1\n limit 2500 bytes\n frame {{\n sync A5 5A\n kind : u8 message\n size : u16 length of body\n body\n \
         check : u16 crc-16/ibm-3740 over kind..body\n }}\n }}\n"
    );
    for n in 0..messages {
        text += &format!("message M{n} {{\n id {n}\n from host\n on c\n");
        let places = n % 4 == 3;
        if places {
            // Explicit places, in both orders and out of sequence.
            let other = if big { "le" } else { "be" };
            text += &format!(
                "p0 : u12 {other} at 4.{}\np1 : i16 at 2.{}\np2 : u9 at 7.{}\n",
                if big { 3 } else { 6 },
                if big { 7 } else { 0 },
                if big { 4 } else { 1 },
            );
        }
        section(&mut random, "f0", &mut text);
        // What decides about forms, and the forms.
        text += "kind : u3\nkey : key of Settings\n";
        text += &format!(
            "form : by kind {{\n 0 a : {}\n 3 b : {}\n else c : {}\n }}\n",
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
            element(&mut random, 1).replace(" be", "").replace(" le", ""),
        );
        text += "setting : value of Settings by key\n";
        let later = random.random_range(1..4);
        let rest = ["bytes[rest]", "text[rest]", "[rest] u16", "[rest] Point", "[rest] Step", "[rest] Note"];
        let last = format!("rest : {}\n", rest[random.random_range(0..rest.len())]);
        for revision in 2..=later {
            text += &format!("added in {revision} {{\n");
            section(&mut random, &format!("f{revision}"), &mut text);
            if n % 5 == 4 && revision == later {
                text += &last;
            }
            text += "}\n";
        }
        if n % 5 == 4 && later == 1 {
            text += &last;
        }
        text += "}\n";
    }
    text
}
