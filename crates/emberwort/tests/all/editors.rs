//! The editors' files: the TextMate grammar against the examples, and the words of the Vim syntax against those of the grammar.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use regex::Regex;
use serde_json::Value as Json;

fn editors() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../editors")
}

/// The patterns of the grammar, in their order.
fn grammar() -> Vec<(String, String)> {
    let text = std::fs::read_to_string(editors().join("textmate/ember.tmLanguage.json")).unwrap();
    let json: Json = serde_json::from_str(&text).unwrap();
    assert_eq!(json["scopeName"], "source.ember");
    assert_eq!(json["fileTypes"], serde_json::json!(["ember"]));
    let patterns = json["patterns"].as_array().unwrap();
    patterns
        .iter()
        .map(|pattern| (pattern["name"].as_str().unwrap().to_owned(), pattern["match"].as_str().unwrap().to_owned()))
        .collect()
}

/// What the patterns make of a line: the earliest match wins, of several the first pattern. Look-ahead, which this crate's
/// regular expressions lack, is only used for "not in front of a colon" and "in front of a colon".
fn scopes(line: &str, grammar: &[(String, String)]) -> Vec<(String, String)> {
    let mut found = Vec::new();
    let mut at = 0;
    let compiled: Vec<(&str, Regex, Option<bool>)> = grammar
        .iter()
        .map(|(name, pattern)| {
            let (pattern, colon) = match (pattern.strip_suffix("(?!\\s*:)"), pattern.strip_suffix("(?=\\s*:)")) {
                (Some(pattern), _) => (pattern, Some(false)),
                (_, Some(pattern)) => (pattern, Some(true)),
                _ => (pattern.as_str(), None),
            };
            (name.rsplit_once('.').unwrap().0, Regex::new(pattern).unwrap(), colon)
        })
        .collect();
    while at < line.len() {
        let mut best: Option<(usize, usize, &str)> = None;
        for (name, regex, colon) in &compiled {
            let next = regex.find_iter(line).find(|m| {
                let before_colon = line[m.end()..].trim_start().starts_with(':');
                m.start() >= at && !m.is_empty() && colon.is_none_or(|wanted| wanted == before_colon)
            });
            if let Some(next) = next
                && best.is_none_or(|(start, ..)| next.start() < start)
            {
                best = Some((next.start(), next.end(), name));
            }
        }
        let Some((start, end, name)) = best else { break };
        found.push((line[start..end].trim().to_owned(), name.to_owned()));
        at = end;
    }
    found
}

#[test]
fn the_grammar_sees_what_the_examples_are_made_of() {
    let grammar = grammar();
    let mut out = String::new();
    for file in ["fields.ember", "channels.ember"] {
        let text = std::fs::read_to_string(editors().join("examples").join(file)).unwrap();
        for line in text.lines() {
            out.push_str(&format!("{line}\n"));
            for (word, scope) in scopes(line, &grammar) {
                out.push_str(&format!("  | {word} -> {scope}\n"));
            }
        }
    }
    insta::assert_snapshot!(out);
}

#[test]
fn the_examples_are_definitions_without_errors() {
    for file in ["fields.ember", "channels.ember"] {
        let text = std::fs::read_to_string(editors().join("examples").join(file)).unwrap();
        let checked = emberwort_model::check(&emberwort_model::Source::new(file, text));
        assert!(checked.findings.iter().all(|finding| !finding.is_error()), "{:?}", checked.findings);
    }
}

/// The words in a pattern such as `\b(?:a|b|c)\b`.
fn words_of(pattern: &str) -> BTreeSet<String> {
    let inner = pattern.split_once("(?:").unwrap().1.split_once(")\\b").unwrap().0;
    inner
        .split('|')
        .map(|word| word.replace('?', ""))
        .filter(|w| w.chars().all(|c| c.is_alphanumeric() || c == '_'))
        .collect()
}

#[test]
fn vim_and_the_grammar_know_the_same_words() {
    let vim = std::fs::read_to_string(editors().join("vim/syntax/ember.vim")).unwrap();
    let vim_words: BTreeSet<String> = vim
        .lines()
        .filter(|line| line.starts_with("syntax keyword ember") && !line.contains("Todo"))
        .flat_map(|line| line.split_whitespace().skip(3))
        .map(str::to_owned)
        .collect();
    let grammar = grammar();
    let mut grammar_words = BTreeSet::new();
    for name in ["keyword.declaration.ember", "storage.type.ember", "keyword.other.ember", "constant.language.ember"] {
        let (_, pattern) = grammar.iter().find(|(other, _)| other == name).unwrap();
        grammar_words.extend(words_of(pattern));
    }
    for word in &grammar_words {
        let plural = vim_words.contains(word.trim_end_matches('s'));
        assert!(vim_words.contains(word) || plural, "Vim does not know `{word}`");
    }
    for word in &vim_words {
        let singular = grammar_words.contains(&format!("{word}s"));
        assert!(grammar_words.contains(word) || singular, "the grammar does not know `{word}`");
    }
    // A sample of what the parser knows must be in both.
    for word in ["retired", "growing", "answered", "skipping", "overhead", "exactly", "can_id"] {
        assert!(grammar_words.contains(word) && vim_words.contains(word), "{word}");
    }
}

#[test]
fn an_editor_can_tidy_what_it_holds() {
    let text = std::fs::read(editors().join("examples/fields.ember")).unwrap();
    let mut child = std::process::Command::new(env!("CARGO_BIN_EXE_emberwort"))
        .args(["tidy", "-"])
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut child.stdin.take().unwrap(), &text).unwrap();
    assert_eq!(child.wait_with_output().unwrap().stdout, text);
}
