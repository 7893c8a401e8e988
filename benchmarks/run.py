"""Measures what docs/performance.md tells: prints a table, and the same as JSON.

    python benchmarks/run.py [press] [flood] [layers] [focus] [late] [idle] [macros] [moving] [large] [machine]

All of it, without a name.
"""

from __future__ import annotations

import json
import os
import platform
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from figures import Figure, percentile, table
from flood import flooded_presses
from focus import focus_to_layer, many_layers
from host import idle, lateness, press_to_effect
from large import large_desk
from layers import press_with_layers
from macros import macros
from moving import eight_surfaces

PROJECT = Path(__file__).parent.parent

# As on a person's machine, every start but the first finds what Python has compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
os.environ.setdefault("PYTHONPYCACHEPREFIX", str(PROJECT / ".cache" / "bytecode"))


def build_loops() -> Path:
    """Compile the C loops."""
    binary = PROJECT / ".cache" / "loops"
    binary.parent.mkdir(exist_ok=True)
    subprocess.run(["gcc", "-O2", "-o", str(binary), str(PROJECT / "benchmarks" / "loops.c")], check=True)
    return binary


def in_the_machine(folder: Path) -> list[Figure]:
    """Node to node in the virtual machine."""
    sys.path.insert(0, str(PROJECT / "tests"))
    from vm.machine import run_job
    outcome = run_job("python benchmarks/guest.py 500", folder / "job")
    line = next((line for line in outcome.output.splitlines() if line.startswith("{")), "")
    if not line:
        raise RuntimeError(outcome.output)
    times = json.loads(line)

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


def main() -> int:
    wanted = set(sys.argv[1:]) or {"press", "flood", "layers", "focus", "late", "idle", "macros", "moving", "large",
                                   "machine"}
    binary = build_loops()
    figures: list[Figure] = []
    with tempfile.TemporaryDirectory(prefix="bpb") as name:
        folder = Path(name)
        for variable in ("XDG_RUNTIME_DIR", "XDG_STATE_HOME", "XDG_CONFIG_HOME"):
            os.environ[variable] = str(folder / variable[4:7].lower())
            (folder / variable[4:7].lower()).mkdir(mode=0o700)
        if "press" in wanted:
            figures += press_to_effect(folder)
        if "flood" in wanted:
            figures += flooded_presses(folder / "flood")
        if "layers" in wanted:
            figures += press_with_layers(folder)
        if "focus" in wanted:
            figures += [*focus_to_layer(folder / "focus"), *many_layers(folder / "many")]
        if "late" in wanted:
            figures += lateness(folder, binary)
        if "idle" in wanted:
            figures += idle(folder)
        if "macros" in wanted:
            figures += macros(folder)
        if "moving" in wanted:
            figures += eight_surfaces(folder / "moving")
        if "large" in wanted:
            figures += large_desk(folder / "large")
        if "machine" in wanted:
            figures += in_the_machine(folder)
    print(f"{time.strftime('%Y-%m-%d')}, {platform.machine()}, {os.cpu_count()} cores, Linux {platform.release()}, "
          f"Python {platform.python_version()}\n")
    print(table(figures))
    print("\n" + json.dumps([figure.as_dict() for figure in figures]))
    return 0


if __name__ == "__main__":
    sys.exit(main())
