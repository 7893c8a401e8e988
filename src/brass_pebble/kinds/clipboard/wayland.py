"""The clipboard of a Wayland compositor, by wl-clipboard: wl-paste(1), wl-copy(1).

wl-copy offers one form (a text under all the names that texts have), so of several forms the best comes back.
"""

from __future__ import annotations

import contextlib
import os
import shutil
import subprocess
import time
from collections.abc import Callable

from .base import ANSWERS_WITHIN, MOST, MOST_FORMS, ClipboardError, Held, Wish

MISSING = "wl-clipboard is not installed. Install it: it has wl-copy and wl-paste"
_TEXT_NAMES = ("UTF8_STRING", "STRING", "TEXT")
# How long a change of who holds the clipboard may take, in s: programs are started for it.
TAKES_WITHIN = 3.0


def is_text(kind: str) -> bool:
    """Whether a form of a clipboard's content is plain text."""
    return kind.startswith("text/plain") or kind in _TEXT_NAMES


class ClipboardOfWayland:
    """The clipboard of the compositor."""

    @staticmethod
    def works_here() -> bool:
        """Whether there is a compositor."""
        return bool(os.environ.get("WAYLAND_DISPLAY"))

    def __init__(self) -> None:
        self._offering: subprocess.Popen[bytes] | None = None
        self._fetched_at = 0.0

    def _ask(self, *words: str, selection: str = "clipboard") -> subprocess.CompletedProcess[bytes]:
        if shutil.which("wl-paste") is None or shutil.which("wl-copy") is None:
            raise ClipboardError(MISSING)
        primary = ("--primary",) if selection == "primary" else ()
        try:
            return subprocess.run(("wl-paste", *primary, *words), stdin=subprocess.DEVNULL, capture_output=True,
                                  timeout=ANSWERS_WITHIN, check=False)
        except subprocess.TimeoutExpired:
            raise ClipboardError("the program that holds the clipboard does not answer") from None
        except OSError as error:
            raise ClipboardError(str(error.strerror)) from None

    def _kinds(self, selection: str) -> list[str]:
        done = self._ask("--list-types", selection=selection)
        if done.returncode:
            if b"copied" in done.stderr or b"No selection" in done.stderr:
                return []
            raise ClipboardError(done.stderr.decode(errors="replace").strip()[:200] or "wl-paste failed")
        return [kind for kind in done.stdout.decode(errors="replace").split("\n") if kind.strip()]

    def text(self, wish: Wish) -> str | None:
        kind = next((kind for kind in self._kinds("clipboard") if is_text(kind)), "")
        if not kind:
            return None
        done = self._ask("--no-newline", "--type", kind)
        return done.stdout.decode("utf-8", "replace") if not done.returncode else None

    def keep(self, selection: str, wish: Wish) -> Held:
        forms: dict[str, bytes] = {}
        lost = []
        for kind in self._kinds(selection)[:MOST_FORMS]:
            wish.left()
            if is_text(kind) and any(map(is_text, forms)):
                continue
            done = self._ask("--no-newline", "--type", kind, selection=selection)
            if done.returncode or sum(map(len, forms.values())) + len(done.stdout) > MOST:
                lost.append(kind)
            else:
                forms[kind] = done.stdout
        return Held(forms, f"of what the clipboard held, {', '.join(lost[:4])} cannot be put back" if lost else "")

    def _copy(self, data: bytes, *words: str) -> subprocess.Popen[bytes]:
        if shutil.which("wl-copy") is None:
            raise ClipboardError(MISSING)
        try:
            child = subprocess.Popen(("wl-copy", *words), stdin=subprocess.PIPE, stdout=subprocess.DEVNULL,
                                     stderr=subprocess.DEVNULL, start_new_session=True)
            assert child.stdin is not None
            child.stdin.write(data)
            child.stdin.close()
        except OSError as error:
            raise ClipboardError(f"wl-copy failed: {error.strerror}") from None
        return child

    def offer(self, selection: str, text: str) -> None:
        primary = ("--primary",) if selection == "primary" else ()
        self._end_offer()
        if self._has_text(selection):
            # Of a text in place of a text, asking for the kinds tells nothing, and asking for more would fetch it.
            self._clear(primary)
            self._wait(lambda: not self._has_text(selection), "does not let go of")
        child = self._offering = self._copy(text.encode(), "--foreground", "--paste-once", *primary)
        self._wait(lambda: child.poll() is not None or self._has_text(selection), "does not let wl-copy hold")
        if child.poll():
            raise ClipboardError("wl-copy failed: the compositor does not let it hold the clipboard")

    def _has_text(self, selection: str) -> bool:
        return any(map(is_text, self._kinds(selection)))

    @staticmethod
    def _wait(until: Callable[[], bool], lacks: str) -> None:
        end = time.monotonic() + TAKES_WITHIN
        while not until():
            if time.monotonic() > end:
                raise ClipboardError(f"the compositor {lacks} the clipboard")
            time.sleep(0.02)

    def _clear(self, primary: tuple[str, ...]) -> None:
        with contextlib.suppress(subprocess.TimeoutExpired):
            self._copy(b"", "--clear", *primary).wait(ANSWERS_WITHIN)

    def fetched(self, since: float, seconds: float) -> bool:
        if self._offering is None:
            return False
        try:
            self._offering.wait(seconds)
        except subprocess.TimeoutExpired:
            return False
        self._offering = None
        self._fetched_at = time.monotonic()
        return True

    def give_back(self, selection: str, held: Held) -> str:
        primary = ("--primary",) if selection == "primary" else ()
        self._end_offer()
        if not held.forms:
            self._clear(primary)
            return held.lost
        kind = next((kind for kind in held.forms if kind.startswith("image/")),
                    next((kind for kind in held.forms if is_text(kind)), next(iter(held.forms))))
        named = ("--type", kind) if not is_text(kind) else ()
        with contextlib.suppress(subprocess.TimeoutExpired):
            if self._copy(held.forms[kind], *named, *primary).wait(ANSWERS_WITHIN):
                return "wl-copy failed, so what the clipboard held is gone"
        rest = [other for other in held.forms if other != kind]
        also = f"of what the clipboard held only {kind} came back, not {', '.join(rest[:4])}" if rest else ""
        return "; ".join(filter(None, (held.lost, also)))

    def _end_offer(self) -> None:
        if self._offering is not None:
            self._offering.kill()
            self._offering.wait()
            self._offering = None

    def close(self) -> None:
        """wl-copy goes on holding what it holds."""
        self._end_offer()
