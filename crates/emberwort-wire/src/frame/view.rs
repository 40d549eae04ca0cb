//! A frame as a receiver sees it.

/// A frame whose framing and checksums are right.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FrameView<'a> {
    /// All bytes, without stuffing and delimiters.
    pub bytes: &'a [u8],
    /// The body.
    pub body: &'a [u8],
    /// What selects the message: the value of a part, the body's size, or the key that came with the packet.
    pub key: u64,
    /// The node, if the frame has one.
    pub node: Option<u64>,
    /// The sequence number, if the frame has one.
    pub sequence: Option<u64>,
    /// The sender's revision, if the frame has one.
    pub revision: Option<u64>,
}
