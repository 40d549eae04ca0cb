"""Makes up a CAN database and frames, and decodes them bit by bit with the standard library alone.

Usage: importing.py FOLDER SEED COUNT: writes made-up.dbc (in an old one-byte encoding), frames.pcap (link type 227) and values.ndjson, one
object for each frame: {"message": NAME, "values": {SIGNAL: NUMBER}}.
"""
import json
import random
import struct
import sys

folder, seed, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
dice = random.Random(seed)


def places(signal):
    """The bits of a signal from its most significant one to its least, as (byte, bit)."""
    at, found = signal["start"], []
    if signal["big"]:
        for _ in range(signal["bits"]):
            found.append(at)
            at = at + 15 if at % 8 == 0 else at - 1
    else:
        found = list(range(at + signal["bits"] - 1, at - 1, -1))
    return found


def value_of(signal, data):
    raw = 0
    for place in places(signal):
        raw = raw << 1 | data[place // 8] >> place % 8 & 1
    if signal["form"] == "float":
        return struct.unpack(">f" if signal["bits"] == 32 else ">d", raw.to_bytes(signal["bits"] // 8, "big"))[0]
    if signal["form"] == "signed" and raw >> (signal["bits"] - 1):
        raw -= 1 << signal["bits"]
    return raw


def new_signal(name, free, first):
    """A signal on free bits from a byte on; None if none was found."""
    for _ in range(60):
        form = dice.choice(["unsigned", "unsigned", "signed", "float"])
        bits = 32 if form == "float" else dice.randint(2, 20)
        big = dice.random() < 0.5
        start = dice.choice([7, 7, dice.randrange(8)]) + 8 * dice.randrange(8) if big else 8 * dice.randrange(8) + dice.choice([0, 0, dice.randrange(8)])
        if form == "float":
            start = start // 8 * 8 + (7 if big else 0)
        signal = {"name": name, "start": start, "bits": bits, "big": big, "form": form, "factor": "1", "offset": "0"}
        taken = places(signal)
        if min(taken) < 8 * first or max(taken) >= 64 or not all(place in free for place in taken):
            continue
        if form != "float":
            signal["factor"] = dice.choice(["1", "0.1", "2", "0.0625", "1E-3", "-0.5"])
            signal["offset"] = dice.choice(["0", "0", "-40", "20.5"])
        free.difference_update(taken)
        return signal
    return None


lines, messages, number = ['VERSION ""', "", "NS_ :", "\tCM_", "\tVAL_", "", "BS_:", "", "BU_: One Two", ""], [], 0
extra = []
for n in range(24):
    extended = dice.random() < 0.4
    identifier = 0x18FF0000 + n if extended else 0x100 + n
    message = {"name": f"Message{n}", "id": identifier, "extended": extended, "signals": []}
    free = set(range(64))
    kind = n % 4
    if kind == 0:
        for _ in range(dice.randint(1, 6)):
            message["signals"].append(new_signal(f"Sig{number}", free, 0))
            number += 1
    else:
        # A multiplexor in byte 0; with kind 2 a second one in byte 1, with kind 3 ranges of values.
        top = {"name": f"Sig{number}", "start": 0, "bits": 8, "big": False, "form": "unsigned", "factor": "1", "offset": "0", "mark": "M"}
        number += 1
        message["signals"].append(top)
        free -= set(range(8))
        second = None
        if kind == 2:
            second = {"name": f"Sig{number}", "start": 8, "bits": 4, "big": False, "form": "unsigned", "factor": "1", "offset": "0", "mark": "m1M", "by": top, "values": [(1, 1)]}
            number += 1
            message["signals"].append(second)
        steady = new_signal(f"Sig{number}", free - set(range(8, 24)), 3)
        number += 1
        if steady and dice.random() < 0.7:
            message["signals"].append(steady)
            free -= set(places(steady))
        for value in range(3):
            own = set(free) - set(range(8, 16))
            for _ in range(dice.randint(1, 3)):
                signal = new_signal(f"Sig{number}", own, 2)
                number += 1
                if not signal:
                    continue
                if kind == 3:
                    signal["by"], signal["values"] = top, [(3 * value, 3 * value + 1), (20 + value, 20 + value)]
                    extra.append(f"SG_MUL_VAL_ {identifier | extended << 31} {signal['name']} {top['name']} {3 * value}-{3 * value + 1}, {20 + value}-{20 + value};")
                    signal["mark"] = f"m{3 * value}"
                elif kind == 2 and value == 1:
                    inner = dice.randrange(3)
                    signal["by"], signal["values"] = second, [(inner, inner)]
                    extra.append(f"SG_MUL_VAL_ {identifier | extended << 31} {signal['name']} {second['name']} {inner}-{inner};")
                    signal["mark"] = f"m{inner}"
                else:
                    signal["by"], signal["values"] = top, [(value, value)]
                    signal["mark"] = f"m{value}"
                message["signals"].append(signal)
    message["signals"] = [signal for signal in message["signals"] if signal]
    messages.append(message)
    lines.append(f"BO_ {identifier | extended << 31} {message['name']}: 8 One")
    for signal in message["signals"]:
        mark = f" {signal['mark']}" if "mark" in signal else ""
        sign = "-" if signal["form"] == "signed" or signal["form"] == "float" else "+"
        lines.append(f" SG_ {signal['name']}{mark} : {signal['start']}|{signal['bits']}@{0 if signal['big'] else 1}{sign} ({signal['factor']},{signal['offset']}) [0|0] \"\xb0C\" Two")
        if signal["form"] == "float":
            extra.append(f"SIG_VALTYPE_ {identifier | extended << 31} {signal['name']} : 1;")
    lines.append("")
lines += ['CM_ "made up";'] + extra
with open(f"{folder}/made-up.dbc", "wb") as out:
    out.write(("\r\n".join(lines) + "\r\n").encode("latin-1"))

with open(f"{folder}/frames.pcap", "wb") as capture, open(f"{folder}/values.ndjson", "w") as values:
    capture.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 65535, 227))
    for n in range(count):
        message = dice.choice(messages)
        data = bytearray(dice.randbytes(8))
        for signal in message["signals"]:
            # Values of multiplexors that mean something, mostly, and floats that are numbers.
            if "M" in signal.get("mark", "") and dice.random() < 0.9:
                data[signal["start"] // 8] = data[signal["start"] // 8] & 0xF0 * (signal["bits"] == 4) | dice.randrange(3)
            if message["name"][-1] in "37" and signal.get("mark") == "M":
                data[0] = dice.choice([0, 1, 3, 4, 6, 7, 20, 21, 22, 2, 99])
        found = {}
        for signal in message["signals"]:
            present, at = True, signal
            while "by" in at:
                key = value_of(at["by"], data)
                present = present and any(low <= key <= high for low, high in at["values"])
                at = at["by"]
            if present:
                raw = value_of(signal, data)
                found[signal["name"].lower()] = raw if signal["form"] == "float" else raw * float(signal["factor"]) + float(signal["offset"])
        packet = struct.pack(">IBBBB", message["id"] | message["extended"] << 31, 8, 0, 0, 0) + data
        capture.write(struct.pack("<IIII", n // 1000, n % 1000 * 1000, len(packet), len(packet)) + packet)
        known = {name: value if value == value and abs(value) != float("inf") else None for name, value in found.items()}
        values.write(json.dumps({"message": message["name"], "values": known}) + "\n")
