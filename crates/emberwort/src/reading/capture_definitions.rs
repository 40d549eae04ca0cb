//! Who speaks which revision: what `--device`, `--fleet` and the frames themselves say.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use anyhow::{Context, bail};
use emberwort_capture::RevisionMap;
use emberwort_capture::revision_map::DeferredDefinitions;
use emberwort_evolution::{History, Pair, Revision, compare, counterparts};
use emberwort_link::Revisions;
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::model::End;
use emberwort_model::plan::Role;
use emberwort_rows::Paint;

use crate::cli::RevisionArgs;
use crate::output::{Look, say};
use crate::project::{Project, load_plan_of, read_definition};
use crate::reading::fleet::{self, Fleet, Unit};
use crate::reading::revisions;

/// The definitions that a capture is read with.
pub struct CaptureDefinitions {
    pub revisions: RevisionMap,
    /// Those that are only read when a frame says that it is of their revision.
    pub deferred: DeferredDefinitions,
    /// Nodes of devices by their names in the fleet file.
    pub nodes: HashMap<String, u64>,
    /// Whether the sealed revisions are whole.
    pub is_whole: bool,
}

/// What the arguments and the project say of who speaks which revision.
pub fn open_definitions(args: &RevisionArgs, link: Option<&Path>, look: Look) -> anyhow::Result<CaptureDefinitions> {
    let project = Project::find(link)?;
    let definition = &project.definition;
    let plan = load_plan_of(definition, look)?;
    let mut map = RevisionMap::of(plan.clone());
    let saying = || plan.channels.iter().filter(|channel| channel.has_part(is_revision));
    if args.device.is_empty() && args.fleet.is_none() && saying().next().is_none() {
        return Ok(CaptureDefinitions {
            revisions: map,
            deferred: DeferredDefinitions::none(),
            nodes: HashMap::new(),
            is_whole: true,
        });
    }
    let history = revisions::history(definition, &plan.link.name)?;
    let is_whole = report_history(&history, look);
    let known = args.fleet.as_deref().map(|path| nodes(path, &plan)).transpose()?.unwrap_or_default();
    let FleetNodes { revisions: fleet, names, definitions: of_fleet } = known;
    // What is said here counts more than the file.
    for (node, name) in of_fleet {
        let speaker_revision =
            revisions::named(&name, definition, &history, look).context("the fleet file names a definition")?;
        match node {
            Some(node) => map.device(node, &speaker_revision.plan),
            None => map.every_device(&speaker_revision.plan),
        }
        report_framing(&plan, &speaker_revision, look);
    }
    for said in &args.device {
        let (node, name) = said_device(said)?;
        let speaker_revision = revisions::named(name, definition, &history, look)
            .with_context(|| format!("--device {}", escaped(said)))?;
        match node {
            Some(node) => map.device(node, &speaker_revision.plan),
            None => map.every_device(&speaker_revision.plan),
        }
        report_framing(&plan, &speaker_revision, look);
    }
    let mut for_later = Vec::new();
    let others = history.revisions.iter().filter(|sealed| sealed.revision != plan.link.revision);
    for sealed in others {
        let units: Vec<u64> =
            fleet.iter().filter(|(_, revision)| *revision == sealed.revision).map(|(node, _)| *node).collect();
        if units.is_empty() {
            for_later.extend(saying().next().map(|_| u64::from(sealed.revision)));
            continue;
        }
        let speaker_revision = revisions::of_sealed(sealed)?;
        let own = revisions::of_checked("the definition".into(), read_definition(definition)?, look)?;
        if !misreads(&own, &speaker_revision) {
            continue;
        }
        map.by_part(&speaker_revision.plan);
        for node in &units {
            map.expected(*node, &speaker_revision.plan);
        }
        report_framing(&plan, &speaker_revision, look);
    }
    for (node, revision) in fleet {
        let known = history.revisions.iter().any(|sealed| sealed.revision == revision);
        if !known && revision != plan.link.revision {
            bail!("{}", unsealed(node, revision));
        }
    }
    let mut later = later(definition, history, for_later, look);
    // A stream has to be searched for longer frames from its first byte on.
    if saying().any(|channel| !channel.finder().is_packet()) {
        later.ask_all(&mut map);
    }
    Ok(CaptureDefinitions { revisions: map, deferred: later, nodes: names, is_whole })
}

