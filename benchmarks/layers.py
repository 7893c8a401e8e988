"""What layers, gestures and following cost a press that needs none of them: two engines side by side."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path

from brass_pebble.client import EngineClient
from effort import Effort
from figures import Figure, percentile
from host import measured_engine, press_time, write_desk

LAYERS = 6
CHANGE_EVERY = 25


def write_layered(folder: Path) -> Path:
    """The plain desk with six layers on above it, gestures on every other control, and a layer that follows."""
    desk = write_desk(folder)
    text = (desk / "desk.toml").read_text()
    for number in range(1, LAYERS + 1):
        text += f'[surface.pipe.layer.l{number}]\nstarts = "on"\n'
        if number == LAYERS:
            text += 'follows = { class = "Crumb*" }\n'
        for gesture, kind in (("press", "tap"), ("tap", "tap"), ("double tap", "latch"), ("hold", "sustain"),
                              ("release", "tap"), ("with 0", "rapid")):
            text += f'[surface.pipe.layer.l{number}."{gesture}"]\n'
            text += "".join(f'{n} = {{ {kind} = "F{13 + n}" }}\n' for n in range(1, 10) if n != 5)
    (desk / "desk.toml").write_text(text)
    return desk


@contextmanager
def display() -> Iterator[None]:
    """A virtual display for the engine that follows, if there is one here."""
    if shutil.which("Xvfb") is None:
        yield
        return
    name = f":{800 + os.getpid() % 100}"
    server = subprocess.Popen(["Xvfb", name, "-screen", "0", "400x300x24"], stderr=subprocess.DEVNULL)
    before = os.environ.get("DISPLAY")
    os.environ["DISPLAY"] = name
    time.sleep(1.0)
    try:
        yield
    finally:
        server.terminate()
        server.wait()
        os.environ.pop("DISPLAY")
        if before is not None:
            os.environ["DISPLAY"] = before


def press_with_layers(folder: Path, effort: Effort) -> list[Figure]:
    """The same press on both engines in turn; the layered one is told of another focus now and then."""
    plain_desk, layered_desk = write_desk(folder / "plain"), write_layered(folder / "layered")
    pipes = [os.pipe() for _ in range(4)]
    (plain_in, plain_write), (plain_read, plain_out), (other_in, other_write), (other_read, other_out) = pipes
    chance, plain, layered, changing = random.Random(2), list[float](), list[float](), list[float]()
    with ExitStack() as stack:
        stack.enter_context(measured_engine(plain_desk, "--source", str(plain_in), "--target", str(plain_out),
                                            pass_fds=(plain_in, plain_out)))
        stack.enter_context(display())
        socket, _ = stack.enter_context(measured_engine(layered_desk, "--source", str(other_in), "--target",
                                                        str(other_out), pass_fds=(other_in, other_out)))
        client = stack.enter_context(EngineClient(socket, "bench"))
        for index in range(effort.of(2000, 30)):
            time.sleep(chance.uniform(0.003, 0.008))
            plain.append(press_time(plain_write, plain_read))
            time.sleep(chance.uniform(0.003, 0.008))
            if index % CHANGE_EVERY == 0:
                client.ask("focus", **{"class": "Crumbcut" if index % (2 * CHANGE_EVERY) else "Ovenlight"})
                changing.append(press_time(other_write, other_read))
            else:
                layered.append(press_time(other_write, other_read))
    for pair in pipes:
        os.close(pair[0])
        os.close(pair[1])
    value, beside = percentile(layered, 0.5), percentile(plain, 0.5)
    return [
        Figure(f"press to first effect with {LAYERS} layers on, gestures on other controls and following, median; "
               "beside a desk without", value, "ms", beside, "at most 1.1×", value <= 1.1 * beside),
        Figure("the same, 99th percentile", percentile(layered, 0.99), "ms", percentile(plain, 0.99)),
        Figure("the same, right after the focus brought or took a layer, median", percentile(changing, 0.5), "ms",
               beside),
    ]
