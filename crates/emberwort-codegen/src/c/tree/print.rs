//! The text of statements.

use super::statement::{Case, Stmt};
use crate::code::Code;

/// Writes statements at the level that the code has reached.
pub fn print(statements: &[Stmt], code: &mut Code) {
    for statement in statements {
        one(statement, code);
    }
}

fn one(statement: &Stmt, code: &mut Code) {
    for function in statement.functions() {
        code.uses(function);
    }
    match statement {
        Stmt::Comment(text) => code.line(format!("/* {text} */")),
        Stmt::Do(expression) => code.lines(&format!("{expression};")),
        Stmt::Set(name, value) => code.line(format!("{name} = {value};")),
        Stmt::Add(name, value) => code.line(format!("{name} += {value};")),
        Stmt::Refuse(test, result) => {
            code.lines(&format!("if ({}) {{\n    return {result};\n}}", test.expression()));
        }
        Stmt::If(test, then, otherwise) => {
            code.lines(&format!("if ({}) {{", test.expression()));
            nested(then, code);
            if !otherwise.is_empty() {
                code.line("} else {");
                nested(otherwise, code);
            }
            code.line("}");
        }
        Stmt::Block(inner) => {
            code.line("{");
            nested(inner, code);
            code.line("}");
        }
        Stmt::For(head, inner) => {
            code.line(format!("for ({head}) {{"));
            nested(inner, code);
            code.line("}");
        }
        Stmt::While(condition, inner) => {
            code.line(format!("while ({condition}) {{"));
            nested(inner, code);
            code.line("}");
        }
        Stmt::Switch(value, cases) => {
            code.line(format!("switch ({value}) {{"));
            for Case { number, then } in cases {
                match number {
                    Some(number) => code.line(format!("case {number}:")),
                    None => code.line("default:"),
                }
                nested(then, code);
                if !matches!(then.last(), Some(Stmt::Return(_))) {
                    code.open_more();
                    code.line("break;");
                    code.dedent();
                }
            }
            code.line("}");
        }
        Stmt::Return(value) => code.line(format!("return {value};")),
    }
}

fn nested(statements: &[Stmt], code: &mut Code) {
    code.open_more();
    print(statements, code);
    code.dedent();
}
