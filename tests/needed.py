"""What a test needs of the system: without it the test is left out, with the sentence that “make test” says, too."""

from __future__ import annotations

import sys
from functools import cache
from pathlib import Path

import pytest

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))

import system_packages


@cache
def _missing(what: str) -> str:
    (need,) = (row for row in system_packages.needs() if row.what == what)
    return "" if need.here() else system_packages.sentences([need])[0]


def is_here(what: str) -> bool:
    """Whether a row of tools/system_packages.tsv is here."""
    return not _missing(what)


def needs(*whats: str) -> None:
    """Leave the test out that runs now, unless all of these rows of tools/system_packages.tsv are here."""
    for what in whats:
        if said := _missing(what):
            pytest.skip(said)
