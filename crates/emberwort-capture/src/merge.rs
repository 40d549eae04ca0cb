//! Several captures as one, in the order of their times.

use std::collections::VecDeque;
use std::io;
use std::ops::{ControlFlow, Range};
use std::sync::mpsc::{Receiver, SyncSender, sync_channel};
use std::thread::JoinHandle;

use emberwort_model::model::End;
use emberwort_wire::Time;

use crate::pieces::{Comment, Interface, Piece, PieceSink, Record};

/// A batch that has so many bytes is handed over.
const BATCH: usize = 1 << 16;

/// A capture that is read when its time comes.
pub struct Source<O> {
    /// The time of its first piece, if that is known: it is read when the others have come so far, at once if not.
    pub first: Option<Time>,
    /// Reads it.
    pub read: CaptureTask<O>,
}

/// Reads a capture into a sink, on a thread of its own.
type CaptureTask<O> = Box<dyn FnOnce(&mut Batches) -> io::Result<O> + Send>;

/// What a capture holds, on its way to another thread.
#[derive(Debug)]
enum Event {
    Section,
    Interface(Interface),
    Piece { interface: usize, time: Option<Time>, bytes: Range<usize> },
    Comment(Comment),
    Record(Box<RecordDetails>, Range<usize>),
    Pause,
}

/// What a record says beside its bytes.
#[derive(Debug)]
struct RecordDetails {
    time: Option<Time>,
    channel: Option<String>,
    from: Option<End>,
    key: Option<u64>,
    device: Option<String>,
}

#[derive(Debug, Default)]
struct Batch {
    events: VecDeque<Event>,
    bytes: Vec<u8>,
}

/// Takes what a capture holds, and hands it to another thread in batches.
#[derive(Debug)]
pub struct Batches {
    batch: Batch,
    to: SyncSender<Batch>,
    is_over: bool,
}

impl Batches {
    fn keep(&mut self, bytes: &[u8]) -> Range<usize> {
        let start = self.batch.bytes.len();
        self.batch.bytes.extend_from_slice(bytes);
        start..self.batch.bytes.len()
    }

    fn push(&mut self, event: Event) -> ControlFlow<()> {
        self.batch.events.push_back(event);
        if self.batch.bytes.len() >= BATCH || self.batch.events.len() >= BATCH / 16 {
            self.send();
        }
        if self.is_over { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
    }

    fn send(&mut self) {
        // Nobody listens any longer when enough was shown.
        self.is_over |= self.to.send(std::mem::take(&mut self.batch)).is_err();
    }
}

impl PieceSink for Batches {
    fn section(&mut self) {
        let _ = self.push(Event::Section);
    }

    fn interface(&mut self, interface: Interface) {
        let _ = self.push(Event::Interface(interface));
    }

    fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
        let bytes = self.keep(piece.bytes);
        self.push(Event::Piece { interface: piece.interface, time: piece.time, bytes })
    }

    fn record(&mut self, record: &Record<'_>) -> ControlFlow<()> {
        let bytes = self.keep(record.bytes);
        let text = |text: Option<&str>| text.map(str::to_owned);
        let (channel, device) = (text(record.channel), text(record.device));
        let kept = RecordDetails { time: record.time, channel, from: record.from, key: record.key, device };
        self.push(Event::Record(Box::new(kept), bytes))
    }

    fn comment(&mut self, comment: Comment) {
        let _ = self.push(Event::Comment(comment));
    }

    fn pause(&mut self) {
        if !self.batch.events.is_empty() {
            let _ = self.push(Event::Pause);
            self.send();
        }
    }
}

/// A capture that is being read.
struct CaptureReader<O> {
    /// Its place among all.
    index: usize,
    from: Receiver<Batch>,
    thread: JoinHandle<io::Result<O>>,
    batch: Batch,
    /// Numbers of its interfaces among those of all captures.
    interfaces: Vec<usize>,
    /// The time of its last piece that had one.
    time: Option<Time>,
}

