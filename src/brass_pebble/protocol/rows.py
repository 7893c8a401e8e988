"""Rows that several replies and news have: problems, traces, layers, devices, the whole desk.

The rows that the desk is drawn from lie in `core/desk/look/drawn.py`, since paper is made of them, too.
"""

from __future__ import annotations

from typing import Annotated, Any

from msgspec import Struct

from brass_pebble.core.desk.look.drawn import DrawnRow, MacroRow, StagePlaceRow, SurfaceRow

from .base import Row, said


class ProblemRow(Struct, frozen=True, kw_only=True):
    """Something that is wrong, told to a person."""

    what: str
    file: str = ""
    line: Annotated[int, said("0 if it is not about a line")] = 0
    column: int = 0
    hint: Annotated[str, said("the next step")] = ""


class ErrorRow(Struct, frozen=True, kw_only=True):
    """Why a request was refused."""

    code: Annotated[str, said("one word of the table of errors")]
    what: str
    hint: Annotated[str, said("the next step")] = ""


class WindowRow(Struct, frozen=True, kw_only=True, rename={"cls": "class"}):
    """A window, as its program names it."""

    cls: str
    title: str
    shown: str = ""


class LayersRow(Struct, frozen=True, kw_only=True):
    """Which layers are on, and why."""

    on: Annotated[dict[str, dict[str, str]], said("by surface, each layer that is on, and why")]
    cycles: Annotated[list[tuple[str, str, str, str, int]], said("surface, layer, control, gesture, next from 0")]
    window: Annotated[WindowRow | None, said("the one that has the focus, if that can be told")]
    pinned: bool
    follows: Annotated[bool, said("whether any layer follows a window")]
    source: Annotated[str, said("who tells the focus")]
    trouble: str


class StageRow(Struct, frozen=True, kw_only=True):
    """A stage program as it is."""

    id: str
    name: str
    what: str
    panels: list[Row]
    state: dict[str, str | int | float]
    window: Annotated[str, said("which of its windows is open")]
    opening: Annotated[str, said("a window that is about to open")]
    focused: bool


class RecorderRow(Struct, frozen=True, kw_only=True):
    """A recording that a record control began."""

    state: Annotated[str, said("`idle`, `choose` or `recording`")]
    surface: str
    control: str
    keyboard: Annotated[bool, said("whether it is recorded, too")]



class HandsOffRow(Struct, frozen=True, kw_only=True):
    """Surfaces whose presses only select."""

    surfaces: Annotated[dict[str, float], said("for each the ms that are left")]


class DeskRow(Struct, frozen=True, kw_only=True):
    """The desk as clients draw it."""

    name: str
    folder: str
    output: Annotated[str, said("`uinput`, `x11` or `stage`")]
    surfaces: list[SurfaceRow]
    stage: list[StagePlaceRow]
    macros: list[MacroRow]
    broken_macros: Annotated[dict[str, str], said("by id, what is wrong")]
    hold_after_ms: float
    second_within_ms: float
    history: Annotated[bool, said("whether presses are counted")]
    settings: Annotated[dict[str, Any], said("those that are not as usual, as desk.toml has them")]
    undo: Annotated[str, said("what undo would take back")]
    sends: Annotated[bool, said("whether anything can be sent")]
    script: Annotated[str, said("the scripted class, if there is one")]
    question: Annotated[str, said("the surface whose device cannot be told from another")]
    recorder: RecorderRow
    hands_off: HandsOffRow



class DeviceRow(Struct, frozen=True, kw_only=True):
    """A device that is here."""

    id: str
    name: str
    bus: str
    vendor: str
    product: str
    serial: str
    port: str
    nodes: list[str]
    lamps: list[str]
    kind: str
    readable: bool
    by_messages: Annotated[bool, said("nobody types on it, and none of its keys reach other programs")]
    bench: Annotated[bool, said("simulated: it can be pressed from the screen")]
    full: Annotated[bool, said("a keyboard to type on")]
    points: bool
    shown: str
    can: str
    where: str
    keys: int
    parts: Annotated[list[tuple[str, list[str]]], said("what can be taken of it, in words and as `takes` has it")]
    pointer: bool
    surface: Annotated[str, said("the surface that has it")]
    main: bool
    twin: bool
    last_keyboard: bool
    last_pointer: bool
    deaf: Annotated[str, said("why it is not listened to")]
    shape: Annotated[list[DrawnRow], said("of the bench: how it looks")] = []


class PulledRow(Struct, frozen=True, kw_only=True):
    """A device of the bench that was pulled out."""

    id: str
    shown: str


class PlaceRow(Struct, frozen=True, kw_only=True):
    """Where something is bound."""

    surface: str
    layer: str
    control: str
    gesture: str
    shown: str = ""
