//! What a recording says in numbers, as tables and for machines, and how two of them differ.

use std::fmt::Write as _;

use emberwort_capture::exchanges::Outcome;
use emberwort_capture::summary::{
    Device, FieldSummary, Found, Latencies, NestedFrames, Quantiles, Sender, Senders, Summary, Timing,
};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::Kind;
use emberwort_rows::time::{duration, rfc3339};
use emberwort_wire::Time;
use serde_json::{Map, Value as Json, json};

use super::sheets::Sheet;

/// What was summed up.
pub struct Summed<'a> {
    pub plan: &'a Plan,
    pub summary: &'a Summary,
    pub senders: &'a Senders,
    pub latencies: Option<&'a Latencies>,
    /// Bytes of all channels.
    pub input: u64,
}

fn of_sender(plan: &Plan, (channel, from, node): Sender) -> [String; 3] {
    let node = node.map_or_else(String::new, |node| node.to_string());
    [plan.channels[channel].name.clone(), from.as_str().to_owned(), node]
}

fn or_nothing(value: Option<u64>) -> String {
    value.map_or_else(String::new, duration)
}

/// A number that people read: five digits, no more than it takes.
pub fn short(value: f64) -> String {
    if value == 0.0 {
        return "0".to_owned();
    }
    let decimals = (4 - value.abs().log10().floor() as i32).clamp(0, 9) as usize;
    let text = format!("{value:.decimals$}");
    match text.contains('.') {
        true => text.trim_end_matches('0').trim_end_matches('.').to_owned(),
        false => text,
    }
}

/// So long is this time of day, without the date where it is the same.
fn time_of_day(time: Time) -> String {
    let text = rfc3339(time);
    text.get(11..23).unwrap_or(&text).to_owned()
}

/// Frames inside of messages, if there are any.
pub fn nested(nested: &NestedFrames) -> Option<Sheet> {
    let titles = [("held by", false), ("channel", false), ("message", false), ("frames", true), ("bytes", true)];
    let mut sheet =
        Sheet::new("Frames inside of messages, whose bytes are those of the frames that carry them", &titles);
    for ((path, channel, found), (frames, bytes)) in &nested.counts {
        let found = match found {
            Found::Good(message) => message.clone(),
            Found::Broken(reason) => format!("broken: {reason}"),
        };
        sheet.rows.push(vec![path.clone(), channel.clone(), found, frames.to_string(), bytes.to_string()]);
    }
    (!sheet.rows.is_empty()).then_some(sheet)
}

/// The same as JSON.
pub fn nested_json(nested: &NestedFrames) -> Json {
    let object = |((path, channel, found), (frames, bytes)): (&(String, String, Found), &(u64, u64))| match found {
        Found::Good(message) => {
            json!({ "held_by": path, "channel": channel, "message": message, "frames": frames, "bytes": bytes })
        }
        Found::Broken(reason) => {
            json!({ "held_by": path, "channel": channel, "broken": reason, "frames": frames, "bytes": bytes })
        }
    };
    nested.counts.iter().map(object).collect()
}

/// The tables.
pub fn sheets(summed: &Summed<'_>) -> Vec<Sheet> {
    let mut all = vec![messages(summed), devices(summed)];
    if let Some(latencies) = summed.latencies {
        all.push(exchanges(latencies));
    }
    all.extend(breakage(summed));
    for (message, fields) in &summed.summary.fields {
        all.push(fields_sheet(message, fields));
    }
    all.retain(|sheet| !sheet.rows.is_empty());
    all
}

