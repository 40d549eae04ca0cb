//! `amend`: a copy of a capture in which some frames are others.

mod change;
mod proof;
mod report;
mod select;
mod show;

use std::cell::RefCell;
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::path::{Path, PathBuf};
use std::rc::Rc;

use anyhow::{Context, bail};
use emberwort_capture::amend::copy::How;
use emberwort_capture::amend::scrub::{Pseudonyms, ScrubRequest, Scrubbed};
use emberwort_capture::amend::{self, Edits, EditsInOrder};
use emberwort_capture::packing::Unpacked;
use emberwort_capture::traced::{Provenance, Traced};
use emberwort_capture::{CaptureFormat, Decoder, InterfaceKind, Statistics, source};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::hex::parse_hex;
use emberwort_model::medium::MediumKind;

use self::proof::{CaptureCount, FramesDigest};
use self::report::Layers;
use self::select::{EditRequest, Select};
use crate::cli::{AmendArgs, CaptureForm};
use crate::ending::Ending;
use crate::files;
use crate::output::{Look, say};
use crate::reading::capture_definitions::open_definitions;
use crate::reading::inputs;
use crate::reading::opening::input_name;
use crate::reading::sources::Settings;
use crate::render::plural;
use crate::render::stats::damage_text;

pub fn run(args: &AmendArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    crate::interrupt::catch();
    let path = only_input(args)?;
    if !args.input.wave.wire.is_empty() {
        bail!("amend changes captures of packets; a waveform holds levels, and no bytes that could be set");
    }
    let form = form_of(args, path)?;
    if same_file(path, &args.out) {
        bail!("--out is the capture itself, which is never changed; choose another name");
    }
    if args.out.exists() {
        bail!(
            "{} exists already, and nothing is overwritten\nchoose another name with --out, or move the file away",
            files::shown(&args.out)
        );
    }
    let definitions = open_definitions(&args.revisions, link, look)?;
    let plan = definitions.revisions.own().clone();
    let mut settings = Settings::of(&args.input, link, &plan)?;
    settings.nodes = definitions.nodes;
    let request = edit_request(args, &plan)?;
    let wanted = scrubbing(args)?;
    let by = Pseudonyms::new(&key(args)?);
    let scrubbed = Rc::new(RefCell::new(Scrubbed::default()));
    let scrub = wanted.as_ref().map(|wanted| (wanted, &by, scrubbed.clone()));
    let provenance: Rc<RefCell<Provenance>> = Rc::default();
    let select = Select::new(args, &plan, request, provenance.clone(), scrub, form == CaptureFormat::Raw)?;
    let decoder = Decoder::of(definitions.revisions.clone(), select).with_deferred(definitions.deferred);
    let (traced, inputs) = inputs::read_all(&settings, Traced::new(provenance, decoder))?;
    let (mut select, statistics) = traced.into_sink().finish()?;
    if let Some((name, damage)) = inputs.damage.first() {
        bail!("{}\na damaged capture cannot be copied whole", damage_text(name, damage));
    }
    if crate::interrupt::came() {
        bail!("interrupted; no copy was made");
    }
    if let Some(problem) = &select.problem {
        let more = select.problems - 1;
        bail!(
            "{problem}{}",
            if more > 0 {
                format!("\nand {} cannot be changed either", plural(more, "more frame"))
            } else {
                String::new()
            }
        );
    }
    let missing: Vec<String> =
        args.frame.iter().filter(|number| !select.found.contains(number)).map(u64::to_string).collect();
    if !missing.is_empty() {
        bail!("there is no frame {}: {} were found", missing.join(", "), plural(statistics.frames, "frame"));
    }
    if let Some(problem) = select.span_problem.take() {
        bail!("{problem}");
    }
    if args.input.wave.span.is_some() && select.edits.span.is_none() {
        bail!("--span is for captures with times");
    }
    let mut copy = files::PendingFile::new(&args.out)?;
    let none = Edits::new(Box::new(|| Err(io::ErrorKind::Unsupported.into())));
    let mut edits = std::mem::replace(&mut select.edits, none).in_order().context("the edits cannot be read back")?;
    let mut layers = Layers::new(&select.report).context("no temporary file can be made")?;
    let scrubbing = (wanted.as_ref(), &by, &scrubbed, &*plan);
    write(args, path, form, (&mut edits, &mut layers), scrubbing, &mut copy)?;
    let again = Settings {
        args: crate::cli::InputArgs {
            inputs: vec![copy.temporary().to_owned()],
            form: settings.args.form,
            ..settings.args.clone()
        },
        ..settings
    };
    let counted = proof::count(&again, definitions.revisions)?;
    if crate::interrupt::came() {
        bail!("interrupted; no copy was made");
    }
    is_proved(&select, &counted, &statistics, args)?;
    let mut found = false;
    if let Some(wanted) = &wanted {
        found |= !tell_scrubbed(args, wanted, &scrubbed.borrow(), (&counted.statistics, copy.temporary()))?;
    }
    copy.commit(false)?;
    show::changes(args, &mut select.report, &mut layers, select.scrubbed, look)?;
    Ok(if found { Ending::WithFindings } else { Ending::Clean })
}

