"""Writes waveforms of buses, bit by bit, from the published standards and with the standard library alone.

Usage: waveforms_buses.py FOLDER < JSON, a list of objects:
  {"name": "a", "line": "can", "bitrate": 250e3, "data_bitrate": 1e6 or null, "sample": 0.8, "ends": SECONDS,
   "frames": [[SECONDS, IDENTIFIER, EXTENDED, "hex", {"crc": 1, "ack": 0, "stuff": 1, "remote": 1}], ...], "rate": 12e6, "pair": false}
  {"name": "b", "line": "i2c", "hertz": 400e3, "transfers": [[SECONDS, ADDRESS, READS, "hex", {"silent": 1, "refused": 1}], ...]}
  {"name": "c", "line": "manchester", "bitrate": 10e3, "one_rises": true, "preamble": 12, "frames": [[SECONDS, "hex"], ...]}
  {"name": "e", "line": "usb", "full": false, "transactions": [[SECONDS, ADDRESS, ENDPOINT, "in" or "out" or "setup", "hex" or null,
   "ack" or "nak" or "stall" or null, {"toggle": 1, "crc5": 1, "crc16": 1, "pid": 1, "stuff": 1, "skew": SECONDS}], ...], "frames": SECONDS}
  {"name": "d", "line": "lamps", "frames": [[SECONDS, "hex"], ...]}
Each is written as NAME.vcd, or with "form": "csv" or "u8" as that.
"""
import json
import sys

folder = sys.argv[1]


class Wire:
    """Changes of one wire: the moment in seconds, and the level."""

    def __init__(self, level):
        self.edges = [(0.0, level)]

    def set(self, at, level):
        if self.edges[-1][1] != level:
            self.edges.append((at, level))


def number(value, count):
    return [value >> n & 1 for n in range(count - 1, -1, -1)]


def crc(bits, width, polynomial, value):
    """A CRC bit by bit, most significant bit first (ISO 11898-1, 10.4.2.6, as pseudo code there)."""
    for bit in bits:
        top = value >> (width - 1)
        value = value << 1 & ((1 << width) - 1)
        if top != bit:
            value ^= polynomial
    return value


def can_bits(identifier, extended, data, is_fd, faults):
    """The bits of a frame as pairs (bit, region): "slow", "switch" where the rate goes up, "fast", "back" where it goes down."""
    if extended:
        head = [0] + number(identifier >> 18, 11) + [1, 1] + number(identifier & 0x3FFFF, 18)
    else:
        head = [0] + number(identifier, 11)
    remote = 1 if faults.get("remote") else 0
    if not is_fd:
        head += ([remote, 0, 0] if extended else [remote, 0, 0])
        body = head + number(len(data), 4)
        if not remote:
            for byte in data:
                body += number(byte, 8)
        body += number(crc(body, 15, 0x4599, 0) ^ (1 if faults.get("crc") else 0), 15)
        sent, run = [], 0
        for n, bit in enumerate(body):
            sent.append((bit, "slow"))
            run = run + 1 if len(sent) > 1 and sent[-2][0] == bit else 1
            if run == 5:
                if faults.get("stuff") and n > 20:
                    # Six equal bits: receivers answer with an error flag, its echo, and the delimiter.
                    return sent + [(bit, "slow")] + [(0, "slow")] * 12 + [(1, "slow")] * 11
                sent.append((1 - bit, "slow"))
                run = 1
        sent.append((1, "slow"))
    else:
        sizes = [0, 1, 2, 3, 4, 5, 6, 7, 8, 12, 16, 20, 24, 32, 48, 64]
        head += [0] if extended else [0, 0]
        slow = head + [1, 0]
        body = slow + [1] + [0] + number(sizes.index(len(data)), 4)
        for byte in data:
            body += number(byte, 8)
        sent, run, stuffed = [], 0, 0
        for n, bit in enumerate(body):
            region = "slow" if n < len(slow) else "switch" if n == len(slow) else "fast"
            sent.append((bit, region))
            run = run + 1 if len(sent) > 1 and sent[-2][0] == bit else 1
            if run == 5 and n + 1 < len(body):
                sent.append((1 - bit, "slow" if n < len(slow) else "fast"))
                run, stuffed = 1, stuffed + 1
        gray = (stuffed % 8) ^ (stuffed % 8 >> 1)
        count = number(gray, 3) + [bin(gray).count("1") % 2]
        width, polynomial = (17, 0x1685B) if len(data) <= 16 else (21, 0x102899)
        check = crc([bit for bit, _ in sent] + count, width, polynomial, 1 << (width - 1)) ^ (1 if faults.get("crc") else 0)
        for n, bit in enumerate(count + number(check, width)):
            if n % 4 == 0:
                sent.append((1 - sent[-1][0], "fast"))
            sent.append((bit, "fast"))
        sent.append((1, "back"))
    sent.append((1 if faults.get("ack") == 0 else 0, "slow"))
    return sent + [(1, "slow")] * 8


