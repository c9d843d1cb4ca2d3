#!/usr/bin/env python3
# SPDX-License-Identifier: Apache-2.0
"""Logs of a physics that is not Corvak's: three motors in ngspice, and how well they are estimated.

Usage: spice.py DIRECTORY [CORVAK [MOTOR...]]      (CORVAK: build/dev/corvak; all motors)

A bridge of transistors that open and close in 20 ns, diodes with drop, resistance and junction capacitance, dead
time, a bus behind cable and capacitor with its series resistance, and a winding in flux linkages
are written as a netlist; ngspice (Debian) simulates it edge by edge. The rotor is held, driven or
coasting at a speed that is given. The log has a row for each PWM period, at the carrier's valley,
read at once, with noise and 12 bits; a coast-down is also seen by an 8-bit scope. Then `corvak estimate` is run on the logs; its values are printed against
the truth. Logs that are there already are used again.
"""
import cmath
import json
import math
import os
import random
import subprocess
import sys

MOTORS = {
    "small": dict(r=0.020, ld=6.0e-6, lq=7.5e-6, flux=1.7e-3, poles=4, pwm=40e3, bus=24.0,
                  dead=150e-9, ron=2e-3, peak=25.0, fast=2500.0, range=60.0),
    "middle": dict(r=0.090, ld=70e-6, lq=70e-6, flux=7.0e-3, poles=7, pwm=24e3, bus=24.0,
                   dead=300e-9, ron=4e-3, peak=12.0, fast=1200.0, range=30.0),
    "large": dict(r=0.50, ld=0.7e-3, lq=1.1e-3, flux=0.020, poles=10, pwm=20e3, bus=36.0,
                  dead=500e-9, ron=8e-3, peak=6.0, fast=700.0, range=15.0),
}
HELD_RAD = 0.4
DRIVEN_PERIODS = 5000


def duties(v, bus):
    """Duties of a voltage vector, centred between the longest and the shortest pulse."""
    phases = [(v * cmath.exp(-2j * math.pi * n / 3)).real / bus for n in range(3)]
    middle = 0.5 * (max(phases) + min(phases))
    return [min(max(0.5 + x - middle, 0.0), 1.0) for x in phases]


class Speed:
    """Electrical speed in ramps and holds: [(seconds, rad/s at their end)]."""

    def __init__(self, points, theta=HELD_RAD):
        self.parts, t, w = [], 0.0, points[0][1]
        for length, end in points:
            rate = (end - w) / length
            self.parts.append((t, t + length, theta, w, rate))
            theta += length * (w + 0.5 * rate * length)
            t, w = t + length, end
        self.length = t

    def at(self, time):
        for begin, end, theta, w, rate in self.parts:
            if time < end or end == self.length:
                x = time - begin
                return theta + x * (w + 0.5 * rate * x), w + rate * x
        return None

    def expressions(self):
        """Angle and speed as ngspice writes functions of time."""
        angle = speed = "0"
        for begin, end, theta, w, rate in reversed(self.parts):
            x = f"(time-{begin:.9g})"
            here = (f"({theta:.12g}+{x}*({w:.9g}+{0.5 * rate:.9g}*{x}))",
                    f"({w:.9g}+{rate:.9g}*{x})")
            last = end == self.length
            angle = here[0] if last else f"(time<{end:.9g} ? {here[0]} : {angle})"
            speed = here[1] if last else f"(time<{end:.9g} ? {here[1]} : {speed})"
        return angle, speed


# ---- what is commanded ---------------------------------------------------------------------------

