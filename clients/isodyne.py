"""Speak with a running bench from Python. Standard library only; docs/door.md says what is behind it.

    from isodyne import start

    with start("tank.dyne", "hold", faults=["stuck"], paced=True) as run:
        run.set("inflow", "3 l/s")
        run.wait_until("level", above=1.01, within=20)
        print(run.read("level")["level"].text)
        run.end()
    assert run.status == 3  # ended by hand

Numbers are in coherent SI units. One thread uses a Run at a time.
"""

import json
import math
import os
import socket
import subprocess
import tempfile
import time
from typing import Any, Dict, Iterator, List, NamedTuple, Optional, Sequence, Tuple, Union

Value = Union[str, bool, int, float]


class Refused(Exception):
    """The run did not do it. `code` and `data` are those of docs/door.md."""

    def __init__(self, message: str, code: int, data: Any = None):
        super().__init__(message)
        self.code, self.data = code, data


class Over(Exception):
    """The run is over, or was never open."""


class Reading(NamedTuple):
    """A value: the number (None where it is no finite one), and as people read it."""

    si: Optional[float]
    text: str


class Judged(NamedTuple):
    """What a stretch of a run brought for a requirement, judged anew. margin: SI, negative where it is broken; None: there is none."""

    verdict: str
    margin: Optional[float]
    tests: int


class Capture(NamedTuple):
    """Rows around an instant: times in seconds, and of each quantity its values (SI); and what was judged over it."""

    at: float
    whole: bool
    times: List[float]
    columns: Dict[str, List[float]]
    file: Optional[str]
    judged: Dict[str, Judged] = {}


_ANY_TIME = 365.0 * 24 * 3600


class Begun:
    """A capture that was begun: take() waits for it."""

    def __init__(self, run: "Run", made: Dict[str, Any]):
        self._run, self._made = run, made

    def take(self, within: Optional[float] = None) -> Capture:
        """The rows, once they are there. Over if the run ends before; TimeoutError after so many seconds of the wall clock: the
        capture goes on, and may be taken later."""
        run, number = self._run, self._made["capture"]
        came = run._first_told("captured", number, _ANY_TIME if within is None else within)
        if came is None:
            raise TimeoutError(f"nothing to capture came within {within:g} s")
        if not came["came"]:
            raise Over("the run was over before it came")
        times: List[float] = []
        columns: Dict[str, List[float]] = {name: [] for name in self._made["names"]}
        while len(times) < came["rows"]:
            page = run.call("captured", capture=number, take=came["take"], **{"from": len(times)})
            times += [t / 1e9 for t in page["times_ns"]]
            for name, values in page["si"].items():
                columns[name] += [math.nan if v is None else v for v in values]
        run.call("uncapture", capture=number)
        judged = {one["requirement"]: Judged(one["verdict"], one.get("margin_si"), one["tests"])
                  for one in came.get("judged", {}).get("requirements", [])}
        return Capture(float(came["at_s"]), bool(came["whole"]), times, columns, came["file"], judged)


