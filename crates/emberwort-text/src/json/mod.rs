//! Values as they stand in NDJSON rows. What is written here is read back by [`set`].
//!
//! | field | value |
//! |---|---|
//! | number | physical, with the decimals of its step |
//! | `none` | `null`; `"none"` is read too |
//! | enum | its label |
//! | flags | array of the labels set; a bit without a label as its number |
//! | bool, text | boolean, string |
//! | bytes | hex digits in a string |
//! | time | RFC 3339 in a string |
//! | list, record | array, object |
//! | value with several forms | object with the form's name: `{"level": 3.2}` |
//! | frame inside | object with `message`, `node`, … and `fields`; hex digits if it is no good frame |
//! | what the definition gives no meaning to | `{"raw": NUMBER}`, for text that is not UTF-8 `{"raw": "HEX"}` |

mod read;
mod write;

pub use read::set;
pub use write::{Writing, safe_text, write_fields, write_string, write_value};
