//! Running the built program in temporary folders.

use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

/// The repository's example project.
pub fn marlock() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/marlock")
}

/// A command that runs the program in a folder, with nothing of the environment that changes what it does.
pub fn emberwort(folder: &Path, words: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_emberwort"));
    command.current_dir(folder).args(words).env_remove("EMBERWORT_LINK").env_remove("NO_COLOR").stdin(Stdio::null());
    command.env("XDG_STATE_HOME", folder.join("state"));
    command
}

/// What a run gave: exit code, standard output, standard error.
#[derive(Debug)]
pub struct Ran {
    pub code: i32,
    pub out: String,
    pub err: String,
}

impl From<Output> for Ran {
    fn from(output: Output) -> Self {
        let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("output is UTF-8");
        Self {
            code: output.status.code().expect("ended by itself, not by a signal"),
            out: text(output.stdout),
            err: text(output.stderr),
        }
    }
}

/// Runs the program to its end.
pub fn run(folder: &Path, words: &[&str]) -> Ran {
    emberwort(folder, words).output().expect("the program runs").into()
}

/// Runs the program with something on its standard input.
pub fn run_with_input(folder: &Path, words: &[&str], input: &[u8]) -> Ran {
    use std::io::Write;
    let mut child = emberwort(folder, words)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the program runs");
    let mut stdin = child.stdin.take().expect("a pipe");
    let input = input.to_vec();
    let writer = std::thread::spawn(move || {
        // The program may end before it has read everything.
        let _ = stdin.write_all(&input);
    });
    let output = child.wait_with_output().expect("the program ends");
    writer.join().expect("the writer ends");
    output.into()
}

/// Runs the program, which must succeed; gives its standard output.
pub fn succeed(folder: &Path, words: &[&str]) -> String {
    let ran = run(folder, words);
    assert_eq!(ran.code, 0, "emberwort {}\n{}{}", words.join(" "), ran.out, ran.err);
    ran.out
}

/// The files of the example project that commands read.
pub const PROJECT_FILES: [&str; 21] = [
    "marlock.ember",
    "pump.ember",
    "gauge.ember",
    "valve.ember",
    "lamps/lamps.ember",
    "emberwort.toml",
    "trials/stormy-night.toml",
    "trials/clear-day.toml",
    "trials/moving-gate.toml",
    "trials/ringing-bus.toml",
    "trials/power-pair.toml",
    "trials/lamps.toml",
    "programs/gate.c",
    "programs/keeper.py",
    "programs/keeper.mjs",
    "databases/power-pack.dbc",
    "waveforms/bus.csv",
    "waveforms/probe.vcd",
    "sealed/marlock-r1.ember",
    "sealed/marlock-r2.ember",
    "sealed/marlock-r3.ember",
];

/// A temporary copy of the example project.
pub fn project() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a temporary folder");
    copy_project(folder.path());
    folder
}

/// Copies the example project into a folder.
pub fn copy_project(to: &Path) {
    for name in PROJECT_FILES {
        let path = to.join(name);
        std::fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        std::fs::copy(marlock().join(name), path).expect("the example is there");
    }
}

/// The project with a recording of the stormy night.
pub fn project_with_recording() -> tempfile::TempDir {
    let folder = project();
    succeed(folder.path(), &["trial", "trials/stormy-night.toml", "--record", "stormy-night.pcapng"]);
    folder
}

/// The numbers of `stats --as ndjson`.
pub fn stats(folder: &Path, words: &[&str]) -> serde_json::Value {
    let words = [&["stats", "--as", "ndjson"], words].concat();
    let ran = run(folder, &words);
    serde_json::from_str(&ran.out).unwrap_or_else(|error| panic!("{error}: {ran:?}"))
}

/// A run of the program beside the test; it is killed when nobody needs it any longer.
pub struct Beside {
    child: Option<std::process::Child>,
    /// Reads standard output, so that no full pipe holds the program up.
    out: Option<std::thread::JoinHandle<Vec<u8>>>,
    err: std::sync::mpsc::Receiver<String>,
    said: String,
}

