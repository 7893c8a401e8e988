"""The one way to remember what was worked out: with the content it was worked out from."""

from __future__ import annotations

from collections.abc import Collection, Hashable
from typing import Generic, TypeVar

K = TypeVar("K", bound=Hashable)
T = TypeVar("T")


class Memo(Generic[K, T]):
    """The last thing that was worked out under each key.

    It is found again for as long as the content it was made from is equal to that of then; content is never changed in
    place, so whatever is the very same object needs no second look.  With `most`, the oldest keys are forgotten.
    """

    def __init__(self, most: int = 0) -> None:
        self._most = most
        self._known: dict[K, tuple[object, T]] = {}

    def find(self, key: K, made_from: object) -> T | None:
        """What was worked out from this content; None if it has to be worked out again."""
        known = self._known.get(key)
        return known[1] if known is not None and known[0] == made_from else None

    def keep(self, key: K, made_from: object, found: T) -> T:
        """Remember what was found, in place of what was known under the key."""
        self._known.pop(key, None)
        self._known[key] = made_from, found
        while self._most and len(self._known) > self._most:
            # Two threads may find the same one to be too many.
            self._known.pop(next(iter(self._known)), None)
        return found

    def peek(self, key: K) -> T | None:
        """What was last worked out under a key, from whatever it was."""
        known = self._known.get(key)
        return known[1] if known is not None else None

    def names(self) -> list[K]:
        """What something is known under."""
        return list(self._known)

    def only(self, keys: Collection[K]) -> None:
        """Forget everything but what is known under these keys."""
        for key in [key for key in self._known if key not in keys]:
            self._known.pop(key, None)
