//! Drawing: what is seen, in as much room as there is. Everything is told by words and forms; colour only helps.

use std::collections::VecDeque;

use emberwort_capture::monitor::{LogEntryKind, Logged, MessageActivity, Monitor, Source};
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::hex;
use emberwort_model::model::{End, Field, Kind};
use emberwort_rows::time;
use emberwort_text::formula::number;
use emberwort_text::show;
use emberwort_wire::{Time, Values};
use ratatui::Frame;
use ratatui::layout::{Constraint, Layout, Rect};
use ratatui::style::{Color, Modifier, Style};
use ratatui::symbols::Marker;
use ratatui::text::{Line, Span};
use ratatui::widgets::{Axis, Block, Borders, Cell, Chart, Clear, Dataset, GraphType, Paragraph, Row, Table};

use super::definition::Definition;
use super::feed::Feed;
use super::view::{Focus, KEYS, Lower, View};

/// Colours of the middle of the 256, which are read on a light and on a dark ground; none if the user wants none.
struct Paints {
    is_coloured: bool,
}

impl Paints {
    fn with(&self, color: Color) -> Style {
        if self.is_coloured { Style::new().fg(color) } else { Style::new() }
    }

    fn bad(&self) -> Style {
        self.with(Color::Indexed(160)).add_modifier(Modifier::BOLD)
    }

    fn host(&self) -> Style {
        self.with(Color::Indexed(133))
    }

    fn chosen(&self, has_focus: bool) -> Style {
        if has_focus {
            Style::new().add_modifier(Modifier::REVERSED)
        } else {
            Style::new().add_modifier(Modifier::BOLD)
        }
    }

    /// Traces are told apart by their markers, too.
    fn trace(&self, number: usize) -> Style {
        self.with(Color::Indexed([33, 166, 35, 133][number % 4]))
    }
}

const MARKERS: [(Marker, &str); 4] =
    [(Marker::Braille, "⠤"), (Marker::Dot, "•"), (Marker::Block, "█"), (Marker::Bar, "▄")];

/// Draws all of it.
pub fn draw(frame: &mut Frame<'_>, view: &mut View, feed: &Feed, definition: &Definition) {
    let paints = Paints { is_coloured: view.look.out };
    let (monitor, now) = (feed.seen(), feed.now());
    view.choose_first(monitor);
    let area = frame.area();
    let (is_tall, is_wide) = (area.height >= 36, area.width >= 120);
    let messages = (monitor.activity.len() as u16 + 2).clamp(4, if is_tall { 14 } else { 8 });
    // A large screen has room for all at once: the scope and the pairs in the middle, the log below.
    let middle = if is_tall && is_wide { area.height * 2 / 5 } else { 0 };
    let lower = if is_tall { area.height / 4 } else { area.height / 3 };
    let [title, above, between, below, last] = Layout::vertical([
        Constraint::Length(1),
        Constraint::Min(6),
        Constraint::Length(middle),
        Constraint::Length(lower),
        Constraint::Length(1),
    ])
    .areas(area);
    let (table, fields) = if is_wide {
        let [table, fields] =
            Layout::horizontal([Constraint::Percentage(42), Constraint::Percentage(58)]).spacing(2).areas(above);
        (table, fields)
    } else {
        let [table, fields] = Layout::vertical([Constraint::Length(messages), Constraint::Min(3)]).areas(above);
        (table, fields)
    };
    draw_title(frame, title, feed, definition, &paints);
    draw_messages(frame, table, view, monitor, now, &paints);
    draw_fields(frame, fields, view, monitor, &paints);
    if middle > 0 {
        let [scope, pairs] =
            Layout::horizontal([Constraint::Min(60), Constraint::Length(70)]).spacing(2).areas(between);
        draw_scope(frame, scope, view, monitor, now, &paints);
        draw_pairs(frame, pairs, monitor, &paints);
    }
    match view.lower {
        _ if middle > 0 => draw_log(frame, below, monitor, &paints),
        Lower::Log => draw_log(frame, below, monitor, &paints),
        Lower::Pairs => draw_pairs(frame, below, monitor, &paints),
        Lower::Scope => draw_scope(frame, below, view, monitor, now, &paints),
    }
    draw_last(frame, last, view, monitor, &paints);
    if view.form.is_some() {
        draw_form(frame, area, view, &paints);
    }
    if view.has_help {
        draw_help(frame, area);
    }
}

