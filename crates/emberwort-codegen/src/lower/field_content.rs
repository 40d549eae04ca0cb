//! What a field holds, in words for those who read generated code.

use std::fmt;

use emberwort_model::model::{Field, Kind};

/// How a language has the numbers of IEEE 754.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Floats {
    /// As integers with their bits.
    Bits,
    /// As numbers.
    Numbers,
}

/// What a field holds: texts of the definition stand in it as they are, and a language escapes them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct FieldContent {
    /// The values, as `0 .. 40.95 bar in steps of 0.01`; empty where the type says it all.
    pub values: String,
    /// The raw numbers of physical values, as `0 .. 4095`.
    pub raw: Option<String>,
    /// The raw number that means that there is no value.
    pub none: Option<i128>,
    /// The revision that brought it, if it is not the first.
    pub since: Option<u32>,
}

impl FieldContent {
    /// What a field holds.
    pub fn of(field: &Field, floats: Floats) -> Self {
        let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", field.unit) };
        let mut raw = None;
        let values = match &field.kind {
            Kind::Number(form) | Kind::Varint(form) if form.low == form.high => format!("always {}", form.low),
            Kind::Number(form) | Kind::Varint(form) if form.scaling.is_identity() => {
                format!("{} .. {}{unit}", form.low, form.high)
            }
            Kind::Number(form) | Kind::Varint(form) => {
                raw = Some(format!("{} .. {}", form.low, form.high));
                let (low, high) = (form.scaling.physical(form.low), form.scaling.physical(form.high));
                format!("{low} .. {high}{unit} in steps of {}", form.scaling.step_text())
            }
            Kind::Bool => "true or false".into(),
            Kind::Float(bits) => {
                let what = if floats == Floats::Bits { "bits of an" } else { "an" };
                let unit = if unit.is_empty() { unit } else { format!(", in{unit}") };
                format!("{what} IEEE 754 binary{bits}{unit}")
            }
            Kind::Time { milliseconds } => {
                format!("{} since 1970-01-01 UTC", if *milliseconds { "milliseconds" } else { "seconds" })
            }
            Kind::Enum { labels, .. } | Kind::Flags(labels) => labels.name.clone(),
            Kind::Text { ascii, .. } => format!("{}, not ended by a zero", if *ascii { "ASCII" } else { "UTF-8" }),
            Kind::Bytes(_) | Kind::List { .. } | Kind::Record(_) | Kind::Union(_) | Kind::Spare { .. } => String::new(),
            Kind::NestedFrame { name, .. } => format!("a frame of {name}"),
        };
        let since = (field.since > 1).then_some(field.since);
        Self { values, raw, none: field.kind.none(), since }
    }

    /// The values that it takes, and what means that there is none.
    pub fn values(&self) -> String {
        let none =
            self.none.filter(|_| self.raw.is_none()).map_or(String::new(), |none| format!(", {none} means none"));
        format!("{}{none}", self.values)
    }
}

impl fmt::Display for FieldContent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.values)?;
        if let Some(raw) = &self.raw {
            write!(f, ": raw {raw}")?;
        }
        if let Some(none) = self.none {
            write!(f, ", {none} means none")?;
        }
        if let Some(since) = self.since {
            let is_first = self.values.is_empty() && self.none.is_none();
            write!(f, "{}since revision {since}", if is_first { "" } else { "; " })?;
        }
        Ok(())
    }
}
