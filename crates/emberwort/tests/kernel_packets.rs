//! `checksum packet` on packets that the Linux kernel made: UDP and UDP-Lite over loopback, IPv4 and IPv6, odd and even lengths,
//! whole and partial coverage.

mod common;

use std::process::Command;

use common::run;
use serde_json::Value as Json;

#[test]
fn what_the_kernel_computed_is_right() {
    let folder = tempfile::tempdir().unwrap();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/kernel_packets.py");
    let made = Command::new("python3").arg(script).arg("packets.pcap").current_dir(folder.path()).output();
    let made = match made {
        Ok(made) if made.status.code() == Some(3) => {
            let why = String::from_utf8_lossy(&made.stdout).into_owned();
            assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "no packets of the kernel: {why}");
            println!("skipped: {why}");
            return;
        }
        Ok(made) => made,
        Err(problem) => {
            assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "python3 is missing: {problem}");
            println!("skipped: python3: {problem}");
            return;
        }
    };
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let names = String::from_utf8(made.stdout).unwrap();
    let names: Vec<&str> = names.lines().collect();
    println!("{} packets; {}", names.len(), String::from_utf8_lossy(&made.stderr));
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
