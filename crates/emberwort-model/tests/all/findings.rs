//! `docs/findings.md` and the code agree: every code has its section, and every example gives exactly its finding.

use std::collections::BTreeMap;

use emberwort_model::diagnostics::{Code, Severity};
use emberwort_model::{Source, check, decode_text};

const PAGE: &str = include_str!("../../../../docs/findings.md");

struct Section {
    title: String,
    text: String,
    example: Option<String>,
}

fn block(text: &str, tag: &str) -> Option<String> {
    let start = text.find(&format!("```{tag}\n"))? + tag.len() + 4;
    let end = text[start..].find("```")?;
    Some(text[start..start + end].to_owned())
}

fn sections() -> BTreeMap<String, Section> {
    PAGE.split("\n## ")
        .skip(1)
        .map(|section| {
            let (heading, text) = section.split_once('\n').unwrap();
            let (code, title) = heading.split_once(' ').unwrap();
            let example = block(text, "ember");
            (code.to_owned(), Section { title: title.to_owned(), text: text.to_owned(), example })
        })
        .collect()
}

fn with_prelude(example: &str) -> String {
    if example.contains("link ") { example.to_owned() } else { block(PAGE, "ember-prelude").unwrap() + example }
}

#[test]
fn every_code_has_its_section_and_no_section_is_without_code() {
    let sections = sections();
    let codes: Vec<&str> = Code::ALL.iter().map(|code| code.as_str()).collect();
    for code in Code::ALL {
        let section = sections.get(code.as_str()).unwrap_or_else(|| panic!("{} has no section", code.as_str()));
        assert_eq!(section.title, code.title(), "{}", code.as_str());
        let words = section.text.split("```").next().unwrap().split_whitespace().count();
        assert!(words >= 8, "{} is hardly explained", code.as_str());
    }
    for code in sections.keys() {
        assert!(codes.contains(&code.as_str()), "{code} is explained but does not exist");
    }
    assert_eq!(sections.len(), codes.len());
}

#[test]
fn the_prelude_itself_is_clean() {
    let checked = check(&Source::new("prelude", block(PAGE, "ember-prelude").unwrap()));
    assert_eq!(checked.findings, []);
    assert!(checked.plan.is_some());
}

#[test]
fn every_example_gives_exactly_its_finding() {
    for (code, section) in sections() {
        // Some findings are about files as bytes, several files, or generated code; tests of their own are below, in imports.rs, and
        // with the command.
        if ["E001", "E003", "E109", "W013"].contains(&code.as_str()) {
            continue;
        }
        let text = with_prelude(&section.example.unwrap_or_else(|| panic!("{code} has no example")));
        let checked = check(&Source::new("example", text.as_str()));
        let found: Vec<&str> = checked.findings.iter().map(|finding| finding.code.as_str()).collect();
        assert_eq!(found, [code.as_str()], "{:#?}", checked.findings);
        let finding = &checked.findings[0];
        assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len());
        assert!(!finding.message.is_empty() && !finding.help.is_empty(), "{code} says no way out");
        assert_eq!(checked.plan.is_some(), finding.code.severity() != Severity::Error, "{code}");
    }
}

#[test]
fn bytes_that_are_not_utf8_are_found_with_their_offset() {
    let (finding, shown) = *decode_text(b"link lamp { \xFF }".to_vec()).unwrap_err();
    assert_eq!(finding.code, Code::NotUtf8);
    assert_eq!((finding.span.start, finding.span.end), (12, 13));
    assert!(finding.message.contains("FF") && finding.message.contains("12"), "{}", finding.message);
    assert!(shown.starts_with("link lamp { "));
}

#[test]
fn a_file_that_is_too_large_is_refused_without_reading_it_as_text() {
    let (finding, _) = *decode_text(vec![b'#'; emberwort_model::MAX_BYTES + 1]).unwrap_err();
    assert_eq!(finding.code, Code::FileTooLarge);
}

#[test]
fn all_findings_of_a_file_come_in_one_run_in_order_of_place() {
    let text = with_prelude(
        "enum Mode : u2 { 0 off  0 idle }
         message Level {
             id 1
             from device
             on wier
             depth : u65
             width : 10 .. 0 m step 1
             height : 0 .. 10 m step 0.3
             lit : bool or none
             waterDepth : u8
             tail : [rest] u4
         }
         message Trend { id 0x100  from device  on wire  slope : i8 }",
    );
    let checked = check(&Source::new("ten", text.as_str()));
    let found: Vec<&str> = checked.findings.iter().map(|finding| finding.code.as_str()).collect();
    assert_eq!(found, ["E111", "E104", "E201", "E203", "E202", "E205", "W001", "E213", "E308"]);
    assert!(checked.findings.windows(2).all(|pair| pair[0].span.start <= pair[1].span.start));
}

#[test]
fn the_ways_out_name_what_to_write() {
    let help = |body: &str| {
        let text = with_prelude(&format!("message Level {{\n id 1\n from device\n on wire\n {body}\n}}"));
        let checked = check(&Source::new("help", text.as_str()));
        assert_eq!(checked.findings.len(), 1, "{:#?}", checked.findings);
        checked.findings[0].help.clone()
    };
    assert_eq!(help("depth : 0 .. 10 m step 0.3"), "the nearest ranges that do are `0 .. 9.9` and `0 .. 10.2`");
    assert_eq!(help("depth : 0 .. 10 m step 0.5 = 3.3"), "the nearest value is 3.5");
    assert!(help("depth : u8 opional").contains("did you mean `optional`?"));
    assert!(help("kind : Mood").contains("define it, or use one of: bool"), "{}", help("kind : Mood"));
}
