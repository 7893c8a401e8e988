"""Rows that several replies and news have: problems, traces, layers, devices, the desk as it is drawn."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

from msgspec import Struct

from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.play.axis import AxisSettings

from .base import Row, Signal, said
from .settings import exact, written


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


class SentRow(Struct, frozen=True, kw_only=True):
    """One effect of a run.  Times count from the run's start."""

    key: str
    down: bool
    planned_ms: float
    at_ms: float


class ReactionRow(Struct, frozen=True, kw_only=True):
    """What a stage program did."""

    program: str
    text: str
    at_ms: float
    good: bool


class TraceRow(Struct, frozen=True, kw_only=True):
    """The account of one press, from arrival to last effect."""

    id: int
    at: Annotated[float, said("seconds since 1970")]
    origin: Annotated[str, said("`press`, or the client that played it")]
    surface: str
    surface_name: str
    control: str
    gesture: str
    strength: int
    layer: str
    layer_name: str
    action: str
    target: str
    words: str
    state: Annotated[str, said("`playing`, `holding`, `queued`, `done`, `stopped` or `nothing`")]
    why: str
    remarks: Annotated[list[str], said("a bounce ignored, a second arrival dropped, …")]
    run: int
    length_ms: float
    holds: bool
    held_ms: float | None
    first_ms: Annotated[float | None, said("from arrival to the first effect")]
    lasted_ms: Annotated[float | None, said("from the first effect to the last")]
    ended_ms: float | None
    late_ms: Annotated[float, said("the latest step")]
    raw: Annotated[str, said("what the device itself reported, and its node")]
    count: Annotated[int, said("effects in all; `sent` has the first 200")]
    sent: list[SentRow]
    shared: Annotated[list[str], said("keys that another run held")]
    reactions: list[ReactionRow]
    sentence: str


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


class MacroRow(Struct, frozen=True, kw_only=True):
    """A macro as the desk lists it."""

    id: str
    name: str
    label: str
    tint: str
    note: str
    length_ms: float
    events: int
    live: bool


if TYPE_CHECKING:
    _BindingSettings = Struct
    _AxisSettings = Struct
else:
    _BindingSettings = written("_BindingSettings", Binding, Struct)
    _AxisSettings = exact("_AxisSettings", AxisSettings, Struct, needed=True)


class BindingRow(_BindingSettings, frozen=True, kw_only=True):
    """What a gesture of a control does.  What is as usual (empty, false, played once) is left out in layers."""

    control: str = ""
    gesture: str = ""
    kind: str = ""
    target: str = ""
    glyph: str = ""
    own_label: str = ""
    own_tint: str = ""
    words: str = ""
    means: str = ""
    asleep: bool = False
    steps: list[Row] = []
    broken: bool = False


class LayerRow(Struct, frozen=True, kw_only=True):
    """A layer of a surface."""

    id: str
    name: str
    tint: str
    on: bool
    why: str
    starts: str
    follows: Annotated[Row | None, said("`class` and `title` of the window")]
    bindings: list[BindingRow]


class AxisRow(_AxisSettings, frozen=True, kw_only=True):
    """How one axis is read."""


class ControlRow(BindingRow, frozen=True, kw_only=True):
    """A control of a drawing with all fields of what answers now.  Places and sizes are in key units."""

    id: str
    code: Signal
    x: float
    y: float
    w: float
    h: float
    legend: str
    layer: str = ""
    gestures: Annotated[dict[str, Row], said("what each gesture does")] = {}
    together: Annotated[Any, said("what it does together with others")] = None
    sends: str = ""
    shape: str = ""
    moves: Annotated[int, said("how many axes")] = 0
    centred: bool = False
    turns: bool = False
    axes: list[AxisRow] = []


class SurfaceRow(Struct, frozen=True, kw_only=True):
    """A surface with its drawing and its layers."""

    id: str
    name: str
    at: Annotated[list[float], said("its place on the desk, in key units")]
    unbound: str
    unplugged: str
    settings: Annotated[dict[str, Any], said("those that are not as usual, as desk.toml has them")]
    labels: Row
    home: list[str]
    hold_after_ms: float
    second_within_ms: float
    debounce_ms: float
    lamps: dict[str, str]
    layout: str
    takes: list[str]
    second: list[str]
    trial: bool
    device: str
    where: str
    known_by: list[str]
    has_lamps: list[str]
    ask: Annotated[list[Row], said("devices of which one is meant, if it cannot be told")]
    chatter: Row | None
    bench: bool
    state: Annotated[str, said("`taken`, `resting`, `missing`, …")]
    why: str
    layers: list[LayerRow]
    controls: list[ControlRow]


class StagePlaceRow(Struct, frozen=True, kw_only=True):
    """Where a stage program is drawn, in key units."""

    program: str
    at: list[float]
    size: list[float]


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


class DrawnRow(Struct, frozen=True, kw_only=True):
    """A control of a drawing, in key units."""

    id: str
    code: Signal
    x: float
    y: float
    w: float
    h: float
    legend: str
    key: str = ""


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
    by_messages: Annotated[bool, said("nobody types on it, and nothing of it goes to other programs")]
    bench: Annotated[bool, said("simulated: it can be pressed from the screen")]
    full: Annotated[bool, said("a keyboard to type on")]
    points: bool
    shown: str
    can: str
    where: str
    keys: int
    parts: list[Any]
    pointer: bool
    surface: Annotated[str, said("the surface that has it")]
    main: bool
    twin: bool
    last_keyboard: bool
    last_pointer: bool
    deaf: Annotated[str, said("why it is not listened to")]
    shape: Annotated[list[DrawnRow], said("of the bench: how it looks")] = []


class PlaceRow(Struct, frozen=True, kw_only=True):
    """Where something is bound."""

    surface: str
    layer: str
    control: str
    gesture: str
    shown: str = ""
