"""How much a press waits while clients flood the engine with requests: thousands a second, and 59 KB in one packet."""

from __future__ import annotations

import os
import random
import subprocess
import sys
import time
from pathlib import Path

from effort import Effort
from figures import Figure, percentile
from host import bare_loop, measured_engine, press_time, write_desk

_FLOODER = """
import contextlib, select, socket, sys, time
there = socket.socket(socket.AF_UNIX)
there.connect(sys.argv[1])
there.sendall(b'{"do":"hello","protocol":1}\\n')
there.recv(65536)
there.setblocking(False)
packet = b'{"do":"desk"}\\n' * 4200 if sys.argv[2] == "packets" else b'{"do":"traces","count":1}\\n' * 20
while True:
    with contextlib.suppress(BlockingIOError):
        there.send(packet)
    with contextlib.suppress(BlockingIOError):
        there.recv(1 << 20)
    if sys.argv[2] != "packets":
        time.sleep(0.002)
    else:
        select.select([there], [there], [], 0.1)
"""


def flooded_presses(folder: Path, effort: Effort) -> list[Figure]:
    """Press to first effect with floods and without, in turn with a bare loop that shares the machine with them."""
    figures = []
    for kind, words in (("requests", "10,000 requests a second"), ("packets", "requests in packets of 59 KB")):
        pipes = [os.pipe() for _ in range(4)]
        (in_read, in_write), (out_read, out_write), (bare_in, bare_write), (bare_read, bare_out) = pipes
        chance = random.Random(2)
        ours: list[float] = []
        loop: list[float] = []
        with measured_engine(write_desk(folder / kind), "--source", str(in_read), "--target", str(out_write),
                             pass_fds=(in_read, out_write)) as (path, _), bare_loop(bare_in, bare_out):
            flooder = subprocess.Popen([sys.executable, "-c", _FLOODER, str(path), kind])
            try:
                time.sleep(1)
                for _ in range(effort.of(600, 20)):
                    time.sleep(chance.uniform(0.004, 0.012))
                    ours.append(press_time(in_write, out_read))
                    time.sleep(chance.uniform(0.004, 0.012))
                    loop.append(press_time(bare_write, bare_read))
            finally:
                flooder.kill()
                flooder.wait()
        for pair in pipes:
            os.close(pair[0])
            os.close(pair[1])
        rare, beside = percentile(ours, 0.99), percentile(loop, 0.99)
        figures += [
            Figure(f"press to first effect under {words}, median; beside a bare Python loop", percentile(ours, 0.5),
                   "ms", percentile(loop, 0.5)),
            Figure(f"the same under {words}, 99th percentile", rare, "ms", beside,
                   "at most 5 ms more", rare <= beside + 5)]
    return figures
