"""The helper: `python -m brass_pebble.kinds.wayland.helper windows` or `clipboard`.  It ends with its input."""

from __future__ import annotations

import sys
from collections.abc import Callable

import msgspec

from brass_pebble.kinds.clipboard.base import ClipboardError, Held
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.windows.base import CannotDo, WindowGone

from .messages import Call, Told

Serve = Callable[[Call], Told]


def serve_windows() -> Serve:
    """Answers about windows."""
    from .toplevels import Toplevels
    found: list[Toplevels] = []

    def serve(call: Call) -> Told:
        if not found:
            found.append(Toplevels())
        toplevels = found[0]
        deeds = {"focus": toplevels.focus, "close": toplevels.close_window, "minimise": toplevels.minimise}
        if call.do in deeds:
            deeds[call.do](call.key)
            return Told(yes=True)
        return Told(windows=toplevels.look())
    return serve


def serve_clipboard() -> Serve:
    """Answers about the clipboard."""
    from .clipboards import Holder
    found: list[Holder] = []

    def serve(call: Call) -> Told:
        if not found or not found[0].alive:
            found[:] = [Holder()]
        holder = found[0]
        if call.do == "text":
            return Told(text=holder.text())
        if call.do == "keep":
            held = holder.keep(call.selection)
            return Told(forms=held.forms, why=held.lost)
        if call.do == "offered":
            return Told(forms=holder.offered(call.selection))
        if call.do == "offer":
            holder.offer(call.selection, call.text)
        elif call.do == "fetched":
            return Told(yes=holder.fetched(call.since, call.seconds))
        else:
            holder.give_back(call.selection, Held(call.forms))
        return Told(yes=True)
    return serve


def answer(serve: Serve, line: bytes) -> Told:
    """What came of a line."""
    from .clipboards import Lacks
    try:
        return serve(msgspec.json.decode(line, type=Call))
    except WindowGone:
        return Told(trouble="gone")
    except CannotDo as error:
        return Told(trouble="cannot", why=str(error))
    except Lacks:
        return Told(trouble="lacks")
    except ClipboardError as error:
        return Told(trouble="clipboard", why=str(error))
    except OutputError as error:
        return Told(trouble="display", why=str(error))
    except Exception as error:
        return Told(trouble="display", why=f"something unexpected happened: {error!r}")


def main() -> None:
    """Answer until the input ends."""
    serve = serve_windows() if sys.argv[1:] == ["windows"] else serve_clipboard()
    for line in sys.stdin.buffer:
        sys.stdout.buffer.write(msgspec.json.encode(answer(serve, line)) + b"\n")
        sys.stdout.buffer.flush()


if __name__ == "__main__":
    main()
