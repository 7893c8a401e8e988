"""What clients may ask about giving on and taking in, about what sleeps, and about the desk's history.

docs/protocol.md tells the fields.
"""

from __future__ import annotations

import difflib
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

from brass_pebble.core.desk.look.changes import differences
from brass_pebble.core.parcel.contents import Parcel
from brass_pebble.core.parcel.fitting import Fit
from brass_pebble.core.parcel.merge import BOTH, LEAVE, TAKE, Choices
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.disk.packages.intake import intake_edit
from brass_pebble.engine.disk.packages.package_reader import read_apart
from brass_pebble.engine.disk.parsed_toml import parse_tables
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.disk.versions import Damaged, diff_lines
from brass_pebble.engine.loop import Worker
from brass_pebble.engine.ports import Ports
from brass_pebble.engine.runs.kept_values import KeptInDesk
from brass_pebble.protocol import giving as messages
from brass_pebble.protocol.base import Request
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client, Message

MOST_VERSIONS = 1_000
MOST_LINES = 4_000
MOST_CHANGES = 40
# Who reads a package ends within this once it is killed, in s.
ENDS_WITHIN = 0.5


class GivingRequests:
    """Answers on behalf of an engine."""

    kept: KeptInDesk

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing
        self._packages = Worker(ports.loop, 1, 4)
        self._reader: subprocess.Popen[bytes] | None = None

    def close(self) -> None:
        """No package is read any longer."""
        self._packages.clear()
        if self._reader is not None:
            self._reader.kill()
        self._packages.close(ENDS_WITHIN)

    def _reads(self, child: subprocess.Popen[bytes]) -> None:
        self._reader = child

    def _later(self, client: Client, ask: Request, job: Callable[[], Message]) -> None:
        """Answer with what a job on the worker gives."""
        number = ask.id

        def done(result: object) -> None:
            if isinstance(result, ProblemError):
                self._editing.refuse(client, number, Refusal(result.problem.what, result.problem.hint))
            elif isinstance(result, dict):
                self._editing.reply(client, number, result)
            else:
                self._editing.refuse(client, number, Refusal(f"that could not be done: {result}", "See the log"))
        self._ports.worker.do(job, done)

    # Taking in.

    def do_take_in(self, client: Client, ask: messages.TakeIn) -> None:
        """Take a parcel's contents into the desk, as chosen, in one change.

        `digest` is that of the parcel which the person looked at: another one is refused.
        """
        file, digest = Path(ask.file), ask.digest
        for value in ask.choices.values():
            if value not in (TAKE, LEAVE, BOTH):
                raise Refusal(f"“{value}” is not a choice", f"Available: {TAKE}, {LEAVE}, {BOTH}")
        onto = {name: (row.here, Fit(row.placed)) for name, row in ask.onto.items()}
        marks = ask.approve
        store = self._editing.store

        def work(parcel: Parcel) -> str:
            if digest and parcel.digest != digest:
                raise ProblemError("the package is another one than a moment ago", hint="Look at it once more")
            edit, _ = intake_edit(parcel, store, Choices(ask.choices, onto))
            approve(store, marks)
            words = store.change(edit)
            approve(store, marks)
            return words

        def was_read(result: object) -> None:
            if isinstance(result, Parcel):
                self._editing.edit(client, ask, lambda: work(result))
            elif isinstance(result, ProblemError):
                self._editing.refuse(client, ask.id, Refusal(result.problem.what, result.problem.hint))
            else:
                self._editing.refuse(client, ask.id, Refusal(f"that could not be done: {result}", "See the log"))
        # On a thread of its own: a package that takes its time holds up no save.
        if not self._packages.do(lambda: read_apart(file, self._reads), was_read):
            raise Refusal("other packages are being read", "Try again when they are")

    def do_asleep(self, client: Client, ask: messages.AskAsleep) -> None:
        """What sleeps until it is approved."""
        store, desk = self._editing.store, self._ports.desk
        self._later(client, ask, lambda: {"asleep": asleep_rows(store, desk)})

    def do_approve(self, client: Client, ask: messages.Approve) -> None:
        """Approve some of what sleeps, from now on."""
        marks, store = ask.marks, self._editing.store
        if not marks:
            raise Refusal("nothing is named", "Send the marks of what is to be approved")

        def work() -> str:
            approve(store, marks)
            return f"{len(marks)} approved"
        self._editing.edit(client, ask, work)

    def do_adopt(self, client: Client, ask: messages.Adopt) -> None:
        """Make macros or surfaces that came from somebody else the person's own; or all that came with `origin`."""
        names, store = ask.names, self._editing.store
        origin = ask.origin
        if not names and not origin:
            raise Refusal("nothing is named", "Send the ids of macros or surfaces")

        def work() -> str:
            guests = store.guests()
            came = [name for name, told in {**guests.macros, **guests.surfaces}.items() if origin and told == origin]
            return store.adopt([*names, *came])
        self._editing.edit(client, ask, work, then=self.kept.follow)

    # The history of the desk.

    def do_versions(self, client: Client, ask: messages.AskVersions) -> None:
        """Every version of the desk, the newest first."""
        store = self._editing.store

        def work() -> Message:
            store.settle()
            rows = [{"number": found.number, "at": found.at, "words": found.words, "files": sorted(found.files)}
                    for found in store.log.entries()]
            return {"versions": rows[::-1][:MOST_VERSIONS]}
        self._later(client, ask, work)

    def do_compare(self, client: Client, ask: messages.Compare) -> None:
        """What differs between two versions; without `other`, between one and the desk as it is now."""
        store, one, other = self._editing.store, ask.one, ask.other
        self._later(client, ask, lambda: compare(store, one, other))

    def do_restore(self, client: Client, ask: messages.Restore) -> None:
        """The desk as it was after a version, in one change that can be undone."""
        store, number = self._editing.store, ask.number

        def work() -> str:
            store.settle()
            return store.change(store.restoring_edit(number))
        self._editing.edit(client, ask, work)


