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

/// Code of a function without the statements that only set cursors that nobody looks at any more, of those with these names, and without
/// conditions that an earlier one has made false.
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
    let mut lines: Vec<&str> = code.lines().collect();
    let names: Vec<&str> = names.iter().chain(&["section"]).copied().collect();
    // What a test that is left out looked at may be idle then.
    while names.iter().any(|name| drop_idle_set(&mut lines, name)) || drop_false(&mut lines) {}
    lines.iter().flat_map(|line| [*line, "\n"]).collect()
}

fn indentation(line: &str) -> usize {
    line.len() - line.trim_start().len()
}

/// What a line sets a variable to, if it does nothing else, and whether the old value counts.
fn set<'a>(line: &'a str, name: &str) -> Option<(&'a str, bool)> {
    let rest = line.trim_start().strip_prefix(name)?;
    let (value, counts) = match (rest.strip_prefix(" = "), rest.strip_prefix(" += ")) {
        (Some(value), _) => (value, false),
        (_, Some(value)) => (value, true),
        _ => return None,
    };
    let value = value.strip_suffix(';')?;
    Some((value, counts || uses(value, name) > 0))
}

/// Leaves out one statement that sets a variable whose value nobody reads: the next to mention it, in the same block, sets it anew, or
/// nobody does.
fn drop_idle_set(lines: &mut Vec<&str>, name: &str) -> bool {
    let idle = (0..lines.len()).find(|at| {
        let line = lines[*at];
        if set(line, name).is_none() {
            return false;
        }
        let depth = indentation(line);
        // Before `break;` what counts is what comes behind the block.
        let mut from = at + 1;
        if lines.get(from).is_some_and(|line| line.trim() == "break;") {
            from +=
                lines[from..].iter().position(|line| line.trim() == "}" && indentation(line) + 4 == depth).unwrap_or(0);
            return from > at + 1 && !lines[from..].iter().any(|line| uses(line, name) > 0);
        }
        match lines[from..].iter().position(|line| uses(line, name) > 0) {
            Some(next) => {
                let next = at + 1 + next;
                let is_same_block = lines[*at..=next].iter().all(|line| line.is_empty() || indentation(line) >= depth);
                is_same_block
                    && indentation(lines[next]) == depth
                    && set(lines[next], name).is_some_and(|(_, counts)| !counts)
            }
            // In a loop the next time around would mention it.
            None => !lines[..*at].iter().enumerate().any(|(from, line)| {
                let is_loop = ["for (", "while ("].iter().any(|word| line.trim_start().starts_with(word));
                is_loop
                    && indentation(line) < depth
                    && lines[from + 1..*at]
                        .iter()
                        .all(|inner| inner.is_empty() || indentation(inner) > indentation(line))
            }),
        }
    });
    idle.map(|at| lines.remove(at)).is_some()
}

/// The number in `NUMBERu`.
fn number(text: &str) -> Option<u64> {
    text.strip_suffix('u')?.parse().ok()
}

/// What a buffer is known to have at a line: `if (end < 5u) {` in front of it, as far out as it or further, leaves the function.
fn known(lines: &[&str], at: usize, what: &str) -> u64 {
    let depth = indentation(lines[at]);
    let of = |line: &&&str| {
        let rest = line.trim_start().strip_prefix("if (")?.strip_prefix(what)?.strip_prefix(" < ")?;
        let bytes = number(rest.strip_suffix(") {")?)?;
        (indentation(line) <= depth).then_some(bytes)
    };
    lines[..at].iter().filter_map(|line| of(&line)).max().unwrap_or(0)
}

/// Leaves out one test of a length, with the return in it, that an earlier one has answered.
fn drop_false(lines: &mut Vec<&str>) -> bool {
    let is_false = |at: &usize| {
        let line = lines[*at].trim_start();
        let returns = lines.get(at + 1).is_some_and(|line| line.trim_start().starts_with("return "));
        if !returns || lines.get(at + 2).is_none_or(|line| line.trim() != "}") {
            return false;
        }
        let Some(condition) = line.strip_prefix("if (").and_then(|rest| rest.strip_suffix(") {")) else { return false };
        // The number that a variable was set to just before, in this block or around it.
        let place_in = |name: &str| {
            let before = lines[..*at].iter().rposition(|line| uses(line, name) > 0)?;
            let is_outside = lines[before..*at]
                .iter()
                .all(|line| line.is_empty() || indentation(line) >= indentation(lines[before]));
            set(lines[before], name).filter(|(_, counts)| is_outside && !counts).and_then(|(value, _)| number(value))
        };
        // Behind `here = 4u;`: is there so much more?
        for what in ["end", "room"] {
            let rest = condition.strip_prefix(what).and_then(|rest| rest.strip_prefix(" - "));
            if let Some((name, needed)) = rest.and_then(|rest| rest.split_once(" < ")) {
                let needed = place_in(name).zip(number(needed)).map(|(place, needed)| place + needed);
                return needed.is_some_and(|needed| known(lines, *at, what) >= needed);
            }
        }
        for what in ["end", "room"] {
            let bits =
                condition.strip_prefix("(bit + ").and_then(|rest| rest.strip_suffix(&format!(" + 7u) / 8u > {what}")));
            if let Some(bits) = bits.and_then(number) {
                return place_in("bit").is_some_and(|place| known(lines, *at, what) * 8 >= place + bits);
            }
        }
        // Behind `if (end == 2u) {`: is it not 2, and not less, then it is 3 or more.
        let Some(needed) = condition.strip_prefix("end < ").and_then(number) else { return false };
        let other = format!("if (end == {}u) {{", needed.saturating_sub(1));
        let depth = indentation(lines[*at]);
        let was_other = lines[..*at].iter().any(|line| line.trim_start() == other && indentation(line) == depth);
        was_other && known(lines, *at, "end") + 1 >= needed
    };
    let found = (0..lines.len()).find(is_false);
    found.map(|at| lines.drain(at..at + 3)).is_some()
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
