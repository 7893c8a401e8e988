"""What clients may ask about macros: their texts, writing them, rehearsing, recording.

One method for each request, named after it; docs/protocol.md tells the fields.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from brass_pebble import file_access
from brass_pebble.core.desk.renaming import plays_in_bindings
from brass_pebble.core.macro.asks import Question
from brass_pebble.core.macro.naming import rename_plays, with_name, written_name
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.value.kinds import Value
from brass_pebble.core.say.problem import ConflictError, ProblemError, nearest
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.core.stage.program import StageProgram
from brass_pebble.engine.clients.desk_rows import DeskRows
from brass_pebble.engine.disk.edits import Edit, Row
from brass_pebble.engine.disk.guests import FILE as GUESTS
from brass_pebble.engine.disk.guests import Guests, guests_of, write_guests
from brass_pebble.engine.disk.parsed_toml import parse_tables
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.kept_values import KeptInDesk
from brass_pebble.engine.runs.questions import Answered, Questions
from brass_pebble.engine.runs.rehearsal import Rehearsal, Rehearsed
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.outputs.stage import StageOutput, read_programs
from brass_pebble.kinds.outputs.xkb import typist
from brass_pebble.paths import DEMO_STAGE
from brass_pebble.protocol import macros as messages
from brass_pebble.protocol.errors import BadMessage, Broken, Refusal

from .editing import Editing
from .server import Client, Message

MS = 1_000_000
TELL_EVERY = 60 * MS

class MacroRequests:
    """Answers on behalf of an engine."""

    setup: Setup
    rows: DeskRows
    questions: Questions
    kept: KeptInDesk

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing
        self._rehearsal: Rehearsal | None = None
        self._name = ""
        self._asked: Answered | None = None

    def do_macros(self, client: Client, ask: messages.AskMacros) -> None:
        """Every macro's text, by its id, broken ones included."""
        number = ask.id

        def done(result: object) -> None:
            texts, unfinished = result if isinstance(result, tuple) else ({}, {})
            desk = self._ports.desk
            self._editing.reply(client, number, {
                "texts": texts, "tap_ms": desk.tap / MS, "gap_ms": desk.gap / MS, "keyboard": desk.keyboard,
                "drafts": {name: {"text": text, "at": at} for name, (text, at) in unfinished.items()}})
        self._ports.worker.do(lambda: (self._editing.store.macro_texts(), self._editing.store.unfinished()), done)

    def do_write_macro(self, client: Client, ask: messages.WriteMacro) -> None:
        """Write a macro's text; without an id a new macro, named after `name`.  It is live at once.

        A text with mistakes is kept as a draft, and what works goes on working.  `base` is the text that was there
        when the person began: if it is another one by now, nothing is written.
        """
        store, text = self._editing.store, ask.text
        check_text(text)
        given = ask.name
        macro_id = _macro_id(ask.macro) or self.free_id(given or "macro")
        base = ask.base
        file = f"macros/{macro_id}.macro"
        edit = Edit(f"macro {macro_id}: written", files=((file, text),))

        def write() -> str:
            now = store.macro_texts().get(macro_id)
            if base is not None and now is not None and now not in (base, text):
                store.keep_unfinished(macro_id, text)
                raise ConflictError(f"{file} was changed by another program meanwhile",
                                   hint="What you typed is kept as a draft; nothing was overwritten")
            _, problems = read_macro(text, id=macro_id, file=file, tap=self._ports.desk.tap, gap=self._ports.desk.gap,
                                     typist=self._typist(), others=store.drafts())
            if problems and now is not None:
                store.keep_unfinished(macro_id, text)
                raise ProblemError(f"line {problems[0].line}: {problems[0].what}" if problems[0].line
                                   else problems[0].what, hint="What you typed is kept as a draft; the macro plays as "
                                   "it did before")
            words = store.change(edit)
            store.drop_unfinished(macro_id)
            return words
        self._editing.edit(client, ask, write, {"macro": macro_id})

    def do_draft_macro(self, client: Client, ask: messages.DraftMacro) -> None:
        """Keep a text that is not finished, beside the macro that goes on working; without a text, drop it."""
        store, number = self._editing.store, ask.id
        macro_id = _macro_id(ask.macro)
        if not macro_id:
            raise Refusal("a draft needs a macro", "Send the macro's id")
        text = ask.text
        if text is not None:
            check_text(str(text))

        def job() -> None:
            if text is None:
                store.drop_unfinished(macro_id)
            else:
                store.keep_unfinished(macro_id, str(text))

        def done(result: object) -> None:
            if isinstance(result, Exception):
                self._editing.refuse(client, number, Refusal(f"the draft could not be kept: {file_access.say(result)}",
                                                             file_access.next_step(result)))
            else:
                self._editing.reply(client, number, {})
        self._ports.worker.do(job, done)

    def free_id(self, name: str) -> str:
        """A file name that no macro has."""
        wanted = _slug(name)
        taken, found, number = self._editing.store.macro_names(), wanted, 2
        while found in taken:
            found, number = f"{wanted}-{number}", number + 1
        return found

    def do_rename_macro(self, client: Client, ask: messages.RenameMacro) -> None:
        """Call a macro something else; bindings and other macros follow."""
        store, macro_id = self._editing.store, ask.macro
        texts = store.macro_texts()
        if macro_id not in texts:
            raise Refusal(f"there is no macro “{macro_id}”", nearest(macro_id, texts))
        name, old_name = self._name_of(ask.name), written_name(texts[macro_id])
        new = macro_id if _slug(name) == macro_id else self.free_id(name)
        self._free_name(name, texts, but=macro_id)

        def write() -> str:
            texts = store.macro_texts()
            renamed = {macro_id: new}
            files: list[tuple[str, str | None]] = [
                (f"macros/{other}.macro", changed) for other, text in texts.items() if other != macro_id
                and (changed := rename_plays(text, renamed, texts)) != text]
            own = rename_plays(with_name(texts[macro_id], name), renamed, texts)
            files += [(f"macros/{new}.macro", own)]
            files += [(f"macros/{macro_id}.macro", None)] if new != macro_id else []
            files += self._guest_rows(macro_id, new, moved=True)
            bound = plays_in_bindings(parse_tables(file_access.read_text(store.file)),
                                      {macro_id: new, **({old_name: new} if old_name else {})})
            move_draft(macro_id, new)
            try:
                return store.change(Edit(f"macro {old_name or macro_id}: renamed to {name}",
                                         tuple((path, Row(row)) for path, row in bound), files=tuple(files)))
            except Exception:
                move_draft(new, macro_id)
                raise

        def move_draft(old: str, now: str) -> None:
            if old != now and (draft := store.unfinished().get(old)) is not None:
                store.keep_unfinished(now, draft[0])
                store.drop_unfinished(old)
        self._editing.edit(client, ask, write, {"macro": new})

    def do_copy_macro(self, client: Client, ask: messages.CopyMacro) -> None:
        """Make another macro of the same text."""
        store, macro_id = self._editing.store, ask.macro
        texts = store.macro_texts()
        if macro_id not in texts:
            raise Refusal(f"there is no macro “{macro_id}”", nearest(macro_id, texts))
        old_name = written_name(texts[macro_id]) or macro_id
        name = self._name_of(ask.name) if ask.name else f"{old_name} (2)"
        self._free_name(name, texts)
        new = self.free_id(name)
        edit = Edit(f"macro {old_name}: copied to {name}",
                    files=((f"macros/{new}.macro", with_name(texts[macro_id], name)),
                           *self._guest_rows(macro_id, new, moved=False)))
        self._editing.edit(client, ask, lambda: store.change(edit), {"macro": new})

    def _guest_rows(self, old: str, new: str, *, moved: bool) -> list[tuple[str, str | None]]:
        """What came from somebody else is listed under its other name, too."""
        listed, origin = guests_of(self._editing.store.read_file(GUESTS) or ""), \
            self._editing.store.guests().macros.get(old)
        if origin is None or new == old:
            return []
        macros = {**listed.macros, new: origin}
        if moved:
            macros.pop(old, None)
        return [(GUESTS, write_guests(Guests(macros, listed.surfaces)))]

    @staticmethod
    def _name_of(text: str) -> str:
        name = text.strip()
        if not name or not name.isprintable():
            raise Refusal("a macro needs a name of one line", "Type one, such as Welcome")
        return name

    @staticmethod
    def _free_name(name: str, texts: dict[str, str], but: str = "") -> None:
        if any(written_name(text).casefold() == name.casefold() for other, text in texts.items() if other != but):
            raise Refusal(f"another macro is called “{name}”", "Choose another name")

    def do_remove_macro(self, client: Client, ask: messages.RemoveMacro) -> None:
        """Take a macro away; what plays it is told as broken until undo restores it."""
        store, macro_id = self._editing.store, ask.macro
        if macro_id not in store.macro_names():
            raise Refusal(f"there is no macro “{macro_id}”", nearest(macro_id, store.macro_names()))
        edit = Edit(f"Deleted macro {macro_id}", files=((f"macros/{macro_id}.macro", None),))
        self._editing.edit(client, ask, lambda: store.change(edit))

    # Rehearsing.

    def do_rehearse(self, client: Client, ask: messages.Rehearse) -> Message:
        """Play a macro, or a text, into a stage of its own; `hold_ms` is how long its control would be held."""
        macro = self._macro(ask)
        self._end_rehearsal()
        stage = StageOutput(self._programs())
        self._name = macro.name
        self._rehearsal = Rehearsal(macro, stage, hold=int(ask.hold_ms * MS),
                                    given=Rehearsed(ask.given(), ask.answers, self.kept.all(), self._put_question))
        self._tell()
        self._book()
        return {"length_ms": macro.timetable.length / MS, "programs": [p.name for p in stage.programs.values()]}

    def _put_question(self, question: Question, answered: Callable[[Value | None], None]) -> None:
        """A rehearsal asks the person, as a run would."""
        def told(value: Value | None, how: str) -> None:
            self._asked = None
            answered(value)
            self._tell()
            self._book()
        self._asked = told
        self.questions.open(question, "", f"{self._name} (rehearsal)", told)

    def _programs(self) -> dict[str, StageProgram]:
        """The programs that it is rehearsed with: the stage's, or those of the demo."""
        if self.setup.programs is not None:
            return self.setup.programs()
        names = [place.program for place in self._ports.desk.stage] or sorted(f.stem for f in DEMO_STAGE.glob("*.toml"))
        return read_programs(self.setup.stage or DEMO_STAGE, names, self._typist())

    def do_end_rehearsal(self, client: Client, ask: messages.EndRehearsal) -> Message:
        """Stop it."""
        self._end_rehearsal()
        return {}

    def _macro(self, ask: messages.Rehearse) -> Macro:
        desk = self._ports.desk
        if ask.text is None:
            name = ask.macro
            if name in desk.macros:
                return desk.macros[name]
            raise Refusal(desk.broken_macros.get(name, f"there is no macro “{name}”"), nearest(name, desk.macros))
        drafts = self._editing.store.drafts()
        macro, problems = read_macro(ask.text, id=ask.macro, tap=desk.tap,
                                     gap=desk.gap, typist=self._typist(), others=drafts)
        if problems:
            raise Broken(f"line {problems[0].line}: {problems[0].what}", problems[0].hint)
        return macro

    def _typist(self) -> Typist | None:
        try:
            return typist(self._ports.desk.keyboard)
        except ProblemError:
            return None

    def _book(self) -> None:
        rehearsal = self._rehearsal
        if rehearsal is None:
            return
        due = rehearsal.next_deadline()
        if due is None and rehearsal.waits_for_answer:
            return
        self._ports.alarms.at("rehearsal", due if due is not None else self._ports.now(), self._step)

    def _step(self, now: int) -> None:
        rehearsal = self._rehearsal
        if rehearsal is None:
            return
        rehearsal.advance(now)
        if rehearsal.done:
            self._tell()
            self._rehearsal = None
            return
        self._ports.alarms.later("rehearsal news", TELL_EVERY, lambda now: self._tell())
        self._book()

    def _tell(self) -> None:
        rehearsal = self._rehearsal
        if rehearsal is None or not self._ports.publisher.wanted("rehearsal"):
            return
        self._ports.publisher.publish("rehearsal", {
            "name": self._name, "done": rehearsal.done, "trouble": rehearsal.trouble,
            "at_ms": (self._ports.now() - rehearsal.start) / MS, "late_ms": rehearsal.late_ms(),
            "events": [[number, event] for number, event in rehearsal.news()],
            "programs": self.rows.stage(rehearsal.stage)})

    def _end_rehearsal(self) -> None:
        if self._rehearsal is not None:
            self._rehearsal.stop()
            if self._asked is not None:
                self.questions.drop_asked_by(self._asked)
                self._asked = None
            self._tell()
            self._rehearsal = None
            self._ports.alarms.cancel("rehearsal")


def check_text(text: str) -> None:
    """See that a macro's text can be kept.

    Raises:
        Refusal: it holds halves of characters.
    """
    try:
        text.encode("utf-8")
    except UnicodeEncodeError:
        raise BadMessage("the text holds half a character", "Send whole characters") from None


def _macro_id(macro_id: str) -> str:
    if macro_id and not re.fullmatch(r"[A-Za-z0-9][\w-]{0,60}", macro_id):
        raise Refusal(f"“{macro_id}” cannot be a macro's file name", "Use letters, digits and dashes")
    return macro_id


def _slug(name: str) -> str:
    """The file name that a macro's name asks for."""
    return re.sub(r"[^a-z0-9]+", "-", name.casefold()).strip("-")[:40] or "macro"
