"""Writes waveforms of lines, bit by bit, with the standard library alone: what an instrument would have recorded.

Usage: waveforms.py FOLDER < JSON. The JSON is a list of objects:
  {"name": "a", "line": "uart", "baud": 115200, "data_bits": 8, "parity": "N", "stop_bits": 1, "inverted": false,
   "device": [[SECONDS, "hex"], ...], "host": [...], "rate": 12e6, "form": "vcd" | "u8" | "f32" | "csv", "begins": 0.0, "faults": {...}}
  {"name": "b", "line": "spi", "hertz": 2e6, "mode": 0, "bits": 8, "lsb_first": false, "select": 0,
   "frames": [[SECONDS, "words of the device in hex", "words of the host"], ...], ...}
Each is written as NAME.vcd, NAME.u8, NAME.f32 or NAME.csv.
"""
import json
import random
import struct
import sys

folder = sys.argv[1]


def uart_edges(bursts, case):
    """Changes of one wire: the moment in seconds, and the level."""
    bit = 1 / case["baud"]
    edges, faults = [(0.0, 1)], case.get("faults", {})
    for burst, (start, data) in enumerate(bursts):
        at = start
        for number, byte in enumerate(bytes.fromhex(data)):
            bits = [byte >> n & 1 for n in range(case["data_bits"])]
            if case["parity"] != "N":
                bits.append((sum(bits) + (case["parity"] == "O")) % 2)
                if [burst, number] == faults.get("parity"):
                    bits[-1] ^= 1
            stop = [0 if [burst, number] == faults.get("stop") else 1] * case["stop_bits"]
            for level in [0] + bits + stop:
                edges.append((at, level))
                at += bit
            if stop[-1] == 0:
                edges.append((at, 1))
                at += bit
            # A sender may leave a little time.
            at += faults.get("between", 0) * bit
    if "glitch" in faults:
        edges += [(faults["glitch"], 0), (faults["glitch"] + bit / 5, 1)]
        edges.sort(key=lambda edge: edge[0])
    return edges


def spi_edges(case):
    """Changes of clock, select, device and host. Words are given as numbers in hex."""
    half, (rest, second) = 0.5 / case["hertz"], (case["mode"] >> 1, case["mode"] & 1)
    select_level = case.get("select", 0)
    clock, select, device, host = [(0.0, rest)], [(0.0, 1 - (select_level or 0))], [(0.0, 0)], [(0.0, 0)]
    for start, from_device, from_host in case["frames"]:
        select.append((start, select_level))
        at = start + 2 * half
        for one, other in zip(from_device.split(), from_host.split()):
            order = range(case["bits"]) if case.get("lsb_first") else range(case["bits"] - 1, -1, -1)
            for n in order:
                # In modes 1 and 3 data change with the first edge of a pulse, else half a pulse before it.
                change = at + half / 8 if second else at - half + half / 8
                device.append((change, int(one, 16) >> n & 1))
                host.append((change, int(other, 16) >> n & 1))
                clock += [(at, 1 - rest), (at + half, rest)]
                at += 2 * half
        select.append((at + half, 1 - (select_level or 0)))
    return clock, select, device, host


def as_vcd(wires, end, names, rate):
    """A value change dump, in nanoseconds, or as samples at a rate would be exported."""
    codes = ["!", '"', "#", "ab"]
    lines = ["$date today $end", "$version a made-up instrument $end", "$timescale 1 ns $end", "$scope module probe $end"]
    for code, name in zip(codes, names):
        lines.append(f"$var wire 1 {code} {name} $end")
    lines += ["$upscope $end", "$enddefinitions $end", "#0", "$dumpvars"]
    changes = sorted((time, n, level) for n, wire in enumerate(wires) for time, level in wire)
    levels, last = [None] * len(wires), 0
    for time, n, level in changes:
        if levels[n] == level:
            continue
        levels[n] = level
        stamp = round(time * 1e9) if not rate else round(-(-time * rate // 1) / rate * 1e9)
        if stamp != last:
            lines.append(f"#{stamp}")
            last = stamp
        lines.append(f"{level}{codes[n]}")
    lines.append(f"#{round(end * 1e9)}")
    return "\n".join(lines).encode() + b"\n"


def sampled(wires, end, rate, begins):
    """The levels of all wires at each sample."""
    at = [0] * len(wires)
    for number in range(int((end - begins) * rate)):
        time = begins + number / rate
        for n, wire in enumerate(wires):
            while at[n] + 1 < len(wire) and wire[at[n] + 1][0] <= time:
                at[n] += 1
        yield [wire[at[n]][1] for n, wire in enumerate(wires)]


for case in json.load(sys.stdin):
    if case["line"] == "uart":
        wires = [uart_edges(case[end], case) for end in ("device", "host") if end in case]
        names = ["tx", "rx"]
    else:
        wires, names = spi_edges(case), ["sck", "cs", "miso", "mosi"]
    if case.get("inverted"):
        wires = [[(time, 1 - level) for time, level in wire] for wire in wires]
    end = max(wire[-1][0] for wire in wires) + case.get("after", 2e-3)
    form, begins = case["form"], case.get("begins", 0.0)
    if form == "vcd":
        data = as_vcd(wires, end, names, case.get("rate"))
    elif form == "csv":
        noise, lines = random.Random(2), ["Model;made-up scope", "Points;many", "", "Time [us];CH1;CH2;REF"]
        digits = case.get("digits", 4)
        for number, levels in enumerate(sampled(wires, end, case["rate"], begins)):
            volts = [0.2 + 3.1 * level + noise.gauss(0, 0.05) for level in levels] + [0.1]
            time = f"{number * 1e6 / case['rate'] - 50:g}"
            lines.append(";".join([time] + [f"{value:.{digits}f}" for value in volts]).replace(".", ","))
        data = "\r\n".join(lines).encode()
    elif form == "u8":
        data = bytes(sum(level << n for n, level in enumerate(levels)) for levels in sampled(wires, end, case["rate"], begins))
    else:
        noise = random.Random(1)
        volts = (3.3 * levels[0] + noise.gauss(0, 0.1) for levels in sampled(wires, end, case["rate"], begins))
        data = b"".join(struct.pack("<f", volt) for volt in volts)
    with open(f"{folder}/{case['name']}.{form}", "wb") as out:
        out.write(data)
