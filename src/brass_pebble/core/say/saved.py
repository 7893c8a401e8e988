"""What was saved, told to a person."""

from __future__ import annotations

from pathlib import Path
from typing import NamedTuple


class Saved(NamedTuple):
    """Files that were written, and what a person should know of them, such as characters that no font has."""

    files: list[Path]
    notes: list[str]
