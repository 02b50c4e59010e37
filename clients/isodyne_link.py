"""A controller at the other end of a link, for Python 3.9 and later on Linux: the standard library is all it needs.

docs/link.md specifies the link byte by byte. A controller looks like this; `layout.json` is what
`isodyne export layout BENCH` writes:

    import isodyne_link

    with isodyne_link.Link("layout.json", "udp:127.0.0.1:5600") as link:
        for time_s, reads in link:
            link.answer(fill_paddle=1.0 if reads["chamber_level"] < 2 else 0.0)

What is not named in an answer keeps the value of the answer before (at first 0). Vectors are lists. A gate is a truth for
the whole period, or what it is at the beginning of the period and the instants of its edges after that, in ns:
`(False, [4000, 46000])`. Without an address it is the one that a bench that starts this program leaves in ISODYNE_LINK.
"""

import ctypes
import functools
import json
import mmap
import operator
import os
import platform
import socket
import struct
import time

VERSION = 1
HELLO, WELCOME, REFUSAL, READS, WRITES, BYE = range(1, 7)
HEAD = struct.Struct("<4sBBHIIqqQII")  # mark, version, kind, code, session, sequence, time, period, layout, bytes, sum
MARK = b"IDYL"
REFUSALS = {
    1: "the bench speaks another version of the link",
    2: "this controller has a layout of other channels than the bench; export it again",
    3: "the bench has a controller already",
}


class LinkError(Exception):
    """The bench cannot be reached, or refuses this controller."""


def _table():
    table = []
    for i in range(256):
        for _ in range(8):
            i = (i >> 1) ^ (0x82F63B78 if i & 1 else 0)
        table.append(i)
    return table


_TABLE = _table()


# What a byte does to the sum of a block of so many: blocks are summed up without a loop in Python.
_BLOCK = 64
_PLACES = [_TABLE]
for _ in range(_BLOCK - 1):
    _PLACES.append([(c >> 8) ^ _TABLE[c & 0xFF] for c in _PLACES[-1]])
_ORDERS = [_PLACES[:n][::-1] for n in range(_BLOCK + 1)]


def crc32c(data, before=0):
    """CRC-32C as in RFC 3720, appendix B.4."""
    c = before ^ 0xFFFFFFFF
    for at in range(0, len(data), _BLOCK):
        block = bytes(data[at:at + _BLOCK])
        if len(block) < 4:
            for byte in block:
                c = (c >> 8) ^ _TABLE[(c ^ byte) & 0xFF]
            continue
        head = (int.from_bytes(block[:4], "little") ^ c).to_bytes(4, "little")
        c = functools.reduce(operator.xor, map(operator.getitem, _ORDERS[len(block)], head + block[4:]))
    return c ^ 0xFFFFFFFF


class _Socket:
    """UDP or a Unix socket."""

    def __init__(self, kind, rest):
        if kind == "udp":
            host, _, port = rest.rpartition(":")
            family, _, _, _, address = socket.getaddrinfo(host or "127.0.0.1", int(port), type=socket.SOCK_DGRAM)[0]
            self._socket = socket.socket(family, socket.SOCK_DGRAM)
            self._socket.connect(address)
        else:
            self._socket = socket.socket(fileno=int(rest))

    def send(self, message):
        try:
            self._socket.send(message)
        except (ConnectionError, BlockingIOError):
            pass  # nobody is there, or the buffer is full: the bench asks again

    def receive(self, within):
        """A message, b"" after `within` seconds without one, None when the bench is gone."""
        self._socket.settimeout(within)
        try:
            return self._socket.recv(65536) or None
        except (TimeoutError, socket.timeout, ConnectionRefusedError):
            return b""
        except ConnectionError:
            return None

    def close(self):
        self._socket.close()


