"""What drawings are made of: shapes in millimetres, y running down, that every writer of a format can draw."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

# An operation of a path, and its points: M and L one, C three, Z none.
Leg = tuple[str, tuple[float, ...]]


@dataclass(frozen=True)
class Box:
    """A rectangle; `line` is the width of its edge in mm.  `role` says what it is, for who reads the file."""

    x: float
    y: float
    width: float
    height: float
    fill: str = ""
    stroke: str = ""
    line: float = 0.2
    radius: float = 0.0
    role: str = ""


@dataclass(frozen=True)
class Line:
    """A straight line."""

    x1: float
    y1: float
    x2: float
    y2: float
    stroke: str
    line: float = 0.2
    dash: tuple[float, ...] = ()


@dataclass(frozen=True)
class Path:
    """Lines and curves."""

    legs: tuple[Leg, ...]
    stroke: str = ""
    fill: str = ""
    line: float = 0.2
    dash: tuple[float, ...] = ()
    role: str = ""


@dataclass(frozen=True)
class Circle:
    """A circle, or a dot."""

    x: float
    y: float
    radius: float
    fill: str = ""
    stroke: str = ""
    line: float = 0.2


@dataclass(frozen=True)
class Words:
    """A line of text; `x`, `y` are where its baseline begins, or its middle or end lies (`anchor`); `size` in mm."""

    x: float
    y: float
    text: str
    size: float
    fill: str = "#22262a"
    bold: bool = False
    anchor: str = "start"


@dataclass(frozen=True)
class Group:
    """Shapes that belong together: a label and everything on it."""

    name: str
    shapes: tuple[Shape, ...]
    role: str = ""


Shape = Box | Line | Path | Circle | Words | Group


@dataclass
class Page:
    """One sheet of paper, its size in mm."""

    width: float
    height: float
    shapes: list[Shape] = field(default_factory=list)


def flat(shapes: list[Shape] | tuple[Shape, ...]) -> Iterator[Shape]:
    """All shapes, those in groups one by one."""
    for shape in shapes:
        if isinstance(shape, Group):
            yield from flat(shape.shapes)
        else:
            yield shape