def can(case):
    bus, slow = Wire(1), 1 / case["bitrate"]
    fast, point = 1 / (case.get("data_bitrate") or case["bitrate"]), case.get("sample", 0.8)
    lengths = {"slow": slow, "fast": fast, "switch": point * slow + (1 - point) * fast, "back": point * fast + (1 - point) * slow}
    for at, identifier, extended, data, faults in case["frames"]:
        bits = can_bits(identifier, extended, bytes.fromhex(data), bool(case.get("data_bitrate")), faults)
        for bit, region in bits:
            bus.set(at, bit)
            at += lengths[region]
        bus.set(at, 1)
    if case.get("pair"):
        return [[(at, 3.5 - level) for at, level in bus.edges], [(at, 1.5 + level) for at, level in bus.edges]], ["CANH", "CANL"]
    return [bus.edges], ["rx"]


def i2c(case):
    clock, data, quarter = Wire(1), Wire(1), 0.25 / case["hertz"]

    def bit(at, level):
        data.set(at + quarter / 2, level)
        clock.set(at + quarter, 1)
        clock.set(at + 3 * quarter, 0)
        return at + 4 * quarter

    def octet(at, value, taken):
        for one in number(value, 8) + [0 if taken else 1]:
            at = bit(at, one)
        return at

    for at, address, reads, content, faults in case["transfers"]:
        data.set(at, 0)
        clock.set(at + quarter, 0)
        at += quarter * 1.5
        taken = not faults.get("silent")
        if address > 0x7F:
            at = octet(at, 0xF0 | address >> 7 & 6, taken)
            at = octet(at, address & 0xFF, taken)
            if reads:
                data.set(at + quarter / 2, 1)
                clock.set(at + quarter, 1)
                data.set(at + 2 * quarter, 0)
                clock.set(at + 3 * quarter, 0)
                at = octet(at + 4 * quarter, 0xF1 | address >> 7 & 6, taken)
        else:
            at = octet(at, address << 1 | reads, taken)
        content = bytes.fromhex(content) if taken else b""
        for n, byte in enumerate(content):
            last = n + 1 == len(content)
            at = octet(at, byte, not (last and (reads or faults.get("refused"))))
        data.set(at + quarter / 2, 0)
        clock.set(at + quarter, 1)
        data.set(at + 2 * quarter, 1)
    return [clock.edges, data.edges], ["scl", "sda"]


def shifted(bits, polynomial, width):
    """The checksums of USB 2.0, 8.3.5: a shift register from which all bits go out turned over, the highest first."""
    value = (1 << width) - 1
    for bit in bits:
        top = value >> (width - 1)
        value = value << 1 & ((1 << width) - 1)
        if top != bit:
            value ^= polynomial
    return [1 - bit for bit in number(value, width)]


