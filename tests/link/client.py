# SPDX-License-Identifier: Apache-2.0
"""A host in Python, made from corvak.proto and docs/link.md alone: reads both tables, streams, makes
a guarded change that is kept and one that goes back. client.py HOST PORT FOLDER_OF_CORVAK_PB2"""

import socket
import sys
import time
import zlib

sys.path.insert(0, sys.argv[3])
import corvak_pb2 as pb  # noqa: E402


def frame(message):
    whole = message + zlib.crc32(message).to_bytes(4, "little")
    return b"~" + whole.replace(b"}", b"}]").replace(b"~", b"}^") + b"~"


class Controller:
    """Questions and answers; what comes unasked is kept in `state` and `samples`."""

    def __init__(self, host, port):
        self.socket = socket.create_connection((host, port), 3)
        self.pending, self.id = b"", 0
        self.state, self.samples = None, []

    def read(self, wait_s):
        """Answers that have come."""
        answers = []
        self.socket.settimeout(wait_s)
        try:
            self.pending += self.socket.recv(65536)
        except socket.timeout:
            return answers
        *parts, self.pending = self.pending.split(b"~")
        for part in parts:
            whole = part.replace(b"}^", b"~").replace(b"}]", b"}")
            if len(whole) > 4 and zlib.crc32(whole[:-4]).to_bytes(4, "little") == whole[-4:]:
                message = pb.FromController.FromString(whole[:-4])
                if message.WhichOneof("what") == "state":
                    self.state = message.state
                elif message.WhichOneof("what") == "samples":
                    self.samples.append(message.samples)
                else:
                    answers.append(message)
        return answers

    def ask(self, **what):
        self.id += 1
        self.socket.sendall(frame(pb.ToController(id=self.id, **what).SerializeToString()))
        until = time.monotonic() + 2
        while time.monotonic() < until:
            for message in self.read(0.1):
                if message.id == self.id:
                    return message
        raise SystemExit(f"no answer to {what}")

    def done(self, **what):
        answer = self.ask(**what)
        assert answer.WhichOneof("what") in ("done", "staged"), answer
        return answer

    def wait(self, length_s, until=lambda: False):
        end = time.monotonic() + length_s
        while time.monotonic() < end and not until():
            for _ in self.read(0.02):
                pass
            self.ask(word=pb.Word(kind=pb.Word.REFRESH))

    def table(self, name, count):
        rows = []
        while len(rows) < count:
            page = getattr(self.ask(**{name: pb.Page(first=len(rows))}), name)
            assert page.first == len(rows) and page.row
            rows += page.row
        return rows


def change(controller, place, value, terms):
    staged = controller.done(stage=pb.Stage(
        fresh=True, setting=[pb.Setting(parameter=place, value=value)])).staged
    assert staged.differing == 1
    return controller.ask(adopt=pb.Adopt(check=staged.check, terms=terms))


def main():
    controller = Controller(sys.argv[1], int(sys.argv[2]))
    identity = controller.ask(identify=pb.Identify(protocol=1)).identity
    assert identity.protocol == 1
    parameters = controller.table("parameters", identity.parameters)
    signals = controller.table("signals", identity.signals)
    keys = [row.key for row in parameters]
    names = [row.name for row in signals]
    values = controller.ask(values=pb.Page()).values.value
    assert len(values) == len(keys)
    print(f"{identity.name}: {len(keys)} parameters, {len(names)} signals")

    controller.done(claim=pb.Claim(lease_s=3))
    controller.done(request=pb.Request(mode=pb.Request.REST))
    see = lambda name: controller.ask(look=pb.Look(signal=[names.index(name)])).seen.value[0]
    controller.wait(30.0, lambda: see("rest_done") == 1)
    controller.done(request=pb.Request(mode=pb.Request.SPEED, speed_rad_s=180))
    controller.wait(30.0, lambda: abs(see("speed_e") - 180) < 5)
    speed = see("speed_e")
    assert abs(speed - 180) < 20, speed
    print(f"turns at {speed:.1f} rad/s")

    controller.samples.clear()
    controller.done(stream=pb.Stream(signal=[names.index("iq"), names.index("speed_e")], decimation=4))
    controller.wait(30.0, lambda: len(controller.samples) > 20)
    controller.done(stream=pb.Stream())
    tick, rows = controller.samples[0].tick, 0
    for samples in controller.samples:
        assert samples.lost == 0 and samples.tick == tick + 4 * rows, (samples.tick, tick, rows)
        rows += len(samples.value) // 2
    assert rows > 1000, rows
    print(f"{rows} rows of two signals without a gap")

    gain = keys.index("speed.gain_a_s")
    terms = pb.Terms(watch_s=0.3, confirm_s=20)
    assert change(controller, gain, 1.5 * values[gain], terms).WhichOneof("what") == "done"
    controller.wait(30.0, lambda: controller.state.trial == 2)
    controller.done(word=pb.Word(kind=pb.Word.KEEP))
    controller.wait(30.0, lambda: controller.state.trial == 3)
    assert controller.state.trial == 3, controller.state
    now = controller.ask(values=pb.Page()).values.value[gain]
    assert abs(now - 1.5 * values[gain]) < 1e-6, now
    print("a change was kept")

    terms = pb.Terms(watch_s=0.2, confirm_s=0.2)
    assert change(controller, gain, 2.0 * values[gain], terms).WhichOneof("what") == "done"
    controller.wait(30.0, lambda: controller.state.trial == 4)
    assert controller.state.trial == 4, controller.state
    assert controller.ask(values=pb.Page()).values.value[gain] == now
    print("one that nobody kept went back")

    refused = controller.ask(request=pb.Request(mode=pb.Request.SPEED, speed_rad_s=1e9)).refused
    assert refused.why == pb.OUT_OF_RANGE and refused.field == "speed_rad_s"
    controller.done(request=pb.Request(mode=pb.Request.STOP))
    controller.wait(30.0, lambda: not controller.state.bridge_on)
    assert not controller.state.bridge_on
    print("stopped")


main()
