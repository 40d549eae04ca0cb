"""Sends frames over loopback, and writes what the kernel made of them as a pcap file.

Usage: kernel_traffic.py FILE PORT DATAGRAMS.hex STREAM. Each line of DATAGRAMS.hex goes as a datagram to PORT; then the bytes of STREAM go
through a TCP connection, in pieces of any size. Prints the port from which they come. Exit code 3, with the reason, if raw sockets are not
allowed here.
"""
import random
import socket
import struct
import sys
import threading
import time

file, port, listed, stream = sys.argv[1:]
datagrams = [bytes.fromhex(line) for line in open(listed)]
stream = open(stream, "rb").read()
try:
    tap = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.ntohs(3))
    tap.bind(("lo", 0))
    tap.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 1 << 24)
except (PermissionError, OSError) as problem:
    print(f"raw sockets: {problem}")
    sys.exit(3)

packets, ended = [], threading.Event()


def listen():
    tap.settimeout(0.2)
    while True:
        try:
            packet, (_, _, kind, *_) = tap.recvfrom(1 << 17)
        except (TimeoutError, socket.timeout):
            if ended.is_set():
                return
            continue
        # On loopback each packet is seen twice: as it goes out, and as it comes in.
        if kind != socket.PACKET_OUTGOING:
            packets.append(packet)


def catch_up():
    """Waits until the listener has all: a busy machine gives it no time, and what it does not fetch is dropped by the kernel."""
    count = -1
    while count != len(packets):
        count = len(packets)
        time.sleep(0.003)


listening = threading.Thread(target=listen)
listening.start()

taker = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
try:
    taker.bind(("127.0.0.1", int(port)))
except OSError as problem:
    # Whoever has it may answer, but the datagrams are sent all the same.
    print(f"port {port}: {problem}", file=sys.stderr)
sender = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
for datagram in datagrams:
    sender.sendto(datagram, ("127.0.0.1", int(port)))
catch_up()

server = socket.create_server(("127.0.0.1", 0))
client = socket.create_connection(server.getsockname())
client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
peer, (_, client_port) = server.accept()
random.seed(7)
at = sends = 0
while at < len(stream):
    at += client.send(stream[at : at + random.randint(1, 40)])
    sends += 1
    if sends % 20 == 0:
        catch_up()
client.close()
while peer.recv(65536):
    pass
ended.set()
listening.join()
SOL_PACKET, PACKET_STATISTICS = 263, 6
_, dropped = struct.unpack("II", tap.getsockopt(SOL_PACKET, PACKET_STATISTICS, 8))
if dropped:
    sys.exit(f"the kernel dropped {dropped} packets in front of the tap")

with open(file, "wb") as out:
    out.write(struct.pack("<IHHiIII", 0xA1B2C3D4, 2, 4, 0, 0, 262144, 1))
    for number, packet in enumerate(packets):
        out.write(struct.pack("<IIII", 1000, number, len(packet), len(packet)) + packet)
print(client_port)
