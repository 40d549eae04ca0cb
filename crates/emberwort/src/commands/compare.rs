//! `compare`: what changed between two revisions, and what it does to units in the field.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_evolution::prove::prove;
use emberwort_evolution::{Comparison, History, Order, Pair, Revision, compare, ways_out};
use emberwort_model::Plan;
use emberwort_model::diagnostics::escaped;
use emberwort_model::plan::{Channel, Role};
use emberwort_rows::Paint;

use crate::cli::{CompareArgs, CompareForm};
use crate::ending::Ending;
use crate::output::{self, Look, say};
use crate::project::{AllowEntry, Project, read_definition};
use crate::reading::revisions;
use crate::render::comparison::{self, Earlier, FleetRow, Report};

pub fn run(args: &CompareArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    // Two files need no project around them.
    let files = args.revisions.len() == 2 && args.revisions.iter().all(|name| Path::new(name).is_file());
    let project = match (files, Project::find(link)) {
        (true, Err(_)) => Project { definition: args.revisions[1].clone().into(), file: None },
        (_, found) => found?,
    };
    let definition = &project.definition;
    let working = || -> anyhow::Result<Revision> {
        let checked = read_definition(definition)?;
        let name = revisions::numbered(&checked, ", as it is in ", &crate::files::shown(definition));
        revisions::of_checked(name, checked, look)
    };
    let now = if files { None } else { Some(working()?) };
    let name = now.as_ref().map_or_else(String::new, |now| now.plan.link.name.clone());
    let history = revisions::history(definition, &name)?;
    if !history.problems.is_empty() {
        revisions::report_problems(&history, look);
        say!("nothing is compared until the history is whole again: restore these files from version control");
        return Ok(Ending::WithFindings);
    }
    let named = |name: &str| revisions::named(name, definition, &history, look);
    let old = match args.revisions.first() {
        Some(name) => named(name)?,
        None => match history.last() {
            Some(sealed) => revisions::of_sealed(sealed)?,
            None => bail!(
                "nothing is sealed in {}, so there is nothing to compare with\nseal what was released with `emberwort seal`, or name an \
                 older definition: a file, or `git:COMMIT`",
                crate::files::shown(&revisions::folder(definition))
            ),
        },
    };
    let new = match (args.revisions.get(1), now) {
        (Some(name), _) => named(name)?,
        (None, Some(now)) => now,
        (None, None) => working()?,
    };
    let new = args.what_if.iter().try_fold(new, |new, change| {
        new.what_if(change).map_err(|why| anyhow::anyhow!("--what-if {}: {}", escaped(change), escaped(&why)))
    })?;
    let found = compare(&old, &new);
    let ways = ways_out(&old, &new, &found);
    let mut entries = project.file.map(|(_, file)| file.allow).unwrap_or_default();
    // What was accepted in an earlier revision stands in the way of the revisions before that no more.
    let ever_accepted = entries.clone();
    entries.retain(|entry| entry.revision == new.plan.link.revision);
    for given in &args.allow {
        entries.push(allowed_by(given, new.plan.link.revision)?);
    }
    let allowed: Vec<Option<String>> = found
        .changes
        .iter()
        .map(|change| change.difference.to_string())
        .map(|name| entries.iter().find(|entry| entry.difference == name).map(|entry| entry.reason.clone()))
        .collect();
    let fleet = args.fleet.as_deref().map(|path| fleet(path, &history, (&old, &found), &new)).transpose()?;
    let fixed =
        fleet.iter().flatten().any(|row| row.fixed > 0 && row.with_new_host.iter().any(|verdict| verdict.strands()));
    // What is accepted stands in nobody's way.
    let mut open = found.clone();
    let mut accepted = allowed.iter().map(Option::is_some);
    open.changes.retain(|_| !accepted.next().unwrap_or(false));
    let order = match &fleet {
        Some(_) if fixed => Order::Never,
        Some(rows) => with_fleet(rows, Order::of(&open)),
        None => Order::of(&open),
    };
    let earlier = match args.revisions.is_empty() {
        true => {
            let accepted: Vec<&AllowEntry> = ever_accepted.iter().chain(&entries).collect();
            earlier(&history, &old, &new, (&found, &accepted))?
        }
        false => Vec::new(),
    };
    let proof = args.prove.then(|| prove(&old, &new, &found, args.random, args.seed));
    // A question of what would be is no edit.
    let sealed = match args.what_if.as_slice() {
        [] => revisions::edited_after_sealing(&history, &new.plan, &new.text),
        _ => None,
    };
    let report = Report {
        edited_after_sealing: sealed,
        link: &new.plan.link.name,
        comparison: &found,
        remedies: &ways,
        allowed: &allowed,
        order,
        channels: by_revision_part(&new.plan, &found),
        revision: new.plan.link.revision,
        fleet: fleet.as_deref(),
        earlier: &earlier,
        proof: proof.as_ref(),
    };
    let text = match args.form {
        CompareForm::Table => comparison::table(&report, look),
        CompareForm::Ndjson => comparison::ndjson(&report),
        CompareForm::Markdown => comparison::markdown(&report),
    };
    let mut out = output::stdout();
    out.write_all(text.as_bytes())?;
    out.flush()?;
    warn_unused_allowances(&entries, &found, look);
    let contradicted = proof.as_ref().is_some_and(|proof| !proof.contradictions.is_empty());
    if args.form == CompareForm::Table {
        offer_entries(&found, &allowed, &earlier, new.plan.link.revision);
    }
    Ok(if report.strands() || contradicted || fixed { Ending::WithFindings } else { Ending::Clean })
}

