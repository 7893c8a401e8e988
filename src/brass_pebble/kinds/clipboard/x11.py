"""The clipboard of an X display, as its owner: ICCCM 2 (selections, TARGETS, INCR).

A thread of its own answers those who paste, for as long as nobody else copies something.
"""

from __future__ import annotations

import contextlib
import os
import select
import shutil
import subprocess
import threading
import time
from collections.abc import Callable, Iterator
from typing import Any

from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.outputs.x11 import abandon, open_display

from .base import ANSWERS_WITHIN, MOST, MOST_FORMS, ClipboardError, Held, Wish

_NAMES = {"clipboard": "CLIPBOARD", "primary": "PRIMARY"}
_TEXTS = ("UTF8_STRING", "text/plain;charset=utf-8", "text/plain", "STRING", "TEXT")
# What is no form of the content, but about the selection itself.
_ABOUT = frozenset({"TARGETS", "MULTIPLE", "TIMESTAMP", "SAVE_TARGETS", "DELETE", "INSERT_SELECTION",
                    "INSERT_PROPERTY", "_NET_WM_DESKTOP", "XmTRANSFER_SUCCESS", "CLIENT_WINDOW", "ATOM_PAIR"})
_PIECE = 65_536
# Reading all the forms of a clipboard takes at most so long, in s.
READS_WITHIN = 3.0


