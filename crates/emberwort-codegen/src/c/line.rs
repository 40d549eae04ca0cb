//! Text messages: writing and reading their lines with integers alone.

use emberwort_model::Plan;
use emberwort_model::model::{Field, Kind, Length, LineDigits, LineForm, LinePiece};
use emberwort_model::plan::MessagePlan;

use super::words::{literal, member};
use super::{numbers, types};
use crate::code::{Code, filled};
use crate::names::{screaming, snake};

/// The functions that all lines share, if the link has lines.
pub fn common(plan: &Plan, source: &mut Code) {
    if plan.messages.iter().all(|message| message.message.line.is_none()) {
        return;
    }
    let link = snake(&plan.link.name);
    for (name, uses, text) in FUNCTIONS {
        source.define(format!("{link}_{name}"), |source| {
            uses.iter().for_each(|used| source.uses(format!("{link}_{used}")));
            source.lines(&filled(text, &[("LINK", &link)]));
            source.line("");
        });
    }
}

/// The shared functions with which a piece of a line is written and read.
fn functions_of(plan: &MessagePlan, piece: &LinePiece) -> &'static [&'static str] {
    let LinePiece::Field { slot, form } = piece else { return &["line_put", "line_has"] };
    let kind = &plan.message.fields[*slot].kind;
    match (kind, form.digits) {
        (Kind::Text { ascii: true, .. }, _) => &["line_put"],
        (Kind::Text { ascii: false, .. }, _) => &["line_put", "line_is_utf8"],
        (_, LineDigits::Hex(_)) => &["line_put_hex", "line_get_hex"],
        (Kind::Bool | Kind::Enum { .. }, _) => &["line_put", "line_word"],
        // One that has no value is the word `none`.
        _ if kind.none().is_some() && !form.blank => &["line_put", "line_has", "line_put_decimal", "line_get_decimal"],
        _ => &["line_put_decimal", "line_get_decimal"],
    }
}

/// `_write_line` and `_read_line` of a text message.
pub fn write(link: &str, plan: &MessagePlan, header: &mut Code, source: &mut Code) {
    let Some(pieces) = &plan.message.line else { return };
    let stem = format!("{link}_{}", snake(&plan.message.name));
    let upper = screaming(link);
    for function in pieces.iter().flat_map(|piece| functions_of(plan, piece)) {
        source.uses(format!("{link}_{function}"));
    }
    header.lines(&format!(
        "/* Writes the message as a line, without its end; *used is its size. */\n\
         {upper}_CHECKED {upper}_FUNCTION {link}_codec_result_t {stem}_write_line(const {stem}_t *message, char *line, size_t room, size_t *used);\n\
         /* Reads a line, without its end: ..._UNKNOWN_MESSAGE if it is another message's, ..._OUT_OF_RANGE if a value does not fit. */\n\
         {upper}_CHECKED {upper}_FUNCTION {link}_codec_result_t {stem}_read_line({stem}_t *message, const char *line, size_t size);\n"
    ));
    source.lines(&format!(
        "{upper}_FUNCTION {link}_codec_result_t {stem}_write_line(const {stem}_t *message, char *line, size_t room, size_t *used)\n{{\n    \
             size_t at = 0;\n    *used = 0;"
    ));
    if pieces.iter().all(|piece| matches!(piece, LinePiece::Text(_))) {
        source.line("    (void)message;");
    }
    for (n, piece) in pieces.iter().enumerate() {
        let put = match piece {
            LinePiece::Text(text) => put_text(link, &upper, &literal(text), text.len()),
            LinePiece::Field { slot, form } => {
                let field = &plan.message.fields[*slot];
                let put = put_field(link, &upper, &stem, field, *form);
                match (&field.kind, pieces.get(n + 1)) {
                    (Kind::Text { .. }, Some(LinePiece::Text(next))) => put_ended_text(link, &upper, field, &put, next),
                    _ => put,
                }
            }
        };
        source.lines(&put.lines().map(|line| format!("    {line}\n")).collect::<String>());
    }
    source.lines(&format!("    *used = at;\n    return {upper}_OK;\n}}\n"));
    source.line("");
    source.lines(&format!(
        "{upper}_FUNCTION {link}_codec_result_t {stem}_read_line({stem}_t *message, const char *line, size_t size)\n{{\n    \
             size_t at = 0;\n    bool fits = true;\n    {stem}_init(message);"
    ));
    for (n, piece) in pieces.iter().enumerate() {
        let get = match piece {
            LinePiece::Text(text) => format!(
                "if (!{link}_line_has(line, size, at, {}, {}u)) {{\n    return {upper}_UNKNOWN_MESSAGE;\n}}\nat += {}u;",
                literal(text),
                text.len(),
                text.len()
            ),
            LinePiece::Field { slot, form } => {
                let next = match pieces.get(n + 1) {
                    Some(LinePiece::Text(text)) => Some(text.as_str()),
                    _ => None,
                };
                get_field(link, &upper, &stem, &plan.message.fields[*slot], *form, next)
            }
        };
        source.lines(&get.lines().map(|line| format!("    {line}\n")).collect::<String>());
    }
    source.lines(&format!(
        "    if (at != size) {{\n        return {upper}_UNKNOWN_MESSAGE;\n    }}\n    \
             return fits ? {upper}_OK : {upper}_OUT_OF_RANGE;\n}}\n"
    ));
    source.line("");
}

