//! Names and texts in Python.

use emberwort_model::diagnostics::escaped;
use emberwort_model::model::ByteOrder;

use crate::names::plain_snake;

/// Words that Python keeps for itself, and names that the generated module needs in its classes.
const TAKEN: &[&str] = &[
    "and",
    "as",
    "assert",
    "async",
    "await",
    "break",
    "class",
    "continue",
    "def",
    "del",
    "elif",
    "else",
    "except",
    "finally",
    "for",
    "from",
    "global",
    "if",
    "import",
    "in",
    "is",
    "lambda",
    "nonlocal",
    "not",
    "or",
    "pass",
    "raise",
    "return",
    "try",
    "while",
    "with",
    "yield",
    "match",
    "case",
    "type",
    "bool",
    "bytes",
    "cls",
    "decode",
    "encode",
    "field",
    "float",
    "int",
    "len",
    "list",
    "math",
    "range",
    "self",
    "str",
    "struct",
    "sections_held",
    "dataclass",
    "enum",
    "staticmethod",
    "classmethod",
    "property",
    "object",
    "print",
    "sum",
    "typing",
];

/// Modules of the standard library, which one of ours would hide.
const STANDARD: &[&str] = &[
    "abc",
    "aifc",
    "antigravity",
    "argparse",
    "array",
    "ast",
    "asynchat",
    "asyncio",
    "asyncore",
    "atexit",
    "audioop",
    "base64",
    "bdb",
    "binascii",
    "binhex",
    "bisect",
    "builtins",
    "bz2",
    "cProfile",
    "calendar",
    "cgi",
    "cgitb",
    "chunk",
    "cmath",
    "cmd",
    "code",
    "codecs",
    "codeop",
    "collections",
    "colorsys",
    "compileall",
    "concurrent",
    "configparser",
    "contextlib",
    "contextvars",
    "copy",
    "copyreg",
    "crypt",
    "csv",
    "ctypes",
    "curses",
    "dataclasses",
    "datetime",
    "dbm",
    "decimal",
    "difflib",
    "dis",
    "distutils",
    "doctest",
    "dummy_threading",
    "email",
    "encodings",
    "ensurepip",
    "enum",
    "errno",
    "faulthandler",
    "fcntl",
    "filecmp",
    "fileinput",
    "fnmatch",
    "formatter",
    "fractions",
    "ftplib",
    "functools",
    "gc",
    "genericpath",
    "getopt",
    "getpass",
    "gettext",
    "glob",
    "graphlib",
    "grp",
    "gzip",
    "hashlib",
    "heapq",
    "hmac",
    "html",
    "http",
    "idlelib",
    "imaplib",
    "imghdr",
    "imp",
    "importlib",
    "inspect",
    "io",
    "ipaddress",
    "itertools",
    "json",
    "keyword",
    "lib2to3",
    "linecache",
    "locale",
    "logging",
    "lzma",
    "macpath",
    "mailbox",
    "mailcap",
    "marshal",
    "math",
    "mimetypes",
    "mmap",
    "modulefinder",
    "msilib",
    "msvcrt",
    "multiprocessing",
    "netrc",
    "nis",
    "nntplib",
    "nt",
    "ntpath",
    "nturl2path",
    "numbers",
    "opcode",
    "operator",
    "optparse",
    "os",
    "ossaudiodev",
    "parser",
    "pathlib",
    "pdb",
    "pickle",
    "pickletools",
    "pipes",
    "pkgutil",
    "platform",
    "plistlib",
    "poplib",
    "posix",
    "posixpath",
    "pprint",
    "profile",
    "pstats",
    "pty",
    "pwd",
    "py_compile",
    "pyclbr",
    "pydoc",
    "pydoc_data",
    "pyexpat",
    "queue",
    "quopri",
    "random",
    "re",
    "readline",
    "reprlib",
    "resource",
    "rlcompleter",
    "runpy",
    "sched",
    "secrets",
    "select",
    "selectors",
    "shelve",
    "shlex",
    "shutil",
    "signal",
    "site",
    "smtpd",
    "smtplib",
    "sndhdr",
    "socket",
    "socketserver",
    "spwd",
    "sqlite3",
    "sre_compile",
    "sre_constants",
    "sre_parse",
    "ssl",
    "stat",
    "statistics",
    "string",
    "stringprep",
    "struct",
    "subprocess",
    "sunau",
    "symbol",
    "symtable",
    "sys",
    "sysconfig",
    "syslog",
    "tabnanny",
    "tarfile",
    "telnetlib",
    "tempfile",
    "termios",
    "textwrap",
    "this",
    "threading",
    "time",
    "timeit",
    "tkinter",
    "token",
    "tokenize",
    "tomllib",
    "trace",
    "traceback",
    "tracemalloc",
    "tty",
    "turtle",
    "turtledemo",
    "types",
    "typing",
    "unicodedata",
    "unittest",
    "urllib",
    "uu",
    "uuid",
    "venv",
    "warnings",
    "wave",
    "weakref",
    "webbrowser",
    "winreg",
    "winsound",
    "wsgiref",
    "xdrlib",
    "xml",
    "xmlrpc",
    "zipapp",
    "zipfile",
    "zipimport",
    "zlib",
    "zoneinfo",
];

