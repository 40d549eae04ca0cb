//! `demo`: writes the example project and runs the whole job on it, each step as a command that can be typed by hand.

use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, ExitStatus, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, bail};
use emberwort_port::Program;
use emberwort_rows::Paint;

use crate::cli::DemoArgs;
use crate::ending::Ending;
use crate::files;
use crate::interrupt;
use crate::output::{self, Look};

/// The files of the example project, as `examples/marlock` in the repository holds them.
const FILES: &[(&str, &str)] = &[
    ("README.md", include_str!("../../../../examples/marlock/README.md")),
    ("emberwort.toml", include_str!("../../../../examples/marlock/emberwort.toml")),
    ("marlock.ember", include_str!("../../../../examples/marlock/marlock.ember")),
    ("pump.ember", include_str!("../../../../examples/marlock/pump.ember")),
    ("gauge.ember", include_str!("../../../../examples/marlock/gauge.ember")),
    ("valve.ember", include_str!("../../../../examples/marlock/valve.ember")),
    ("lamps/lamps.ember", include_str!("../../../../examples/marlock/lamps/lamps.ember")),
    ("trials/clear-day.toml", include_str!("../../../../examples/marlock/trials/clear-day.toml")),
    ("trials/moving-gate.toml", include_str!("../../../../examples/marlock/trials/moving-gate.toml")),
    ("trials/stormy-night.toml", include_str!("../../../../examples/marlock/trials/stormy-night.toml")),
    ("trials/ringing-bus.toml", include_str!("../../../../examples/marlock/trials/ringing-bus.toml")),
    ("trials/power-pair.toml", include_str!("../../../../examples/marlock/trials/power-pair.toml")),
    ("trials/lamps.toml", include_str!("../../../../examples/marlock/trials/lamps.toml")),
    ("programs/gate.c", include_str!("../../../../examples/marlock/programs/gate.c")),
    ("programs/keeper.py", include_str!("../../../../examples/marlock/programs/keeper.py")),
    ("programs/keeper.mjs", include_str!("../../../../examples/marlock/programs/keeper.mjs")),
    ("databases/power-pack.dbc", include_str!("../../../../examples/marlock/databases/power-pack.dbc")),
    ("waveforms/bus.csv", include_str!("../../../../examples/marlock/waveforms/bus.csv")),
    ("waveforms/probe.vcd", include_str!("../../../../examples/marlock/waveforms/probe.vcd")),
    ("sealed/marlock-r1.ember", include_str!("../../../../examples/marlock/sealed/marlock-r1.ember")),
    ("sealed/marlock-r2.ember", include_str!("../../../../examples/marlock/sealed/marlock-r2.ember")),
    ("sealed/marlock-r3.ember", include_str!("../../../../examples/marlock/sealed/marlock-r3.ember")),
];

/// What the trial records.
const RECORDING: &str = "stormy-night.pcapng";

/// What is recorded live.
const LIVE: &str = "live.pcapng";

/// The C compilers that are tried.
const COMPILERS: &[&str] = &["cc", "gcc", "clang"];

pub fn run(args: &DemoArgs, look: Look) -> anyhow::Result<Ending> {
    let folder = &args.dir;
    let shown = &files::shown(folder);
    if folder.exists() {
        let same =
            |(name, text): &(&str, &str)| fs::read(folder.join(name)).is_ok_and(|bytes| bytes == text.as_bytes());
        if !FILES.iter().all(same) {
            bail!(
                "{shown} exists already, and nothing is overwritten\nchoose another folder: emberwort demo {shown}-2"
            );
        }
        // A demo that was stopped, or ran before: what the steps made is made again.
        for made in [RECORDING, LIVE, "gen/vectors"] {
            let _ = fs::remove_file(folder.join(made));
        }
    } else {
        let files: Vec<(&str, String)> = FILES.iter().map(|(name, text)| (*name, (*text).to_owned())).collect();
        files::write_folder(folder, &files)?;
    }
    interrupt::catch();
    let steps = Steps { folder, look };
    steps.say(&format!(
        "The lock at Marlock is now in {shown}. What follows can be typed there by hand:\n$ cd {shown}"
    ))?;

    steps.say("\nIs anything wrong in the definition?")?;
    steps.emberwort(&["check"])?;
    steps.say("\nHow does a gate's status lie in bytes?")?;
    steps.emberwort(&["layout", "GateStatus"])?;
    steps.emberwort(&["layout", "GateStatus", "PumpStatus", "--as", "picture"])?;
    steps.say(
        "\nWhat do the battery-driven gauges cost in airtime, and what would a slower, farther reaching radio cost?",
    )?;
    steps.emberwort(&["budget", "gauges", "--devices", "2", "--what-if", "gauges sf12"])?;
    steps.say("\nRevision 3 is in the field. What does the next one, as it is now, do to its controllers?")?;
    steps.emberwort(&["compare"])?;
    steps.say("\nAnd if the oil pressure reached to 400 bar, in the same bits?")?;
    steps.compare(&["compare", "--what-if", "GateStatus.oil 0 .. 400 bar in 12 bits"])?;
    steps.say("\nOne command as bytes, and back:")?;
    steps.emberwort(&["encode", "MoveGate", "target=80", "speed=12", "--on", "bus485", "--node", "3"])?;
    steps.emberwort(&[
        "decode",
        "--on",
        "bus485",
        "--strict",
        "--as",
        "tree",
        "--hex",
        "C6 39 03 40 00 02 A0 12 F5 90",
    ])?;
    steps.say("\nThe code for the device, and the vectors that prove it:")?;
    steps.emberwort(&["generate"])?;
    steps.compile()?;
    steps.say("\nThe stormy night, played by simulated controllers over a noisy wire:")?;
    steps.emberwort(&["trial", "trials/stormy-night.toml", "--record", RECORDING])?;
    steps.say("\nWhere did every byte of the recording go?")?;
    steps.emberwort(&["stats", RECORDING])?;
    steps.say("\nWhat did the keeper and the east gate (node 3) say to each other?")?;
    let mut words = vec!["decode", RECORDING, "--node", "3"];
    for message in ["MoveGate", "MoveAccepted", "Alarm", "Refused"] {
        words.extend(["--message", message]);
    }
    steps.emberwort(&words)?;
    steps.live()?;
    steps.programs()?;
    steps.say(
        "\nBack to the stormy night: why did the gate stop? At 02:10:20 it accepted the command to open. At 02:11:11 it raised `oil_hot`: the oil had\n\
         81 degC at 231 bar, after 51 seconds of pushing against rising water. From then on it refused every command for\n\
         that reason. The broken frames between 02:10:46 and 02:10:58 come from a shaken plug and have nothing to do with it.\n\
         See pressure and temperature climb:\n\
         $ emberwort decode stormy-night.pcapng --node 3 --message GateStatus",
    )?;
    Ok(Ending::Clean)
}