impl<O: Send + 'static> CaptureReader<O> {
    fn start(index: usize, source: Source<O>) -> Self {
        let (to, from) = sync_channel(2);
        let mut batches = Batches { batch: Batch::default(), to, is_over: false };
        let thread = std::thread::spawn(move || {
            let read = (source.read)(&mut batches);
            batches.send();
            read
        });
        Self { index, from, thread, batch: Batch::default(), interfaces: Vec::new(), time: None }
    }

    /// The time of what comes next, or of what came last if that has none; `None` if nothing comes any more.
    fn next(&mut self) -> Option<Option<Time>> {
        loop {
            match self.batch.events.front() {
                Some(Event::Piece { time, .. }) => return Some(time.or(self.time)),
                Some(Event::Record(kept, _)) => return Some(kept.time.or(self.time)),
                Some(_) => return Some(self.time),
                None => self.batch = self.from.recv().ok()?,
            }
        }
    }

    /// Hands on what comes next.
    fn forward(&mut self, all: &mut usize, sink: &mut dyn PieceSink) -> ControlFlow<()> {
        match self.batch.events.pop_front() {
            Some(Event::Section) => self.interfaces.clear(),
            Some(Event::Interface(interface)) => {
                self.interfaces.push(*all);
                *all += 1;
                sink.interface(interface);
            }
            Some(Event::Piece { interface, time, bytes }) => {
                self.time = time.or(self.time);
                let interface = self.interfaces.get(interface).copied().unwrap_or(usize::MAX);
                return sink.piece(Piece { interface, time, bytes: &self.batch.bytes[bytes] });
            }
            Some(Event::Record(kept, bytes)) => {
                self.time = kept.time.or(self.time);
                return sink.record(&Record {
                    time: kept.time,
                    channel: kept.channel.as_deref(),
                    from: kept.from,
                    key: kept.key,
                    device: kept.device.as_deref(),
                    bytes: &self.batch.bytes[bytes],
                });
            }
            Some(Event::Comment(comment)) => sink.comment(comment),
            Some(Event::Pause) => sink.pause(),
            None => {}
        }
        ControlFlow::Continue(())
    }
}

/// Reads captures as one: pieces come in the order of their times, those without a time behind the one before them. Tells how the reading of
/// each ended, by its place.
pub fn read<O: Send + 'static>(
    sources: Vec<Source<O>>,
    sink: &mut dyn PieceSink,
    mut ended: impl FnMut(usize, io::Result<O>),
) {
    sink.section();
    let mut all = 0;
    let mut waiting: Vec<(usize, Source<O>)> = sources.into_iter().enumerate().collect();
    // The next one stands last.
    waiting.sort_by_key(|(index, source)| std::cmp::Reverse((source.first, *index)));
    let mut running: Vec<CaptureReader<O>> = Vec::new();
    let mut is_over = false;
    while !(is_over || running.is_empty() && waiting.is_empty()) {
        let mut earliest: Option<(Option<Time>, usize)> = None;
        let mut at = 0;
        while at < running.len() {
            match running[at].next() {
                Some(time) => {
                    if earliest.is_none_or(|(least, _)| time < least) {
                        earliest = Some((time, at));
                    }
                    at += 1;
                }
                None => join(running.remove(at), &mut ended),
            }
        }
        let is_due = |source: &Source<O>| earliest.is_none_or(|(time, _)| source.first <= time);
        if waiting.last().is_some_and(|(_, source)| is_due(source)) {
            running.extend(waiting.pop().map(|(index, source)| CaptureReader::start(index, source)));
            running.sort_by_key(|running| running.index);
            continue;
        }
        let Some((_, at)) = earliest else { continue };
        is_over = running[at].forward(&mut all, sink).is_break();
    }
    for running in running {
        join(running, &mut ended);
    }
}