/// Names that the module has before any of the definition.
const CLASSES: &[&str] = &[
    "Any",
    "BadNumber",
    "ClassVar",
    "Dict",
    "Entry",
    "Form",
    "Received",
    "UnknownMessage",
    "BadChecksum",
    "BadLength",
    "BadValue",
    "LinkError",
    "List",
    "Literal",
    "NamedTuple",
    "NoForm",
    "None",
    "Optional",
    "OutOfRange",
    "TooMany",
    "True",
    "False",
    "Truncated",
    "Tuple",
    "Type",
    "Union",
    "ValueError",
];

/// The name of a module.
pub fn module(name: &str) -> String {
    let plain = plain_snake(name);
    if TAKEN.contains(&plain.as_str())
        || STANDARD.contains(&plain.as_str())
        || plain.starts_with(|c: char| c.is_ascii_digit())
    {
        return format!("{plain}_link");
    }
    plain
}

/// The name of a class: words with capitals.
pub fn class(name: &str) -> String {
    let words = plain_snake(name);
    let word = |word: &str| {
        let mut letters = word.chars();
        letters.next().map_or_else(String::new, |first| first.to_ascii_uppercase().to_string() + letters.as_str())
    };
    let name: String = words.split('_').map(word).collect();
    match CLASSES.contains(&name.as_str()) || name.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("{name}_"),
        false => name,
    }
}

/// The name of a member.
pub(crate) fn member(name: &str) -> String {
    let plain = plain_snake(name);
    match TAKEN.contains(&plain.as_str()) || plain.starts_with(|c: char| c.is_ascii_digit()) {
        true => format!("{plain}_"),
        false => plain,
    }
}

/// The name of a label.
pub fn constant(name: &str) -> String {
    let upper = plain_snake(name).to_ascii_uppercase();
    if upper.starts_with(|c: char| c.is_ascii_digit()) { format!("N{upper}") } else { upper }
}

/// A text as a literal, in ASCII.
pub fn text(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            ' '..='~' => out.push(c),
            c if (c as u32) < 0x1_0000 => out.push_str(&format!("\\u{:04x}", c as u32)),
            c => out.push_str(&format!("\\U{:08x}", c as u32)),
        }
    }
    out.push('"');
    out
}

/// Bytes as a literal.
pub fn bytes(some: &[u8]) -> String {
    let mut out = String::from("b\"");
    for byte in some {
        match byte {
            b'"' | b'\\' => out.extend(['\\', char::from(*byte)]),
            b' '..=b'~' => out.push(char::from(*byte)),
            byte => out.push_str(&format!("\\x{byte:02x}")),
        }
    }
    out.push('"');
    out
}

/// Documentation that can stand in a string with three quotes.
pub fn doc(doc: &str) -> String {
    let line = |line: &str| escaped(line).replace('\\', "/").replace('"', "'");
    doc.lines().map(line).collect::<Vec<_>>().join("\n")
}

/// The word for an order of bytes, in quotes.
pub fn quoted(order: ByteOrder) -> &'static str {
    match order {
        ByteOrder::Little => "\"little\"",
        ByteOrder::Big => "\"big\"",
    }
}
