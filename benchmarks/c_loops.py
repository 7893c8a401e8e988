"""Compiles the C loops that figures are measured beside."""

from __future__ import annotations

import subprocess
from pathlib import Path

PROJECT = Path(__file__).parent.parent
BINARY = PROJECT / ".cache" / "loops"


def build_loops() -> Path:
    """Compile them, if that was not done since they changed; the program's path."""
    source = PROJECT / "benchmarks" / "loops.c"
    if not BINARY.exists() or BINARY.stat().st_mtime < source.stat().st_mtime:
        BINARY.parent.mkdir(exist_ok=True)
        subprocess.run(["gcc", "-O2", "-o", str(BINARY), str(source)], check=True)
    return BINARY