def usb(case):
    full = case["full"]
    time = 1 / 12e6 if full else 1 / 1.5e6
    plus, minus = Wire(1 if full else 0), Wire(0 if full else 1)
    kinds = {"out": 1, "in": 9, "sof": 5, "setup": 13, "data0": 3, "data1": 11, "ack": 2, "nak": 10, "stall": 14}

    def low_first(value, count):
        return [value >> n & 1 for n in range(count)]

    def packet(at, kind, content, faults):
        first = kinds[kind] | (~kinds[kind] & 15) << 4
        bits = low_first(first ^ (0x80 if faults.get("pid") else 0), 8) + content
        line, skew = 1, faults.get("skew", 0)
        run = 0
        for n, bit in enumerate([0] * 7 + [1] + bits):
            for again in range(2 if run == 6 else 1):
                # The bit put in behind six ones comes first.
                one = bit if again or run != 6 else (1 if faults.get("stuff") else 0)
                if not one:
                    line = 1 - line
                    plus.set(at, line if full else 1 - line)
                    minus.set(at + skew, 1 - line if full else line)
                run = run + 1 if one else 0
                at += time
        if run == 6:
            line = 1 - line
            plus.set(at, line if full else 1 - line)
            minus.set(at + skew, 1 - line if full else line)
            at += time
        plus.set(at, 0)
        minus.set(at + skew, 0)
        at += 2 * time
        (plus if full else minus).set(at, 1)
        return at + 3 * time

    def token(at, kind, value, faults):
        bits = low_first(value, 11)
        check = shifted(bits, 0x05, 5)
        if faults.get("crc5"):
            check[2] ^= 1
        return packet(at, kind, bits + check, {"skew": faults.get("skew", 0)})

    todo = [(at, "transaction", rest) for at, *rest in case["transactions"]]
    for n in range(int(case.get("frames", 0) * 1000)):
        todo.append((n / 1000 + 0.0001, "sof", n))
    for at, what, rest in sorted(todo, key=lambda one: one[0]):
        if what == "sof":
            if full:
                token(at, "sof", rest & 0x7FF, {})
            else:
                # At low speed only the end of a packet keeps devices awake.
                plus.set(at, 0)
                minus.set(at, 0)
                minus.set(at + 2 * time, 1)
            continue
        address, endpoint, direction, data, answer, faults = rest
        at = token(at, direction, address | endpoint << 7, faults)
        if data is not None:
            bits = [bit for byte in bytes.fromhex(data) for bit in low_first(byte, 8)]
            check = shifted(bits, 0x8005, 16)
            if faults.get("crc16"):
                check[3] ^= 1
            at = packet(at, "data%d" % faults.get("toggle", 0), bits + check, faults)
        if answer:
            at = packet(at, answer, [], {"skew": faults.get("skew", 0)})
    return [plus.edges, minus.edges], ["dp", "dm"]


def manchester(case):
    line, half = Wire(0), 0.5 / case["bitrate"]
    for at, content in case["frames"]:
        bits = [1] * case["preamble"]
        for byte in bytes.fromhex(content):
            bits += [0] + number(byte, 8)
        for bit in bits + [1]:
            rises = bit == (1 if case["one_rises"] else 0)
            line.set(at, 0 if rises else 1)
            line.set(at + half, 1 if rises else 0)
            at += 2 * half
        line.set(at, 0)
    return [line.edges], ["line"]


def lamps(case):
    """Signal lamps: each bit is two equal halves, 58 us for a 1 and 110 us for a 0; 14 ones, then each byte behind a 0, a 1 at the end."""
    line = Wire(0)
    for at, content in case["frames"]:
        bits = [1] * 14
        for byte in bytes.fromhex(content):
            bits += [0] + number(byte, 8)
        level = 0
        for bit in bits + [1]:
            for _ in range(2):
                level = 1 - level
                line.set(at, level)
                at += 58e-6 if bit else 110e-6
        line.set(at, 1)
        line.set(at + 58e-6, 0)
    return [line.edges], ["lamps"]


for case in json.load(sys.stdin):
    wires, names = {"can": can, "i2c": i2c, "manchester": manchester, "lamps": lamps, "usb": usb}[case["line"]](case)
    end = max(wire[-1][0] for wire in wires) + case.get("after", 5e-3)
    form, rate = case.get("form", "vcd"), case.get("rate")
    if form == "vcd":
        kind = "real 64" if case.get("pair") else "wire 1"
        lines = ["$timescale 1 ns $end", "$scope module probe $end"]
        lines += [f"$var {kind} {chr(33 + n)} {name} $end" for n, name in enumerate(names)]
        lines += ["$upscope $end", "$enddefinitions $end"]
        changes = sorted((at, n, level) for n, wire in enumerate(wires) for at, level in wire)
        for at, n, level in changes:
            stamp = at if not rate else -(-at * rate // 1) / rate
            lines.append(f"#{round(stamp * 1e9)}")
            lines.append(f"r{level} {chr(33 + n)}" if case.get("pair") else f"{level}{chr(33 + n)}")
        lines.append(f"#{round(end * 1e9)}")
        data = ("\n".join(lines) + "\n").encode()
    else:
        at, samples = [0] * len(wires), []
        for count in range(int(end * rate)):
            for n, wire in enumerate(wires):
                while at[n] + 1 < len(wire) and wire[at[n] + 1][0] <= count / rate:
                    at[n] += 1
            samples.append([wire[at[n]][1] for n, wire in enumerate(wires)])
        if form == "u8":
            data = bytes(sum(level << n for n, level in enumerate(levels)) for levels in samples)
        else:
            rows = [f"{n / rate:.9f}," + ",".join(f"{level:.3f}" for level in levels) for n, levels in enumerate(samples)]
            data = ("Time (s)," + ",".join(names) + "\n" + "\n".join(rows) + "\n").encode()
    with open(f"{folder}/{case['name']}.{form}", "wb") as out:
        out.write(data)
