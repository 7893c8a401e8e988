"""One press as the history counts it, and the rows that the counts become."""

from __future__ import annotations

from dataclasses import dataclass

# surface, layer, control, gesture, what it does, the macro's id.
Where = tuple[str, str, str, str, str, str]
# surface and what it does: a pair of these outlives any rearrangement.
Deed = tuple[str, str]


@dataclass(frozen=True)
class Press:
    """One press that a binding answered.  `at` is ms since 1970, `day` days since 1970 where the person is.

    `does` is the action as desk.toml writes it; `chord` what it sends, if that is one chord; `waited` ms that it lost
    waiting for a second tap; `late` how late its latest step was, in µs; `stopped` says that its run
    was ended before its end; `cancelled` that nothing came of it (ignored while another one played, or asleep); `quick`
    that it belongs to what is naturally done back and forth, such as turning.
    """

    at: int
    day: int
    surface: str
    layer: str
    control: str
    gesture: str
    does: str
    macro: str = ""
    chord: str = ""
    waited: int = 0
    late: int = 0
    stopped: bool = False
    cancelled: bool = False
    quick: bool = False

    @property
    def lasting(self) -> bool:
        """Whether it may still be going on a moment later, so that stopping it undoes it."""
        return bool(self.macro) or self.does.startswith("latch ")

    @property
    def where(self) -> Where:
        """What it is counted under."""
        return self.surface, self.layer, self.control, self.gesture, self.does, self.macro

    @property
    def deed(self) -> Deed:
        """What it does, wherever it lies."""
        return self.surface, self.does
