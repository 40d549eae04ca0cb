"""Decodes an archive of captures on the workers of a Spark cluster, each with the tool's own decoder, into one data set.

    spark-submit job.py --link marlock.ember --archive CAPTURES --out DATASET [--tool emberwort]

Archive and data set are folders that all workers see. Each capture is one task. What a task writes goes to a folder of its own attempt first, and
its tables are moved into the data set when they are whole: the same bytes whoever made them, so that a task which runs again, because its worker
died or was slow, changes nothing. The data set is the one that `emberwort decode CAPTURES --as parquet --out DATASET` writes on one machine.

Then, for the question of the day:

    spark.read.parquet("DATASET/message=GateStatus").createOrReplaceTempView("gates")
    spark.sql("select state, count(*), max(oil) from gates where _node = 3 group by state")
"""

import argparse
import os
import shutil
import subprocess
import sys
import uuid


def name_of(capture):
    """The name of a capture's tables, as the tool makes it."""
    return "".join(c if c.isascii() and (c.isalnum() or c in "-_") else "_" for c in os.path.basename(capture))


def decode(capture, options):
    """Decodes one capture; gives its name and how many rows it has."""
    name = name_of(capture)
    state = os.path.join(options["out"], "_emberwort")
    done = os.path.join(state, name + ".done")
    if not os.path.exists(done):
        attempt = os.path.join(options["out"], "_attempts", f"{name}-{uuid.uuid4().hex}")
        os.makedirs(attempt)
        words = [options["tool"], "decode", capture, "--as", "parquet", "--out", attempt, "--link", options["link"]]
        ran = subprocess.run(words, capture_output=True, text=True, check=False)
        # 1 is for captures that are damaged at their end: what came before is decoded.
        if ran.returncode not in (0, 1):
            shutil.rmtree(attempt, ignore_errors=True)
            raise RuntimeError(f"{capture}: {ran.stderr}")
        own_state = os.path.join(attempt, "_emberwort")
        for folder, _, files in os.walk(attempt):
            if folder == own_state:
                continue
            for file in files:
                target = os.path.join(options["out"], os.path.relpath(folder, attempt))
                os.makedirs(target, exist_ok=True)
                os.replace(os.path.join(folder, file), os.path.join(target, file))
        os.makedirs(state, exist_ok=True)
        os.replace(os.path.join(own_state, name + ".done"), done)
        shutil.rmtree(attempt, ignore_errors=True)
    with open(done, encoding="utf-8") as lines:
        return name, sum(int(line.rsplit(" ", 1)[1]) for line in lines.read().splitlines() if line)


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--link", required=True, help="the definition")
    parser.add_argument("--archive", required=True, help="a folder with captures")
    parser.add_argument("--out", required=True, help="the folder of the data set")
    parser.add_argument("--tool", default=shutil.which("emberwort") or "emberwort", help="the program, as workers find it")
    given = parser.parse_args()
    options = {key: os.path.abspath(value) for key, value in vars(given).items()}
    captures = sorted(
        os.path.join(folder, file)
        for folder, _, files in os.walk(options["archive"])
        for file in files
        if file.endswith((".pcapng", ".pcap", ".pcapng.gz", ".pcap.gz", ".pcapng.zst", ".pcap.zst"))
    )
    names = [name_of(capture) for capture in captures]
    twice = {name for name in names if names.count(name) > 1}
    if twice:
        sys.exit(f"several captures would have the same name in the data set: {', '.join(sorted(twice))}")

    from pyspark.sql import SparkSession

    spark = SparkSession.builder.appName("emberwort fleet").getOrCreate()
    os.makedirs(options["out"], exist_ok=True)
    # decode() is small: it travels with its task.
    counts = spark.sparkContext.parallelize(captures, max(len(captures), 1)).map(lambda capture: decode(capture, options)).collect()
    shutil.rmtree(os.path.join(options["out"], "_attempts"), ignore_errors=True)
    print(f"{sum(rows for _, rows in counts)} rows of {len(counts)} captures")
    spark.stop()


if __name__ == "__main__":
    main()