fn clock(time: Time) -> String {
    let mut text = String::new();
    time::write_time_of_day(time, 3, &mut text);
    text
}

fn draw_title(frame: &mut Frame<'_>, area: Rect, feed: &Feed, definition: &Definition, paints: &Paints) {
    let mut spans = vec![Span::styled(feed.name(), Style::new().add_modifier(Modifier::BOLD)), Span::raw("  ")];
    if feed.now() != Time::default() {
        spans.push(Span::raw(clock(feed.now())));
    }
    if feed.is_paused {
        spans.push(Span::styled("  PAUSED", paints.bad()));
    }
    if !feed.state.is_empty() {
        spans.push(Span::styled(format!("  {}", feed.state), paints.bad()));
    }
    if let Some(problem) = &definition.problem {
        spans.push(Span::styled(
            format!("  the definition has errors, the last good one counts: {problem}"),
            paints.bad(),
        ));
    }
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

fn block(title: &str) -> Block<'_> {
    Block::new().borders(Borders::TOP).title(Span::styled(title, Style::new().add_modifier(Modifier::BOLD)))
}

fn age(seen: &MessageActivity, now: Time) -> String {
    match seen.last() {
        Some(last) => format!("{:.1} s", now.since(last) as f64 / 1e9),
        None => String::new(),
    }
}

fn draw_messages(frame: &mut Frame<'_>, area: Rect, view: &View, monitor: &Monitor, now: Time, paints: &Paints) {
    let right = |text: String| Cell::new(Line::raw(text).right_aligned());
    let titles = ["NODE", "AGE", "A SECOND", "COUNT"].map(|title| right(title.to_owned()));
    let header = Row::new([Cell::new("MESSAGE"), Cell::new("FROM")].into_iter().chain(titles))
        .style(Style::new().add_modifier(Modifier::DIM));
    let room = usize::from(area.height.saturating_sub(2));
    let at = monitor.activity.keys().position(|source| Some(source) == view.chosen.as_ref()).unwrap_or(0);
    let skipped = at.saturating_sub(room.saturating_sub(1));
    let rows = monitor.activity.iter().skip(skipped).take(room).map(|(source, seen)| {
        let (from, name, node) = source;
        let row = Row::new([
            Cell::new(name.clone()),
            Cell::new(from.as_str()),
            right(node.map_or_else(String::new, |node| node.to_string())),
            right(age(seen, now)),
            right(seen.rate().map_or_else(String::new, |rate| format!("{rate:.1}"))),
            right(seen.count.to_string()),
        ]);
        let style = if *from == End::Host { paints.host() } else { Style::new() };
        let is_chosen = Some(source) == view.chosen.as_ref();
        row.style(if is_chosen { style.patch(paints.chosen(view.focus == Focus::Messages)) } else { style })
    });
    let widths = [
        Constraint::Min(14),
        Constraint::Length(6),
        Constraint::Length(6),
        Constraint::Length(9),
        Constraint::Length(9),
        Constraint::Length(9),
    ];
    let title = if monitor.activity.is_empty() { "messages: none came yet" } else { "messages" };
    frame.render_widget(Table::new(rows, widths).header(header).block(block(title)), area);
}

fn value_text(field: &Field, values: &Values, slot: usize) -> String {
    let mut text = String::new();
    // Writing to memory cannot fail.
    let _ = show::write_value(field, values, slot, &mut text);
    if emberwort_rows::has_unit(field, values.get(slot)) {
        text += &format!(" {}", field.unit);
    }
    escaped(&text)
}