fn put_text(link: &str, upper: &str, text: &str, size: usize) -> String {
    format!("if (!{link}_line_put(line, room, &at, {text}, {size}u)) {{\n    return {upper}_NO_ROOM;\n}}")
}

/// Puts a text and what ends it in the pattern, which must not be found in it before.
fn put_ended_text(link: &str, upper: &str, field: &Field, put: &str, next: &str) -> String {
    let (name, size) = (member(&field.name), next.len());
    let value = format!("message->{name}");
    let end = literal(next);
    format!(
        "{put}\n{{\n    size_t n;\n    size_t start = at - {value}_length;\n    size_t end = at;\n    \
         if (!{link}_line_put(line, room, &end, {end}, {size}u)) {{\n        return {upper}_NO_ROOM;\n    }}\n    \
         for (n = start; n < at; n++) {{\n        \
             if ({link}_line_has(line, end, n, {end}, {size}u)) {{\n            \
                 return {upper}_OUT_OF_RANGE; /* it holds what ends it */\n        }}\n    }}\n}}"
    )
}

/// How many decimals the field's scaled values have.
fn decimals(field: &Field) -> u32 {
    match &field.kind {
        Kind::Number(form) => form.scaling.decimals(),
        _ => 0,
    }
}

fn is_scaled(field: &Field) -> bool {
    matches!(&field.kind, Kind::Number(form) if !form.scaling.is_identity())
}

fn put_field(link: &str, upper: &str, stem: &str, field: &Field, form: LineForm) -> String {
    let name = member(&field.name);
    let value = format!("message->{name}");
    if let Kind::Text { ascii, .. } = field.kind {
        let is_text = match ascii {
            true => format!("{link}_is_ascii({value}, {value}_length)"),
            false => format!("{link}_line_is_utf8((const uint8_t *){value}, {value}_length)"),
        };
        return format!(
            "if (!{is_text} || memchr({value}, '\\n', {value}_length) != NULL ||\n    \
                 memchr({value}, '\\r', {value}_length) != NULL) {{\n    return {upper}_OUT_OF_RANGE;\n}}\n\
             if (!{link}_line_put(line, room, &at, {value}, {value}_length)) {{\n    return {upper}_NO_ROOM;\n}}"
        );
    }
    let mut text = format!("if (!{stem}_{name}_valid({value})) {{\n    return {upper}_OUT_OF_RANGE;\n}}\n");
    let wide = form.wide;
    let put = match (&field.kind, form.digits) {
        (_, LineDigits::Hex(digits)) => format!("{link}_line_put_hex(line, room, &at, (uint64_t){value}, {digits}u)"),
        (Kind::Bool, _) => {
            format!("{link}_line_put(line, room, &at, {value} ? \"true\" : \"false\", {value} ? 4u : 5u)")
        }
        (Kind::Enum { labels, .. }, _) => {
            let label = format!("{link}_{}_text({value})", snake(&labels.name));
            format!("{link}_line_put(line, room, &at, {label}, strlen({label}))")
        }
        (kind, digits) => {
            let own = decimals(field);
            let shown = if let LineDigits::Fixed(shown) = digits { u32::from(shown) } else { own };
            let scaled = if is_scaled(field) { format!("{stem}_{name}_scaled({value})") } else { value.clone() };
            if kind.is_signed() || is_scaled(field) {
                let (sign, size) = (
                    format!("{scaled} < 0"),
                    format!("({scaled} < 0 ? 0u - (uint64_t)(int64_t){scaled} : (uint64_t){scaled})"),
                );
                format!("{link}_line_put_decimal(line, room, &at, {sign}, {size}, {own}u, {shown}u, {wide}u)")
            } else {
                format!("{link}_line_put_decimal(line, room, &at, false, (uint64_t){value}, {own}u, {shown}u, {wide}u)")
            }
        }
    };
    let put = format!("if (!{put}) {{\n    return {upper}_NO_ROOM;\n}}");
    let none = format!("{}_NONE", screaming(&format!("{stem}_{name}")));
    if form.blank {
        text.push_str(&format!(
            "if ({value} != {none}) {{\n{}}}",
            put.lines().map(|line| format!("    {line}\n")).collect::<String>()
        ));
    } else if field.kind.none().is_some() && !matches!(form.digits, LineDigits::Hex(_)) {
        let word = put_text(link, upper, "\"none\"", 4);
        text.push_str(&format!(
            "if ({value} == {none}) {{\n{}}} else {{\n{}}}",
            word.lines().map(|line| format!("    {line}\n")).collect::<String>(),
            put.lines().map(|line| format!("    {line}\n")).collect::<String>()
        ));
    } else {
        text.push_str(&put);
    }
    text
}

