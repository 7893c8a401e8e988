"""How soon a layer comes with the focused window (openbox under Xvfb), and what very many layers cost."""

from __future__ import annotations

import os
import sys
import time
from pathlib import Path

from brass_pebble.client import EngineClient, start_engine
from effort import Effort
from figures import Figure, percentile

LAYERS, KEYS = 200, "qwertyuiopasdfghjklzxcvbnm"


def focus_to_layer(folder: Path, effort: Effort) -> list[Figure]:
    """From asking the window manager for another focus until a client is told of the layers."""
    sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
    import test_focus as real
    os.environ["DISPLAY"] = f":{700 + os.getpid() % 90}"
    folder.mkdir()
    screen = real.Screen(os.environ["DISPLAY"])
    waits: list[float] = []
    try:
        screen.open("Ovenlight", "On air")
        screen.open("Crumbcut", "The timeline")
        socket, process = real.start(folder)
        with real.connected(socket, process):
            told: list[tuple[float, dict[str, dict[str, str]]]] = []
            real.follow_layers(EngineClient(socket, "listener"), told)
            time.sleep(1)
            for index in range(effort.of(100, 4)):
                name, before, began = ("Ovenlight", "Crumbcut")[index % 2], len(told), time.monotonic()
                screen.focus(name)
                while not (when := [at for at, message in told[before:] if message["window"]
                                    and message["window"]["class"] == name]):
                    time.sleep(0.0005)
                waits.append(1000 * (when[0] - began))
                time.sleep(0.05)
    finally:
        screen.close()
    return [Figure("focus of a real window to its layer told, median", percentile(waits, 0.5), "ms", None,
                   "within 100 ms", percentile(waits, 0.5) < 100),
            Figure(f"the same, longest of {len(waits)}", max(waits), "ms", None, "within 100 ms", max(waits) < 100)]


def many_layers(folder: Path, effort: Effort) -> list[Figure]:
    """A full keyboard with 200 layers of 26 bindings each."""
    layers = effort.of(LAYERS, 10)
    desk = folder / "desk"
    desk.mkdir(parents=True)
    text = ('format = 1\noutput = "stage"\n[surface.pad]\nlayout = "full-ansi"\ndevice = { port = "x" }\n'
            '[surface.pad.layer.base.press]\na = { tap = "A" }\n')
    for number in range(layers):
        text += f"[surface.pad.layer.l{number}.press]\n"
        text += "".join(f'{key} = {{ tap = "Ctrl+{key.upper()}" }}\n' for key in KEYS)
    (desk / "desk.toml").write_text(text)
    (folder / "bench.toml").write_text('[[device]]\nid = "bench/k"\nname = "K"\nport = "x"\nlayout = "full-ansi"\n')
    socket, _ = start_engine(desk, "--bench", str(folder / "bench.toml"), "--bench-only")
    with EngineClient(socket, "bench") as client:
        client.set_timeout(60)

        def timed(do: str, **fields: object) -> float:
            began = time.perf_counter()
            client.ask(do, **fields)
            return 1000 * (time.perf_counter() - began)
        switches = [timed("layer", surface="pad", layer=f"l{number}") for number in range(min(50, layers))]
        found = [Figure(f"a switch of one of {layers} layers, asked and answered, median", percentile(switches, 0.5),
                        "ms"),
                 Figure(f"the whole desk of {layers * len(KEYS):,} bindings for a client", timed("desk"), "ms"),
                 Figure("one edit of it, saved and live", timed("bind", surface="pad", layer="l3", control="a",
                                                                kind="tap", target="B"), "ms"),
                 Figure("looking for clashes in it", timed("clashes"), "ms")]
        client.ask("quit")
    return found