fn messages(summed: &Summed<'_>) -> Sheet {
    let mut sheet = Sheet::new(
        "Messages of each sender: how often, and how regularly",
        &[
            ("message", false),
            ("channel", false),
            ("frames", true),
            ("bytes", true),
            ("share", true),
            ("per s", true),
            ("every", true),
            ("median", true),
            ("1 %", true),
            ("99 %", true),
            ("jitter", true),
            ("lacking", true),
            ("longest", true),
        ],
    );
    for ((sender, message), timing) in &summed.summary.messages {
        let [channel, from, node] = of_sender(summed.plan, *sender);
        let share = timing.bytes as f64 * 100.0 / summed.input.max(1) as f64;
        // Of what is not regular the times between say little.
        let regular =
            |value: String| if timing.every.is_some() || timing.periods.count() > 9 { value } else { String::new() };
        sheet.rows.push(vec![
            // On narrow terminals tables go on below, with this column again.
            format!("{message}, {from} {node}").trim_end().to_owned(),
            channel,
            timing.count.to_string(),
            timing.bytes.to_string(),
            format!("{share:.1} %"),
            timing.rate().map_or_else(String::new, short),
            or_nothing(timing.every),
            regular(or_nothing(timing.periods.at(0.5))),
            regular(or_nothing(timing.periods.at(0.01))),
            regular(or_nothing(timing.periods.at(0.99))),
            regular(or_nothing(timing.jitter())),
            if timing.every.is_some() { timing.missing.to_string() } else { String::new() },
            if timing.count > 1 { duration(timing.longest) } else { String::new() },
        ]);
    }
    sheet
}

/// The senders of what was asked for; their numbers are those of all their frames.
fn shown_devices<'a>(summed: &'a Summed<'_>) -> impl Iterator<Item = (&'a Sender, &'a Device)> {
    let is_shown = |sender: &Sender| summed.summary.messages.keys().any(|(of, _)| of == sender);
    summed.senders.devices.iter().filter(move |(sender, _)| is_shown(sender))
}

fn devices(summed: &Summed<'_>) -> Sheet {
    let mut sheet = Sheet::new(
        "Senders: what their numbers say",
        &[
            ("sender", false),
            ("frames", true),
            ("bytes", true),
            ("share", true),
            ("missing", true),
            ("loss", true),
            ("gaps", true),
            ("repeated", true),
            ("restarts", true),
            ("back", true),
            ("silent since", false),
        ],
    );
    let silent = summed.senders.silent(summed.summary);
    for (sender, device) in shown_devices(summed) {
        let since = silent.iter().find(|(silent, _)| silent == sender).map(|(_, time)| time_of_day(*time));
        let [channel, from, node] = of_sender(summed.plan, *sender);
        let name = [from, node].join(" ");
        let count = |count: u64| if count == 0 { String::new() } else { count.to_string() };
        let mut row = vec![format!("{}, {channel}", name.trim_end())];
        row.extend([
            device.count.to_string(),
            device.bytes.to_string(),
            format!("{:.1} %", device.bytes as f64 * 100.0 / summed.input.max(1) as f64),
            device.missing.to_string(),
            format!("{:.2} %", device.loss() * 100.0),
            count(device.gaps),
            count(device.repeated),
            count(device.restarts),
            count(device.back),
            since.unwrap_or_default(),
        ]);
        sheet.rows.push(row);
    }
    sheet
}

fn exchanges(latencies: &Latencies) -> Sheet {
    let mut columns = vec![("request", false)];
    columns.extend(Outcome::ALL.iter().map(|outcome| (outcome.as_str(), true)));
    columns.extend([("median", true), ("99 %", true), ("slowest", true)]);
    let mut sheet = Sheet::new("Requests and their answers", &columns);
    for (request, (outcomes, times)) in &latencies.requests {
        let mut row = vec![request.clone()];
        row.extend(Outcome::ALL.iter().map(|outcome| outcomes.get(outcome).map_or_else(String::new, u64::to_string)));
        row.extend([0.5, 0.99, 1.0].map(|share| or_nothing(times.at(share))));
        sheet.rows.push(row);
    }
    sheet
}

