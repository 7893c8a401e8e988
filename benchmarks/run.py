"""Measures what docs/performance.md tells: prints a table, and the same as JSON.

    python benchmarks/run.py [--short] [press] [flood] [layers] [focus] [late] [idle] [macros] [moving] [large] [day]
                             [screen] [machine]

All of it, without a name.  With --short as little as shows that everything still runs; its figures tell nothing.
"""

from __future__ import annotations

import json
import os
import platform
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from c_loops import build_loops
from day import day
from effort import Effort, asked_for
from figures import Figure, percentile, table
from flood import flooded_presses
from focus import focus_to_layer, many_layers
from host import idle, lateness, press_to_effect
from large import large_desk
from layers import press_with_layers
from macros import macros
from moving import eight_surfaces
from screen_sends import screen_sends

PROJECT = Path(__file__).parent.parent

# As on a person's machine, every start but the first finds what Python has compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
os.environ.setdefault("PYTHONPYCACHEPREFIX", str(PROJECT / ".cache" / "bytecode"))


def in_the_machine(folder: Path, effort: Effort) -> list[Figure]:
    """Node to node in the virtual machine."""
    build_loops()
    sys.path.insert(0, str(PROJECT / "tests"))
    from vm.machine import run_job
    outcome = run_job(f"python benchmarks/guest.py {effort.of(500, 12)}", folder / "job")
    line = next((line for line in outcome.output.splitlines() if line.startswith("{")), "")
    if not line:
        raise RuntimeError(outcome.output)
    return machine_figures(json.loads(line))


def machine_figures(times: dict[str, list[float]]) -> list[Figure]:
    """What the times measured there (ms) come to."""
    def figures(what: str, one: str, other: str, most: float = 0.0, rarest: float = 0.0) -> list[Figure]:
        found = []
        for name, share, limit in ((what, 0.5, most), ("the same, 99th percentile", 0.99, rarest)):
            value, beside = percentile(times[one], share), percentile(times[other], share)
            found.append(Figure(name, value, "ms", beside, f"at most {limit:g}×", value <= limit * beside) if limit
                         else Figure(name, value, "ms", beside))
        return found
    return [*figures("node to node in the virtual machine, median; beside a bare C loop", "engine", "loop", 1.2, 1.3),
            *figures("the motion of a mouse of which a button is taken, median; beside a bare C loop", "motion",
                     "motion loop", 1.5),
            *figures("a note at an ALSA port to its key, median; beside the key of a HID pad", "midi", "engine")]


# Each part: what it is measured with, in a folder of its own.
PARTS: dict[str, Callable[[Path, Effort], list[Figure]]] = {
    "press": press_to_effect,
    "flood": flooded_presses,
    "layers": press_with_layers,
    "focus": lambda folder, effort: [*focus_to_layer(folder / "windows", effort),
                                     *many_layers(folder / "many", effort)],
    "late": lambda folder, effort: lateness(folder, build_loops(), effort),
    "idle": idle,
    "macros": macros,
    "moving": eight_surfaces,
    "large": large_desk,
    "day": day,
    "screen": screen_sends,
    "machine": in_the_machine,
}


def main() -> int:
    wanted, effort = asked_for(__doc__ or "", PARTS)
    figures: list[Figure] = []
    with tempfile.TemporaryDirectory(prefix="bpb", ignore_cleanup_errors=True) as name:
        folder = Path(name)
        for variable in ("XDG_RUNTIME_DIR", "XDG_STATE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME"):
            os.environ[variable] = str(folder / variable[4:7].lower())
            (folder / variable[4:7].lower()).mkdir(mode=0o700)
        for part in wanted:
            (folder / "measured" / part).mkdir(parents=True)
            figures += PARTS[part](folder / "measured" / part, effort)
    print(f"{time.strftime('%Y-%m-%d')}, {platform.machine()}, {os.cpu_count()} cores, Linux {platform.release()}, "
          f"Python {platform.python_version()}\n")
    print(table(figures))
    print("\n" + json.dumps([figure.as_dict() for figure in figures]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