fn get_field(link: &str, upper: &str, stem: &str, field: &Field, form: LineForm, next: Option<&str>) -> String {
    let name = member(&field.name);
    let value = format!("message->{name}");
    let unknown = format!("return {upper}_UNKNOWN_MESSAGE;");
    let raw_type = numbers::raw_type(link, &field.kind);
    let none = field.kind.none().map(|_| format!("{}_NONE", screaming(&format!("{stem}_{name}"))));
    let blank = none.clone().filter(|_| form.blank);
    // What is done where the field does not begin.
    let missing = match &blank {
        Some(none) => format!("{value} = {none};"),
        None => unknown.clone(),
    };
    let mut lines = vec!["{".to_owned()];
    let mut push = |line: String| lines.push(format!("    {line}"));
    match (&field.kind, form.digits) {
        (Kind::Text { ascii, length }, _) => {
            let most = match length {
                Length::Exact(most) | Length::UpTo(most) => *most,
                Length::Rest => 0,
            };
            push("size_t length = size - at;".into());
            if let Some(next) = next {
                push("length = 0;".into());
                push(format!(
                    "while (at + length <= size && !{link}_line_has(line, size, at + length, {}, {}u)) {{",
                    literal(next),
                    next.len()
                ));
                push("    length++;".into());
                push("}".into());
                push(format!("if (at + length > size) {{ {unknown} }}"));
            }
            if !ascii {
                push(format!("if (!{link}_line_is_utf8((const uint8_t *)line + at, length)) {{ {unknown} }}"));
            }
            let ascii = if *ascii { format!(" || !{link}_is_ascii(line + at, length)") } else { String::new() };
            push(format!("if (length > {most}u{ascii}) {{"));
            push("    fits = false;".into());
            push("} else {".into());
            push("    if (length > 0u) {".into());
            push(format!("        memcpy({value}, line + at, length);"));
            push("    }".into());
            let ty = if most < 256 { "uint8_t" } else { "uint16_t" };
            push(format!("    {value}_length = ({ty})length;"));
            push("}".into());
            push("at += length;".into());
        }
        (_, LineDigits::Hex(digits)) => {
            push("uint64_t number = 0;".into());
            push(format!("if (!{link}_line_get_hex(line, size, &at, {digits}u, &number)) {{"));
            push(format!("    {missing}"));
            push("} else {".into());
            push(format!("    {value} = ({raw_type})number;"));
            push(format!("    fits = fits && (uint64_t){value} == number && {stem}_{name}_valid({value});"));
            push("}".into());
        }
        (Kind::Bool | Kind::Enum { .. }, _) => {
            push(format!("size_t length = {link}_line_word(line, size, at);"));
            let mut branches = Vec::new();
            match &blank {
                Some(none) => branches.push(format!("if (length == 0u) {{\n        {value} = {none};\n    }}")),
                None => push(format!("if (length == 0u) {{ {unknown} }}")),
            }
            let mut branch = |word: &str, code: String| {
                branches.push(format!(
                    "if (length == {}u && memcmp(line + at, {}, {}u) == 0) {{\n        {value} = {code};\n    }}",
                    word.len(),
                    literal(word),
                    word.len()
                ));
            };
            match &field.kind {
                Kind::Enum { labels, none } => {
                    for label in &labels.labels {
                        branch(&label.name, types::code(link, labels, label.code));
                    }
                    if let Some(none) = none.filter(|_| !form.blank) {
                        branch("none", format!("({raw_type}){none}u"));
                    }
                }
                _ => {
                    branch("true", "true".into());
                    branch("false", "false".into());
                }
            }
            branches.push("{\n        fits = false;\n    }".into());
            for line in branches.join(" else ").lines() {
                push(line.to_owned());
            }
            push("at += length;".into());
        }
        (kind, _) => {
            let own = decimals(field);
            push("bool negative = false;".into());
            push("bool exact = false;".into());
            push("uint64_t size_of = 0;".into());
            let wide = form.wide;
            let get = format!("{link}_line_get_decimal(line, size, &at, {own}u, {wide}u, &negative, &size_of, &exact)");
            match (&none, &blank) {
                (Some(none), None) => {
                    push(format!("if ({link}_line_has(line, size, at, \"none\", 4u)) {{"));
                    push("    at += 4u;".into());
                    push(format!("    {value} = {none};"));
                    push("} else {".into());
                    push(format!("if (!{get}) {{ {unknown} }}"));
                }
                (_, Some(none)) => {
                    push(format!("if (!{get}) {{"));
                    push(format!("    {value} = {none};"));
                    push("} else {".into());
                }
                (None, None) => push(format!("if (!{get}) {{ {unknown} }}")),
            }
            if is_scaled(field) {
                let scaled = numbers::scaled_type(&field.kind);
                let given = format!("({scaled})(negative ? -({scaled})size_of : ({scaled})size_of)");
                push(format!(
                    "fits = fits && exact && size_of <= (uint64_t)INT{}_MAX && {stem}_{name}_from_scaled({given}, &{value}) == {upper}_OK",
                    if scaled == "int32_t" { 32 } else { 64 }
                ));
                // What lies between two codes is none of them.
                push(format!("    && {stem}_{name}_scaled({value}) == {given};"));
            } else if kind.is_signed() {
                push("fits = fits && exact && size_of <= (uint64_t)INT64_MAX + (negative ? 1u : 0u);".into());
                push(format!("{value} = ({raw_type})(negative ? (int64_t)(0u - size_of) : (int64_t)size_of);"));
                push(format!(
                    "fits = fits && (int64_t){value} == (negative ? (int64_t)(0u - size_of) : (int64_t)size_of) && {stem}_{name}_valid({value});"
                ));
            } else {
                push(format!("{value} = ({raw_type})size_of;"));
                push(format!(
                    "fits = fits && exact && (!negative || size_of == 0u) && (uint64_t){value} == size_of && {stem}_{name}_valid({value});"
                ));
                if let Some(none) = &none {
                    push(format!("fits = fits && {value} != {none};"));
                }
            }
            if none.is_some() {
                push("}".into());
            }
        }
    }
    lines.push("}".into());
    lines.join("\n")
}

