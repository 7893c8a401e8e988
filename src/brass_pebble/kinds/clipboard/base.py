"""What a desktop's clipboard can be asked.  Not for the engine's loop: other programs answer."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Protocol

# More than this is not kept, in bytes, and no more forms; and nobody is waited for longer than this, in s.
MOST, MOST_FORMS = 64_000_000, 200
ANSWERS_WITHIN = 1.0
FETCHES_WITHIN = 2.0


class ClipboardError(Exception):
    """The clipboard cannot be used; the text says why."""


@dataclass(frozen=True)
class Held:
    """What a clipboard held: every form of it (MIME type, or the system's name of it), with its bytes.  `lost` says
    what cannot come back, and why; empty if all can."""

    forms: dict[str, bytes] = field(default_factory=dict)
    lost: str = ""


class Wish(Protocol):
    """Whoever waits for what a clipboard holds, and for how long (kinds/errands/call.py)."""

    def left(self) -> float:
        """How many seconds are left.  Raises: OSError, if none are."""

    def at_end(self, what: Callable[[], None]) -> None:
        """Do this when nobody waits any more.  Raises: OSError, if that is so already."""


class Clipboard(Protocol):
    """One way to the clipboard.  `selection` is "clipboard", or "primary" for what was marked last."""

    def text(self, wish: Wish) -> str | None:
        """What it holds as text; None if it holds none.  Raises: ClipboardError."""

    def keep(self, selection: str, wish: Wish) -> Held:
        """What it holds, in every form.  Raises: ClipboardError."""

    def offer(self, selection: str, text: str) -> None:
        """Offer a text to whoever pastes.  Raises: ClipboardError."""

    def fetched(self, since: float, seconds: float) -> bool:
        """Wait until somebody has fetched the text that was offered, after `since` (s of the monotonic clock)."""

    def give_back(self, selection: str, held: Held) -> str:
        """Let it hold again what it held; what is wrong if that could not be done.  Raises: ClipboardError."""

    def close(self) -> None:
        """Let others have what is held, as far as that can be done."""
