//! Packets that the Linux kernel made. `checksum packet` on UDP and UDP-Lite over loopback, IPv4 and IPv6, odd and even lengths, whole and
//! partial coverage; `decode` on datagrams and on a TCP connection.

use std::path::Path;
use std::process::Command;

use serde_json::Value as Json;

use crate::common::{emberwort, project_with_recording, run, succeed};

/// What a script that taps the loopback interface prints; `None` if that is not possible here, and need not be.
fn tapped(folder: &Path, script: &str, words: &[&str]) -> Option<String> {
    let script = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests").join(script);
    let made = Command::new("python3").arg(script).args(words).current_dir(folder).output();
    let why = match made {
        Ok(made) if made.status.code() == Some(3) => String::from_utf8_lossy(&made.stdout).into_owned(),
        Ok(made) => {
            println!("{}", String::from_utf8_lossy(&made.stderr));
            assert!(made.status.success());
            return Some(String::from_utf8(made.stdout).unwrap());
        }
        Err(problem) => format!("python3: {problem}"),
    };
    assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "no packets of the kernel: {why}");
    println!("skipped: {why}");
    None
}

#[test]
fn what_the_kernel_computed_is_right() {
    let folder = tempfile::tempdir().unwrap();
    let Some(names) = tapped(folder.path(), "kernel_packets.py", &["packets.pcap"]) else { return };
    let names: Vec<&str> = names.lines().collect();
    println!("{} packets", names.len());
    assert!(!names.is_empty());

    let ran = run(folder.path(), &["checksum", "packet", "packets.pcap", "--as", "ndjson"]);
    let mut judged = 0;
    for line in ran.out.lines() {
        let row: Json = serde_json::from_str(line).unwrap();
        let name = names[row["packet"].as_u64().unwrap() as usize - 1];
        let result = row["result"].as_str().unwrap();
        if row["checksum"] == "IPv4 header" {
            assert_eq!(result, "right", "{name}: {row}");
            continue;
        }
        judged += 1;
        // Whether loopback takes the work over depends on the machine; if it does, the reason is told.
        let fits = result == "right" || name.ends_with("hardware") && result.contains("network hardware");
        assert!(fits, "{name}: {row}");
        let covered = row["covers"][1].as_u64().unwrap() - row["covers"][0].as_u64().unwrap();
        let size: u64 = name.split(' ').nth(1).unwrap().parse().unwrap();
        let wanted = if name.ends_with("partial") { 8 + size / 2 } else { 8 + size };
        assert_eq!(covered, wanted, "{name}: {row}");
    }
    assert_eq!(judged, names.len());
}

#[test]
fn what_went_through_the_kernel_is_decoded() {
    let folder = project_with_recording();
    let folder = folder.path();
    // The stream is that of the bus, all good frames of a recording; the datagrams are those of the house.
    let decode = ["decode", "stormy-night.pcapng", "--from", "device", "--as", "bytes"];
    let stream = emberwort(folder, &decode).output().unwrap().stdout;
    assert!(stream.len() > 10_000);
    std::fs::write(folder.join("stream.bin"), &stream).unwrap();
    let openings: Vec<f64> = (0..=40).map(|step| f64::from(step) * 2.5).collect();
    let status = "state=open upstream=2.5 oil=20 pump_temp=30 faults=[] latch_force=1 --on house --node 3";
    let datagrams = openings.iter().enumerate().map(|(number, opening)| {
        let (opening, number) = (format!("opening={opening}"), number.to_string());
        let mut words = vec!["encode", "GateStatus", &opening, "--sequence", &number];
        words.extend(status.split(' '));
        succeed(folder, &words)
    });
    std::fs::write(folder.join("datagrams.hex"), datagrams.collect::<String>()).unwrap();
    let words = ["kernel.pcap", "4850", "datagrams.hex", "stream.bin"];
    let Some(port) = tapped(folder, "kernel_traffic.py", &words) else { return };
    let rule = format!("port={}, channel=bus485, from=device", port.trim());

    let rows = |words: &[&str]| -> Vec<Json> {
        let out = succeed(folder, &[&["decode", "--as", "ndjson"][..], words].concat());
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    let all = rows(&["kernel.pcap", "--assign", &rule]);
    let of = |channel: &str| all.iter().filter(|row| row["channel"] == channel).cloned().collect::<Vec<_>>();
    let came = of("house").iter().map(|row| row["fields"]["opening"].as_f64().unwrap()).collect::<Vec<_>>();
    assert_eq!(came, openings);
    let without_place = |mut rows: Vec<Json>| {
        for row in &mut rows {
            for key in ["frame", "time", "offset"] {
                row.as_object_mut().unwrap().remove(key);
            }
        }
        rows
    };
    let direct = rows(&["stream.bin", "--on", "bus485", "--from", "device"]);
    assert!(direct.len() > 500);
    assert_eq!(without_place(of("bus485")), without_place(direct));
}
