"""The greeting, the desk as a whole, presses, playing and stopping."""

from __future__ import annotations

from typing import Annotated, ClassVar

from msgspec import UNSET, Meta, UnsetType

from brass_pebble.core.macro.value.kinds import Value
from brass_pebble.core.play.told import TraceRow

from .asking import QuestionRow
from .base import (
    VERSION,
    Changed,
    Id,
    Number,
    Percent,
    Reply,
    Request,
    Signal,
    Strength,
    Word,
    said,
)
from .rows import DeskRow, HandsOffRow, LayersRow, ProblemRow, StageRow
from .voice import VoiceRow


class Welcome(Reply, frozen=True, kw_only=True):
    """Who the engine is."""

    protocol: int
    version: Annotated[str, said("of the program")]
    pid: int
    desk: Annotated[str, said("the desk's name")]
    folder: str
    topics: Annotated[list[str], said("what can be followed")]


class Hello(Request, frozen=True, kw_only=True, tag="hello"):
    """The greeting: the first message on a connection."""

    reply: ClassVar[type[Reply]] = Welcome
    protocol: int = VERSION
    client: Annotated[str, Meta(max_length=200), said("a name for logs and traces")] = ""


class Follow(Request, frozen=True, kw_only=True, tag="follow"):
    """From now on news of these topics, and of no others."""

    topics: Annotated[list[Id], Meta(max_length=100)]


class WholeDesk(Reply, frozen=True, kw_only=True):
    """Everything that a screen begins with."""

    desk: DeskRow
    problems: list[ProblemRow]
    programs: Annotated[list[StageRow], said("the stage")]
    layers: LayersRow
    at: Annotated[list[tuple[str, str, list[float]]], said("where things are that move: surface, control, positions")]
    down: Annotated[list[tuple[str, str]], said("what is down: surface, control")]
    values: Annotated[dict[str, str], said("what macros keep, as text, shortened")]
    questions: Annotated[list[QuestionRow], said("what macros ask and wait for, the oldest first")]
    voices: Annotated[list[VoiceRow], said("microphones of the desk")] = []


class AskDesk(Request, frozen=True, kw_only=True, tag="desk"):
    """The desk, its problems, the stage, the layers."""

    reply: ClassVar[type[Reply]] = WholeDesk


class Traces(Reply, frozen=True, kw_only=True):
    """The latest traces."""

    traces: Annotated[list[TraceRow], said("oldest first")]


class AskTraces(Request, frozen=True, kw_only=True, tag="traces"):
    """The latest traces."""

    reply: ClassVar[type[Reply]] = Traces
    count: Annotated[int, Meta(ge=0, le=500)] = 50


class Pressed(Reply, frozen=True, kw_only=True):
    """A press was made."""

    trace: Annotated[int, said("0 if it has none")]


class Press(Request, frozen=True, kw_only=True, tag="press"):
    """Press or let go a control of the bench; `by_hand` one of any surface, also while its device is missing.

    What a client holds is released when it leaves.

    Name a `surface` and its `control`, or a `device` that is not a surface yet and a `code` that it sends.
    """

    reply: ClassVar[type[Reply]] = Pressed
    surface: Id = ""
    control: Id = ""
    device: Id = ""
    code: Signal = 0
    down: bool = True
    strength: Annotated[int, Meta(ge=1, le=127)] = 127
    by_hand: Annotated[bool, said("the person says so: the trace tells it")] = False


class Move(Request, frozen=True, kw_only=True, tag="move"):
    """Move a control of the bench: `to` positions, or by `steps` of a wheel."""

    surface: Id
    control: Id
    to: Annotated[list[Annotated[float, Meta(ge=-1, le=1)]], Meta(max_length=4), said("a position for each axis")] = []
    steps: Annotated[int, Meta(ge=-100, le=100)] = 0
    axis: Annotated[int, Meta(ge=0, le=3), said("which of its wheels")] = 0


