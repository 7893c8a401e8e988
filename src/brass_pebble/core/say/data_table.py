"""Tables in `core/data`: a row a line, columns parted by tabs, remarks behind a #."""

from __future__ import annotations

from importlib.resources import files


def read_table(name: str) -> list[list[str]]:
    """The rows of a table, each as its columns."""
    text = (files("brass_pebble.core") / "data" / name).read_text(encoding="utf-8")
    return [line.split("\t") for line in text.splitlines() if line and not line.startswith("#")]
