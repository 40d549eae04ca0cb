//! The sequence numbers of the frames that a user sends: each node's go on where `send` or `watch` ended that sent through the same port
//! before. A device may take a number that comes twice for the same frame once more.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read as _;
use std::path::{Path, PathBuf};

use emberwort_model::plan::{Channel, Role};
use serde_json::{Map, Value as Json};

use crate::files::PendingFile;

/// A file of numbers has no more bytes than this.
const MAX_BYTES: u64 = 1 << 16;

/// Where numbers are kept has no more ports than this; then it begins anew.
const MAX_PORTS: usize = 256;

/// The next number for each node. They are kept when this goes, however the command ends.
pub struct Numbers {
    /// The file that they are kept in, if there is a place for one, and the port and channel that they are of there.
    kept: Option<(PathBuf, String)>,
    next: BTreeMap<u64, u64>,
    /// That of nodes to which nothing was sent yet.
    first: u64,
    has_changed: bool,
}

impl Numbers {
    /// Those of a port and a channel; from `first` on, if it is said.
    pub fn of(port: &str, channel: &Channel, first: Option<u64>) -> Self {
        // Where frames have no numbers, there is nothing to keep.
        let has_some =
            channel.directions().any(|(_, direction)| direction.part(|role| *role == Role::Sequence).is_some());
        let kept = file().filter(|_| has_some).map(|file| (file, format!("{port} {}", channel.name)));
        let mut next = BTreeMap::new();
        if let (None, Some((file, of))) = (first, &kept) {
            let all = read(file);
            let nodes = all.get(of).and_then(Json::as_object).into_iter().flatten();
            next.extend(nodes.filter_map(|(node, number)| Some((node.parse().ok()?, number.as_u64()?))));
        }
        Self { kept, next, first: first.unwrap_or(0), has_changed: false }
    }

    /// The number of the next frame to a node.
    pub fn next(&self, node: u64) -> u64 {
        self.next.get(&node).copied().unwrap_or(self.first)
    }

    /// A frame with a number was sent to a node.
    pub fn sent(&mut self, node: u64, number: u64) {
        self.next.insert(node, number.wrapping_add(1));
        self.has_changed = true;
    }

    /// Keeps them for the next time. Where that cannot be, it begins at 0 again.
    fn keep(&self) {
        let Some((file, of)) = self.kept.as_ref().filter(|_| self.has_changed) else { return };
        let mut all = read(file);
        if all.len() >= MAX_PORTS {
            all.clear();
        }
        let of_nodes = self.next.iter().map(|(node, number)| (node.to_string(), Json::from(*number)));
        all.insert(of.clone(), Json::Object(of_nodes.collect()));
        let write = || -> anyhow::Result<()> {
            let mut pending = PendingFile::new(file)?;
            serde_json::to_writer(&mut pending, &all)?;
            pending.commit(true)
        };
        let _ = write();
    }
}

impl Drop for Numbers {
    fn drop(&mut self) {
        self.keep();
    }
}

/// Below the folder for what programs keep between their runs, as the XDG Base Directory Specification says.
fn file() -> Option<PathBuf> {
    let folder = |name| std::env::var_os(name).map(PathBuf::from).filter(|path| path.is_absolute());
    let state = folder("XDG_STATE_HOME").or_else(|| Some(folder("HOME")?.join(".local/state")))?;
    Some(state.join("emberwort").join("sent.json"))
}

fn read(file: &Path) -> Map<String, Json> {
    let mut text = String::new();
    let read = File::open(file).and_then(|file| file.take(MAX_BYTES).read_to_string(&mut text));
    read.ok().and_then(|_| serde_json::from_str(&text).ok()).unwrap_or_default()
}
