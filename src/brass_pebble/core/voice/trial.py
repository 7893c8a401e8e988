"""Trying a phrase out: it is said a few times, then somebody talks about anything, and its strictness is proposed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from brass_pebble.core.say.counts import say_count

from .judging import REFUSED
from .listening import ACT, ASK, ATTEND, BEGIN, CHOSE, END, Decision, Heard

# It is to be said so many times, and talked for so long, in ns.
TIMES, TALKS = 5, 60_000_000_000
# No phrase is made laxer than this, or stricter than that, by a proposal.
LAXEST, STRICTEST = 35, 95
# What was said is to be understood with some room to spare, in points.
ROOM = 4


@dataclass(frozen=True)
class Tried:
    """One utterance of a trial: when it began (s since the trial or its recording did), what was heard, how alike, what
    would have been done with it (`do`, see listening.py), and that in words."""

    at: float
    said: str
    alike: int
    needed: int
    do: str
    words: str


def tried(heard: Heard, decision: Decision, at: float, does: Callable[[str], str]) -> Tried:
    """An utterance of a trial; `does` tells what a phrase would do."""
    best = decision.candidate or (heard.candidates[0] if heard.candidates else None)
    fixed = {ATTEND: "would listen for a phrase", BEGIN: "phrases would count from here on",
             END: "no phrase would count from here on"}
    if decision.do in fixed:
        words = fixed[decision.do]
    elif decision.do in (ACT, CHOSE) and best is not None:
        words = does(best.phrase) or "nothing is bound to it"
    elif decision.do == ASK:
        words = "would ask: " + " or ".join(f"“{each.said}”" for each in decision.choices[:2])
    else:
        why = decision.why or heard.why
        # What it is like, and how much, stands beside it.
        words = why.partition("”, ")[2] if heard.kind == REFUSED and "”, " in why else why
    return Tried(round(at, 1), best.said if best is not None else "", best.alike if best is not None else 0,
                 best.needed if best is not None else 0, decision.do, words)


@dataclass
class Trial:
    """What was heard so far: how alike the phrase was each time it was said (0 where another thing was heard), and in
    talk."""

    phrase: str
    strict: int
    said: list[int] = field(default_factory=list)
    talked: list[int] = field(default_factory=list)
    talks: bool = False

    def hear(self, phrase: str, alike: int) -> None:
        """An utterance was nearest to a phrase, so much alike."""
        if self.talks:
            self.talked.append(alike if phrase == self.phrase else 0)
        elif len(self.said) < TIMES:
            self.said.append(alike if phrase == self.phrase else 0)

    def proposal(self) -> tuple[int, str]:
        """How strict it should be, and why in words; the strictness that it has where there is too little to go by."""
        if not self.said:
            return self.strict, "it was not said"
        heard = sorted(each for each in self.said if each)
        if len(heard) * 2 < len(self.said):
            return self.strict, (f"it was understood {say_count(len(heard), 'time')} of {len(self.said)}: choose other "
                                 "words, or teach it how they are pronounced")
        worst, loudest = heard[0], max(self.talked, default=0)
        if worst - ROOM > loudest:
            strict = max(loudest + 1, (worst - ROOM + max(loudest, LAXEST)) // 2)
        else:
            strict = loudest + 1
        strict = min(STRICTEST, max(LAXEST, strict))
        told = f"said {say_count(len(self.said), 'time')} it was {worst} to {heard[-1]} % alike"
        told += f"; talk came up to {loudest} %" if self.talked else "; nobody talked"
        if loudest >= worst:
            told += ", which is nearer than it: longer words would be safer"
        return strict, told
