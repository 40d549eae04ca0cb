//! `plot`: how fields moved over the time.

use std::collections::BTreeMap;
use std::convert::Infallible;
use std::io::Write;
use std::ops::ControlFlow;
use std::path::Path;

use anyhow::bail;
use emberwort_capture::exchanges::{Exchange, ExchangeSink, Exchanges};
use emberwort_capture::query::Tee;
use emberwort_capture::query::series::{BrokenTimes, Collect, Series};
use emberwort_model::diagnostics::escaped;
use emberwort_wire::Time;

use super::wave_plot;
use crate::cli::PlotArgs;
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self, Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::inputs;
use crate::reading::opening::input_name;
use crate::reading::queried::{Interruptible, asked, filters};
use crate::render::plot::{Band, Content, Line, Pane, Plot, svg, text};
use crate::render::stats::{Account, damage_text, sentence};

/// Bars of a histogram.
const BARS: usize = 40;

/// How long answers took, by request.
#[derive(Default)]
struct Answers(BTreeMap<String, Vec<(Time, u64)>>);

/// So many answers to each request are drawn.
const MAX_ANSWERS: usize = 100_000;

impl ExchangeSink for Answers {
    type Error = Infallible;

    fn exchange(&mut self, exchange: &Exchange) -> Result<ControlFlow<()>, Infallible> {
        if let (Some(request), Some(after)) = (&exchange.request, exchange.after()) {
            let name = &request.plan.messages[request.message].message.name;
            let all = self.0.entry(name.clone()).or_default();
            if all.len() < MAX_ANSWERS {
                all.push((request.time, after));
            }
        }
        Ok(ControlFlow::Continue(()))
    }
}

const DAY: u64 = 86_400_000_000_000;

pub fn run(args: &PlotArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    crate::interrupt::catch();
    let definitions = open_definitions(&args.revisions, link, look)?;
    let plan = definitions.revisions.own().clone();
    if !args.input.wave.wire.is_empty() && args.field.is_empty() && !args.latency {
        return wave_plot::run(args, link, definitions);
    }
    if args.field.is_empty() && !args.latency {
        let some: Vec<String> = plan
            .messages
            .iter()
            .filter_map(|compiled| {
                let field = compiled
                    .message
                    .fields
                    .iter()
                    .find(|field| field.kind.raw_bits().is_some() && !field.is_spare())?;
                Some(format!("{}.{}", compiled.message.name, field.name))
            })
            .take(3)
            .collect();
        bail!("say what to draw: --field NAME, as {}, or --latency", some.join(", "));
    }
    // Fields between commas share a pane.
    let panes: Vec<Vec<String>> =
        args.field.iter().map(|pane| pane.split(',').map(|name| name.trim().to_owned()).collect()).collect();
    let names: Vec<String> = panes.concat();
    let mut collect = Collect::new(&names, &plan).map_err(|problem| anyhow::anyhow!("--field: {problem}"))?;
    // Broken frames do not say of which node, or message, they were; requests and answers are paired before they are filtered.
    let exchanges = Exchanges::new(filters(&args.asked, &plan)?, Answers::default());
    let mut rest = Tee::new(BrokenTimes::default(), exchanges);
    let reading = inputs::decode_all(
        &args.input,
        link,
        definitions,
        Tee::new(asked(&args.asked, &plan, Interruptible(&mut collect))?, &mut rest),
    )?;
    let (broken, answers) = (rest.one, rest.other.into_sink());
    let account = Account {
        statistics: &reading.statistics,
        file_bytes: reading.inputs.file_bytes,
        damage: &reading.inputs.damage,
    };
    let inputs: Vec<String> = args.input.inputs.iter().map(|path| input_name(path)).collect();
    let Some((first, last)) = collect.span else {
        say!("{}", sentence(&account));
        bail!("nothing with a time was found: there is no axis to draw it on");
    };
    let midnight = first.nanoseconds() / DAY * DAY;
    let at = |time: Time| (time.nanoseconds().saturating_sub(midnight)) as f64 / 1e9;
    let mut plot = Plot {
        title: format!("{}, {}", inputs.join(", "), emberwort_rows::time::rfc3339(first).get(..10).unwrap_or_default()),
        span: (at(first), at(last).max(at(first) + 1e-6)),
        panes: Vec::new(),
        broken: if args.histogram { Vec::new() } else { broken.0.iter().map(|time| at(*time)).collect() },
    };
    let mut index = 0;
    for pane in &panes {
        let of_pane: Vec<&Series> = collect
            .series
            .iter()
            .filter(|((place, ..), _)| (index..index + pane.len()).contains(place))
            .map(|(_, series)| series)
            .collect();
        index += pane.len();
        if of_pane.is_empty() {
            say!("no frame with {} was found", escaped(&pane.join(", ")));
            continue;
        }
        plot.panes.extend(panes_of(&of_pane, args, &at));
    }
    if args.latency {
        let lines: Vec<Line> = answers
            .0
            .iter()
            .map(|(request, all)| Line {
                name: request.clone(),
                stretches: vec![all.iter().map(|(time, after)| (at(*time), *after as f64 / 1e6)).collect()],
            })
            .collect();
        if lines.is_empty() {
            say!("no request with an answer was found");
        } else {
            plot.panes.push(Pane { title: "answer after (ms)".to_owned(), content: Content::Points(lines) });
        }
    }
    if plot.panes.is_empty() {
        say!("{}", sentence(&account));
        bail!("there is nothing to draw");
    }
    show(args, &plot)?;
    say!("{}", sentence(&account));
    for (name, damage) in &reading.inputs.damage {
        say!("{}", damage_text(name, damage));
    }
    for note in reading.inputs.all_remarks() {
        say!("{note}");
    }
    Ok(if reading.inputs.damage.is_empty() { Ending::Clean } else { Ending::WithFindings })
}