fn join<O>(running: CaptureReader<O>, ended: &mut impl FnMut(usize, io::Result<O>)) {
    // Whoever waits to hand something over is to find nobody there.
    drop(running.from);
    let outcome = running.thread.join().unwrap_or_else(|_| Err(io::Error::other("its reader stopped")));
    ended(running.index, outcome);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::pieces::serial_interface;
    use proptest::prelude::*;

    #[derive(Default)]
    struct Seen {
        interfaces: usize,
        pieces: Vec<(usize, Option<u64>, Vec<u8>)>,
        most: Option<usize>,
    }

    impl PieceSink for Seen {
        fn section(&mut self) {}

        fn interface(&mut self, _: Interface) {
            self.interfaces += 1;
        }

        fn piece(&mut self, piece: Piece<'_>) -> ControlFlow<()> {
            self.pieces.push((piece.interface, piece.time.map(|time| time.nanoseconds()), piece.bytes.to_vec()));
            if self.most == Some(self.pieces.len()) { ControlFlow::Break(()) } else { ControlFlow::Continue(()) }
        }
    }

    fn source(times: Vec<u64>) -> Source<usize> {
        let first = times.first().map(|time| Time::from_nanoseconds(*time));
        let read = move |sink: &mut Batches| {
            sink.section();
            sink.interface(serial_interface());
            for (n, time) in times.iter().enumerate() {
                let piece = Piece { interface: 0, time: Some(Time::from_nanoseconds(*time)), bytes: &[n as u8] };
                if sink.piece(piece).is_break() {
                    return Ok(n);
                }
            }
            Ok(times.len())
        };
        Source { first, read: Box::new(read) }
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]
        #[test]
        fn pieces_come_in_the_order_of_their_times(mut all in proptest::collection::vec(
            proptest::collection::vec(0u64..500, 0..200), 1..6
        )) {
            let mut expected: Vec<u64> = all.concat();
            expected.sort_unstable();
            all.iter_mut().for_each(|times| times.sort_unstable());
            let mut seen = Seen::default();
            let mut ended = vec![None; all.len()];
            let sources = all.iter().cloned().map(source).collect();
            read(sources, &mut seen, |index, outcome| ended[index] = outcome.ok());
            let times: Vec<u64> = seen.pieces.iter().filter_map(|(_, time, _)| *time).collect();
            prop_assert_eq!(times, expected);
            let lengths: Vec<_> = all.iter().map(|times| Some(times.len())).collect();
            prop_assert_eq!(ended, lengths);
            prop_assert_eq!(seen.interfaces, all.len());
        }
    }

    /// Of captures that are still written, what can be no later than all others is shown before more of them comes.
    #[test]
    fn what_came_before_a_pause_is_handed_on() {
        let (shown, is_shown) = sync_channel::<()>(1);
        let is_shown = std::sync::Arc::new(std::sync::Mutex::new(is_shown));
        struct ProgressGuard(SyncSender<()>, usize);
        impl PieceSink for ProgressGuard {
            fn section(&mut self) {}
            fn interface(&mut self, _: Interface) {}
            fn piece(&mut self, _: Piece<'_>) -> ControlFlow<()> {
                self.1 += 1;
                if self.1 == 1 {
                    let _ = self.0.send(());
                }
                ControlFlow::Continue(())
            }
        }
        let waits = |time: u64, is_first: bool| {
            let is_shown = is_shown.clone();
            let read = move |sink: &mut Batches| {
                let time = Some(Time::from_nanoseconds(time));
                sink.interface(serial_interface());
                let _ = sink.piece(Piece { interface: 0, time, bytes: &[1] });
                sink.pause();
                let waited =
                    is_first && is_shown.lock().unwrap().recv_timeout(std::time::Duration::from_secs(20)).is_err();
                Ok(usize::from(waited))
            };
            Source { first: None, read: Box::new(read) }
        };
        let mut late = 0;
        read(vec![waits(1, true), waits(2, false)], &mut ProgressGuard(shown, 0), |_, outcome| {
            late += outcome.unwrap()
        });
        assert_eq!(late, 0, "it was handed on when the capture ended");
    }

    #[test]
    fn the_end_does_not_wait_for_what_nobody_wants() {
        let mut seen = Seen { most: Some(3), ..Seen::default() };
        let mut ended = 0;
        read(vec![source((0..1_000_000).collect()), source((0..1_000_000).collect())], &mut seen, |_, _| ended += 1);
        assert_eq!((seen.pieces.len(), ended), (3, 2));
    }
}
