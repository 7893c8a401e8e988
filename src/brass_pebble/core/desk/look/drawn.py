"""The desk as it is drawn: rows with names and types, which clients get, and which paper is made of.  Data only."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any, Protocol

from msgspec import Meta, Struct

from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.core.say.field_values import Signal, said
from brass_pebble.core.say.setting_fields import exact, written

if TYPE_CHECKING:
    class _BindingSettings(Struct, frozen=True, kw_only=True):
        """The settings of a binding, as desk.toml has them; empty: as without it."""

        label: str = ""
        far: str = ""
        tint: str = ""
        note: str = ""
        icon: str = ""
        plays: str = ""
        again: str = ""
        hold_after: str = ""
        second_within: str = ""
        adds: bool = False
        every: str = ""
        back: str = ""
        each: str | int = ""
        by_strength: bool = False

    class _AxisSettings(Struct, frozen=True, kw_only=True):
        """The settings of an axis.  Times in ns."""

        dead: float
        full: float
        curve: float
        invert: bool
        smooth: int
        still: float
        threshold: float
        gap: float
        low: float | None
        centre: float | None
        high: float | None
else:
    _BindingSettings = written("_BindingSettings", Binding, Struct)
    _AxisSettings = exact("_AxisSettings", AxisSettings, Struct, needed=True)


# Where what the person gave stands beside what is shown.
OWN = {"label": "own_label", "tint": "own_tint"}


class TurnRow(Struct, frozen=True, kw_only=True):
    """One action of a cycle."""

    glyph: str
    words: str


class BindingRow(_BindingSettings, frozen=True, kw_only=True, omit_defaults=True):
    """What a gesture of a control does.  What is as usual (empty, false, played once) is left out."""

    control: str = ""
    gesture: str = ""
    layer: Annotated[str, said("told where it is not told by the place")] = ""
    kind: str = ""
    target: str = ""
    glyph: str = ""
    own_label: str = ""
    own_tint: str = ""
    words: str = ""
    means: str = ""
    asleep: bool = False
    steps: Annotated[list[TurnRow], said("of a cycle")] = []
    broken: bool = False


class FollowedRow(Struct, frozen=True, kw_only=True, rename={"cls": "class"}):
    """The windows that a layer comes on for."""

    cls: str
    title: str

    def given(self) -> dict[str, str]:
        """What it names, as desk.toml has it."""
        return {name: value for name, value in (("class", self.cls), ("title", self.title)) if value}


class LayerRow(Struct, frozen=True, kw_only=True):
    """A layer of a surface."""

    id: str
    name: str
    tint: str
    on: bool
    why: str
    starts: str
    follows: FollowedRow | None
    bindings: list[BindingRow]


class AxisRow(_AxisSettings, frozen=True, kw_only=True):
    """How one axis is read."""


class ControlRow(BindingRow, frozen=True, kw_only=True, omit_defaults=True):
    """A control of a drawing with all fields of what answers now.  Places and sizes are in key units."""

    id: str
    code: Signal
    x: float
    y: float
    w: float
    h: float
    legend: str
    gestures: Annotated[dict[str, BindingRow], said("what each gesture does")] = {}
    together: Annotated[list[BindingRow], said("what it does together with others")] = []
    sends: str = ""
    shape: str = ""
    moves: Annotated[int, said("how many axes")] = 0
    centred: bool = False
    turns: bool = False
    axes: list[AxisRow] = []
    absent: Annotated[bool, said("the connected device has no such control")] = False
    passes: Annotated[bool, said("it is left to the system")] = False


class LabelsRow(Struct, frozen=True, kw_only=True):
    """How large a surface's labels are, as desk.toml has it."""

    cap: str
    sizes: dict[str, str]


class AskedRow(Struct, frozen=True, kw_only=True):
    """A device that may be the surface's."""

    device: str
    shown: str
    where: str


class ChatterRow(Struct, frozen=True, kw_only=True):
    """A control that sends presses which nobody made."""

    control: str
    times: int
    presses: int
    offer: Annotated[str, said("the time that would swallow them")]


class PhraseSlot(Struct, frozen=True, kw_only=True, omit_defaults=True, forbid_unknown_fields=True):
    """What can be said in a place of a phrase: a number from `low` to `high`, one of a list, or some free words."""

    low: Annotated[float | None, said("of a number")] = None
    high: float | None = None
    step: float | None = None
    one_of: Annotated[dict[Annotated[str, Meta(max_length=200)], int | Annotated[str, Meta(max_length=500)]],
                      said("words, and what they stand for: a key, a chord, a text, a number")] = {}
    words: Annotated[int, Meta(ge=0, le=40), said("how many free words")] = 0


class PhraseRow(Struct, frozen=True, kw_only=True):
    """A phrase: what is said, and how."""

    id: str
    say: list[str]
    slots: dict[str, PhraseSlot]
    strict: int
    attention: Annotated[bool, said("whether it needs the attention word")]
    reply: str
    short: Annotated[str, said("the first wording, as short as it can be said")] = ""
    example: Annotated[str, said("it, with a value for each slot")] = ""
    counts: Annotated[str, said("what its slots take, in words")] = ""


class BareSurface(Struct, frozen=True, kw_only=True):
    """A surface with its drawing and its layers, as its files have it."""

    id: str
    name: str
    at: Annotated[list[float], said("its position on the desk, in key units")]
    labels: LabelsRow
    home: list[str]
    layout: str
    layers: list[LayerRow]
    controls: list[ControlRow]


class SurfaceRow(BareSurface, frozen=True, kw_only=True):
    """A surface with its drawing and its layers."""

    unbound: str
    unplugged: str
    settings: Annotated[dict[str, Any], said("those that are not as usual, as desk.toml has them")]
    hold_after_ms: float
    second_within_ms: float
    debounce_ms: float
    lamps: dict[str, str]
    takes: list[str]
    second: list[str]
    trial: bool
    device: str
    where: str
    known_by: list[str]
    has_lamps: list[str]
    ask: Annotated[list[AskedRow], said("devices of which one is meant, if it cannot be told")]
    chatter: ChatterRow | None
    phrases: Annotated[list[PhraseRow], said("of one that is spoken to")] = []
    listening: Annotated[dict[str, Any], said("how it is listened to, where that is not as usual")] = {}
    pronounced: Annotated[dict[str, str], said("words, and their sounds")] = {}
    bench: bool
    state: Annotated[str, said("`taken`, `resting`, `missing`, …")]
    why: str


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
    marks: Annotated[list[str], said("glyphs of what it does: repeats, waits, asks, keeps, reaches outside")] = []


class DrawnDesk(Protocol):
    """What reports need of a whole desk."""

    @property
    def surfaces(self) -> Sequence[BareSurface]:
        """Its surfaces."""

    @property
    def macros(self) -> Sequence[MacroRow]:
        """Its macros."""


class BareDesk(Struct, frozen=True, kw_only=True):
    """A desk as its files have it."""

    surfaces: list[BareSurface]
    macros: list[MacroRow]


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


class StagePlaceRow(Struct, frozen=True, kw_only=True):
    """Where a stage program is drawn, in key units."""

    program: str
    at: list[float]
    size: list[float]

