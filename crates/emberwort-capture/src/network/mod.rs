//! What lies between the packets of a capture and the bytes of a link that goes over a network: links, IP, fragments, UDP, TCP.
//!
//! ```text
//! packet ─► link ─► ip ─► fragments ─► UDP datagrams, or segments ─► tcp ─► stretches of streams
//! ```

pub mod fragments;
pub mod ip;
pub mod link;
pub mod tcp;

pub use link::ip_packet;
