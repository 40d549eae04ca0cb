//! The payload codec of a LoRaWAN device for network servers: a script with `decodeUplink`, `encodeDownlink` and `decodeDownlink`, as the
//! LoRa Alliance's TS013-1.0.0 (Payload Codec API) has them.

use emberwort_model::Plan;
use emberwort_model::ids::MessageId;
use emberwort_model::medium::MediumKind;
use emberwort_model::model::{End, Field, Kind, LAST_TIME, Labelled};
use emberwort_model::plan::{Action, Channel, Direction, KeySource, Part, Role};

use super::body::body;
use super::clashes::clashes;
use super::flavour::Flavour;
use super::frames::{self, is_wide as is_wide_part};
use super::names::{class, comment, doc, member, module, text};
use super::numbers::{is_wide, literal};

use crate::code::Code;
use crate::lower::frame::is_chosen;
use crate::lower::{FieldContent, Floats, Group, records};
use crate::parts::Parts;
use crate::{GenerateError, GeneratedFile};

/// The start of a script.
const ERROR: &str = include_str!("error_script.js");

/// From values to data and back.
const CODEC: &str = include_str!("codec.js");

/// The script of the channel over which LoRaWAN devices send.
///
/// # Errors
/// If there is no such channel, or more than one and the parts do not say which; if two names become the same.
pub fn generate(plan: &Plan, parts: &Parts) -> Result<Vec<GeneratedFile>, GenerateError> {
    parts.check(plan)?;
    if let Some(clash) = clashes(plan).into_iter().next() {
        return Err(GenerateError::NameClash { clash, language: "JavaScript" });
    }
    let is_radio = |channel: &&Channel| {
        channel.direction(End::Device).selected_by == KeySource::Port
            && matches!(channel.medium.kind, MediumKind::Lora { .. })
            && parts.has_channel(&channel.name)
    };
    let all: Vec<&Channel> = plan.channels.iter().filter(is_radio).collect();
    let channel = match all.as_slice() {
        [channel] => *channel,
        [] => return Err(GenerateError::NoRadio),
        several => {
            let names: Vec<&str> = several.iter().map(|channel| channel.name.as_str()).collect();
            return Err(GenerateError::SeveralRadios(names.join(", ")));
        }
    };
    let mut of_channel = plan.clone();
    of_channel.channels = vec![channel.clone()];
    of_channel
        .messages
        .retain(|message| plan.message_index(&message.message.name).is_some_and(|index| channel.carries(index)));
    let name = module(&plan.link.name);
    Ok(vec![GeneratedFile { name: format!("{name}_codec.js"), text: script(plan, channel, &of_channel) }])
}

fn script(plan: &Plan, channel: &Channel, of_channel: &Plan) -> String {
    let mut code = Code::with_step("  ");
    let about = crate::origin(plan);
    code.lines(&comment(&format!(
        "{about}\n\nThe payload codec of {} for network servers (LoRa Alliance TS013-1.0.0). Data has the message's name in `message` and its\n\
         values in `fields`: physical numbers, labels as text, null where there is no reading.",
        doc(&channel.name)
    )));
    code.line("");
    code.line(format!("var REVISION = {};", plan.link.revision));
    code.line("");
    code.lines(ERROR);
    code.line("function bytesOf(some) {\n  return some;\n}\n");
    code.lines(&body(of_channel, Flavour::Script));
    code.line("");
    code.lines(CODEC);
    let records = records(of_channel);
    let mut groups: Vec<Group<'_>> = records.iter().map(|record| Group::of_record(plan, record)).collect();
    groups.extend(of_channel.messages.iter().map(|message| Group::of_message(plan, message)));
    for group in &groups {
        table(group, &mut code);
    }
    for end in [End::Device, End::Host] {
        let direction = channel.direction(end);
        code.line("");
        code.open(format!("var {} = {{", ports_of(end)));
        let one = |(key, message): &(u64, MessageId)| {
            let compiled = &plan.messages[*message];
            let name = class(&compiled.message.name);
            let revisions: Vec<String> = compiled.sections.iter().map(|one| one.revision.to_string()).collect();
            (compiled.message.from == end).then(|| {
                format!(
                    "{key}: {{ name: {}, read: read{name}, write: write{name}, make: new{name}, fields: {}, revisions: [{}] }}",
                    text(&compiled.message.name),
                    table_name(&compiled.message.name),
                    revisions.join(", ")
                )
            })
        };
        code.lines(&direction.keys.iter().filter_map(one).collect::<Vec<_>>().join(",\n"));
        code.close("};");
    }
    parts(channel.direction(End::Device), &mut code);
    let stem = |end: End| frames::stem(&channel.name, channel.is_split().then_some(end));
    for (function, about, end, encodes) in [
        ("decodeUplink", "What a device sent.", End::Device, false),
        ("decodeDownlink", "What was sent to a device.", End::Host, false),
        ("encodeDownlink", "What to send to a device.", End::Host, true),
    ] {
        code.line("");
        code.line(format!("/** {about} */"));
        code.open(format!("function {function}(input) {{"));
        let (work, frame) = if encodes { ("encodePayload", "build") } else { ("decodePayload", "open") };
        code.line(format!("return {work}(input, {}, {frame}{});", ports_of(end), stem(end)));
        code.close("}");
    }
    code.finish()
}

