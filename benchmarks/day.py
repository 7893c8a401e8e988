"""What an engine's memory comes to over as many presses, edits and queries as twelve hours bring."""

from __future__ import annotations

import random
import shutil
import statistics
from pathlib import Path

from brass_pebble.client import EngineClient, start_engine
from brass_pebble.demo import ENGINE_OPTIONS, HERE, know
from effort import Effort
from figures import Figure

# In twelve hours: a press every two seconds, an edit every 18 seconds, a query every nine.
PRESSES, EDITS, QUERIES = 21_600, 2_400, 4_800
# The list of what can be undone keeps a thousand changes: memory is compared from then on.
FULL = 1_100


def day(folder: Path, effort: Effort) -> list[Figure]:
    """The engine's memory (VmRSS) once it keeps what it keeps, and at the end."""
    desk = folder / "desk"
    shutil.copytree(HERE / "desk", desk)
    know(desk)
    chance = random.Random(3)
    edits = effort.of(EDITS, 40)
    seen: list[float] = []
    path, process = start_engine(desk, *(word for word in ENGINE_OPTIONS if word != "--until-left"))
    pid = process.pid
    with EngineClient(path, "day") as client:
        client.set_timeout(30)
        for number in range(edits):
            for _ in range(PRESSES // EDITS):
                client.ask("press", surface="left-numpad", control=chance.choice("12345"))
            for _ in range(QUERIES // EDITS):
                client.ask("traces", count=50)
                client.ask("desk")
            client.ask("write_macro", macro="welcome", text=f"tap F{chance.randint(1, 12)}\nwait {number}ms\n")
            seen.append(memory(pid))
        client.ask("quit")
    process.wait(20)
    full = FULL if edits > 2 * FULL else edits // 2
    most, end = statistics.mean(seen[full:full + 20]), statistics.mean(seen[-20:])
    return [Figure("memory of the engine at the start of a long day", seen[0], "MB"),
            Figure(f"the same after {full:,} edits, when what can be undone fills its list", most, "MB"),
            Figure(f"the same after {edits:,} edits, {edits * (PRESSES // EDITS):,} presses and "
                   f"{edits * (QUERIES // EDITS):,} queries", end, "MB", most, "at most 1.05×", end <= 1.05 * most)]


def memory(pid: int) -> float:
    """A process's memory, in MB."""
    lines = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(int(line.split()[1]) / 1024 for line in lines if line.startswith("VmRSS"))