def held(m):
    """Levels of both signs in three directions, with a square wave across and along."""
    commands = []
    each = 240
    swing = 0.10 * m["bus"] if m["ld"] > 50e-6 else 1.5
    for direction in range(6):
        for level in (0.15, 0.4, 1.0):
            along = cmath.exp(1j * math.pi * direction / 3 + 0.2j)
            for n in range(each):
                sign = 1.0 if (n // 4) % 2 == 0 else -1.0
                other = along if (n // 64) % 2 == 0 else along * 1j
                commands.append(level * m["peak"] * (m["r"] + m["ron"]) * along
                                + sign * swing * other)
    return Speed([(len(commands) / m["pwm"], 0.0)]), commands


def driven(m):
    """Speeds and torque currents in steps, a little of d current now and then."""
    w = m["fast"]
    points = [(0.03, 0.25 * w), (0.05, 0.25 * w), (0.04, 0.6 * w), (0.05, 0.6 * w), (0.04, w),
              (0.06, w), (0.05, 0.45 * w), (0.05, 0.45 * w)]
    shorter = DRIVEN_PERIODS / m["pwm"] / sum(length for length, _ in points)
    speed = Speed([(0.002, 0.1 * w)] + [(shorter * length, end) for length, end in points])
    commands = []
    for k in range(int(speed.length * m["pwm"])):
        time = (k + 1.5) / m["pwm"]
        theta, omega = speed.at(min(time, speed.length))
        step = int(time * m["pwm"] / 260)
        i = complex((0.0, 0.0, -0.3, 0.0)[step % 4], (0.3, 0.8, 0.1, -0.4, 0.5)[step % 5])
        i *= 0.6 * m["peak"]
        v = ((m["r"] + m["ron"]) * i
             + 1j * omega * (m["ld"] * i.real + m["flux"] + 1j * m["lq"] * i.imag))
        commands.append(v * cmath.exp(1j * theta))
    return speed, commands


def coasting(m):
    w = m["fast"]
    return Speed([(0.001, w), (0.45, 0.25 * w)]), None


LOGS = {"standstill": held, "spin": driven, "coast": coasting}


# ---- the circuit ---------------------------------------------------------------------------------

def write_gates(path, m, commands):
    """A digital source's file: six gates, an edge late by the dead time where it switches on."""
    period, events = 1.0 / m["pwm"], []
    for k, v in enumerate(commands):
        for leg, duty in enumerate(duties(v, m["bus"])):
            rise, fall = (k + 0.5 - 0.5 * duty) * period, (k + 0.5 + 0.5 * duty) * period
            events += [(rise, 2 * leg + 1, 0), (rise + m["dead"], 2 * leg, 1),
                       (fall, 2 * leg, 0), (fall + m["dead"], 2 * leg + 1, 1)]
    state = [0, 1, 0, 1, 0, 1]
    lines, at = [], 0.0
    for time, gate, on in sorted(events):
        if time > at + 1e-12:
            lines.append((at, list(state)))
            at = time
        state[gate] = on
    lines.append((at, list(state)))
    with open(path, "w", encoding="ascii") as out:
        for time, gates in lines:
            out.write(f"{time:.12e} " + " ".join(f"{g}s" for g in gates) + "\n")


def netlist(m, name, speed, commands, folder):
    period = 1.0 / m["pwm"]
    angle, omega = speed.expressions()
    lines = [f"* {name}", ".options reltol=1e-3 abstol=1e-5 vntol=1e-5 method=gear interp",
             ".model body d(is=2e-9 n=1.1 rs=3e-3 cjo=1.2e-9 vj=0.6 m=0.4)"]
    if commands is not None:
        write_gates(f"{folder}/{name}.gates", m, commands)
        lines += ["agates [d0 d1 d2 d3 d4 d5] gates",
                  f'.model gates d_source(input_file="{name}.gates")',
                  "adac [d0 d1 d2 d3 d4 d5] [g0 g1 g2 g3 g4 g5] dac",
                  ".model dac dac_bridge(out_low=0 out_high=1 t_rise=2e-8 t_fall=2e-8)",
                  f"vbat src 0 {m['bus']}", "lcable src cable 0.4u", "rcable cable bus 8m",
                  f"cbus bus esr 470u ic={m['bus']}", "resr esr 0 6m"]
        for leg in range(3):
            high, low = (f"(1e-6+v(g{2 * leg + side})**3/{m['ron']:.6g})" for side in (0, 1))
            lines += [f"bh{leg} bus n{leg} i=v(bus,n{leg})*{high}", f"dh{leg} n{leg} bus body",
                      f"bl{leg} n{leg} 0 i=v(n{leg})*{low}", f"dl{leg} 0 n{leg} body"]
        lines += [f"bvd vd 0 v=((2*v(n0)-v(n1)-v(n2))/3)*cos(v(th))+((v(n1)-v(n2))/{3 ** 0.5:.12g})*sin(v(th))",
                  f"bvq vq 0 v=((v(n1)-v(n2))/{3 ** 0.5:.12g})*cos(v(th))-((2*v(n0)-v(n1)-v(n2))/3)*sin(v(th))",
                  # flux linkages as voltages, a thousand times as large
                  f"cd pd 0 1m ic={1e3 * m['flux']:.9g}", "cq pq 0 1m ic=0",
                  f"bpd 0 pd i=v(vd)-{m['r']:.9g}*v(id)+v(w)*v(pq)*1e-3",
                  f"bpq 0 pq i=v(vq)-{m['r']:.9g}*v(iq)-v(w)*v(pd)*1e-3",
                  f"bid id 0 v=(v(pd)*1e-3-{m['flux']:.9g})/{m['ld']:.9g}",
                  f"biq iq 0 v=v(pq)*1e-3/{m['lq']:.9g}"]
        for leg in range(3):
            turn = f"(v(th)-{2 * math.pi * leg / 3:.12g})"
            lines += [f"bi{leg} i{leg} 0 v=v(id)*cos{turn}-v(iq)*sin{turn}",
                      f"bw{leg} n{leg} 0 i=v(i{leg})"]
        save = "v(i0) v(i1) v(i2) v(bus)"
    else: # the bridge is off: the windings' back-EMF against dividers at the terminals
        for leg in range(3):
            turn = f"(v(th)-{2 * math.pi * leg / 3:.12g})"
            lines += [f"be{leg} n{leg} star v=-v(w)*{m['flux']:.9g}*sin{turn}",
                      f"rd{leg} n{leg} 0 100k"]
        lines += [f"vhalf half 0 {0.5 * m['bus']}", "rstar star half 47k"]
        save = "v(n0) v(n1) v(n2)"
    lines += [f"bth th 0 v={angle}", f"bw w 0 v={omega}",
              f".tran {period:.12g} {speed.length:.9g} 0 {period / 10:.9g} uic",
              ".control", f"save {save}", "run",
              "set wr_singlescale", f"wrdata {name}.raw {save}", ".endc", ".end"]
    return "\n".join(lines) + "\n"


# ---- from the circuit to a log -------------------------------------------------------------------

def quantised(value, span, bits, noise, draw):
    step = span / (2 ** bits - 1)
    return step * round((value + draw.gauss(0.0, noise)) / step)


def write_log(path, m, name, rows, commands, bits=12):
    draw = random.Random(name + str(bits))
    noise = (0.0 if bits < 12 else 0.7) * 2.0 * m["range"] / 4095.0
    with open(path, "w", encoding="ascii") as out:
        out.write("# current_gain_tolerance: 0\n# voltage_gain_tolerance: 0\n")
        if commands is None:
            out.write("t [s],va [V],vb [V],vc [V]\n")
            for time, *v in rows:
                cells = [quantised(x, 1.2 * m["bus"], bits, noise * 0.01, draw) for x in v]
                out.write(f"{time:.7f}," + ",".join(f"{x:.5f}" for x in cells) + "\n")
            return
        out.write("t [s],ia [A],ib [A],ic [A],duty_a,duty_b,duty_c,vdc [V]\n")
        for k, (time, a, b, c, bus) in enumerate(rows):
            if k + 1 >= len(commands):
                break
            cells = [quantised(x, 2.0 * m["range"], bits, noise, draw) for x in (a, b, c)]
            cells += duties(commands[k + 1], m["bus"])  # computed now, act a period later
            cells.append(quantised(bus, 1.5 * m["bus"], bits, 0.01, draw))
            out.write(f"{time:.7f}," + ",".join(f"{x:.5f}" for x in cells) + "\n")


def simulate(folder, motor, log):
    m, name = MOTORS[motor], f"{motor}-{log}"
    path = f"{folder}/{name}.csv"
    if os.path.exists(path):
        return
    speed, commands = LOGS[log](m)
    with open(f"{folder}/{name}.cir", "w", encoding="ascii") as out:
        out.write(netlist(m, name, speed, commands, folder))
    run = subprocess.run(["ngspice", "-b", f"{name}.cir"], cwd=folder, capture_output=True,
                         text=True, check=False)
    if not os.path.exists(f"{folder}/{name}.raw"):
        sys.exit(f"ngspice failed on {name}:\n{run.stdout[-2000:]}{run.stderr[-2000:]}")
    with open(f"{folder}/{name}.raw", encoding="ascii") as raw:
        rows = [[float(x) for x in line.split()] for line in raw]
    write_log(path, m, name, rows, commands)
    if commands is None:
        write_log(f"{folder}/{motor}-scope.csv", m, name, rows, commands, bits=8)
    for ending in ("raw", "gates"):
        if os.path.exists(f"{folder}/{name}.{ending}"):
            os.remove(f"{folder}/{name}.{ending}")


# ---- scores --------------------------------------------------------------------------------------

SETS = [("standstill", ["standstill"]), ("spin", ["spin"]), ("coast", ["coast"]),
        ("coast, 8-bit scope", ["scope"]), ("standstill + spin", ["standstill", "spin"]),
        ("standstill + spin + coast", ["standstill", "spin", "coast"])]
KEYS = [("resistance_ohm", "R"), ("inductance_d_h", "Ld"), ("inductance_q_h", "Lq"),
        ("flux_linkage_wb", "flux linkage")]


def truth(m, key):
    return {"resistance_ohm": m["r"] + m["ron"], "inductance_d_h": m["ld"],
            "inductance_q_h": m["lq"], "flux_linkage_wb": m["flux"]}[key]


def score(folder, corvak, motors):
    print("| motor | logs | " + " | ".join(label for _, label in KEYS) + " |")
    print("|---|---|" + "---|" * len(KEYS))
    for motor in motors:
        for label, logs in SETS:
            run = subprocess.run([corvak, "estimate", "--json"]
                                 + [f"{folder}/{motor}-{log}.csv" for log in logs],
                                 capture_output=True, text=True, check=False)
            entries = json.loads(run.stdout)["motor"] if run.stdout else {}
            cells = []
            for key, _ in KEYS:
                e = entries.get(key)
                if not e:
                    cells.append("open")
                    continue
                is_value = truth(MOTORS[motor], key)
                off = 100.0 * (e["value"] / is_value - 1.0)
                half = 50.0 * (e["high"] - e["low"]) / e["value"]
                inside = e["low"] <= is_value <= e["high"]
                cells.append(f"{off:+.2f} % (±{half:.2f})" + ("" if inside else " **outside**"))
            print(f"| {motor} | {label} | " + " | ".join(cells) + " |", flush=True)


def main():
    if len(sys.argv) < 2 or sys.argv[1].startswith("-"):
        sys.exit(__doc__)
    folder = sys.argv[1]
    corvak = os.path.realpath(sys.argv[2] if len(sys.argv) > 2 else "build/dev/corvak")
    motors = sys.argv[3:] or list(MOTORS)
    for motor in motors:
        if motor not in MOTORS:
            sys.exit(f"spice.py: no motor {motor}; choose from {', '.join(MOTORS)}")
    os.makedirs(folder, exist_ok=True)
    for motor in motors:
        for log in LOGS:
            simulate(folder, motor, log)
    score(folder, corvak, motors)


if __name__ == "__main__":
    main()
