//! `new`: starts a project.

use std::io::Write;

use anyhow::bail;
use emberwort_model::diagnostics::escaped;

use crate::cli::{NewArgs, Preset};
use crate::ending::Ending;
use crate::files;
use crate::output::{self, Look};
use crate::project::PROJECT_FILE;

macro_rules! template {
    ($name:literal) => {
        include_str!(concat!("../../templates/new/", $name))
    };
}

/// The definition and the first trial of a preset.
fn texts(preset: Preset) -> (&'static str, &'static str) {
    match preset {
        Preset::Uart => (template!("uart.ember"), template!("uart.toml")),
        Preset::Can => (template!("can.ember"), template!("can.toml")),
        Preset::Lora => (template!("lora.ember"), template!("lora.toml")),
        Preset::Udp => (template!("udp.ember"), template!("udp.toml")),
        Preset::Console => (template!("console.ember"), template!("console.toml")),
    }
}

pub fn run(args: &NewArgs, _look: Look) -> anyhow::Result<Ending> {
    let folder = &args.dir;
    let shown = files::shown(folder);
    if folder.exists() {
        bail!("{shown} exists already, and nothing is overwritten\nchoose another folder: emberwort new {shown}-2");
    }
    let name = folder.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let link = link_name(&name);
    if link.is_empty() {
        bail!(
            "`{}` gives the link no name; take a folder whose name has letters: emberwort new my_link",
            escaped(&name)
        );
    }
    let (definition, trial) = texts(args.preset);
    let own = format!("{link}.ember");
    let all = [
        (own.as_str(), definition),
        (PROJECT_FILE, template!("emberwort.toml")),
        ("link.mk", template!("link.mk")),
        ("trials/first.toml", trial),
    ];
    files::write_folder(folder, &all.map(|(name, text)| (name, text.replace("LINK", &link))))?;
    let mut out = output::stdout();
    for (name, _) in &all {
        writeln!(out, "{}", files::shown(&folder.join(name)))?;
    }
    writeln!(
        out,
        "\nwhat to do next:\n  cd {shown}\n  emberwort check\n  emberwort layout --as picture\n  emberwort trial trials/first.toml"
    )?;
    out.flush()?;
    Ok(Ending::Clean)
}

/// A folder's name as that of a link: `lower_snake`.
fn link_name(folder: &str) -> String {
    let mut name = String::new();
    for c in folder.chars() {
        if c.is_ascii_alphanumeric() {
            name.push(c.to_ascii_lowercase());
        } else if !name.is_empty() && !name.ends_with('_') {
            name.push('_');
        }
    }
    let name = name.trim_end_matches('_');
    // A name begins with a letter.
    name.trim_start_matches(|c: char| !c.is_ascii_alphabetic()).to_owned()
}