/// The one capture that is copied.
fn only_input(args: &AmendArgs) -> anyhow::Result<&PathBuf> {
    match args.input.inputs.as_slice() {
        [path] if path == Path::new("-") => {
            bail!("standard input can be read once, and this takes two readings: name a file")
        }
        [path] => Ok(path),
        _ => bail!("name the one capture to copy"),
    }
}

fn same_file(one: &Path, other: &Path) -> bool {
    matches!((std::fs::canonicalize(one), std::fs::canonicalize(other)), (Ok(one), Ok(other)) if one == other)
}

fn open(args: &AmendArgs, path: &Path) -> anyhow::Result<(Vec<u8>, Unpacked<'static>)> {
    let failed = || format!("{} cannot be read", input_name(path));
    let file = File::open(path).with_context(failed)?;
    let is_raw = args.input.form == Some(CaptureForm::Raw);
    let mut unpacked = if is_raw { Unpacked::as_it_is(file) } else { Unpacked::new(file).with_context(failed)? };
    let first = source::read_first(&mut unpacked).with_context(failed)?;
    Ok((first, unpacked))
}

fn form_of(args: &AmendArgs, path: &Path) -> anyhow::Result<CaptureFormat> {
    let (first, _) = open(args, path)?;
    let records = &args.input.records;
    let is_text = records.lines.is_some()
        || records.columns.is_some()
        || records.bytes_at.is_some()
        || args.input.source.is_some();
    let form = match args.input.form {
        Some(CaptureForm::Pcapng) => CaptureFormat::Pcapng,
        Some(CaptureForm::Pcap) => CaptureFormat::Pcap,
        Some(CaptureForm::Hex) => CaptureFormat::Hex,
        Some(CaptureForm::Raw) => CaptureFormat::Raw,
        Some(CaptureForm::Samples) => bail!("--form samples is for waveforms, which hold no bytes that could be set"),
        None => source::detect(&first),
    };
    if is_text || form == CaptureFormat::Hex {
        bail!("text is changed with an editor; amend copies pcapng, pcap and raw bytes");
    }
    Ok(form)
}