/// The least and the greatest value that a field can have, or had.
fn range(field: &Field, history: &VecDeque<(Time, f64)>) -> Option<(f64, f64)> {
    match &field.kind {
        Kind::Number(form) | Kind::Varint(form) => {
            let (offset, step, divisor) = form.scaling.parts();
            let end = |raw: i128| (offset as f64 + step as f64 * raw as f64) / divisor as f64;
            Some((end(form.low).min(end(form.high)), end(form.low).max(end(form.high))))
        }
        Kind::Float(_) => {
            let numbers = || history.iter().map(|(_, number)| *number);
            Some((numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max)))
        }
        _ => None,
    }
}

/// Where in its range a value lies, as a bar.
fn bar(share: f64, width: usize) -> String {
    let filled = (share.clamp(0.0, 1.0) * width as f64).round() as usize;
    format!("{}{}", "█".repeat(filled), "·".repeat(width - filled))
}

/// The last values of a field as small columns, between the least and the greatest of them.
fn history_line(history: &VecDeque<(Time, f64)>, width: usize) -> String {
    const COLUMNS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    let last: Vec<f64> = history.iter().rev().take(width).rev().map(|(_, number)| *number).collect();
    let least = last.iter().copied().fold(f64::INFINITY, f64::min);
    let greatest = last.iter().copied().fold(f64::NEG_INFINITY, f64::max);
    let column = |number: &f64| {
        let share = if greatest > least { (number - least) / (greatest - least) } else { 0.0 };
        COLUMNS[((share * 7.0).round() as usize).min(7)]
    };
    last.iter().map(column).collect()
}

fn draw_fields(frame: &mut Frame<'_>, area: Rect, view: &View, monitor: &Monitor, paints: &Paints) {
    let Some((source, seen)) = view.chosen.as_ref().and_then(|chosen| monitor.activity.get_key_value(chosen)) else {
        return frame.render_widget(block("fields"), area);
    };
    let message = &seen.plan.messages[seen.message].message;
    let bar_width = if area.width >= 100 { 20 } else { 12 };
    let history_width = usize::from(area.width).saturating_sub(18 + 26 + bar_width + 6).min(60);
    let shown: Vec<usize> = (0..message.fields.len()).filter(|slot| !message.fields[*slot].is_spare()).collect();
    let room = usize::from(area.height.saturating_sub(1));
    let at = shown.iter().position(|slot| *slot == view.field).unwrap_or(0);
    let skipped = at.saturating_sub(room.saturating_sub(1));
    let none = VecDeque::new();
    let rows = shown.iter().skip(skipped).take(room).map(|slot| {
        let field = &message.fields[*slot];
        let history = seen.history.get(*slot).unwrap_or(&none);
        let value = number(field, &seen.values, *slot);
        let share = value.zip(range(field, history)).filter(|(_, (low, high))| high > low);
        let drawn = view.scope.traces.iter().position(|(of, at)| of == source && at == slot);
        let name = match drawn {
            Some(trace) => Line::from(vec![
                Span::raw(format!("{} ", field.name)),
                Span::styled(MARKERS[trace % 4].1, paints.trace(trace)),
            ]),
            None => Line::raw(field.name.clone()),
        };
        let moves = !matches!(field.kind, Kind::Enum { .. } | Kind::Flags(_)) && !history.is_empty();
        let row = Row::new([
            Cell::new(name),
            Cell::new(value_text(field, &seen.values, *slot)),
            Cell::new(
                share.map_or_else(String::new, |(value, (low, high))| bar((value - low) / (high - low), bar_width)),
            ),
            Cell::new(if moves { history_line(history, history_width) } else { String::new() }),
        ]);
        let is_chosen = *slot == view.field && view.focus == Focus::Fields;
        if is_chosen { row.style(paints.chosen(true)) } else { row }
    });
    let widths =
        [Constraint::Length(18), Constraint::Length(26), Constraint::Length(bar_width as u16), Constraint::Min(4)];
    let node = source.2.map_or_else(String::new, |node| format!(", node {node}"));
    let hidden = shown.len().saturating_sub(room);
    let more = if hidden > 0 { format!(", {hidden} more: Tab and ↓") } else { String::new() };
    let title = format!("fields of {}{node}{more}", source.1);
    frame.render_widget(Table::new(rows, widths).block(block(&title)), area);
}

