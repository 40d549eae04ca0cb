//! What says whether all values of a struct may be sent, and which one may not.

use emberwort_model::model::{Field, Length};
use emberwort_model::plan::{Action, ListPlan, UnionPlan, count_bytes};

use super::{Group, Target, print_inside, set};
use crate::c::numbers;
use crate::c::tree::{Case, Expr, Stmt, Test, expr};
use crate::c::words::{literal, member};
use crate::code::Code;
use crate::lower::is_ascii;
use crate::names::snake;

impl Group<'_> {
    /// The function `_validate` of a message or a record with this name.
    pub(crate) fn validate(&self, name: &str, header: &mut Code) {
        let Self { link, upper, stem, .. } = *self;
        let what = if self.is_body { "message" } else { "record" };
        let check = Check { group: self, name };
        let prefix = format!("{what}->");
        let mut statements = Vec::new();
        if self.is_body {
            let held = format!("{prefix}sections_held");
            let sections = self.sections.len();
            let wrong = |test: String, result| check.wrong(expr![test], &format!("{name}.sections_held"), result);
            statements.push(wrong(format!("{held} < 1u"), "NOT_INITIALISED"));
            statements.push(wrong(format!("{held} > {sections}u"), "OUT_OF_RANGE"));
        }
        for (index, section) in self.sections.iter().enumerate() {
            let mut of_section = Vec::new();
            for step in section.steps.iter().filter(|step| !self.fields[step.slot].is_spare()) {
                let field = &self.fields[step.slot];
                let name = member(&field.name);
                let stem = format!("{stem}_{name}");
                let found = check.value(&stem, field, &step.action, Target { prefix: &prefix, name: &name }, 0);
                of_section.extend(match step.presence {
                    Some(_) => only_if(format!("{prefix}has_{name}"), found),
                    None => found,
                });
            }
            statements.extend(match index > 0 && self.is_body {
                true => only_if(format!("{prefix}sections_held > {index}u"), of_section),
                false => of_section,
            });
        }
        header.lines(&format!(
            "/* Whether all values may be sent; if not, *field is the name of the first that may not, else NULL. ..._encode() looks at the same. */\n\
             {upper}_CHECKED static inline {link}_codec_result_t {stem}_validate(const {stem}_t *{what}, const char **field)\n{{"
        ));
        if statements.is_empty() {
            header.line(format!("    (void){what};"));
        }
        print_inside(&statements, header);
        header.lines(&format!("    *field = NULL;\n    return {upper}_OK;\n}}\n"));
        header.line("");
    }
}

/// Statements that are executed if something is there; nothing if there are none.
fn only_if(condition: String, then: Vec<Stmt>) -> Vec<Stmt> {
    match then.is_empty() {
        true => Vec::new(),
        false => vec![Stmt::If(Test::Other(expr![condition]), then, Vec::new())],
    }
}

/// Makes the checks of values.
struct Check<'g, 'a> {
    group: &'g Group<'a>,
    /// The name of the message or record.
    name: &'g str,
}

impl Check<'_, '_> {
    /// The name that is told of a field.
    fn reported_name(&self, field: &Field) -> String {
        if field.name.is_empty() { self.name.to_owned() } else { format!("{}.{}", self.name, field.name) }
    }

    /// Ends the function, and tells this name.
    fn refusal(&self, told: &str, result: &str) -> Vec<Stmt> {
        let result = format!("{}_{result}", self.group.upper);
        vec![set("*field", literal(told)), Stmt::Return(expr![result])]
    }

    /// Ends the function if a condition holds.
    fn wrong(&self, condition: Expr, told: &str, result: &str) -> Stmt {
        Stmt::If(Test::Other(condition), self.refusal(told, result), Vec::new())
    }

    fn too_many(&self, count: &str, most: u32, field: &Field) -> Option<Stmt> {
        let greatest = if count_bytes(most) == 1 { 255 } else { 65_535 };
        (most < greatest)
            .then(|| self.wrong(expr![format!("{count} > {most}u")], &self.reported_name(field), "TOO_MANY"))
    }

