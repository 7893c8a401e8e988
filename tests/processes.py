"""Which processes there are, as the kernel tells."""

from __future__ import annotations

import contextlib
from pathlib import Path


def children(pid: int) -> list[int]:
    """All processes below one, by what each says of its parent: the kernel's own list of children may miss some."""
    below: dict[int, list[int]] = {}
    for folder in Path("/proc").glob("[0-9]*"):
        # One may end while it is looked at.
        with contextlib.suppress(OSError):
            parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
            below.setdefault(parent, []).append(int(folder.name))
    found, waiting = [], [pid]
    while waiting:
        more = below.get(waiting.pop(), [])
        found += more
        waiting += more
    return found
