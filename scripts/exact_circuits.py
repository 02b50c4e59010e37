"""An exact solution of converters that knows nothing of Isodyne's: see scripts/exact-circuits."""

import math
import os
import subprocess
import sys
import tempfile

import h5py
import numpy as np
from scipy.linalg import expm
from scipy.optimize import brentq

HULL = """use library "circuits.dyne"
model Hull {
  terminal earth : electric
  input upper, lower : gate[3]
  node feed, plus, minus, star : electric
  node out, side : electric[3]
  part supply : VoltageSource between feed, minus
  part inner  : Resistor(resistance = 20 mohm) between feed, plus
  part link   : Capacitor(capacitance = 4000 uF, first = 700 V, resistance = 1 mohm) between plus, minus
  part high[3] : Transistor(drop = 0.9 V, diode_drop = 1.1 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between plus, out[index]
  part low[3]  : Transistor(drop = 0.9 V, diode_drop = 1.1 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between out[index], minus
  part filter : LCFilter(inductance = 0.4 mH, capacitance = 50 uF, capacitor_resistance = 300 mohm) between input_side = out, output_side = side, star = star
  part leak : Resistor(resistance = 10 kohm) between minus, earth
  part tie : Resistor(resistance = 100 kohm) between star, earth
  part grid : Mains(voltage = 0.4 kV, inductance = 0.3 mH, resistance = 50 mohm) between line = side, neutral = earth
  supply.voltage = 700 V
  high[*].gate = upper
  low[*].gate = lower
}
bench B {
  step 50 us
  part sine : SineReference
  sine.depth = 0.93
  part pwm[3] : Modulator(frequency = 20 kHz, dead_time = 0.8 us)
  part hull : Hull at ground  step 1 us
  for k in 1 .. 3 {
    pwm[k].reference = sine.reference[k]
    hull.upper[k] = pwm[k].upper
    hull.lower[k] = pwm[k].lower
  }
  record every 50 us
  record hull.upper, hull.lower every edge
  scenario go { hold %g ms }
}
"""

QUAY = """use library "circuits.dyne"
model Link {
  terminal earth : electric
  input lead, lag : gate[4]
  node feed, one, two, a, b, c, d, e : electric
  part supply : VoltageSource between feed, earth
  part inner : Resistor(resistance = 20 mohm) between feed, one
  part store : Capacitor(capacitance = 10000 uF, first = 400 V, resistance = 1 mohm) between one, earth
  part link : Capacitor(capacitance = 500 uF, first = 300 V, resistance = 2 mohm) between two, earth
  part load : Resistor(resistance = 12 ohm) between two, earth
  part p1 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between one, a
  part p2 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between a, earth
  part p3 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between one, b
  part p4 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between b, earth
  part s1 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between two, c
  part s2 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between c, earth
  part s3 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between two, d
  part s4 : Transistor(diode_drop = 0.9 V, resistance = 3 mohm, open_resistance = 0.02 Mohm) between d, earth
  part leakage : Inductor(inductance = 0.02 mH, resistance = 5 mohm) between a, e
  part turns : Ideal(turns = [4, 3]) between [e, c], [b, d]
  supply.voltage = 400 V
  p1.gate = lead[1]
  p2.gate = lead[2]
  p3.gate = lead[3]
  p4.gate = lead[4]
  s1.gate = lag[1]
  s2.gate = lag[2]
  s3.gate = lag[3]
  s4.gate = lag[4]
}
bench B {
  step 20 us
  part shifter : PhaseShift(frequency = 50 kHz, dead_time = 0.3 us)
  shifter.shift = 20 deg
  part link : Link at ground  step 100 ns
  link.lead = shifter.lead
  link.lag = shifter.lag
  record every 20 us
  record link.lead, link.lag every edge
  scenario go { hold %g ms }
}
"""


