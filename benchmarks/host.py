"""What is measured on the host: press to effect over pipes, lateness of steps, idleness, memory, start."""

from __future__ import annotations

import json
import os
import random
import shlex
import signal
import struct
import subprocess
import sys
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, nullcontext
from pathlib import Path

from brass_pebble.client import EngineClient, start_engine
from effort import Effort
from figures import Figure, percentile

HERE = Path(__file__).parent
EVENT = struct.Struct("llHHi")
SYN = EVENT.pack(0, 0, 0, 0, 0)
KEY = 76  # Pad5
BRASS_PEBBLE = Path(sys.executable).parent / "brass-pebble"


def record(code: int, value: int) -> bytes:
    seconds, rest = divmod(time.monotonic_ns(), 1_000_000_000)
    return EVENT.pack(seconds, rest // 1000, 1, code, value) + SYN


def write_desk(folder: Path, *, surfaces: int = 1, busy: int = 0, steps: int = 2000, interval: str = "5ms") -> Path:
    """A desk with a surface “pipe” and more, a macro of timed steps, and macros that keep the engine busy."""
    (folder / "macros").mkdir(parents=True, exist_ok=True)
    text = 'format = 1\nname = "Measured"\noutput = "stage"\ntap = "1ms"\n'
    for index in range(surfaces):
        name = "pipe" if index == 0 else f"pad-{index}"
        text += (f'[surface.{name}]\nname = "Pad {index}"\nlayout = "numpad"\nat = [{index * 4.5}, 0]\n'
                 f"[surface.{name}.layer.base.press]\n")
        text += "".join(f'{n} = {{ tap = "Ctrl+{n}" }}\n' for n in range(10) if n != 5) + '5 = { sustain = "F14" }\n'
    (folder / "desk.toml").write_text(text)
    number, unit = interval[:-2], interval[-2:]
    (folder / "macros" / "steps.macro").write_text(
        f"repeat {steps // 2} every {2 * int(number)}{unit}\n  tap F13 for {interval}\n")
    for index in range(busy):
        (folder / "macros" / f"busy-{index}.macro").write_text(
            f"again ignore\nrepeat 4000 every {10 + index % 5}ms\n  tap {chr(65 + index)} for 5ms\n")
    return folder


@contextmanager
def measured_engine(desk: Path, *options: str, pass_fds: tuple[int, ...] = ()) -> Iterator[tuple[Path, int]]:
    """The engine of measured_engine.py: its socket and process id."""
    process = subprocess.Popen([sys.executable, str(HERE / "measured_engine.py"), "--desk", str(desk), *options],
                               stdout=subprocess.PIPE, pass_fds=pass_fds)
    assert process.stdout
    try:
        yield Path(json.loads(process.stdout.readline())["socket"]), process.pid
    finally:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=20)


@contextmanager
def open_screen(desk: Path) -> Iterator[None]:
    """The real screen on that engine, in a terminal of its own."""
    # A name of its own each time: a server that is still ending would take the next one along.
    name = f"bench-{uuid.uuid4().hex[:8]}"
    names = ("XDG_RUNTIME_DIR", "XDG_STATE_HOME")
    command = shlex.join(["env", "-u", "COLUMNS", "-u", "LINES", *(f"{n}={os.environ[n]}" for n in names),
                          str(BRASS_PEBBLE), "--desk", str(desk)])
    subprocess.run(["tmux", "-L", name, "-f", "/dev/null", "new-session", "-d", "-x", "160", "-y", "40", command],
                   check=True)
    try:
        end = time.monotonic() + 10
        while "PAD 0" not in subprocess.run(["tmux", "-L", name, "capture-pane", "-p"], capture_output=True,
                                            text=True, check=False).stdout:
            if time.monotonic() > end:
                raise TimeoutError("the screen did not open")
            time.sleep(0.1)
        yield
    finally:
        subprocess.run(["tmux", "-L", name, "kill-server"], check=False, capture_output=True)


