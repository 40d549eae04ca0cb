"""Moves the gate, and follows it: python3 programs/keeper.py PORT PERCENT"""

import os
import sys

sys.path.insert(0, os.path.join(os.path.dirname(__file__), "..", "gen", "python"))
import marlock  # noqa: E402

port = os.open(sys.argv[1], os.O_RDWR | os.O_NOCTTY)
target = marlock.MoveGate.raw_target(float(sys.argv[2]))
order = marlock.MoveGate(target=target, speed=marlock.MoveGate.raw_speed(20))
frame = marlock.Bus485Frame(node=3, kind=order.ID, counter=1, body=order.encode())
os.write(port, marlock.build_bus485(frame))

receiver = marlock.Bus485Receiver()
accepted = False
while True:
    for frame, message, error in receiver.feed(os.read(port, 256)):
        if isinstance(message, marlock.MoveAccepted):
            accepted = True
            print(f"node {frame.node} accepts {message.physical_target(message.target)} %")
        elif isinstance(message, marlock.Refused):
            sys.exit(f"node {frame.node} refuses: {marlock.Reason(message.reason).name.lower()}")
        elif isinstance(message, marlock.GateStatus) and accepted:
            print(f"node {frame.node} is at {message.physical_opening(message.opening)} %")
            if message.opening == target:
                sys.exit(0)
        elif error is not None:
            print(f"a frame that cannot be read: {error}")