class Circuit:
    """Resistors, inductors, capacitors, sources, ideal transformers and transistors with diodes, node by node."""

    def __init__(self):
        self.nodes = {"0": -1}
        self.resistors, self.coils, self.stores, self.sources, self.turns, self.switches = [], [], [], [], [], []

    def node(self, name):
        return self.nodes.setdefault(name, len(self.nodes) - 1)

    def resistor(self, a, b, r):
        self.resistors.append((self.node(a), self.node(b), r))

    def coil(self, a, b, l, r, first=0.0):
        self.coils.append((self.node(a), self.node(b), l, r, first))

    def store(self, a, b, c, r, first=0.0):
        self.stores.append((self.node(a), self.node(b), c, r, first))

    def source(self, a, b, amplitude, angle=None):
        """Constant, or amplitude * cos(w t + angle) at 50 Hz."""
        self.sources.append((self.node(a), self.node(b), amplitude, angle))

    def transformer(self, pairs, turns):
        self.turns.append(([(self.node(a), self.node(b)) for a, b in pairs], turns))

    def switch(self, a, b, gate, resistance, drop, diode_drop, open_resistance=20e3):
        self.switches.append((self.node(a), self.node(b), gate, resistance, drop, diode_drop, open_resistance))

    def pieces(self, k, on):
        """Of a switch: straight pieces (conductance, offset, from, to) of current over voltage."""
        _, _, _, r, drop, diode_drop, rest = self.switches[k]
        g, o = 1 / r, 1 / rest
        below = (g, -(g - o) * -diode_drop, -math.inf, -diode_drop)
        if not on:
            return [below, (o, 0, -diode_drop, math.inf)]
        if drop == 0:
            return [(2 * g, 2 * g * 0 + g * diode_drop, -math.inf, -diode_drop), (g, 0, -diode_drop, math.inf)]
        return [below, (o, 0, -diode_drop, drop), (g, -(g - o) * drop, drop, math.inf)]


W = 2 * math.pi * 50


