//! `watch`: a link on the terminal, live from a port or played back from a file.

mod definition;
mod draw;
mod feed;
mod form;
mod scope;
mod view;

use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::Context;
use definition::Definition;
use feed::Feed;
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use view::View;

use crate::cli::WatchArgs;
use crate::ending::Ending;
use crate::output::{self, Look};
use crate::project::Project;

/// From one picture to the next: 20 a second.
const TICK: Duration = Duration::from_millis(50);

pub fn run(args: &WatchArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let project = Project::find(link)?;
    let definition = Definition::load(&project.definition, look)?;
    crate::interrupt::catch_as_end();
    let feed = Feed::open(args, definition.plan())?;
    let mut app = App { feed, definition, view: View::new(look), first_keys: args.keys.clone() };
    match args.frames {
        Some(frames) => app.still_frames(frames, args)?,
        None => app.on_terminal()?,
    }
    Ok(Ending::Clean)
}

/// All that belongs to a running watch.
pub struct App {
    feed: Feed,
    definition: Definition,
    view: View,
    /// Keys that are pressed once something was seen.
    first_keys: String,
}

impl App {
    /// On the terminal, until the user ends it. What the terminal was like comes back, also after a panic.
    fn on_terminal(&mut self) -> anyhow::Result<()> {
        let mut terminal =
            ratatui::try_init().context("this needs a terminal; --frames N prints pictures without one")?;
        let _given_up = crate::interrupt::at_the_end(ratatui::restore);
        let ended = self.loop_on(&mut terminal);
        ratatui::restore();
        ended
    }

    fn loop_on(&mut self, terminal: &mut ratatui::DefaultTerminal) -> anyhow::Result<()> {
        let mut next = Instant::now();
        while !self.view.is_over && !crate::interrupt::came() {
            next = (next + TICK).max(Instant::now());
            self.feed.go_on(TICK);
            self.look_at_definition();
            self.press_first_keys();
            // All keys that were pressed meanwhile.
            while event::poll(Duration::ZERO)? {
                if let Event::Key(key) = event::read()?
                    && key.kind == KeyEventKind::Press
                {
                    self.view.key(key, &mut self.feed, &self.definition);
                }
            }
            terminal.draw(|frame| draw::draw(frame, &mut self.view, &self.feed, &self.definition))?;
            // A test sees what a panic leaves of the terminal; no other build has this.
            #[cfg(debug_assertions)]
            assert!(std::env::var_os("EMBERWORT_TEST_PANIC").is_none(), "a panic that a test wants");
            self.feed.wait_until(next);
        }
        Ok(())
    }

    /// Prints so many pictures as text, each a tick after the one before. Played back, they do not depend on how fast this machine is.
    fn still_frames(&mut self, frames: u64, args: &WatchArgs) -> anyhow::Result<()> {
        use std::io::Write;
        let (width, height) = args.size;
        let mut terminal = Terminal::new(TestBackend::new(width, height))?;
        let mut out = output::stdout();
        for _ in 0..frames {
            let next = Instant::now() + TICK;
            self.feed.go_on(TICK);
            self.press_first_keys();
            self.look_at_definition();
            if !self.feed.is_played() {
                self.feed.wait_until(next);
            }
            terminal.draw(|frame| draw::draw(frame, &mut self.view, &self.feed, &self.definition))?;
            let buffer = terminal.backend().buffer().clone();
            for y in 0..height {
                let line: String = (0..width).map(|x| buffer[(x, y)].symbol()).collect();
                writeln!(out, "{}", line.trim_end())?;
            }
            writeln!(out)?;
            out.flush()?;
            if crate::interrupt::came() {
                break;
            }
        }
        Ok(())
    }

    fn press_first_keys(&mut self) {
        if self.feed.seen().activity.is_empty() {
            return;
        }
        self.view.choose_first(self.feed.seen());
        for key in std::mem::take(&mut self.first_keys).chars() {
            self.view.key(view::key_of(key), &mut self.feed, &self.definition);
        }
    }

    /// Takes a definition that was saved meanwhile.
    fn look_at_definition(&mut self) {
        if self.definition.reload() {
            self.feed.know(self.definition.plan());
        }
    }
}