def approve(store: DeskStore, marks: list[str]) -> None:
    """Keep approvals, and what they are for.

    Raises:
        ProblemError: there is no place for them.
    """
    if not marks:
        return
    if store.approvals is None:
        raise ProblemError("approvals cannot be kept here", hint="The state folder is missing")
    wanted, desk = set(marks), store.live.desk if store.live is not None else store.load().desk
    store.trust.approve(marks, {where: whole for where, reach in store.reader.reaching(desk, store.guests())
                                if reach.mark in wanted and (whole := store.reader.whole_of(where))})


def asleep_rows(store: DeskStore, desk: Any) -> list[Message]:
    """What sleeps, for clients: where, what it does, its text, its mark, and from whom it came."""
    guests = store.guests()
    rows = []
    for where, reach in store.asleep(desk, guests):
        name = where.removeprefix("macros/").removesuffix(".macro")
        rows.append({"where": where, "line": reach.line, "does": reach.does, "text": reach.text, "mark": reach.mark,
                     "origin": guests.origin(name) or guests.origin(where.partition(" ")[0]), "via": reach.via,
                     "values": reach.values, "changed": _changes(guests.seen.get(where, ""),
                                                                 store.reader.whole_of(where))})
    return rows


def _changes(before: str, now: str) -> list[str]:
    """What has changed in what was approved: lines that are gone with -, and new ones with +."""
    if not before:
        return []
    lines = difflib.unified_diff(before.splitlines(), now.splitlines(), lineterm="", n=0)
    return [line for line in lines if not line.startswith(("+++", "---", "@@"))][:MOST_CHANGES]


def compare(store: DeskStore, one: int, other: int = 0) -> Message:
    """What differs, in words and in lines.

    Raises:
        ProblemError: there is no such version.
    """
    store.settle()
    try:
        before = store.log.texts(one) if one else {}
        after = store.log.texts(other) if other else store.log.all_texts(store.log.state())
    except Damaged as error:
        raise ProblemError(str(error), hint="Compare with another version") from None
    except KeyError as error:
        raise ProblemError(f"there is no version {error.args[0]}",
                           hint="brass-pebble desk history lists those that are kept") from None
    tables = [_tables(texts.get("desk.toml", "")) for texts in (before, after)]
    macros = [{name.removeprefix("macros/").removesuffix(".macro"): text for name, text in texts.items()
               if name.startswith("macros/")} for texts in (before, after)]
    found = differences(tables[0], tables[1], macros[0], macros[1])
    lines = diff_lines(before, after)
    return {"words": [{"words": row.words, "surface": row.surface, "control": row.control} for row in found],
            "lines": [list(line) for line in lines[:MOST_LINES]], "more": max(0, len(lines) - MOST_LINES)}


def _tables(text: str) -> dict[str, Any]:
    try:
        return parse_tables(text)
    except ValueError:
        # A version that was broken can be compared by its lines all the same.
        return {}


