"""Sends datagrams over loopback, and writes what the kernel made of them as a pcap file.

Usage: kernel_packets.py FILE. Prints a line for each datagram: what it is. Exit code 3, with the reason, if raw sockets are not
allowed here.
"""
import socket
import struct
import sys

LITE = 136
SEND_CSCOV, MORE = 10, socket.MSG_MORE

try:
    tap = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.ntohs(3))
    tap.bind(("lo", 0))
except (PermissionError, OSError) as problem:
    print(f"raw sockets: {problem}")
    sys.exit(3)
tap.settimeout(1)

frames, names = [], []


def own(frame, port):
    """Whether an Ethernet frame is one of ours, by its destination port."""
    at = {b"\x08\x00": 14 + 20, b"\x86\xdd": 14 + 40}.get(frame[12:14])
    return at is not None and frame[at + 2 : at + 4] == struct.pack(">H", port)


def send(name, family, protocol, pieces, coverage=None):
    address = "127.0.0.1" if family == socket.AF_INET else "::1"
    try:
        taker = socket.socket(family, socket.SOCK_DGRAM, protocol)
        taker.bind((address, 0))
        sender = socket.socket(family, socket.SOCK_DGRAM, protocol)
        sender.connect(taker.getsockname())
        if coverage is not None:
            sender.setsockopt(LITE, SEND_CSCOV, coverage)
    except OSError as problem:
        print(f"left out {name}: {problem}", file=sys.stderr)
        return
    for piece in pieces[:-1]:
        sender.send(piece, MORE)
    sender.send(pieces[-1])
    port = taker.getsockname()[1]
    try:
        # The same packet is seen going out and coming in; the next one has another port.
        frame = tap.recv(65536)
        while not own(frame, port):
            frame = tap.recv(65536)
    except (TimeoutError, socket.timeout):
        print(f"left out {name}: it was not seen", file=sys.stderr)
        return
    frames.append(frame)
    names.append(name)


for family, version in [(socket.AF_INET, 4), (socket.AF_INET6, 6)]:
    for size in [0, 1, 2, 7, 100, 1001]:
        data = bytes((size * 31 + n * 7) % 256 for n in range(size))
        # In two pieces the kernel sums in software; in one it leaves the work to the hardware that loopback has not.
        send(f"udp{version} {size} software", family, socket.IPPROTO_UDP, [data[: size // 2], data[size // 2 :]])
        send(f"udp{version} {size} hardware", family, socket.IPPROTO_UDP, [data])
        send(f"lite{version} {size} whole", family, LITE, [data])
        if size >= 2:
            send(f"lite{version} {size} partial", family, LITE, [data], 8 + size // 2)

if not frames:
    print("no packets were seen on the loopback interface")
    sys.exit(3)
with open(sys.argv[1], "wb") as out:
    out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 262144, 1))
    for frame in frames:
        out.write(struct.pack("<IIII", 0, 0, len(frame), len(frame)) + frame)
print("\n".join(names))