fn show(args: &PlotArgs, plot: &Plot) -> anyhow::Result<()> {
    let Some(path) = &args.out else {
        let mut out = output::stdout();
        out.write_all(text(plot, output::terminal_width().unwrap_or(100)).as_bytes())?;
        out.flush()?;
        return Ok(());
    };
    let picture = svg(plot)?;
    let bytes = match path.extension().and_then(|extension| extension.to_str()) {
        Some("svg") => picture.into_bytes(),
        #[cfg(feature = "pictures")]
        Some("png") => crate::render::png::png(&picture)?,
        _ => bail!("{} is neither .svg nor .png", files::shown(path)),
    };
    files::write_file(path, &bytes, Replace::Generated(emberwort_codegen::MARK))
}

/// The name of a series: its message where others could be meant, and the node.
fn name_of(series: &Series, all: &[&Series]) -> String {
    let is_alone = |by: fn(&Series) -> &str| all.iter().all(|other| by(other) == by(series));
    let mut name = String::new();
    if !is_alone(|series| &series.message) {
        name = format!("{}.", series.message);
    }
    if !is_alone(|series| &series.name) || !name.is_empty() {
        name += &series.name;
    }
    let node = series.sender.1.map_or_else(|| series.sender.0.as_str().to_owned(), |node| format!("node {node}"));
    if name.is_empty() { node } else { format!("{name}, {node}") }
}

/// A pane for numbers, and one for labels, of the fields that share one.
fn panes_of(all: &[&Series], args: &PlotArgs, at: &dyn Fn(Time) -> f64) -> Vec<Pane> {
    let mut panes = Vec::new();
    let numbers: Vec<&Series> = all.iter().copied().filter(|series| !series.has_labels()).collect();
    let labels: Vec<&Series> = all.iter().copied().filter(|series| series.has_labels()).collect();
    let title = |of: &[&Series]| {
        let mut names: Vec<String> = of
            .iter()
            .map(|series| {
                let unit =
                    if series.field.unit.is_empty() { String::new() } else { format!(" ({})", series.field.unit) };
                format!("{}{unit}", series.name)
            })
            .collect();
        names.dedup();
        names.join(", ")
    };
    if !numbers.is_empty() {
        let content = match args.histogram {
            true => Content::Bars(bars(&numbers)),
            false => Content::Lines(
                numbers.iter().map(|series| line(series, name_of(series, &numbers), args.steps, at)).collect(),
            ),
        };
        panes.push(Pane { title: title(&numbers), content });
    }
    if !labels.is_empty() {
        let bands = labels.iter().map(|series| band(series, name_of(series, &labels), at)).collect();
        panes.push(Pane { title: title(&labels), content: Content::Bands(bands) });
    }
    panes
}

fn line(series: &Series, name: String, steps: bool, at: &dyn Fn(Time) -> f64) -> Line {
    let gap = series.gap();
    let mut stretches: Vec<Vec<(f64, f64)>> = Vec::new();
    let mut last: Option<Time> = None;
    for (time, value) in &series.points {
        let is_behind_gap = last.is_none_or(|last| time.since(last) > gap);
        last = Some(*time);
        let Some(value) = value else {
            last = None;
            continue;
        };
        if is_behind_gap || stretches.is_empty() {
            stretches.push(Vec::new());
        }
        if let Some(stretch) = stretches.last_mut() {
            if let (true, Some((_, before))) = (steps, stretch.last().copied()) {
                stretch.push((at(*time), before));
            }
            stretch.push((at(*time), *value));
        }
    }
    Line { name, stretches }
}

fn band(series: &Series, name: String, at: &dyn Fn(Time) -> f64) -> Band {
    let gap = series.gap();
    let mut labels: Vec<(f64, f64, String)> = Vec::new();
    let mut last: Option<Time> = None;
    for (time, value) in &series.points {
        let label = value.map_or_else(|| "none".to_owned(), |value| series.label(value));
        let is_behind_gap = last.is_none_or(|last| time.since(last) > gap);
        last = Some(*time);
        match labels.last_mut() {
            Some((_, to, before)) if !is_behind_gap => {
                *to = at(*time);
                if *before != label {
                    labels.push((at(*time), at(*time), label));
                }
            }
            _ => labels.push((at(*time), at(*time), label)),
        }
    }
    Band { name, labels }
}

fn bars(all: &[&Series]) -> Vec<(f64, f64, u64)> {
    let values =
        || all.iter().flat_map(|series| series.counts.iter().map(|(bits, count)| (f64::from_bits(*bits), *count)));
    let (low, high) =
        values().fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), (value, _)| (low.min(value), high.max(value)));
    if low > high {
        return Vec::new();
    }
    let width = if high > low { (high - low) / BARS as f64 } else { 1.0 };
    let mut bars: Vec<(f64, f64, u64)> = (0..if high > low { BARS } else { 1 })
        .map(|n| (low + n as f64 * width, low + (n + 1) as f64 * width, 0))
        .collect();
    for (value, count) in values() {
        let at = (((value - low) / width) as usize).min(bars.len() - 1);
        bars[at].2 += count;
    }
    let uncounted: u64 = all.iter().map(|series| series.uncounted).sum();
    if uncounted > 0 {
        say!("{} are not in the bars: there are too many different ones", crate::render::plural(uncounted, "value"));
    }
    bars
}
