"""One press that arrives twice: pads with a mapping stored in them send a button and a key for the same finger."""

from __future__ import annotations

from dataclasses import dataclass

# Nobody presses two things on purpose so close together, twice in a row.
WINDOW = 15_000_000
Source = tuple[str, str, int]  # device id, node, key code


@dataclass(frozen=True)
class Double:
    """Two signals that come together: the one that came first mostly, the other, how often, how far apart in ns."""

    first: Source
    second: Source
    times: int
    apart: int


class Doubles:
    """Watches the presses of several devices."""

    def __init__(self) -> None:
        self._latest: list[tuple[Source, int]] = []
        self._pairs: dict[tuple[Source, Source], int] = {}

    def press(self, device: str, node: str, code: int, at: int) -> Double | None:
        """A press at `at` (ns); returns the pair that it belongs to, if it came from two nodes at once."""
        source = (device, node, code)
        self._latest = [item for item in self._latest if at - item[1] <= WINDOW]
        other = next((item for item in reversed(self._latest) if item[0][1] != node), None)
        self._latest.append((source, at))
        if other is None:
            return None
        pair = (min(other[0], source), max(other[0], source))
        self._pairs[pair] = times = self._pairs.get(pair, 0) + 1
        return Double(other[0], source, times, at - other[1])
