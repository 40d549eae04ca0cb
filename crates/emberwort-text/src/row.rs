//! What a row of NDJSON says about the frame around a message, besides its fields.

use emberwort_model::diagnostics::{escaped, nearest};
use emberwort_model::hex::parse_hex;
use emberwort_model::plan::{Direction, Role};
use serde_json::{Map, Value as Json};

use emberwort_model::ids::MessageId;
use emberwort_wire::Header;

/// The keys of a row as `decode` prints it, and so all that a row to encode may have.
const KEYS: [&str; 14] = [
    "frame",
    "message",
    "fields",
    "node",
    "sequence",
    "revision",
    "time",
    "offset",
    "channel",
    "direction",
    "later_bytes",
    "body",
    "read_as_revision",
    "lacks",
];

/// The numbers that a row gives for the parts of a frame.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RowHeader {
    /// The node.
    pub node: Option<u64>,
    /// The sequence number.
    pub sequence: Option<u64>,
    /// The sender's revision.
    pub revision: Option<u32>,
    /// The body, where it held more than the fields say.
    pub body: Option<Vec<u8>>,
}

impl RowHeader {
    /// Reads them.
    ///
    /// # Errors
    /// A sentence if a number is none, or the row has a key that none has: it would be left out silently.
    pub fn of(row: &Map<String, Json>) -> Result<Self, String> {
        if let Some(other) = row.keys().find(|key| !KEYS.contains(&key.as_str())) {
            let near = nearest(other, KEYS).map_or(String::new(), |near| format!("; did you mean `{near}`?"));
            return Err(format!("a row has no `{}`{near}", escaped(other)));
        }
        let number = |name: &str| match row.get(name) {
            None => Ok(None),
            Some(value) => value
                .as_u64()
                .map(Some)
                .ok_or_else(|| format!("`{name}` is a whole number from 0, not {}", escaped(&value.to_string()))),
        };
        let revision = match number("revision")? {
            None => None,
            Some(revision) => Some(u32::try_from(revision).map_err(|_| format!("there is no revision {revision}"))?),
        };
        let body = match row.get("body") {
            None => None,
            Some(text) => Some(
                text.as_str()
                    .and_then(parse_hex)
                    .ok_or_else(|| format!("`body` holds bytes in hex, not {}", escaped(&text.to_string())))?,
            ),
        };
        Ok(Self { node: number("node")?, sequence: number("sequence")?, revision, body })
    }

    /// The header of a frame of a message (by index) from a sender of this revision. What is not said is 0, a node in the
    /// message's key the least.
    pub fn header(&self, channel: &Direction, message: MessageId, revision: u32) -> Header {
        let node = self.node.or_else(|| channel.nodes_of(message).map(|nodes| *nodes.start())).unwrap_or(0);
        Header {
            key: channel.key_for(message, node).unwrap_or(0),
            node,
            sequence: self.sequence.unwrap_or(0),
            revision: u64::from(revision),
        }
    }

    /// Whether frames of a message (by index) on this channel can say all of it.
    ///
    /// # Errors
    /// A sentence about the first number that has no part, or does not fit it.
    pub fn fits(&self, channel: &Direction, message: MessageId) -> Result<(), String> {
        for (name, value, role) in
            [("node", self.node, Role::Address), ("sequence number", self.sequence, Role::Sequence)]
        {
            let Some(value) = value else { continue };
            if let (Role::Address, Some(nodes)) = (&role, channel.nodes_of(message)) {
                if !nodes.contains(&value) {
                    let (least, greatest) = (nodes.start(), nodes.end());
                    return Err(format!("the node {value} has no key here: they are for nodes {least} to {greatest}"));
                }
                continue;
            }
            let Some(part) = channel.part(|other| *other == role) else {
                return Err(format!("frames of `{}` carry no {name}", channel.name));
            };
            let greatest = part.greatest();
            if value > greatest {
                return Err(format!("the {name} {value} does not fit `{}`, which goes to {greatest}", part.name));
            }
        }
        Ok(())
    }
}
