"""Percentiles, rows and the table."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any


def percentile(values: list[float], share: float) -> float:
    """The value below which `share` (0 to 1) of all lie."""
    ordered = sorted(values)
    return ordered[min(len(ordered) - 1, int(share * len(ordered)))]


@dataclass(frozen=True)
class Figure:
    """One measured number beside what it is compared with."""

    what: str
    value: float
    unit: str
    beside: float | None = None
    limit: str = ""
    met: bool | None = None

    def as_dict(self) -> dict[str, Any]:
        return asdict(self)


def table(figures: list[Figure]) -> str:
    """Figures as a Markdown table."""
    lines = ["| what | Brass Pebble | beside it | ratio | wanted | met |", "|---|---:|---:|---:|---|---|"]
    for figure in figures:
        beside = "" if figure.beside is None else f"{figure.beside:.3f} {figure.unit}"
        ratio = "" if not figure.beside else f"{figure.value / figure.beside:.2f}"
        met = {True: "yes", False: "**no**", None: ""}[figure.met]
        value = f"{figure.value:.3f} {figure.unit}" if figure.unit else f"{figure.value:g}"
        lines.append(f"| {figure.what} | {value} | {beside} | {ratio} | {figure.limit} | {met} |")
    return "\n".join(lines)
