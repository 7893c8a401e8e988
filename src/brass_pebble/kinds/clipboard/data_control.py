"""The clipboard of a Wayland compositor that has ext-data-control or wlr-data-control, by a helper (`kinds/wayland`):
every form of what it holds is kept and comes back.  Where the compositor has neither, by wl-clipboard."""

from __future__ import annotations

import contextlib

from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.wayland.client import WaylandHelper, available
from brass_pebble.kinds.wayland.messages import Call, Told

from .base import ClipboardError, Held, Wish
from .wayland import ClipboardOfWayland


class _Lacks(Exception):
    """The compositor has no such protocol."""


class ClipboardOfDataControl:
    """The clipboard of such a compositor."""

    @staticmethod
    def works_here() -> bool:
        """Whether there is a compositor that may be asked."""
        return available()

    def __init__(self) -> None:
        self._helper = WaylandHelper("clipboard")
        self._programs: ClipboardOfWayland | None = None

    def _ask(self, call: Call) -> Told:
        try:
            told = self._helper.ask(call)
        except OutputError as error:
            raise ClipboardError(str(error)) from None
        if told.trouble == "lacks":
            self._programs = ClipboardOfWayland()
            raise _Lacks
        if told.trouble:
            raise ClipboardError(told.why)
        return told

    def text(self, wish: Wish) -> str | None:
        with contextlib.suppress(_Lacks):
            if self._programs is None:
                return self._ask(Call(do="text")).text
        return ClipboardOfWayland().text(wish)

    def keep(self, selection: str, wish: Wish) -> Held:
        with contextlib.suppress(_Lacks):
            if self._programs is None:
                told = self._ask(_call("keep", selection))
                return Held(told.forms or {}, told.why)
        return ClipboardOfWayland().keep(selection, wish)

    def offer(self, selection: str, text: str) -> None:
        if self._programs is None:
            self._ask(_call("offer", selection, text=text))
        else:
            self._programs.offer(selection, text)

    def fetched(self, since: float, seconds: float) -> bool:
        if self._programs is not None:
            return self._programs.fetched(since, seconds)
        return self._ask(Call(do="fetched", since=since, seconds=seconds)).yes

    def give_back(self, selection: str, held: Held) -> str:
        if self._programs is not None:
            return self._programs.give_back(selection, held)
        self._ask(_call("give back", selection, forms=held.forms))
        return held.lost

    def close(self) -> None:
        """Hand what is held to a program that stays, in its best form: it is gone with who offers it."""
        if self._programs is not None:
            self._programs.close()
        with contextlib.suppress(ClipboardError, _Lacks):
            forms = self._ask(Call(do="offered")).forms if self._programs is None else None
            self._helper.close()
            if forms:
                ClipboardOfWayland().give_back("clipboard", Held(forms))
        self._helper.close()


def _call(do: str, selection: str, **more: object) -> Call:
    import msgspec
    return msgspec.convert({"do": do, "selection": selection, **more}, Call)
