"""Catches one chord from a keyboard: which keys went down together.  Pure."""

from __future__ import annotations

from dataclasses import dataclass, field

from brass_pebble.core.signals.keys import Chord, key_table, modifier_codes

LISTENING, CAUGHT, LEFT = "listening", "caught", "left"
_ESCAPE = key_table().find("Escape").code


@dataclass
class ChordCatch:
    """Feed it keys; `state` is "listening", "caught" with a `chord`, or "left" (Escape alone).

    A chord is complete with its first key that is not a modifier, or when modifiers alone are let go.
    """

    state: str = LISTENING
    chord: Chord | None = None
    down: dict[int, None] = field(default_factory=dict)
    _most: tuple[int, ...] = ()

    def feed(self, code: int, value: int) -> str:
        """A key went down (1) or up (0).  Returns the state."""
        if value:
            self.down[code] = None
            if self.state == LISTENING:
                self._most = max(self._most, tuple(self.down), key=len)
                if code == _ESCAPE and len(self.down) == 1:
                    self.state = LEFT
                elif code not in modifier_codes():
                    self._finish(tuple(self.down))
        else:
            self.down.pop(code, None)
            if self.state == LISTENING and not self.down and self._most:
                self._finish(self._most)
        return self.state

    def _finish(self, codes: tuple[int, ...]) -> None:
        # Modifiers first, however the fingers came down.
        self.chord = Chord(tuple(sorted(codes, key=lambda code: code not in modifier_codes())))
        self.state = CAUGHT

    @property
    def over(self) -> bool:
        """Whether the keyboard may be given back: it is decided, and nothing is down any more."""
        return self.state != LISTENING and not self.down
