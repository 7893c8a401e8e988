"""Devices and surfaces: meeting, taking, drawing, setting."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import Meta, Struct

from brass_pebble.core.desk.look.drawn import DrawnRow

from .base import Changed, Id, Ids, Reply, Request, Signal, Word, said
from .rows import DeviceRow, PulledRow


class Devices(Reply, frozen=True, kw_only=True):
    """The devices that are here."""

    devices: list[DeviceRow]
    left_ms: Annotated[float, said("of listening")]
    main_known: Annotated[bool, said("whether the keyboard that is never taken over is known")]
    pulled: Annotated[list[PulledRow], said("devices of the bench that were pulled out")]
    open_microphones: Annotated[list[str], said("microphones that are listened to, though they are no surface")] = []


class AskDevices(Request, frozen=True, kw_only=True, tag="devices"):
    """Look again at the devices that are here, and which surface has which."""

    reply: ClassVar[type[Reply]] = Devices


class Listening(Reply, frozen=True, kw_only=True):
    """For how long it is listened."""

    seconds: float


class Listen(Request, frozen=True, kw_only=True, tag="listen"):
    """Listen to every device that is not a surface, or to one, without taking any over.

    It ends by itself, with `hush`, or when the client leaves.
    """

    reply: ClassVar[type[Reply]] = Listening
    seconds: Annotated[float, Meta(ge=0, le=120)] = 15.0
    device: Id = ""
    motion: Annotated[bool, said("also what moves")] = False
    microphones: Annotated[bool, said("also open microphones, to tell how loud it is at each")] = False


class Hush(Request, frozen=True, kw_only=True, tag="hush"):
    """Stop listening."""


class Attend(Request, frozen=True, kw_only=True, tag="attend"):
    """Send a surface's presses to this client as `heard`; they command nothing.  Without a surface: no longer."""

    surface: Id = ""


class Main(Request, frozen=True, kw_only=True, tag="main"):
    """Mark the keyboard that is never taken over."""

    device: Id


class Bench(Request, frozen=True, kw_only=True, tag="bench"):
    """Pull a device of the bench out, or plug it in."""

    device: Id
    there: bool = True
    port: Id = ""


class Proposal(Struct, frozen=True, kw_only=True):
    """A drawing that may suit a device."""

    layout: str
    name: str
    why: str
    learn: Annotated[bool, said("its keys are to be told by pressing them")]
    controls: list[DrawnRow]


class Proposals(Reply, frozen=True, kw_only=True):
    """Drawings that may suit."""

    proposals: Annotated[list[Proposal], said("the likeliest first")]


class AskProposals(Request, frozen=True, kw_only=True, tag="proposals"):
    """Drawings that may suit a device."""

    reply: ClassVar[type[Reply]] = Proposals
    device: Id


class Taken(Changed, frozen=True, kw_only=True):
    """A device is a surface now."""

    surface: str
    trial_seconds: Annotated[float, said("not 0 for the last keyboard or pointer: until then `keep` has to come")]


Keys = Annotated[dict[Id, Signal], Meta(max_length=2_000), said("what controls send that differ from the drawing's")]
Second = Annotated[list[Signal], Meta(max_length=200), said("what arrives twice and is dropped")]
Parts = Annotated[list[Word], Meta(max_length=200), said("parts of a device, like “back” or “motion while aim”")]


class Take(Request, frozen=True, kw_only=True, tag="take"):
    """Make a device a surface of the desk.

    Refused with `only-keyboard` for the only keyboard, unless `typed` is the phrase that the hint names.
    """

    reply: ClassVar[type[Reply]] = Taken
    device: Id
    name: Word = ""
    layout: Id = ""
    keys: Keys = {}
    second: Second = []
    also: Annotated[Ids, said("other devices of the same thing")] = []
    size: Annotated[list[float], Meta(max_length=2), said("of the drawing, in key units")] = []
    typed: Word = ""
    takes: Parts = []


class Keep(Request, frozen=True, kw_only=True, tag="keep"):
    """Keep the last keyboard or pointer, which was taken over on trial."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id


class HandDrawn(Struct, frozen=True, kw_only=True):
    """A drawing made by hand."""

    controls: Annotated[list[DrawnRow], Meta(max_length=2_000)]
    name: Word = ""


class Draw(Request, frozen=True, kw_only=True, tag="draw"):
    """Give a surface another drawing: a `layout` that is there, or a `drawing`.  What was bound follows the keys."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id
    layout: Id = ""
    keys: Keys = {}
    drawing: HandDrawn | None = None
    second: Second = []


class Set(Request, frozen=True, kw_only=True, tag="set"):
    """Change one of a surface's settings, or of the desk's."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Annotated[Id, said("the whole desk without it")] = ""
    what: Annotated[Id, said("a setting's name in desk.toml, as docs/desk-files.md lists them; or the lamp `num`, "
                             "`caps` or `scroll`")]
    value: Annotated[Word | bool | float | Annotated[list[float | Word], Meta(max_length=200)] | None,
                     said("as desk.toml has it; null: as without it")] = None


class Remove(Request, frozen=True, kw_only=True, tag="remove"):
    """Take a surface off the desk; its device is free again."""

    reply: ClassVar[type[Reply]] = Changed
    surface: Id


class Question(Reply, frozen=True, kw_only=True):
    """The surface that is asked about next."""

    question: str


class This(Request, frozen=True, kw_only=True, tag="this"):
    """Reply which device the surface asked about has, as a press on it does."""

    reply: ClassVar[type[Reply]] = Question
    device: Id
