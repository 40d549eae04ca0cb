//! What the user looks at, and what keys do.

use emberwort_capture::Monitor;
use emberwort_capture::monitor::Source;
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};

use super::definition::Definition;
use super::feed::Feed;
use super::form::Form;
use super::scope::Scope;
use crate::output::Look;

/// What takes the lower part of the screen.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Lower {
    /// The last frames.
    #[default]
    Log,
    /// Requests and their answers.
    Pairs,
    /// Fields against time.
    Scope,
}

/// What the arrows move.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Focus {
    #[default]
    Messages,
    Fields,
}

/// What the user looks at.
pub struct View {
    pub look: Look,
    /// The message that is chosen, and the field.
    pub chosen: Option<Source>,
    pub field: usize,
    pub focus: Focus,
    pub lower: Lower,
    pub scope: Scope,
    pub form: Option<Form>,
    pub has_help: bool,
    /// Something to be said in the last line.
    pub notice: String,
    pub is_over: bool,
}

/// The key that a character of `--keys` stands for.
pub fn key_of(c: char) -> KeyEvent {
    let code = match c {
        '\t' => KeyCode::Tab,
        '\n' => KeyCode::Enter,
        '↓' => KeyCode::Down,
        '↑' => KeyCode::Up,
        c => KeyCode::Char(c),
    };
    KeyEvent::new(code, KeyModifiers::NONE)
}

/// What keys do, for the help.
pub const KEYS: [(&str, &str); 16] = [
    ("↑ ↓", "another message or field"),
    ("Tab", "from messages to fields and back"),
    ("space", "pause and go on"),
    ("s", "draw the chosen field in the scope, or no longer"),
    ("o  l  a", "scope, log, requests and answers"),
    ("+ -", "longer or shorter time base of the scope"),
    ("h", "hold the scope; space lets it go on, too"),
    ("← →", "move the cursor of the scope, and read it out"),
    ("f", "fill in a message and send it"),
    ("r", "begin to count anew"),
    ("> <", "play a recording faster or slower"),
    ("n", "one step of a recording"),
    ("?", "this help"),
    ("Esc", "close what is open"),
    ("q", "quit"),
    ("Ctrl-C", "quit"),
];

impl View {
    pub fn new(look: Look) -> Self {
        Self {
            look,
            chosen: None,
            field: 0,
            focus: Focus::default(),
            lower: Lower::default(),
            scope: Scope::default(),
            form: None,
            has_help: false,
            notice: String::new(),
            is_over: false,
        }
    }

    /// A key was pressed.
    pub fn key(&mut self, key: KeyEvent, feed: &mut Feed, definition: &Definition) {
        self.notice.clear();
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
            self.is_over = true;
            return;
        }
        if self.form.is_some() {
            return self.key_in_form(key, feed);
        }
        if std::mem::take(&mut self.has_help) {
            return;
        }
        match key.code {
            KeyCode::Char('q') => self.is_over = true,
            KeyCode::Char('?') => self.has_help = true,
            KeyCode::Char(' ') => {
                feed.is_paused = !feed.is_paused;
                self.scope.held = None;
            }
            KeyCode::Char('s') => self.toggle_trace(feed),
            KeyCode::Char('o') => self.lower = Lower::Scope,
            KeyCode::Char('l') => self.lower = Lower::Log,
            KeyCode::Char('a') => self.lower = Lower::Pairs,
            KeyCode::Char('+' | '=') => self.scope.change_base(true),
            KeyCode::Char('-') => self.scope.change_base(false),
            KeyCode::Char('h') => self.scope.hold(feed.now()),
            KeyCode::Left => self.scope.move_cursor(true),
            KeyCode::Right => self.scope.move_cursor(false),
            KeyCode::Char('>') => feed.change_speed(2.0),
            KeyCode::Char('<') => feed.change_speed(0.5),
            KeyCode::Char('n') => feed.step(),
            KeyCode::Char('r') => *feed.monitor() = Default::default(),
            KeyCode::Char('f') => {
                // To the device whose message is chosen.
                let node = self.chosen.as_ref().and_then(|chosen| chosen.2).unwrap_or(0);
                match feed.channel().map(|channel| Form::new(definition.plan(), channel, node)) {
                    Some(Some(form)) => self.form = Some(form),
                    Some(None) => self.notice = "the host sends nothing on this channel".to_owned(),
                    None => self.notice = "nothing can be sent into a recording".to_owned(),
                }
            }
            KeyCode::Esc => self.scope.cursor = None,
            KeyCode::Tab => {
                self.focus = if self.focus == Focus::Messages { Focus::Fields } else { Focus::Messages };
            }
            KeyCode::Down => self.go(feed, true),
            KeyCode::Up => self.go(feed, false),
            _ => {}
        }
    }

    fn key_in_form(&mut self, key: KeyEvent, feed: &mut Feed) {
        let Some(form) = &mut self.form else { return };
        match key.code {
            KeyCode::Esc => self.form = None,
            KeyCode::Enter => {
                form.notice = match feed.send(form) {
                    Ok(()) => format!("{} was sent", form.message()),
                    Err(problem) => problem,
                };
            }
            KeyCode::Left => form.turn(false),
            KeyCode::Right => form.turn(true),
            KeyCode::Down | KeyCode::Tab => form.at = (form.at + 1) % form.lines.len().max(1),
            KeyCode::Up | KeyCode::BackTab => {
                form.at = (form.at + form.lines.len().max(1) - 1) % form.lines.len().max(1)
            }
            KeyCode::Backspace => form.erase(),
            KeyCode::Char(c) if !c.is_control() => form.type_in(c),
            _ => {}
        }
    }

    fn toggle_trace(&mut self, feed: &mut Feed) {
        let Some(chosen) = self.chosen.clone() else { return };
        let Some(seen) = feed.monitor().activity.get(&chosen) else { return };
        match seen.history.get(self.field).filter(|history| !history.is_empty()) {
            Some(_) => {
                self.scope.toggle(&chosen, self.field);
                self.lower = Lower::Scope;
            }
            None => self.notice = "only fields that are numbers can be drawn; Tab goes to the fields".to_owned(),
        }
    }

    /// Another message or field.
    fn go(&mut self, feed: &mut Feed, down: bool) {
        let monitor = feed.monitor();
        match self.focus {
            Focus::Messages => {
                let all: Vec<&Source> = monitor.activity.keys().collect();
                let at = self.chosen.as_ref().and_then(|chosen| all.iter().position(|source| *source == chosen));
                let next = match (at, down) {
                    (None, _) => 0,
                    (Some(at), true) => (at + 1).min(all.len().saturating_sub(1)),
                    (Some(at), false) => at.saturating_sub(1),
                };
                self.chosen = all.get(next).map(|source| (*source).clone());
                self.field = 0;
            }
            Focus::Fields => {
                let Some(seen) = self.chosen.as_ref().and_then(|chosen| monitor.activity.get(chosen)) else { return };
                let fields = &seen.plan.messages[seen.message].message.fields;
                let shown: Vec<usize> = (0..fields.len()).filter(|slot| !fields[*slot].is_spare()).collect();
                let at = shown.iter().position(|slot| *slot == self.field).unwrap_or(0);
                let next = if down { (at + 1).min(shown.len().saturating_sub(1)) } else { at.saturating_sub(1) };
                self.field = shown.get(next).copied().unwrap_or(0);
            }
        }
    }

    /// The first message is chosen as long as nobody has chosen one.
    pub fn choose_first(&mut self, monitor: &Monitor) {
        if self.chosen.is_none() {
            self.chosen = monitor.activity.keys().next().cloned();
        }
    }
}
