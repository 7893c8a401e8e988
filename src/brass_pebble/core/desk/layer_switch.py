"""Switching layers, in words: how, which one, on which surfaces; and which window a layer follows."""

from __future__ import annotations

from dataclasses import dataclass
from fnmatch import fnmatchcase

from brass_pebble.core.say.problem import ProblemError

WHILE_HELD, ON_OR_OFF, GO_TO, ONE_PRESS = "while held", "on or off", "go to", "for one press"
NEXT, PREVIOUS = "next", "previous"
EVERY = "every surface"
# How a layer can be switched by a control: the words of desk.toml, whether a layer is named, and what it means.
HOWS = {
    WHILE_HELD: (True, "on for as long as the control is held"),
    ON_OR_OFF: (True, "on with one press, off with the next"),
    GO_TO: (True, "this layer, and none of the others"),
    ONE_PRESS: (True, "on for the next press only"),
    NEXT: (False, "the next layer of the surface"),
    PREVIOUS: (False, "the layer before"),
}
_LONGEST_TITLE = 4096


@dataclass(frozen=True)
class LayerTarget:
    """A switch of layers: how, which layer (id or name; none for next and previous), on which surfaces.

    No surfaces means the pressed control's own; `EVERY` all that have a layer of that name.
    """

    how: str
    layer: str = ""
    surfaces: tuple[str, ...] = ()

    def __str__(self) -> str:
        return " ".join(part for part in (self.how, self.layer) if part) + (
            f" on {', '.join(self.surfaces)}" if self.surfaces else "")



def parse_target(text: str) -> LayerTarget:
    """Read `while held cut`, `go to cut on left, right`, `next`, `on or off cut on every surface`.

    Raises:
        ProblemError: it begins with none of the ways, or names no layer where one is needed.
    """
    for how, (named, _) in HOWS.items():
        if text != how and not text.startswith(f"{how} "):
            continue
        rest = text[len(how):].strip()
        surfaces: tuple[str, ...] = ()
        head, on, tail = rest.rpartition(" on ") if not rest.startswith("on ") else ("", "on", rest[3:])
        if on:
            rest, surfaces = head.strip(), tuple(part.strip() for part in tail.split(",") if part.strip())
        if bool(rest) != named:
            what = f"“{how}” needs the name of a layer" if named else f"“{how}” takes no layer"
            raise ProblemError(what, hint=f"Write “{how} cut”" if named else f"Write just “{how}”")
        return LayerTarget(how, rest, surfaces)
    raise ProblemError(f"“{text}” is not a way to switch layers",
                       hint=f"Write {', '.join(HOWS)}, then the layer’s name: “while held cut”")



@dataclass(frozen=True)
class FollowRule:
    """For which focused window a layer comes on; patterns with * in any case, empty ones fit everything."""

    cls: str = ""
    title: str = ""

    def fits(self, window: FocusedWindow) -> bool:
        """Whether the window is meant."""
        return bool(self.cls or self.title) and fits_pattern(self.cls, window.cls) and \
            fits_pattern(self.title, window.title[:_LONGEST_TITLE])

    def __str__(self) -> str:
        parts = [f"{what} {pattern}" for what, pattern in (("class", self.cls), ("title", self.title)) if pattern]
        return " and ".join(parts)



@dataclass(frozen=True)
class FocusedWindow:
    """The window that has the focus, as its program names it."""

    cls: str = ""
    title: str = ""

    @property
    def shown(self) -> str:
        """A short name for people."""
        return self.cls or self.title[:40] or "a window without a name"



def fits_pattern(pattern: str, text: str) -> bool:
    """Whether a text is what the pattern says, in any case; * stands for anything, an empty pattern too."""
    return not pattern or fnmatchcase(text.casefold(), pattern.casefold())

def fits(pattern: str, text: str) -> bool:
    """Whether a text contains the pattern, in whatever case; * stands for anything."""
    return fnmatchcase(text.casefold(), f"*{pattern.casefold()}*")
