//! A database cut or changed anywhere is read without a panic, and what comes of it is a definition without errors.

use emberwort_import::{Options, definition, read};
use emberwort_model::{Source, check_with};
use proptest::prelude::*;

const DATABASE: &str = include_str!("../../../../examples/marlock/databases/power-pack.dbc");

/// Makes a definition of bytes; says what is wrong with it.
fn errors_of(bytes: &[u8]) -> Vec<String> {
    let database = read(bytes);
    let options = Options { channel: "bus", medium: None, hosts: &[], heading: "made" };
    let imported = definition(&database, &options);
    let text = format!("link bus {{ revision 1 byte_order little }}\n\n{}", imported.text);
    let checked = check_with(Source::new("a.ember".to_owned(), text), &mut |_, _| Err("none".to_owned()));
    let errors = checked.findings.iter().filter(|finding| finding.is_error());
    errors.map(|finding| format!("{} {}", finding.code.as_str(), finding.message)).collect()
}

#[test]
fn the_example_and_all_its_beginnings_are_definitions() {
    assert_eq!(errors_of(DATABASE.as_bytes()), [""; 0]);
    for end in (0..DATABASE.len()).filter(|end| DATABASE.is_char_boundary(*end)).step_by(7) {
        assert_eq!(errors_of(&DATABASE.as_bytes()[..end]), [""; 0], "{end}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: std::env::var("EMBERWORT_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(400), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_changed_does_no_harm(changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0..3u8), 1..12)) {
        let mut bytes = DATABASE.as_bytes().to_vec();
        for (place, byte, what) in changes {
            let at = place.index(bytes.len());
            match what {
                0 => bytes[at] = byte,
                1 => {
                    // Digits into other digits: numbers that are odd, and all the same numbers.
                    if bytes[at].is_ascii_digit() {
                        bytes[at] = b'0' + byte % 10;
                    }
                }
                _ => {
                    bytes.remove(at);
                }
            }
        }
        prop_assert_eq!(errors_of(&bytes), [""; 0], "{}", String::from_utf8_lossy(&bytes));
    }
}
