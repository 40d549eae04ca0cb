"""Runs a command in a terminal of so many columns, and prints what it shows there."""

import fcntl
import os
import pty
import struct
import sys
import termios

columns, words = int(sys.argv[1]), sys.argv[2:]
child, terminal = pty.fork()
if child == 0:
    # Waits until the terminal has its size.
    os.read(0, 1)
    os.execv(words[0], words)
fcntl.ioctl(terminal, termios.TIOCSWINSZ, struct.pack("HHHH", 24, columns, 0, 0))
settings = termios.tcgetattr(terminal)
settings[3] &= ~termios.ECHO
termios.tcsetattr(terminal, termios.TCSANOW, settings)
os.write(terminal, b"\n")
shown = b""
while True:
    try:
        piece = os.read(terminal, 65536)
    except OSError:
        break
    if not piece:
        break
    shown += piece
os.waitpid(child, 0)
sys.stdout.buffer.write(shown.replace(b"\r\n", b"\n"))
