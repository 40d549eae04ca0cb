//! Rows written on several cores: whoever decodes collects batches of items, workers make lines of them, and one writer puts those out in
//! the order of the batches. Where one batch begins is the same for any number of workers, and so is the output.

use std::collections::BTreeMap;
use std::io::{self, Write};
use std::ops::ControlFlow;
use std::sync::mpsc::{self, Receiver, Sender, SyncSender};
use std::sync::{Arc, Mutex, PoisonError};
use std::thread::{self, JoinHandle};

use emberwort_capture::{Item, ItemSink, RevisionMap, StoredItems};

use crate::form::{PreviousItem, RowStyle, Stops, write_item};
use crate::forms::form_of;
use crate::text_buffer::TextBuffer;

/// Items of a batch.
const BATCH: usize = 256;

/// Items in a row that are formatted together.
struct Batch {
    number: u64,
    items: StoredItems,
    before: PreviousItem,
    revisions: Arc<RevisionMap>,
}

/// The lines of a batch.
struct Lines {
    number: u64,
    text: TextBuffer,
}

/// Memory that was used and comes back.
struct Spare<T>(Mutex<Vec<T>>);

impl<T: Default> Spare<T> {
    fn new() -> Arc<Self> {
        Arc::new(Self(Mutex::default()))
    }

    fn take(&self) -> T {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).pop().unwrap_or_default()
    }

    fn give_back(&self, one: T) {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).push(one);
    }
}

/// Writes rows on several cores.
pub struct RowsOnCores {
    style: RowStyle,
    threads: usize,
    open: fn() -> Box<dyn Write>,
    stops: Stops,
    revisions: Arc<RevisionMap>,
    items: StoredItems,
    /// What was shown before the items at hand, and with them.
    before: PreviousItem,
    so_far: PreviousItem,
    number: u64,
    crew: Option<Crew>,
    /// What the writer said when it could not go on.
    failed: Option<io::Error>,
}

/// The threads at work. They end when nothing more is given to them.
struct Crew {
    spare: Arc<Spare<StoredItems>>,
    work: SyncSender<Batch>,
    workers: Vec<JoinHandle<()>>,
    writer: JoinHandle<io::Result<()>>,
}

impl RowsOnCores {
    /// Shows rows on so many threads. `open` gives what they are written to, on the thread that writes, and `stops` says when it is to end.
    pub fn new(
        revisions: &RevisionMap,
        style: RowStyle,
        threads: usize,
        open: fn() -> Box<dyn Write>,
        stops: Stops,
    ) -> Self {
        let (before, so_far) = Default::default();
        let revisions = Arc::new(revisions.clone());
        Self {
            style,
            threads,
            open,
            stops,
            revisions,
            items: StoredItems::default(),
            before,
            so_far,
            number: 0,
            crew: None,
            failed: None,
        }
    }

    /// Gives the items at hand to the workers.
    fn dispatch(&mut self) -> io::Result<()> {
        if self.items.is_empty() {
            return Ok(());
        }
        let crew = self.crew.get_or_insert_with(|| Crew::new(&self.style, self.threads, self.open));
        let items = std::mem::replace(&mut self.items, crew.spare.take());
        let batch = Batch { number: self.number, items, before: self.before, revisions: self.revisions.clone() };
        self.number += 1;
        self.before = self.so_far;
        // Nobody takes it once the writer has failed.
        if crew.work.send(batch).is_err() { self.end() } else { Ok(()) }
    }

    /// Waits until all is written.
    fn end(&mut self) -> io::Result<()> {
        let Some(Crew { work, workers, writer, .. }) = self.crew.take() else { return Ok(()) };
        drop(work);
        for worker in workers {
            worker.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        }
        writer.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    }
}

impl Crew {
    fn new(style: &RowStyle, threads: usize, open: fn() -> Box<dyn Write>) -> Self {
        // As few wait as keep everybody busy.
        let (work, batches) = mpsc::sync_channel::<Batch>(threads);
        let (done, lines) = mpsc::channel::<Lines>();
        let batches = Arc::new(Mutex::new(batches));
        // How many batches may be between the one that is written next and the last one taken.
        let slots = Arc::new(Slots::new(4 * threads as u64));
        let (spare, texts) = (Spare::new(), Spare::new());
        let workers = (0..threads).map(|_| {
            let worker = Worker {
                style: style.clone(),
                batches: batches.clone(),
                done: done.clone(),
                slots: slots.clone(),
                spare: spare.clone(),
                texts: texts.clone(),
            };
            thread::spawn(move || worker.run())
        });
        let workers = workers.collect();
        let writer = thread::spawn(move || {
            let written = write_in_order(open(), &lines, &slots, &texts);
            slots.close();
            written
        });
        Self { spare, work, workers, writer }
    }
}

