//! Trials in which programs play devices: in real time, over their standard input and output.

use std::path::Path;

use anyhow::Context;
use emberwort_link::{ExternalDevices, Scenario};
use emberwort_model::diagnostics::escaped;
use emberwort_port::{Address, Clock, Event, Events, Port, Received, WhenLost};
use emberwort_wire::Time;

use crate::output::say;

/// The programs of a trial that was started.
pub struct Programs {
    events: Events,
    starts: Time,
    /// By device.
    ports: Vec<Option<Port>>,
}

/// How often it is looked whether the user has interrupted.
const LOOK_EVERY: u64 = 100_000_000;

impl Programs {
    /// Starts the programs that a trial names, in its folder; `None` if it names none.
    ///
    /// # Errors
    /// If one cannot be started.
    pub fn start(scenario: &Scenario, trial: &Path) -> anyhow::Result<Option<Self>> {
        if scenario.devices.iter().all(|device| device.program.is_none()) {
            return Ok(None);
        }
        let events = Events::new(Clock::new());
        let folder = trial.parent().unwrap_or(Path::new(""));
        let mut ports = Vec::new();
        for (number, device) in scenario.devices.iter().enumerate() {
            let Some(mut command) = device.program.clone() else {
                ports.push(None);
                continue;
            };
            // A path is one from the trial file on.
            if let Some(program) = command.first_mut().filter(|program| program.contains('/')) {
                *program = folder.join(&*program).display().to_string();
            }
            let shown = escaped(&command.join(" "));
            let port = Port::open(&Address::Command(command), None, WhenLost::End, (&events, number), &|| true);
            ports.push(Some(port.with_context(|| format!("node {} is played by `{shown}`", device.node))?));
        }
        say!("programs play devices, so this takes as long as it says");
        let starts = events.clock().now();
        Ok(Some(Self { events, starts, ports }))
    }
}

impl Drop for Programs {
    /// All are asked to end before one is waited for.
    fn drop(&mut self) {
        self.ports.iter().flatten().for_each(Port::ask_to_end);
    }
}

impl ExternalDevices for Programs {
    fn wait_until(&mut self, moment: u64) -> Option<(u64, usize, Vec<u8>)> {
        let until = self.starts.after(moment);
        while !crate::interrupt::came() {
            let now = self.events.clock().now();
            if now >= until {
                return None;
            }
            match self.events.receive(Some(until.min(now.after(LOOK_EVERY)))) {
                Received::Event(device, Event::Bytes(time, bytes)) => {
                    return Some((time.since(self.starts), device, bytes));
                }
                Received::Event(device, Event::Ended)
                    if self.ports.get_mut(device).and_then(Option::take).is_some() =>
                {
                    say!("the program of device {} ended", device + 1);
                }
                _ => {}
            }
        }
        None
    }

    fn deliver(&mut self, device: usize, bytes: &[u8]) {
        let Some(Some(port)) = self.ports.get_mut(device) else { return };
        if let Err(error) = port.send(bytes) {
            say!("the program of device {} takes nothing: {error}", device + 1);
            self.ports[device] = None;
        }
    }
}
