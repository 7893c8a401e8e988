"""Every part of the benchmarks still runs, in its short form: what it tells are numbers."""

from __future__ import annotations

import json
import math
import subprocess
import sys
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor

import pytest

from needed import is_here, needs
from vm.machine import PROJECT

BENCHMARKS = PROJECT / "benchmarks"
sys.path.insert(0, str(BENCHMARKS))

import run as run_parts
import voice as voice_parts

# Of the parts that need something of the system: what.
NEEDED = {"press": ("tmux",), "late": ("tmux", "gcc"), "focus": ("Xvfb", "openbox"), "layers": ("Xvfb",),
          "macros": ("tmux",), "large": ("tmux",),
          "accuracy": ("flite", "sox"), "talk": ("flite", "sox"),
          "latency": ("flite", "sox", "pulseaudio", "pactl", "paplay", "parec"),
          "load": ("flite", "sox", "pulseaudio", "pactl", "paplay", "parec")}
# What is measured in the virtual machine is a test there: tests/vm/guest/test_benchmark.py.
PARTS = [*(("run.py", name) for name in run_parts.PARTS if name != "machine"),
         *(("voice.py", name) for name in voice_parts.PARTS)]


def measure(script: str, part: str) -> subprocess.CompletedProcess[str]:
    """A part in its short form."""
    return subprocess.run([sys.executable, str(BENCHMARKS / script), "--short", part], capture_output=True, text=True,
                          check=False, timeout=600)


@pytest.fixture(scope="session")
def measured(request: pytest.FixtureRequest) -> Iterator[dict[str, Future[subprocess.CompletedProcess[str]]]]:
    """Those parts that were asked for, some at once: most of their time they wait."""
    wanted = {item.callspec.params["part"]: item.callspec.params["script"] for item in request.session.items
              if isinstance(item, pytest.Function) and item.originalname == "test_a_part_of_the_benchmarks_runs"}
    with ThreadPoolExecutor(4) as pool:
        yield {part: pool.submit(measure, script, part) for part, script in wanted.items()
               if all(is_here(what) for what in NEEDED.get(part, ()))}


@pytest.mark.parametrize(("script", "part"), PARTS)
def test_a_part_of_the_benchmarks_runs(script: str, part: str,
                                       measured: dict[str, Future[subprocess.CompletedProcess[str]]]) -> None:
    needs(*NEEDED.get(part, ()))
    done = measured[part].result()
    assert done.returncode == 0, done.stdout + done.stderr
    figures = json.loads(done.stdout.splitlines()[-1])
    assert figures and all(math.isfinite(figure["value"]) for figure in figures)


def test_what_was_measured_in_the_machine_is_set_beside_the_loops() -> None:
    times = {"engine": [2.0] * 3, "loop": [1.0] * 3, "motion": [1.0] * 3, "motion loop": [1.0] * 3, "midi": [3.0] * 3}
    figures = run_parts.machine_figures(times)
    assert [(figure.value, figure.beside, figure.met) for figure in figures[::2]] == [
        (2.0, 1.0, False), (1.0, 1.0, True), (3.0, 2.0, None)]


def test_a_part_that_is_not_there_is_named() -> None:
    done = subprocess.run([sys.executable, str(BENCHMARKS / "run.py"), "pres"], capture_output=True, text=True,
                          check=False)
    assert done.returncode == 2 and "no part pres. Available: press, " in done.stderr
