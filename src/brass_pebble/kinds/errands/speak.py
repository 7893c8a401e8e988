"""Texts that macros speak."""

from __future__ import annotations

import shutil
from typing import ClassVar

from brass_pebble.core.macro.asks import Ask, Errand

from .base import SLACK, Done, World
from .call import Call

# Programs that speak: the first one that is here.
SPEAKERS = (("spd-say", "--wait", "--"), ("espeak-ng", "--"), ("espeak", "--"))
# A text takes at most so long, in ns.
LONGEST_SPEECH = 30_000_000_000


class Speak:
    """A text, by the first program that can."""

    fields: ClassVar[tuple[str, ...]] = ("text",)
    pool: ClassVar[str] = "speak"
    reach: ClassVar[str] = "speaks"
    tells: ClassVar[bool] = True

    def __init__(self, world: World) -> None:
        self._world = world

    def limit(self, ask: Ask) -> int:
        return LONGEST_SPEECH + SLACK

    def whom(self, ask: Ask) -> str:
        return "the speech program"

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        for speaker in SPEAKERS:
            if shutil.which(speaker[0]):
                self._world.spoken(begins=True)
                try:
                    ended = self._world.helpers.run([*speaker, ask.words[0]], LONGEST_SPEECH / 1e9, call)
                finally:
                    self._world.spoken(begins=False)
                return ended.remark, ended.well
        return "nothing was said: no speech program is here. Install speech-dispatcher or espeak-ng", False
