"""What goes between the engine and the process that hears: one message a line, JSON.

Times are in ns of CLOCK_MONOTONIC.  Numbers of slots are texts, so that decimals stay exact.
"""

from __future__ import annotations

from typing import Annotated, Literal

from msgspec import Meta, Struct

Text = Annotated[str, Meta(max_length=500)]
Id = Annotated[str, Meta(max_length=100)]
Time = Annotated[int, Meta(ge=0, le=2**63 - 1)]
Per = Annotated[int, Meta(ge=0, le=100)]
LONGEST_LINE = 4_000_000


class ChoiceSent(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One of a list: its wordings, and what it stands for."""

    say: list[Text]
    gives: int | Text


class SlotSent(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A slot: a number, one of a list, or up to so many free words."""

    low: Text = ""
    high: Text = ""
    step: Text = ""
    one_of: list[ChoiceSent] = []
    words: Annotated[int, Meta(ge=0, le=100)] = 0


class PhraseSent(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A phrase to listen for."""

    id: Id
    say: Annotated[list[Text], Meta(max_length=64)]
    slots: dict[Id, SlotSent] = {}
    strict: Per = 70


class Listen(Struct, frozen=True, kw_only=True, tag="listen", tag_field="do", forbid_unknown_fields=True):
    """Listen for these from the next utterance on; `number` comes back with what is heard then."""

    number: Time
    phrases: Annotated[list[PhraseSent], Meta(max_length=1_000)]
    pronounced: dict[Id, list[Id]] = {}
    second: Annotated[str, Meta(max_length=1_000)] = ""
    language: Id = ""


class Watch(Struct, frozen=True, kw_only=True, tag="watch", tag_field="do", forbid_unknown_fields=True):
    """Whether somebody looks at how loud it is and at the words as they come."""

    on: bool


class Keep(Struct, frozen=True, kw_only=True, tag="keep", tag_field="do", forbid_unknown_fields=True):
    """Write what is heard into a new file, for so many s at most; without a file, no longer."""

    file: Annotated[str, Meta(max_length=4_000)] = ""
    seconds: Annotated[float, Meta(gt=0, le=600)] = 60.0


class Dictate(Struct, frozen=True, kw_only=True, tag="dictate", tag_field="do", forbid_unknown_fields=True):
    """Whether the words of each utterance are told, whatever they are."""

    on: bool


class Ready(Struct, frozen=True, kw_only=True, tag="ready", tag_field="told"):
    """Sound is read from now on."""

    recogniser: Text


class Knows(Struct, frozen=True, kw_only=True, tag="knows", tag_field="told"):
    """It listens for what it was told; `unknown` are words that it cannot pronounce."""

    number: Time
    unknown: list[Text] = []


class Second(Struct, frozen=True, kw_only=True, tag="second", tag_field="told"):
    """There is a second opinion now, or `why` there is none."""

    why: Text = ""


class Alike(Struct, frozen=True, kw_only=True, tag="alike", tag_field="told"):
    """Which phrases of those sound alike, and how alike."""

    number: Time
    pairs: list[tuple[Id, Id, Per]]


class Level(Struct, frozen=True, kw_only=True, tag="level", tag_field="told"):
    """How loud it is, in dB below the loudest; whether somebody speaks, and the words so far."""

    loud: float
    speaking: bool
    words: Annotated[str, Meta(max_length=2_000)] = ""


class CandidateTold(Struct, frozen=True, kw_only=True):
    """One thing that was perhaps said: see core/voice/listening.py."""

    phrase: Id
    said: Annotated[str, Meta(max_length=2_000)]
    values: dict[Id, int | Annotated[str, Meta(max_length=2_000)]] = {}
    alike: Per
    needed: Per
    trouble: Text = ""


class Uttered(Struct, frozen=True, kw_only=True, tag="uttered", tag_field="told"):
    """An utterance is over.  `waited` for silence and `worked` are in ns; `heard` are its words, or its sounds."""

    number: Time
    kind: Literal["sure", "unsure", "refused", "silent"]
    candidates: list[CandidateTold] = []
    why: Annotated[str, Meta(max_length=4_000)] = ""
    began: Time
    ended: Time
    waited: Time = 0
    worked: Time = 0
    loud: float = 0.0
    clipped: bool = False
    sounds: Annotated[list[Id], Meta(max_length=2_000)] = []


class Kept(Struct, frozen=True, kw_only=True, tag="kept", tag_field="told"):
    """So many s were written into a file, and no more will be; or `why` nothing was."""

    seconds: Annotated[float, Meta(ge=0)] = 0.0
    why: Text = ""


class Dictated(Struct, frozen=True, kw_only=True, tag="dictated", tag_field="told"):
    """What an utterance can have been as free speech, the likeliest first."""

    readings: Annotated[list[Annotated[str, Meta(max_length=2_000)]], Meta(max_length=9)]


class Over(Struct, frozen=True, kw_only=True, tag="over", tag_field="told"):
    """A recording was heard to its end."""


class Gone(Struct, frozen=True, kw_only=True, tag="gone", tag_field="told"):
    """The sound has ended: the microphone was unplugged, is held by somebody else, or the sound server is away."""

    why: Text


class Cannot(Struct, frozen=True, kw_only=True, tag="cannot", tag_field="told"):
    """It cannot be done here at all, such as without a recogniser."""

    why: Text


Order = Listen | Watch | Keep | Dictate
Told = Ready | Knows | Second | Alike | Level | Uttered | Kept | Dictated | Over | Gone | Cannot
