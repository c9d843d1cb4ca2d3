#!/usr/bin/python3
# SPDX-License-Identifier: Apache-2.0
"""Types at a program as a person does, on a terminal of its own, and shows what comes: for pictures
and for a look at the prompt. type-session.py KEYS_FILE COMMAND ...
Each line of KEYS_FILE is typed with Enter; `@wait S` waits, `@key TEXT` types without Enter (\\t for Tab,
\\x03 for Ctrl-C)."""

import os
import pty
import select
import sys
import time


def copy_for(master, seconds):
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        if master in select.select([master], [], [], 0.05)[0]:
            try:
                os.write(1, os.read(master, 65536))
            except OSError:
                return


def main():
    pid, master = pty.fork()
    if pid == 0:
        os.execvp(sys.argv[2], sys.argv[2:])
    copy_for(master, 2.0)
    for line in open(sys.argv[1], encoding="utf-8"):
        line = line.rstrip("\n")
        if line.startswith("@wait "):
            copy_for(master, float(line[6:]))
        elif line.startswith("@key "):
            os.write(master, line[5:].encode().decode("unicode_escape").encode())
            copy_for(master, 0.5)
        else:
            os.write(master, line.encode() + b"\n")
            copy_for(master, 0.7)
    copy_for(master, 1.0)
    os.close(master)


main()