/// How long a test waits for what must come.
pub const PATIENCE: std::time::Duration = std::time::Duration::from_secs(30);

impl Beside {
    /// Starts a command whose output is kept.
    pub fn start(mut command: Command) -> Self {
        use std::io::BufRead;
        let mut child = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("the program runs");
        let mut stdout = child.stdout.take().expect("a pipe");
        let out = std::thread::spawn(move || {
            let mut all = Vec::new();
            let _ = std::io::Read::read_to_end(&mut stdout, &mut all);
            all
        });
        let lines = std::io::BufReader::new(child.stderr.take().expect("a pipe"));
        let (send, err) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            for line in lines.lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    break;
                }
            }
        });
        Self { child: Some(child), out: Some(out), err, said: String::new() }
    }

    /// Starts the program in a folder.
    pub fn run(folder: &Path, words: &[&str]) -> Self {
        Self::start(emberwort(folder, words))
    }

    /// What follows these words in a line of standard error, which is waited for.
    pub fn says(&mut self, words: &str) -> String {
        loop {
            let line = self.err.recv_timeout(PATIENCE);
            let line = line.unwrap_or_else(|_| panic!("nothing says `{words}`:\n{}", self.said));
            self.said += &format!("{line}\n");
            if let Some((_, rest)) = line.split_once(words) {
                return rest.to_owned();
            }
        }
    }

    fn signal(&self, name: &str) {
        let id = self.child.as_ref().expect("it runs").id().to_string();
        assert!(Command::new("kill").args([name, &id]).status().expect("kill runs").success());
    }

    /// Kills it without any warning.
    pub fn kill(mut self) {
        self.signal("-KILL");
        self.child.take().expect("it runs").wait().expect("it is dead");
    }

    /// Ends it as Ctrl-C does.
    pub fn interrupt(self) -> Ran {
        self.signal("-INT");
        self.end()
    }

    /// Waits for its end.
    pub fn end(mut self) -> Ran {
        let status = self.child.take().expect("it runs").wait().expect("it ends");
        let stdout = self.out.take().expect("it is read").join().expect("it was read");
        let mut ran = Ran::from(Output { status, stdout, stderr: Vec::new() });
        ran.err = std::mem::take(&mut self.said);
        for line in self.err.iter() {
            ran.err += &format!("{line}\n");
        }
        ran
    }
}

impl Drop for Beside {
    fn drop(&mut self) {
        if let Some(mut child) = self.child.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// A port number that nobody uses, for TCP or UDP.
pub fn free_port() -> u16 {
    loop {
        let socket = std::net::TcpListener::bind("127.0.0.1:0").expect("a socket");
        let port = socket.local_addr().expect("it has an address").port();
        if std::net::UdpSocket::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// A busy machine answers later than the definition wants.
pub const PATIENTLY: [&str; 2] = ["--within", "10s"];

/// The rows of NDJSON.
pub fn rows(text: &str) -> Vec<serde_json::Value> {
    text.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}"))).collect()
}

/// A device of a trial that waits for a connection, and what to connect to.
pub fn waiting_device(folder: &Path, trial: &str) -> (Beside, String) {
    let port = free_port();
    let mut device = Beside::run(folder, &["device", trial, "--port", &format!("tcp://:{port}")]);
    device.says("waiting for a connection at ");
    (device, format!("tcp://127.0.0.1:{port}"))
}

/// A GateStatus from node 3 with an oil pressure, as it goes over the bus.
pub fn gate_status(folder: &Path, oil: u32, sequence: u64) -> Vec<u8> {
    let (oil, sequence) = (format!("oil={oil}"), sequence.to_string());
    let fields = ["state=open", "opening=50", "upstream=3", &oil, "pump_temp=40", "faults=[]", "latch_force=1"];
    let place = ["--on", "bus485", "--node", "3", "--sequence", &sequence];
    let hex = succeed(folder, &[&["encode", "GateStatus"][..], &fields, &place].concat());
    hex.split_whitespace().map(|byte| u8::from_str_radix(byte, 16).expect("a byte in hex")).collect()
}
