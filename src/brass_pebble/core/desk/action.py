"""Actions: what a binding does.  Each kind is a row of a table."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from brass_pebble.core.desk.layer_switch import WHILE_HELD, LayerTarget, parse_target
from brass_pebble.core.effects.drive import DriveTarget, LevelChange, parse_drive, parse_level
from brass_pebble.core.effects.gate import Opening, comes_to
from brass_pebble.core.effects.reach import REACH_OF_DRIVE, Reach
from brass_pebble.core.say.problem import ProblemError, nearest
from brass_pebble.core.signals.keys import Chord, parse_chord

# Between the actions of a cycle, where they stand in one text.
BETWEEN = " / "
MOST_IN_A_CYCLE = 24


@dataclass(frozen=True)
class ActionKind:
    """A kind of action, and all that depends on the kind alone.

    `word` is how desk.toml writes it, `takes` what it names, `glyph` stands on a cap, `means` tells it on screen, and
    `lead` stands before its words there.  `verbs` are for traces: what it does, and did; without them its words stand
    alone.  What `holds` goes on for as long as the control is held; what is `quick` is done back and forth by nature,
    which is not a slip.  `settings` are the settings of a binding that belong to it.  A better arrangement leaves what
    `stays` where it is.
    """

    word: str
    takes: str
    glyph: str
    means: str
    lead: str
    verbs: tuple[str, str] | None = None
    holds: bool = False
    quick: bool = False
    settings: tuple[str, ...] = ()
    stays: bool = False


ACTION_KINDS = {kind.word: kind for kind in (
    ActionKind("play", "macro", "▸", "play a macro", "macro", ("plays", "played"), settings=("plays", "again")),
    ActionKind("tap", "chord", "•", "tap a chord once", "tap", ("taps", "tapped")),
    ActionKind("sustain", "chord", "◖", "sustain a chord while held", "sustain", ("sustains", "sustained"), holds=True),
    ActionKind("latch", "chord", "◐", "latch a chord down until the next press", "latch", ("latches", "latched")),
    ActionKind("rapid", "chord", "≡", "tap a chord again and again while held", "rapidly",
               ("taps rapidly", "tapped rapidly"), holds=True, quick=True, settings=("every", "by_strength")),
    ActionKind("cycle", "actions", "↻", "each press takes the next of several actions", "cycle", settings=("back",)),
    ActionKind("layer", "layer", "▤", "switch a layer", "layer", stays=True),
    ActionKind("drive", "drive", "∿", "hand the position on: MIDI, OSC, pointer, wheel, virtual controller", "drive",
               ("drives", "drove"), quick=True),
    ActionKind("set", "level", "⊥", "set a level or an axis to an exact value", "set", ("sets", "set"), quick=True),
    ActionKind("step", "level", "±", "step a level or an axis by an exact share", "step", ("steps", "stepped"),
               quick=True),
    ActionKind("do", "deed", "■", "do something here", "", stays=True),
)}


def lead_in(kind: str, words: str) -> str:
    """An action on screen: what stands before its words, and they: `tap Ctrl+M`, `macro Oven close-up`."""
    lead = ACTION_KINDS[kind].lead if kind in ACTION_KINDS else kind
    return f"{lead} {words}" if lead else words


STOP, SWALLOW, PASS, REST, RECORD = "stop everything", "swallow", "pass through", "rest or wake", "record"
RECORD_KEYBOARD = "record with the keyboard"
FIRST, PIN = "back to the first", "pin the layers"
# What is spoken: whether phrases count, and choosing between readings.
LISTEN, NO_READING = "listen or not", "take no reading"
READINGS = tuple(f"take reading {number}" for number in (1, 2, 3))
# What drives an open screen, for people who have a few switches and nothing else.
NEXT, PREVIOUS, CHOOSE, BACK, SCAN = (f"screen {what}" for what in ("next", "previous", "choose", "back", "scan"))
RECORDS, DRIVES_SCREEN = "records what is pressed", "drives this program’s screen"


@dataclass(frozen=True)
class Deed:
    """Something that is done here: what stands on its cap, and what it reaches, in words; nothing if a stranger's key
    may do it."""

    glyph: str
    reach: str


DEEDS = {
    STOP: Deed("■", ""),
    SWALLOW: Deed("∅", ""),
    PASS: Deed("→", ""),
    REST: Deed("◌", ""),
    RECORD: Deed("◎", RECORDS),
    RECORD_KEYBOARD: Deed("◉", RECORDS),
    FIRST: Deed("↺", ""),
    PIN: Deed("▣", ""),
    LISTEN: Deed("◔", "has microphones listened to"),
    **{reading: Deed(glyph, "answers for you") for reading, glyph in zip(READINGS, "¹²³", strict=True)},
    NO_READING: Deed("⁰", ""),
    NEXT: Deed("⇥", DRIVES_SCREEN),
    PREVIOUS: Deed("⇤", DRIVES_SCREEN),
    CHOOSE: Deed("⏎", DRIVES_SCREEN),
    BACK: Deed("↩", DRIVES_SCREEN),
    SCAN: Deed("⟳", DRIVES_SCREEN),
}
SCREEN_DEEDS = frozenset((NEXT, PREVIOUS, CHOOSE, BACK, SCAN))


@dataclass(frozen=True)
class Action:
    """What a binding does: its kind (see `ACTION_KINDS`) and what it names: a chord, macro id, deed, layer, or the
    actions of a cycle."""

    kind: str
    target: str
    chord: Chord | None = None
    layer: LayerTarget | None = None
    steps: tuple[Action, ...] = ()
    drives: tuple[DriveTarget, ...] = ()
    level: LevelChange | None = None

    @property
    def glyph(self) -> str:
        """One character for a cap."""
        return DEEDS[self.target].glyph if self.kind == "do" else ACTION_KINDS[self.kind].glyph

    @property
    def holds(self) -> bool:
        """Whether it goes on for as long as the control is held."""
        return ACTION_KINDS[self.kind].holds or self.target == PASS or bool(
            self.layer and self.layer.how == WHILE_HELD)

    def reaches(self, opening: Opening = frozenset()) -> tuple[Reach, ...]:
        """What it does outside the keyboard by itself: what positions and levels go to, chords that open something (by
        themselves, or as `opening` has them on this computer), and what it asks of the engine."""
        found = []
        for step in (self, *self.steps):
            for target in (*step.drives, *((step.level.target,) if step.level else ())):
                if does := REACH_OF_DRIVE[target.kind]:
                    found.append(Reach(does, target.text))
            if step.chord is not None:
                codes = step.chord.codes
                found += [Reach(f"taps keys: {does}", str(step.chord)) for does in comes_to(
                    ((frozenset(codes[:index]), code) for index, code in enumerate(codes)), opening=opening)]
            if step.kind == "do" and (does := DEEDS[step.target].reach):
                found.append(Reach(does, step.target))
        return tuple(found)

    def macros(self) -> tuple[str, ...]:
        """The macros that it plays, by id."""
        return tuple(step.target for step in (self, *self.steps) if step.kind == "play")

    def chords(self) -> tuple[Chord, ...]:
        """The chords that it sends by itself."""
        return tuple(step.chord for step in (self, *self.steps) if step.chord)


def read_action(kind: str, target: str, macros: Iterable[str] | None = None) -> Action:
    """An action from its word and what it names.

    `macros` are the ids that exist; None leaves macros unchecked.

    Raises:
        ProblemError: unknown kind, deed, key, layer switch or macro.
    """
    if kind not in ACTION_KINDS:
        raise ProblemError(f"“{kind}” is not a kind of action",
                           hint=nearest(kind, ACTION_KINDS) or f"Available: {', '.join(ACTION_KINDS)}")
    takes = ACTION_KINDS[kind].takes
    if takes == "chord":
        return Action(kind, target, parse_chord(target))
    if takes == "layer":
        return Action(kind, target, layer=parse_target(target))
    if takes == "drive":
        targets = tuple(parse_drive(part.strip()) for part in target.split(BETWEEN))
        if len(targets) > 2:
            raise ProblemError(f"a position drives one thing for each axis, this names {len(targets)}",
                               hint="A stick has two axes: across, and down")
        return Action(kind, target, drives=targets)
    if takes == "level":
        return Action(kind, target, level=parse_level(target, steps=kind == "step"))
    if takes == "actions":
        return Action(kind, target, steps=_read_steps(target, macros))
    if takes == "deed":
        if target not in DEEDS:
            raise ProblemError(f"“{target}” is not something that can be done here",
                               hint=nearest(target, DEEDS) or f"Available: {', '.join(DEEDS)}")
    elif macros is not None and target not in macros:
        raise ProblemError(f"there is no macro “{target}”",
                           hint=nearest(target, macros) or f"Write it as macros/{target}.macro")
    return Action(kind, target)


def _read_steps(text: str, macros: Iterable[str] | None) -> tuple[Action, ...]:
    parts = [part.strip() for part in text.split(BETWEEN) if part.strip()]
    if not 2 <= len(parts) <= MOST_IN_A_CYCLE:
        raise ProblemError(f"a cycle has 2 to {MOST_IN_A_CYCLE} actions, this one has {len(parts)}",
                           hint=f"Write tap Ctrl+1{BETWEEN}tap Ctrl+2")
    steps = []
    for part in parts:
        kind, _, target = part.partition(" ")
        if kind == "cycle":
            raise ProblemError("a cycle cannot be part of a cycle", hint="Write its actions one after the other")
        steps.append(read_action(kind, target.strip(), macros))
    return tuple(steps)
