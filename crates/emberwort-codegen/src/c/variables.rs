//! The variables that some generated code uses: those are declared, and what only sets others is left out.

use crate::code::Code;

/// How often a variable is used in some code: not as the name of a member.
fn uses(code: &str, name: &str) -> usize {
    let is_of_name = |c: char| c.is_ascii_alphanumeric() || c == '_';
    code.match_indices(name)
        .filter(|(at, _)| {
            let (before, behind) = (&code[..*at], &code[at + name.len()..]);
            !before.ends_with(|c: char| is_of_name(c) || c == '.')
                && !before.ends_with("->")
                && !behind.starts_with(is_of_name)
        })
        .count()
}

/// Whether some code uses a variable.
pub fn is_used(code: &str, name: &str) -> bool {
    uses(code, name) > 0
}

/// Code without the statements that only set cursors that nobody looks at, of those with these names.
pub fn settled(mut code: String, names: &[&str]) -> String {
    for name in names.iter().chain(&["section"]) {
        let sets = |line: &str| {
            let line = line.trim_start();
            line.strip_prefix(name).is_some_and(|rest| rest.starts_with(" = ") || rest.starts_with(" += "))
                && uses(line, name) == 1
        };
        let count = code.lines().filter(|line| sets(line)).count();
        if count > 0 && uses(&code, name) == count {
            code = code.lines().filter(|line| !sets(line)).flat_map(|line| [line, "\n"]).collect();
        }
    }
    code
}

/// Declares the cursors that some code uses, which reads, or writes.
pub fn cursors(code: &str, writes: bool, source: &mut Code) {
    if is_used(code, "section") {
        source.line(format!("    {}uint8_t *section;", if writes { "" } else { "const " }));
    }
    for name in ["bit", "here"] {
        if is_used(code, name) {
            source.line(format!("    size_t {name};"));
        }
    }
}
