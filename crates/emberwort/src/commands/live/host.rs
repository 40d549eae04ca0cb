//! `host`: plays the host of a trial on a real port.

use std::path::Path;

use emberwort_link::{HostEnd, LinkEvent};
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::MessageId;
use emberwort_model::model::End;
use emberwort_rows::{Paint, time};

use super::play::{Stage, WhenIdle};
use crate::cli::PlayArgs;
use crate::ending::Ending;
use crate::output::{Look, say};
use crate::render::plural;

pub fn run(args: &PlayArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let stage = Stage::new(args, link, look)?;
    let host = stage.scenario.definitions.get(stage.scenario.host).plan.clone();
    let starts = stage.starts();
    let mut machine = [HostEnd::new(&stage.scenario, starts)];
    let (mut answered, mut unanswered) = (Vec::new(), 0u64);
    let name = |message: MessageId| host.messages[message].message.name.clone();
    let tell = |event: LinkEvent| match event {
        LinkEvent::Answered { after, .. } => answered.push(after),
        LinkEvent::Unanswered { request, node } => {
            unanswered += 1;
            say!("{} nobody answered {} to node {node}", look.paint_err(Paint::Bad, "finding:"), name(request));
        }
    };
    stage.play(End::Host, WhenIdle::End, &mut machine, tell)?;
    let mut failed = 0u64;
    for outcome in machine[0].outcomes() {
        match outcome.held() {
            true => say!("{}: {}", escaped(&outcome.name), outcome.found),
            false => {
                failed += 1;
                say!("{} {}: {}", look.paint_err(Paint::Bad, "finding:"), escaped(&outcome.name), outcome.found);
            }
        }
    }
    answered.sort_unstable();
    if let (Some(median), Some(slowest)) = (answered.get(answered.len() / 2), answered.last()) {
        let (median, slowest) = (time::duration(*median), time::duration(*slowest));
        say!("{} answered, in {median} (median), at most {slowest}", plural(answered.len(), "request"));
    }
    if unanswered > 0 {
        say!("{} not answered", plural(unanswered, "request"));
    }
    Ok(if unanswered > 0 || failed > 0 { Ending::WithFindings } else { Ending::Clean })
}