fn ports_of(end: End) -> &'static str {
    match end {
        End::Device => "UPLINK_PORTS",
        End::Host => "DOWNLINK_PORTS",
    }
}

/// The parts of a frame beside the key: their names in the data and in a frame, and what they are if nobody says it.
fn parts(direction: &Direction, code: &mut Code) {
    let one = |part: &Part| {
        let name = match part.role {
            Role::Address => "node",
            Role::Sequence => "sequence",
            Role::Revision => "sender_revision",
            _ => return None,
        };
        // A sender says its own revision.
        let usual = if part.role == Role::Revision { "REVISION" } else { "0" };
        let usual = if is_wide_part(part) { format!("BigInt({usual})") } else { usual.to_owned() };
        Some(format!("[{}, {}, {usual}]", text(name), text(&member(&part.name))))
    };
    let all: Vec<String> = direction.parts.iter().filter(|part| is_chosen(part)).filter_map(one).collect();
    code.line("");
    code.line(format!("var PARTS = [{}];", all.join(", ")));
}

fn table_name(name: &str) -> String {
    format!("FIELDS_OF_{}", crate::names::plain_snake(name).to_ascii_uppercase())
}

/// The fields of a message or a record, for turning values to data and back.
fn table(group: &Group<'_>, code: &mut Code) {
    code.line("");
    code.open(format!("var {} = [", table_name(group.name)));
    let one = |(section, field, action): (usize, &Field, &Action)| {
        let optional = if field.optional { ", optional: true" } else { "" };
        let section = if section > 0 { format!(", section: {section}") } else { String::new() };
        let member = member(&field.name);
        format!(
            "{{ name: {}, member: {}{optional}{section}, {} }}",
            text(&field.name),
            text(&member),
            kind(field, action)
        )
    };
    code.lines(&group.named().map(one).collect::<Vec<_>>().join(",\n"));
    code.close("];");
}

/// What a field is, as members of an object.
fn kind(field: &Field, action: &Action) -> String {
    let wide = if is_wide(&field.kind) { ", wide: true" } else { "" };
    let width = field.kind.raw_bits().unwrap_or(1);
    let none = field.kind.none().map_or(String::new(), |none| format!(", none: {}", literal(none, width)));
    let labels = |labels: &Labelled, is_flags: bool| {
        let code = |code: u64| if is_flags { code.to_string() } else { literal(i128::from(code), width) };
        let all: Vec<String> =
            labels.labels.iter().map(|label| format!("[{}, {}]", text(&label.name), code(label.code))).collect();
        format!("labels: [{}]", all.join(", "))
    };
    match (&field.kind, action) {
        (Kind::Number(form) | Kind::Varint(form), _) => {
            let scaling = match form.scaling.is_identity() {
                true => String::new(),
                false => {
                    let (offset, step, divisor) = form.scaling.parts();
                    format!(", step: {step}, offset: {offset}, divisor: {divisor}")
                }
            };
            let (low, high) = (literal(form.low, width), literal(form.high, width));
            let holds = text(&format!("it takes {}", FieldContent::of(field, Floats::Numbers).values()));
            format!("kind: \"number\", low: {low}, high: {high}{scaling}{none}{wide}, holds: {holds}")
        }
        (Kind::Bool, _) => "kind: \"boolean\"".to_owned(),
        (Kind::Float(bits), _) => format!("kind: \"float\", bits: {bits}"),
        (Kind::Time { milliseconds: true }, _) => {
            format!("kind: \"time\", milliseconds: true, high: {}{wide}", LAST_TIME * 1000)
        }
        (Kind::Time { milliseconds: false }, _) => format!("kind: \"time\", high: {LAST_TIME}"),
        (Kind::Enum { labels: of, .. }, _) => format!("kind: \"label\", {}{none}{wide}", labels(of, false)),
        (Kind::Flags(of), _) => format!("kind: \"flags\", bits: {}, {}{wide}", of.bits, labels(of, true)),
        (Kind::Text { ascii, .. }, _) => format!("kind: \"text\", ascii: {ascii}"),
        (_, Action::Run { .. }) => "kind: \"bytes\"".to_owned(),
        (_, Action::List(list)) => {
            format!("kind: \"list\", element: {{ {} }}", kind(&list.element.field, &list.element.action))
        }
        (_, Action::Record(record)) => {
            let name = &record.record.name;
            format!("kind: \"record\", fields: {}, make: new{}", table_name(name), class(name))
        }
        (_, Action::Union(union)) => {
            let form = |element: &emberwort_model::plan::Element| {
                format!("{{ name: {}, {} }}", text(&element.field.name), kind(&element.field, &element.action))
            };
            let forms: Vec<String> = union.forms.iter().map(form).collect();
            format!("kind: \"form\", forms: [{}]", forms.join(", "))
        }
        (_, Action::Bits { .. } | Action::Varint { .. } | Action::Skip { .. }) => "kind: \"none\"".to_owned(),
    }
}
