//! From text to items: the lexer, the items, and the parser.

pub mod ast;
mod field_parser;
mod frame_parser;
mod item_parser;
mod lexer;
mod medium_parser;
mod parser;

pub(crate) use field_parser::TYPE_WORDS;
pub use lexer::{Token, TokenKind, tokens};
pub(crate) use parser::unquoted;
pub use parser::{Change, Parsed, parse, parse_algorithm, parse_change, parse_field_type};
