"""Drives `watch` in a pseudo-terminal, as a user does.

watch_in_terminal.py COLUMNS ROWS STEP... -- PROGRAM ARG...

A STEP is wait:TEXT (until the screen holds it), key:KEYS (backslash escapes), size:COLUMNSxROWS, or signal:NAME. Prints the screen after
the last step, the exit code, and whether the terminal was given back as it was.
"""
import codecs
import fcntl
import os
import pty
import re
import select
import signal
import struct
import sys
import termios
import time


def resize(descriptor, columns, rows):
    fcntl.ioctl(descriptor, termios.TIOCSWINSZ, struct.pack("HHHH", rows, columns, 0, 0))


class Screen:
    """Enough of a terminal to know what it shows: cursor addresses, clearing, text."""

    def __init__(self, columns, rows):
        self.resize(columns, rows)
        self.alternate = False

    def resize(self, columns, rows):
        self.columns, self.rows = columns, rows
        self.cells = [[" "] * columns for _ in range(rows)]
        self.x = self.y = 0

    def feed(self, text):
        for part in re.finditer(r"\x1b\[([?>=]?)([\d;]*)([ -/]*)([@-~])|\x1b[()].|\x1b[=>78]|([^\x1b])", text, re.S):
            private, numbers, _, final, char = part.groups()
            if char is not None:
                if char == "\r":
                    self.x = 0
                elif char == "\n":
                    self.y = min(self.y + 1, self.rows - 1)
                elif char >= " " and self.x < self.columns and self.y < self.rows:
                    self.cells[self.y][self.x] = char
                    self.x += 1
                continue
            if final is None:
                continue
            values = [int(number) if number else 0 for number in numbers.split(";")]
            if final in "Hf":
                self.y = max(values[0], 1) - 1
                self.x = (max(values[1], 1) if len(values) > 1 else 1) - 1
            elif final == "J":
                self.cells = [[" "] * self.columns for _ in range(self.rows)]
            elif final == "K":
                self.cells[self.y][self.x :] = [" "] * (self.columns - self.x)
            elif final == "G":
                self.x = max(values[0], 1) - 1
            elif final in "hl" and private == "?" and 1049 in values:
                self.alternate = final == "h"

    def text(self):
        return "\n".join("".join(row).rstrip() for row in self.cells)


def main():
    columns, rows = int(sys.argv[1]), int(sys.argv[2])
    split = sys.argv.index("--")
    steps, command = sys.argv[3:split], sys.argv[split + 1 :]
    child, near = pty.fork()
    if child == 0:
        os.environ["TERM"] = "xterm-256color"
        os.execvp(command[0], command)
    resize(near, columns, rows)
    screen = Screen(columns, rows)
    decoder = codecs.getincrementaldecoder("utf-8")("replace")
    ended = False

    def read(seconds):
        nonlocal ended
        if select.select([near], [], [], seconds)[0]:
            try:
                came = os.read(near, 65536)
            except OSError:
                came = b""
            if not came:
                ended = True
            screen.feed(decoder.decode(came))

    def wait_for(text):
        end = time.monotonic() + 20
        while text not in screen.text():
            if ended or time.monotonic() > end:
                print(screen.text())
                sys.exit(f"the screen never shows {text!r}")
            read(0.1)

    for step in steps:
        kind, _, what = step.partition(":")
        if kind == "wait":
            wait_for(what)
        elif kind == "key":
            os.write(near, codecs.decode(what, "unicode_escape").encode())
            read(0.15)
        elif kind == "size":
            columns, rows = map(int, what.split("x"))
            screen.resize(columns, rows)
            resize(near, columns, rows)
            os.kill(child, signal.SIGWINCH)
            read(0.3)
        elif kind == "signal":
            os.kill(child, getattr(signal, what))
    shown = screen.text()
    end = time.monotonic() + 10
    while not ended and time.monotonic() < end:
        read(0.1)
        if screen.alternate:
            shown = screen.text()
    _, status = os.waitpid(child, 0 if ended else os.WNOHANG)
    print(shown)
    print("exit", os.waitstatus_to_exitcode(status) if ended else "none")
    try:
        cooked = termios.ECHO | termios.ICANON
        print("restored", termios.tcgetattr(near)[3] & cooked == cooked and not screen.alternate)
    except termios.error:
        # The terminal went with its program, which must have left the other screen before.
        print("restored", not screen.alternate)


if __name__ == "__main__":
    main()