/// Keeps workers from running ahead of the writer, which would have to keep what they made.
struct Slots {
    most: u64,
    /// The number of the batch that is written next; `None` when nothing is written any more.
    next: Mutex<Option<u64>>,
    moved: std::sync::Condvar,
}

impl Slots {
    fn new(most: u64) -> Self {
        Self { most, next: Mutex::new(Some(0)), moved: std::sync::Condvar::new() }
    }

    /// Waits until a batch may be worked on; returns whether somebody still writes.
    fn wait_for(&self, number: u64) -> bool {
        let next = self.next.lock().unwrap_or_else(PoisonError::into_inner);
        let too_early = |next: &mut Option<u64>| next.is_some_and(|next| number >= next + self.most);
        self.moved.wait_while(next, too_early).unwrap_or_else(PoisonError::into_inner).is_some()
    }

    /// All before this batch are written.
    fn written(&self, next: u64) {
        if let Some(before) = &mut *self.next.lock().unwrap_or_else(PoisonError::into_inner) {
            *before = next;
        }
        self.moved.notify_all();
    }

    /// Nothing more is written, whatever comes.
    fn close(&self) {
        *self.next.lock().unwrap_or_else(PoisonError::into_inner) = None;
        self.moved.notify_all();
    }
}

/// Makes lines of batches.
struct Worker {
    style: RowStyle,
    batches: Arc<Mutex<Receiver<Batch>>>,
    done: Sender<Lines>,
    slots: Arc<Slots>,
    spare: Arc<Spare<StoredItems>>,
    texts: Arc<Spare<TextBuffer>>,
}

impl Drop for Worker {
    /// Nobody waits for the batch of one who failed.
    fn drop(&mut self) {
        if thread::panicking() {
            self.slots.close();
        }
    }
}

impl Worker {
    fn run(self) {
        let mut known: Option<Arc<RevisionMap>> = None;
        let mut form = None;
        loop {
            let taken = self.batches.lock().unwrap_or_else(PoisonError::into_inner).recv();
            let Ok(Batch { number, mut items, before, revisions }) = taken else { return };
            if !self.slots.wait_for(number) {
                return;
            }
            let form = form.get_or_insert_with(|| form_of(&revisions, &self.style));
            if known.as_ref().is_some_and(|known| !Arc::ptr_eq(known, &revisions)) {
                form.update_revisions(&revisions);
            }
            form.resume(before);
            let mut text = self.texts.take();
            text.clear();
            items.each(&revisions, |item| write_item(&mut **form, item, &mut text));
            known = Some(revisions);
            items.clear();
            self.spare.give_back(items);
            if self.done.send(Lines { number, text }).is_err() {
                return;
            }
        }
    }
}

/// Writes the lines of all batches, and shows them whenever no more are there.
fn write_in_order(
    mut out: impl Write,
    lines: &Receiver<Lines>,
    slots: &Slots,
    texts: &Spare<TextBuffer>,
) -> io::Result<()> {
    let mut waiting = BTreeMap::new();
    let mut next = 0;
    while let Ok(done) = lines.recv() {
        waiting.insert(done.number, done.text);
        while let Some(text) = waiting.remove(&next) {
            out.write_all(text.as_bytes())?;
            texts.give_back(text);
            next += 1;
            slots.written(next);
        }
        out.flush()?;
    }
    out.flush()
}

impl ItemSink for RowsOnCores {
    type Error = io::Error;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        // What was found before is shown as it would have been then.
        if let Err(error) = self.dispatch() {
            self.failed = Some(error);
        }
        self.revisions = Arc::new(revisions.clone());
    }

    fn item(&mut self, item: Item<'_>) -> io::Result<ControlFlow<()>> {
        if let Some(error) = self.failed.take() {
            return Err(error);
        }
        self.so_far.note(match item {
            Item::Row(row) => row.time,
            Item::Broken(broken) => broken.time,
            Item::Stray(stray) => stray.time,
        });
        self.items.push(item);
        if self.items.len() >= BATCH {
            self.dispatch()?;
        }
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        (self.stops)()
    }

    fn pause(&mut self) -> io::Result<()> {
        self.dispatch()
    }

    fn finish(&mut self) -> io::Result<()> {
        if self.crew.is_some() {
            self.dispatch()?;
            return self.end();
        }
        // So few that nobody was called.
        let mut form = form_of(&self.revisions, &self.style);
        form.resume(self.before);
        let mut text = TextBuffer::default();
        self.items.each(&self.revisions, |item| write_item(&mut *form, item, &mut text));
        let mut out = (self.open)();
        out.write_all(text.as_bytes())?;
        out.flush()
    }
}
