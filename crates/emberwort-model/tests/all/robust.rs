//! Any text gives findings or a plan: no panic, places inside the text, and the same twice.

use emberwort_model::diagnostics::Severity;
use emberwort_model::syntax::parse_algorithm;
use emberwort_model::{Source, check, check_apart};
use proptest::prelude::*;

const MARLOCK: &str = include_str!("../../../../examples/marlock/marlock.ember");

fn judge(text: &str) -> Result<(), TestCaseError> {
    let source = Source::new("any.ember", text);
    let checked = check(&source);
    let errors = checked.findings.iter().any(|finding| finding.code.severity() == Severity::Error);
    prop_assert_eq!(checked.plan.is_none(), errors, "a plan if and only if there are no errors");
    for finding in &checked.findings {
        prop_assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len(), "{:?}", finding);
        prop_assert!(
            text.is_char_boundary(finding.span.start) && text.is_char_boundary(finding.span.end),
            "{:?}",
            finding
        );
        let (line, column) = source.line_column(finding.span.start);
        prop_assert!(line >= 1 && column >= 1);
    }
    prop_assert!(checked.findings.windows(2).all(|pair| pair[0].span.start <= pair[1].span.start));
    // What is right beside what is not: never without an error, and never what it leaves out.
    let (again, apart) = check_apart(source, &mut |_, _| Err("imports cannot be read here".into()));
    prop_assert_eq!(&again.findings, &checked.findings);
    if let Some(apart) = apart {
        prop_assert!(errors && !apart.without.is_empty());
        prop_assert!(apart.plan.messages.iter().all(|plan| !apart.without.contains(&plan.message.name)));
    }
    Ok(())
}

/// Words, signs and numbers of the language, thrown together.
fn soup() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        proptest::sample::select(vec![
            "link",
            "enum",
            "flags",
            "message",
            "channel",
            "frame",
            "body",
            "sync",
            "id",
            "from",
            "host",
            "device",
            "every",
            "on",
            "answered",
            "by",
            "within",
            "added",
            "in",
            "optional",
            "or",
            "none",
            "step",
            "bits",
            "bytes",
            "spare",
            "bool",
            "f32",
            "text",
            "u8",
            "i12",
            "u64",
            "u65",
            "revision",
            "byte_order",
            "little",
            "medium",
            "uart",
            "udp",
            "packet",
            "stuffing",
            "cobs",
            "limit",
            "length",
            "of",
            "over",
            "crc-16/ibm-3740",
            "crc 16 poly",
            "xor8",
            "skipping",
            "A",
            "b",
            "Mode",
            "8N1",
            "ms",
            "%",
            "record",
            "table",
            "import",
        ])
        .prop_map(str::to_owned),
        proptest::sample::select(vec![
            "{", "}", "[", "]", ":", "=", "*", "+", "-", "..", ",", "\n", "\"", "# x\n", "## x\n", "°", "\u{7}"
        ])
        .prop_map(str::to_owned),
        any::<i64>().prop_map(|n| n.to_string()),
        (0u64..99, 0u64..999).prop_map(|(a, b)| format!("{a}.{b}")),
    ];
    proptest::collection::vec(word, 0..120).prop_map(|words| words.join(" "))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(500))]

    #[test]
    fn any_characters(text in "\\PC{0,300}") {
        judge(&text)?;
    }

    #[test]
    fn any_words_of_the_language(text in soup()) {
        judge(&text)?;
        judge(&format!("link l {{ revision 1 byte_order big }}\n{text}"))?;
    }

    #[test]
    fn the_example_with_pieces_cut_out_or_swapped(
        cuts in proptest::collection::vec((any::<prop::sample::Index>(), 0usize..40), 1..4),
        extra in "[{}\\[\\]:=.,\"#a-z0-9\n ]{0,6}",
    ) {
        let mut text = MARLOCK.to_owned();
        for (at, length) in cuts {
            let mut start = at.index(text.len());
            while !text.is_char_boundary(start) {
                start -= 1;
            }
            let mut end = (start + length).min(text.len());
            while !text.is_char_boundary(end) {
                end += 1;
            }
            text.replace_range(start..end, &extra);
        }
        judge(&text)?;
    }

    #[test]
    fn any_algorithm(text in "(crc|sum8|xor8|internet|crc-16/[a-z0-9-]{0,8}|[ -~]{0,10})( (poly|init|start|final xor|reflect in|[0-9]{1,3}|0x[0-9A-F]{1,9})){0,5}") {
        if let Err(findings) = parse_algorithm(&text) {
            prop_assert!(!findings.is_empty());
        }
    }
}

#[test]
fn a_long_line_of_unclosed_braces_is_one_finding_each_way() {
    let deep = "{".repeat(10_000);
    let checked = check(&Source::new("deep", format!("link l {{ revision 1 byte_order big }}\nmessage M {deep}")));
    assert!(!checked.findings.is_empty() && checked.findings.len() < 10, "{}", checked.findings.len());
    let closing = "}".repeat(10_000);
    let checked = check(&Source::new("shallow", closing));
    assert!(!checked.findings.is_empty());
}

/// What this thread alone has computed, in ns: other work on the machine does not count.
fn computing_time() -> u64 {
    let counts = std::fs::read_to_string("/proc/thread-self/schedstat").expect("the tests run on Linux");
    counts.split(' ').next().and_then(|first| first.parse().ok()).expect("the first number is the time")
}