fn log_line(logged: &Logged, paints: &Paints) -> Line<'static> {
    let when = logged.time.map_or_else(|| " ".repeat(12), clock);
    match &logged.kind {
        LogEntryKind::Frame { plan, message, from, node, values } => {
            let message = &plan.messages[*message].message;
            let node = node.map_or_else(String::new, |node| node.to_string());
            let fields = message.fields.iter().enumerate().filter(|(slot, field)| {
                !field.is_spare()
                    && !matches!(values.get(*slot), emberwort_wire::ValueRef::Absent | emberwort_wire::ValueRef::Unset)
            });
            let fields: Vec<String> =
                fields.map(|(slot, field)| format!("{}={}", field.name, value_text(field, values, slot))).collect();
            let text = format!("{when}  {:6} {node:>3}  {:14} {}", from.as_str(), message.name, fields.join("  "));
            Line::styled(text, if *from == End::Host { paints.host() } else { Style::new() })
        }
        LogEntryKind::Broken { fault: why, bytes } => {
            Line::styled(format!("{when}  BROKEN      {why}  {}", short_hex(bytes)), paints.bad())
        }
        LogEntryKind::Stray(bytes) => Line::styled(
            format!("{when}  stray       {} bytes  {}", bytes.len(), short_hex(bytes)),
            Style::new().add_modifier(Modifier::DIM),
        ),
    }
}

fn short_hex(bytes: &[u8]) -> String {
    const MAX: usize = 16;
    let more = if bytes.len() > MAX { " …" } else { "" };
    hex(&bytes[..bytes.len().min(MAX)]) + more
}

fn draw_log(frame: &mut Frame<'_>, area: Rect, monitor: &Monitor, paints: &Paints) {
    let room = usize::from(area.height.saturating_sub(1));
    let lines: Vec<Line<'_>> =
        monitor.log.iter().rev().take(room).rev().map(|logged| log_line(logged, paints)).collect();
    frame.render_widget(Paragraph::new(lines).block(block("last frames")), area);
}

fn draw_pairs(frame: &mut Frame<'_>, area: Rect, monitor: &Monitor, paints: &Paints) {
    let room = usize::from(area.height.saturating_sub(1));
    let lines: Vec<Line<'_>> = monitor
        .pairs
        .iter()
        .rev()
        .take(room)
        .rev()
        .map(|pair| {
            let node = pair.node.map_or_else(String::new, |node| node.to_string());
            let start = format!("{}  {node:>3}  {:14} ", clock(pair.asked), pair.request);
            match &pair.answer {
                Some((answer, after)) => Line::raw(format!("{start} {answer:16} after {}", time::duration(*after))),
                None => Line::from(vec![Span::raw(start), Span::styled(" no answer", paints.bad())]),
            }
        })
        .collect();
    let title =
        if monitor.pairs.is_empty() { "requests and answers: no request came yet" } else { "requests and answers" };
    frame.render_widget(Paragraph::new(lines).block(block(title)), area);
}

/// A trace of the scope: its name, its points against seconds before the right end, its value at the cursor.
struct Trace<'a> {
    name: String,
    field: &'a Field,
    points: Vec<(f64, f64)>,
}

impl Trace<'_> {
    /// A value as people read it: the label of a code, or a number in few digits.
    fn shown(&self, value: f64) -> String {
        match &self.field.kind {
            Kind::Enum { labels, .. } => labels
                .labels
                .iter()
                .find(|label| label.code as f64 == value)
                .map_or_else(|| short(value), |label| label.name.clone()),
            _ => short(value),
        }
    }

    /// What stands at the lower and the upper end of its scale: of codes the least and the greatest one, without the room around them.
    fn ends(&self) -> [String; 2] {
        let ((low, high), room) = (reach(&self.points), extent(&self.points));
        match self.field.kind {
            Kind::Enum { .. } if low <= high => [self.shown(low), self.shown(high)],
            _ => [short(room.0), short(room.1)],
        }
    }
}

