"""Edits of a macro's text that the lanes offer: each takes the text and lines, and gives the new text.

Only the lines meant are touched; notes, empty lines and the way of writing stay.  Lines count from 1.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import write_duration
from brass_pebble.core.say.problem import ProblemError

from .reader import Draft, parse, preview_timeline, walk
from .steps import Beat, Repeat, RepeatWhile, Step, Tap, Type, Wait
from .writer import split_note

SHORTEST = 1_000_000


@dataclass(frozen=True)
class Edited:
    """The new text, the line to select, and what was done in words."""

    text: str
    line: int
    words: str


class _Page:
    """The lines of a macro, its steps by line, and each step's neighbours in its block."""

    def __init__(self, text: str) -> None:
        self.lines = text.splitlines()
        self.draft: Draft = parse(text)
        self.steps: dict[int, Step] = {}
        self.block: dict[int, list[Step]] = {}
        self._index(self.draft.steps)

    def _index(self, steps: list[Step]) -> None:
        for step in steps:
            self.steps[step.line] = step
            self.block[step.line] = steps
            self._index(step.body)
            if step.otherwise is not None:
                self.steps[step.otherwise.line] = step.otherwise
                self._index(step.otherwise.body)

    def step(self, line: int) -> Step:
        """The step on a line.

        Raises:
            ProblemError: there is none.
        """
        if line not in self.steps:
            raise ProblemError("no step is selected", hint="Choose a bar in the lanes, or a line of the text")
        return self.steps[line]

    def beside(self, line: int, offset: int) -> Step | None:
        """The step before (-1) or behind (1) in the same block."""
        block = self.block.get(line, [])
        index = next((i for i, step in enumerate(block) if step.line == line), 0) + offset
        return block[index] if 0 <= index < len(block) else None

    def rewrite(self, step: Step) -> None:
        """Put a changed step back into its line, its note behind it."""
        raw = self.lines[step.line - 1]
        indent = raw[: len(raw) - len(raw.lstrip())]
        note = split_note(raw.strip())[1]
        self.lines[step.line - 1] = f"{indent}{step.words()}{f'  # {note}' if note else ''}"

    def last_line(self, step: Step) -> int:
        """The last line of a step with all that belongs to it."""
        last = step.line
        for inner in walk([step]):
            last = max(last, inner.line + inner.lines_below)
        return last

    def insert(self, line: int, words: str, like: int) -> None:
        """A new line before `line`, indented like another."""
        raw = self.lines[like - 1]
        self.lines.insert(line - 1, raw[: len(raw) - len(raw.lstrip())] + words)

    def text(self) -> str:
        """The whole text."""
        return "\n".join([*self.lines, ""])


def lengthen(text: str, line: int, by: int) -> Edited:
    """Hold a tap, or let a wait last, `by` ns longer (or shorter, below zero).

    Raises:
        ProblemError: the step has no length of its own.
    """
    page = _Page(text)
    step = page.step(line)
    if isinstance(step, Tap):
        before = page.draft.times[0] if step.length is None else step.length
        step.length = max(SHORTEST, before + by)
        words = f"held {write_duration(step.length)}"
    elif isinstance(step, Wait):
        step.length = max(0, step.length + by)
        words = f"waits {write_duration(step.length)}"
    elif isinstance(step, Type):
        pace = sum(page.draft.times) if step.pace is None else step.pace
        step.pace = max(2 * SHORTEST, pace + by)
        words = f"a letter every {write_duration(step.pace)}"
    elif isinstance(step, Repeat | RepeatWhile) and step.every is not None:
        step.every = max(SHORTEST, step.every + by)
        words = f"every {write_duration(step.every)}"
    elif isinstance(step, Beat):
        step.every = max(SHORTEST, step.every + by)
        words = f"a beat of {write_duration(step.every)}"
    else:
        raise ProblemError("this step has no length of its own", hint="Taps, waits, texts and rhythms have one")
    page.rewrite(step)
    return Edited(page.text(), line, words)


def move(text: str, line: int, by: int) -> Edited:
    """Let a step begin `by` ns later (or earlier); what comes behind it stays where it is, as far as there is room.

    Raises:
        ProblemError: there is no room before it.
    """
    page = _Page(text)
    step, before = page.step(line), page.beside(line, -1)
    room = _pause(page, before, step)
    if (before is None and by < 0) or room + by < 0:
        raise ProblemError("there is no room before it", hint="Move what stands before it first, or shorten that")
    behind = page.beside(line, 1)
    if behind is not None:
        # Lines come in from the last to the first, so that those before keep their numbers.
        left = _pause(page, step, behind)
        if left - by >= 0 and (left or by < 0):
            _set_pause(page, step, behind, left - by)
    shift = _set_pause(page, before, step, room + by)
    return Edited(page.text(), line + shift, f"{'later' if by > 0 else 'earlier'} by {write_duration(abs(by))}")


def _pause(page: _Page, first: Step | None, second: Step) -> int:
    """The time between the end of one step and the beginning of the other, in ns."""
    if isinstance(first, Wait):
        return first.length
    if isinstance(second, Wait):
        return second.length
    return page.draft.times[1] if isinstance(first, Tap | Type) and isinstance(second, Tap | Type) else 0