class Exact:
    def __init__(self, c):
        self.c = c
        self.n = len(c.nodes) - 1
        self.coils, self.stores = len(c.coils), len(c.stores)
        self.states = self.coils + self.stores
        # Behind the states: 1, and the two of an oscillator of 50 Hz.
        self.size = self.states + 3
        self.x = np.array([l[4] for l in c.coils] + [s[4] for s in c.stores] + [1.0, 1.0, 0.0])
        self.known, self.moved = {}, {}
        self.on = [False] * len(c.switches)
        self.at = [1] * len(c.switches)

    def source_row(self, amplitude, angle):
        row = np.zeros(self.size)
        if angle is None:
            row[self.states] = amplitude
        else:  # cos(wt + a) = cos a cos wt - sin a sin wt
            row[self.states + 1], row[self.states + 2] = amplitude * math.cos(angle), -amplitude * math.sin(angle)
        return row

    def system(self):
        key = (tuple(self.on), tuple(self.at))
        if key in self.known:
            return key, self.known[key]
        c, n = self.c, self.n
        extra = len(c.sources) + self.stores + sum(1 + len(t[0]) for t in c.turns)
        m, k = np.zeros((n + extra, n + extra)), np.zeros((n + extra, self.size))

        def through(a, b, column):
            for node, sign in ((a, 1.0), (b, -1.0)):
                if node >= 0:
                    m[node, column] += sign
                    m[column, node] += sign

        def conductance(a, b, g):
            for i, j, sign in ((a, a, 1), (b, b, 1), (a, b, -1), (b, a, -1)):
                if i >= 0 and j >= 0:
                    m[i, j] += sign * g

        def leaves(a, b, row):
            if a >= 0:
                k[a] -= row
            if b >= 0:
                k[b] += row

        for a, b, r in c.resistors:
            conductance(a, b, 1 / r)
        for i, (a, b, *_) in enumerate(c.coils):
            leaves(a, b, np.eye(self.size)[i])
        at = n
        store_current = []
        for i, (a, b, _, r, _) in enumerate(c.stores):
            through(a, b, at)
            m[at, at] -= r
            k[at, self.coils + i] = 1
            store_current.append(at)
            at += 1
        for a, b, amplitude, angle in c.sources:
            through(a, b, at)
            k[at] = self.source_row(amplitude, angle)
            at += 1
        for pairs, turns in c.turns:
            flux = at
            at += 1
            for (a, b), count in zip(pairs, turns):
                through(a, b, at)
                m[at, flux] -= count
                m[flux, at] -= count
                at += 1
        for i, (a, b, *_) in enumerate(c.switches):
            g, offset, _, _ = c.pieces(i, self.on[i])[self.at[i]]
            conductance(a, b, g)
            row = np.zeros(self.size)
            row[self.states] = offset
            leaves(a, b, row)
        w = np.linalg.solve(m, k)
        zero = np.zeros(self.size)
        v = lambda node: zero if node < 0 else w[node]
        rate = np.zeros((self.size, self.size))
        for i, (a, b, l, r, _) in enumerate(c.coils):
            rate[i] = (v(a) - v(b) - r * np.eye(self.size)[i]) / l
        for i, (_, _, cap, _, _) in enumerate(c.stores):
            rate[self.coils + i] = w[store_current[i]] / cap
        rate[self.states + 1, self.states + 2], rate[self.states + 2, self.states + 1] = -W, W
        voltage = np.array([v(s[0]) - v(s[1]) for s in c.switches])
        self.known[key] = (rate, voltage)
        return key, self.known[key]

    def settle(self):
        for _ in range(200):
            _, (_, voltage) = self.system()
            v = voltage @ self.x
            beyond = [self.beyond(i, v[i]) for i in range(len(v))]
            if not any(beyond):
                return
            worst = max(range(len(v)), key=lambda i: abs(beyond[i]))
            self.at[worst] += 1 if beyond[worst] > 0 else -1
        raise RuntimeError("no state that agrees")

    def beyond(self, i, v):
        g, _, low, high = self.c.pieces(i, self.on[i])[self.at[i]]
        slack = 1e-9 if g > 1 else 1e-4  # of rounded currents flat pieces make volts
        return v - high if v > high + slack else v - low if v < low - slack else 0

    def step(self, span):
        key, (rate, _) = self.system()
        span = round(span, 16)
        if (key, span) not in self.moved:
            if len(self.moved) > 20000:
                self.moved.clear()
            self.moved[key, span] = expm(rate * span)
        return self.moved[key, span]

    def advance(self, span, look):
        """Over a time without edges; diodes are looked at every `look` seconds."""
        while span > 1e-16:
            part = min(span, look)
            later = self.step(part) @ self.x
            _, (rate, voltage) = self.system()
            who = [i for i, v in enumerate(voltage @ later) if self.beyond(i, v)]
            if not who:
                self.x = later
                span -= part
                continue
            first, leaver, way = part, None, 0
            for i in who:
                _, _, low, high = self.c.pieces(i, self.on[i])[self.at[i]]
                up = (voltage @ later)[i] > high
                end = high if up else low
                f = lambda t: voltage[i] @ (expm(rate * t) @ self.x) - end
                when = brentq(f, 0, part, xtol=1e-18, rtol=1e-15) if f(0) * f(part) < 0 else 0.0
                if leaver is None or when < first:
                    first, leaver, way = when, i, 1 if up else -1
            self.x = expm(rate * first) @ self.x
            span -= first
            self.at[leaver] += way
            self.settle()

    def switch(self, gates):
        for i, s in enumerate(self.c.switches):
            on = gates[s[2]]
            if on == self.on[i]:
                continue
            self.on[i] = on
            self.at[i] = min(self.at[i], len(self.c.pieces(i, on)) - 1)
        self.settle()


