"""Writes the same frames into captures of every form, with nothing but the standard library and the formats' own documents.

Usage: containers.py FRAMES FOLDER
FRAMES has a line for each frame: nanoseconds since 1970, the bytes in a packet and those in a stream, in hex. Prints a line for each capture: its name, then the options
that say what it does not.
"""

import base64
import csv
import gzip
import io
import ipaddress
import json
import struct
import sys

lines = [line.split() for line in open(sys.argv[1])]
frames = [(int(time), bytes.fromhex(packet)) for time, packet, _ in lines]
stream = [(int(time), bytes.fromhex(text)) for time, _, text in lines]
folder = sys.argv[2]
UDP_PORT, TCP_PORT = 4850, 4001
DEVICE4, HOST4 = ipaddress.ip_address("192.0.2.10").packed, ipaddress.ip_address("192.0.2.1").packed
DEVICE6, HOST6 = ipaddress.ip_address("2001:db8::10").packed, ipaddress.ip_address("2001:db8::1").packed


def save(name, data, options="", times="each"):
    with open(f"{folder}/{name}", "wb") as file:
        file.write(data)
    print(f"{name}\t{times}\t{options}")


# --- the layers of a network -------------------------------------------------------------------------------------------------


def ones_complement(data):
    data += b"\0" * (len(data) % 2)
    total = sum(struct.unpack(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def udp(payload, lite=False, six=False):
    length = 8 + len(payload)
    head = struct.pack(">HHHH", UDP_PORT, UDP_PORT, length, 0)
    source, destination = (DEVICE6, HOST6) if six else (DEVICE4, HOST4)
    pseudo = source + destination + (struct.pack(">II", length, 17) if six else struct.pack(">HH", 136 if lite else 17, length))
    return head[:6] + struct.pack(">H", ones_complement(pseudo + head + payload) or 0xFFFF) + payload


def ipv4(payload, protocol=17, identification=1, offset=0, more=False, source=DEVICE4, destination=HOST4):
    flags = (offset // 8) | (0x2000 if more else 0)
    head = struct.pack(">BBHHHBBH4s4s", 0x45, 0, 20 + len(payload), identification, flags, 64, protocol, 0, source, destination)
    return head[:10] + struct.pack(">H", ones_complement(head)) + head[12:] + payload


def ipv6(payload, next_header=17, extension=b""):
    first = next_header if not extension else extension[0]
    body = extension[1:] + payload
    return struct.pack(">IHBB", 6 << 28, len(body), first, 64) + DEVICE6 + HOST6 + body


def fragments4(payload, identification, size=16):
    parts = [(at, payload[at : at + size]) for at in range(0, len(payload), size)]
    packets = [ipv4(part, 17, identification, at, at + size < len(payload)) for at, part in parts]
    # Any order will do, but the last part gives the time.
    return packets[1:] + packets[:1]


def fragments6(payload, identification, size=16):
    for at in range(0, len(payload), size):
        more = at + size < len(payload)
        # The number of the fragment header stands in front of it; the header itself begins with what follows it.
        header = bytes([44]) + struct.pack(">BBHI", 17, 0, at | more, identification)
        yield ipv6(payload[at : at + size], extension=header)


def tcp(sequence, payload=b"", flags=0x18, acknowledged=0, back=False):
    source, destination = (40000, TCP_PORT) if back else (TCP_PORT, 40000)
    head = struct.pack(">HHIIBBHHH", source, destination, sequence & 0xFFFFFFFF, acknowledged & 0xFFFFFFFF, 5 << 4, flags, 512, 0, 0)
    addresses = (HOST4, DEVICE4) if back else (DEVICE4, HOST4)
    return ipv4(head + payload, 6, source=addresses[0], destination=addresses[1])


def ethernet(packet, tags=()):
    kind = b"\x86\xdd" if packet[0] >> 4 == 6 else b"\x08\x00"
    return b"\x02\0\0\0\0\1" + b"\x02\0\0\0\0\2" + b"".join(b"\x81\x00" + struct.pack(">H", tag) for tag in tags) + kind + packet


def cooked(packet):
    return struct.pack(">HHH8sH", 0, 1, 6, b"\2\0\0\0\0\1\0\0", 0x0800) + packet


def cooked2(packet):
    return struct.pack(">HHIHBB8s", 0x0800, 0, 3, 1, 0, 6, b"\2\0\0\0\0\1\0\0") + packet


# --- the files ---------------------------------------------------------------------------------------------------------------


def pcap(packets, link_type, order="<", nano=False):
    unit = 1 if nano else 1000
    out = [struct.pack(order + "IHHiIII", 0xA1B23C4D if nano else 0xA1B2C3D4, 2, 4, 0, 0, 65535, link_type)]
    for time, data in packets:
        out.append(struct.pack(order + "IIII", time // 10**9, time % 10**9 // unit, len(data), len(data)) + data)
    return b"".join(out)


def block(order, kind, body):
    body += b"\0" * (-len(body) % 4)
    return struct.pack(order + "II", kind, 12 + len(body)) + body + struct.pack(order + "I", 12 + len(body))


def option(order, code, value):
    return struct.pack(order + "HH", code, len(value)) + value + b"\0" * (-len(value) % 4)


def section(packets, link_type, order="<", resolution=9, offset=0, others=True):
    out = [block(order, 0x0A0D0D0A, struct.pack(order + "IHHq", 0x1A2B3C4D, 1, 0, -1) + option(order, 1, b"a comment") + option(order, 0, b""))]
    options = option(order, 2, b"port0") + option(order, 9, bytes([resolution])) + option(order, 14, struct.pack(order + "q", offset))
    # An interface of a kind that nobody reads stands in front.
    out.append(block(order, 1, struct.pack(order + "HHI", 189, 0, 0)))
    out.append(block(order, 1, struct.pack(order + "HHI", link_type, 0, 0) + options + option(order, 0, b"")))
    units = 2 ** (resolution & 0x7F) if resolution & 0x80 else 10**resolution
    for n, (time, data) in enumerate(packets):
        stamp = -(-(time - offset * 10**9) * units // 10**9)
        head = struct.pack(order + "IIIII", 1, stamp >> 32, stamp & 0xFFFFFFFF, len(data), len(data))
        comment = option(order, 1, b"seen") + option(order, 0, b"") if n % 3 == 0 else b""
        out.append(block(order, 6, head + data + b"\0" * (-len(data) % 4) + comment))
        if others and n % 4 == 1:
            # Names, statistics, and a block that nobody knows.
            out.append(block(order, 4, struct.pack(order + "HH", 0, 0)))
            out.append(block(order, 5, struct.pack(order + "III", 1, 0, 0)))
            out.append(block(order, 0x0BAD, b"12345678"))
    return b"".join(out)


datagrams = [(time, ipv4(udp(data))) for time, data in frames]
for order, letter in (("<", "le"), (">", "be")):
    for nano, unit in ((False, "micro"), (True, "nano")):
        save(f"{unit}-{letter}.pcap", pcap(datagrams, 101, order, nano), times="each" if nano else "micro")
    save(f"section-{letter}.pcapng", section(datagrams, 101, order))
half = len(datagrams) // 2
both = section(datagrams[:half], 101, "<") + section(datagrams[half:], 101, ">", others=False)
save("sections.pcapng", both)
save("offset.pcapng", section(datagrams, 101, offset=1_000_000_000))
save("binary-units.pcapng", section(datagrams, 101, resolution=0x80 | 32), times="micro")
save("packed.pcapng.gz", gzip.compress(both[: len(both) // 2]) + gzip.compress(both[len(both) // 2 :]))
save("ethernet.pcap", pcap([(t, ethernet(p)) for t, p in datagrams], 1, nano=True))
save("vlan.pcap", pcap([(t, ethernet(p, (5, 7))) for t, p in datagrams], 1, nano=True))
save("cooked.pcap", pcap([(t, cooked(p)) for t, p in datagrams], 113, nano=True))
save("cooked2.pcap", pcap([(t, cooked2(p)) for t, p in datagrams], 276, nano=True))
save("loopback-le.pcap", pcap([(t, struct.pack("<I", 2) + p) for t, p in datagrams], 0, nano=True))
save("loopback-be.pcap", pcap([(t, struct.pack(">I", 2) + p) for t, p in datagrams], 108, nano=True))
save("ipv6.pcap", pcap([(t, ethernet(ipv6(udp(d, six=True)))) for t, d in frames], 1, nano=True))
save("lite.pcap", pcap([(t, ipv4(udp(d, lite=True), 136)) for t, d in frames], 101, nano=True))
save("fragments4.pcap", pcap([(t, p) for n, (t, d) in enumerate(frames) for p in fragments4(udp(d), n)], 101, nano=True))
save("fragments6.pcap", pcap([(t, p) for n, (t, d) in enumerate(frames) for p in fragments6(udp(d, six=True), n)], 101, nano=True))

# A stream over TCP that begins near the end of the numbers: a segment for each frame, each pair of them in the wrong order, the first
# of four sent again, and one frame in two segments.
start = 0xFFFFFFF0
segments, at = [(frames[0][0], tcp(start - 1, flags=2)), (frames[0][0], tcp(0, flags=0x12, acknowledged=start, back=True))], start
for n, (time, data) in enumerate(stream):
    parts = [data[:7], data[7:]] if n % 3 == 2 else [data]
    for part in parts:
        segments.append((time, tcp(at, part)))
        if n % 4 == 0:
            segments.append((time, tcp(at, part)))
        at += len(part)
segments.append((frames[-1][0], tcp(at, flags=0x11)))
swapped = list(segments)
for n in range(3, len(swapped) - 2, 2):
    swapped[n], swapped[n + 1] = swapped[n + 1], swapped[n]
assign = f"--assign port={TCP_PORT},channel=bus485"
save("stream.pcap", pcap(segments, 101, nano=True), assign, times="packets")
save("stream-out-of-order.pcap", pcap(swapped, 101, nano=True), assign, times="packets")

# Text.
lines = io.StringIO()
for time, data in frames:
    lines.write(f"[{time // 10**9}.{time % 10**9:09}] gw0 RX({UDP_PORT}) {data.hex()}\n")
save("log.txt", lines.getvalue().encode(), "--lines|[{time}] {} RX({port}) {bytes}")
table = io.StringIO()
rows = csv.writer(table, delimiter=";")
rows.writerow(["No.", "When (ms)", "Payload", "Remark"])
for n, (time, data) in enumerate(frames):
    rows.writerow([n, f"{time // 10**6}.{time % 10**6:06}", data.hex(" "), 'said "so";\nand on'])
save("table.csv", table.getvalue().encode(), "--columns|time=When (ms),bytes=Payload|--time-as|ms|--on|house")
for name, text in (("hex", lambda data: data.hex()), ("base64", lambda data: base64.b64encode(data).decode())):
    objects = [json.dumps({"at": time, "up": {"data": text(data), "a/b": UDP_PORT}}) for time, data in frames]
    save(f"{name}.ndjson", "\n".join(objects).encode(), f"--bytes-at|/up/data|--bytes-as|{name}|--time-at|/at|--time-as|ns|--port-at|/up/a~1b")