/// Sealed revisions that are read, and compared with the definition, when somebody speaks them.
fn later(definition: &Path, history: History, revisions: Vec<u64>, look: Look) -> DeferredDefinitions {
    let definition = definition.to_owned();
    let mut own: Option<Revision> = None;
    DeferredDefinitions::new(revisions, move |revision| {
        let mut find = || -> anyhow::Result<Option<Arc<Plan>>> {
            let sealed = history.revisions.iter().find(|sealed| u64::from(sealed.revision) == revision);
            let Some(sealed) = sealed else { return Ok(None) };
            let speaker_revision = revisions::of_sealed(sealed)?;
            if own.is_none() {
                own = Some(revisions::of_checked("the definition".into(), read_definition(&definition)?, look)?);
            }
            // What the own definition reads as it was meant, it reads with all names and defaults of today.
            Ok(own.as_ref().filter(|own| misreads(own, &speaker_revision)).map(|_| speaker_revision.plan.clone()))
        };
        find().unwrap_or_else(|error| {
            say!(
                "{} frames of revision {revision} are read with the definition: {error:#}",
                look.paint_err(Paint::Bad, "finding:")
            );
            None
        })
    })
}

/// Says what is wrong with sealed revisions, and what that means here; returns whether nothing is.
fn report_history(history: &History, look: Look) -> bool {
    revisions::report_problems(history, look);
    if !history.problems.is_empty() {
        say!("devices with such a revision are read with the definition: restore these files from version control");
    }
    history.problems.is_empty()
}

/// The definitions that the ends of a trial have, and whether the sealed revisions are whole.
pub fn revisions_in_trial(
    args: &RevisionArgs,
    host: Option<&str>,
    definition: &Path,
    plan: &Arc<Plan>,
    look: Look,
) -> anyhow::Result<(Revisions, bool)> {
    let history = revisions::history(definition, &plan.link.name)?;
    let is_whole = report_history(&history, look);
    let mut found = Revisions::default();
    for sealed in &history.revisions {
        found.sealed.insert(sealed.revision, revisions::of_sealed(sealed)?.plan);
    }
    let FleetNodes { revisions: fleet, definitions: of_fleet, .. } =
        args.fleet.as_deref().map(|path| nodes(path, plan)).transpose()?.unwrap_or_default();
    for (node, revision) in fleet {
        match found.sealed.get(&revision) {
            _ if revision == plan.link.revision => found.fleet.insert(node, plan.clone()),
            Some(speaker_revision) => found.fleet.insert(node, speaker_revision.clone()),
            None => bail!("{}", unsealed(node, revision)),
        };
    }
    // The same text is one definition, however it is named.
    let named = |name: &str| -> anyhow::Result<Arc<Plan>> {
        let plan = revisions::named(name, definition, &history, look)?.plan;
        let sealed = found.sealed.get(&plan.link.revision).filter(|_| name == format!("r{}", plan.link.revision));
        Ok(sealed.cloned().unwrap_or(plan))
    };
    let mut said = Vec::new();
    for (node, name) in of_fleet {
        said.push((node, named(&name).context("the fleet file names a definition")?));
    }
    for device in &args.device {
        let (node, name) = said_device(device)?;
        said.push((node, named(name).with_context(|| format!("--device {}", escaped(device)))?));
    }
    let host = host.map(|name| named(name).with_context(|| format!("--host {}", escaped(name)))).transpose()?;
    found.host = host;
    for (node, plan) in said {
        match node {
            Some(node) => drop(found.devices.insert(node, plan)),
            None => found.every_device = Some(plan),
        }
    }
    Ok((found, is_whole))
}

fn unsealed(node: u64, revision: u32) -> String {
    format!("the fleet file has node {node} with revision {revision}, which is not sealed; nobody knows what it says")
}

fn is_revision(role: &Role) -> bool {
    *role == Role::Revision
}

