"""What belongs to one person is readable by that person alone: desks hold texts that were typed."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable
from pathlib import Path

# Deeper folders than these are none of a desk's.
DEEPEST, MOST = 4, 20_000


def tighten(folders: Iterable[Path]) -> list[Path]:
    """Take the rights of others from folders and what is in them; returns the topmost ones that were open.

    What belongs to somebody else, and what a link leads to, is left alone.
    """
    opened = []
    for folder in folders:
        if folder.is_dir() and not folder.is_symlink():
            # What lies in a closed folder could not be read, whatever rights it had itself.
            reachable = stat.S_IMODE(folder.stat().st_mode) & 0o055
            if _tighten(folder, 0, [MOST]) and reachable:
                opened.append(folder)
    return opened


def _tighten(folder: Path, depth: int, left: list[int]) -> bool:
    open_before = _take_away(str(folder))
    try:
        entries = list(os.scandir(folder))
    except OSError:
        return open_before
    for entry in entries:
        left[0] -= 1
        if left[0] < 0:
            break
        if entry.is_symlink() or entry.name == ".git":
            continue
        if entry.is_dir(follow_symlinks=False):
            if depth < DEEPEST:
                open_before = _tighten(Path(entry.path), depth + 1, left) or open_before
        elif entry.is_file(follow_symlinks=False):
            open_before = _take_away(entry.path) or open_before
    return open_before


def _take_away(path: str) -> bool:
    try:
        about = os.lstat(path)
        mode = stat.S_IMODE(about.st_mode)
        if about.st_uid != os.getuid() or not mode & 0o077:
            return False
        os.chmod(path, mode & 0o700)
        # What was executable for others alone says nothing about who could read it.
        return bool(mode & 0o066)
    except OSError:
        return False