fn trace_of<'a>(monitor: &'a Monitor, (source, slot): &(Source, usize), end: Time, seconds: f64) -> Option<Trace<'a>> {
    let seen = monitor.activity.get(source)?;
    let field = seen.plan.messages[seen.message].message.fields.get(*slot)?;
    let history = seen.history.get(*slot)?;
    let points = history
        .iter()
        .filter(|(time, _)| *time <= end)
        .map(|(time, number)| (-(end.since(*time) as f64) / 1e9, *number));
    let node = source.2.map_or_else(String::new, |node| format!(" ({node})"));
    let unit = if field.unit.is_empty() { String::new() } else { format!(" {}", field.unit) };
    Some(Trace {
        name: format!("{}{node}{unit}", field.name),
        field,
        points: points.filter(|(at, _)| *at >= -seconds).collect(),
    })
}

fn draw_scope(frame: &mut Frame<'_>, area: Rect, view: &View, monitor: &Monitor, now: Time, paints: &Paints) {
    let end = view.scope.held.unwrap_or(now);
    let seconds = view.scope.seconds() as f64;
    let traces: Vec<Trace<'_>> =
        view.scope.traces.iter().filter_map(|of| trace_of(monitor, of, end, seconds)).collect();
    if traces.is_empty() {
        let help = Paragraph::new("Tab goes to the fields, s draws the chosen one here").block(block("scope"));
        return frame.render_widget(help, area);
    }
    let (low, high) = if let [only] = &traces[..] { extent(&only.points) } else { (0.0, 1.0) };
    let is_shared = traces.len() > 1;
    let cursor = view.scope.cursor.map(|percent| -seconds * percent as f64 / 100.0);
    let mut title = vec![Span::styled(format!("scope, {seconds} s"), Style::new().add_modifier(Modifier::BOLD))];
    if view.scope.held.is_some() {
        title.push(Span::styled("  HELD", paints.bad()));
    }
    for (number, trace) in traces.iter().enumerate() {
        let at = cursor.unwrap_or(0.0);
        // The value that held at the cursor.
        let value = trace.points.iter().rev().find(|(time, _)| *time <= at).map(|(_, value)| trace.shown(*value));
        let mut text =
            format!("  {} {} = {}", MARKERS[number % 4].1, trace.name, value.unwrap_or_else(|| "-".to_owned()));
        if is_shared {
            text += &format!(" [{}]", trace.ends().join(", "));
        }
        title.push(Span::styled(text, paints.trace(number)));
    }
    if let Some(at) = cursor {
        title.push(Span::raw(format!("  at {at:.2} s")));
    }
    let cursor_line: Vec<(f64, f64)> =
        cursor.map(|at| (0..=20).map(|n| (at, low + (high - low) * f64::from(n) / 20.0)).collect()).unwrap_or_default();
    // Several traces have each a scale of its own, whose ends stand in the title.
    let drawn: Vec<Vec<(f64, f64)>> = traces
        .iter()
        .map(|trace| {
            let (low, high) = if is_shared { extent(&trace.points) } else { (0.0, 1.0) };
            trace.points.iter().map(|(at, value)| (*at, (value - low) / (high - low))).collect()
        })
        .collect();
    let mut sets: Vec<Dataset<'_>> = traces
        .iter()
        .enumerate()
        .map(|(number, _)| {
            Dataset::default()
                .marker(MARKERS[number % 4].0)
                .graph_type(GraphType::Line)
                .style(paints.trace(number))
                .data(&drawn[number])
        })
        .collect();
    if cursor.is_some() {
        sets.push(Dataset::default().marker(Marker::Braille).graph_type(GraphType::Scatter).data(&cursor_line));
    }
    let axis = |labels: Vec<String>| labels.into_iter().map(Line::raw).collect::<Vec<_>>();
    let chart = Chart::new(sets)
        .block(Block::new().borders(Borders::TOP).title(Line::from(title)))
        .x_axis(Axis::default().bounds([-seconds, 0.0]).labels(axis(vec![
            format!("-{seconds} s"),
            format!("-{} s", seconds / 2.0),
            "0 s".to_owned(),
        ])))
        .y_axis(Axis::default().bounds([low, high]).labels(axis(match &traces[..] {
            [only] => {
                let [least, greatest] = only.ends();
                let is_code = matches!(only.field.kind, Kind::Enum { .. });
                let middle = if is_code { String::new() } else { short((low + high) / 2.0) };
                vec![least, middle, greatest]
            }
            _ => vec![String::new(); 3],
        })));
    frame.render_widget(chart, area);
}