def _set_pause(page: _Page, first: Step | None, second: Step, pause: int) -> int:
    """Make a pause last so long; returns how many lines came in."""
    if isinstance(first, Wait) or isinstance(second, Wait):
        wait = first if isinstance(first, Wait) else second
        assert isinstance(wait, Wait)
        wait.length = pause
        page.rewrite(wait)
        return 0
    usual = _pause(page, first, second)
    if pause == usual:
        return 0
    page.insert(second.line, f"wait {write_duration(pause)}", second.line)
    return 1


def close_gap(text: str, line: int) -> Edited:
    """Take the wait before a step away.

    Raises:
        ProblemError: there is none.
    """
    page = _Page(text)
    before = page.beside(page.step(line).line, -1)
    if not isinstance(before, Wait):
        raise ProblemError("there is no wait before it", hint="Only waits can be closed; taps keep their gap")
    del page.lines[before.line - 1]
    return Edited(page.text(), line - 1, f"the gap of {write_duration(before.length)} is closed")


def scale(text: str, first: int, last: int, factor: float) -> Edited:
    """Make all times from one line to another longer or shorter by a factor: waits, lengths, rhythms."""
    page = _Page(text)
    count = 0
    for step in page.steps.values():
        if not first <= step.line <= last:
            continue
        if isinstance(step, Wait):
            step.length = round(step.length * factor)
        elif isinstance(step, Tap):
            step.length = max(SHORTEST, round((page.draft.times[0] if step.length is None else step.length) * factor))
        elif isinstance(step, Type) or (isinstance(step, Repeat | RepeatWhile) and step.every is not None):
            every = step.pace if isinstance(step, Type) else step.every
            every = max(SHORTEST, round((sum(page.draft.times) if every is None else every) * factor))
            if isinstance(step, Type):
                step.pace = every
            else:
                step.every = every
        elif isinstance(step, Beat):
            step.every = max(SHORTEST, round(step.every * factor))
        else:
            continue
        page.rewrite(step)
        count += 1
    return Edited(page.text(), first, f"{say_count(count, 'time')} made {factor:g} times as long")


def snap(text: str, first: int, last: int, rhythm: int) -> Edited:
    """Let each step between two lines begin at a multiple of `rhythm` ns from the first of them.

    Raises:
        ProblemError: the lines belong to different blocks, or a step has no time of its own.
    """
    page = _Page(text)
    block = page.block.get(first)
    chosen = [step for step in block or [] if first <= step.line <= last]
    if not chosen:
        raise ProblemError("nothing is selected", hint="Choose several lines of one block")
    moved, line = 0, first
    steps = [step for step in chosen if not isinstance(step, Wait)]
    lines = [step.line for step in steps]
    starts = _starts(page, chosen)
    base = starts.get(lines[0], 0) if lines else 0
    shift, added = 0, 0
    for step_line in lines:
        at = starts[step_line] - base + shift
        wanted = max(0, round(at / rhythm) * rhythm)
        if wanted != at:
            now = _Page(text)
            step, before = now.step(step_line + added), now.beside(step_line + added, -1)
            room = _pause(now, before, step)
            by = max(wanted - at, -room)
            if before is None:
                continue
            came = _set_pause(now, before, step, room + by)
            text, added, shift, moved = now.text(), added + came, shift + by, moved + 1
    return Edited(text, line, f"{say_count(moved, 'step')} moved to a rhythm of {write_duration(rhythm)}")


def _starts(page: _Page, steps: Iterable[Step]) -> dict[int, int]:
    """When each step begins, from the first one on, in ns."""
    timeline = preview_timeline(page.draft)
    starts: dict[int, int] = {}
    for step in steps:
        before, count = timeline.now, len(timeline.timetable.times)
        for _ in step.lay(timeline):
            pass
        times = timeline.timetable.times
        starts[step.line] = times[count] if len(times) > count else before
    return starts


def delete(text: str, line: int) -> Edited:
    """Take a step away, with the block below it.  A block that loses its last step goes with it."""
    page = _Page(text)
    step = page.step(line)
    owner = next((s for s in page.steps.values() if s.body == [step]), None)
    if owner is not None:
        return delete(text, owner.line)
    del page.lines[step.line - 1:page.last_line(step)]
    return Edited(page.text(), max(1, line - 1), f"“{step.words()}” is gone")


def duplicate(text: str, line: int) -> Edited:
    """Write a step once more, right behind itself."""
    page = _Page(text)
    step = page.step(line)
    last = page.last_line(step)
    page.lines[last:last] = page.lines[step.line - 1:last]
    return Edited(page.text(), last + 1, f"“{step.words()}” twice")


def insert(text: str, line: int, words: str) -> Edited:
    """A new line behind a step (or at the end with line 0).

    Raises:
        ProblemError: the words are no step.
    """
    found = parse(words).problems
    found = [problem for problem in found if "has no steps" not in problem.what]
    if found:
        raise ProblemError(found[0].what, column=found[0].column, hint=found[0].hint)
    page = _Page(text)
    if line not in page.steps:
        page.lines.append(words)
        return Edited(page.text(), len(page.lines), f"“{words}” at the end")
    last = page.last_line(page.steps[line])
    page.insert(last + 1, words, line)
    return Edited(page.text(), last + 1, f"“{words}” is new")