/// Bars of eighths, for counts over the time.
const BARS: [char; 9] = [' ', '▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];

fn breakage(summed: &Summed<'_>) -> Option<Sheet> {
    let breakage = &summed.senders.breakage;
    let start = breakage.start?;
    let mut sheet = Sheet::new(
        "Broken frames over the time",
        &[("reason", false), ("frames", true), ("from", false), ("a bar for", true), ("when", false)],
    );
    for (reason, counts) in &breakage.reasons {
        let most = counts.iter().copied().max().unwrap_or(0).max(1);
        let bar = |count: &u64| BARS[if *count == 0 { 0 } else { ((count * 8).div_ceil(most)) as usize }];
        sheet.rows.push(vec![
            (*reason).to_owned(),
            counts.iter().sum::<u64>().to_string(),
            time_of_day(start),
            duration(breakage.length),
            counts.iter().map(bar).collect(),
        ]);
    }
    Some(sheet)
}

/// The names and values of a field and of all inside of it.
fn each_field<'f>(prefix: &str, fields: &'f [FieldSummary], act: &mut impl FnMut(String, &'f FieldSummary)) {
    for field in fields {
        if field.field.is_spare() || (field.count, field.none, field.absent) == (0, 0, 0) {
            continue;
        }
        let name = if prefix.is_empty() { field.field.name.clone() } else { format!("{prefix}{}", field.field.name) };
        let inside = match &field.field.kind {
            Kind::List { .. } => format!("{name}[]"),
            _ => format!("{name}."),
        };
        act(name, field);
        each_field(&inside, &field.inner, act);
    }
}

fn fields_sheet(message: &str, fields: &[FieldSummary]) -> Sheet {
    let mut sheet = Sheet::new(
        &format!("Fields of {message}"),
        &[
            ("field", false),
            ("values", true),
            ("none", true),
            ("outside", true),
            ("least", true),
            ("mean", true),
            ("greatest", true),
            ("unit", false),
            ("distinct", true),
            ("remarks", false),
        ],
    );
    each_field("", fields, &mut |name, field| {
        let span = field.span;
        let number = |value: Option<f64>| value.map_or_else(String::new, short);
        let count = |count: u64| if count == 0 { String::new() } else { count.to_string() };
        sheet.rows.push(vec![
            name,
            field.count.to_string(),
            count(field.none),
            count(field.outside),
            number(span.map(|span| span.least)),
            number(span.and(field.mean())),
            number(span.map(|span| span.greatest)),
            escaped(&field.field.unit),
            field.distinct().map_or_else(|| "many".to_owned(), |distinct| distinct.to_string()),
            remarks(field),
        ]);
    });
    sheet
}

fn label(field: &FieldSummary, code: u64) -> String {
    match &field.field.kind {
        Kind::Enum { labels, .. } => {
            let known = labels.labels.iter().find(|label| label.code == code);
            known.map_or_else(|| format!("raw {code}"), |label| label.name.clone())
        }
        _ => if code == 0 { "false" } else { "true" }.to_owned(),
    }
}

/// The share of the time that each label stood, the greatest first.
fn shares(field: &FieldSummary) -> Vec<(String, f64)> {
    let all: u64 = field.held.values().sum();
    let mut shares: Vec<(String, f64)> = field
        .held
        .iter()
        .filter(|(_, stood)| **stood > 0)
        .map(|(code, stood)| (label(field, *code), *stood as f64 * 100.0 / all as f64))
        .collect();
    shares.sort_by(|a, b| b.1.total_cmp(&a.1));
    shares
}

/// Of fewer values nothing is said about those that never came.
const ENOUGH: u64 = 100;

fn remarks(field: &FieldSummary) -> String {
    let mut remarks = Vec::new();
    if field.is_constant() {
        remarks.push("never changed".to_owned());
    }
    let shares = shares(field);
    if shares.len() > 1 {
        let shares: Vec<String> = shares.iter().map(|(label, share)| format!("{label} {share:.1} %")).collect();
        remarks.push(shares.join(", "));
    }
    if field.absent > 0 {
        remarks.push(format!("absent {} times", field.absent));
    }
    if let (Some(possible), Some(distinct), Kind::Number(_)) = (field.possible(), field.distinct(), &field.field.kind)
        && field.count >= ENOUGH
        && !field.is_constant()
    {
        remarks.push(format!("used {distinct} of {possible} codes"));
    }
    if let Some(bits) = field.spare_bits().filter(|_| field.count >= ENOUGH && field.distinct() != Some(1)) {
        remarks.push(format!("{bits} bit{} fewer would hold them", if bits == 1 { "" } else { "s" }));
    }
    remarks.join("; ")
}

fn quantiles(times: &Quantiles) -> Json {
    let at = |share: f64| times.at(share);
    json!({"count": times.count(), "median": at(0.5), "p1": at(0.01), "p99": at(0.99), "greatest": at(1.0), "mean": times.mean()})
}

fn timing_json(timing: &Timing) -> Json {
    json!({
        "frames": timing.count, "bytes": timing.bytes, "per_second": timing.rate(), "every": timing.every,
        "first": timing.first.map(rfc3339), "last": timing.last.map(rfc3339), "period": quantiles(&timing.periods),
        "deviation": quantiles(&timing.deviations), "jitter": timing.jitter(), "lacking": timing.missing, "longest": timing.longest,
    })
}

fn sender_json(plan: &Plan, sender: Sender) -> Map<String, Json> {
    let mut object = Map::new();
    object.insert("channel".into(), plan.channels[sender.0].name.as_str().into());
    object.insert("direction".into(), sender.1.as_str().into());
    if let Some(node) = sender.2 {
        object.insert("node".into(), node.into());
    }
    object
}

/// All of it, for machines; times in nanoseconds.
pub fn json(summed: &Summed<'_>) -> Map<String, Json> {
    let Summed { plan, summary, senders, latencies, .. } = summed;
    let with = |sender: Sender, more: Json| {
        let mut object = sender_json(plan, sender);
        if let Json::Object(more) = more {
            object.extend(more);
        }
        Json::Object(object)
    };
    let silent = senders.silent(summary);
    let mut all = Map::new();
    let messages = summary.messages.iter().map(|((sender, message), timing)| {
        let mut object = with(*sender, timing_json(timing));
        object["message"] = message.as_str().into();
        object
    });
    all.insert("timing".into(), messages.collect());
    let devices = shown_devices(summed).map(|(sender, device)| {
        let since = silent.iter().find(|(of, _)| of == sender).map(|(_, time)| rfc3339(*time));
        with(
            *sender,
            json!({
                "frames": device.count, "bytes": device.bytes, "missing": device.missing, "gaps": device.gaps,
                "repeated": device.repeated, "restarts": device.restarts, "back": device.back, "silent_since": since,
            }),
        )
    });
    all.insert("senders".into(), devices.collect());
    if let Some(latencies) = latencies {
        let requests = latencies.requests.iter().map(|(request, (outcomes, times))| {
            let outcomes: Map<String, Json> =
                outcomes.iter().map(|(outcome, count)| (outcome.as_str().to_owned(), json!(count))).collect();
            (request.clone(), json!({"outcomes": outcomes, "after": quantiles(times)}))
        });
        all.insert("exchanges".into(), Json::Object(requests.collect()));
    }
    let breakage = &senders.breakage;
    if let Some(start) = breakage.start {
        all.insert(
            "breakage".into(),
            json!({"start": rfc3339(start), "stretch": breakage.length, "reasons": breakage.reasons}),
        );
    }
    if !summary.fields.is_empty() {
        let messages = summary.fields.iter().map(|(message, fields)| {
            let mut objects = Map::new();
            each_field("", fields, &mut |name, field| {
                objects.insert(name, field_json(field));
            });
            (message.clone(), Json::Object(objects))
        });
        all.insert("fields".into(), Json::Object(messages.collect()));
    }
    all
}

fn field_json(field: &FieldSummary) -> Json {
    let held: Map<String, Json> = shares(field).into_iter().map(|(label, share)| (label, json!(share))).collect();
    json!({
        "values": field.count, "none": field.none, "absent": field.absent, "outside": field.outside,
        "least": field.span.map(|span| span.least), "mean": field.span.and(field.mean()),
        "greatest": field.span.map(|span| span.greatest), "distinct": field.distinct(),
        "possible": field.possible().and_then(|possible| u64::try_from(possible).ok()),
        "constant": field.is_constant(), "share_of_time": held,
    })
}

/// One number of a recording.
struct Metric {
    what: String,
    name: &'static str,
    value: Option<f64>,
    shown: String,
}

fn metrics(summed: &Summed<'_>) -> Vec<Metric> {
    let mut all = Vec::new();
    for ((sender, message), timing) in &summed.summary.messages {
        let [channel, from, node] = of_sender(summed.plan, *sender);
        let mut what = format!("{message} from {from}");
        if !node.is_empty() {
            let _ = write!(what, " {node}");
        }
        let _ = write!(what, " on {channel}");
        let mut add =
            |name, value: Option<f64>, shown: String| all.push(Metric { what: what.clone(), name, value, shown });
        let time = |value: Option<u64>| (value.map(|value| value as f64), or_nothing(value));
        add("per second", timing.rate(), timing.rate().map_or_else(String::new, short));
        if timing.every.is_some() {
            let (value, shown) = time(timing.periods.at(0.5));
            add("median period", value, shown);
            let (value, shown) = time(timing.jitter());
            add("jitter", value, shown);
            let span = timing.last.zip(timing.first).map(|(last, first)| last.since(first)).filter(|span| *span > 0);
            let hourly = span.map(|span| timing.missing as f64 * 3.6e12 / span as f64);
            add("lacking an hour", hourly, hourly.map_or_else(String::new, short));
        }
    }
    for (sender, device) in shown_devices(summed) {
        let [channel, from, node] = of_sender(summed.plan, *sender);
        let what = format!("{from} {node} on {channel}");
        let mut add =
            |name, value: f64, shown: String| all.push(Metric { what: what.clone(), name, value: Some(value), shown });
        add("loss", device.loss(), format!("{:.2} %", device.loss() * 100.0));
        add("restarts", device.restarts as f64, device.restarts.to_string());
        add("repeated", device.repeated as f64, device.repeated.to_string());
    }
    if let Some(latencies) = summed.latencies {
        for (request, (outcomes, times)) in &latencies.requests {
            let (good, count) =
                (outcomes.get(&Outcome::Answered).copied().unwrap_or(0), outcomes.values().sum::<u64>());
            let share = good as f64 / count.max(1) as f64;
            all.push(Metric {
                what: request.clone(),
                name: "answered",
                value: Some(share),
                shown: format!("{:.2} %", share * 100.0),
            });
            for (name, at) in [("median answer", 0.5), ("99 % of answers", 0.99)] {
                let time = times.at(at);
                all.push(Metric {
                    what: request.clone(),
                    name,
                    value: time.map(|time| time as f64),
                    shown: or_nothing(time),
                });
            }
        }
    }
    for (message, fields) in &summed.summary.fields {
        each_field("", fields, &mut |name, field| {
            let what = format!("{message}.{name}");
            let unit = &field.field.unit;
            let mut add = |name, value: Option<f64>| {
                if let Some(value) = value {
                    let shown = format!("{} {}", short(value), escaped(unit));
                    all.push(Metric {
                        what: what.clone(),
                        name,
                        value: Some(value),
                        shown: shown.trim_end().to_owned(),
                    });
                }
            };
            add("least", field.span.map(|span| span.least));
            add("mean", field.span.and(field.mean()));
            add("greatest", field.span.map(|span| span.greatest));
            for (label, share) in shares(field) {
                let what = format!("{message}.{name} == {label}");
                all.push(Metric { what, name: "of the time", value: Some(share), shown: format!("{share:.1} %") });
            }
        });
    }
    all
}

/// What differs between two recordings: each number that is in only one, or that is another one, by more than one in a hundred.
pub fn differences(one: &Summed<'_>, other: &Summed<'_>) -> Sheet {
    let mut sheet = Sheet::new(
        "What differs",
        &[("of", false), ("what", false), ("here", true), ("there", true), ("change", true)],
    );
    let (here, mut there) = (metrics(one), metrics(other));
    for metric in here {
        let at = there.iter().position(|other| (&other.what, other.name) == (&metric.what, metric.name));
        let (shown, value) = match at.map(|at| there.remove(at)) {
            Some(other) => (other.shown, other.value),
            None => (String::new(), None),
        };
        let change = match metric.value.zip(value) {
            Some((now, then)) if (now - then).abs() <= 0.01 * now.abs().max(then.abs()) => continue,
            Some((now, then)) if then != 0.0 => format!("{:+.1} %", (now - then) / then.abs() * 100.0),
            Some(_) => String::new(),
            None if metric.shown == shown => continue,
            None => "only here".to_owned(),
        };
        sheet.rows.push(vec![metric.what, metric.name.to_owned(), metric.shown, shown, change]);
    }
    for metric in there.into_iter().filter(|metric| !metric.shown.is_empty()) {
        sheet.rows.push(vec![
            metric.what,
            metric.name.to_owned(),
            String::new(),
            metric.shown,
            "only there".to_owned(),
        ]);
    }
    sheet
}
