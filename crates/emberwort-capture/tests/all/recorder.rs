//! What is recorded is read back as the same chunks: on every channel of all examples, from both ends.

use std::ops::ControlFlow;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use emberwort_capture::assign::Unassigned;
use emberwort_capture::{CaptureFormat, Demux, Recorder, StreamSink, source};
use emberwort_model::ids::ChannelId;
use emberwort_model::model::End;
use emberwort_model::plan::KeySource;
use emberwort_model::{Plan, Source, check, check_with};
use emberwort_wire::{Chunk, ChunkSink, StreamId, Time, Times};
use proptest::prelude::*;

/// A chunk without its tap, of which a file knows nothing.
type Kept = (usize, Option<End>, Option<Time>, Option<u64>, Vec<u8>);

/// Keeps all chunks; `plan` says which keys are known.
struct Keep {
    plan: Arc<Plan>,
    chunks: Vec<Kept>,
    unassigned: usize,
}

impl ChunkSink for Keep {
    fn chunk(&mut self, chunk: &Chunk<'_>) -> ControlFlow<()> {
        self.chunks.push(kept(chunk));
        ControlFlow::Continue(())
    }
}

impl StreamSink for Keep {
    fn end_stream(&mut self, _: StreamId) {}

    fn has_key(&self, channel: ChannelId, key: u64) -> bool {
        self.plan.channels[channel].message_of(key, None).is_some()
    }

    fn definitions(&self) -> usize {
        1
    }

    fn unassigned(&mut self, _: Unassigned, _: &[u8]) -> ControlFlow<()> {
        self.unassigned += 1;
        ControlFlow::Continue(())
    }

    fn end_streams(&mut self) {}
}

fn kept(chunk: &Chunk<'_>) -> Kept {
    (chunk.stream.channel.index(), chunk.stream.from, chunk.times.last(), chunk.key, chunk.bytes.to_vec())
}

fn examples() -> Vec<Arc<Plan>> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let read = |path: &Path| std::fs::read_to_string(path).unwrap();
    let marlock = folder.join("marlock");
    let load = |_: &str, name: &str| Ok(Source::new(name, read(&marlock.join(name))));
    let main = Source::new("marlock.ember", read(&marlock.join("marlock.ember")));
    let mut plans = vec![Arc::new(check_with(main, &mut { load }).plan.unwrap())];
    let entries = ["framings", "standards"].iter().flat_map(|name| std::fs::read_dir(folder.join(name)).unwrap());
    let mut paths: Vec<PathBuf> = entries.map(|entry| entry.unwrap().path()).collect();
    paths.retain(|path| path.extension().is_some_and(|extension| extension == "ember"));
    paths.sort();
    assert!(paths.len() >= 7, "{paths:?}");
    plans.extend(paths.iter().map(|path| Arc::new(check(&Source::new("a.ember", read(path))).plan.unwrap())));
    plans
}

/// The keys with which chunks of an end can come over a channel, if any; whether a chunk is a packet that has one.
fn keys(plan: &Plan, channel: ChannelId, from: End) -> Vec<Option<u64>> {
    let of = &plan.channels[channel];
    let direction = of.direction(from);
    match direction.selected_by {
        KeySource::Port | KeySource::CanId | KeySource::Endpoint => {
            direction.keys.iter().map(|(key, _)| Some(*key)).collect()
        }
        _ => vec![None],
    }
}

#[test]
fn every_channel_and_both_ends_are_read_back_as_they_were_recorded() {
    let (mut channels, mut keyed) = (0, 0);
    for plan in examples() {
        for channel in 0..plan.channels.len() {
            channels += 1;
            let mut chunks: Vec<Kept> = Vec::new();
            for from in [End::Device, End::Host] {
                for key in keys(&plan, ChannelId::new(channel), from) {
                    keyed += usize::from(key.is_some());
                    for length in [1usize, 0, 7, 8, 3] {
                        let time = Time::from_nanoseconds(1_930_000_000_000_000_001 + chunks.len() as u64 * 999);
                        let bytes = (0..length).map(|n| (n * 37) as u8 ^ from.as_str().len() as u8).collect();
                        chunks.push((channel, Some(from), Some(time), key, bytes));
                    }
                }
            }
            let mut recorder = Recorder::new(Vec::new(), &plan, &[ChannelId::new(channel)]).unwrap();
            for (channel, from, time, key, bytes) in &chunks {
                let stream = StreamId { channel: ChannelId::new(*channel), from: *from, tap: 0 };
                recorder.chunk(&Chunk { stream, times: Times::Last(time.unwrap()), key: *key, bytes }).unwrap();
            }
            let file = recorder.finish().unwrap();
            let keep = Keep { plan: plan.clone(), chunks: Vec::new(), unassigned: 0 };
            let mut demux = Demux::new(plan.clone(), keep);
            source::read(CaptureFormat::Pcapng, &file[..], &mut demux).unwrap();
            let keep = demux.into_sink();
            let name = &plan.channels[channel].name;
            assert_eq!(keep.unassigned, 0, "{name}");
            // Packets of a network have a key where the definition asks for none, too: it is not looked at.
            let found: Vec<Kept> = keep
                .chunks
                .into_iter()
                .zip(&chunks)
                .map(|(read, said)| (said.3.is_none(), read))
                .map(|(none, (channel, from, time, key, bytes))| (channel, from, time, key.filter(|_| !none), bytes))
                .collect();
            assert_eq!(found, chunks, "{name}");
        }
    }
    assert!(channels >= 14 && keyed >= 8, "{channels} {keyed}");
}

proptest! {
    /// Any bytes at any time between 1970 and 2554, in any order of streams.
    #[test]
    fn any_chunks_of_marlock(
        seeds in proptest::collection::vec((0usize..64, any::<bool>(), any::<u64>(), proptest::collection::vec(any::<u8>(), 0..9)), 1..20)
    ) {
        let plan = &examples()[0];
        let all: Vec<ChannelId> = plan.channel_ids().map(|(channel, _)| channel).collect();
        let mut recorder = Recorder::new(Vec::new(), plan, &all).unwrap();
        let mut said = Vec::new();
        for (n, is_host, time, bytes) in &seeds {
            let from = if *is_host { End::Host } else { End::Device };
            let channel = n % all.len();
            let keys = keys(plan, ChannelId::new(channel), from);
            let Some(key) = keys.get(n % keys.len().max(1)) else { continue };
            let stream = StreamId { channel: ChannelId::new(channel), from: Some(from), tap: 0 };
            let chunk = Chunk { stream, times: Times::Last(Time::from_nanoseconds(*time)), key: *key, bytes };
            recorder.chunk(&chunk).unwrap();
            said.push(kept(&chunk));
        }
        let file = recorder.finish().unwrap();
        let mut demux = Demux::new(plan.clone(), Keep { plan: plan.clone(), chunks: Vec::new(), unassigned: 0 });
        source::read(CaptureFormat::Pcapng, &file[..], &mut demux).unwrap();
        let read = demux.into_sink().chunks;
        prop_assert_eq!(read.len(), said.len());
        for (read, said) in read.into_iter().zip(said) {
            prop_assert_eq!((read.0, read.1, read.2, read.4), (said.0, said.1, said.2, said.4));
            prop_assert!(said.3.is_none() || read.3 == said.3);
        }
    }
}
