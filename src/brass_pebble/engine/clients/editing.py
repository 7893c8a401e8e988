"""What the parts that answer requests share: the surface that is meant, and changing the desk on the worker."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.desk.model import Desk, Surface
from brass_pebble.core.say.problem import ConflictError, ProblemError, nearest
from brass_pebble.core.say.setting import check_setting, settings_of
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.disk.store import DeskStore, Loaded
from brass_pebble.engine.logs import log
from brass_pebble.engine.ports import LiveDesk, Ports
from brass_pebble.protocol.base import Request
from brass_pebble.protocol.errors import ChangedMeanwhile, Refusal

from .server import Client, Message, Server


class Editing:
    """Changes the desk for clients, and answers them when it is saved and live."""

    def __init__(self, ports: Ports, store: DeskStore, server: Server, live: LiveDesk) -> None:
        self._ports, self._live = ports, live
        self.store = store
        self.reply, self.refuse = server.reply, server.refuse

    def edit(self, client: Client | None, ask: Request | None, job: Callable[[], str], fields: Message | None = None,
             then: Callable[[], None] | None = None) -> None:
        """Change the desk on the worker; the reply, with `fields`, follows when it is saved and live.

        Without a client, the engine itself wants it."""
        number = ask.id if ask is not None else None

        def work() -> tuple[str, Loaded]:
            words = job()
            return words, self.store.load()

        def done(result: object) -> None:
            if client is None:
                if isinstance(result, tuple):
                    self._live.take_loaded(result[1])
            elif isinstance(result, ProblemError):
                problem = result.problem
                refusal = ChangedMeanwhile if isinstance(result, ConflictError) else Refusal
                self.refuse(client, number, refusal(problem.what, problem.hint))
            elif isinstance(result, OSError):
                self.refuse(client, number, Refusal(f"the desk could not be saved: {file_access.say(result)}",
                                                    f"Nothing was changed. {file_access.next_step(result)}"))
            elif isinstance(result, Exception):
                log.error("a change of the desk failed: %r", result, exc_info=result)
                self.refuse(client, number, Refusal(f"the desk could not be changed: {result!r}",
                                                    "See what it is now with V; the log has the details"))
            else:
                assert isinstance(result, tuple)
                words, loaded = result
                self._live.take_loaded(loaded)
                if then is not None:
                    then()
                self.reply(client, number, {"words": words, **(fields or {})})
        self._ports.worker.do(work, done)

    def set(self, client: Client, ask: Request, surface_id: str, what: str, value: Any) -> None:
        """Change a setting of a surface, or of the desk without one; None is as without it.

        Raises:
            Refusal, ProblemError: there is no such setting, or it cannot have that value.
        """
        surface = self.surface(surface_id) if surface_id else None
        rows = {name: row for name, row in settings_of(Surface if surface else Desk).items() if row.label}
        if what not in rows:
            raise Refusal(f"there is no setting “{what}”", nearest(what, rows) or f"Available: {', '.join(rows)}")
        if isinstance(value, float) and value == int(value):
            value = int(value)
        if value is not None:
            check_setting(rows[what], value)
        said = "as without it" if value is None else rows[what].say(value)
        edit = Edit(f"{surface.name if surface else 'the desk'}: {rows[what].label}: {said}",
                    ((("surface", surface.id, what) if surface else (what,), value),))
        self.edit(client, ask, lambda: self.store.change(edit))

    def surface(self, name: str) -> Surface:
        """The surface that a request names.  Raises: Refusal."""
        surface = self._ports.desk.surfaces.get(name)
        if surface is None:
            raise Refusal(f"there is no surface “{name}”", nearest(name, self._ports.desk.surfaces))
        return surface
