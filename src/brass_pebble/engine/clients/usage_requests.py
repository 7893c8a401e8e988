"""What clients may ask about use: the history, switching it off, erasing it, and a better arrangement.

docs/protocol.md tells the fields.
"""

from __future__ import annotations

import time
from dataclasses import asdict
from typing import TYPE_CHECKING

from brass_pebble.core.desk import rearrange
from brass_pebble.core.say.problem import nearest
from brass_pebble.core.usage.report import History
from brass_pebble.engine.disk.edits import Edit, rearranging_edit
from brass_pebble.engine.disk.history import DAY, HistoryError, local_zone

from .server import Client, Message, Refusal

if TYPE_CHECKING:
    from brass_pebble.engine.engine import Engine

    from .requests import Requests


class UsageRequests:
    """Answers on behalf of an engine."""

    def __init__(self, engine: Engine, requests: Requests) -> None:
        self._engine = engine
        self._requests = requests

    def do_usage(self, client: Client, message: Message) -> None:
        """The history of the last `days` (0 for all), of one `surface` or of all; days and sessions always of all."""
        engine, number = self._engine, message.get("id")
        days = max(0, int(message.get("days", 0)))
        today = int((time.time() + local_zone(time.time())) // DAY)

        def done(result: object) -> None:
            if isinstance(result, HistoryError):
                engine.server.refuse(client, number, Refusal(str(result), ""))
            elif isinstance(result, History):
                engine.server.reply(client, number, {"on": engine.historian.on, "today": today, **asdict(result)})
            else:
                engine.server.refuse(client, number, Refusal(f"the history cannot be read: {result}", "See the log"))
        engine.historian.read(today - days + 1 if days else 0, str(message.get("surface", "")), done)

    def do_erase_usage(self, client: Client, message: Message) -> None:
        """Forget everything that surfaces did, for good."""
        engine, number = self._engine, message.get("id")

        def done(result: object) -> None:
            if isinstance(result, Exception):
                engine.server.refuse(client, number, Refusal(str(result), ""))
            else:
                engine.server.reply(client, number, {})
        engine.historian.erase(done)

    def do_count_usage(self, client: Client, message: Message) -> None:
        """Count presses from now on, or no longer."""
        on = bool(message.get("on", True))
        edit = Edit("history: on" if on else "history: off", ((("history",), None if on else False),))
        self._requests.edit(client, message, lambda: self._engine.store.change(edit))

    def do_home(self, client: Client, message: Message) -> None:
        """On which controls of a surface fingers rest; none for the middle."""
        surface = self._requests.surface(message)
        known = [control.id for control in surface.layout.controls]
        home = [str(name) for name in message.get("home", [])]
        for name in home:
            if name not in known:
                raise Refusal(f"“{surface.name}” has no control “{name}”", nearest(name, known))
        edit = Edit(f"{surface.name}: fingers rest on {', '.join(home) or 'the middle'}",
                    ((("surface", surface.id, "home"), home or None),))
        self._requests.edit(client, message, lambda: self._engine.store.change(edit))

    def do_arrange(self, client: Client, message: Message) -> None:
        """Move what is bound on a layer: `moves` are (from, to), `freed` are cleared; all in one change."""
        surface, desk = self._requests.surface(message), self._engine.desk
        layer = str(message.get("layer", ""))
        if not any(found.id == layer for found in surface.layers):
            raise Refusal(f"“{surface.name}” has no layer “{layer}”", nearest(layer, [x.id for x in surface.layers]))
        known = {control.id for control in surface.layout.controls}
        moves = [(str(one), str(other)) for one, other in message.get("moves", [])]
        freed = [str(name) for name in message.get("freed", [])]
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
        self._requests.edit(client, message, lambda: self._engine.store.change(rearranging_edit(words, changes)))
