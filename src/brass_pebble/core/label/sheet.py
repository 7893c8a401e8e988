"""A sheet of labels: each laid out, all of them packed on pages.  Pure; everything in mm, y running down."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field

from brass_pebble.core.say.problem import ProblemError, nearest

from .faces import Entry, Face
from .fit import LEADING, SMALLEST, Fitted, Measure, fit_text
from .pack import pack
from .sizes import Size, label_size

PAPERS = {"a4": (210.0, 297.0), "letter": (215.9, 279.4)}
# The edge that printers leave white; the room of the title above, and of the ruler below.
MARGIN, HEAD, FOOT = 8.0, 8.0, 14.0
# Between the bleeds of two labels.
PATH = 1.5
BLEED = 1.0
INSET = 0.8
# What a further gesture is set in, and the least height of a label that has room for it.
FURTHER, ROOMY = 1.7, 12.0
ICON_SHARE, LARGEST_ICON, LEAST_WITH_ICON, CORNER_COMFORT = 0.36, 7.0, 9.0, 2.4


@dataclass(frozen=True)
class Field:
    """A rectangle."""

    x: float
    y: float
    width: float
    height: float


@dataclass(frozen=True)
class Part:
    """What one layer says on a label: where its text, its icon and its tint are, from the label's upper left corner."""

    entry: Entry
    text: Field
    fitted: Fitted
    anchor: str
    tint: Field | None = None
    icon: Field | None = None
    further: Fitted = Fitted((), 0.0)
    below: Field | None = None


@dataclass(frozen=True)
class Label:
    """A label on a page: where it is cut, and what stands on it."""

    face: Face
    at: Field
    parts: tuple[Part, ...]


@dataclass(frozen=True)
class Shortened:
    """A text that does not fit as it is."""

    control: str
    text: str
    shown: str


@dataclass(frozen=True)
class Options:
    """What the person chose.  `sizes` are labels of single controls; `cap` is that of a key of one unit."""

    paper: str = "a4"
    cap: Size | None = None
    sizes: Mapping[str, Size] = field(default_factory=dict)
    bleed: float = BLEED


@dataclass(frozen=True)
class Sheet:
    """All pages.  `too_large` are controls whose label fits on no page."""

    paper: Size
    pages: tuple[tuple[Label, ...], ...]
    shortened: tuple[Shortened, ...]
    too_large: tuple[str, ...]
    bleed: float

    @property
    def count(self) -> int:
        """How many labels there are."""
        return sum(len(page) for page in self.pages)


def find_paper(name: str) -> Size:
    """A paper's width and height in mm.

    Raises:
        ProblemError: there is no such paper.
    """
    found = PAPERS.get(name.lower())
    if found is None:
        raise ProblemError(f"there is no paper “{name}”",
                           hint=nearest(name, PAPERS) or f"Available: {', '.join(PAPERS)}")
    return found


def make_sheet(faces: Iterable[Face], layout: str, options: Options, measure: Measure) -> Sheet:
    """Lay all labels out and pack them.

    Raises:
        ProblemError: there is no such paper, or the bleed is none.
    """
    paper = find_paper(options.paper)
    if not 0 <= options.bleed <= 5:
        raise ProblemError(f"a bleed of {options.bleed:g} mm is not possible", hint="It must be between 0 and 5 mm")
    items = [(face, options.sizes.get(face.control) or label_size(layout, face.row, options.cap)) for face in faces]
    bleed = options.bleed
    left, top = MARGIN + bleed, MARGIN + HEAD + bleed
    room = (paper[0] - 2 * left, paper[1] - top - bleed - MARGIN - FOOT)
    spots = pack((size for _, size in items), room, 2 * bleed + PATH)
    pages: dict[int, list[Label]] = {}
    shortened = []
    for spot in spots:
        face, (width, height) = items[spot.index]
        parts = lay_out(face, width, height, measure)
        pages.setdefault(spot.page, []).append(Label(face, Field(left + spot.x, top + spot.y, width, height), parts))
        shortened += [Shortened(face.control, part.entry.label, " ".join(part.fitted.lines))
                      for part in parts if part.fitted.abbreviated]
    placed = {spot.index for spot in spots}
    return Sheet(paper, tuple(tuple(pages[number]) for number in sorted(pages)), tuple(shortened),
                 tuple(face.control for index, (face, _) in enumerate(items) if index not in placed), bleed)


def lay_out(face: Face, width: float, height: float, measure: Measure) -> tuple[Part, ...]:
    """Where everything on a label stands."""
    if len(face.entries) == 1:
        return (_alone(face.entries[0], width, height, measure),)
    return tuple(_in_corner(entry, place, at, measure) for entry, place, at in _corners(face.entries, width, height))


