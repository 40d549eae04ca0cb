//! Findings: what is wrong in a definition, where, and the way out.
//!
//! Every kind of finding has a [`Code`]; `docs/findings.md` holds a paragraph and a failing example for
//! each, and a test runs those examples.

use crate::source::Span;

/// How much a finding matters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Severity {
    /// The definition cannot be used.
    Error,
    /// The definition can be used, but it probably does not say what was meant.
    Warning,
    /// Nothing is wrong; something could be better.
    Hint,
}

macro_rules! codes {
    ($($(#[$doc:meta])* $name:ident = $text:literal, $title:literal;)*) => {
        /// The kinds of findings.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
        pub enum Code { $(#[doc = $title] $name,)* }

        impl Code {
            /// All codes, in the order of their numbers.
            pub const ALL: &'static [Code] = &[$(Code::$name,)*];

            /// The code as shown to users: `E` for errors, `W` for warnings or `H` for hints, and three digits.
            pub fn as_str(self) -> &'static str {
                match self { $(Code::$name => $text,)* }
            }

            /// What findings of this kind have in common, as a heading.
            pub fn title(self) -> &'static str {
                match self { $(Code::$name => $title,)* }
            }
        }
    };
}

codes! {
    NotUtf8 = "E001", "the file is not UTF-8 text";
    StrangeCharacter = "E002", "a character that has no place in a definition";
    FileTooLarge = "E003", "the file is too large for a definition";
    OpenString = "E004", "a quoted text that does not end";
    BadNumber = "E005", "a number that cannot be read";
    Unexpected = "E010", "something else was expected here";
    OpenBlock = "E011", "a block that is not closed";
    UnknownWord = "E012", "a word that means nothing here";
    TooDeep = "E014", "a type that is nested too deeply";
    NoLink = "E101", "no link item";
    TwoLinks = "E102", "more than one link item";
    DuplicateName = "E103", "a name that is taken";
    UnknownName = "E104", "a name that is not defined";
    DuplicateStatement = "E105", "a statement that stands twice";
    MissingStatement = "E106", "a statement that is missing";
    BadRevision = "E107", "an impossible revision number";
    ImportFailed = "E108", "an import that cannot be read";
    ImportCycle = "E109", "files that import each other";
    RecordCycle = "E110", "a record that contains itself";
    DuplicateCode = "E111", "a code with two labels";
    CodeTooLarge = "E112", "a code that does not fit its type";
    BadWidth = "E201", "an impossible width";
    StepsDoNotFit = "E202", "a range that does not divide into its steps";
    EmptyRange = "E203", "a range without values";
    TooManyCodes = "E204", "numbers beyond what can be computed exactly";
    NoCodeForNone = "E205", "no code left for `none`";
    BadDefault = "E206", "a default that the field cannot hold";
    BadSize = "E207", "an impossible size";
    BadPlace = "E208", "an impossible explicit place";
    RestNotLast = "E209", "something after a field that reaches to the end";
    BadSelector = "E210", "a form that cannot be chosen";
    BadByteOrder = "E211", "an impossible byte order";
    BadModifier = "E212", "a word that does not fit the field's type";
    BadElement = "E213", "a type that cannot stand in a list or a form";
    BadGrowth = "E214", "fields added to what cannot grow";
    BadLine = "E215", "a line that cannot be written or read";
    BodyTooLong = "E216", "a message that is far too long";
    EndlessNesting = "E217", "frames that carry themselves";
    MissingPart = "E301", "a frame part that is missing";
    BadPart = "E302", "a frame part that cannot do its job";
    BadSpan = "E303", "an impossible range of frame parts";
    UnknownAlgorithm = "E304", "a checksum that is not known";
    NoFrameEnd = "E305", "a frame whose end cannot be found";
    NoMessageKey = "E306", "a message that cannot be told apart";
    DuplicateKey = "E307", "two messages with one key";
    KeyTooLarge = "E308", "a key that does not fit its frame part";
    FrameTooLong = "E309", "a message that its frame cannot hold";
    MediumTooSmall = "E310", "a message that its medium cannot carry";
    NoAnswer = "E311", "an answer that cannot come";
    BadSelect = "E312", "a way to select messages that cannot work";
    BadStuffing = "E313", "a stuffing that cannot be undone";
    BadStatus = "E314", "a frame that status bytes cannot keep apart";
    BadPolynomial = "E315", "a polynomial that no CRC has";
    NameStyle = "W001", "a name in an unusual style";
    UnitLikeWord = "W002", "a unit that looks like a misspelt word";
    Unused = "W003", "an item that nothing uses";
    ChannelOverfull = "W004", "more messages than a channel can carry";
    DutyCycle = "W005", "more sending than the duty cycle allows";
    ChecksumGap = "W006", "a checksum that leaves out what matters";
    SyncInData = "W007", "sync bytes that are likely inside data";
    EnumFull = "W008", "an enum without room for another label";
    NestedFrameTooLong = "W009", "frames that are too long for the field that holds them";
    FdSize = "W010", "a size that CAN FD does not have";
    ShortChecksum = "W011", "a CRC over more bytes than it can protect";
    NoBeginning = "W012", "frames that begin with nothing to look for";
    NameClash = "W013", "names that become the same in generated code";
    FormsAndCodes = "W014", "codes and forms that do not belong to each other";
    LateAnswer = "W015", "an answer that cannot come in time";
    NarrowerRange = "H001", "a range that would take fewer bits";
}

impl Code {
    /// Whether findings of this kind are errors, warnings or hints.
    pub fn severity(self) -> Severity {
        match self.as_str().as_bytes()[0] {
            b'E' => Severity::Error,
            b'W' => Severity::Warning,
            _ => Severity::Hint,
        }
    }
}

/// One finding: what, where, and what to do about it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Finding {
    /// The kind.
    pub code: Code,
    /// The place to underline.
    pub span: Span,
    /// What is wrong, in the user's terms, with the numbers.
    pub message: String,
    /// A few words that stand beside the underlined place.
    pub label: String,
    /// A concrete way out.
    pub help: String,
    /// A second place that matters, and what it is.
    pub related: Option<(Span, String)>,
}

impl Finding {
    /// A finding with code, place, sentence and way out.
    pub fn new(code: Code, span: Span, message: impl Into<String>, help: impl Into<String>) -> Self {
        Self { code, span, message: message.into(), label: String::new(), help: help.into(), related: None }
    }

    /// Adds words beside the underlined place.
    pub fn label(mut self, label: impl Into<String>) -> Self {
        self.label = label.into();
        self
    }

    /// Adds a second place.
    pub fn related(mut self, span: Span, what: impl Into<String>) -> Self {
        self.related = Some((span, what.into()));
        self
    }

    /// Whether this finding is an error.
    pub fn is_error(&self) -> bool {
        self.code.severity() == Severity::Error
    }
}

/// The candidate nearest to `word`, if one is near enough to be a slip of the finger.
///
/// The distance is the restricted edit distance (insert, delete, replace, swap neighbours); it may be at
/// most a third of the longer word (one for short words), and at least one letter must stay.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = word.to_ascii_lowercase();
    let length = word.chars().count();
    let mut best: Option<(usize, &str)> = None;
    for candidate in candidates {
        let other = candidate.chars().count();
        let longest = length.max(other);
        let most = (longest / 3).max(1).min(longest.saturating_sub(1));
        // Each letter that one has more is one step.
        if length.abs_diff(other) > most {
            continue;
        }
        let distance = strsim::osa_distance(&lower, &candidate.to_ascii_lowercase());
        if distance <= most && best.is_none_or(|(least, _)| distance < least) {
            best = Some((distance, candidate));
        }
    }
    best.map(|(_, candidate)| candidate)
}

/// Text with control and direction-changing characters written as escapes, safe to show on a terminal.
pub fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if is_unsafe_to_show(c) => out.push_str(&format!("\\u{{{:x}}}", c as u32)),
            c => out.push(c),
        }
    }
    out
}

/// Whether a character could change how a terminal or a reader shows the text around it, or is not seen at all: controls (also
/// those above 0x7F), line separators, zero-width and direction marks, invisible signs and tags, the byte order mark.
pub fn is_unsafe_to_show(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{34f}' | '\u{61c}' | '\u{115f}'..='\u{1160}' | '\u{17b4}'..='\u{17b5}' | '\u{180b}'..='\u{180f}'
            | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{3164}' | '\u{fe00}'..='\u{fe0f}'
            | '\u{feff}' | '\u{ffa0}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e0fff}')
}
