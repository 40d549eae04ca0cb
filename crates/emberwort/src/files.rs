//! Files that are written: never half, never over something that is not ours, several of them as one.

use std::fs::{self, File, Metadata, OpenOptions};
use std::io::{self, BufRead as _, BufReader, BufWriter, Write};
use std::path::{Path, PathBuf};

use anyhow::{Context, bail};
use emberwort_model::diagnostics::escaped;
use tempfile::NamedTempFile;

use crate::interrupt::{self, AtTheEnd};

/// Whether an existing file may be replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Replace {
    /// Never.
    No,
    /// If these words stand near its beginning, because we made it.
    Generated(&'static str),
}

/// How far into a file the words are looked for that say who made it.
const MARK_BYTES: usize = 200;

/// A path as it is shown.
pub fn shown(path: &Path) -> String {
    escaped(&path.display().to_string())
}

/// Files begin with this: one that was left behind is known by it.
const TEMPORARY: &str = ".emberwort-";

/// A file that is written beside its place, and takes it when it is complete.
pub struct PendingFile {
    path: PathBuf,
    file: BufWriter<NamedTempFile>,
    /// Behind the file, so that it goes first.
    folders: Folders,
    /// Neither stays when the program is given up.
    _given_up: AtTheEnd,
}

impl PendingFile {
    /// Begins a file; its folder is made if it has to be.
    pub fn new(path: &Path) -> anyhow::Result<Self> {
        // A link is followed, so that it stays one.
        let place = match fs::symlink_metadata(path) {
            Ok(metadata) if metadata.is_symlink() => fs::canonicalize(path)
                .with_context(|| format!("{} is a link to a file that is not there, and is left alone", shown(path)))?,
            _ => path.to_owned(),
        };
        let folder = folder_of(&place);
        let folders = Folders::make(folder).with_context(|| format!("the folder {} cannot be made", shown(folder)))?;
        let file = tempfile::Builder::new().prefix(TEMPORARY).tempfile_in(folder);
        let file = file.with_context(|| format!("{} cannot be written", shown(path)))?;
        let (temporary, made) = (file.path().to_owned(), folders.0.clone());
        let given_up = interrupt::at_the_end(move || {
            let _ = fs::remove_file(temporary);
            drop(Folders(made));
        });
        Ok(Self { path: place, file: BufWriter::with_capacity(1 << 16, file), folders, _given_up: given_up })
    }

    /// A file with these bytes, written to the last of them.
    fn with(path: &Path, bytes: &[u8]) -> anyhow::Result<Self> {
        let mut file = Self::new(path)?;
        let written = file.write_all(bytes).and_then(|()| file.flush());
        written.with_context(|| format!("{} cannot be written", shown(path)))?;
        Ok(file)
    }

    /// Where it is until it takes its place, for who reads what was written and flushed.
    pub fn temporary(&self) -> &Path {
        self.file.get_ref().path()
    }

    /// Puts it in its place, over another file only if that may be.
    pub fn commit(self, may_replace: bool) -> anyhow::Result<()> {
        let Self { path, file, mut folders, _given_up } = self;
        let failed = || format!("{} cannot be written", shown(&path));
        let file = file.into_inner().map_err(|error| error.into_error()).with_context(failed)?;
        set_mode(file.path(), fs::metadata(&path).ok().filter(|_| may_replace)).with_context(failed)?;
        if may_replace {
            file.persist(&path).map_err(|error| error.error).with_context(failed)?;
        } else {
            let persisted = file.persist_noclobber(&path);
            persisted.map_err(|error| match error.error.kind() {
                io::ErrorKind::AlreadyExists => exists(&path),
                _ => anyhow::Error::new(error.error).context(failed()),
            })?;
        }
        folders.0.clear();
        Ok(())
    }
}

/// Folders that were made for a file, the outermost first: they go again if it does not come.
#[derive(Default)]
struct Folders(Vec<PathBuf>);

impl Folders {
    /// Makes a folder and those around it, as far as they are not there.
    fn make(folder: &Path) -> io::Result<Self> {
        let mut missing: Vec<PathBuf> = folder
            .ancestors()
            .take_while(|folder| !folder.as_os_str().is_empty() && fs::symlink_metadata(folder).is_err())
            .map(Path::to_owned)
            .collect();
        missing.reverse();
        // Made from the outside in, so that what was made before a failure is known.
        let mut made = Self::default();
        for folder in missing {
            match fs::create_dir(&folder) {
                Ok(()) => made.0.push(folder),
                // Somebody else was faster.
                Err(_) if folder.is_dir() => {}
                Err(error) => return Err(error),
            }
        }
        if folder.is_dir() { Ok(made) } else { Err(io::ErrorKind::NotADirectory.into()) }
    }
}