/// The least and the greatest number; infinite if there are none.
fn reach(points: &[(f64, f64)]) -> (f64, f64) {
    let numbers = || points.iter().map(|(_, number)| *number);
    (numbers().fold(f64::INFINITY, f64::min), numbers().fold(f64::NEG_INFINITY, f64::max))
}

/// The least and the greatest number, with a little room around them.
fn extent(points: &[(f64, f64)]) -> (f64, f64) {
    let (low, high) = reach(points);
    if !low.is_finite() || !high.is_finite() {
        return (0.0, 1.0);
    }
    let margin = ((high - low) * 0.05).max(high.abs().max(1.0) * 1e-3);
    (low - margin, high + margin)
}

/// A number in few digits.
fn short(number: f64) -> String {
    if number.abs() >= 1000.0 {
        format!("{number:.0}")
    } else if number.abs() >= 10.0 {
        format!("{number:.1}")
    } else {
        format!("{number:.3}")
    }
}

fn draw_last(frame: &mut Frame<'_>, area: Rect, view: &View, monitor: &Monitor, paints: &Paints) {
    if !view.notice.is_empty() {
        return frame.render_widget(Paragraph::new(Span::styled(view.notice.clone(), paints.bad())), area);
    }
    let counts = monitor.counts;
    let mut spans = vec![Span::raw(format!("{} good  ", counts.good))];
    let broken = format!("{} broken  {} stray", counts.broken, counts.stray);
    spans.push(if counts.broken > 0 { Span::styled(broken, paints.bad()) } else { Span::raw(broken) });
    spans.push(Span::styled("   ↑↓ Tab  s scope  f send  ? keys  q quit", Style::new().add_modifier(Modifier::DIM)));
    frame.render_widget(Paragraph::new(Line::from(spans)), area);
}

/// A box in the middle.
fn middle(area: Rect, width: u16, height: u16) -> Rect {
    let (width, height) = (width.min(area.width), height.min(area.height));
    Rect { x: area.x + (area.width - width) / 2, y: area.y + (area.height - height) / 2, width, height }
}

fn draw_form(frame: &mut Frame<'_>, area: Rect, view: &View, paints: &Paints) {
    let Some(form) = &view.form else { return };
    let place = middle(area, 76, form.lines.len() as u16 + 6);
    let mut lines: Vec<Line<'_>> = Vec::new();
    for (number, line) in form.lines.iter().enumerate() {
        let is_at = number == form.at;
        let text = format!("{:16} {:24}", line.name, format!("{}{}", line.text, if is_at { "▏" } else { "" }));
        let style = if is_at { Style::new().add_modifier(Modifier::BOLD) } else { Style::new() };
        lines.push(Line::from(vec![
            Span::styled(text, style),
            Span::styled(line.hint.clone(), Style::new().add_modifier(Modifier::DIM)),
        ]));
    }
    lines.push(Line::raw(""));
    lines.push(Line::styled(form.notice.clone(), paints.bad()));
    lines.push(Line::styled(
        "← → message   ↑ ↓ field   Enter send   Esc close",
        Style::new().add_modifier(Modifier::DIM),
    ));
    let title = format!(" send {} ", form.message());
    frame.render_widget(Clear, place);
    frame.render_widget(Paragraph::new(lines).block(Block::bordered().title(title)), place);
}

fn draw_help(frame: &mut Frame<'_>, area: Rect) {
    let place = middle(area, 66, KEYS.len() as u16 + 2);
    let lines: Vec<Line<'_>> = KEYS.iter().map(|(key, what)| Line::raw(format!("{key:10} {what}"))).collect();
    frame.render_widget(Clear, place);
    frame.render_widget(Paragraph::new(lines).block(Block::bordered().title(" keys ")), place);
}
