//! Generated Python: all vectors, both ways, and names of all kinds.

mod common;

use common::plans::{ODD, WHOLE, marlock, plan};
use common::{python, run_python};
use emberwort_codegen::{GenerateError, python as target, vectors};

#[test]
fn all_vectors_agree() {
    let Some(python) = python() else { return };
    for plan in [marlock(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_python(python, folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}

/// By the oldest and the newest Python that is here.
#[test]
fn versions_agree() {
    let plan = marlock();
    let files = target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap();
    for python in common::other_pythons() {
        let folder = tempfile::tempdir().unwrap();
        run_python(&python, folder.path(), &files);
    }
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(python) = python() else { return };
    let plan = marlock();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &all).unwrap();
    let ran = std::panic::catch_unwind(|| run_python(python, folder.path(), &files));
    assert!(ran.is_err());
}

/// Words of Python and of the module, quotes and ends of strings.
#[test]
fn hostile_names_and_texts_stay_what_they_are() {
    let Some(python) = python() else { return };
    let words = ["class", "None", "self", "cls", "bytes", "field", "encode", "decode", "list", "import", "int", "v_x"];
    let fields: String = words.iter().enumerate().map(|(n, word)| format!(" {word} : u{}\n", n + 3)).collect();
    let text = format!(
        "## Ends \"\"\" \u{202e} and \\ and {{}} here.\nlink struct {{\n revision 1\n byte_order little\n}}\n\
         enum Union : u3 {{ 0 none 1 true 2 mro }}\nflags Any : u8 {{ 0 a 7 none }}\n\
         record Form {{\n return : u8\n}}\n\
         channel c {{\n medium uart 9600 8N1\n frame {{ sync A5\n kind : u8 message\n size : u8 length of body\n body }}\n}}\n\
         ## \"\"\"\nmessage Type {{\n id 1\n from device\n on c\n{fields} union : Union\n any : Any\n form : Form\n}}\n"
    );
    let plan = plan(&text);
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &vectors::vectors(&plan, 7)).unwrap();
    assert!(files.iter().all(|file| !file.text.contains('\u{202e}')), "text is not turned around");
    run_python(python, folder.path(), &files);
}

#[test]
fn names_that_become_the_same_are_refused() {
    let text = "link l {\n revision 1\n byte_order little\n}\nchannel c {\n medium uart 9600 8N1\n frame { sync A5\n kind : u8 message\n size : u8 length of body\n body }\n}\n\
                message M {\n id 1\n from device\n on c\n class : u8\n class_ : u8\n}\n";
    let plan = plan(text);
    let error = target::generate(&plan, &[]).unwrap_err();
    let GenerateError::NameClash { clash, language } = error else { panic!("{error}") };
    assert_eq!((clash.name.as_str(), language), ("class_", "Python"));
}

/// The example of docs/generated-python.md.
#[test]
fn the_example_of_the_page_runs() {
    let Some(python) = python() else { return };
    let page = include_str!("../../../docs/generated-python.md");
    let example = page.split("```python\n").nth(1).unwrap().split("```").next().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let plan = marlock();
    common::write(folder.path(), &target::generate(&plan, &[]).unwrap());
    std::fs::write(folder.path().join("main.py"), example).unwrap();
    let ran = std::process::Command::new(python).current_dir(folder.path()).arg("main.py").output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned() + &String::from_utf8_lossy(&ran.stderr);
    assert_eq!(said, "node 3: 42.5 %\n1 good frame, 5 bytes skipped\n");
}