def hull():
    c = Circuit()
    c.source("feed", "minus", 700.0)
    c.resistor("feed", "plus", 20e-3)
    c.store("plus", "minus", 4000e-6, 1e-3, 700.0)
    for k in (1, 2, 3):
        c.switch("plus", f"out{k}", f"hull.upper[{k}]", 3e-3, 0.9, 1.1)
        c.switch(f"out{k}", "minus", f"hull.lower[{k}]", 3e-3, 0.9, 1.1)
        c.coil(f"out{k}", f"side{k}", 0.4e-3, 5e-3)
        c.store(f"side{k}", "star", 50e-6, 0.3)
        c.source(f"in{k}", "0", math.sqrt(2 / 3) * 400, -(k - 1) * 2 * math.pi / 3)
        c.coil(f"in{k}", f"side{k}", 0.3e-3, 50e-3)
    c.resistor("minus", "0", 10e3)
    c.resistor("star", "0", 100e3)
    names = [n for k in (1, 2, 3) for n in (f"hull.filter.choke[{k}].i", f"hull.grid.stretch[{k}].i")]
    return c, names, 100.0, 1e-6


def quay():
    c = Circuit()
    c.source("feed", "0", 400.0)
    c.resistor("feed", "one", 20e-3)
    c.store("one", "0", 10000e-6, 1e-3, 400.0)
    c.store("two", "0", 500e-6, 2e-3, 300.0)
    c.resistor("two", "0", 12.0)
    for side, bus, first, second in (("lead", "one", "a", "b"), ("lag", "two", "c", "d")):
        c.switch(bus, first, f"link.{side}[1]", 3e-3, 0.0, 0.9)
        c.switch(first, "0", f"link.{side}[2]", 3e-3, 0.0, 0.9)
        c.switch(bus, second, f"link.{side}[3]", 3e-3, 0.0, 0.9)
        c.switch(second, "0", f"link.{side}[4]", 3e-3, 0.0, 0.9)
    c.coil("a", "e", 20e-6, 5e-3)
    c.transformer([("e", "b"), ("c", "d")], [4.0, 3.0])
    return c, ["link.leakage.i"], 50.0, 50e-9


def compare(program, name, text, made, ms):
    c, names, rated, look = made
    with tempfile.TemporaryDirectory() as folder:
        with open(os.path.join(folder, "b.dyne"), "w") as out:
            out.write(text % ms)
        done = subprocess.run([program, "run", "b.dyne", "go", "--out", "r", "--no-report"], cwd=folder, capture_output=True, text=True)
        if done.returncode != 0:
            sys.exit(done.stdout + done.stderr)
        with h5py.File(os.path.join(folder, "r", "recording.h5")) as r:
            edges = {k: v[:] for k, v in r["rates/edges"].items()}
            signals = {k: r["signals"][k][:] for k in names}
            times = r["time_ns"][:]
    exact = Exact(c)
    edge_times = edges.pop("time_ns")
    gates = {g: bool(v[0]) for g, v in edges.items()}
    exact.switch(gates)
    row, now, differences = 0, 0, []
    for i, t in enumerate(times):
        while row < len(edge_times) and edge_times[row] <= t:
            fresh = {g: bool(v[row]) for g, v in edges.items()}
            if fresh != gates:
                exact.advance((edge_times[row] - now) * 1e-9, look)
                now = edge_times[row]
                gates = fresh
                exact.switch(gates)
            row += 1
        exact.advance((t - now) * 1e-9, look)
        now = t
        currents = exact_currents(c, exact, names)
        differences.append([signals[n][i] - currents[n] for n in names])
    d = np.array(differences) / rated
    rms, most = math.sqrt((d * d).mean()), np.abs(d).max()
    peak = max(np.abs(signals[n]).max() for n in names)
    print(f"| {name}, {ms:g} ms, {len(times)} samples, {len(edge_times)} edges, up to {peak:.1f} A | {rms:.2e} | {most:.2e} |")
    return rms <= 2e-4 and most <= 1e-3


def exact_currents(c, exact, names):
    if len(names) == 1:
        return {names[0]: exact.x[0]}
    return {n: exact.x[i] for i, n in enumerate(names)}


def main():
    program, ms = sys.argv[1], float(sys.argv[2])
    print("| circuit | root mean square of rated | most of rated |\n|---|---|---|")
    good = compare(program, "shore converter, 1 us", HULL, hull(), ms)
    good = compare(program, "quay link, 100 ns", QUAY, quay(), ms) and good
    sys.exit(0 if good else 1)


if __name__ == "__main__":
    main()
