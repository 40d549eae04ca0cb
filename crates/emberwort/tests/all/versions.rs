//! Revisions that were released: sealing, and what is found when somebody touches them.

use std::path::Path;

use sha2::{Digest, Sha256};

use crate::common::{self, project, run, succeed};

/// The definition of the demo with something replaced.
fn change(folder: &Path, from: &str, to: &str) {
    let path = folder.join("marlock.ember");
    let text = std::fs::read_to_string(&path).unwrap();
    assert!(text.contains(from), "{from}");
    std::fs::write(path, text.replacen(from, to, 1)).unwrap();
}

/// Runs `seal`, which is refused; what it says.
fn refused(folder: &Path) -> String {
    let before: Vec<_> = std::fs::read_dir(folder.join("sealed")).unwrap().map(|file| file.unwrap().path()).collect();
    let said = run(folder, &["seal", "--date", "2031-05-01"]);
    assert_eq!(said.code, 1, "{}{}", said.out, said.err);
    let after: Vec<_> = std::fs::read_dir(folder.join("sealed")).unwrap().map(|file| file.unwrap().path()).collect();
    assert_eq!(before, after, "nothing was written");
    said.err
}

fn sealed_four_and_five(folder: &Path) {
    succeed(folder, &["seal", "--date", "2031-03-09", "--note", "first units: shipped"]);
    change(folder, "revision    4", "revision    5");
    change(
        folder,
        "message GateStatus {",
        "message Knock {\n    id    0x77\n    from  host\n    on    bus485\n}\nmessage GateStatus {",
    );
    succeed(folder, &["seal", "--date", "2031-04-01"]);
}

#[test]
fn a_revision_is_sealed_once_with_its_digest_and_all_its_imports() {
    let folder = project();
    let said = succeed(folder.path(), &["seal", "--date", "2031-03-09", "--note", "first units: shipped"]);
    assert!(said.starts_with("revision 4 of marlock is sealed: "), "{said}");
    let file = folder.path().join("sealed/marlock-r4.ember");
    let bytes = std::fs::read(&file).unwrap();
    let text = String::from_utf8(bytes.clone()).unwrap();
    let mut lines = text.splitn(3, '\n');
    let (first, second, rest) = (lines.next().unwrap(), lines.next().unwrap(), lines.next().unwrap());
    assert_eq!(first, "# Sealed as revision 4 on 2031-03-09: first units: shipped");
    let digest: String = Sha256::digest(format!("{first}\n{rest}")).iter().map(|byte| format!("{byte:02x}")).collect();
    assert_eq!(second, format!("# SHA-256 of all other lines: {digest}"));
    // What stood in the imported files stands in it.
    assert!(
        !text.contains("import") && text.contains("message PumpStatus {") && text.contains("message ValvePosition {")
    );
    // It means the same, and is in canonical style.
    let layout = |link: &str| succeed(folder.path(), &["layout", "--as", "ndjson", "--link", link]);
    assert_eq!(layout("marlock.ember"), layout("sealed/marlock-r4.ember"));
    succeed(folder.path(), &["tidy", "--check", "sealed/marlock-r4.ember"]);
    // Twice is no harm, also when only comments differ; another content is refused.
    assert!(succeed(folder.path(), &["seal"]).contains("revision 4 is sealed already, with this content"));
    change(folder.path(), "message GateStatus {", "# a comment\nmessage GateStatus {");
    assert!(succeed(folder.path(), &["seal"]).contains("sealed already"));
    change(folder.path(), "every 200 ms", "every 250 ms");
    let said = refused(folder.path());
    assert!(said.contains("revision 4 is sealed already, with another content"), "{said}");
    assert!(said.contains("write `revision 5` into the link, or take the change back"), "{said}");
    assert_eq!(std::fs::read(&file).unwrap(), bytes);
}

#[test]
fn the_list_says_what_each_revision_added() {
    let folder = project();
    std::fs::rename(folder.path().join("sealed"), folder.path().join("other")).unwrap();
    assert!(succeed(folder.path(), &["seal", "--list"]).contains("nothing is sealed yet"));
    std::fs::rename(folder.path().join("other"), folder.path().join("sealed")).unwrap();
    sealed_four_and_five(folder.path());
    let rows = succeed(folder.path(), &["seal", "--list", "--as", "ndjson"]);
    let rows: Vec<serde_json::Value> = rows.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    assert_eq!((&rows[3]["revision"], &rows[3]["note"]), (&4.into(), &"first units: shipped".into()));
    assert_eq!((&rows[4]["sealed"], &rows[4]["added"]), (&"2031-04-01".into(), &serde_json::json!(["Knock"])));
    assert_eq!(rows[4]["longest_frame"], serde_json::json!({"channel": "tunnel", "bytes": 64}));
    let table = succeed(folder.path(), &["seal", "--list"]);
    assert!(
        table.contains("(the first)") && table.contains("Knock") && table.contains("64 bytes on tunnel"),
        "{table}"
    );
}

