"""A made-up history for the demo's desk: half a year of weekly classes, so that there is something to look at."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path

from brass_pebble import paths
from brass_pebble.core.desk.look.rows import surface_row
from brass_pebble.core.usage.counter import Counter
from brass_pebble.core.usage.simulate import DAY, make_habit, play
from brass_pebble.engine.disk.history import HistoryError, HistoryStore, local_zone
from brass_pebble.engine.disk.store import DeskStore

WEEKS = 26
# How much each surface is used in a class, in the order of the desk.
PRESSES = (96, 40, 30, 60, 50, 24)
SEED = 7


def seed_history(desk: Path) -> None:
    """Write the history, unless there is one already.  Where none can be kept the demo goes on without."""
    file = paths.history_file(desk)
    if not file.exists():
        with contextlib.suppress(OSError, HistoryError):
            _write(desk, file)


def _write(desk: Path, file: Path) -> None:
    loaded = DeskStore(desk, paths.state_folder() / "versions", paths.user_layouts()).load().desk
    today = int((time.time() + local_zone(time.time())) // 86_400)
    habits = [make_habit(surface_row(loaded, surface), SEED + number)
              for number, surface in enumerate(loaded.surfaces.values())]
    for week in range(WEEKS):
        day = today - 7 * (WEEKS - week) + 2
        counter = Counter()
        for number, habit in enumerate(habits):
            for press in play(habit, PRESSES[number % len(PRESSES)], SEED + 100 * week + number, start=day, days=1):
                counter.begin(press)
                counter.finish(press)
        # Each class is a session of its own.
        HistoryStore(file).add(counter.take(), (day * DAY) // 1000 + 19 * 3600)
