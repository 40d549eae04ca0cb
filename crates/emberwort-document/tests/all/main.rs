//! All tests of emberwort-document as one program.

#[path = "../../../../examples/plan_of_marlock.rs"]
mod plan_of_marlock;

mod document;
#[path = "../../../emberwort-codegen/tests/all/common/plans.rs"]
mod plans;
