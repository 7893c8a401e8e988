"""What is measured in the machine, in its short form: every time that is wanted comes."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

BENCHMARK = Path(__file__).parents[3] / "benchmarks" / "guest.py"


def test_presses_motion_and_notes_are_measured() -> None:
    done = subprocess.run([sys.executable, str(BENCHMARK), "12"], capture_output=True, text=True, timeout=180,
                          check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    times = json.loads(done.stdout.splitlines()[-1])
    assert times.keys() == {"engine", "loop", "motion", "motion loop", "midi"}
    assert all(len(found) == 6 and all(time > 0 for time in found) for found in times.values())
