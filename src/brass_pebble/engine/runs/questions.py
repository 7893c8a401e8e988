"""What macros ask a person while they run: put to every client, answered by one of them, by digits on the surface that
was pressed, or not at all.

Several questions may be open; the oldest comes first.  The window that had the focus has it again before the macro goes
on.  Whatever ends the run takes its question away.
"""

from __future__ import annotations

import json
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from brass_pebble import file_access
from brass_pebble.core.macro.asking_steps import range_of, read_answer
from brass_pebble.core.macro.asks import Question
from brass_pebble.core.macro.value.kinds import TEXT, Value, tell_value
from brass_pebble.core.play.player import Run
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.say.durations import MS, say_duration
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keys import key_table
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import Ports, RunControl

# So many questions are open at once.
MOST_OPEN = 20
# Digits that were pressed on a surface count when none has followed for so long.
DIGITS_LAST = 1_500 * MS
# So much of an answer is remembered, and so many answers.
LONGEST_REMEMBERED, MOST_REMEMBERED = 2_000, 500
# What keys with digits on them say, by the names of the kernel's keys.
_DIGITS = {**{str(digit): str(digit) for digit in range(10)}, **{f"Pad{digit}": str(digit) for digit in range(10)},
           "Minus": "-", "PadMinus": "-", "Dot": ".", "PadDot": ".", "Comma": ".", "PadComma": "."}
_ENTER, _BACK, _ESCAPE = ("Enter", "PadEnter"), ("Backspace",), ("Esc", "Escape")

Answered = Callable[[Value | None, str], None]


@dataclass
class Asked:
    """A question that is open: who asks, since when, what was typed for it on the surface."""

    id: str
    question: Question
    macro: str
    who: str
    answered: Answered
    until: int
    surface: str = ""
    proposal: str = ""
    typed: str = ""
    run: Run | None = None
    # Gives the focus back to the window that had it.
    give_back: Callable[[], str] | None = None


