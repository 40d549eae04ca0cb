//! Folding several files into one, and what counts as the same content.

use emberwort_evolution::{folded, same_content};
use emberwort_model::{Checked, Source, check, check_with};

fn read(main: &str, files: &[(&str, &str)]) -> Checked {
    check_with(Source::new("main.ember", main), &mut |_, path| {
        let found = files.iter().find(|(name, _)| *name == path);
        found.map(|(name, text)| Source::new(*name, *text)).ok_or_else(|| "not there".into())
    })
}

const MAIN: &str = "# The main file.\nimport \"a.ember\"   # what a says\nimport \"b.ember\" import \"deep/c.ember\"\n\
    link l { revision 2  byte_order little }\nmessage M { id 1  from host  on wire\n a : A\n b : B\n c : u8 }\n";
const FILES: &[(&str, &str)] = &[
    ("a.ember", "import \"b.ember\"\n## Of a.\nenum A : u4 { 0 zero  1 one \"import this\" }"),
    ("b.ember", "enum B : u4 { 0 nought }\n\n"),
    (
        "deep/c.ember",
        "channel wire { medium uart 9600 8N1\n frame { sync C6\n kind : u8 message\n size : u8 length of body\n body } }",
    ),
];

#[test]
fn one_text_says_what_all_files_say() {
    let checked = read(MAIN, FILES);
    let plan = checked.plan.expect("no errors");
    let text = folded(&checked.sources).unwrap();
    assert!(!text.lines().any(|line| line.trim_start().starts_with("import")), "{text}");
    for kept in ["# The main file.", "# what a says", "## Of a.", "\"import this\""] {
        assert!(text.contains(kept), "{kept}: {text}");
    }
    let again = check(&Source::new("one.ember", text.as_str())).plan.expect("no errors");
    assert_eq!((&again.link, &again.channels), (&plan.link, &plan.channels));
    // Folding what is folded changes nothing.
    assert_eq!(folded(&check(&Source::new("one.ember", text.as_str())).sources).unwrap(), text);
}

#[test]
fn content_is_what_is_said_and_not_how() {
    let one = "enum A : u4 { 0 zero  1 one }";
    assert!(same_content(one, "# a comment\n## documentation\nenum A : u4 {\n    0 zero # more\n    1 one\n}\n"));
    for other in [
        "enum A : u4 { 0 zero  1 two }",
        "enum A : u4 { 0 zero  1 one  2 two }",
        "enum A : u4 { 0 zero  1 one \"x\" }",
        "",
    ] {
        assert!(!same_content(one, other), "{other}");
    }
}
