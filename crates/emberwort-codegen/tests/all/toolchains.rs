//! All vectors and streams in C, by other compilers and for other machines: two with the most significant byte first, Cortex-M without and with
//! hardware for division, and a small one of 8 bits, for which it is only compiled.
//!
//! A tool that is not on this machine is left out, unless EMBERWORT_NEED_TOOLCHAINS is set.

use std::path::Path;
use std::process::Command;

use emberwort_codegen::{Parts, c, vectors};
use emberwort_model::model::End;

use crate::common::plans::marlock;
use crate::common::{self, is_there};

/// The sources of the link and of its vectors.
const SOURCES: [&str; 2] = ["marlock.c", "marlock_vectors.c"];

/// A folder with the code, and the line that its program prints.
fn code() -> (tempfile::TempDir, String) {
    let plan = marlock();
    let all = vectors::vectors(&plan, 42);
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &c::generate(&plan, &all, &[]).unwrap());
    (folder, format!("{} vectors, 0 differences\n", all.len()))
}

fn run(folder: &Path, program: &str, arguments: &[&str]) -> String {
    let ran = Command::new(program).current_dir(folder).args(arguments).output().unwrap();
    let said = String::from_utf8_lossy(&ran.stdout).into_owned();
    let error = String::from_utf8_lossy(&ran.stderr);
    assert!(ran.status.success(), "{program} {arguments:?}: {said}{}", error.chars().take(4000).collect::<String>());
    said
}

#[test]
fn compilers_agree_at_each_level() {
    let (folder, wanted) = code();
    for compiler in ["gcc", "clang"].into_iter().filter(|compiler| is_there(compiler)) {
        // Each with another way to compute checksums.
        for (level, crc) in [("-O0", "TABLE"), ("-O2", "BITWISE"), ("-Os", "NIBBLE")] {
            let crc = format!("-DMARLOCK_CRC_{crc}");
            let arguments =
                [&["-std=c99", "-Wall", "-Wextra", "-Werror", level, &crc, "-o", "program"][..], &SOURCES].concat();
            run(folder.path(), compiler, &arguments);
            assert_eq!(run(folder.path(), "./program", &[]), wanted, "{compiler} {level}");
        }
    }
}

/// Machines on which the most significant byte of a number lies first in memory.
#[test]
fn big_endian_machines_agree() {
    let (folder, wanted) = code();
    for (compiler, emulator) in [("s390x-linux-gnu-gcc", "qemu-s390x"), ("powerpc-linux-gnu-gcc", "qemu-ppc")] {
        if is_there(compiler) && is_there(emulator) {
            run(folder.path(), compiler, &[&["-std=c99", "-O1", "-static", "-o", "program"][..], &SOURCES].concat());
            assert_eq!(run(folder.path(), emulator, &["./program"]), wanted, "{compiler}");
        }
    }
}

/// Where a Cortex-M begins: its stack, and its first instruction.
const STARTUP: &str = "extern void _start(void);\n__attribute__((section(\".vectors\"), used)) static const void *const vectors[] = \
                       {(void *)0x00400000, (void *)_start};\n";

#[test]
fn microcontrollers_agree() {
    if !is_there("arm-none-eabi-gcc") || !is_there("qemu-system-arm") {
        return;
    }
    let (folder, wanted) = code();
    std::fs::write(folder.path().join("startup.c"), STARTUP).unwrap();
    for cpu in ["-mcpu=cortex-m0", "-mcpu=cortex-m3"] {
        let usual = ["-std=c99", "-Os", "-mthumb", cpu, "--specs=rdimon.specs", "-Wl,--section-start=.vectors=0"];
        let arguments = [&usual[..], &["-o", "program.elf", "startup.c"], &SOURCES].concat();
        run(folder.path(), "arm-none-eabi-gcc", &arguments);
        let machine = ["-M", "mps2-an385", "-nographic", "-semihosting-config", "enable=on,target=native", "-kernel"];
        assert_eq!(run(folder.path(), "qemu-system-arm", &[&machine[..], &["program.elf"]].concat()), wanted, "{cpu}");
    }
}

