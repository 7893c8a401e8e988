"""What clients may ask about use: the history, switching it off, erasing it, and a better arrangement.

docs/protocol.md tells the fields.
"""

from __future__ import annotations

import time
from dataclasses import asdict

from brass_pebble.core.desk import rearrange
from brass_pebble.core.say.problem import nearest
from brass_pebble.core.usage.report import History
from brass_pebble.engine.disk.edits import Edit, rearranging_edit
from brass_pebble.engine.disk.history import DAY, Historian, HistoryError, local_zone
from brass_pebble.engine.ports import Ports
from brass_pebble.protocol import usage as messages
from brass_pebble.protocol.errors import Refusal

from .editing import Editing
from .server import Client


class UsageRequests:
    """Answers on behalf of an engine."""

    historian: Historian

    def __init__(self, ports: Ports, editing: Editing) -> None:
        self._ports, self._editing = ports, editing

    def do_usage(self, client: Client, ask: messages.AskUsage) -> None:
        """The history of the last `days` (0 for all), of one `surface` or of all; days and sessions always of all."""
        number = ask.id
        days = ask.days
        today = int((time.time() + local_zone(time.time())) // DAY)

        def done(result: object) -> None:
            if isinstance(result, HistoryError):
                self._editing.refuse(client, number, Refusal(str(result), ""))
            elif isinstance(result, History):
                self._editing.reply(client, number, {"on": self.historian.on, "today": today, **asdict(result)})
            else:
                self._editing.refuse(client, number, Refusal(f"the history cannot be read: {result}", "See the log"))
        self.historian.read(today - days + 1 if days else 0, ask.surface, done)

    def do_erase_usage(self, client: Client, ask: messages.EraseUsage) -> None:
        """Forget everything that surfaces did, for good."""
        number = ask.id

        def done(result: object) -> None:
            if isinstance(result, Exception):
                self._editing.refuse(client, number, Refusal(str(result), ""))
            else:
                self._editing.reply(client, number, {})
        self.historian.erase(done)

    def do_count_usage(self, client: Client, ask: messages.CountUsage) -> None:
        """Count presses from now on, or no longer."""
        on = ask.on
        edit = Edit("history: on" if on else "history: off", ((("history",), None if on else False),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_home(self, client: Client, ask: messages.Home) -> None:
        """On which controls of a surface fingers rest; none for the middle."""
        surface = self._editing.surface(ask.surface)
        known = [control.id for control in surface.layout.controls]
        home = ask.home
        for name in home:
            if name not in known:
                raise Refusal(f"“{surface.name}” has no control “{name}”", nearest(name, known))
        edit = Edit(f"{surface.name}: fingers rest on {', '.join(home) or 'the middle'}",
                    ((("surface", surface.id, "home"), home or None),))
        self._editing.edit(client, ask, lambda: self._editing.store.change(edit))

    def do_arrange(self, client: Client, ask: messages.Arrange) -> None:
        """Move what is bound on a layer: `moves` are (from, to), `freed` are cleared; all in one change."""
        surface, desk = self._editing.surface(ask.surface), self._ports.desk
        layer = ask.layer
        if not any(found.id == layer for found in surface.layers):
            raise Refusal(f"“{surface.name}” has no layer “{layer}”", nearest(layer, [x.id for x in surface.layers]))
        known = {control.id for control in surface.layout.controls}
        moves = ask.moves
        freed = ask.freed
        for name in (*freed, *(name for move in moves for name in move)):
            if name not in known:
                raise Refusal(f"“{surface.name}” has no control “{name}”", nearest(name, known))
        sources, targets = [one for one, _ in moves], [other for _, other in moves]
        if len(set(sources)) < len(sources) or len(set(targets)) < len(targets):
            raise Refusal("two things cannot go to one control, and one not to two", "Ask for a new proposal")
        pairs = [((surface.id, layer, one), (surface.id, layer, other)) for one, other in moves]
        changes = [*rearrange.clear(desk, [(surface.id, layer, name) for name in freed if name not in targets]),
                   *rearrange.move(desk, pairs)]
        if not changes:
            raise Refusal("there is nothing to change", "The desk may have been changed meanwhile")
        words = f"{surface.name}, layer {layer}: {len(moves)} moved" + (f", {len(freed)} freed" if freed else "")
        self._editing.edit(client, ask, lambda: self._editing.store.change(rearranging_edit(words, changes)))
