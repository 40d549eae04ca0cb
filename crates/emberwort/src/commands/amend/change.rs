//! What became of one frame, and as an object for programs.

use emberwort_capture::amend::Layer;
use emberwort_model::hex::hex;
use serde_json::{Value as Json, json};

/// A checksum of a frame, before and after.
pub struct FrameSum {
    pub part: String,
    pub algorithm: String,
    pub found: u64,
    pub expected: u64,
    pub written: u64,
    pub digits: usize,
}

/// What became of one frame.
pub struct Change {
    pub number: u64,
    pub heading: String,
    /// Field, old value, new value.
    pub values: Vec<[String; 3]>,
    pub before: Vec<u8>,
    /// `None` if it is left out, or as it was.
    pub after: Option<Vec<u8>>,
    pub sums: Vec<FrameSum>,
    pub packets: Vec<u64>,
    /// What else: dropped, twice, later.
    pub what: Vec<String>,
}

impl Change {
    /// It as an object, without the checksums around its packets.
    pub fn object(&self) -> Json {
        let values: Vec<_> =
            self.values.iter().map(|[name, old, new]| json!({"field": name, "old": old, "new": new})).collect();
        let of_part =
            |one: &FrameSum| sum(&one.part, Some(&one.algorithm), one.digits, [one.found, one.expected, one.written]);
        let sums: Vec<_> = self.sums.iter().map(of_part).collect();
        json!({"frame": self.number, "values": values, "what": self.what, "before": hex(&self.before),
            "after": self.after.as_deref().map(hex), "checksums": sums, "packets": self.packets})
    }
}

/// A checksum as an object.
fn sum(of: &str, algorithm: Option<&str>, digits: usize, [found, expected, written]: [u64; 3]) -> Json {
    let number = |value: u64| format!("0x{value:0digits$X}");
    let mut object = json!({"of": of});
    if let Some(algorithm) = algorithm {
        object["algorithm"] = algorithm.into();
    }
    for (name, value) in [("found", found), ("expected", expected), ("written", written)] {
        object[name] = number(value).into();
    }
    object
}

/// A checksum around a packet's bytes as an object.
pub fn layer(one: &Layer) -> Json {
    sum(&one.name, None, one.digits, [one.found, one.expected, one.written])
}