class ClipboardOfX11:
    """The clipboard of the display."""

    @staticmethod
    def works_here() -> bool:
        """Whether there is a display whose clipboard counts."""
        return bool(os.environ.get("DISPLAY")) and not os.environ.get("WAYLAND_DISPLAY")

    def __init__(self) -> None:
        self._owner: _Owner | None = None

    def _owning(self) -> _Owner:
        if self._owner is None or not self._owner.alive:
            try:
                self._owner = _Owner()
            except OutputError as error:
                raise ClipboardError(str(error)) from None
        return self._owner

    def text(self, wish: Wish) -> str | None:
        with _reader("clipboard", wish) as reader:
            forms = reader.targets()
            for name in _TEXTS:
                if name in forms and (data := reader.form(name)) is not None:
                    return data.decode("latin-1" if name == "STRING" else "utf-8", "replace")
        return None

    def keep(self, selection: str, wish: Wish) -> Held:
        if self._owner is not None and (own := self._owner.forms(selection)) is not None:
            return Held(own)
        with _reader(selection, wish) as reader:
            return reader.everything()

    def offer(self, selection: str, text: str) -> None:
        data = text.encode()
        self._owning().own(selection, dict.fromkeys(_TEXTS, data) | {"STRING": text.encode("latin-1", "replace")},
                           watched=True)

    def fetched(self, since: float, seconds: float) -> bool:
        return self._owning().fetched(since, seconds)

    def give_back(self, selection: str, held: Held) -> str:
        owner = self._owning()
        if held.forms:
            owner.own(selection, held.forms)
        else:
            owner.disown(selection)
        return held.lost

    def close(self) -> None:
        """Hand what is held to a program that stays, in its best form: a display forgets what its owner held."""
        if self._owner is None:
            return
        forms = self._owner.forms("clipboard")
        self._owner.close()
        self._owner = None
        if not forms or shutil.which("xclip") is None:
            return
        name = next((name for name in _TEXTS if name in forms), "") or next(
            (name for name in forms if name.startswith("image/")), next(iter(forms)))
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            subprocess.run(["xclip", "-selection", "clipboard", "-t", name, "-i"], input=forms[name], timeout=2,
                           check=False, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


@contextlib.contextmanager
def _reader(selection: str, wish: Wish) -> Iterator[_Reader]:
    from Xlib.error import ConnectionClosedError
    try:
        reader = _Reader(selection, wish)
    except OutputError as error:
        raise ClipboardError(str(error)) from None
    try:
        # Whatever the other program or the display does: the connection is left when nobody waits any more.
        wish.at_end(lambda: abandon(reader.display))
        yield reader
    except (OSError, ConnectionClosedError) as error:
        raise ClipboardError("the program that holds the clipboard does not answer") from error
    finally:
        reader.close()


class _Reader:
    """Asks the owner of a selection for what it holds."""

    def __init__(self, selection: str, wish: Wish) -> None:
        from Xlib import X
        self._x = X
        self.display = self._display = open_display()
        self._window = self._display.screen().root.create_window(0, 0, 1, 1, 0, X.CopyFromParent,
                                                                  event_mask=X.PropertyChangeMask)
        self._selection = self._display.intern_atom(_NAMES[selection])
        self._property = self._display.intern_atom("BRASS_PEBBLE_READ")
        self._incr = self._display.intern_atom("INCR")
        # For all that is asked of it, however many pieces it comes in.
        self._until = time.monotonic() + min(READS_WITHIN, wish.left())

    def targets(self) -> list[str]:
        """The names of the forms that are there."""
        if self._display.get_selection_owner(self._selection) == self._x.NONE:
            return []
        data = self._ask("TARGETS")
        if data is None:
            raise ClipboardError("the program that holds the clipboard does not answer")
        return [name for atom in data[:MOST_FORMS] if (name := self._name(atom)) and name not in _ABOUT]

    def _name(self, atom: int) -> str:
        with contextlib.suppress(Exception):
            return str(self._display.get_atom_name(atom))
        return ""

    def everything(self) -> Held:
        """Every form, and what could not be had."""
        forms: dict[str, bytes] = {}
        lost: list[str] = []
        for name in self.targets():
            data = self.form(name) if sum(map(len, forms.values())) < MOST else None
            if data is None:
                lost.append(name)
            else:
                forms[name] = data
        if not forms and lost:
            return Held({}, f"the clipboard held {', '.join(lost[:4])}, which cannot be put back")
        # Old names of a text that came in another form are no loss.
        rest = [name for name in lost if "/" in name]
        return Held(forms, f"of what the clipboard held, {', '.join(rest[:4])} cannot be put back" if rest else "")

    def form(self, name: str) -> bytes | None:
        """What is held, in one form; None if it is not given."""
        data = self._ask(name)
        # Numbers of more than eight bits are about something, and no content.
        return data if isinstance(data, bytes) else None

    def _ask(self, name: str) -> Any:
        self._window.delete_property(self._property)
        self._window.convert_selection(self._selection, self._display.intern_atom(name), self._property,
                                       self._x.CurrentTime)
        event = self._wait(lambda event: event.type == self._x.SelectionNotify)
        if event is None or event.property == self._x.NONE:
            return None
        found = self._window.get_full_property(self._property, self._x.AnyPropertyType)
        if found is None:
            return None
        if found.property_type != self._incr:
            self._window.delete_property(self._property)
            return found.value
        return self._in_pieces()

    def _in_pieces(self) -> bytes | None:
        whole = bytearray()
        self._window.delete_property(self._property)
        self._display.flush()
        while len(whole) <= MOST:
            event = self._wait(lambda event: event.type == self._x.PropertyNotify and event.atom == self._property
                               and event.state == self._x.PropertyNewValue)
            if event is None:
                return None
            found = self._window.get_full_property(self._property, self._x.AnyPropertyType)
            self._window.delete_property(self._property)
            self._display.flush()
            if found is None or not found.value:
                return bytes(whole)
            if not isinstance(found.value, bytes):
                return None
            whole += found.value
        return None

    def _wait(self, wanted: Callable[[Any], bool]) -> Any:
        end = min(self._until, time.monotonic() + ANSWERS_WITHIN)
        while True:
            while self._display.pending_events():
                event = self._display.next_event()
                if wanted(event):
                    return event
            left = end - time.monotonic()
            if left <= 0 or not select.select([self._display.fileno()], [], [], left)[0]:
                return None

    def close(self) -> None:
        """Leave the display."""
        with contextlib.suppress(Exception):
            self._display.close()


class _Owner:
    """Owns selections and answers those who ask, on a thread of its own."""

    def __init__(self) -> None:
        from Xlib import X
        self._x = X
        self._display = open_display()
        self._window = self._display.screen().root.create_window(0, 0, 1, 1, 0, X.CopyFromParent,
                                                                  event_mask=X.PropertyChangeMask)
        atom = self._display.intern_atom
        self._atoms = {name: atom(name) for name in ("TARGETS", "TIMESTAMP", "INCR", "ATOM", "INTEGER", "UTF8_STRING",
                                                     *_NAMES.values())}
        self._selections = {key: self._atoms[name] for key, name in _NAMES.items()}
        # By selection: every form by its atom, with its name.
        self._held: dict[int, dict[int, tuple[str, bytes]]] = {}
        self._watched: set[int] = set()
        self._since: dict[int, int] = {}
        # Transfers in pieces: by requestor and property, the rest and whether it was the watched text.
        self._pieces: dict[tuple[int, int], tuple[bytes, int, bool]] = {}
        self._jobs: list[Callable[[], None]] = []
        self._wake = os.eventfd(0, os.EFD_NONBLOCK | os.EFD_CLOEXEC)
        self._told = threading.Condition()
        self._fetched_at = 0.0
        self.alive = True
        threading.Thread(target=self._serve, name="clipboard", daemon=True).start()

    # From other threads.

    def own(self, selection: str, forms: dict[str, bytes], *, watched: bool = False) -> None:
        """Hold these forms from now on."""
        self._do(lambda: self._own(self._selections[selection], forms, watched=watched))

    def disown(self, selection: str) -> None:
        """Hold nothing, as before."""
        self._do(lambda: self._disown(self._selections[selection]))

    def forms(self, selection: str) -> dict[str, bytes] | None:
        """What is held here now; None if somebody else holds something."""
        held = self._held.get(self._selections[selection])
        return None if held is None else dict(held.values())

    def fetched(self, since: float, seconds: float) -> bool:
        """Wait until the watched text was fetched after `since`."""
        with self._told:
            return self._told.wait_for(lambda: self._fetched_at >= since or not self.alive, seconds) and self.alive

    def close(self) -> None:
        """End the thread, and leave."""
        self._do(lambda: setattr(self, "alive", False))

    def _do(self, job: Callable[[], None]) -> None:
        done = threading.Event()

        def work() -> None:
            try:
                job()
            finally:
                done.set()
        self._jobs.append(work)
        os.eventfd_write(self._wake, 1)
        if not done.wait(ANSWERS_WITHIN):
            raise ClipboardError("the display does not answer")

    # On the thread.

    def _serve(self) -> None:
        try:
            while self.alive:
                while self._display.pending_events():
                    self._take(self._display.next_event())
                while self._jobs:
                    self._jobs.pop(0)()
                self._display.flush()
                if self.alive and not self._display.pending_events():
                    select.select([self._display.fileno(), self._wake], [], [])
                    with contextlib.suppress(BlockingIOError):
                        os.eventfd_read(self._wake)
        except Exception:
            # The display went away, and with it everything that was held.
            pass
        self.alive = False
        with self._told:
            self._told.notify_all()
        with contextlib.suppress(Exception):
            self._display.close()
        os.close(self._wake)

    def _own(self, selection: int, forms: dict[str, bytes], *, watched: bool) -> None:
        self._held[selection] = {self._display.intern_atom(name): (name, data) for name, data in forms.items()}
        (self._watched.add if watched else self._watched.discard)(selection)
        self._window.set_selection_owner(selection, self._x.CurrentTime)
        self._display.sync()
        if self._display.get_selection_owner(selection) != self._window:
            self._held.pop(selection, None)

    def _disown(self, selection: int) -> None:
        self._held.pop(selection, None)
        from Xlib.protocol.request import SetSelectionOwner
        SetSelectionOwner(display=self._display.display, window=self._x.NONE, selection=selection,
                          time=self._x.CurrentTime)
        self._display.sync()

    def _take(self, event: Any) -> None:
        x = self._x
        if event.type == x.SelectionRequest:
            self._answer(event)
        elif event.type == x.SelectionClear:
            self._held.pop(event.atom, None)
            self._watched.discard(event.atom)
        elif event.type == x.PropertyNotify and event.state == x.PropertyDelete:
            self._next_piece(event.window, event.atom)

    def _answer(self, event: Any) -> None:
        from Xlib.protocol.event import SelectionNotify
        where = event.property or event.target
        given = self._x.NONE
        with contextlib.suppress(Exception):
            if self._put(event, where):
                given = where
        answer = SelectionNotify(time=event.time, requestor=event.requestor, selection=event.selection,
                                 target=event.target, property=given)
        with contextlib.suppress(Exception):
            event.requestor.send_event(answer)
            self._display.flush()

    def _put(self, event: Any, where: int) -> bool:
        held = self._held.get(event.selection)
        if held is None:
            return False
        if event.target == self._atoms["TARGETS"]:
            event.requestor.change_property(where, self._atoms["ATOM"], 32, [
                self._atoms["TARGETS"], self._atoms["TIMESTAMP"], *held])
            return True
        if event.target == self._atoms["TIMESTAMP"]:
            event.requestor.change_property(where, self._atoms["INTEGER"], 32, [0])
            return True
        if event.target not in held:
            return False
        name, data = held[event.target]
        kind = self._atoms["UTF8_STRING"] if name == "TEXT" else event.target
        watched = event.selection in self._watched
        if len(data) > _PIECE:
            event.requestor.change_attributes(event_mask=self._x.PropertyChangeMask)
            event.requestor.change_property(where, self._atoms["INCR"], 32, [len(data)])
            self._pieces[(event.requestor.id, where)] = data, kind, watched
        else:
            event.requestor.change_property(where, kind, 8, data)
            if watched:
                self._was_fetched()
        return True

    def _next_piece(self, window: Any, where: int) -> None:
        found = self._pieces.pop((window.id, where), None)
        if found is None:
            return
        data, kind, watched = found
        window.change_property(where, kind, 8, data[:_PIECE])
        if data:
            # An empty piece ends it.
            self._pieces[(window.id, where)] = data[_PIECE:], kind, watched
        elif watched:
            self._was_fetched()

    def _was_fetched(self) -> None:
        with self._told:
            self._fetched_at = time.monotonic()
            self._told.notify_all()