/// What docs/generated-c.md says of stack: as the compiler reports it, of all functions of the whole link.
#[test]
fn functions_need_little_stack() {
    let (folder, _) = code();
    for (compiler, machine, most, most_of_lines) in [
        ("arm-none-eabi-gcc", &["-mthumb", "-mcpu=cortex-m0"][..], 48, 96),
        ("avr-gcc", &["-mmcu=atmega328p"][..], 24, 84),
    ] {
        if !is_there(compiler) {
            continue;
        }
        let words = ["-std=c99", "-Os", "-fstack-usage", "-c", "marlock.c", "-o", "marlock.o"];
        run(folder.path(), compiler, &[machine, &words].concat());
        let report = std::fs::read_to_string(folder.path().join("marlock.su")).unwrap();
        assert!(report.lines().count() > 200, "{report}");
        for line in report.lines() {
            let mut columns = line.split('\t');
            let name = columns.next().unwrap().rsplit(':').next().unwrap();
            let bytes: usize = columns.next().unwrap().parse().unwrap();
            // Never a size that only running shows.
            assert!(matches!(columns.next(), Some("static" | "dynamic,bounded")), "{compiler}: {line}");
            let most = if name.contains("_line") { most_of_lines } else { most };
            assert!(bytes <= most, "{compiler}: {line}");
        }
    }
}

/// Bytes of code, of values that are not zero, and of zeros.
fn sizes(folder: &Path, program: &str, object: &str) -> [usize; 3] {
    let said = run(folder, program, &[object]);
    let numbers: Vec<usize> =
        said.lines().nth(1).unwrap().split_whitespace().take(3).map(|n| n.parse().unwrap()).collect();
    [numbers[0], numbers[1], numbers[2]]
}

/// A controller that sends its state and answers commands, on the smallest machines: no more than it was when this was written, and nothing in
/// RAM that stands there before a receiver is made.
#[test]
fn small_machines_have_room() {
    let plan = marlock();
    let parts = Parts {
        role: Some(End::Device),
        messages: ["GateStatus", "MoveGate", "MoveAccepted", "Refused"].map(str::to_owned).to_vec(),
        channels: vec!["bus485".to_owned()],
        ..Parts::default()
    };
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &c::generate_parts(&plan, &[], &[], &parts).unwrap());
    for (compiler, machine, size, most) in [
        ("arm-none-eabi-gcc", "-mcpu=cortex-m0", "arm-none-eabi-size", 1800),
        ("avr-gcc", "-mmcu=atmega328p", "avr-size", 2600),
    ] {
        if is_there(compiler) {
            let thumb = if compiler.starts_with("arm") { "-mthumb" } else { "-Wall" };
            let usual = [
                "-std=c99",
                "-Os",
                thumb,
                machine,
                "-Wall",
                "-Wextra",
                "-Werror",
                "-c",
                "marlock.c",
                "-o",
                "marlock.o",
            ];
            run(folder.path(), compiler, &usual);
            let [code, values, zeros] = sizes(folder.path(), size, "marlock.o");
            assert!(code <= most, "{machine}: {code} bytes of code");
            assert_eq!((values, zeros), (0, 0), "{machine}");
        }
    }
}

/// What stands beside generated code when it is measured compiles with it, as `scripts/generated-c` has it: that runs seldom.
#[test]
fn the_programs_that_measure_generated_code_compile() {
    let benches = Path::new(env!("CARGO_MANIFEST_DIR")).join("benches");
    let plan = marlock();
    let beside = |folder: &Path, from: &str| {
        for file in std::fs::read_dir(benches.join(from)).unwrap().map(|entry| entry.unwrap().path()) {
            if file.is_file() {
                std::fs::copy(&file, folder.join(file.file_name().unwrap())).unwrap();
            }
        }
    };
    let checked = ["-std=c99", "-fsyntax-only"];
    if let Some(compiler) = common::compiler() {
        let whole = tempfile::tempdir().unwrap();
        common::write(whole.path(), &c::generate(&plan, &[], &[]).unwrap());
        beside(whole.path(), "");
        run(whole.path(), compiler, &[&checked[..], &["measure.c", "by_hand.c"]].concat());
        let device = tempfile::tempdir().unwrap();
        let names = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect();
        let parts = Parts {
            role: Some(End::Device),
            channels: names(&["bus485"]),
            messages: names(&["GateStatus", "MoveGate", "MoveAccepted", "Refused"]),
            ..Parts::default()
        };
        common::write(device.path(), &c::generate_parts(&plan, &[], &[], &parts).unwrap());
        beside(device.path(), "firmware");
        run(device.path(), compiler, &[&checked[..], &["by_hand.c", "generated.c", "board.c"]].concat());
        run(device.path(), compiler, &[&checked[..], &["-DMARLOCK_LOCAL", "generated.c"]].concat());
    }
    let folder = tempfile::tempdir().unwrap();
    common::write(folder.path(), &emberwort_codegen::rust::generate(&plan, &vectors::vectors(&plan, 1)).unwrap());
    beside(folder.path(), "rust");
    run(folder.path(), common::rustc(), &["--edition", "2021", "--emit", "metadata", "measure.rs"]);
}
