"""Colours: brass on basalt, by day brass on paper, and one of high contrast.  Colour never says anything alone."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cache

from textual.color import Color
from textual.theme import Theme

# What is written is told from its ground by so much at least, as WCAG 2 asks for.
LEAST_CONTRAST = 4.5


def luminance(colour: tuple[int, int, int]) -> float:
    """The relative luminance of WCAG 2, 0 to 1, of red, green and blue from 0 to 255."""
    parts = [part / 255 for part in colour]
    red, green, blue = (part / 12.92 if part <= 0.03928 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def contrast(one: tuple[int, int, int], other: tuple[int, int, int]) -> float:
    """The contrast ratio of WCAG 2, from 1 to 21."""
    low, high = sorted((luminance(one), luminance(other)))
    return (high + 0.05) / (low + 0.05)


@dataclass(frozen=True)
class Palette:
    """The colours of one theme, as hex."""

    name: str
    dark: bool
    ground: str
    panel: str
    cap: str
    # The edges of caps that do nothing, and of those that do something.
    faint: str
    edge: str
    text: str
    dim: str
    brass: str
    on_brass: str
    verdigris: str
    rust: str
    tints: dict[str, str]
    # Whether caps are filled with their tint: not where a terminal has its own few colours.
    fills: bool = True

    def tint(self, name: str) -> str:
        """A tint's colour; the text colour for none."""
        return self.tints.get(name, self.text)

    def ink_on(self, fill: str) -> str:
        """What is read on a colour: this theme's text or ground, and on one between them black or white, 4.5 : 1."""
        def apart(ink: str) -> float:
            return contrast(Color.parse(ink).rgb, Color.parse(fill).rgb)
        own = max((self.text, self.ground), key=apart)
        return own if apart(own) >= LEAST_CONTRAST else max(("#000000", "#ffffff"), key=apart)

    def theme(self) -> Theme:
        """The same for Textual's own widgets."""
        return Theme(name=self.name, dark=self.dark, primary=self.brass, secondary=self.verdigris, accent=self.brass,
                     warning=self.brass, error=self.rust, success=self.verdigris, foreground=self.text,
                     background=self.ground, surface=self.panel, panel=self.panel, variables={
                         "footer-key-foreground": self.brass, "footer-background": self.panel,
                         "footer-description-foreground": self.dim, "footer-description-background": self.panel,
                         "footer-item-background": self.panel, "footer-key-background": self.panel,
                         "block-cursor-background": self.brass, "block-cursor-foreground": self.on_brass,
                         "dim": self.dim, "border": self.brass, "input-cursor-background": self.text,
                         "input-selection-background": f"{self.brass} 40%"})


BASALT = Palette(
    "basalt", True, ground="#14171b", panel="#1b1f25", cap="#3a414a", faint="#66707b", edge="#8792a0", text="#e2e4e6",
    dim="#919aa3", brass="#dfaa45", on_brass="#1a1408", verdigris="#5cc0a7", rust="#e2724a",
    tints={"clay": "#e09a78", "wheat": "#e3cd86", "moss": "#aecb85", "lagoon": "#7ecbc2", "sky": "#97c1ea",
           "iris": "#b8abec", "rose": "#eaa2ba", "chalk": "#e2dfd3"})

PAPER = Palette(
    "paper", False, ground="#f3f0e8", panel="#eeebde", cap="#d3cdbf", faint="#858176", edge="#6a6658", text="#22262a",
    dim="#65625a", brass="#6f4b06", on_brass="#fdf6e6", verdigris="#17705d", rust="#a62c10",
    tints={"clay": "#8a3f1d", "wheat": "#6c5300", "moss": "#3f5c14", "lagoon": "#0d5f5c", "sky": "#1d4f86",
           "iris": "#4d3b97", "rose": "#8c2a52", "chalk": "#4e4a3e"})

# For those who see little, and for a screen in the sun.
BEACON = Palette(
    "beacon", True, ground="#000000", panel="#0c0e11", cap="#333a42", faint="#8b949d", edge="#d6dbe0", text="#ffffff",
    dim="#c6ccd2", brass="#ffc94d", on_brass="#000000", verdigris="#6df0cf", rust="#ff9d78",
    tints={"clay": "#ffb894", "wheat": "#ffe896", "moss": "#c8f08f", "lagoon": "#8ff0e4", "sky": "#aed6ff",
           "iris": "#d2c8ff", "rose": "#ffbcd2", "chalk": "#f6f3e8"})

# In the order in which a key goes through them.
PALETTES = {palette.name: palette for palette in (BASALT, PAPER, BEACON)}


@cache
def outlines(name: str) -> Palette:
    """The theme of this name for caps that are drawn by their lines alone."""
    return replace(PALETTES[name], fills=False)


def theme_for(brightness: float) -> str:
    """The theme that suits a terminal whose ground is so bright, 0 black to 1 white."""
    return PAPER.name if brightness > 0.5 else BASALT.name