def press_time(source: int, target: int) -> float:
    """Milliseconds from writing a press to reading its first effect; then the key goes up again."""
    began = time.perf_counter()
    os.write(source, record(KEY, 1))
    os.read(target, 4096)
    taken = 1000 * (time.perf_counter() - began)
    os.write(source, record(KEY, 0))
    os.read(target, 4096)
    return taken


@contextmanager
def bare_loop(source: int, target: int) -> Iterator[None]:
    """The bare Python loop between two descriptors."""
    process = subprocess.Popen([sys.executable, str(HERE / "bare_loop.py"), str(source), str(target)],
                               pass_fds=(source, target))
    time.sleep(0.3)
    try:
        yield
    finally:
        process.kill()
        process.wait()


def measured_presses(folder: Path, count: int) -> list[float]:
    """So many presses of an engine of their own: ms from an input's descriptor to an output's."""
    (in_read, in_write), (out_read, out_write) = os.pipe(), os.pipe()
    chance, times = random.Random(1), []
    with measured_engine(write_desk(folder), "--source", str(in_read), "--target", str(out_write),
                         pass_fds=(in_read, out_write)):
        for _ in range(count):
            time.sleep(chance.uniform(0.002, 0.02))
            times.append(press_time(in_write, out_read))
    for fileno in (in_read, in_write, out_read, out_write):
        os.close(fileno)
    return times


def press_to_effect(folder: Path, effort: Effort) -> list[Figure]:
    """With ordinary priority, and with the real-time one that a person may ask for."""
    count = effort.of(1000, 20)
    return [*_press_to_effect(folder / "ordinary", "", count),
            *_press_to_effect(folder / "raised", " with --real-time", count, "--real-time")]


def _press_to_effect(folder: Path, priority: str, count: int, *options: str) -> list[Figure]:
    """From an input's descriptor to an output's, with the screen open and repainting.

    The engine and the bare loop are pressed in turn, at uneven intervals, so that both meet the same machine.
    """
    pipes = [os.pipe() for _ in range(4)]
    (in_read, in_write), (out_read, out_write), (bare_in, bare_write), (bare_read, bare_out) = pipes
    desk = write_desk(folder / "press")
    chance = random.Random(1)
    ours: list[float] = []
    loop: list[float] = []
    with measured_engine(desk, "--source", str(in_read), "--target", str(out_write), *options,
                         pass_fds=(in_read, out_write)), bare_loop(bare_in, bare_out), open_screen(desk):
        for _ in range(count):
            time.sleep(chance.uniform(0.004, 0.012))
            ours.append(press_time(in_write, out_read))
            time.sleep(chance.uniform(0.004, 0.012))
            loop.append(press_time(bare_write, bare_read))
    for pair in pipes:
        os.close(pair[0])
        os.close(pair[1])
    median, beside = percentile(ours, 0.5), percentile(loop, 0.5)
    return [
        Figure(f"press to first effect{priority}, median, screen repainting; beside a bare Python loop",
               median, "ms", beside,
               "under 0.2 ms, at most 4×", median < 0.2 and median <= 4 * beside),
        Figure(f"the same{priority}, 99th percentile", percentile(ours, 0.99), "ms", percentile(loop, 0.99),
               "under 1 ms", percentile(ours, 0.99) < 1),
    ]


def play_and_record(folder: Path, binary: Path, *, steps: int, interval: str, busy: int = 0,
                    screen: bool = False) -> tuple[list[float], list[float]]:
    """Lateness in ms of each step of one macro, and of the C loop's steps at the very same time."""
    desk = write_desk(folder, steps=steps, interval=interval, busy=busy)
    file = folder / "late.json"
    with measured_engine(desk, "--record", str(file)) as (socket, _), EngineClient(socket) as client, \
            (open_screen(desk) if screen else nullcontext()):
        for index in range(busy):
            client.ask("play", macro=f"busy-{index}")
        time.sleep(0.2)
        loop = subprocess.Popen([str(binary), "steps", str(steps), str(int(interval[:-2]) * 1_000_000)],
                                stdout=subprocess.PIPE, text=True)
        length = client.ask("play", macro="steps")["length_ms"]
        time.sleep(length / 1000 + 0.3)
        told = loop.communicate()[0]
    return [late / 1e6 for late in json.loads(file.read_text())], [int(line) / 1e6 for line in told.split()]