class _Memory:
    """Two slots of shared memory: see docs/link.md."""

    _FUTEX = {"x86_64": 202, "aarch64": 98}.get(platform.machine())
    _WAIT, _WAKE = 0, 1
    _LOOKS = 20  # before it sleeps: an answer in C comes sooner than that

    def __init__(self, _kind, rest):
        file = int(rest)
        self._map = mmap.mmap(file, os.fstat(file).st_size)
        if self._map[:8] != b"IDYLMEM1":
            raise LinkError("the shared memory is of another version")
        (self._slot,) = struct.unpack_from("<I", self._map, 8)
        self._words = memoryview(self._map).cast("I")
        self._in, self._out = 64, 64 + self._slot
        self._seen = 0
        self._parent = os.getppid()
        self._libc = ctypes.CDLL(None, use_errno=True)
        self._place = ctypes.c_uint32.from_buffer(self._map, self._in)
        self._moment = (ctypes.c_long * 2)(0, 20_000_000)

    def send(self, message):
        word = self._out // 4
        turn = self._words[word]
        self._words[word] = (turn + 1) & 0xFFFFFFFF
        self._words[word + 2] = len(message)
        self._map[self._out + 16:self._out + 16 + len(message)] = message
        self._words[word] = (turn + 2) & 0xFFFFFFFF
        if self._words[word + 1] and self._FUTEX:
            place = ctypes.c_uint32.from_buffer(self._map, self._out)
            self._libc.syscall(self._FUTEX, ctypes.byref(place), self._WAKE, 0x7FFFFFFF, None, None, 0)
            del place

    def receive(self, within):
        word = self._in // 4
        words, until, looks = self._words, None, 0
        while True:
            turn = words[word]
            if turn != self._seen and turn % 2 == 0:
                count = min(words[word + 2], self._slot - 16)
                message = self._map[self._in + 16:self._in + 16 + count]
                if words[word] == turn:
                    self._seen = turn
                    return message
            looks += 1
            if looks < self._LOOKS:
                continue
            now = time.monotonic()
            until = until or now + within
            if now > until:
                return b"" if os.getppid() == self._parent else None
            if self._FUTEX is None:
                time.sleep(20e-6)
                continue
            words[word + 1] = 1  # the other end wakes who says that it sleeps
            turn = words[word]
            if turn == self._seen or turn % 2:
                self._libc.syscall(self._FUTEX, ctypes.byref(self._place), self._WAIT, turn, ctypes.byref(self._moment),
                                   None, 0)
            words[word + 1] = 0

    def close(self):
        del self._place
        self._words.release()
        self._map.close()


class _Struct:
    """The bytes of one direction, by names."""

    _FORMS = {"real": "d", "integer": "i", "choice": "i", "boolean": "?"}
    _GATE = struct.Struct("<?Bxx16i")

    def __init__(self, layout):
        self.bytes = layout["bytes"]
        self.fields = {f["name"]: f for f in layout["fields"]}

    def unpack(self, payload):
        values = {}
        for name, f in self.fields.items():
            if f["kind"] == "frame":
                values[name] = payload[f["offset"]:f["offset"] + f["bytes"]]
                continue
            form = struct.Struct("<%d%s" % (f.get("count", 1), self._FORMS[f["kind"]]))
            elements = list(form.unpack_from(payload, f["offset"]))
            if f["kind"] == "choice":
                elements = [f["labels"][v] if 0 <= v < len(f["labels"]) else v for v in elements]
            values[name] = elements if "count" in f else elements[0]
        return values

    def _pack_gate(self, name, value, payload, offset):
        """A truth for the whole period, or (how it begins, instants of edges in ns)."""
        on, edges = value if isinstance(value, (tuple, list)) else (value, ())
        if len(edges) > 16:
            raise ValueError(f"`{name}` takes 16 edges a period, not {len(edges)}")
        self._GATE.pack_into(payload, offset, bool(on), len(edges), *edges, *([0] * (16 - len(edges))))

    def pack(self, values, payload):
        for name, value in values.items():
            f = self.fields.get(name)
            if f is None:
                raise KeyError(f"the bench has no `{name}`; it takes {', '.join(self.fields)}")
            if f["kind"] == "frame":
                payload[f["offset"]:f["offset"] + f["bytes"]] = value
                continue
            if "count" in f and len(value) != f["count"]:
                raise ValueError(f"`{name}` has {f['count']} elements, not {len(value)}")
            elements = value if "count" in f else [value]
            if f["kind"] == "gate":
                for i, gate in enumerate(elements):
                    self._pack_gate(name, gate, payload, f["offset"] + i * self._GATE.size)
                continue
            if f["kind"] == "choice":
                elements = [f["labels"].index(v) if isinstance(v, str) else v for v in elements]
            struct.pack_into("<%d%s" % (len(elements), self._FORMS[f["kind"]]), payload, f["offset"], *elements)