    fn value(&self, stem: &str, field: &Field, action: &Action, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        match action {
            Action::Bits { .. } | Action::Varint { .. } => {
                let is_needed = !numbers::is_always_valid(field);
                let invalid = || expr!["!", Expr::function(format!("{stem}_valid")), format!("({})", target.value())];
                is_needed
                    .then(|| self.wrong(invalid(), &self.reported_name(field), "OUT_OF_RANGE"))
                    .into_iter()
                    .collect()
            }
            Action::Run { length, text } => {
                let count = target.length();
                let too_many = match length {
                    Length::UpTo(most) => self.too_many(&count, *most, field),
                    Length::Exact(most) if *text => self.too_many(&count, *most, field),
                    Length::Exact(_) | Length::Rest => None,
                };
                let not_ascii = is_ascii(field).then(|| {
                    let is_ascii = Expr::function(format!("{}_is_ascii", self.group.link));
                    let other = expr!["!", is_ascii, format!("({}, {count})", target.value())];
                    self.wrong(other, &self.reported_name(field), "OUT_OF_RANGE")
                });
                too_many.into_iter().chain(not_ascii).collect()
            }
            Action::Skip { .. } => Vec::new(),
            Action::Record(record) => {
                let link = self.group.link;
                let validate = Expr::function(format!("{link}_{}_validate", snake(&record.record.name)));
                let called = expr![
                    format!("const {link}_codec_result_t result = "),
                    validate,
                    format!("(&{}, field)", target.value())
                ];
                vec![Stmt::Block(vec![Stmt::Do(called), self.group.failed()])]
            }
            Action::List(list) => self.list(stem, field, list, target, depth),
            Action::Union(union) => vec![self.union(stem, field, union, target, depth)],
        }
    }

    fn list(&self, stem: &str, field: &Field, list: &ListPlan, target: Target<'_>, depth: usize) -> Vec<Stmt> {
        let mut statements = Vec::new();
        let count = match list.length {
            Length::Exact(count) => format!("{count}u"),
            Length::UpTo(most) => {
                statements.extend(self.too_many(&target.count(), most, field));
                target.count()
            }
            Length::Rest => {
                let test = expr![format!("{} > {}u", target.count(), self.group.capacity(list))];
                statements.push(self.wrong(test, &self.reported_name(field), "TOO_MANY"));
                target.count()
            }
        };
        let n = format!("n{depth}");
        let (prefix, name) = self.group.element_at(list, target, &n);
        let element = Target { prefix: &prefix, name: &name };
        // An element has no name of its own.
        let named = Field { name: field.name.clone(), ..(*list.element.field).clone() };
        let one = self.value(stem, &named, &list.element.action, element, depth + 1);
        if !one.is_empty() {
            let head = expr![format!("{n} = 0; {n} < {count}; {n}++")];
            statements.push(Stmt::Block(vec![Stmt::call(format!("size_t {n}")), Stmt::For(head, one)]));
        }
        statements
    }

    fn union(&self, stem: &str, field: &Field, union: &UnionPlan, target: Target<'_>, depth: usize) -> Stmt {
        let meaning = &union.union;
        let mut cases = Vec::new();
        for (index, form) in union.forms.iter().enumerate() {
            let mut then = Vec::new();
            if let Some(other) = self.group.other_form(meaning, index, target) {
                then.push(self.wrong(expr![other], &self.reported_name(field), "NO_FORM"));
            }
            let name = member(&form.field.name);
            let prefix = format!("{}.{name}.", target.value());
            let element = Target { prefix: &prefix, name: "value" };
            then.extend(self.value(&format!("{stem}_{name}"), &form.field, &form.action, element, depth + 1));
            cases.push(Case { number: Some(format!("{index}u")), then });
        }
        cases.push(Case { number: None, then: self.refusal(&self.reported_name(field), "NO_FORM") });
        Stmt::Switch(expr![target.form()], cases)
    }
}