class Values(Request, frozen=True, kw_only=True):
    """What a client gives in place of a press."""

    number: Number | UnsetType = UNSET
    strength: Strength | UnsetType = UNSET
    position: Percent | UnsetType = UNSET

    said: Annotated[Word | UnsetType, said("the words that were said or typed")] = UNSET
    answers: Annotated[dict[Id, Word], said("answers to what the macro would ask, by the value's name")] = {}

    def given(self) -> dict[str, Value]:
        """Those that were given."""
        return {name: value for name in ("number", "strength", "position", "said")
                if not isinstance(value := getattr(self, name), UnsetType)}


class Playing(Reply, frozen=True, kw_only=True):
    """A macro was started, or not."""

    trace: int
    state: Annotated[str, said("as in a trace")]
    why: str
    length_ms: float
    asks: Annotated[list[str], said("the values that it may ask a person for")] = []


class Play(Values, frozen=True, kw_only=True, tag="play"):
    """Play a macro, with `number`, `strength` and `position` in place of a press."""

    reply: ClassVar[type[Reply]] = Playing
    macro: Annotated[Word, said("id or name")]


class Stopped(Reply, frozen=True, kw_only=True):
    """Everything was stopped."""

    runs: Annotated[int, said("how many were ended")]


class Stop(Request, frozen=True, kw_only=True, tag="stop"):
    """Stop everything and release everything."""

    reply: ClassVar[type[Reply]] = Stopped


class OpenNode(Reply, frozen=True, kw_only=True):
    """A device that the engine has open."""

    node: str
    device: str
    why: str
    known: Annotated[bool, said("whether the reason is one of the engine's own")]


class OpenNodes(Reply, frozen=True, kw_only=True):
    """Every device that is open."""

    open: list[OpenNode]


class AskPrivacy(Request, frozen=True, kw_only=True, tag="privacy"):
    """Every device that the engine has open, and why."""

    reply: ClassVar[type[Reply]] = OpenNodes


class RecordingEnded(Reply, frozen=True, kw_only=True):
    """Whether there was a recording."""

    ended: bool


class CancelRecording(Request, frozen=True, kw_only=True, tag="cancel_recording"):
    """End what a record control began, and save nothing."""

    reply: ClassVar[type[Reply]] = RecordingEnded


class OffSurfaces(Reply, HandsOffRow, frozen=True, kw_only=True):
    """Surfaces whose presses only select."""


class HandsOff(Request, frozen=True, kw_only=True, tag="hands_off"):
    """Let presses only select for a while."""

    reply: ClassVar[type[Reply]] = OffSurfaces
    surface: Annotated[Id, said("all without it")] = ""
    seconds: Annotated[float, Meta(ge=0, le=1800)] = 120.0


class HandsOn(Request, frozen=True, kw_only=True, tag="hands_on"):
    """Let presses act again."""

    reply: ClassVar[type[Reply]] = OffSurfaces
    surface: Annotated[Id, said("all without it")] = ""


class SurfaceStates(Reply, frozen=True, kw_only=True):
    """How surfaces are now."""

    states: dict[str, str]


class Rest(Request, frozen=True, kw_only=True, tag="rest"):
    """Let a surface type normally, as if it were not taken over."""

    reply: ClassVar[type[Reply]] = SurfaceStates
    surface: Annotated[Id, said("all without it")] = ""


class Wake(Request, frozen=True, kw_only=True, tag="wake"):
    """Let a surface act again; one that is named is taken over on trial if it was refused because you may need it."""

    reply: ClassVar[type[Reply]] = SurfaceStates
    surface: Annotated[Id, said("all without it")] = ""


class Quit(Request, frozen=True, kw_only=True, tag="quit"):
    """End the engine."""


class Undo(Request, frozen=True, kw_only=True, tag="undo"):
    """Take the last change of the desk back."""

    reply: ClassVar[type[Reply]] = Changed


class Redo(Request, frozen=True, kw_only=True, tag="redo"):
    """Do the last undone change again."""

    reply: ClassVar[type[Reply]] = Changed


class ScriptState(Reply, frozen=True, kw_only=True):
    """Whether the scripted class runs."""

    running: bool


class Script(Request, frozen=True, kw_only=True, tag="script"):
    """Start or end the scripted class."""

    reply: ClassVar[type[Reply]] = ScriptState
    run: bool = True
