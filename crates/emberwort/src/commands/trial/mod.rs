//! `trial`: runs a scripted trial in virtual time.

mod hostile;
mod json;
mod minimise;
mod names;
mod programs;
mod report;
mod story;
mod sweep;
mod tables;
mod wave;

use std::io::Write;
use std::path::Path;

use anyhow::bail;
use emberwort_capture::Recorder;
use emberwort_link::TrialDefinitionId;
use emberwort_rows::{Paint, time};
use emberwort_wire::Chunk;
use json::as_json;
use tables::tables;

use crate::cli::{TableForm, TrialArgs};
use crate::ending::Ending;
use crate::files::PendingFile;
use crate::output::{self, Look, Progress, say};
use crate::project::{Project, load_plan_of};
use crate::reading::capture_definitions::revisions_in_trial;
use crate::reading::recordings;
use crate::reading::scenario;

pub fn run(args: &TrialArgs, link: Option<&Path>, look: Look) -> anyhow::Result<Ending> {
    let project = Project::find(link)?;
    let plan = load_plan_of(&project.definition, look)?;
    let host = args.host.as_deref();
    let (revisions, is_whole) = revisions_in_trial(&args.revisions, host, &project.definition, &plan, look)?;
    let scenario::Trial { scenario, text } = scenario::read(&args.file, &plan, &revisions, args.seed)?;
    let has_programs = scenario.devices.iter().any(|device| device.program.is_some());
    if has_programs && (args.sweep.is_some() || args.hostile.is_some() || args.minimise.is_some()) {
        bail!(
            "programs play devices of this trial, so it is not the same each time: --sweep, --hostile and --minimise need one that is"
        );
    }
    if let Some(words) = &args.sweep {
        return sweep::run(args, words, &scenario, look);
    }
    if let Some(lasting) = args.hostile {
        return hostile::run(lasting, &scenario, args.form);
    }
    for path in args.report.iter().chain(&args.minimise).chain(&args.wave) {
        crate::files::must_be_free(path)?;
    }
    if let Some(path) = args.record.as_ref().filter(|path| path.exists()) {
        bail!(
            "{} exists already, and nothing is overwritten\nchoose another name with --record, or move the file away",
            crate::files::shown(path)
        );
    }
    crate::interrupt::catch();
    let own = scenario.definitions.get(TrialDefinitionId::default());
    let record = |path: &Path| anyhow::Ok(Recorder::new(PendingFile::new(path)?, &own.plan, &[own.channel])?);
    let recorder = args.record.as_deref().map(record).transpose()?;
    let wave = args.wave.as_deref().map(|path| wave::WaveRecorder::new(path, &scenario)).transpose()?;
    let watch = Watcher { recorder, wave, failed: None, progress: Progress::new(scenario.span) };
    let mut programs = programs::Programs::start(&scenario, &args.file)?;
    // What programs do is not the same each time, so it is kept for the story.
    let mut around = story::TailRecorder::new(watch, programs.is_some());
    let outside = programs.as_mut().map(|programs| programs as &mut dyn emberwort_link::ExternalDevices);
    let report = emberwort_link::run_with(&scenario, &mut around, outside);
    let story::TailRecorder { mut watch, pieces } = around;
    watch.progress.end();
    if let Some(error) = watch.failed {
        return Err(error);
    }
    if let Some(recorder) = watch.recorder {
        recorder.finish()?.commit(false)?;
    }
    let wave = watch.wave.map(|wave| wave.finish(report.ended)).transpose()?;
    let mut out = output::stdout();
    match args.form {
        TableForm::Table => out.write_all(tables(&scenario, &report, look).as_bytes())?,
        TableForm::Ndjson => writeln!(out, "{}", as_json(&scenario, &report))?,
    }
    let failed = story::stories(&scenario, &report, pieces);
    if args.form == TableForm::Table && !failed.is_empty() {
        let failures = report.verdicts.iter().filter(|verdict| !verdict.held()).count();
        out.write_all(story::written(&failed, failures, args, look).as_bytes())?;
    }
    out.flush()?;
    for path in &args.report {
        report::write(path, &args.file, &scenario, &report, &failed)?;
        say!("the report is in {}", crate::files::shown(path));
    }
    if let Some(path) = &args.minimise {
        let parse = |text: &str| {
            let mut scenario = scenario::parse(&args.file, text, &plan, &revisions).ok()?;
            recordings::load(&args.file, &plan, &mut scenario).ok().map(|()| scenario)
        };
        minimise::run(path, &text, &scenario, &report, &parse)?;
    }
    if let Some(path) = &args.record {
        say!("what each side received is in {}", crate::files::shown(path));
    }
    if let (Some(path), Some(what)) = (&args.wave, wave) {
        say!("what an instrument sees on the wires is in {}: {what}", crate::files::shown(path));
    }
    if let Some(at) = report.overrun {
        say!(
            "{} {} after its start the trial was given up: 100,000 frames wait for the wire, which is too slow for what is sent\n\
             send less often, take a shorter span, or a faster medium",
            look.paint_err(Paint::Bad, "finding:"),
            time::duration(at)
        );
    }
    if crate::interrupt::came() {
        say!(
            "interrupted {} after the start of the trial; this is what had happened until then",
            time::duration(report.ended)
        );
        return Ok(Ending::WithFindings);
    }
    Ok(if report.passed() && is_whole { Ending::Clean } else { Ending::WithFindings })
}

/// Records, shows how far the trial has come, and ends it where it must end.
struct Watcher {
    recorder: Option<Recorder<PendingFile>>,
    wave: Option<wave::WaveRecorder>,
    /// Why recording failed.
    failed: Option<anyhow::Error>,
    progress: Progress,
}

impl emberwort_link::TrialObserver for Watcher {
    fn should_continue(&mut self, now: u64) -> bool {
        self.progress.at(now);
        self.failed.is_none() && !crate::interrupt::came()
    }

    fn received(&mut self, chunk: &Chunk<'_>, node: u64) {
        if let (Some(recorder), None) = (&mut self.recorder, &self.failed) {
            self.failed = recorder.chunk(chunk).err().map(anyhow::Error::from);
        }
        if let (Some(wave), None) = (&mut self.wave, &self.failed) {
            self.failed = wave.received(chunk, node).err();
        }
    }
}
