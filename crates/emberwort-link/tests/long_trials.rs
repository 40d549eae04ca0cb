//! Long trials keep nothing and lose no byte. No other test is in this file: they share a process, and its memory.

#[path = "../../../examples/plan_of_marlock.rs"]
mod marlock;

use std::sync::Arc;

use emberwort_link::{Revisions, Scenario, run};
use emberwort_model::Plan;

fn plan() -> Arc<Plan> {
    Arc::new(marlock::checked().plan.unwrap())
}

fn scenario(text: &str, plan: &Arc<Plan>) -> Scenario {
    Scenario::parse(text, plan, &Revisions::default()).unwrap_or_else(|error| panic!("{error}"))
}

const TWO_GATES: &str = "channel = \"bus485\"\nspan = \"60 s\"\n[[device]]\nnode = 1\n[[device]]\nnode = 3\n\
    [[request]]\nat = \"1 s\"\nevery = \"500 ms\"\nnode = 3\nmessage = \"WhoAreYou\"\n";

/// Memory of this process in kilobytes (Linux).
fn memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|line| line.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse().unwrap()
}

const EVERY_FAULT: &str = "[wire]\nbit_errors = 1e-5\nbyte_loss = 1e-5\ninserted = 1e-5\nframe_loss = 1e-3\nduplicates = 1e-3\ndelay = \"1 ms\"\n\
    jitter = \"1 ms\"\nnoise = { begins = 1e-4, ends = 0.05, bit_errors = 0.1 }\nbursts = { every = \"60 s\", lasting = \"5 ms\", bit_errors = 0.3 }\n\
    cut = [[\"10 s\", \"20 s\"]]\ncollisions = true\n[wire.to_device]\nbaud_error = 0.002\n";

fn a_day_with_every_fault(hours: u32) {
    let plan = plan();
    let text = TWO_GATES.replace("span = \"60 s\"", &format!("span = \"{hours} h\"")) + EVERY_FAULT;
    // The tables of the file come in any order.
    let scenario = scenario(&text, &plan);
    let mut first = None;
    struct Look<'a>(&'a mut Option<u64>, u64, u64);
    impl emberwort_link::TrialObserver for Look<'_> {
        fn should_continue(&mut self, now: u64) -> bool {
            if now > self.1 {
                let used = memory();
                self.0.get_or_insert(used);
                self.2 = self.2.max(used);
                self.1 += 600_000_000_000;
            }
            true
        }
    }
    let mut look = Look(&mut first, 600_000_000_000, 0);
    let report = run(&scenario, &mut look);
    let most = look.2;
    let first = first.unwrap();
    assert!(most < first + 4_096, "{first} kB after ten minutes, {most} kB at most");
    for heard in report.devices.values().chain([&report.host]) {
        let sum = heard.good_bytes + heard.unread_bytes + heard.broken_bytes + heard.stray_bytes;
        assert_eq!(sum, heard.input, "every byte is accounted for: {heard:?}");
    }
    let (sent, received): (u64, u64) = (report.sent.values().sum(), report.received.values().sum());
    let lost: u64 = report.lost.values().sum();
    assert!(
        sent > u64::from(hours) * 30_000 && received + lost == sent,
        "{sent} sent, {received} received, {lost} lost"
    );
    // A CRC of 16 bits lets through one of 65,536 at most; 10.83 is the 99.9 % quantile of chi-square with one degree of freedom.
    let expected = report.damaged.values().sum::<u64>() as f64 / 65_536.0;
    let found = report.wrong as f64;
    assert!(
        found <= expected || (found - expected).powi(2) / expected < 10.83,
        "{found} accepted, {expected:.2} expected at most"
    );
}

#[test]
fn an_hour_with_every_fault_keeps_nothing_and_loses_no_byte() {
    a_day_with_every_fault(1);
}

/// The same for a day: `cargo test --release -p emberwort-link --test long_trials -- --ignored`.
#[test]
#[ignore = "takes half a minute in a release build"]
fn a_day_with_every_fault_keeps_nothing_and_loses_no_byte() {
    a_day_with_every_fault(if std::env::var_os("EMBERWORT_SMALL").is_some() { 2 } else { 24 });
}
