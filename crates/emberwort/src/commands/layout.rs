//! `layout`: where every field of a message lies.

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_document::figure;
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::ids::MessageId;
use emberwort_model::layout::picture::picture;
use emberwort_model::layout::{LayoutRow, rows};
use emberwort_model::number::Decimal;
use emberwort_rows::{Paint, time};
use serde_json::{Value as Json, json};

use crate::cli::{LayoutArgs, LayoutForm};
use crate::ending::Ending;
use crate::files::{self, Replace};
use crate::output::{self, Look, say};
use crate::project::{Project, load_plan_apart};
use crate::reading::names::{message_index, none_left_out, with_definition};
use crate::render::picture::draw;
use crate::render::{plural, table, wrapped};

/// Columns of a picture where no terminal says how many there are.
const PIPE_WIDTH: usize = 110;

pub fn run(args: &LayoutArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let (file, messages) = with_definition(&args.messages);
    let (plan, without) = load_plan_apart(&Project::find(file.or(link))?.definition, look)?;
    none_left_out(&messages, &without)?;
    let ending = if without.is_empty() { Ending::Clean } else { Ending::WithFindings };
    let wanted: Vec<MessageId> = if messages.is_empty() {
        plan.message_ids().map(|(message, _)| message).collect()
    } else {
        messages.iter().map(|name| message_index(&plan, name)).collect::<anyhow::Result<_>>()?
    };
    if let Some(path) = &args.out {
        let pictures: Vec<_> = wanted.iter().map(|index| picture(&plan.messages[*index])).collect();
        let drawing = figure::svg(&pictures);
        let bytes = match path.extension().and_then(|extension| extension.to_str()) {
            Some("svg") => drawing.into_bytes(),
            #[cfg(feature = "pictures")]
            Some("png") => crate::render::png::png(&drawing)?,
            #[cfg(not(feature = "pictures"))]
            Some("png") => {
                bail!("this emberwort was built without pictures (the feature `pictures`): name the file FILE.svg")
            }
            _ => bail!("a figure is an SVG or a PNG: name the file FILE.svg or FILE.png"),
        };
        files::write_file(path, &bytes, Replace::Generated(emberwort_codegen::MARK))?;
        say!("the figure of {} is in {}", plural(pictures.len(), "message"), files::shown(path));
        return Ok(ending);
    }
    let mut out = output::stdout();
    for (n, index) in wanted.into_iter().enumerate() {
        match args.form {
            LayoutForm::Picture => {
                if n > 0 {
                    writeln!(out)?;
                }
                let width = output::terminal_width().unwrap_or(PIPE_WIDTH);
                out.write_all(draw(&picture(&plan.messages[index]), width, look).as_bytes())?;
            }
            LayoutForm::Table => {
                if n > 0 {
                    writeln!(out)?;
                }
                write_table(&plan, index, look, &mut out)?;
            }
            LayoutForm::Ndjson => write_ndjson(&plan, index, &mut out)?,
        }
    }
    out.flush()?;
    Ok(ending)
}

fn write_table(plan: &Plan, index: MessageId, look: Look, out: &mut impl Write) -> anyhow::Result<()> {
    let compiled = &plan.messages[index];
    let message = &compiled.message;
    let mut heading = look.paint(Paint::Bold, &message.name);
    if let Some(id) = message.id {
        heading.push_str(&format!("  id {}", message.id_base.text(id, 2)));
        if let Some(nodes) = message.id_nodes {
            heading.push_str(&format!(" + node {} .. {}", nodes.least, nodes.greatest));
        }
    }
    heading.push_str(&format!("  from {}", message.from.as_str()));
    if let Some(every) = message.every {
        heading.push_str(&format!(" every {}", time::duration(every)));
    }
    writeln!(out, "{heading}")?;
    for line in message.doc.lines() {
        writeln!(out, "{}", look.paint(Paint::Dim, escaped(line)))?;
    }
    let titles = ["field", "byte.bit", "bits", "raw", "physical", "step", "unit", "default", "since"];
    let right = [false, true, true, false, false, true, false, false, true];
    let mut grid = table::table(&titles, &right);
    let layout = rows(compiled);
    for row in layout.iter().cloned() {
        grid.add_row([
            "  ".repeat(row.depth) + if row.field.is_empty() { "(element)" } else { &row.field },
            row.place,
            row.bits,
            row.raw,
            escaped(&row.physical),
            row.step,
            escaped(&row.unit),
            escaped(&row.default),
            if row.since > 1 { row.since.to_string() } else { String::new() },
        ]);
    }
    write!(out, "{}", grid.lines())?;
    if layout.iter().any(|row| row.place.starts_with('+')) {
        let text = "places with + count from where their section begins, since the one before varies in size";
        writeln!(out, "{}", wrapped(text))?;
    }
    let (least, greatest) = (compiled.least_size(), compiled.greatest_size());
    let size = if least == greatest { plural(least, "byte") } else { format!("{least} to {greatest} bytes") };
    let mut sizes = format!("body {size}");
    for &channel in &message.channels {
        let channel = plan.channels[channel].direction(message.from);
        let (shortest, longest) = (channel.least_frame_size(least), channel.frame_size(greatest));
        let size = if shortest == longest { format!("{longest}") } else { format!("{shortest} to {longest}") };
        sizes.push_str(&format!("; frame on {} {size} of {} bytes", channel.name, channel.limit));
    }
    writeln!(out, "{}", wrapped(&sizes))?;
    Ok(())
}

/// A text of the table as JSON: a number as one, nothing as null.
fn number(text: &str) -> Json {
    match Decimal::parse(text).map(|_| serde_json::from_str(text)) {
        Some(Ok(number)) => number,
        _ if text.is_empty() => Json::Null,
        _ => text.into(),
    }
}

/// The numbers of a text as JSON: one, or the two ends of a range in an array.
fn numbers_of(text: &str) -> Json {
    match text.split_once(" .. ").map(|(least, greatest)| (number(least), number(greatest))) {
        Some((least, greatest)) if least.is_number() && greatest.is_number() => json!([least, greatest]),
        _ => number(text),
    }
}

fn write_ndjson(plan: &Plan, index: MessageId, out: &mut impl Write) -> anyhow::Result<()> {
    let compiled = &plan.messages[index];
    for row in rows(compiled) {
        let LayoutRow { depth, field, place, bits, raw, physical, step, unit, default, since, doc } = row;
        let numbers = place.split_once('.').map(|(byte, bit)| (number(byte), number(bit)));
        let (byte, bit) = numbers.filter(|(byte, bit)| byte.is_u64() && bit.is_u64()).unwrap_or_default();
        let line = json!({
            "message": compiled.message.name, "depth": depth, "field": field, "place": place, "byte": byte, "bit": bit,
            "bits": numbers_of(&bits), "raw": numbers_of(&raw), "physical": numbers_of(&physical), "step": number(&step),
            "unit": unit, "default": number(&default), "since": since, "doc": doc,
        });
        writeln!(out, "{line}")?;
    }
    Ok(())
}
