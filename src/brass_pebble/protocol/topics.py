"""News: what clients are told once they follow a topic."""

from __future__ import annotations

from typing import Annotated

from msgspec import Struct

from brass_pebble.core.play.told import TraceRow

from .asking import QuestionRow
from .base import News, Signal, said
from .network import SessionsRow
from .rows import DeskRow, DeviceRow, HandsOffRow, LayersRow, ProblemRow, PulledRow, RecorderRow, StageRow
from .voice import VoiceRow


class PressNews(News, frozen=True, kw_only=True, tag="press"):
    """Controls went down or up."""

    keys: Annotated[list[tuple[str, str, int]], said("surface, control, 0 or with what strength")]


class TraceNews(News, frozen=True, kw_only=True, tag="trace"):
    """A trace has changed.  While a run plays it comes for the first eight effects, for reactions, and at the end."""

    trace: TraceRow


class DeskNews(News, frozen=True, kw_only=True, tag="desk"):
    """The desk, or which device a surface has, has changed."""

    desk: DeskRow


class StageNews(News, frozen=True, kw_only=True, tag="stage"):
    """The stage has changed."""

    programs: list[StageRow]


class ScriptNews(News, frozen=True, kw_only=True, tag="script"):
    """The scripted class goes on."""

    running: bool
    name: str
    caption: str
    at_ms: float
    length_ms: float


class ProblemNews(News, frozen=True, kw_only=True, tag="problem"):
    """What is wrong now."""

    problems: list[ProblemRow]


class DevicesNews(News, frozen=True, kw_only=True, tag="devices"):
    """The devices that are here have changed."""

    devices: list[DeviceRow]
    left_ms: Annotated[float, said("of listening")]
    main_known: bool
    pulled: list[PulledRow]
    open_microphones: list[str] = []


class ArrivedRow(Struct, frozen=True, kw_only=True):
    """One of two that arrived for one press."""

    device: str
    shown: str
    node: str
    code: Signal
    key: str


class DoubleRow(Struct, frozen=True, kw_only=True):
    """One press that arrived twice."""

    first: ArrivedRow
    second: ArrivedRow
    times: int
    apart_ms: float


class HeardNews(News, frozen=True, kw_only=True, tag="heard"):
    """A device that is listened to, or a surface that is attended to, sent something."""

    device: str
    surface: str = ""
    shown: str = ""
    code: Signal
    down: bool | int
    at: Annotated[float, said("s of CLOCK_MONOTONIC")]
    key: str = ""
    typed: Annotated[int, said("what the key types with the desk's layout")] = 0
    kernel: Annotated[str, said("the kernel's name of the key")] = ""
    hex: str = ""
    usage: Annotated[str, said("HID page:usage")] = ""
    node: str = ""
    turned: Annotated[str, said("which way, if it was turned or moved")] = ""
    steps: int = 0
    spelt: str = ""
    double: DoubleRow | None = None


class NoteNews(News, frozen=True, kw_only=True, tag="note"):
    """What a macro shows, or its bell."""

    text: str
    bell: bool


class QuestionsNews(News, frozen=True, kw_only=True, tag="questions"):
    """A macro asks something, or does not any more."""

    questions: Annotated[list[QuestionRow], said("every open one, the oldest first")]


class ValuesNews(News, frozen=True, kw_only=True, tag="values"):
    """Kept values have changed."""

    values: Annotated[dict[str, str], said("every one that was set, as text, shortened")]


class RehearsedReaction(Struct, frozen=True, kw_only=True):
    """What a program of the rehearsal's stage did."""

    program: str
    text: str
    good: bool


class RehearsedRow(Struct, frozen=True, kw_only=True):
    """What a rehearsal sent.  Times count from its start."""

    what: str
    planned_ms: float
    at_ms: float
    line: int
    reactions: list[RehearsedReaction]


class RehearsalNews(News, frozen=True, kw_only=True, tag="rehearsal"):
    """What happened in a rehearsal since it was told last."""

    name: str
    done: bool
    trouble: str
    at_ms: float
    late_ms: float
    events: Annotated[list[tuple[int, RehearsedRow]], said("by number")]
    programs: list[StageRow]


class RecorderNews(News, RecorderRow, frozen=True, kw_only=True, tag="recorder"):
    """A record control was pressed, or its recording ended."""


class HandsOffNews(News, HandsOffRow, frozen=True, kw_only=True, tag="hands_off"):
    """Which surfaces' presses only select."""


class LayersNews(News, LayersRow, frozen=True, kw_only=True, tag="layers"):
    """Layers came on or went off."""


class ChordNews(News, frozen=True, kw_only=True, tag="chord"):
    """A chord is being caught."""

    state: Annotated[str, said("`listening`, `caught`, `done`, `left` or `over`")]
    chord: str
    down: list[str]


class MovesNews(News, frozen=True, kw_only=True, tag="moves"):
    """Where things are that have moved."""

    at: Annotated[list[tuple[str, str, list[float], list[float]]], said("surface, control, positions, raw values: the "
                                                                        "latest of each")]


class SessionsNews(News, SessionsRow, frozen=True, kw_only=True, tag="sessions"):
    """Who takes part over the network has changed."""


class VoiceNews(News, frozen=True, kw_only=True, tag="voice"):
    """What microphones hear, or what they listen for, has changed."""

    voices: list[VoiceRow]


class LoudnessNews(News, frozen=True, kw_only=True, tag="loudness"):
    """How loud it is at a microphone, and the words so far of what is being said."""

    surface: Annotated[str, said("empty for a device that is none yet")]
    device: str = ""
    loud: Annotated[float, said("dB below the loudest")]
    speaking: bool
    words: str


class MissedNews(News, frozen=True, kw_only=True, tag="missed"):
    """This client was too slow to take news.  It comes without being followed."""

    count: int
