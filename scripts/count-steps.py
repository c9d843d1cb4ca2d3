#!/usr/bin/env python3
# SPDX-License-Identifier: Apache-2.0
"""Counts what each step of a control call costs on an emulated Cortex-M4F, for each observer.

Usage: count-steps.py [HOST_BUILD [M4F_BUILD]]      (presets dev and cortex-m4f)

A recorded run of the potter's wheel is replayed while the emulator writes down which blocks of
instructions it executes; the debug information says which source file each came from. An
instruction belongs to the file of the outermost function under cvk_drive_control() that it was
inlined into. Counted are calls with a torque asked for, and calls with the speed loop.
"""
import collections
import os
import re
import subprocess
import sys
import tempfile

HOST = os.path.realpath(sys.argv[1] if len(sys.argv) > 1 else "build/dev")
M4F = os.path.realpath(sys.argv[2] if len(sys.argv) > 2 else "build/cortex-m4f")
PROGRAM = M4F + "/ports/cortex_m4f/replay_on_m4f"
PIPE = "trace"
STEPS = {  # of the page, by file; the first six are the control itself
    "currents, bus": ["measure.c"],
    "faults": ["protect.c"],
    "angle sources": ["angles.c", "rotor.c", "observer.c", "observer_flux.c", "observer_emf.c",
                      "observer_kalman.c", "tracking.c", "winding.c"],
    "current control": ["current_control.c"],
    "modulation": ["modulate.c", "svm.c"],
    "references, limits": ["reference.c", "motion.c", "torque.c"],
    "start and stop": ["startup.c", "catch.c", "seek.c"],
    "readings, owner, gates, frame": ["drive.c", "trial.c", "excitation.c"],
}
TOGETHER = list(STEPS)[:6]
STEP_OF = {file: step for step, files in STEPS.items() for file in files}
SPARE = {"frames.h", "arithmetic.h", "angles.h", "observer.h", "inverter.h"}  # helpers, inlined anywhere


def sources():
    """For each instruction the inlined functions it stands in, innermost first: (function, file)."""
    listing = subprocess.run(["arm-none-eabi-objdump", "-d", PROGRAM], capture_output=True,
                             text=True, check=True).stdout
    addresses = [int(a, 16) for a in re.findall(r"^ *([0-9a-f]+):\t", listing, re.M)]
    text = subprocess.run(["arm-none-eabi-addr2line", "-i", "-f", "-a", "-e", PROGRAM],
                          input="\n".join(map(hex, addresses)), capture_output=True, text=True,
                          check=True).stdout.splitlines()
    out, n, at = {}, 0, None
    while n < len(text):
        if text[n].startswith("0x"):
            at = int(text[n], 16)
            out[at] = []
            n += 1
        else:
            out[at].append((text[n], text[n + 1].rsplit("/", 1)[-1].split(":")[0]))
            n += 2
    return out


def step_of(chain):
    """None for what is not of the core."""
    files = [file for _, file in reversed(chain) if file not in SPARE]
    deeper = [file for file in files if file != "drive.c" and file in STEP_OF]
    return STEP_OF[deeper[0]] if deeper else STEP_OF.get("drive.c") if "drive.c" in files else None


def blocks(stream):
    """Yields (start, None) for a block executed and (start, addresses) for one translated."""
    start, addresses = None, []
    for line in stream:
        if line.startswith("0x"):
            addresses.append(int(line[2:10], 16))
        else:
            if addresses:
                yield addresses[0], addresses
                addresses = []
            if line.startswith("Trace"):
                yield int(line.split("/")[1], 16), None


def count(kind, chains):
    """Mean instructions a call: {loop: {step: n}}."""
    subprocess.run([HOST + "/bench/record_readings", "plain", kind], check=True)
    os.mkfifo(PIPE)
    board = subprocess.Popen(
        ["qemu-system-arm", "-M", "mps2-an386", "-nographic", "-icount", "shift=0",
         "-semihosting-config", "enable=on,target=native", "-d", "exec,nochain,in_asm", "-D", PIPE,
         "-kernel", PROGRAM], stdout=subprocess.DEVNULL)
    call, calls = collections.Counter(), collections.Counter()
    cost = collections.defaultdict(collections.Counter)
    names = {}
    with open(PIPE, encoding="utf-8", errors="replace") as stream:
        for start, translated in blocks(stream):
            if translated:
                here = [chains.get(a, []) for a in translated]
                names[start] = ({name for chain in here for name, _ in chain},
                                collections.Counter(map(step_of, here)))
                continue
            call[start] += 1
            if "fwrite" in names[start][0]:  # the call's duties are written: it is over
                seen = set().union(*(names[b][0] for b in call))
                if "cvk_drive_control" in seen and "watch_rotor" not in seen and \
                        "cvk_current_control_step" in seen:
                    loop = "speed" if "speed_control" in seen else "torque"
                    calls[loop] += 1
                    for block, times in call.items():
                        for step, n in names[block][1].items():
                            cost[loop][step] += n * times
                call.clear()
    board.wait()
    os.remove(PIPE)
    return {loop: {step: n / calls[loop] for step, n in c.items()} for loop, c in cost.items()}


def main():
    kinds = ["flux", "emf", "kalman"]
    chains = sources()
    with tempfile.TemporaryDirectory() as folder:
        os.chdir(folder)
        found = {kind: count(kind, chains) for kind in kinds}
    print(f"{'instructions a call':32}" + "".join(f"{k:>10}" for k in kinds))
    for step in STEPS:
        print(f"{step:32}" + "".join(f"{found[k]['torque'].get(step, 0):10.0f}" for k in kinds))
        if step == TOGETHER[-1]:
            print(f"{'= these together':32}" + "".join(
                f"{sum(found[k]['torque'].get(s, 0) for s in TOGETHER):10.0f}" for k in kinds))
    for loop in ("torque", "speed"):
        print(f"{'whole call, ' + loop + ' asked for':32}" + "".join(
            f"{sum(n for s, n in found[k][loop].items() if s):10.0f}" for k in kinds))


if __name__ == "__main__":
    main()
