//! From text to items: the lexer, the items, and the parser.

pub mod ast;
mod frame_parser;
mod lexer;
mod parser;

pub use lexer::{Token, TokenKind, tokens};
pub use parser::{parse, parse_algorithm};