/// What is accepted and does not differ was mended, or misspelt.
fn warn_unused_allowances(entries: &[AllowEntry], found: &Comparison, look: Look) {
    for entry in entries {
        if found.changes.iter().all(|change| change.difference.to_string() != entry.difference) {
            say!(
                "{} `{}` is accepted, and does not differ",
                look.paint_err(Paint::Bad, "finding:"),
                escaped(&entry.difference)
            );
        }
    }
}

/// The entries of a project's file with which differences that strand somebody are accepted, to be copied.
fn offer_entries(found: &Comparison, allowed: &[Option<String>], earlier: &[Earlier], revision: u32) {
    let open = found.changes.iter().zip(allowed);
    let open = open.filter(|(change, allowed)| change.worst().strands() && allowed.is_none());
    let entry = |difference: String| {
        format!("[[allow]]\ndifference = \"{difference}\"\nrevision = {revision}\nreason = \"\"\n")
    };
    let mut entries: Vec<String> = open.map(|(change, _)| entry(change.difference.to_string())).collect();
    for (difference, _) in earlier.iter().flat_map(|one| &one.strands) {
        let entry = entry(difference.clone());
        if !entries.contains(&entry) {
            entries.push(entry);
        }
    }
    let (these_strand, one, its_entry) = match entries.len() {
        0 => return,
        1 => ("this strands", "it", "it"),
        _ => ("these strand", "one of them", "its entry"),
    };
    say!(
        "{these_strand} devices or hosts; to accept {one} all the same, add {its_entry} to {} with your reason:",
        crate::project::PROJECT_FILE
    );
    // Text to copy keeps its lines.
    output::say_text(&entries.join("\n"));
}