/// What is to become of the chosen frames.
fn edit_request(args: &AmendArgs, plan: &Plan) -> anyhow::Result<EditRequest> {
    let mut patches = Vec::new();
    for text in &args.patch {
        let read = text.split_once('=').and_then(|(at, bytes)| {
            let at = at.trim();
            let at = at
                .strip_prefix("0x")
                .map_or_else(|| at.parse().ok(), |digits| usize::from_str_radix(digits, 16).ok())?;
            Some((at, parse_hex(bytes).filter(|bytes| !bytes.is_empty())?))
        });
        let said = || format!("--patch {}: write OFFSET=HEX, as 6=7F or 0x10=0A0B", escaped(text));
        patches.push(read.with_context(said)?);
    }
    let mut sets = Vec::new();
    for text in &args.set {
        let (name, value) =
            text.split_once('=').with_context(|| format!("--set {}: write FIELD=VALUE", escaped(text)))?;
        sets.push((name.trim().to_owned(), value.to_owned()));
    }
    for (name, _) in &sets {
        let first = name.split(['.', '[']).next().unwrap_or(name);
        if !plan.messages.iter().any(|message| message.message.field(first).is_some()) {
            let names =
                plan.messages.iter().flat_map(|message| &message.message.fields).map(|field| field.name.as_str());
            let near = emberwort_model::diagnostics::nearest(first, names)
                .map_or_else(String::new, |near| format!("; did you mean `{near}`?"));
            bail!("--set: no message has a field `{}`{near}", escaped(first));
        }
    }
    let request =
        EditRequest { sets, patches, drop: args.drop, twice: args.twice, delay: args.delay, reorder: args.reorder };
    let chooses = !args.frame.is_empty() || args.condition.is_some() || !args.message.is_empty() || args.node.is_some();
    if request.is_something() && !chooses {
        bail!(
            "say which frames: --frame N, --where CONDITION, --message M or --node N\n`emberwort decode {} --as tree` numbers them",
            args.input.inputs[0].display()
        );
    }
    if chooses && !request.is_something() {
        bail!("say what becomes of these frames: --set, --patch, --drop, --twice, --delay or --reorder");
    }
    if !request.is_something() && args.keep.is_none() && args.input.wave.span.is_none() && args.scrub.is_empty() {
        bail!("say what is to change: --set, --patch, --drop, --twice, --delay, --reorder, --keep, --span or --scrub");
    }
    Ok(request)
}

fn scrubbing(args: &AmendArgs) -> anyhow::Result<Option<ScrubRequest>> {
    if args.scrub.is_empty() {
        return Ok(None);
    }
    let mut wanted = ScrubRequest::default();
    for name in &args.scrub {
        match name.as_str() {
            "addresses" => wanted.addresses = true,
            "ports" => wanted.ports = true,
            "text" => wanted.text = true,
            field => wanted.fields.push(field.to_owned()),
        }
    }
    Ok(Some(wanted))
}

/// The key of the pseudonyms: as it was given, else one of chance for this run.
fn key(args: &AmendArgs) -> anyhow::Result<Vec<u8>> {
    if let Some(key) = &args.scrub_key {
        return Ok(key.as_bytes().to_vec());
    }
    let mut key = vec![0; 32];
    if !args.scrub.is_empty() {
        File::open("/dev/urandom")
            .and_then(|mut file| file.read_exact(&mut key))
            .context("no random key can be made; give one with --scrub-key")?;
        say!("without --scrub-key the new values are the same for the same old ones in this file alone");
    }
    Ok(key)
}

type Scrubbing<'a> = (Option<&'a ScrubRequest>, &'a Pseudonyms, &'a Rc<RefCell<Scrubbed>>, &'a Plan);

fn write(
    args: &AmendArgs,
    path: &Path,
    form: CaptureFormat,
    (edits, layers): (&mut EditsInOrder, &mut Layers),
    (wanted, by, scrubbed, plan): Scrubbing<'_>,
    out: &mut files::PendingFile,
) -> anyhow::Result<()> {
    let known = |port: u16| {
        plan.channels.iter().any(|channel| {
            let own = match channel.medium.kind {
                MediumKind::Udp { port, .. } | MediumKind::Tcp { port, .. } => Some(port),
                _ => None,
            };
            own == Some(port) || channel.key_is_outside() && channel.message_of(port.into(), None).is_some()
        })
    };
    let (first, unpacked) = open(args, path)?;
    let packed = unpacked.was_packed();
    let mut with_all = |kind: InterfaceKind, packet: &mut Vec<u8>| {
        if let Some(wanted) = wanted {
            wanted.scrub_packet(kind, packet, &known, by, &mut scrubbed.borrow_mut());
        }
    };
    let input = first.as_slice().chain(unpacked);
    let how = How {
        keep_checksums: args.keep_checksums,
        with_all: &mut with_all,
        report: &mut |changed| layers.add(changed),
    };
    amend::copy(form, input, edits, how, out)?;
    out.flush().with_context(|| format!("{} cannot be written", files::shown(&args.out)))?;
    if packed {
        say!("the capture was packed; the copy is not");
    }
    Ok(())
}