/// The node and the revision of `3=r2`; no node in `r2`.
fn said_device(said: &str) -> anyhow::Result<(Option<u64>, &str)> {
    let (node, name) = match said.split_once('=') {
        Some((node, name)) => match node.trim().parse::<u64>() {
            Ok(node) => (Some(node), name.trim()),
            Err(_) => bail!("--device {}: write a node and its revision, as in --device 3=r2", escaped(said)),
        },
        None => (None, said.trim()),
    };
    if name.is_empty() {
        bail!("--device {}: write which revision that device has, as in --device 3=r2", escaped(said));
    }
    Ok((node, name))
}

/// The nodes of a fleet file with their revisions.
fn nodes(path: &Path, plan: &Plan) -> anyhow::Result<FleetNodes> {
    let Fleet { units, default } = fleet::read(path)?;
    let of_revision = || units.iter().filter(|unit| unit.definition.is_none());
    let revisions = of_revision().filter_map(|unit| Some((unit.node?, unit.revision))).collect();
    let of_units = units.iter().filter_map(|unit| Some((Some(unit.node?), unit.definition.clone()?)));
    let definitions = default.into_iter().map(|default| (None, default)).chain(of_units).collect();
    let is_other = |unit: &&Unit| unit.revision != plan.link.revision || unit.definition.is_some();
    let others = units.iter().filter(|unit| unit.node.is_none()).filter(is_other).count();
    if others > 0 {
        say!(
            "{}: {others} of {} devices have another definition and no node, and are read as revision {}; a column `node` says it",
            crate::files::shown(path),
            units.len(),
            plan.link.revision
        );
    }
    let names = units.into_iter().filter_map(|unit| Some((unit.device, unit.node?))).collect();
    Ok(FleetNodes { revisions, names, definitions })
}

/// What a fleet file says of nodes.
#[derive(Default)]
struct FleetNodes {
    /// Those that have a revision of the link's own definition.
    revisions: Vec<(u64, u32)>,
    /// By the names of their devices.
    names: HashMap<String, u64>,
    /// Those that have a definition of their own, by its name; without a node that of all others.
    definitions: Vec<(Option<u64>, String)>,
}

/// Whether a receiver of the own definition does not read all frames from a sender of another one as they were meant.
fn misreads(own: &Revision, sender: &Revision) -> bool {
    let (old, new, pairs) = if sender.plan.link.revision < own.plan.link.revision {
        (sender, own, [Pair::OldDeviceNewHost, Pair::OldHostNewDevice])
    } else {
        (own, sender, [Pair::NewDeviceOldHost, Pair::NewHostOldDevice])
    };
    let found = compare(old, new);
    pairs.into_iter().any(|pair| found.worst(pair).strands())
}

/// The messages that a sender of an earlier revision sends otherwise than the definition says without what came later; none if
/// that revision is not sealed.
pub fn sent_otherwise(definition: &Path, plan: &Plan, revision: u32, look: Look) -> anyhow::Result<Vec<String>> {
    let history = revisions::history(definition, &plan.link.name)?;
    let Some(sealed) = history.revisions.iter().find(|sealed| sealed.revision == revision) else {
        return Ok(Vec::new());
    };
    let own = revisions::of_checked("the definition".into(), read_definition(definition)?, look)?;
    let old = revisions::of_sealed(sealed)?;
    let found = compare(&old, &own);
    let messages = old.plan.link.message_ids().filter(|(index, message)| {
        let pair = if message.from == End::Device { Pair::OldDeviceNewHost } else { Pair::OldHostNewDevice };
        found.expected(pair, &old.plan, *index).strands()
    });
    Ok(messages.map(|(_, message)| message.name.clone()).collect())
}

/// Says on which channels frames of a revision are not found by a receiver of the own one.
fn report_framing(plan: &Arc<Plan>, speaker_revision: &Revision, look: Look) {
    for (channel, there) in plan.channels.iter().zip(counterparts(plan, &speaker_revision.plan)) {
        if there.is_some_and(|there| !there.framed_alike) {
            say!(
                "{} {} frames `{}` in another way, so its frames are not found among those of the definition; a line that only such \
                 devices send on is read with --device REVISION, without a node, where the capture (or --from) says who sent",
                look.paint_err(Paint::Bad, "finding:"),
                speaker_revision.name,
                channel.name
            );
        }
    }
}
