"""A program in a terminal that is played through: keys in, screen read.

    terminal.py COLUMNSxLINES [--colours] -- PROGRAM WORD… < SCRIPT

A line of the script: `key TEXT` (with \\e \\t \\r), `type TEXT`, `until TEXT` (it is on the screen, 60 s at most), `gone TEXT`,
`show` (prints the screen), `shell COMMAND`, `size COLUMNSxLINES`, `stop` and `go on` (as Ctrl-Z and `fg` do), `exit` (waits until it has ended).
"""

import fcntl
import os
import pty
import select
import signal
import struct
import subprocess
import sys
import termios
import time

import pyte

MOST = 60.0


class Screen(pyte.Screen):
    """With what terminals do and this library does not know: a character again and again, and lines that scroll."""

    def draw(self, data):
        super().draw(data)
        self.newest = data[-1:]

    def repeat(self, count=1):
        self.draw(self.newest * (count or 1))

    def _at_top(self, what, count):
        y, self.cursor.y = self.cursor.y, self.margins.top if self.margins else 0
        x = self.cursor.x
        what(count or 1)
        self.cursor.x, self.cursor.y = x, y

    def scroll_up(self, count=1):
        self._at_top(self.delete_lines, count)

    def scroll_down(self, count=1):
        self._at_top(self.insert_lines, count)


class Stream(pyte.ByteStream):
    csi = {**pyte.ByteStream.csi, "b": "repeat", "S": "scroll_up", "T": "scroll_down", "`": "cursor_to_column"}
    events = pyte.ByteStream.events | {"repeat", "scroll_up", "scroll_down"}


class Terminal:
    def __init__(self, columns, lines, words):
        self.screen = Screen(columns, lines)
        self.stream = Stream(self.screen)
        self.child, self.file = pty.fork()
        if self.child == 0:
            os.environ.update(TERM=os.environ.get("TERM_OF_TEST", "xterm"), LINES="", COLUMNS="")
            del os.environ["LINES"], os.environ["COLUMNS"]
            os.execvp(words[0], words)
        self.size(columns, lines)
        self.open = True

    def size(self, columns, lines):
        fcntl.ioctl(self.file, termios.TIOCSWINSZ, struct.pack("HHHH", lines, columns, 0, 0))
        self.screen.resize(lines, columns)

    def feed(self, seconds):
        end = time.monotonic() + seconds
        while self.open and (left := end - time.monotonic()) > 0:
            if not select.select([self.file], [], [], left)[0]:
                return
            try:
                block = os.read(self.file, 65536)
            except OSError:
                block = b""
            self.open = bool(block)
            self.stream.feed(block)

    def text(self):
        return "\n".join(line.rstrip() for line in self.screen.display)

    def until(self, what, there=True):
        end = time.monotonic() + MOST
        while (what in self.text()) != there:
            if time.monotonic() > end or not self.open:
                print(self.text())
                sys.exit(f"FAILED: {'not there' if there else 'still there'}: {what}")
            self.feed(0.05)

    def key(self, text):
        os.write(self.file, text.encode())


def main():
    at = sys.argv.index("--")
    columns, lines = map(int, sys.argv[1].split("x"))
    there = Terminal(columns, lines, sys.argv[at + 1 :])
    for line in sys.stdin.read().splitlines():
        word, _, rest = line.partition(" ")
        if not word or word.startswith("#"):
            continue
        elif word in ("key", "type"):
            there.key(rest.replace("\\e", "\x1b").replace("\\t", "\t").replace("\\r", "\r"))
            there.feed(0.05)
        elif word == "until":
            there.until(rest)
        elif word == "gone":
            there.until(rest, False)
        elif word == "show":
            there.feed(0.2)
            print(there.text())
        elif word == "shell":
            subprocess.run(rest, shell=True, check=True, stdin=subprocess.DEVNULL)
        elif word == "size":
            there.size(*map(int, rest.split("x")))
            os.kill(there.child, signal.SIGWINCH)
            there.feed(0.1)
        elif word == "stop":
            os.kill(there.child, signal.SIGTSTP)
            there.feed(0.3)
        elif word == "go":
            os.kill(there.child, signal.SIGCONT)
        elif word == "exit":
            end = time.monotonic() + MOST
            while there.open and time.monotonic() < end:
                there.feed(0.2)
            print("ended with", os.waitstatus_to_exitcode(os.waitpid(there.child, 0)[1]))
            return
        else:
            sys.exit(f"no such word: {word}")
    os.kill(there.child, signal.SIGKILL)


main()
