"""Bindings, layers, the focused window, chords and clashes.  A place is a list: surface, layer, control."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, ClassVar

from msgspec import UNSET, Meta, Struct, UnsetType

from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.say.setting_fields import written

from .base import Changed, Id, Place, Places, Reply, Request, Word, said
from .rows import LayersRow, PlaceRow, ProblemRow, WindowRow

if TYPE_CHECKING:
    _BindSettings = Request
else:
    _BindSettings = written("_BindSettings", Binding, Request, ("icon",))


class Bind(_BindSettings, frozen=True, kw_only=True, tag="bind"):
    """Give a gesture of a control another action.  docs/layers.md and docs/gestures.md tell what the fields may say.

    Settings that do not fit the action or the gesture count for nothing.
    """

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    control: Id
    layer: Annotated[Id, said("the topmost that is on, without it")] = ""
    gesture: Id = "press"
    kind: Annotated[Id, said("the action's word; empty clears the gesture")] = ""
    target: Word = ""
    icon: Annotated[Id | UnsetType, said("left as it is without the field")] = UNSET


class Rearrange(Request, frozen=True, kw_only=True, tag="rearrange"):
    """Copy, move, swap, mirror or clear what is bound, all in one change.

    Several places go to `to` and the places around it that lie alike.
    """

    reply: ClassVar[type[Reply]] = Changed
    how: Annotated[Id, said("`copy`, `move`, `swap`, `mirror`, `clear`, `copy layer` or `mirror layer`")]
    places: Places
    to: Place | None = None


class BindFamily(Request, frozen=True, kw_only=True, tag="bind_family"):
    """Give several controls the chords of one family."""

    reply: ClassVar[type[Reply]] = Changed
    places: Places
    chords: Annotated[list[Id], Meta(max_length=20_000)]


class LayerSwitched(Reply, LayersRow, frozen=True, kw_only=True):
    """What became of it, and the layers that are on."""

    words: str


class SwitchLayer(Request, frozen=True, kw_only=True, tag="layer"):
    """Switch a layer."""

    reply: ClassVar[type[Reply]] = LayerSwitched
    surface: Id
    layer: Id = ""
    how: Annotated[Id, said("`on`, `off`, or a way that a control has")] = "on or off"


class LayerAdded(Changed, frozen=True, kw_only=True):
    """A layer was added."""

    layer: Annotated[str, said("its id")]


class AddLayer(Request, frozen=True, kw_only=True, tag="add_layer"):
    """Add a layer on top of a surface's layers."""

    reply: ClassVar[type[Reply]] = LayerAdded
    surface: Id
    name: Word


class SetLayer(Request, frozen=True, kw_only=True, tag="set_layer"):
    """Change one of a layer's settings."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    layer: Id
    what: Annotated[Id, said("`name`, `tint`, `starts` (`on` or `off`) or `follows` (`class` and `title` of a window)")]
    value: Annotated[Word | dict[Id, Word | None] | None, said("null: as without it")] = None


class RemoveLayer(Request, frozen=True, kw_only=True, tag="remove_layer"):
    """Take a layer away."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    layer: Id


class SetTimes(Request, frozen=True, kw_only=True, tag="set_times"):
    """Change the time of holds or double taps."""

    reply: ClassVar[type[Reply]] = Changed
    what: Annotated[Id, said("`hold_after` or `second_within`")]
    value: Annotated[Id | None, said("a time with its unit; null: as without it")] = None
    surface: Annotated[Id, said("the whole desk without it")] = ""


class CyclesBegun(Reply, frozen=True, kw_only=True):
    """Cycles begin again."""

    count: int


class First(Request, frozen=True, kw_only=True, tag="first"):
    """Begin the cycles of a control, or of a whole surface, with their first action."""

    reply: ClassVar[type[Reply]] = CyclesBegun
    surface: Id
    control: Id = ""


class LayersNow(Reply, LayersRow, frozen=True, kw_only=True):
    """The layers that are on."""


class Focus(Request, frozen=True, kw_only=True, tag="focus", rename={"cls": "class"}):
    """Say which window has the focus (`class`, `title`), or `pin` the layers, or give a `stage` program the focus."""

    reply: ClassVar[type[Reply]] = LayersNow
    cls: Word = ""
    title: Word = ""
    pin: bool | None = None
    stage: Id = ""


class Windows(Reply, frozen=True, kw_only=True):
    """The windows that are open."""

    windows: list[WindowRow]


class AskWindows(Request, frozen=True, kw_only=True, tag="windows"):
    """The windows that are open now."""

    reply: ClassVar[type[Reply]] = Windows


class Programs(Reply, frozen=True, kw_only=True):
    """Names of programs."""

    programs: Annotated[list[str], said("those of yours that run, then those that can be started by their names")]


class AskPrograms(Request, frozen=True, kw_only=True, tag="programs"):
    """Programs that macros can name: those that run, and those that can be started."""

    reply: ClassVar[type[Reply]] = Programs


