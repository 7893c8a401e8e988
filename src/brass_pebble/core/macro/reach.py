"""Steps that reach outside the keyboard, and how those of a stranger's macro sleep until they are approved.  Pure."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass

from ..reach import DRIVES_MIDI, DRIVES_OSC, Reach
from .asks import CatchUp, Errand, Laying
from .midi_steps import SendBytes, SendCommand, SendNote, SendValue
from .program import Timeline
from .steps import If, Step, Type
from .world_steps import Errands, Osc, Paste, Play, Request, Run, Say, Start, WaitUntil

# What a step does outside, in words, by its kind.
REACHES: dict[type[Step], str] = {
    Run: "runs a program", Start: "starts a program", Request: "calls an address", Osc: DRIVES_OSC,
    Paste: "pastes a text", Type: "types a text", Say: "speaks", SendNote: DRIVES_MIDI, SendValue: DRIVES_MIDI,
    SendBytes: DRIVES_MIDI, SendCommand: DRIVES_MIDI,
}

def reach_of(step: Step) -> Reach | None:
    """What a step does outside the keyboard, if anything."""
    does = REACHES.get(type(step))
    return Reach(does, step.words(), step.line) if does else None


@dataclass(eq=False, repr=False)
class Asleep(Errands):
    """Stands for a step that is not approved: it only says so."""

    inner: Step | None = None

    def lay(self, timeline: Timeline) -> Laying:
        yield CatchUp(self.line)
        yield Errand(self.line, "asleep", (self.words(),))

    def words(self) -> str:
        return self.inner.words() if self.inner is not None else ""


def reaches(steps: Iterable[Step]) -> Iterator[Reach]:
    """Everything in a macro that reaches outside, in the order of the text; not that of macros it plays."""
    for step in steps:
        if found := reach_of(step.inner if isinstance(step, Asleep) and step.inner else step):
            yield found
        if not isinstance(step, Play):
            yield from reaches(step.body)
        if isinstance(step, If | WaitUntil) and step.otherwise is not None:
            yield from reaches(step.otherwise.body)


def put_to_sleep(steps: list[Step], approved: Callable[[str], bool]) -> int:
    """Exchange every step that reaches outside and is not approved (by its mark).  Returns how many sleep."""
    count = 0
    for index, step in enumerate(steps):
        found = reach_of(step)
        if found is not None and not approved(found.mark):
            steps[index] = Asleep(step.line, inner=step)
            count += 1
            continue
        count += put_to_sleep(step.body, approved)
        if isinstance(step, If | WaitUntil) and step.otherwise is not None:
            count += put_to_sleep(step.otherwise.body, approved)
    return count