#[test]
fn whoever_touches_a_sealed_revision_is_found_out() {
    let folder = project();
    sealed_four_and_five(folder.path());
    change(folder.path(), "revision    5", "revision    6");
    succeed(folder.path(), &["seal", "--date", "2031-04-02"]);
    let sealed = |name: &str| folder.path().join("sealed").join(name);
    let problem = |file: &str, change: &dyn Fn(&str) -> Option<String>, wanted: &str| {
        let before = std::fs::read_to_string(sealed(file)).unwrap();
        match change(&before) {
            Some(text) => std::fs::write(sealed(file), text).unwrap(),
            None => std::fs::remove_file(sealed(file)).unwrap(),
        }
        let said = refused(folder.path());
        assert!(said.contains(wanted) && said.contains("restore these files from version control"), "{said}");
        let listed = run(folder.path(), &["seal", "--list"]);
        assert_eq!((listed.code, listed.err.contains(wanted)), (1, true), "{}", listed.err);
        std::fs::write(sealed(file), before).unwrap();
    };
    problem(
        "marlock-r4.ember",
        &|text| Some(text.replace("200 ms", "250 ms")),
        "marlock-r4.ember was edited after it was sealed",
    );
    problem(
        "marlock-r4.ember",
        &|text| Some(text.replace("first units", "first unit")),
        "marlock-r4.ember was edited after it was sealed",
    );
    problem(
        "marlock-r5.ember",
        &|_| None,
        "revision 5 is missing: marlock-r5.ember was deleted, or never added to version control",
    );
    problem(
        "marlock-r5.ember",
        &|text| Some(text.replace("# SHA-256", "# SHA")),
        "marlock-r5.ember has no digest in its second line",
    );
    // Renamed.
    let six = std::fs::read(sealed("marlock-r6.ember")).unwrap();
    problem(
        "marlock-r5.ember",
        &|_| Some(String::from_utf8(six.clone()).unwrap()),
        "marlock-r5.ember holds revision 6",
    );
    assert!(succeed(folder.path(), &["seal"]).contains("revision 6 is sealed already"));
}

/// Of several that seal at once, one says that it did; the others say that it was done, or why they cannot.
#[test]
fn two_at_once_cannot_both_seal() {
    for _ in 0..5 {
        let folder = project();
        let children: Vec<_> = (0..6)
            .map(|n| {
                let note = format!("from {n}");
                let mut command = common::emberwort(folder.path(), &["seal", "--date", "2031-03-09", "--note", &note]);
                command.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped()).spawn().unwrap()
            })
            .collect();
        let ran: Vec<common::Ran> =
            children.into_iter().map(|child| child.wait_with_output().unwrap().into()).collect();
        let done = ran.iter().filter(|ran| ran.out.contains("is sealed: ")).count();
        assert_eq!(done, 1, "{ran:?}");
        for other in ran.iter().filter(|ran| !ran.out.contains("is sealed: ")) {
            let known = other.code == 0 && other.out.contains("is sealed already");
            assert!(known || (other.code == 2 && other.err.contains("exists already")), "{other:?}");
        }
        let listed = run(folder.path(), &["seal", "--list"]);
        assert_eq!(listed.code, 0, "{}", listed.err);
    }
}

#[test]
fn numbers_go_up_by_one() {
    let folder = project();
    sealed_four_and_five(folder.path());
    change(folder.path(), "revision    5", "revision    2");
    // Marlock has sections of revision 4, which a link of revision 2 cannot have.
    let said = run(folder.path(), &["seal"]);
    assert_eq!(said.code, 1);
    assert!(said.err.contains("has errors, so nothing is sealed"), "{}", said.err);
    change(folder.path(), "revision    2", "revision    7");
    let said = refused(folder.path());
    assert!(said.contains("revision 6 comes after 5, and the definition says 7\nwrite `revision 6`"), "{said}");
    // The first that is sealed may be any.
    for name in ["r1.ember", "r2.ember"] {
        std::fs::remove_file(folder.path().join(format!("sealed/marlock-{name}"))).unwrap();
    }
    std::fs::write(
        folder.path().join("marlock.ember"),
        "link marlock {\n    revision    2\n    byte_order  little\n}\n",
    )
    .unwrap();
    let said = refused(folder.path());
    assert!(
        said.contains("the revision went down: 5 is sealed, and the definition says 2\nwrite `revision 6`"),
        "{said}"
    );
}

#[test]
fn the_pages_show_what_comes_back() {
    let folder = project();
    let pages = [include_str!("../../../../docs/versioning.md"), include_str!("../../../../docs/several-revisions.md")];
    let blocks = pages.iter().flat_map(|page| page.split("```\n").skip(1).step_by(2));
    let shown: Vec<&str> = blocks.filter(|block| block.starts_with("$ emberwort ")).collect();
    assert_eq!(shown.len(), 6);
    for block in shown {
        let (command, expected) = block.split_once('\n').unwrap();
        // What stands in quotes is one word.
        let words: Vec<&str> = command.strip_prefix("$ emberwort ").unwrap().split('\'').enumerate().fold(
            Vec::new(),
            |mut all, (n, part)| {
                if n % 2 == 1 {
                    all.push(part);
                } else {
                    all.extend(part.split_whitespace());
                }
                all
            },
        );
        let found = run(folder.path(), &words).out;
        assert_eq!(found.trim_end(), expected.trim_end(), "{command}");
    }
}
