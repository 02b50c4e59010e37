#!/usr/bin/env python3
"""The controller of the lock once more, in Python, at the other end of a link.

    isodyne run lock.dyne uplock --setting python      starts it
"""

import os
import sys

here = os.path.dirname(os.path.abspath(__file__))
sys.path.insert(0, os.path.join(here, "..", "..", "..", "clients"))
import isodyne_link  # noqa: E402

EQUAL, EQUAL_FOR = 0.04, 2.0  # levels count as equal (m) after this time (s)
GENTLE_ABOVE = 1.6  # half paddles while the head is larger, m
GATE_TIME, ENTER_TIME = 100.0, 600.0  # s
SIGN_OF_LIFE, SIGN_OF_LIFE_IN = 0.02, 20.0  # the level must move by this much (m) in this time (s)
PHASES = ["starting", "idle", "level for entry", "open entry", "boat enters", "shut entry", "level for exit",
          "open exit", "boat leaves", "shut exit", "alarm"]


class Lock:
    """What lockctl.c does, exchange by exchange."""

    def __init__(self, period):
        self.period = period
        self.upwards = False
        self.watched_level = 0.0
        self.go("starting")

    def go(self, phase):
        self.phase = phase
        self.in_phase = self.equal_for = 0.0
        self.watched_for = -1.0
        self.boat_seen = False

    def level_is_dead(self, r, head):
        if abs(head) < 0.2:
            self.watched_for = -1.0
            return False
        if self.watched_for < 0 or abs(r["chamber_level"] - self.watched_level) > SIGN_OF_LIFE:
            self.watched_for = 0.0
            self.watched_level = r["chamber_level"]
        self.watched_for += self.period
        return self.watched_for > SIGN_OF_LIFE_IN

    def level(self, r, w, side, after):
        head = r["pound_level" if side == "upper" else "tail_level"] - r["chamber_level"]
        if not (r["upper_shut"] and r["lower_shut"]):
            return self.go("alarm")
        w["fill_paddle" if side == "upper" else "drain_paddle"] = 0.5 if abs(head) > GENTLE_ABOVE else 1.0
        if self.level_is_dead(r, head):
            return self.go("alarm")
        self.equal_for = self.equal_for + self.period if abs(head) < EQUAL else 0.0
        if self.equal_for >= EQUAL_FOR:
            self.go(after)

    def open(self, r, w, side, after):
        other = "lower" if side == "upper" else "upper"
        if not r[other + "_shut"] or self.in_phase > GATE_TIME:
            return self.go("alarm")
        w["fill_paddle" if side == "upper" else "drain_paddle"] = 1.0
        w[side + "_gate"] = "open"
        if r[side + "_open"]:
            self.go(after)

    def shut(self, r, w, side, after):
        if r["gate_taken"]:
            self.in_phase = 0.0
        elif self.in_phase > GATE_TIME:
            self.go("alarm")
        else:
            w[side + "_gate"] = "shut"
            if r[side + "_shut"]:
                self.go(after)

    def step(self, r):
        w = dict(fill_paddle=0.0, drain_paddle=0.0, upper_gate="none", lower_gate="none", upper_light=False,
                 lower_light=False)
        self.in_phase += self.period
        entry, leave = ("lower", "upper") if self.upwards else ("upper", "lower")
        phase = self.phase
        if phase == "starting" and self.in_phase >= 2.0:
            levels = all(0.1 < r[name] < 9.9 for name in ("chamber_level", "pound_level", "tail_level"))
            self.go("idle" if levels and r["upper_shut"] and r["lower_shut"] else "alarm")
        elif phase == "idle" and r["request"] != "none":
            self.upwards = r["request"] == "up"
            self.go("level for entry")
        elif phase == "level for entry":
            self.level(r, w, entry, "open entry")
        elif phase == "open entry":
            self.open(r, w, entry, "boat enters")
        elif phase == "boat enters":
            w[entry + "_light"] = True
            if r["berth_taken"] or self.in_phase > ENTER_TIME:
                self.go("shut entry")
        elif phase == "shut entry":
            self.shut(r, w, entry, "level for exit")
        elif phase == "level for exit":
            self.level(r, w, leave, "open exit")
        elif phase == "open exit":
            self.open(r, w, leave, "boat leaves")
        elif phase == "boat leaves":
            w[leave + "_light"] = True
            self.boat_seen = self.boat_seen or r["gate_taken"]
            if self.boat_seen and not r["gate_taken"] and not r["berth_taken"]:
                self.go("shut exit")
        elif phase == "shut exit":
            self.shut(r, w, leave, "idle")
        if self.phase == "alarm":  # no water, no movement, red everywhere; latched
            w.update(fill_paddle=0.0, drain_paddle=0.0, upper_gate="none", lower_gate="none", upper_light=False,
                     lower_light=False)
        w.update(alarm=self.phase == "alarm", phase=PHASES.index(self.phase))
        return w


def main():
    address = sys.argv[1] if len(sys.argv) > 1 else None
    try:
        with isodyne_link.Link(os.path.join(here, "lockctl_layout.json"), address) as link:
            lock = Lock(link.period)
            for _, reads in link:
                link.answer(**lock.step(reads))
    except isodyne_link.LinkError as e:
        sys.exit(f"lockctl.py: {e}")


if __name__ == "__main__":
    main()
