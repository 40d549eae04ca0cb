//! Definitions of several files: what is found where, cycles, names that two files have.

use std::collections::HashMap;

use emberwort_model::{Checked, Source, check_with};

/// Checks `root.ember` among these files, which lie in folders as their names say.
fn checked(files: &[(&str, &str)]) -> (Checked, Vec<String>) {
    let files: HashMap<&str, &str> = files.iter().copied().collect();
    let mut read = Vec::new();
    let root = Source::new("root.ember", files["root.ember"]);
    let checked = check_with(root, &mut |importer, path| {
        let folder = importer.rfind('/').map_or("", |at| &importer[..=at]);
        let name = format!("{folder}{path}");
        read.push(name.clone());
        files
            .get(name.as_str())
            .map(|text| Source::new(&*name, *text))
            .ok_or_else(|| "there is no such file".to_owned())
    });
    (checked, read)
}

const LINK: &str = "link l { revision 1  byte_order little }\n";

fn codes(checked: &Checked) -> Vec<&'static str> {
    checked.findings.iter().map(|finding| finding.code.as_str()).collect()
}

#[test]
fn items_of_all_files_make_one_link() {
    let (checked, read) = checked(&[
        ("root.ember", &format!("import \"parts/pump.ember\"\n{LINK}message A {{ from host  p : Pump }}\n")),
        ("parts/pump.ember", "import \"state.ember\"\nrecord Pump { s : State }\n"),
        ("parts/state.ember", "enum State : u2 { 0 off  1 on }\n"),
    ]);
    assert_eq!(codes(&checked), [""; 0]);
    assert_eq!(read, ["parts/pump.ember", "parts/state.ember"]);
    let plan = checked.plan.unwrap();
    assert_eq!((plan.link.records.len(), plan.link.labelled.len(), plan.messages[0].greatest_size()), (1, 1, 1));
}

#[test]
fn a_file_that_two_import_is_read_once() {
    let (checked, _) = checked(&[
        (
            "root.ember",
            &format!("import \"a.ember\"\nimport \"b.ember\"\n{LINK}message M {{ from host  a : A  b : B }}"),
        ),
        ("a.ember", "import \"c.ember\"\nrecord A { c : C }"),
        ("b.ember", "import \"c.ember\"\nrecord B { c : C }"),
        ("c.ember", "enum C : u2 { 0 x }"),
    ]);
    assert_eq!(codes(&checked), [""; 0]);
    assert_eq!(checked.sources.files().len(), 4);
}

#[test]
fn cycles_are_found_where_they_close() {
    let (checked, _) = checked(&[
        ("root.ember", &format!("import \"a.ember\"\n{LINK}")),
        ("a.ember", "import \"b.ember\"\n"),
        ("b.ember", "# on the second line\nimport \"root.ember\"\n"),
    ]);
    assert_eq!(codes(&checked), ["E109"]);
    assert_eq!(checked.sources.place(checked.findings[0].span), "b.ember:2:8");
    let (own, _) = self::checked(&[("root.ember", &format!("import \"root.ember\"\n{LINK}"))]);
    assert_eq!(codes(&own), ["E109"]);
}

#[test]
fn findings_name_both_files() {
    let (checked, _) = checked(&[
        (
            "root.ember",
            &format!("import \"other.ember\"\n{LINK}enum Mode : u2 {{ 0 off }}\nmessage M {{ from host  m : Mode }}"),
        ),
        ("other.ember", "\n\nenum Mode : u2 { 0 on }"),
    ]);
    assert_eq!(codes(&checked), ["E103"]);
    let finding = &checked.findings[0];
    assert_eq!(checked.sources.place(finding.span), "other.ember:3:6");
    let (first, what) = finding.related.as_ref().unwrap();
    assert_eq!((checked.sources.place(*first).as_str(), what.as_str()), ("root.ember:3:6", "first used here"));
}

#[test]
fn places_in_imported_files_are_those_of_their_own_lines() {
    let (checked, _) = checked(&[
        ("root.ember", &format!("import \"a.ember\"\nimport \"b.ember\"\n{LINK}")),
        ("a.ember", "# nothing\n"),
        ("b.ember", "message M {\n    from host\n    a : u99\n}\n"),
    ]);
    assert_eq!(codes(&checked), ["E201"]);
    assert_eq!(checked.sources.place(checked.findings[0].span), "b.ember:3:9");
}

#[test]
fn what_cannot_be_imported_is_told() {
    for (import, code, word) in [
        ("import \"none.ember\"", "E108", "there is no such file"),
        ("import \"/etc/x.ember\"", "E108", "another machine"),
        ("import \"C:\\\\x.ember\"", "E108", "another machine"),
        ("import none", "E010", "a file name in quotes"),
        ("import \"a.ember\"\nimport \"a.ember\"", "E105", "imported twice"),
        ("import \"two.ember\"", "E102", "a second `link`"),
    ] {
        let (checked, _) = checked(&[
            ("root.ember", &format!("{LINK}{import}\n")),
            ("a.ember", ""),
            ("two.ember", "link other { revision 1  byte_order big }"),
        ]);
        assert_eq!(codes(&checked), [code], "{import}");
        assert!(checked.findings[0].message.contains(word), "{import}: {}", checked.findings[0].message);
    }
}

#[test]
fn a_chain_of_many_files_ends_in_a_finding() {
    let names: Vec<String> = (0..1200).map(|n| format!("f{n}.ember")).collect();
    let texts: Vec<String> = (0..1200).map(|n| format!("import \"f{}.ember\"\n", n + 1)).collect();
    let root = format!("{LINK}import \"f0.ember\"\n");
    let mut files: Vec<(&str, &str)> = names.iter().map(String::as_str).zip(texts.iter().map(String::as_str)).collect();
    files.push(("root.ember", &root));
    let (checked, _) = checked(&files);
    assert_eq!(codes(&checked), ["E108"]);
    assert!(checked.findings[0].message.contains("more than 1000 files"));
}
