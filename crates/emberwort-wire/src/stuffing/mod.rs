//! Stuffing: what goes over the wire in place of a frame's bytes, so that some bytes never occur inside it.

use emberwort_model::stuffing::Stuffing;

pub mod cobs;
pub mod escape;
pub mod substitution;

/// Appends the stuffed form of a frame, with its delimiters.
pub fn encode(stuffing: Stuffing, plain: &[u8], out: &mut Vec<u8>) {
    if stuffing.leads() {
        out.push(stuffing.delimiter());
    }
    match stuffing {
        Stuffing::Cobs => cobs::encode(plain, out),
        Stuffing::Slip => substitution::SLIP.encode(plain, out),
        Stuffing::Hdlc => substitution::HDLC.encode(plain, out),
    }
    out.push(stuffing.delimiter());
}

/// Replaces `plain` by what stands between two delimiters.
///
/// # Errors
/// The offset of the first byte that no sender of this stuffing writes.
pub fn decode(stuffing: Stuffing, stuffed: &[u8], plain: &mut Vec<u8>) -> Result<(), usize> {
    match stuffing {
        Stuffing::Cobs => cobs::decode(stuffed, plain),
        Stuffing::Slip => substitution::SLIP.decode(stuffed, plain),
        Stuffing::Hdlc => substitution::HDLC.decode(stuffed, plain),
    }
}
