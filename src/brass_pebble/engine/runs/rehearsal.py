"""Rehearsing a macro: it plays in real time into stage programs of its own, and nothing reaches a real program.

Each event is told with its planned and its actual time, and what the program did with it, its quirks included.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import Any

from brass_pebble.core.effects.kinds import KEY, kind_of, tell
from brass_pebble.core.macro.asks import Errand, Look, Program, Question, Window
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.value.kinds import Given, NothingKept, Value
from brass_pebble.core.play.player import Effect, Live, Player, Run
from brass_pebble.core.stage.program import Reaction
from brass_pebble.kinds.outputs.stage import StageOutput

MS = 1_000_000
MOST_TOLD = 2_000
Row = dict[str, Any]


@dataclass(frozen=True)
class Rehearsed:
    """What a rehearsal begins with.  `ask(question, answered)` asks somebody; without it what is likely is taken."""

    values: Mapping[str, Value] = field(default_factory=dict)
    answers: Mapping[str, str] = field(default_factory=dict)
    kept: Mapping[str, Value] = field(default_factory=dict)
    ask: Callable[[Question, Callable[[Value | None], None]], None] | None = None


class Rehearsal:
    """One macro on a stage.  `advance` is to be called at `next_deadline`; `news` hands out what happened since."""

    def __init__(self, macro: Macro, stage: StageOutput, *, hold: int = 0, given: Rehearsed | None = None) -> None:
        self.macro, self.stage = macro, stage
        self._player = Player(self._ended)
        self._out: list[Effect] = []
        self._events: list[Row] = []
        self._told = self._asking = 0
        self._waits: list[tuple[Run, Window, int]] = []
        self.start = time.monotonic_ns()
        self.done = False
        self.trouble = ""
        rehearsed = given or Rehearsed()
        self._ask = rehearsed.ask
        given_ = Given(dict(rehearsed.values), lambda now: now // MS, lambda: time.monotonic_ns() - self.start < hold,
                       rehearsed.answers, NothingKept(rehearsed.kept))
        live = Live(macro.score, given_) if macro.score else None
        self._run, _ = self._player.start(macro.timetable, self.start, self._out, live=live)
        self._send(self.start)

    def _ended(self, run: Run, now: int) -> None:
        self.trouble = run.trouble

    def next_deadline(self) -> int | None:
        """When something is due, in ns; None when all is over."""
        dues = [due for due in (self._player.next_deadline(), self.stage.next_deadline()) if due is not None]
        if self._waits:
            dues.append(time.monotonic_ns() + 20 * MS)
        return min(dues) if dues else None

    def advance(self, now: int) -> None:
        """Do what is due."""
        self._player.advance(now, self._out)
        self._send(now)
        self.stage.advance(now)
        for run, ask, until in list(self._waits):
            here = self._there(ask) != ask.gone
            if here or now >= until:
                self._waits.remove((run, ask, until))
                self._player.resume(run, here, now, self._out)
                self._send(now)
        self._take_reactions()
        if self.next_deadline() is None and not self._asking:
            self.done = True

    def _send(self, now: int) -> None:
        out, self._out = self._out, []
        if out:
            self.stage.send(out, now)
            sent_at = time.monotonic_ns()
            for code, value, planned, run in out:
                self._tell(tell(code, value) if kind_of(code) is not KEY else f"{tell(code, value)} "
                           f"{'down' if value else 'up'}", planned - self.start, sent_at - self.start,
                           run.timetable.lines[max(0, min(run.index, len(run.timetable.lines)) - 1)])
        self._take_reactions()
        errands, self._player.errands = self._player.errands, []
        for run, ask in errands:
            if isinstance(ask, Question):
                self._tell(f"(asks “{ask.words}”)", now - self.start, now - self.start, ask.line)
                if self._ask is not None:
                    self._asking += 1
                    self._ask(ask, lambda value, run=run: self._answered(run, value))  # type: ignore[misc]
                else:
                    self._player.resume(run, True, now, self._out)
                    self._send(now)
            elif isinstance(ask, Window):
                self._waits.append((run, ask, now + ask.limit))
            elif isinstance(ask, Program | Look):
                about = ask.name if isinstance(ask, Program) else f"the look of {' '.join(ask.place)}"
                self._tell(f"(waits for {about})", now - self.start, now - self.start, ask.line)
                self._player.resume(run, True, now, self._out)
                self._send(now)
            elif isinstance(ask, Errand):
                self._tell(f"({' '.join((ask.kind, *ask.words))})", now - self.start, now - self.start, ask.line)
                if ask.wait:
                    self._player.resume(run, True, now, self._out)
                    self._send(now)

    def _answered(self, run: Run, value: Value | None) -> None:
        """Somebody has answered, or will not."""
        self._asking -= 1
        if not self.done:
            now = time.monotonic_ns()
            self._player.resume(run, value, now, self._out)
            self._send(now)

    @property
    def waits_for_answer(self) -> bool:
        """Whether it goes on only when somebody answers."""
        return bool(self._asking)

    def _there(self, ask: Window) -> bool:
        return self.stage.is_there(ask.pattern, focused=ask.focused)

    def _tell(self, what: str, planned: int, actual: int, line: int) -> None:
        if len(self._events) < MOST_TOLD:
            self._events.append({"what": what, "planned_ms": planned / MS, "at_ms": actual / MS, "line": line,
                                 "reactions": []})

    def _take_reactions(self) -> None:
        for reaction in self.stage.reactions:
            self._react(reaction)
        self.stage.reactions.clear()

    def _react(self, reaction: Reaction) -> None:
        row = {"program": reaction.program, "text": reaction.text, "good": reaction.good,
               "at_ms": (reaction.at - self.start) / MS}
        if self._events:
            self._events[-1]["reactions"].append(row)
            self._told = min(self._told, len(self._events) - 1)

    def news(self) -> list[tuple[int, Row]]:
        """Events that are new or have changed, with their numbers from 0."""
        first, self._told = self._told, len(self._events)
        return list(enumerate(self._events))[first:]

    def stop(self) -> None:
        """End it now."""
        now = time.monotonic_ns()
        self._player.stop_all(now, self._out)
        self._send(now)
        self._waits.clear()
        self.done = True
        self._asking = 0

    def late_ms(self) -> float:
        """The latest event's lateness."""
        return max((event["at_ms"] - event["planned_ms"] for event in self._events), default=0.0)


def rehearse_here(macro: Macro, stage: StageOutput, say: Callable[[int, Row], None],
                  given: Rehearsed | None = None) -> Rehearsal:
    """Rehearse in this process, and `say(number, event)` each event when it has landed."""
    rehearsal = Rehearsal(macro, stage, given=given)
    while not rehearsal.done:
        due = rehearsal.next_deadline()
        if due is not None:
            time.sleep(max(0.0, (due - time.monotonic_ns()) / 1e9))
        rehearsal.advance(time.monotonic_ns())
        for number, event in rehearsal.news():
            say(number, event)
    return rehearsal