/// Says what reading the copy showed.
///
/// # Errors
/// If that is not what it should be: such a copy is not left.
fn is_proved(select: &Select<'_>, counted: &CaptureCount, before: &Statistics, args: &AmendArgs) -> anyhow::Result<()> {
    let out = files::shown(&args.out);
    let expected = FramesDigest { frames: select.digest.frames, sum: select.digest.sum };
    let is_right = counted.digest.frames == expected.frames && counted.digest.sum == expected.sum;
    say!(
        "read back: {out} has {} ({} before), {} bytes of them broken or stray ({} before)",
        plural(counted.statistics.good_frames(), "good frame"),
        before.good_frames(),
        counted.statistics.broken + counted.statistics.stray,
        before.broken + before.stray
    );
    if is_right {
        say!("all other frames are as they were, and the changed ones as they should be");
    } else if args.keep_checksums || !args.patch.is_empty() {
        // Where frames begin is told by their bytes.
        say!(
            "with wrong bytes in it frames are found in another way: {} good ones of {}",
            counted.digest.frames,
            expected.frames
        );
    } else {
        bail!(
            "the copy was not left: reading it back gave {} good frames, and it should hold {}; please report this as a bug of Emberwort",
            counted.digest.frames,
            expected.frames
        );
    }
    match select.waiting.len() {
        0 => {}
        left => say!("finding: {} stayed: no frame of the same stream came behind", plural(left, "frame")),
    }
    Ok(())
}

/// Says what could not be scrubbed, and whether an old value still stands in the copy.
fn tell_scrubbed(
    args: &AmendArgs,
    request: &ScrubRequest,
    done: &Scrubbed,
    (statistics, copy): (&Statistics, &Path),
) -> anyhow::Result<bool> {
    let mut is_clean = true;
    let left = statistics.all_unread_frames() + statistics.all_broken_frames();
    if left > 0 || statistics.stray > 0 {
        say!(
            "finding: {} broken or unread and {} could not be looked into; --keep 'not broken and not unread and not stray' leaves them out",
            plural(left, "frame"),
            plural(statistics.stray, "stray byte")
        );
        is_clean = false;
    }
    if statistics.other_packets > 0 {
        say!(
            "finding: {} of no channel of this link could not be looked into",
            plural(statistics.other_packets, "packet")
        );
        is_clean = false;
    }
    if done.closed > 0 {
        say!("finding: {} inside of messages could not be looked into", plural(done.closed, "frame"));
        is_clean = false;
    }
    for name in &done.kept {
        say!("finding: {} kept some of its values: they have no others of their form", escaped(name));
        is_clean = false;
    }
    for name in request.fields.iter().filter(|name| !is_field(args, name)) {
        say!("no frame had a field {}", escaped(name));
    }
    let old: Vec<&Vec<u8>> = done.old.iter().collect();
    let file = io::BufReader::new(File::open(copy)?);
    let searcher = aho_corasick::AhoCorasick::new(&old)?;
    let mut hits = std::collections::BTreeSet::new();
    let mut count = 0u64;
    for found in searcher.stream_find_iter(file) {
        hits.insert(found?.pattern().as_usize());
        count += 1;
    }
    if count > 0 {
        let shown: Vec<String> = hits.iter().take(4).map(|index| emberwort_model::hex::hex(old[*index])).collect();
        say!(
            "finding: the copy still holds {} in {}: {}",
            plural(hits.len(), "old value"),
            plural(count, "place"),
            shown.join(", ")
        );
        is_clean = false;
    } else {
        say!("searched the copy for {} as bytes, and found none", plural(old.len(), "old value"));
    }
    if done.too_short > 0 {
        say!(
            "{} of fewer than 4 bytes, or of one byte again and again, got others, too; nobody can search for those",
            plural(done.too_short, "value")
        );
    }
    Ok(is_clean)
}

/// Whether a name was a field of what was scrubbed.
fn is_field(args: &AmendArgs, name: &str) -> bool {
    args.scrub.iter().any(|wanted| wanted == name) && !name.is_empty()
}