def _corners(entries: tuple[Entry, ...], width: float, height: float) -> Iterator[tuple[Entry, Field, str]]:
    """A field for each layer that says something: of two, each has a half; of more, a corner.

    A layer always has the same corner; where the one beside it is empty, its text reaches over.
    """
    half, two = height / 2, len(entries) == 2
    rows = ((entries[:1], entries[1:]) if two else (entries[:2], entries[2:]))
    for number, row in enumerate(rows):
        said = [entry for entry in row if not entry.empty]
        for entry in said:
            right = row.index(entry) == 1 or (two and number == 1)
            wide = width / len(said)
            yield entry, Field(width - wide if right else 0.0, half * number, wide, half), "end" if right else "start"


def _alone(entry: Entry, width: float, height: float, measure: Measure) -> Part:
    """One layer has the whole label: its tint along the foot, the icon above the text, or beside it where it is low."""
    foot = min(3.2, max(1.2, 0.17 * height)) if entry.tint else 0.0
    tint = Field(0, height - foot, width, foot) if foot else None
    top, low = INSET, height - foot - INSET * 0.75
    below, further = None, Fitted((), 0.0)
    if entry.further and height >= ROOMY:
        below = Field(INSET, low - FURTHER * 1.25, width - 2 * INSET, FURTHER * 1.25)
        further = fit_text(entry.further, below.width, below.height, measure, largest=FURTHER, smallest=1.2)
        low -= below.height + 0.3
    icon, left, right = None, INSET, width - INSET
    if entry.icon and min(width, height) >= LEAST_WITH_ICON:
        side = min(LARGEST_ICON, (0.28 if below else ICON_SHARE) * height)
        if width >= 1.8 * height:
            side = min(LARGEST_ICON, 0.8 * (low - top))
            icon = Field(left + 0.3, (top + low - side) / 2, side, side)
            left += side + 1.0
        else:
            icon = Field((width - side) / 2, top, side, side)
            top += side + 0.5
    elif entry.icon and width >= 12:
        side = min(LARGEST_ICON, 0.8 * (low - top))
        if side >= 2.5 and width - side > 8:
            icon = Field(left, (top + low - side) / 2, side, side)
            left += side + 0.6
    text = Field(left, top, right - left, max(0.5, low - top))
    return Part(entry, text, fit_text(entry.label, text.width, text.height, measure), "middle", tint, icon, further,
                below)


def _in_corner(entry: Entry, place: Field, anchor: str, measure: Measure) -> Part:
    """A layer among several: its tint is a strip along the edge of the label."""
    strip = 1.4 if entry.tint else 0.0
    inset = 0.6
    x = place.x + (place.width - strip if anchor == "end" else 0.0)
    text = Field(place.x + inset + (strip if anchor == "start" else 0.0), place.y + inset * 0.8,
                 place.width - strip - 2 * inset, place.height - 1.6 * inset)
    icon, bare = None, fit_text(entry.label, text.width, text.height, measure, largest=4.0, smallest=SMALLEST * 0.8)
    if entry.icon and text.height >= 4.0 and text.width >= 11.0:
        side = min(4.5, text.height - 0.6)
        at = text.x if anchor == "start" else text.x + text.width - side
        left = side + 0.5 if anchor == "start" else 0.0
        beside = Field(text.x + left, text.y, text.width - side - 0.5, text.height)
        small = fit_text(entry.label, beside.width, beside.height, measure, largest=4.0, smallest=SMALLEST * 0.8)
        # The text is what has to be read: the icon is left out where it would make the text small.
        if not small.abbreviated and (small.size >= CORNER_COMFORT or small.size >= bare.size):
            icon, text, bare = Field(at, place.y + (place.height - side) / 2, side, side), beside, small
    return Part(entry, text, bare, anchor, Field(x, place.y, strip, place.height) if strip else None, icon)


def baselines(part: Part, capitals: float) -> list[tuple[float, float, str]]:
    """x, y and text of each line, from the label's corner; `capitals` is their height as a share of the size."""
    fitted, text = part.fitted, part.text
    step = fitted.size * LEADING
    block = step * (len(fitted.lines) - 1) + fitted.size * capitals
    y = text.y + (text.height - block) / 2 + fitted.size * capitals
    x = {"start": text.x, "middle": text.x + text.width / 2, "end": text.x + text.width}[part.anchor]
    return [(x, y + step * index, line) for index, line in enumerate(fitted.lines)]