/// What strands units of sealed revisions before the old one, beyond what strands those of the old one: mostly, a key that was
/// free again and has a new owner.
fn earlier(
    history: &History,
    old: &Revision,
    new: &Revision,
    (found, allowed): (&Comparison, &[&AllowEntry]),
) -> anyhow::Result<Vec<Earlier>> {
    let mut all = Vec::new();
    for sealed in history.revisions.iter().filter(|sealed| sealed.revision < old.plan.link.revision) {
        let known = |name: &str| {
            allowed.iter().any(|entry| entry.difference == name)
                || found.changes.iter().any(|change| change.difference.to_string() == name)
        };
        let comparison = compare(&revisions::of_sealed(sealed)?, new);
        let strands = comparison.changes.iter().filter(|change| change.worst().strands());
        let strands = strands.map(|change| {
            let worst = change.judgements.iter().max_by_key(|judgement| judgement.verdict);
            (change.difference.to_string(), worst.map_or_else(String::new, |judgement| judgement.sentence.clone()))
        });
        let strands = strands.filter(|(difference, _)| !known(difference)).collect();
        all.push(Earlier { revision: sealed.revision, strands });
    }
    Ok(all)
}

/// What `--allow` says.
fn allowed_by(given: &str, revision: u32) -> anyhow::Result<AllowEntry> {
    match given.split_once('=') {
        Some((difference, reason)) if !reason.trim().is_empty() => {
            Ok(AllowEntry { difference: difference.trim().to_owned(), revision, reason: reason.trim().to_owned() })
        }
        _ => bail!(
            "--allow needs a difference and a reason, as in --allow 'GateStatus.oil: step=no unit has that sensor'"
        ),
    }
}

/// The channels on which somebody is stranded: those whose frames say the sender's revision, and those whose frames do not.
fn by_revision_part(plan: &Plan, found: &Comparison) -> (Vec<String>, Vec<String>) {
    let judgements = found.changes.iter().flat_map(|change| &change.judgements);
    let examples = judgements.filter(|one| one.verdict.strands()).filter_map(|one| one.example.as_ref());
    let stranding: BTreeSet<&str> = examples.map(|example| example.channel.as_str()).collect();
    let channels = plan.channels.iter().filter(|channel| stranding.contains(channel.name.as_str()));
    let (with, without): (Vec<_>, Vec<_>) =
        channels.partition(|channel| channel.has_part(|role| *role == Role::Revision));
    let names = |channels: Vec<&Channel>| channels.iter().map(|channel| channel.name.clone()).collect();
    (names(with), names(without))
}

/// Who has which revision, with how each of them gets along with a new host.
fn fleet(
    path: &Path,
    history: &History,
    (old, found): (&Revision, &Comparison),
    new: &Revision,
) -> anyhow::Result<Vec<FleetRow>> {
    let shown = crate::files::shown(path);
    let mut counts: BTreeMap<u32, (usize, usize)> = BTreeMap::new();
    for unit in crate::reading::fleet::read(path)?.units {
        let count = counts.entry(unit.revision).or_default();
        count.0 += 1;
        count.1 += usize::from(unit.is_fixed);
    }
    let mut rows = Vec::new();
    for (revision, (devices, fixed)) in counts {
        let worst = |comparison: &Comparison| {
            [Pair::OldDeviceNewHost, Pair::NewHostOldDevice].map(|pair| comparison.worst(pair))
        };
        let with_new_host = if revision == old.plan.link.revision {
            worst(found)
        } else if revision == new.plan.link.revision {
            Default::default()
        } else {
            let sealed = history.revisions.iter().find(|sealed| sealed.revision == revision);
            let Some(sealed) = sealed else {
                bail!("{shown} has {devices} with revision {revision}, which is not sealed; nobody knows what it says");
            };
            worst(&compare(&revisions::of_sealed(sealed)?, new))
        };
        rows.push(FleetRow { revision, devices, fixed, with_new_host });
    }
    Ok(rows)
}

/// The order, if devices of still older revisions do not get along with a new host.
fn with_fleet(rows: &[FleetRow], order: Order) -> Order {
    let strands = rows.iter().any(|row| row.with_new_host.iter().any(|verdict| verdict.strands()));
    match order {
        Order::Either if strands => Order::DevicesFirst,
        Order::HostFirst if strands => Order::AtOnce,
        order => order,
    }
}
