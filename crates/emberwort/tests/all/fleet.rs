//! The job of `examples/fleet` on a real cluster of two workers, one of which is killed in the middle, against one machine.
#![cfg(feature = "parquet")]

use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{self, project, run};

/// Processes that end with the test.
struct Cluster(Vec<Child>);

impl Drop for Cluster {
    fn drop(&mut self) {
        for child in &mut self.0 {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

fn tables(folder: &Path, below: &Path, found: &mut Vec<(PathBuf, Vec<u8>)>) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_string_lossy().into_owned();
        if path.is_dir() {
            tables(&path, below, found);
        } else if !name.starts_with('.') && !name.ends_with(".started") {
            found.push((path.strip_prefix(below).unwrap().to_owned(), std::fs::read(&path).unwrap()));
        }
    }
}

#[test]
#[ignore = "half a minute, and needs pyspark and a JDK"]
fn the_data_set_of_a_cluster_is_that_of_one_machine() {
    let home = Command::new("python3")
        .args(["-c", "import pyspark, os; print(os.path.dirname(pyspark.__file__))"])
        .output()
        .unwrap();
    if !home.status.success() {
        assert!(std::env::var_os("EMBERWORT_NEED_TOOLCHAINS").is_none(), "pyspark is needed (see CONTRIBUTING.md)");
        eprintln!("skipped: there is no pyspark");
        return;
    }
    let home = String::from_utf8(home.stdout).unwrap().trim().to_owned();
    let folder = project();
    let archive = folder.path().join("archive");
    std::fs::create_dir(&archive).unwrap();
    for seed in 1..=24 {
        let seed = seed.to_string();
        let name = format!("archive/night{seed}.pcapng");
        run(folder.path(), &["trial", "trials/stormy-night.toml", "--seed", &seed, "--record", &name]);
    }
    let mut words = vec!["decode".to_owned()];
    words.extend((1..=24).map(|seed| format!("archive/night{seed}.pcapng")));
    words.extend(["--as", "parquet", "--out", "one"].map(str::to_owned));
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    assert_eq!(run(folder.path(), &words).code, 0);

    let port = common::free_port();
    let class = |words: &[&str]| {
        let log = std::fs::File::options().create(true).append(true).open(folder.path().join("spark.log")).unwrap();
        let mut command = Command::new(format!("{home}/bin/spark-class"));
        command.args(words).env("SPARK_HOME", &home).env("SPARK_WORKER_DIR", folder.path().join("work"));
        command.env("SPARK_LOCAL_IP", "127.0.0.1").env("SPARK_WORKER_MEMORY", "1g");
        command.stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log).spawn().expect("Spark starts")
    };
    let master = format!("spark://127.0.0.1:{port}");
    let mut cluster = Cluster(vec![class(&[
        "org.apache.spark.deploy.master.Master",
        "--host",
        "127.0.0.1",
        "--port",
        &port.to_string(),
        "--webui-port",
        "0",
    ])]);
    std::thread::sleep(Duration::from_secs(5));
    for _ in 0..2 {
        cluster.0.push(class(&[
            "org.apache.spark.deploy.worker.Worker",
            &master,
            "--cores",
            "1",
            "--host",
            "127.0.0.1",
            "--webui-port",
            "0",
        ]));
    }
    let said = || std::fs::read_to_string(folder.path().join("spark.log")).unwrap_or_default();
    let until = |what: &str, holds: &dyn Fn() -> bool| {
        let start = Instant::now();
        while !holds() {
            assert!(start.elapsed() < Duration::from_secs(120), "{what} did not happen:\n{}", said());
            std::thread::sleep(Duration::from_millis(50));
        }
    };
    until("two workers", &|| said().matches("Registering worker").count() >= 2);

    // The program, slowed down, so that there is a middle.
    let slow = folder.path().join("slow-emberwort");
    std::fs::write(&slow, format!("#!/bin/sh\nsleep 0.4\nexec {} \"$@\"\n", env!("CARGO_BIN_EXE_emberwort"))).unwrap();
    let mut mode = std::fs::metadata(&slow).unwrap().permissions();
    std::os::unix::fs::PermissionsExt::set_mode(&mut mode, 0o755);
    std::fs::set_permissions(&slow, mode).unwrap();
    let job = concat!(env!("CARGO_MANIFEST_DIR"), "/../../examples/fleet/job.py");
    let log = std::fs::File::create(folder.path().join("job.log")).unwrap();
    let mut submitted = Command::new(format!("{home}/bin/spark-submit"))
        .args(["--master", &master, "--conf", "spark.executor.memory=512m", job])
        .args(["--link", "marlock.ember", "--archive", "archive", "--out", "cluster", "--tool"])
        .arg(&slow)
        .current_dir(folder.path())
        .env("SPARK_HOME", &home)
        .env("SPARK_LOCAL_IP", "127.0.0.1")
        .env("PYSPARK_PYTHON", "python3")
        .stdin(Stdio::null())
        .stdout(log.try_clone().unwrap())
        .stderr(log)
        .spawn()
        .expect("the job starts");
    let done = || std::fs::read_dir(folder.path().join("cluster/_emberwort")).map_or(0, Iterator::count);
    let job_said = || std::fs::read_to_string(folder.path().join("job.log")).unwrap_or_default();
    until("a third of the work", &|| done() >= 8 || job_said().contains("Exception"));
    let before = done();
    let mut worker = cluster.0.pop().unwrap();
    worker.kill().unwrap();
    worker.wait().unwrap();
    assert!(before < 24, "the job was over before the worker was killed");
    let status = submitted.wait().unwrap();
    assert!(status.success(), "{}", job_said());
    assert!(job_said().contains("rows of 24 captures"), "{}", job_said());

    let (mut one, mut of_cluster) = (Vec::new(), Vec::new());
    tables(&folder.path().join("one"), &folder.path().join("one"), &mut one);
    tables(&folder.path().join("cluster"), &folder.path().join("cluster"), &mut of_cluster);
    one.sort();
    of_cluster.sort();
    assert!(one.len() > 24 * 8);
    let names = |all: &[(PathBuf, Vec<u8>)]| all.iter().map(|(path, _)| path.clone()).collect::<Vec<_>>();
    assert_eq!(names(&one), names(&of_cluster));
    assert!(one == of_cluster, "the same tables hold other bytes");
}
