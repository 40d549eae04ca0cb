"""A controller of a gate, or the keeper's house, with nothing of ours: frames are made and read by hand from docs/wire.md.

bench_peer.py device AT [HOW]   answers MoveGate and WhoAreYou; HOW: well, refuse, late, damaged, silent, other_node
bench_peer.py host AT COUNT     asks COUNT times and prints what was answered, a JSON object a line

AT is the path of a terminal, tcp:PORT (connects), tcp_at:PORT (waits), udp:PORT (sends there) or udp_at:PORT.
"""
import json
import os
import select
import socket
import struct
import sys
import termios
import time
import tty

NODE = 3


def crc(data):
    """CRC-16/IBM-3740, bit by bit."""
    register = 0xFFFF
    for byte in data:
        register ^= byte << 8
        for _ in range(8):
            register = (register << 1 ^ 0x1021 if register & 0x8000 else register << 1) & 0xFFFF
    return register


class Serial:
    """Frames of the bus, on anything that carries bytes."""

    def __init__(self, descriptor):
        self.descriptor = descriptor
        self.kept = b""

    def send(self, node, kind, counter, body, damage=0):
        inner = bytes([node, kind, counter & 0xFF, len(body)]) + body
        os.write(self.descriptor, b"\xc6\x39" + inner + struct.pack("<H", crc(inner) ^ damage))

    def frames(self, seconds):
        """All good frames that come in so many seconds."""
        end = time.monotonic() + seconds
        while (left := end - time.monotonic()) > 0:
            if not select.select([self.descriptor], [], [], left)[0]:
                return
            try:
                came = os.read(self.descriptor, 4096)
            except OSError:
                return
            if not came:
                return
            self.kept += came
            while (at := self.kept.find(b"\xc6\x39")) >= 0 and len(self.kept) >= at + 6:
                size = self.kept[at + 5]
                if len(self.kept) < at + 8 + size:
                    break
                inner, check = self.kept[at + 2 : at + 6 + size], self.kept[at + 6 + size : at + 8 + size]
                if struct.unpack("<H", check)[0] != crc(inner):
                    self.kept = self.kept[at + 1 :]
                    continue
                self.kept = self.kept[at + 8 + size :]
                yield inner[0], inner[1], inner[2], inner[4:]


class Packets:
    """Frames of the control network, one in each datagram."""

    def __init__(self, socket, to):
        self.socket = socket
        self.to = to

    def send(self, node, kind, counter, body, damage=0):
        self.socket.sendto(struct.pack("<BBBBI", kind, node, 4, 0, counter) + body[: len(body) - damage], self.to)

    def frames(self, seconds):
        end = time.monotonic() + seconds
        while (left := end - time.monotonic()) > 0:
            self.socket.settimeout(left)
            try:
                packet, self.to = self.socket.recvfrom(65536)
            except TimeoutError:
                return
            kind, node, _, _, counter = struct.unpack("<BBBBI", packet[:8])
            yield node, kind, counter, packet[8:]


def open_at(at):
    kind, _, port = at.partition(":")
    if kind in ("udp", "udp_at"):
        made = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        if kind == "udp_at":
            made.bind(("127.0.0.1", int(port)))
        return Packets(made, ("127.0.0.1", int(port)))
    if kind == "tcp":
        return Serial(socket.create_connection(("127.0.0.1", int(port))).detach())
    if kind == "tcp_at":
        waiting = socket.create_server(("127.0.0.1", int(port)))
        say("ready")
        return Serial(waiting.accept()[0].detach())
    terminal = os.open(at, os.O_RDWR | os.O_NOCTTY)
    tty.setraw(terminal, termios.TCSANOW)
    return Serial(terminal)


def say(text):
    print(text, file=sys.stderr, flush=True)


def device(port, how):
    counter = 0
    for node, kind, _, body in port.frames(60):
        if node != NODE or how == "silent":
            continue
        answer = {0x40: (0x41, body[:1] + struct.pack("<H", 1200)), 0x30: (0x31, b"\x4d\x41\x52\x00\x00\x07" + b"\xe8\x03\x00" + b"\x04")}.get(kind)
        if answer is None:
            continue
        if how == "refuse":
            answer = (0x4F, bytes([kind, 0x01]))
        if how == "late":
            time.sleep(0.3)
        from_node = 1 if how == "other_node" else NODE
        port.send(from_node, answer[0], counter, answer[1], damage=1 if how == "damaged" else 0)
        counter += 1


def host(port, count):
    for counter in range(count):
        began = time.monotonic()
        port.send(NODE, 0x40, counter, bytes([counter % 200, 0x12]))
        for node, kind, _, body in port.frames(2):
            if kind in (0x41, 0x4F):
                print(json.dumps({"node": node, "kind": kind, "body": body.hex(), "after": time.monotonic() - began}), flush=True)
                break
        else:
            print(json.dumps({"kind": None}), flush=True)


if __name__ == "__main__":
    role, at = sys.argv[1:3]
    port = open_at(at)
    say("ready")
    if role == "device":
        device(port, sys.argv[3] if len(sys.argv) > 3 else "well")
    else:
        host(port, int(sys.argv[3]))