/// Writing and reading parts of lines: the functions, and those that each calls.
const FUNCTIONS: [(&str, &[&str], &str); 8] = [
    (
        "line_put",
        &[],
        "/* Appends characters to a line; false without room. */
static bool LINK_line_put(char *line, size_t room, size_t *at, const char *text, size_t size)
{
    if (room - *at < size) {
        return false;
    }
    if (size > 0u) {
        memcpy(line + *at, text, size);
    }
    *at += size;
    return true;
}
",
    ),
    (
        "line_has",
        &[],
        "/* Whether a line goes on with these characters. */
static bool LINK_line_has(const char *line, size_t size, size_t at, const char *text, size_t count)
{
    return at <= size && size - at >= count && memcmp(line + at, text, count) == 0;
}
",
    ),
    (
        "line_put_hex",
        &["line_put"],
        r#"/* Appends so many hex digits. */
static bool LINK_line_put_hex(char *line, size_t room, size_t *at, uint64_t value, unsigned count)
{
    char digits[16];
    unsigned n;
    for (n = count; n > 0u; n--) {
        digits[n - 1u] = "0123456789ABCDEF"[value & 0xFu];
        value >>= 4;
    }
    return LINK_line_put(line, room, at, digits, count);
}
"#,
    ),
    (
        "line_get_hex",
        &[],
        "/* Reads so many hex digits. */
static bool LINK_line_get_hex(const char *line, size_t size, size_t *at, unsigned count, uint64_t *value)
{
    unsigned n;
    if (size - *at < count) {
        return false;
    }
    for (n = 0; n < count; n++) {
        char c = line[*at + n];
        unsigned digit;
        if (c >= '0' && c <= '9') {
            digit = (unsigned)(c - '0');
        } else if (c >= 'A' && c <= 'F') {
            digit = (unsigned)(c - 'A') + 10u;
        } else if (c >= 'a' && c <= 'f') {
            digit = (unsigned)(c - 'a') + 10u;
        } else {
            return false;
        }
        *value = *value << 4 | digit;
    }
    *at += count;
    return true;
}
",
    ),
    (
        "line_put_decimal",
        &["line_put"],
        "/* Appends a number that has `own` decimals with `shown` decimals, at least as many, and `wide` characters at least. */
static bool LINK_line_put_decimal(char *line, size_t room, size_t *at, bool negative, uint64_t value, unsigned own, unsigned shown, unsigned wide)
{
    char digits[48];
    size_t n = sizeof digits;
    unsigned place;
    for (place = own; place < shown; place++) {
        digits[--n] = '0';
    }
    for (place = 0; place < own; place++) {
        digits[--n] = (char)('0' + (char)(value % 10u));
        value /= 10u;
    }
    if (shown > 0u) {
        digits[--n] = '.';
    }
    do {
        digits[--n] = (char)('0' + (char)(value % 10u));
        value /= 10u;
    } while (value != 0u);
    while (sizeof digits - n + (negative ? 1u : 0u) < wide) {
        digits[--n] = '0';
    }
    if (negative) {
        digits[--n] = '-';
    }
    return LINK_line_put(line, room, at, digits + n, sizeof digits - n);
}
",
    ),
    (
        "line_get_decimal",
        &[],
        "/* Reads a run of signs, digits and points, of exactly `wide` unless that is 0: false without one; *exact if it is a number with
   at most so many decimals. */
static bool LINK_line_get_decimal(const char *line, size_t size, size_t *at, unsigned decimals, unsigned wide, bool *negative, uint64_t *value, bool *exact)
{
    size_t begin = *at;
    size_t end = begin;
    unsigned whole = 0;
    unsigned fraction = 0;
    bool point = false;
    while (end < size && (wide == 0u || end - begin < wide)
           && ((line[end] >= '0' && line[end] <= '9') || line[end] == '+' || line[end] == '-' || line[end] == '.')) {
        end++;
    }
    if (end == begin || (wide != 0u && end - begin != wide)) {
        return false;
    }
    *at = end;
    *exact = true;
    if (line[begin] == '-' || line[begin] == '+') {
        *negative = line[begin] == '-';
        begin++;
    }
    for (; begin < end; begin++) {
        unsigned digit = (unsigned)(line[begin] - '0');
        if (line[begin] == '.' && !point) {
            point = true;
            continue;
        }
        if (line[begin] < '0' || line[begin] > '9' || *value > (UINT64_MAX - digit) / 10u) {
            *exact = false;
            return true;
        }
        if (point && fraction >= decimals) {
            *exact = *exact && digit == 0u;
            fraction++;
            continue;
        }
        *value = *value * 10u + digit;
        if (point) {
            fraction++;
        } else {
            whole++;
        }
    }
    *exact = *exact && whole > 0u && (!point || fraction > 0u);
    for (; fraction < decimals; fraction++) {
        if (*value > UINT64_MAX / 10u) {
            *exact = false;
            return true;
        }
        *value *= 10u;
    }
    return true;
}
",
    ),
    (
        "line_word",
        &[],
        "/* How many letters, digits and underscores follow. */
static size_t LINK_line_word(const char *line, size_t size, size_t at)
{
    size_t end = at;
    while (end < size && ((line[end] >= '0' && line[end] <= '9') || (line[end] >= 'A' && line[end] <= 'Z') || (line[end] >= 'a' && line[end] <= 'z') || line[end] == '_')) {
        end++;
    }
    return end - at;
}
",
    ),
    (
        "line_is_utf8",
        &[],
        "/* Whether the bytes are text in UTF-8 (RFC 3629): shortest forms, no surrogates, nothing beyond U+10FFFF. */
static bool LINK_line_is_utf8(const uint8_t *bytes, size_t size)
{
    size_t at = 0;
    while (at < size) {
        uint8_t lead = bytes[at];
        size_t more = lead < 0x80u ? 0u : lead < 0xE0u ? 1u : lead < 0xF0u ? 2u : 3u;
        size_t n;
        if ((lead >= 0x80u && lead < 0xC2u) || lead > 0xF4u || size - at <= more) {
            return false;
        }
        for (n = 1; n <= more; n++) {
            if ((bytes[at + n] & 0xC0u) != 0x80u) {
                return false;
            }
        }
        if ((lead == 0xE0u && bytes[at + 1u] < 0xA0u) || (lead == 0xEDu && bytes[at + 1u] > 0x9Fu)
            || (lead == 0xF0u && bytes[at + 1u] < 0x90u) || (lead == 0xF4u && bytes[at + 1u] > 0x8Fu)) {
            return false;
        }
        at += 1u + more;
    }
    return true;
}
",
    ),
];