class Questions:
    """Every question that is open."""

    control: RunControl
    news: News
    # Has presses of a surface looked at one by one while its digits count.
    listen: Callable[[str], object]
    # On a thread: what the clipboard holds, and how the focus is given back.
    read_clipboard: Callable[[], str]
    remember_focus: Callable[[], Callable[[], str] | None]
    slowly: Callable[[Callable[[], object], Callable[[object], None]], bool]

    def __init__(self, ports: Ports, memory: Path) -> None:
        self._ports = ports
        self._open: dict[str, Asked] = {}
        # Keys that are down as part of an answer: surface and code.
        self._counted: set[tuple[str, int]] = set()
        self._memory = memory
        self._last: dict[str, str] | None = None

    # For runs.

    def put(self, run: Run, question: Question) -> None:
        """A run asks."""
        trace = run.owner if isinstance(run.owner, Trace) else None
        macro = trace.macro if trace else ""
        known = self._ports.desk.macros.get(macro)
        surface = trace.answer.surface.id if trace is not None and trace.answer is not None else ""

        def answered(value: Value | None, how: str) -> None:
            if trace is not None:
                trace.remark(f"line {question.line}: {how}")
                self.news.touch(trace)
            self.control.resume_run(run, value)
        self.open(question, macro, known.name if known else macro, answered, surface=surface, run=run)

    def open(self, question: Question, macro: str, who: str, answered: Answered, *, surface: str = "",
             run: Run | None = None) -> None:
        """Ask somebody; `answered(value, how)` is called once, with nothing for a value if nobody answers."""
        if len(self._open) >= MOST_OPEN:
            answered(None, f"it was not asked: {MOST_OPEN} questions are open already")
            return
        asked = Asked(secrets.token_hex(8), question, macro, who, answered, self._ports.now() + question.limit,
                      surface, question.proposal, run=run)
        if question.proposes == "last":
            asked.proposal = self._remembered().get(f"{macro}/{question.name}", "")
        self._open[asked.id] = asked
        if surface and (question.kind != TEXT or question.choices):
            self.listen(surface)
        self.slowly(lambda: self._look_around(asked), lambda result: self._looked_around(asked, result))
        self._book()
        self._tell()
        self._ports.publisher.publish("note", {"text": "", "bell": True})
        if not self._ports.publisher.wanted("questions") and run is not None and isinstance(run.owner, Trace):
            run.owner.remark(f"nobody sees its question “{question.words}”: no screen is open; answer with "
                             "brass-pebble answer")
            self.news.touch(run.owner)

    def _look_around(self, asked: Asked) -> tuple[str | None, Callable[[], str] | None]:
        """Off the loop: what the clipboard proposes, and which window has the focus."""
        clipboard = self.read_clipboard() if asked.question.proposes == "clipboard" else None
        return clipboard, self.remember_focus()

    def _looked_around(self, asked: Asked, result: object) -> None:
        if isinstance(result, Exception):
            log.warning("what is around a question cannot be told: %s", result)
        elif isinstance(result, tuple) and asked.id in self._open:
            clipboard, asked.give_back = result
            if clipboard is not None:
                asked.proposal = clipboard[:LONGEST_REMEMBERED]
                self._tell()

    def drop(self, run: Run) -> None:
        """A run has ended: whatever it asked is not asked any more."""
        for asked in [asked for asked in self._open.values() if asked.run is run]:
            self._close(asked)

    def drop_asked_by(self, answered: Answered) -> None:
        """Who asked without a run does not want to know any more."""
        for asked in [asked for asked in self._open.values() if asked.answered is answered]:
            self._close(asked)

    def _close(self, asked: Asked) -> None:
        if self._open.pop(asked.id, None) is None:
            return
        self._ports.alarms.cancel(f"digits {asked.id}")
        if asked.surface:
            self.listen(asked.surface)
        self._book()
        self._tell()

    # Answers.

    def find(self, name: str) -> Asked | None:
        """The open question of an id, or of a value's name; the oldest one without either."""
        if name in self._open:
            return self._open[name]
        return next((asked for asked in self._open.values() if not name or asked.question.name == name), None)

    def answer(self, asked: Asked, text: str, by: str) -> None:
        """Somebody answers.

        Raises:
            ProblemError: the answer does not fit; the question stays open.
        """
        value = read_answer(asked.question, text)
        self._remember(asked, text)
        self._close(asked)
        how = f"“{asked.question.words}” was answered with “{tell_value(value)[:60]}” {by}"
        if asked.give_back is None:
            asked.answered(value, how)
            return

        def back(result: object) -> None:
            if asked.run is not None and asked.run.state != "playing":
                return
            trouble = result if isinstance(result, str) else f"the window before could not be brought back: {result}"
            if trouble:
                asked.answered(None, f"{how}, but {trouble}; nothing was sent")
            else:
                asked.answered(value, how)
        if not self.slowly(asked.give_back, back):
            asked.answered(None, f"{how}, but the window before could not be brought back; nothing was sent")

    def cancel(self, asked: Asked, by: str) -> None:
        """Somebody will not answer."""
        self._close(asked)
        how = f"“{asked.question.words}” was closed without an answer {by}"
        give_back = asked.give_back
        if give_back is not None:
            self.slowly(give_back, lambda result: None)
        asked.answered(None, how)

    def _book(self) -> None:
        if self._open:
            self._ports.alarms.at("questions", min(asked.until for asked in self._open.values()), self._over)
        else:
            self._ports.alarms.cancel("questions")

    def _over(self, now: int) -> None:
        for asked in [asked for asked in self._open.values() if asked.until <= now]:
            self._close(asked)
            asked.answered(None, f"“{asked.question.words}” was not answered within "
                                 f"{say_duration(asked.question.limit)}")
        self._book()

    # Digits on the surface itself.

    def counts_digits(self, surface_id: str) -> bool:
        """Whether presses of a surface may be part of an answer."""
        return self._asked_on(surface_id) is not None

    def _asked_on(self, surface_id: str) -> Asked | None:
        return next((asked for asked in self._open.values() if asked.surface == surface_id
                     and (asked.question.kind != TEXT or asked.question.choices)), None)

    def take(self, surface_id: str, code: int, value: int) -> str:
        """A key of a surface went down or up: what it did for an answer, in words; empty if it is not meant for it."""
        if not value:
            # Only what was counted is let go here; other keys have begun something that their release ends.
            counted = (surface_id, code) in self._counted
            self._counted.discard((surface_id, code))
            return "let go" if counted else ""
        asked = self._asked_on(surface_id)
        if asked is None or code not in key_table().by_code:
            return ""
        did = self._type_on(asked, key_table().name(code))
        if did:
            self._counted.add((surface_id, code))
        return did

    def _type_on(self, asked: Asked, key: str) -> str:
        if key in _DIGITS:
            asked.typed = (asked.typed + _DIGITS[key])[:20]
            self._digits_follow(asked)
            return f"counted for the answer to “{asked.question.words}”: {asked.typed}"
        if not asked.typed:
            return ""
        if key in _BACK:
            asked.typed = asked.typed[:-1]
            self._digits_follow(asked)
            return f"took a digit back: {asked.typed or 'none is left'}"
        if key in _ENTER:
            self._answer_typed(asked)
            return f"ended the answer to “{asked.question.words}”"
        if key in _ESCAPE:
            self.cancel(asked, f"on {asked.surface}")
            return f"closed “{asked.question.words}”"
        return ""

    def _digits_follow(self, asked: Asked) -> None:
        self._tell()
        if asked.typed:
            self._ports.alarms.at(f"digits {asked.id}", self._ports.now() + DIGITS_LAST,
                                  lambda now: self._answer_typed(asked))
        else:
            self._ports.alarms.cancel(f"digits {asked.id}")

    def _answer_typed(self, asked: Asked) -> None:
        if asked.id not in self._open or not asked.typed:
            return
        typed, asked.typed = asked.typed, ""
        try:
            self.answer(asked, typed, f"on {asked.surface}")
        except ProblemError as error:
            self._ports.publisher.publish("note", {"text": f"{error.problem.what}. {error.problem.hint}", "bell": True})
            self._tell()

    # Last answers, so that they can be proposed.

    def _remembered(self) -> dict[str, str]:
        if self._last is None:
            self._last = {}
            try:
                rows = json.loads(file_access.read_text(self._memory))
                self._last = {str(name): str(text)[:LONGEST_REMEMBERED] for name, text in rows.items()}
            except (OSError, ValueError, AttributeError):
                # Nothing was answered yet, or what was is not readable: there is nothing to propose.
                pass
        return self._last

    def _remember(self, asked: Asked, text: str) -> None:
        if asked.question.proposes != "last":
            return
        last = self._remembered()
        last.pop(f"{asked.macro}/{asked.question.name}", None)
        last[f"{asked.macro}/{asked.question.name}"] = text[:LONGEST_REMEMBERED]
        while len(last) > MOST_REMEMBERED:
            del last[next(iter(last))]
        rows = json.dumps(last, ensure_ascii=False)

        def save() -> None:
            file_access.private_folder(self._memory.parent)
            file_access.write_text(self._memory, rows)
        self._ports.worker.do(save, lambda result: None if result is None else
                              log.warning("the last answers could not be saved: %s", result))

    # For clients.

    def rows(self) -> list[dict[str, object]]:
        """Every open question, the oldest first."""
        now = self._ports.now()
        return [{"question": asked.id, "name": asked.question.name, "words": asked.question.words,
                 "macro": asked.who, "kind": asked.question.kind, "choices": list(asked.question.choices),
                 "fits": range_of(asked.question), "proposal": asked.proposal, "typed": asked.typed,
                 "surface": asked.surface, "left_ms": max(0, asked.until - now) / MS,
                 "trace": asked.run.owner.id if asked.run and isinstance(asked.run.owner, Trace) else 0}
                for asked in self._open.values()]

    def _tell(self) -> None:
        self._ports.publisher.publish("questions", {"questions": self.rows()})