class Run:
    """A run that was begun with --open; `folder` is its own."""

    def __init__(self, folder: str, process: Optional["subprocess.Popen[bytes]"] = None, patience: float = 30.0):
        self.folder, self.process, self.patience = folder, process, patience
        self.ended: Optional[Dict[str, Any]] = None
        self._told: List[Dict[str, Any]] = []
        self._number = 0
        self._rest = b""
        self._socket = self._connect()

    def _connect(self) -> socket.socket:
        end = time.monotonic() + self.patience
        # The path of a socket is short; that of a folder need not be.
        place = -1
        while True:
            there = socket.socket(socket.AF_UNIX, socket.SOCK_STREAM)
            try:
                place = os.open(self.folder, os.O_PATH | os.O_DIRECTORY)
                there.connect(f"/proc/self/fd/{place}/door")
                return there
            except OSError as trouble:
                there.close()
                gone = self.process is not None and self.process.poll() is not None
                if gone or self.process is None or time.monotonic() > end:
                    raise Over(f"nobody can speak to the run {self.folder}: {trouble}") from None
                time.sleep(0.02)
            finally:
                if place >= 0:
                    os.close(place)
                    place = -1

    def __enter__(self) -> "Run":
        return self

    def __exit__(self, *_: Any) -> None:
        self.close()

    def close(self) -> None:
        """Leaves the run. One that was started here is ended, and waited for."""
        if self.process is not None and self.process.poll() is None and self.ended is None:
            try:
                self.end()
            except (Over, Refused, OSError):
                pass
        self._socket.close()
        if self.process is not None:
            self.process.wait()

    @property
    def status(self) -> Optional[int]:
        """Exit status of a run that was started here, once it is over: 0 all requirements hold."""
        return None if self.process is None else self.process.poll()

    # -- lines ------------------------------------------------------------------------------------------------

    def _line(self, until: float) -> Optional[Dict[str, Any]]:
        while b"\n" not in self._rest:
            left = until - time.monotonic()
            if left <= 0:
                return None
            self._socket.settimeout(left)
            try:
                block = self._socket.recv(65536)
            except socket.timeout:
                return None
            except OSError:
                block = b""
            if not block:
                raise Over("the run is over")
            self._rest += block
        line, self._rest = self._rest.split(b"\n", 1)
        message: Dict[str, Any] = json.loads(line)
        if message.get("method") == "ended":
            self.ended = message["params"]
        return message

    def call(self, method: str, **params: Any) -> Dict[str, Any]:
        """Any method of docs/door.md; its result, or Refused."""
        return self._call(method, params, self.patience)

    def _call(self, method: str, params: Dict[str, Any], patience: float) -> Dict[str, Any]:
        self._number += 1
        call = {"jsonrpc": "2.0", "id": self._number, "method": method, "params": params}
        try:
            self._socket.sendall(json.dumps(call).encode() + b"\n")
        except OSError:
            raise Over("the run is over") from None
        end = time.monotonic() + patience
        while True:
            message = self._line(end)
            if message is None:
                raise Over("the run does not answer")
            if message.get("id") != self._number:
                self._told.append(message)
                continue
            if "error" in message:
                error = message["error"]
                raise Refused(error["message"], error["code"], error.get("data"))
            result: Dict[str, Any] = message["result"]
            return result

    def _first_told(self, method: str, capture: int, within: float) -> Optional[Dict[str, Any]]:
        """What was told of a capture, also if it came while something else was asked for. None: not so soon."""

        def meant(message: Dict[str, Any]) -> bool:
            return message.get("method") == method and message["params"]["capture"] == capture

        for i, message in enumerate(self._told):
            if meant(message):
                return dict(self._told.pop(i)["params"])
        end = time.monotonic() + within
        while True:
            next_one = self._line(end)
            if next_one is None:
                return None
            if meant(next_one):
                return dict(next_one["params"])
            self._told.append(next_one)

    def told(self, within: float) -> Iterator[Dict[str, Any]]:
        """What comes unasked (`update`, `event`, `outcome`, `ended`), until nothing has come for so many seconds."""
        while True:
            if self._told:
                yield self._told.pop(0)
                continue
            try:
                message = self._line(time.monotonic() + within)
            except Over:
                return
            if message is None:
                return
            yield message

    # -- questions --------------------------------------------------------------------------------------------

    def describe(self) -> Dict[str, Any]:
        return self.call("describe")

    def read(self, *names: str) -> Dict[str, Reading]:
        """As they were shown last. A name may be a pattern: `"chamber.*"`."""
        values = self.call("read", names=list(names))["values"]
        return {name: Reading(v["si"], v["read"]) for name, v in values.items()}

    def value(self, name: str) -> float:
        """One number, SI; nan where it is no finite one."""
        si = self.read(name)[name].si
        return math.nan if si is None else si

    def now(self) -> float:
        """Simulated seconds."""
        return float(self.call("read", names=["time"])["at_s"])

    def events(self, since: int = 0) -> Tuple[List[Dict[str, Any]], int]:
        """What has happened from a number on, and the number to go on with."""
        every: List[Dict[str, Any]] = []
        while True:
            part = self.call("events", **{"from": since})
            every += part["events"]
            since = part["next"]
            if not part["events"]:
                return every, since

    def wait(self, condition: str, within: Optional[str] = None) -> Optional[float]:
        """Until a condition of the bench holds, at any of its instants: `run.wait("level > 3 m", within="2 min")`. The instant;
        None: it did not within that simulated time. It may hold already. An event of the run, which a scenario waits for again."""
        params = {"condition": condition} if within is None else {"condition": condition, "within": within}
        answer = self._call("wait", params, _ANY_TIME)
        return float(answer["at_s"]) if answer["came"] else None

    def begin_capture(self, *names: str, when: Optional[str] = None, broken: Optional[str] = None, before: str = "0 s",
                      after: str = "0 s", judge: Sequence[str] = ()) -> "Begun":
        """What is around the instant at which a condition becomes true or a requirement is broken; else around now. Every instant
        of the bench, and of quick parts where they are looked at there. It is a file in the folder of the run, too. What requirements
        `judge` names is judged anew over it, as if the run had begun there.

        The run goes on meanwhile, so begin before you do what should bring it about:

            begun = run.begin_capture("level", when="level > 3 m", after="1 s")
            run.set("inflow", "3 l/s")
            kept = begun.take()
        """
        params: Dict[str, Any] = {"names": list(names), "before": before, "after": after}
        if when is not None:
            params["when"] = when
        if broken is not None:
            params["broken"] = broken
        if judge:
            params["judge"] = list(judge)
        return Begun(self, self.call("capture", **params))

    def capture(self, *names: str, when: Optional[str] = None, broken: Optional[str] = None, before: str = "0 s",
                after: str = "0 s", judge: Sequence[str] = (), within: Optional[float] = None) -> Capture:
        """begin_capture() and take(), where nothing needs to be done between."""
        return self.begin_capture(*names, when=when, broken=broken, before=before, after=after, judge=judge).take(within)

    def so_far(self) -> Dict[str, Optional[float]]:
        """Per requirement, since when it is broken; None: it is not, so far."""
        return {one["requirement"]: one.get("since_s") for one in self.call("verdicts")["requirements"]}

    def timing(self) -> Dict[str, Any]:
        """How a paced run keeps to the wall clock."""
        return self.call("timing")

    def wait_until(self, name: str, *, above: Optional[float] = None, below: Optional[float] = None,
                   equal: Optional[str] = None, within: float = 60.0) -> float:
        """Waits, seconds of the wall clock, until a value is there; gives it. Looks at what is shown, 100 times a second: what
        comes and goes between is a requirement's matter. TimeoutError if it does not come."""
        end = time.monotonic() + within
        while True:
            reading = self.read(name)[name]
            si = math.nan if reading.si is None else reading.si
            if (above is not None and si > above) or (below is not None and si < below) or reading.text == equal:
                return si
            if time.monotonic() > end:
                raise TimeoutError(f"{name} is {reading.text} after {within:g} s")
            time.sleep(0.01)

    # -- commands: each gives the instant at which it was done, or None where the run stands ----------------------

    def _command(self, method: str, **params: Any) -> Optional[float]:
        return self.call(method, **params).get("at_s")

    def set(self, name: str, value: Value) -> Optional[float]:
        """`run.set("boiler.setpoint", "80 degC")`"""
        return self._command("set", name=name, value=value)

    def press(self, name: str, over: str = "500 ms") -> Optional[float]:
        """A button: true, and false again after so much simulated time."""
        return self._command("press", name=name, over=over)

    def ramp(self, name: str, value: Value, over: str) -> Optional[float]:
        return self._command("ramp", name=name, value=value, over=over)

    def play(self, name: str, table: str, over: Optional[str] = None) -> Optional[float]:
        """Lets it follow a table of the bench, to its end or so long."""
        return self._command("play", name=name, table=table, **({} if over is None else {"over": over}))

    def load(self, values: Union[str, Dict[str, Value]]) -> Optional[float]:
        """A set of the bench, or values of one's own; all of them or none."""
        if isinstance(values, str):
            return self._command("load", set=values)
        return self._command("load", values=values)

    def save(self, file: str) -> Optional[float]:
        """Stores the state of a run in lockstep."""
        return self._command("save", file=os.path.abspath(file))

    def arm(self, fault: str) -> Optional[float]:
        return self._command("arm", fault=fault)

    def disarm(self, fault: str) -> Optional[float]:
        return self._command("disarm", fault=fault)

    def release(self, name: str) -> Optional[float]:
        return self._command("release", name=name)

    def inject(self, fault: str) -> Optional[float]:
        return self._command("inject", fault=fault)

    def clear(self, fault: str) -> Optional[float]:
        return self._command("clear", fault=fault)

    def mark(self, note: str) -> Optional[float]:
        return self._command("mark", note=note)

    def pause(self) -> Optional[float]:
        return self._command("pause")

    def step(self, steps: int = 1) -> Optional[float]:
        return self._command("step", steps=steps)

    def go_on(self) -> Optional[float]:
        return self._command("go_on")

    def end(self) -> Optional[float]:
        """Ends the run, and waits until it is over if it was started here."""
        at = self._command("end")
        for _ in self.told(self.patience):
            pass
        if self.process is not None:
            self.process.wait()
        return at

    def verdicts(self) -> Dict[str, Any]:
        """verdicts.json of the run, once it is over."""
        with open(os.path.join(self.folder, "verdicts.json"), encoding="utf-8") as file:
            result: Dict[str, Any] = json.load(file)
            return result


