//! `device`: plays the devices of a trial on a real port.

use std::path::Path;

use anyhow::bail;
use emberwort_link::DeviceEnd;
use emberwort_model::model::End;

use super::play::{Stage, WhenIdle};
use crate::cli::DeviceArgs;
use crate::ending::Ending;
use crate::output::Look;

pub fn run(args: &DeviceArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    crate::interrupt::catch_as_end();
    let stage = Stage::new(&args.play, link, look)?;
    let devices = &stage.scenario.devices;
    let is_played = |index: &usize| args.node.is_none_or(|node| devices[*index].node == node);
    let starts = stage.starts();
    let played = (0..devices.len()).filter(is_played);
    let mut machines: Vec<DeviceEnd> = played.map(|index| DeviceEnd::new(&stage.scenario, index, starts)).collect();
    if let (Some(node), true) = (args.node, machines.is_empty()) {
        let nodes: Vec<String> = devices.iter().map(|device| device.node.to_string()).collect();
        bail!("the trial has no device with node {node}; it has {}", nodes.join(", "));
    }
    stage.play(End::Device, WhenIdle::Listen, &mut machines, |_| ())?;
    Ok(Ending::Clean)
}
