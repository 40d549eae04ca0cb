//! Frames inside of messages: a complete frame of another channel as the value of a field.

use std::fmt::{self, Write};

use emberwort_model::Plan;
use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::{parse_hex, write_hex};
use emberwort_model::model::End;
use serde_json::Value as Json;

use crate::body_reader::read_body;
use crate::frame::{FrameFault, Framed, body_on};
use crate::json::{self, Writing};
use crate::row::RowHeader;
use crate::text::{Filling, Given, Problem, fill};
use crate::values::Values;

/// What stands in a frame inside of a message.
#[derive(Clone, Debug)]
pub struct Inner {
    /// Index of its message.
    pub message: usize,
    /// The node, if its frames have one.
    pub node: Option<u64>,
    /// The sequence number, if its frames have one.
    pub sequence: Option<u64>,
    /// The sender's revision, if its frames have it.
    pub revision: Option<u64>,
    /// Its values.
    pub values: Values,
}

/// Reads the frame that a field holds: as it goes over the channel with this index, stuffing and delimiter included.
///
/// # Errors
/// Why it is no good frame.
pub fn open(plan: &Plan, channel: usize, from: End, bytes: &[u8]) -> Result<Inner, FrameFault> {
    let framing = plan.channels[channel].framing(from);
    let mut plain = Vec::new();
    let view = framing.open(bytes, &mut plain)?;
    let mut values = Values::default();
    let message = read_body(plan, framing.plan(), &view, &mut values)?;
    let (node, sequence, revision) = (view.node, view.sequence, view.revision);
    Ok(Inner { message, node, sequence, revision, values })
}

/// Builds the frame that a row says: `{"message": …, "node": …, "sequence": …, "fields": {…}}`, or the bytes that a row says
/// of a broken one: `{"broken": …, "bytes": …}`.
///
/// # Errors
/// What is wrong, and a way out.
pub(crate) fn build(filling: Filling<'_>, channel: usize, row: &Json) -> Result<Vec<u8>, String> {
    let Some(plan) = filling.plan else { return Err("a frame can only be given as hex here".into()) };
    let usual = "a frame inside is {\"message\": …, \"fields\": {…}}, or hex";
    let Json::Object(row) = row else { return Err(usual.into()) };
    if let (Some(_), Some(Json::String(bytes)), 2) = (row.get("broken"), row.get("bytes"), row.len()) {
        return parse_hex(bytes).ok_or_else(|| "`bytes` are hex digits, two per byte".into());
    }
    let numbers = RowHeader::of(row)?;
    let (Some(name), Some(fields)) =
        (row.get("message").and_then(Json::as_str), row.get("fields").and_then(Json::as_object))
    else {
        return Err(usual.into());
    };
    let Some(index) = plan.message_index(name).filter(|index| plan.channels[channel].carries(*index)) else {
        let names = plan.messages.iter().map(|plan| plan.message.name.as_str());
        let near = nearest(name, names).map_or(String::new(), |near| format!("; did you mean `{near}`?"));
        return Err(format!("`{}` does not travel on `{}`{near}", escaped(name), plan.channels[channel].name));
    };
    let compiled = &plan.messages[index];
    let mut values = Values::default();
    let revision = numbers.revision.unwrap_or(filling.revision);
    let given = fields.iter().map(|(name, value)| (name.as_str(), Given::Json(value)));
    fill(compiled, given, Filling { revision, ..filling }, &mut values)
        .map_err(|problems| problems.iter().map(Problem::to_string).collect::<Vec<_>>().join("; "))?;
    let mut body = Vec::new();
    let framing = plan.channels[channel].framing(compiled.message.from);
    let direction = framing.plan();
    body_on(direction, compiled, &values, revision, &mut body).map_err(|error| error.to_string())?;
    numbers.fits(direction, index)?;
    let header = numbers.header(direction, index, revision);
    let mut frame = Vec::new();
    framing.encode(&header, &body, &mut frame).map_err(|error| error.to_string())?;
    Ok(frame)
}

/// Writes the frame that a field holds: as hex, or where the link is known as an object that says what is in it, or why it is
/// broken.
pub(crate) fn write(
    channel: usize,
    bytes: &[u8],
    writing: Writing<'_>,
    out: &mut (impl Write + ?Sized),
) -> fmt::Result {
    let Some((plan, from)) = writing.inside else {
        out.write_char('"')?;
        write_hex(bytes, out)?;
        return out.write_char('"');
    };
    let inner = match open(plan, channel, from, bytes) {
        Ok(inner) => inner,
        Err(fault) => {
            write!(out, "{{\"broken\":\"{}\",\"bytes\":\"", fault.reason())?;
            write_hex(bytes, out)?;
            return out.write_str("\"}");
        }
    };
    let compiled = &plan.messages[inner.message];
    write!(out, "{{\"message\":\"{}\"", compiled.message.name)?;
    for (name, value) in [("node", inner.node), ("sequence", inner.sequence), ("revision", inner.revision)] {
        if let Some(value) = value {
            write!(out, ",\"{name}\":{value}")?;
        }
    }
    out.write_str(",\"fields\":")?;
    // A frame in a frame in a frame is hex: nobody nests them on purpose, and a link could do it without end.
    let writing = Writing { inside: None, ..writing };
    json::write_fields(compiled, &inner.values, writing, out)?;
    out.write_char('}')
}
