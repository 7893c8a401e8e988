"""What clients may ask about questions that macros wait with, and about kept values.

One method for each request, named after it; docs/protocol.md tells the fields.
"""

from __future__ import annotations

from collections.abc import Iterable
from decimal import Decimal

from brass_pebble.core.macro.value.kept_text import NAME, file_of, write_kept
from brass_pebble.core.macro.value.kinds import DECIMAL, TEXT, WHOLE, Value, kind_of_value, read_number, tell_value
from brass_pebble.core.say.problem import nearest
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.kept_values import MOST_SHOWN, KeptInDesk
from brass_pebble.engine.runs.questions import Questions
from brass_pebble.protocol import asking as messages
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client, Message


class AskingRequests:
    """Answers on behalf of an engine."""

    questions: Questions
    kept: KeptInDesk

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_questions(self, client: Client, ask: messages.AskQuestions) -> Message:
        """The questions that are open."""
        return {"questions": self.questions.rows()}

    def do_answer(self, client: Client, ask: messages.Answer) -> Message:
        """Answer a question, or close it."""
        asked = self.questions.find(ask.question)
        if asked is None:
            raise Refusal("this question is not open any more" if ask.question else "no question is open",
                          "See which ones are: brass-pebble questions")
        by = "on the screen" if client.name == "screen" else f"by {client.name or 'a client'}"
        if ask.text is None:
            self.questions.cancel(asked, by)
        else:
            self.questions.answer(asked, ask.text, by)
        return {}

    def do_values(self, client: Client, ask: messages.AskValues) -> Message:
        """Every kept value."""
        return {"values": list(self._rows(self._named()))}

    def _named(self) -> dict[str, list[tuple[str, Value]]]:
        """The values that macros name: which macro, and what it begins with."""
        found: dict[str, list[tuple[str, Value]]] = {}
        for macro_id, macro in sorted(self._ports.desk.macros.items()):
            for name, first in macro.keeps.items():
                found.setdefault(name, []).append((macro_id, first))
        return found

    def _rows(self, named: dict[str, list[tuple[str, Value]]]) -> Iterable[Message]:
        values, changes = self.kept.all(), self.kept.changes()
        for name in sorted({*values, *named}):
            users, value = named.get(name, []), values.get(name)
            first = users[0][1] if users else ""
            now = first if value is None else value
            wrong = [macro for macro, begins in users if kind_of_value(begins) != kind_of_value(now)]
            yield {"name": name, "value": tell_value(now)[:MOST_SHOWN], "kind": kind_of_value(now),
                   "first": tell_value(first)[:MOST_SHOWN], "is_set": value is not None,
                   "macros": [macro for macro, _ in users],
                   "changes": [{"value": tell_value(first)[:MOST_SHOWN] if change.value is None else change.value,
                                "at": change.at, "macro": change.macro, "is_set": change.value is not None}
                               for change in changes.get(name, ())],
                   "trouble": f"{', '.join(wrong)} cannot use it: it is a {kind_of_value(now)}" if wrong else ""}

    def do_set_value(self, client: Client, ask: messages.SetValue) -> None:
        """Change a kept value; it can be undone."""
        if not NAME.fullmatch(ask.value):
            raise Refusal(f"“{ask.value}” cannot be a value's name", "Use small letters, digits and _")

        users, present = self._named().get(ask.value, []), self.kept.get(ask.value)
        like = users[0][1] if users else present
        value = read_as(ask.to, kind_of_value(like) if like is not None else "")
        edit = Edit(f"value {ask.value}: {tell_value(value)[:60]}", files=((file_of(ask.value), write_kept(value)),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit), then=self.kept.follow)

    def do_reset_value(self, client: Client, ask: messages.ResetValue) -> None:
        """Let a kept value be again what it begins with; it can be undone."""
        if self.kept.get(ask.value) is None:
            raise Refusal(f"“{ask.value}” is not set", nearest(ask.value, self.kept.all()))
        edit = Edit(f"value {ask.value}: reset", files=((file_of(ask.value), None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit), then=self.kept.follow)


def read_as(text: str, kind: str) -> Value:
    """What a person typed for a value, as the kind that it is; as a number if it looks like one, without a kind.

    Raises:
        Refusal: it is none of that kind.
    """
    if kind == TEXT:
        return text
    try:
        number = read_number(text.replace(",", "."))
    except ValueError:
        if kind:
            raise Refusal(f"“{text}” is not a {kind}", "Write it in digits") from None
        return text
    if kind == WHOLE and isinstance(number, Decimal):
        raise Refusal(f"“{text}” is not a whole number", "The macros that use it count with whole numbers")
    return Decimal(number) if kind == DECIMAL else number
