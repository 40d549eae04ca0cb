//! A folder of tables: one for each message, by day if that is wanted. Nothing is overwritten, and no table is half written.

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, BufWriter};
use std::ops::ControlFlow;
use std::path::{Path, PathBuf};

use emberwort_capture::{DefinitionId, Item, ItemSink, RevisionMap, Wants};
use emberwort_model::ids::MessageId;
use emberwort_model::medium::usb::packet_text;
use emberwort_wire::Time;

use crate::columns::{Cell, Column, cells, columns, moment, other_columns};
use crate::csv_table::CsvTable;
#[cfg(feature = "parquet")]
use crate::parquet_table::ParquetTable;

/// The form of tables.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableForm {
    /// CSV: `GateStatus.csv`.
    Csv,
    /// Parquet, by message and day: `message=GateStatus/day=2031-03-09/NAME.parquet`, as engines take partitions.
    #[cfg(feature = "parquet")]
    Parquet,
}

/// Why a folder of tables could not be written.
#[derive(Debug, thiserror::Error)]
pub enum DatasetError {
    /// A file.
    #[error("{}: {error}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        error: io::Error,
    },
    /// CSV.
    #[error(transparent)]
    Csv(#[from] csv::Error),
    /// Parquet.
    #[cfg(feature = "parquet")]
    #[error(transparent)]
    Parquet(#[from] parquet::errors::ParquetError),
}

enum Table {
    Csv(Box<CsvTable<BufWriter<File>>>),
    #[cfg(feature = "parquet")]
    Parquet(Box<ParquetTable<BufWriter<File>>>),
}

struct OpenTable {
    table: Table,
    columns: Vec<Column>,
    /// Where it is written, and what it is called in the end.
    paths: (PathBuf, PathBuf),
    rows: u64,
}

/// The name of a table of frames that give no row, and of stray bytes.
const OTHER: &str = "_without_row";

/// So many tables are written at once; those of the earliest days are ended for more.
const MAX_OPEN: usize = 200;

/// Writes rows into tables of a folder.
pub struct Folder {
    folder: PathBuf,
    form: TableForm,
    /// The name of the files of one source.
    name: String,
    channels: Vec<String>,
    /// What the metadata says beside the units.
    about: Vec<(String, String)>,
    /// By message, definition and day.
    open: BTreeMap<(String, String, DefinitionId), OpenTable>,
    /// Tables that were ended for others: their number counts on.
    parts: BTreeMap<(String, String, DefinitionId), u32>,
    finished: Vec<(PathBuf, PathBuf, u64)>,
    is_interrupted: fn() -> bool,
}

impl Folder {
    /// Into this folder, which is made if it is not there; files have this name where a partition has several.
    pub fn new(folder: &Path, form: TableForm, name: &str, is_interrupted: fn() -> bool) -> Self {
        Self {
            folder: folder.to_owned(),
            form,
            name: name.to_owned(),
            channels: Vec::new(),
            about: Vec::new(),
            open: BTreeMap::new(),
            parts: BTreeMap::new(),
            finished: Vec::new(),
            is_interrupted,
        }
    }

    fn path(&self, message: &str, day: &str, definition: DefinitionId, part: u32) -> PathBuf {
        let mut name = self.name.clone();
        if definition > DefinitionId::default() {
            name += &format!("-definition{}", definition.index());
        }
        if part > 0 {
            name += &format!("-{part}");
        }
        match day {
            "" if definition == DefinitionId::default() && part == 0 => self.folder.join(format!("{message}.csv")),
            "" => self.folder.join(format!("{message}-{name}.csv")),
            day => self
                .folder
                .join(format!("message={message}"))
                .join(format!("day={day}"))
                .join(format!("{name}.parquet")),
        }
    }

    #[cfg_attr(not(feature = "parquet"), allow(unused_variables, reason = "CSV has no days"))]
    fn table(
        &mut self,
        message: &str,
        time: Option<Time>,
        definition: DefinitionId,
        columns: impl FnOnce() -> Vec<Column>,
    ) -> Result<&mut OpenTable, DatasetError> {
        let day = match self.form {
            TableForm::Csv => String::new(),
            #[cfg(feature = "parquet")]
            TableForm::Parquet => day_of(time),
        };
        let key = (day, message.to_owned(), definition);
        if !self.open.contains_key(&key) {
            if self.open.len() >= MAX_OPEN
                && let Some((key, open)) = self.open.pop_first()
            {
                *self.parts.entry(key).or_default() += 1;
                self.end(open)?;
            }
            let part = self.parts.get(&key).copied().unwrap_or(0);
            let path = self.path(message, &key.0, definition, part);
            let failed = |error: io::Error| DatasetError::File { path: path.clone(), error };
            if path.exists() {
                return Err(failed(io::Error::new(
                    io::ErrorKind::AlreadyExists,
                    "it exists already, and nothing is overwritten",
                )));
            }
            fs::create_dir_all(path.parent().unwrap_or(Path::new("."))).map_err(failed)?;
            let unfinished = path.with_extension("unfinished");
            let file = BufWriter::new(File::create(&unfinished).map_err(failed)?);
            let columns = columns();
            let table = match self.form {
                TableForm::Csv => Table::Csv(Box::new(CsvTable::new(&columns, file)?)),
                #[cfg(feature = "parquet")]
                TableForm::Parquet => {
                    let mut about = self.about.clone();
                    about.push(("emberwort.message".to_owned(), message.to_owned()));
                    Table::Parquet(Box::new(ParquetTable::new(&columns, &about, file)?))
                }
            };
            self.open.insert(key.clone(), OpenTable { table, columns, paths: (unfinished, path), rows: 0 });
        }
        match self.open.get_mut(&key) {
            Some(open) => Ok(open),
            None => Err(DatasetError::File { path: self.folder.clone(), error: io::Error::other("a table was lost") }),
        }
    }

    fn end(&mut self, open: OpenTable) -> Result<(), DatasetError> {
        match open.table {
            Table::Csv(table) => table.finish()?,
            #[cfg(feature = "parquet")]
            Table::Parquet(table) => table.finish()?,
        }
        let (from, to) = open.paths;
        fs::rename(&from, &to).map_err(|error| DatasetError::File { path: to.clone(), error })?;
        self.finished.push((from, to, open.rows));
        Ok(())
    }

    /// The tables that were written, and how many rows each has.
    pub fn tables(&self) -> impl Iterator<Item = (&Path, u64)> {
        self.finished.iter().map(|(_, path, rows)| (path.as_path(), *rows))
    }
}

impl Drop for Folder {
    /// What is not whole is no table.
    fn drop(&mut self) {
        for open in self.open.values() {
            let _ = fs::remove_file(&open.paths.0);
        }
    }
}

/// The day of a moment, in UTC.
#[cfg(feature = "parquet")]
fn day_of(time: Option<Time>) -> String {
    let Some(time) = time else { return "unknown".to_owned() };
    let time = jiff::Timestamp::from_nanosecond(i128::from(time.nanoseconds())).unwrap_or_default();
    time.to_string().chars().take(10).collect()
}

impl OpenTable {
    fn row(&mut self, cells: Vec<Cell>) -> Result<(), DatasetError> {
        self.rows += 1;
        match &mut self.table {
            Table::Csv(table) => Ok(table.row(&cells)?),
            #[cfg(feature = "parquet")]
            Table::Parquet(table) => Ok(table.row(cells)?),
        }
    }
}

impl ItemSink for Folder {
    type Error = DatasetError;

    fn update_revisions(&mut self, revisions: &RevisionMap) {
        let own = revisions.own();
        self.channels = own.channels.iter().map(|channel| channel.name.clone()).collect();
        self.about = vec![
            ("emberwort.link".to_owned(), own.link.name.clone()),
            ("emberwort.revision".to_owned(), own.link.revision.to_string()),
        ];
    }

    fn wants(&self, _: DefinitionId, _: MessageId) -> Wants {
        Wants::Values
    }

    fn item(&mut self, item: Item<'_>) -> Result<ControlFlow<()>, DatasetError> {
        let channel = self.channels.get(item.channel().index()).cloned().unwrap_or_default();
        if let Item::Row(row) = item {
            let message = &row.plan.messages[row.message];
            let open = self.table(&message.message.name, row.time, row.definition, || columns(message))?;
            let cells = cells(row, &channel, &open.columns);
            open.row(cells)?;
            return Ok(ControlFlow::Continue(()));
        }
        let (what, reason, detail) = match item {
            Item::Broken(broken) => (
                if broken.is_unread() { "unread" } else { "broken" },
                broken.fault.reason(),
                broken.fault.sentence(broken.plan, broken.direction),
            ),
            Item::Stray(stray) if stray.is_packet => ("packet", "", packet_text(stray.wire)),
            Item::Row(_) | Item::Stray(_) => ("stray", "", String::new()),
        };
        let text = |text: &str| if text.is_empty() { Cell::Nothing } else { Cell::Text(text.to_owned()) };
        let number = item.number().and_then(|number| i64::try_from(number).ok());
        let cells = vec![
            moment(item.time()),
            number.map_or(Cell::Nothing, Cell::Integer),
            Cell::Text(channel),
            text(item.from().map_or("", |from| from.as_str())),
            text(what),
            text(reason),
            text(&detail),
            Cell::Bytes(item.wire().to_vec()),
        ];
        self.table(OTHER, item.time(), DefinitionId::default(), other_columns)?.row(cells)?;
        Ok(ControlFlow::Continue(()))
    }

    fn is_full(&self) -> bool {
        (self.is_interrupted)()
    }

    fn finish(&mut self) -> Result<(), DatasetError> {
        while let Some((_, open)) = self.open.pop_first() {
            self.end(open)?;
        }
        Ok(())
    }
}
