//! Generated Rust: all vectors, both ways, and names of all kinds.

mod common;
#[path = "../../../examples/plan_of_marlock.rs"]
mod marlock;

use common::run_rust;
use emberwort_codegen::{rust as target, vectors};
use emberwort_model::{Plan, Source, check};

const WHOLE: &str = include_str!("whole.ember");
const ODD: &str = include_str!("odd.ember");

fn plan(text: &str) -> Plan {
    let checked = check(&Source::new("test.ember", text));
    checked.plan.unwrap_or_else(|| panic!("{:#?}", checked.findings))
}

#[test]
fn all_vectors_agree() {
    for plan in [marlock::checked().plan.unwrap(), plan(ODD), plan(WHOLE)] {
        let folder = tempfile::tempdir().unwrap();
        run_rust(folder.path(), &target::generate(&plan, &vectors::vectors(&plan, 42)).unwrap());
    }
}