impl Drop for Folders {
    fn drop(&mut self) {
        for folder in self.0.iter().rev() {
            // One in which something is stays.
            let _ = fs::remove_dir(folder);
        }
    }
}

impl io::Seek for PendingFile {
    fn seek(&mut self, place: io::SeekFrom) -> io::Result<u64> {
        self.file.seek(place)
    }
}

impl Write for PendingFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

fn folder_of(path: &Path) -> &Path {
    match path.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    }
}

/// Refuses a place where a file stands already, before any work is done for it.
pub fn must_be_free(path: &Path) -> anyhow::Result<()> {
    if path.exists() { Err(exists(path)) } else { Ok(()) }
}

fn exists(path: &Path) -> anyhow::Error {
    anyhow::anyhow!(
        "{} exists already, and nothing is overwritten\nchoose another name with --out, or move the file away",
        shown(path)
    )
}

/// Whether a file has to be written, and may be: an error if another stands there.
fn has_to_be_written(path: &Path, bytes: &[u8], replace: Replace) -> anyhow::Result<bool> {
    if fs::symlink_metadata(path).is_ok_and(|metadata| metadata.is_symlink()) && !path.exists() {
        bail!("{} is a link to a file that is not there, and is left alone", shown(path));
    }
    if fs::metadata(path).is_ok_and(|metadata| !metadata.is_file()) {
        bail!("{} stands in the way: it is not a file", shown(path));
    }
    let existing = match fs::read(path) {
        Ok(existing) => existing,
        Err(error) if matches!(error.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory) => {
            return Ok(true);
        }
        Err(error) => return Err(error).with_context(|| format!("{} stands in the way", shown(path))),
    };
    if existing == bytes {
        return Ok(false);
    }
    match replace {
        Replace::No => Err(exists(path)),
        Replace::Generated(mark) => {
            let head = String::from_utf8_lossy(&existing[..existing.len().min(MARK_BYTES)]).into_owned();
            if !head.contains(mark) {
                bail!(
                    "{} exists already and was not generated by Emberwort, so it is not overwritten\nmove it away, or choose another place with --out",
                    shown(path)
                );
            }
            Ok(true)
        }
    }
}

/// Writes a new file with what `write` gives, of any length. One that is there already and holds the same stays.
pub fn write_new(path: &Path, write: impl FnOnce(&mut dyn Write) -> anyhow::Result<()>) -> anyhow::Result<()> {
    if fs::metadata(path).is_ok_and(|metadata| !metadata.is_file()) {
        bail!("{} stands in the way: it is not a file", shown(path));
    }
    let mut file = PendingFile::new(path)?;
    write(&mut file)?;
    file.flush().with_context(|| format!("{} cannot be written", shown(path)))?;
    if path.exists() {
        let failed = || format!("{} stands in the way", shown(path));
        let same = same_contents(path, file.file.get_ref().path()).with_context(failed)?;
        return if same { Ok(()) } else { Err(exists(path)) };
    }
    file.commit(false)
}

fn same_contents(one: &Path, other: &Path) -> io::Result<bool> {
    let (mut one, mut other) = (BufReader::new(File::open(one)?), BufReader::new(File::open(other)?));
    loop {
        let (a, b) = (one.fill_buf()?, other.fill_buf()?);
        let both = a.len().min(b.len());
        if both == 0 || a[..both] != b[..both] {
            return Ok(a.is_empty() && b.is_empty());
        }
        one.consume(both);
        other.consume(both);
    }
}

/// Writes one file.
pub fn write_file(path: &Path, bytes: &[u8], replace: Replace) -> anyhow::Result<()> {
    write_all(&[(path.to_owned(), bytes.to_vec())], replace)
}

/// Writes several files that belong together: looks at all places first, writes all beside them, and only then puts them
/// there.
pub fn write_all(files: &[(PathBuf, Vec<u8>)], replace: Replace) -> anyhow::Result<()> {
    let mut wanted = Vec::new();
    for (path, bytes) in files {
        if has_to_be_written(path, bytes, replace)? {
            wanted.push((path, bytes));
        }
    }
    // Declared first, so that they go last, when no file is in them any more.
    let mut folders: Vec<Folders> = Vec::new();
    let mut pending: Vec<PendingFile> = Vec::new();
    for (path, bytes) in wanted {
        let mut file = PendingFile::with(path, bytes)?;
        folders.push(std::mem::take(&mut file.folders));
        pending.push(file);
    }
    for file in pending {
        file.commit(replace != Replace::No)?;
    }
    for made in &mut folders {
        made.0.clear();
    }
    Ok(())
}