def attach(folder: str) -> Run:
    """A run of somebody else, in its folder."""
    return Run(folder)


def start(bench: str, scenario: Optional[str] = None, *, faults: Sequence[str] = (), seed: Optional[int] = None,
          setting: Optional[str] = None, paced: bool = False, out: Optional[str] = None, program: str = "isodyne",
          more: Sequence[str] = ()) -> Run:
    """Begins a run that is open, and comes in. `out`: its folder, which is new; else one in the folder for temporary files."""
    folder = out if out is not None else os.path.join(tempfile.mkdtemp(prefix="isodyne-"), "run")
    words = [program, "run", bench] + ([scenario] if scenario else []) + ["--open", "--out", folder]
    for fault in faults:
        words += ["--fault", fault]
    if seed is not None:
        words += ["--seed", str(seed)]
    if setting is not None:
        words += ["--setting", setting]
    if paced:
        words.append("--paced")
    words += list(more)
    with tempfile.TemporaryFile() as said:
        process = subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=said, stderr=subprocess.STDOUT)
        try:
            run = Run(folder, process)
            # Until it has begun: a controller may take its time.
            while True:
                try:
                    run.read("time")
                    return run
                except Refused as refused:
                    if refused.data != "not_begun":
                        raise
                    time.sleep(0.01)
        except Over:
            process.wait()
            said.seek(0)
            text = said.read().decode(errors="replace").strip()
            raise Over(f"the run did not begin: {text}") from None
