//! Imports: reading all files of a definition, each once.

use std::collections::HashMap;

use crate::diagnostics::{Code, Finding};
use crate::source::{Source, Sources, Span};
use crate::syntax::ast::{File, ImportItem};
use crate::syntax::parse;

/// How many files a definition can have.
const MAX_FILES: usize = 1000;

/// A file that is being read, or has been.
#[derive(Clone, Copy)]
struct ImportedFile {
    /// Whether its own imports are still being followed.
    open: bool,
}

struct Reader<'a> {
    load: &'a mut dyn FnMut(&str, &str) -> Result<Source, String>,
    sources: Sources,
    findings: Vec<Finding>,
    file: File,
    files: HashMap<String, ImportedFile>,
}

/// The items of a file and of all that it imports, with the findings of their form.
pub(crate) fn read_all(
    source: Source,
    load: &mut dyn FnMut(&str, &str) -> Result<Source, String>,
) -> (File, Vec<Finding>, Sources) {
    let mut reader = Reader {
        load,
        sources: Sources::default(),
        findings: Vec::new(),
        file: File::default(),
        files: HashMap::new(),
    };
    reader.read(source);
    (reader.file, reader.findings, reader.sources)
}

impl Reader<'_> {
    /// Takes in a file, then what it imports. Files that import each other are as deep as there are files, of which there
    /// are at most [`MAX_FILES`].
    fn read(&mut self, source: Source) {
        let name = source.name.clone();
        self.files.insert(name.clone(), ImportedFile { open: true });
        let text = source.text.clone();
        let base = self.sources.add(source);
        let mut parsed = parse(&text, base);
        drop(text);
        self.findings.append(&mut parsed.findings);
        let imports = std::mem::take(&mut parsed.file.imports);
        self.file.absorb(parsed.file);
        let mut paths: HashMap<String, Span> = HashMap::new();
        for import in imports {
            if let Some(first) = paths.insert(import.path.clone(), import.span) {
                let message = format!("`{}` is imported twice", import.path);
                self.findings.push(
                    Finding::new(Code::DuplicateStatement, import.span, message, "keep one of the two")
                        .related(first, "imported here already"),
                );
                continue;
            }
            self.import(&name, &import);
        }
        self.files.insert(name, ImportedFile { open: false });
    }

    fn import(&mut self, importer: &str, import: &ImportItem) {
        let path = &import.path;
        let failed = |message: String, help: &str| Finding::new(Code::ImportFailed, import.span, message, help);
        if path.starts_with('/') || path.contains('\\') || path.contains(':') {
            let help = "write the path from this file on, with `/` between folders: `import \"pumps/main.ember\"`";
            let message = format!("`{path}` would mean something else on another machine");
            self.findings.push(failed(message, help));
            return;
        }
        if self.sources.files().len() >= MAX_FILES {
            let message = format!("this definition has more than {MAX_FILES} files");
            self.findings.push(failed(message, "put several of them into one"));
            return;
        }
        match (self.load)(importer, path) {
            Err(why) => {
                let help = "imports are looked for beside the file that imports them";
                self.findings.push(failed(format!("`{path}` cannot be read: {why}"), help));
            }
            Ok(source) => match self.files.get(&source.name) {
                Some(ImportedFile { open: true }) => self.findings.push(Finding::new(
                    Code::ImportCycle,
                    import.span,
                    format!("`{path}` imports, over others or itself, the file that imports it here"),
                    "take this import out: what that file says is known here already",
                )),
                Some(ImportedFile { open: false }) => {}
                None => self.read(source),
            },
        }
    }
}