/// The time to check grows with the size of the text, not with its square, which would take ten times as long here.
#[test]
fn checking_grows_with_the_text() {
    let text = |count: usize| {
        let messages: String =
            (0..count).map(|n| format!("message M{n} {{ from host  a : u8  b : 0 .. 10 m step 0.5 }}\n")).collect();
        format!("link l {{ revision 1  byte_order little }}\n{messages}")
    };
    // As many messages in all, in ten texts and in one; the kernel counts in ticks, so five times.
    let time = |text: String, times: usize| {
        let source = Source::new("many", text);
        let start = computing_time();
        (0..5 * times).for_each(|_| assert!(check(&source).plan.is_some()));
        computing_time() - start
    };
    let (small, large) = (time(text(400), 10), time(text(4000), 1));
    assert!(large < small * 4, "ten times 400 messages take {small} ns, 4000 take {large} ns");
}

/// Each field word behind each kind of type, where it may mean nothing: the parser must always come to an end.
#[test]
fn any_word_behind_any_type_is_read_to_the_end() {
    let types =
        ["u8", "i4 * 0.5 V", "0 .. 9 step 1", "f16", "bool", "compact u16", "text[4]", "[2] u8", "time s", "key of T"];
    let words = [
        "optional",
        "or",
        "or none",
        "in",
        "in 4 bits",
        "step",
        "step 2",
        "added",
        "spare",
        "counter",
        "at",
        "at 0",
        "be",
        "le",
        "retired",
        "read",
        "write",
        "kept",
        "else",
        "by",
        "frame",
        "of",
        "exactly",
        "revision",
        "id",
        "on",
        "{",
        "}",
        "[",
        "=",
        "%",
    ];
    for (ty, word) in types.iter().flat_map(|ty| words.iter().map(move |word| (ty, word))) {
        for text in
            [format!("message M {{ from host\n a : {ty} {word}\n b : u8\n}}"), format!("record R {{ a : {ty} {word}")]
        {
            let checked = check(&Source::new("words", text.as_str()));
            assert!(checked.plan.is_none(), "there is no link in {text}");
        }
    }
}

/// Parts of all definitions in the repository, cut and put together by random, for as many seconds as
/// EMBERWORT_FUZZ_SECONDS says (600 if it says nothing).
#[test]
#[ignore = "ten minutes long; see CONTRIBUTING.md"]
fn fuzz_the_whole_way_from_text_to_plan() {
    let seconds = std::env::var("EMBERWORT_FUZZ_SECONDS").ok().and_then(|text| text.parse().ok()).unwrap_or(600);
    let end = std::time::Instant::now() + std::time::Duration::from_secs(seconds);
    let corpus: Vec<&[u8]> = [
        MARLOCK,
        include_str!("../../../../examples/marlock/pump.ember"),
        include_str!("../../../../examples/marlock/gauge.ember"),
        include_str!("../../../../examples/marlock/valve.ember"),
        include_str!("../../../emberwort-codegen/tests/odd.ember"),
        include_str!("../../../emberwort-codegen/tests/whole.ember"),
        include_str!("../../../../docs/findings.md"),
    ]
    .map(str::as_bytes)
    .to_vec();
    // A small generator of our own: the model crate needs no other randomness.
    let mut state = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_nanos() as u64 | 1;
    let mut random = |below: usize| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state % below.max(1) as u64) as usize
    };
    let mut count = 0u64;
    while std::time::Instant::now() < end {
        let base = corpus[random(corpus.len())];
        let start = random(base.len());
        let mut text = base[if random(3) == 0 { 0..base.len() } else { start..base.len().min(start + 2000) }].to_vec();
        for _ in 0..random(8) {
            let other = corpus[random(corpus.len())];
            let (from, length) = (random(other.len()), random(60));
            let piece = &other[from..other.len().min(from + length)];
            let at = random(text.len() + 1);
            match random(4) {
                0 => drop(text.splice(at..at, piece.iter().copied())),
                1 => drop(text.splice(at..text.len().min(at + random(40)), piece.iter().copied())),
                2 if !text.is_empty() => {
                    let at = random(text.len());
                    text[at] = b"{}[]:=.,*-+\"#0129abzZ_ \n%"[random(25)];
                }
                _ => text.truncate(at.max(1)),
            }
        }
        let text = String::from_utf8_lossy(&text).into_owned();
        let no_import = &mut |_: &str, _: &str| Err("imports cannot be read here".into());
        let (checked, apart) = check_apart(Source::new("fuzz", text.as_str()), no_import);
        for finding in &checked.findings {
            assert!(finding.span.start <= finding.span.end && finding.span.end <= text.len(), "{finding:?} in\n{text}");
            assert!(!finding.message.is_empty() && !finding.help.is_empty());
        }
        assert_eq!(checked.plan.is_none(), checked.findings.iter().any(|finding| finding.is_error()), "{text}");
        if let Ok(tidied) = emberwort_model::tidy::tidy(&text) {
            assert_eq!(emberwort_model::tidy::tidy(&tidied).as_deref(), Ok(tidied.as_str()), "{text}");
        }
        if let Some(plan) = checked.plan.or(apart.map(|apart| apart.plan)) {
            for message in &plan.messages {
                let _ = (emberwort_model::layout::rows(message), emberwort_model::layout::picture::picture(message));
                let _ = emberwort_model::budget::body(message);
            }
        }
        count += 1;
    }
    println!("{count} definitions");
}