class Window(Reply, WindowRow, frozen=True, kw_only=True):
    """A window."""


class NextWindow(Request, frozen=True, kw_only=True, tag="next_window"):
    """Reply with the next window that gets the focus within ten seconds."""

    reply: ClassVar[type[Reply]] = Window


class PickedPlace(Reply, frozen=True, kw_only=True):
    """A place of the screen, in pixels from its upper left corner."""

    x: int
    y: int
    screen: Annotated[tuple[int, int], said("width and height, in pixels")]
    clicked: Annotated[bool, said("by a click; else where the pointer rested at the end")]
    window: Annotated[WindowRow | None, said("the window that lies there")] = None
    inside: Annotated[tuple[int, int, int, int] | None, said("left, top, width and height of that window")] = None
    colour: Annotated[str, said("how it looks: red, green, blue, two hex digits each")] = ""


class PickPlace(Request, frozen=True, kw_only=True, tag="pick_place"):
    """Reply with the place of the next click, or where the pointer rests when the time is over."""

    reply: ClassVar[type[Reply]] = PickedPlace
    seconds: Annotated[float, Meta(ge=0.1, le=30)] = 5.0


class Catching(Reply, frozen=True, kw_only=True):
    """The main keyboards are listened to."""

    seconds: float
    keyboards: list[str]
    bench_only: bool


class CatchChord(Request, frozen=True, kw_only=True, tag="catch_chord"):
    """Take the main keyboards until one chord came; it is told under the topic `chord`."""

    reply: ClassVar[type[Reply]] = Catching


class LeaveChord(Request, frozen=True, kw_only=True, tag="leave_chord"):
    """Stop listening for a chord."""


class ClashRow(Struct, frozen=True, kw_only=True):
    """A conflict, or a note."""

    kind: str
    weight: str
    text: str
    where: list[PlaceRow]
    chord: str
    macro: str


class ShortcutRow(Struct, frozen=True, kw_only=True):
    """What a chord does in a program."""

    chord: str
    does: str


class ProgramRow(Struct, frozen=True, kw_only=True):
    """A program's table of shortcuts."""

    id: str
    name: str
    origin: str
    always: Annotated[bool, said("whether it hears without the focus")]
    shortcuts: list[ShortcutRow]


class Clashes(Reply, frozen=True, kw_only=True):
    """Conflicts."""

    clashes: list[ClashRow]
    programs: list[ProgramRow]
    problems: list[ProblemRow]


class AskClashes(Request, frozen=True, kw_only=True, tag="clashes"):
    """Conflicts, and the shortcut tables there are."""

    reply: ClassVar[type[Reply]] = Clashes


class TakingRow(Struct, frozen=True, kw_only=True):
    """A program that takes a chord."""

    name: str
    does: str
    always: bool


class Takers(Reply, frozen=True, kw_only=True):
    """Who takes a chord, and what sends it."""

    programs: list[TakingRow]
    controls: list[PlaceRow]


class WhoTakes(Request, frozen=True, kw_only=True, tag="who_takes"):
    """Which known programs take a chord, and which controls send it."""

    reply: ClassVar[type[Reply]] = Takers
    chord: Id


class Chords(Reply, frozen=True, kw_only=True):
    """Chords that nothing known takes."""

    chords: list[str]


class FreeChords(Request, frozen=True, kw_only=True, tag="free_chords"):
    """Chords that nothing known takes: for a `label`, or a `family` for `count` controls."""

    reply: ClassVar[type[Reply]] = Chords
    label: Word = ""
    family: bool = False
    count: Annotated[int, Meta(ge=0, le=1_000), said("at most 24 come")] = 8


class OwnChordsRow(Struct, frozen=True, kw_only=True):
    """The own keys of some controls with the same modifiers."""

    modifiers: str
    chords: Annotated[list[str], said("one for each place")]
    taken: Annotated[list[tuple[str, str]], said("chords that something uses, and what it is")]


class OwnChords(Reply, frozen=True, kw_only=True):
    """One row for each set of modifiers, the freest first."""

    rows: list[OwnChordsRow]


class AskOwnChords(Request, frozen=True, kw_only=True, tag="own_chords"):
    """What controls would send if each sent its own key with modifiers."""

    reply: ClassVar[type[Reply]] = OwnChords
    places: Places


class SendingSoon(Reply, frozen=True, kw_only=True):
    """A chord will be sent."""

    chord: str
    seconds: float


class SendOnce(Request, frozen=True, kw_only=True, tag="send_once"):
    """Send a chord once, after a count-in, so that a program's own dialog can learn it."""

    reply: ClassVar[type[Reply]] = SendingSoon
    chord: Id
    seconds: Annotated[float, Meta(ge=0, le=30)] = 3.0


class LeaveSend(Request, frozen=True, kw_only=True, tag="leave_send"):
    """Call a chord off that is about to be sent."""