class Link:
    """Iterate over it: each turn is (time in s, {name: value}), and answer() answers it."""

    def __init__(self, layout, address=None, within=10.0):
        if not isinstance(layout, dict):
            with open(layout, encoding="utf-8") as file:
                layout = json.load(file)
        self._reads, self._writes = _Struct(layout["reads"]), _Struct(layout["writes"])
        self._identity = int(layout["identity"], 16)
        self._payload = bytearray(self._writes.bytes)
        self._session = self._sequence = self._answered = 0
        self._answer = b""
        self.period = 0.0  # s
        self.paced = False
        self.counts = dict(duplicated=0, reordered=0, lost=0, corrupted=0, refused=0)
        address = address or os.environ.get("ISODYNE_LINK", "")
        kind, _, rest = address.partition(":")
        if kind not in ("udp", "socket", "memory"):
            raise LinkError("the address begins with none of udp:, socket:, memory:")
        self._wire = _Memory(kind, rest) if kind == "memory" else _Socket(kind, rest)
        self._open(within)

    def __enter__(self):
        return self

    def __exit__(self, *_):
        self.close()

    def close(self):
        self._wire.close()

    def _pack(self, kind, code=0, payload=b""):
        head = HEAD.pack(MARK, VERSION, kind, code, self._session, self._sequence, 0, round(self.period * 1e9),
                         self._identity, len(payload), 0)[:44]
        total = crc32c(payload, crc32c(head))
        return head + struct.pack("<I", total) + bytes(payload)

    def _take(self, message):
        """(kind, code, session, sequence, time, period, payload), or None if it is damaged or none."""
        if len(message) < HEAD.size or message[:4] != MARK or message[4] != VERSION:
            self.counts["refused"] += 1
            return None
        _, _, kind, code, session, sequence, at, period, _, count, total = HEAD.unpack_from(message)
        payload = message[HEAD.size:]
        if count != len(payload) or total != crc32c(payload, crc32c(message[:44])):
            self.counts["corrupted"] += 1
            return None
        return kind, code, session, sequence, at, period, payload

    def _hello(self):
        self._wire.send(self._pack(HELLO, 1 if self._session else 0))

    def _open(self, within):
        until = time.monotonic() + within
        while time.monotonic() < until:
            self._hello()
            message = self._wire.receive(0.05)
            if message is None:
                raise LinkError("the bench is gone")
            taken = self._take(message) if message else None
            if taken and taken[0] == REFUSAL:
                raise LinkError(REFUSALS.get(taken[1], "the bench refuses this controller"))
            if taken and taken[0] == WELCOME:
                _, code, self._session, _, _, period, _ = taken
                self.period, self.paced = period * 1e-9, code == 1
                self._hello()
                return
            if not message:
                continue
        raise LinkError("no bench answers")

    def __iter__(self):
        return self

    def __next__(self):
        again = 0.0
        while True:
            message = self._wire.receive(0.05)
            if message is None:
                raise StopIteration
            taken = self._take(message) if message else None
            if taken and taken[2] != self._session:
                self.counts["refused"] += 1
                continue
            if taken and taken[0] == BYE:
                raise StopIteration
            if taken and taken[0] == READS:
                sequence = taken[3]
                ahead = (sequence - self._answered) & 0xFFFFFFFF
                if ahead == 0:  # asked again: the answer was lost on its way
                    self.counts["duplicated"] += 1
                    self._wire.send(self._answer)
                elif ahead > 0x7FFFFFFF:
                    self.counts["reordered"] += 1
                else:
                    self.counts["lost"] += ahead - 1
                    self._sequence = sequence
                    return taken[4] * 1e-9, self._reads.unpack(taken[6])
                continue
            if self._sequence == 0 and time.monotonic() > again:  # the bench may have missed it
                self._hello()
                again = time.monotonic() + 0.05

    def answer(self, **writes):
        """Answers the last question."""
        self._writes.pack(writes, self._payload)
        self._answer = self._pack(WRITES, 0, self._payload)
        self._answered = self._sequence
        self._wire.send(self._answer)

    def bye(self, code=0):
        """Tells the bench that this controller ends; code 0: as it should."""
        self._wire.send(self._pack(BYE, code))