/// Makes a folder that is not there yet, with these files in it: all of it, or nothing.
pub fn write_folder(folder: &Path, files: &[(&str, String)]) -> anyhow::Result<()> {
    let failed = || format!("the folder {} cannot be made", shown(folder));
    let beside = folder_of(folder);
    let mut folders = Folders::make(beside).with_context(failed)?;
    let made = tempfile::Builder::new().prefix(TEMPORARY).tempdir_in(beside).with_context(failed)?;
    let temporary = made.path().to_owned();
    let _given_up = interrupt::at_the_end(move || {
        let _ = fs::remove_dir_all(temporary);
    });
    for (name, text) in files {
        PendingFile::with(&made.path().join(name), text.as_bytes())?.commit(false)?;
    }
    set_folder_mode(made.path()).with_context(failed)?;
    // An empty folder is taken, one with something in it is refused.
    fs::rename(made.path(), folder).with_context(failed)?;
    // It has another name now, and stays.
    let _ = made.keep();
    folders.0.clear();
    Ok(())
}

/// Rewrites a file that the user named and that was read before: it keeps its mode and owner, links to it stay what they are.
pub fn rewrite(path: &Path, before: &[u8], after: &[u8]) -> anyhow::Result<()> {
    let failed = || format!("{} cannot be written", shown(path));
    let place = fs::canonicalize(path).with_context(failed)?;
    let metadata = fs::metadata(&place).with_context(failed)?;
    if metadata.permissions().readonly() {
        bail!("{} is read-only, and is left alone", shown(path));
    }
    if fs::read(&place).with_context(failed)? != before {
        bail!("{} was changed by somebody else in the meantime, and is left alone", shown(path));
    }
    if is_the_only_link(&metadata) {
        let file = PendingFile::with(&place, after)?;
        if keep_owner(file.file.get_ref().path(), &metadata).is_ok() {
            return file.commit(true);
        }
    }
    // Other names of the file, or another owner, can only be kept by writing into it. What was there is put back if that fails.
    let write = |bytes: &[u8]| -> io::Result<()> {
        let mut file = OpenOptions::new().write(true).open(&place)?;
        file.write_all(bytes)?;
        file.set_len(bytes.len() as u64)?;
        file.sync_all()
    };
    if let Err(error) = write(after) {
        let restored = write(before);
        let state = if restored.is_ok() { "it is as it was" } else { "it may be damaged" };
        return Err(error).with_context(|| format!("{} cannot be written; {state}", shown(path)));
    }
    Ok(())
}

/// Temporary files are private; what is left behind has the mode of the file that it replaces, or the usual one.
#[cfg(unix)]
fn set_mode(path: &Path, like: Option<Metadata>) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let permissions = like.map_or_else(|| fs::Permissions::from_mode(0o644), |like| like.permissions());
    fs::set_permissions(path, permissions)
}

#[cfg(not(unix))]
fn set_mode(_path: &Path, _like: Option<Metadata>) -> io::Result<()> {
    Ok(())
}

#[cfg(unix)]
fn set_folder_mode(path: &Path) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(path, fs::Permissions::from_mode(0o755))
}

#[cfg(not(unix))]
fn set_folder_mode(_path: &Path) -> io::Result<()> {
    Ok(())
}

#[cfg(unix)]
fn is_the_only_link(metadata: &Metadata) -> bool {
    use std::os::unix::fs::MetadataExt;
    metadata.nlink() == 1
}

#[cfg(not(unix))]
fn is_the_only_link(_metadata: &Metadata) -> bool {
    true
}

#[cfg(unix)]
fn keep_owner(path: &Path, like: &Metadata) -> io::Result<()> {
    use std::os::unix::fs::MetadataExt;
    let own = fs::metadata(path)?;
    if (own.uid(), own.gid()) == (like.uid(), like.gid()) {
        return Ok(());
    }
    std::os::unix::fs::chown(path, Some(like.uid()), Some(like.gid()))
}

#[cfg(not(unix))]
fn keep_owner(_path: &Path, _like: &Metadata) -> io::Result<()> {
    Ok(())
}