/// Runs a program to its end; the user may interrupt.
fn done(command: &mut Command) -> anyhow::Result<ExitStatus> {
    match Program::start(command)?.wait_while(|| !interrupt::came())? {
        Some(status) => Ok(status),
        None => bail!("interrupted"),
    }
}

/// Ends a program that has something to write first.
fn end_gently(mut program: Program) {
    program.ask();
    let until = Instant::now() + Duration::from_secs(5);
    // However it ended: what it wrote is looked at.
    let _ = program.wait_while(|| Instant::now() < until && !interrupt::came());
}

/// Whether a program is on this machine.
fn works(program: &str) -> bool {
    Command::new(program).arg("--version").output().is_ok_and(|output| output.status.success())
}

struct Steps<'a> {
    folder: &'a Path,
    look: Look,
}

impl Steps<'_> {
    /// Prints at once, so that it stands before what a step prints.
    fn say(&self, text: &str) -> anyhow::Result<()> {
        let mut out = output::stdout();
        writeln!(out, "{text}")?;
        out.flush()?;
        Ok(())
    }

    fn show(&self, program: &str, words: &[&str]) -> anyhow::Result<()> {
        let quoted =
            words.iter().map(|word| if word.contains([' ', '\'']) { format!("'{word}'") } else { (*word).to_owned() });
        let line = quoted.fold(format!("$ {program}"), |line, word| line + " " + &word);
        self.say(&self.look.paint(Paint::Bold, line))
    }

    /// Runs this program in the project's folder.
    fn emberwort(&self, words: &[&str]) -> anyhow::Result<()> {
        self.show("emberwort", words)?;
        self.run(words, 0)
    }

    /// Shows and runs a comparison, which finds something and so exits with 1.
    fn compare(&self, words: &[&str]) -> anyhow::Result<()> {
        self.show("emberwort", words)?;
        self.run(words, 1)
    }

    fn run(&self, words: &[&str], expected: i32) -> anyhow::Result<()> {
        let program = std::env::current_exe().context("this program's own file cannot be found")?;
        let mut command = Command::new(program);
        command.current_dir(self.folder).env_remove("EMBERWORT_LINK");
        command.args(["--color", if self.look.out { "always" } else { "never" }]).args(words);
        let status = done(&mut command).context("the step cannot be run")?;
        if status.code() != Some(expected) {
            bail!("the step `emberwort {}` failed; please report this as a bug of Emberwort", words.join(" "));
        }
        Ok(())
    }

    /// The same commands on ports, in real time: a simulated gate, a recorder between it and the keeper, and the keeper's commands.
    fn live(&self) -> anyhow::Result<()> {
        self.say("\nNow live, for a few seconds. A simulated gate on a pseudo-terminal, as if it were a serial port:")?;
        let Some((device, gate)) = self.beside(&["device", "trials/moving-gate.toml", "--port", "pty"])? else {
            return self.say("This machine has no pseudo-terminals, so nothing runs live here.");
        };
        self.say("Between it and the keeper's house everything passes on, and is recorded:")?;
        let record = ["record", "--between", &gate, "pty", "--on", "bus485", "--out", LIVE];
        let Some((recorder, house)) = self.beside(&record)? else { return Ok(()) };
        self.say("The keeper moves the gate:")?;
        self.emberwort(&[
            "send",
            &house,
            "MoveGate",
            "target=60",
            "speed=20",
            "--on",
            "bus485",
            "--node",
            "3",
            "--within",
            "2s",
        ])?;
        self.say("and sees its opening follow:")?;
        self.emberwort(&["listen", &house, "--on", "bus485", "--message", "GateStatus", "--count", "8"])?;
        end_gently(recorder);
        end_gently(device);
        self.say("What the recorder has of it:")?;
        self.emberwort(&["decode", LIVE, "--message", "MoveGate", "--message", "MoveAccepted"])
    }

    /// A device in C and hosts in Python and JavaScript, on generated code, if this machine has what they need.
    fn programs(&self) -> anyhow::Result<()> {
        let hosts: Vec<(&str, &str, &str)> =
            [("python3", "programs/keeper.py", "40"), ("node", "programs/keeper.mjs", "10")]
                .into_iter()
                .filter(|(program, ..)| works(program))
                .collect();
        let Some(compiler) = COMPILERS.iter().find(|compiler| works(compiler)) else { return Ok(()) };
        if hosts.is_empty() {
            return Ok(());
        }
        self.say(
            "\nAnd on the code that was generated: a gate in C, and the keeper in the languages that this machine has.",
        )?;
        self.emberwort(&["generate", "c", "python", "javascript"])?;
        let words = ["-std=c99", "-Igen/c", "programs/gate.c", "gen/c/marlock.c", "-o", "gen/gate"];
        self.show(compiler, &words)?;
        if !done(Command::new(compiler).current_dir(self.folder).args(words))?.success() {
            return self.say("This machine's C library has no pseudo-terminals, so the gate is not run here.");
        }
        self.show("gen/gate", &["&"])?;
        let program = fs::canonicalize(self.folder.join("gen/gate")).context("the compiled gate cannot be found")?;
        let gate = Program::start(Command::new(program).stdin(Stdio::null()).stdout(Stdio::piped()));
        let mut gate = gate.context("the gate cannot be run")?;
        let mut line = String::new();
        gate.take_output().map(BufReader::new).map(|mut said| said.read_line(&mut line)).transpose()?;
        let Some(port) = line.trim().strip_prefix("the port is ") else {
            return self.say("This machine has no pseudo-terminals, so the gate is not run here.");
        };
        self.say(line.trim())?;
        for (program, file, percent) in hosts {
            let words = [file, port, percent];
            self.show(program, &words)?;
            if !done(Command::new(program).current_dir(self.folder).args(words))?.success() {
                bail!("{file} did not see the gate move; please report this as a bug of Emberwort");
            }
        }
        Ok(())
    }

    /// Starts a command that goes on beside the others; returns the path of the pseudo-terminal that it makes. `None` if it cannot.
    fn beside(&self, words: &[&str]) -> anyhow::Result<Option<(Program, String)>> {
        self.show("emberwort", &[words, &["&"]].concat())?;
        let program = std::env::current_exe().context("this program's own file cannot be found")?;
        let mut command = Command::new(program);
        command.current_dir(self.folder).env_remove("EMBERWORT_LINK").args(words);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
        let mut child = Program::start(&mut command).context("the step cannot be run")?;
        let said = child.take_errors().map(BufReader::new);
        let Some(said) = said else { return Ok(None) };
        for line in said.lines().map_while(Result::ok) {
            if let Some(path) = line.strip_prefix("the port is ") {
                self.say(&line)?;
                return Ok(Some((child, path.to_owned())));
            }
        }
        Ok(None)
    }

    /// Compiles the generated C and runs its vectors, if a C compiler is there.
    fn compile(&self) -> anyhow::Result<()> {
        let Some(compiler) = COMPILERS.iter().find(|compiler| works(compiler)) else {
            return self.say(&format!(
                "There is no C compiler on this machine ({}), so the generated code is not compiled here.",
                COMPILERS.join(", ")
            ));
        };
        let words = [
            "-std=c99",
            "-Wall",
            "-Wextra",
            "-pedantic",
            "gen/c/marlock.c",
            "gen/c/marlock_vectors.c",
            "-o",
            "gen/vectors",
        ];
        self.show(compiler, &words)?;
        let status = done(Command::new(compiler).current_dir(self.folder).args(words))?;
        if !status.success() {
            bail!("{compiler} cannot compile the generated code; please report this as a bug of Emberwort");
        }
        self.show("gen/vectors", &[])?;
        let program =
            fs::canonicalize(self.folder.join("gen/vectors")).context("the compiled vectors cannot be found")?;
        let status = done(Command::new(program).current_dir(self.folder))?;
        if !status.success() {
            bail!("the generated code differs from the vectors; please report this as a bug of Emberwort");
        }
        Ok(())
    }
}