def lateness(folder: Path, binary: Path, effort: Effort) -> list[Figure]:
    """Steps 5 ms apart against the C loop; then 20 macros at once with a busy screen; then drift."""
    figures = []
    steps, rounds_of = effort.of(2000, 40), effort.of(5, 1)
    for name, busy in (("alone", 0), ("20 macros and a busy screen", 20)):
        rounds = [play_and_record(folder / f"late-{busy}-{turn}", binary, steps=steps, interval="5ms", busy=busy,
                                  screen=bool(busy)) for turn in range(rounds_of)]
        # Pauses of the whole machine hit one or the other: the round counts in which the C loop was steadiest.
        ours, loop = min(rounds, key=lambda pair: percentile(pair[1], 0.99))
        value, beside = percentile(ours, 0.99), percentile(loop, 0.99)
        figures.append(Figure(f"lateness of {steps:,} steps 5 ms apart, {name}, median; beside C clock_nanosleep",
                              percentile(ours, 0.5), "ms", percentile(loop, 0.5)))
        figures.append(Figure(f"the same, {name}, 99th percentile", value, "ms", beside, "at most 2×",
                              value <= 2 * beside))
    drifting, _ = play_and_record(folder / "drift", binary, steps=effort.of(10_000, 100), interval="2ms")
    ends = len(drifting) // 20
    drift = abs(percentile(drifting[-ends:], 0.5) - percentile(drifting[:ends], 0.5))
    figures.append(Figure(f"drift over {len(drifting):,} steps: medians of the last and first {ends}", drift, "ms",
                          None, "under 1 ms", drift < 1))
    return figures


def idle(folder: Path, effort: Effort) -> list[Figure]:
    """Six surfaces open, nobody presses: wake-ups, memory, and how soon it was ready."""
    desk = write_desk(folder / "idle", surfaces=6)
    bench = folder / "bench.toml"
    bench.write_text("".join(f'[[device]]\nid = "b{i}"\nname = "Pad {i}"\nlayout = "numpad"\n' for i in range(6)))
    text = (desk / "desk.toml").read_text()
    for index in range(6):
        text = text.replace(f'name = "Pad {index}"\n', f'name = "Pad {index}"\ndevice = {{ name = "Pad {index}" }}\n')
    (desk / "desk.toml").write_text(text)
    starts = []
    rounds, longest = effort.of(5, 1), effort.of(10, 1)
    for _ in range(rounds):
        began = time.perf_counter()
        _, process = start_engine(desk, "--bench", str(bench), "--bench-only")
        starts.append(time.perf_counter() - began)
        time.sleep(1)

        def status(field: str, pid: int = process.pid) -> int:
            lines = Path(f"/proc/{pid}/status").read_text().splitlines()
            return next(int(line.split()[1]) for line in lines if line.startswith(field))
        before = status("voluntary_ctxt_switches")
        time.sleep(4 if len(starts) > 1 else longest)
        wakes, memory = status("voluntary_ctxt_switches") - before, status("VmRSS") / 1024
        process.send_signal(signal.SIGTERM)
        process.wait()
        if len(starts) == 1:
            first = (wakes, memory)
    python = []
    for _ in range(rounds):
        began = time.perf_counter()
        subprocess.run([sys.executable, "-c", "pass"], check=True)
        python.append(time.perf_counter() - began)
    return [
        Figure(f"wake-ups in {longest} s, six surfaces, nobody presses", first[0], "", None, "none", first[0] == 0),
        Figure("memory of the engine (VmRSS)", first[1], "MB", None, "under 60 MB", first[1] < 60),
        Figure(f"ready after its start, median of {rounds}; beside an empty Python", percentile(starts, 0.5), "s",
               percentile(python, 0.5), "within 0.6 s", percentile(starts, 0.5) < 0.6),
    ]
