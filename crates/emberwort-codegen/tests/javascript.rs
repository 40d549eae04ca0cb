//! Generated JavaScript: all vectors, both ways, and names of all kinds.

mod common;
#[path = "../../../examples/plan_of_marlock.rs"]
mod marlock;

use common::{node, run_node};
use emberwort_codegen::{javascript as target, vectors};
use emberwort_model::{Plan, Source, check};

const WHOLE: &str = include_str!("whole.ember");
const ODD: &str = include_str!("odd.ember");

fn plan(text: &str) -> Plan {
    let checked = check(&Source::new("test.ember", text));
    checked.plan.unwrap_or_else(|| panic!("{:#?}", checked.findings))
}

#[test]
fn all_vectors_agree() {
    let Some(node) = node() else { return };
    for plan in [marlock::checked().plan.unwrap(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_node(node, folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}

#[test]
fn a_wrong_vector_is_found() {
    let Some(node) = node() else { return };
    let plan = marlock::checked().plan.unwrap();
    let mut all = vectors::vectors(&plan, 42);
    all.truncate(3);
    all[1].body[1] ^= 1;
    let folder = tempfile::tempdir().unwrap();
    let files = target::generate(&plan, &all).unwrap();
    let ran = std::panic::catch_unwind(|| run_node(node, folder.path(), &files));
    assert!(ran.is_err());
}
