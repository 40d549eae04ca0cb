//! Ends of a trial on a real port, in real time.

use std::io;
use std::path::Path;
use std::sync::Arc;

use emberwort_capture::{Decoder, RevisionMap, StreamSink as _};
use emberwort_link::TrialDefinitionId;
use emberwort_link::{LinkEvent, Machine, Scenario};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::End;
use emberwort_rows::{RowPrinter, RowStyle, ShownTimes};
use emberwort_wire::{ChunkSink as _, Time};

use super::line::{Incoming, Line, PortInput, earliest};
use crate::cli::{LineArgs, PlayArgs, RevisionArgs};
use crate::output::{self, Look, say};
use crate::project::{Project, load_plan_of};
use crate::reading::capture_definitions::revisions_in_trial;
use crate::reading::scenario;
use crate::render::stats::{Account, sentence};

/// What is done when the machines have nothing more to do by themselves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum WhenIdle {
    /// It is over.
    End,
    /// Others may still have something to say.
    Listen,
}

/// A trial whose ends are to be played, and the port for that.
pub struct Stage {
    pub plan: Arc<Plan>,
    pub scenario: Scenario,
    incoming: Incoming,
    line: Line,
    style: RowStyle,
}

impl Stage {
    /// Reads the trial, and opens the port.
    pub fn new(args: &PlayArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Self> {
        let project = Project::find(link)?;
        let plan = load_plan_of(&project.definition, look)?;
        let nobody = RevisionArgs { device: Vec::new(), fleet: None };
        let (revisions, _) = revisions_in_trial(&nobody, None, &project.definition, &plan, look)?;
        let scenario = scenario::read(&args.file, &plan, &revisions, args.seed)?.scenario;
        crate::interrupt::catch();
        let mut incoming = Incoming::new(args.lasting);
        let on = Some(plan.channels[scenario.definitions.get(TrialDefinitionId::default()).channel].name.clone());
        let line = LineArgs { on, baud: args.baud, once: args.once, rts: None, dtr: None, rs485: args.rs485 };
        let line = Line::open(&args.port, &line, &plan, &mut incoming)?;
        let style = RowStyle {
            form: args.form,
            raw: args.raw,
            only: None,
            labels: None,
            times: ShownTimes::Utc,
            colored: look.out,
            width: output::terminal_width(),
        };
        line.wait_for_peer(&incoming);
        Ok(Self { plan, scenario, incoming, line, style })
    }

    /// When the trial starts.
    pub fn starts(&self) -> Time {
        self.incoming.now()
    }

    /// Lets machines of one end run until their time is over, the user interrupts, or the port is gone for good. Prints what goes through
    /// the port.
    pub fn play<M: Machine>(
        mut self,
        from: End,
        when_idle: WhenIdle,
        machines: &mut [M],
        mut tell: impl FnMut(LinkEvent),
    ) -> anyhow::Result<()> {
        let printer = RowPrinter::new(
            &RevisionMap::of(self.plan.clone()),
            &self.style,
            output::stdout_at_once(),
            crate::interrupt::came,
        );
        let mut decoder = Decoder::new(self.plan.clone(), printer);
        let mut refused = false;
        loop {
            let now = self.incoming.now();
            for machine in machines.iter_mut() {
                machine.handle_timeout(now);
                while let Some(frame) = machine.poll_transmit() {
                    match self.line.port.send(&frame) {
                        Ok(sent) => {
                            refused = false;
                            let _ = decoder.chunk(&self.line.chunk(Some(from), sent, &frame));
                        }
                        // As with an unplugged cable.
                        Err(error) if error.kind() == io::ErrorKind::NotConnected => {}
                        Err(error) if !refused => {
                            refused = true;
                            say!("{} takes nothing: {error}", escaped(self.line.port.name()));
                        }
                        Err(_) => {}
                    }
                }
            }
            for machine in machines.iter_mut() {
                while let Some(event) = machine.poll_event() {
                    tell(event);
                }
            }
            decoder.pause();
            let next = machines.iter().filter_map(Machine::poll_timeout).min();
            let is_done = next.is_none() && when_idle == WhenIdle::End;
            if is_done || decoder.has_ended() {
                break;
            }
            match self.incoming.wait(&[&self.line], earliest(next, decoder.poll_timeout())) {
                PortInput::Bytes(_, time, bytes) => {
                    let chunk = self.line.chunk(Some(from.other()), time, &bytes);
                    for machine in machines.iter_mut() {
                        machine.handle_chunk(time, &chunk);
                    }
                    let _ = decoder.chunk(&chunk);
                }
                PortInput::Break(_) => {
                    let now = self.incoming.now();
                    machines.iter_mut().for_each(|machine| machine.handle_break(now));
                    decoder.end_streams();
                }
                PortInput::Nothing => decoder.handle_timeout(self.incoming.now()),
                PortInput::End => break,
            }
        }
        let (_, statistics) = decoder.finish()?;
        say!("{}", sentence(&Account { statistics: &statistics, file_bytes: 0, damage: &[] }));
        self.incoming.leave(&[&self.line]);
        Ok(())
    }
}
