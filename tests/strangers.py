"""Packages of strangers, made up from a seed: every step of the table, every action, nested, with kept values,
gestures, layers and names of the person's own.  And what really leaves when they are played, looked at from outside.

    python tests/strangers.py 50000      so many packages, with a line for each thousand
"""

from __future__ import annotations

import random
import sys
import tempfile
from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal
from pathlib import Path

from brass_pebble.core.effects.gate import Gate
from brass_pebble.core.effects.kinds import kind_of
from brass_pebble.core.macro.asks import Ask, Errand, Question
from brass_pebble.core.macro.value.kinds import TEXT, WHOLE, NothingKept
from brass_pebble.core.play.player import Effect, Player
from brass_pebble.core.play.router import Router
from brass_pebble.core.say.data_table import read_table
from brass_pebble.core.signals.keys import POINTER_BUTTONS, key_table
from brass_pebble.engine.disk.desk_reader import DeskReader, Loaded, Sources
from brass_pebble.engine.disk.guests import Guests

MS = 1_000_000
# What the program itself does for a run; everything else is asked of the world.
TOLD = {"show", "ring", "layer", "asleep"}
SETTINGS = {"name", "label", "note", "tint", "again", "taps", "gaps", "lasts", "overtaken"}
EXAMPLES = {row[0]: row[4].replace("\\n", "\n") for row in read_table("steps.tsv")
            if row[0] not in SETTINGS and len(row) > 4}
LETTERS = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"
# The person's own macros, which strangers call, and which call strangers.
MINE = {"my-tool": 'name "My tool"\nrun shell "mine"\n', "my-lights": 'name "Lights"\ntap F9\n',
        "my-show": 'play "Lights"\n', "my-text": 'kept greeting from "hello"\ntype "{greeting}"\n',
        "my-count": "kept takes from 1\nlet takes be takes + 1\n"}
CHORDS = ("Alt+F2", "Super", "Ctrl+Shift+V", "Ctrl+M", "Shift+Insert", "Pad4", "Www", "PadEnter", "PointerLeft",
          "Ctrl+1", "F13", "Super+R", "Paste")
KINDS_OF_LINES = ("letters", "example", "example", "play", "kept", "said", "held", "branch", "loop", "chord", "named")


@dataclass
class Package:
    """Texts by id, and the lines of a surface with its layers."""

    macros: dict[str, str]
    surface: str
    values: dict[str, str] = field(default_factory=dict)


class Maker:
    """Makes up packages."""

    def __init__(self, seed: int) -> None:
        self.dice = random.Random(seed)

    def package(self, prefix: str) -> Package:
        names = [f"{prefix}-{index}" for index in range(self.dice.randint(1, 4))]
        return Package({name: self.macro(names) for name in names}, self.surface(prefix, names))

    def macro(self, names: list[str]) -> str:
        called = self.dice.choice(("", "", 'name "Lights"\n', 'name "My tool"\n'))
        lines: list[str] = []
        for _ in range(self.dice.randint(1, 6)):
            lines += self.lines(names, 0)
        kept = 'kept greeting from "x"\nkept cmd from "touch good"\n' if any(
            word in line for line in lines for word in ("greeting", "cmd")) else ""
        return called + kept + "\n".join(lines) + "\n"

    def lines(self, names: list[str], depth: int) -> list[str]:
        dice = self.dice
        kind = dice.choice(KINDS_OF_LINES)
        inner = [f"  {line}" for line in self.lines(names, depth + 1)] if depth < 3 else ["  tap A"]
        match kind:
            case "letters":
                between = dice.choice((["tap Shift"], ["tap F24"], ["tap Left"], ["wait 50ms"], []))
                found = [one for letter in dice.choices(LETTERS, k=dice.randint(1, 5))
                         for one in (f"tap {letter}", *between)]
                return [*found, *(["tap Enter"] if dice.random() < 0.4 else [])]
            case "example":
                return dice.choice([*EXAMPLES.values()]).splitlines()
            case "play":
                return [f"play {dice.choice([*names, 'my-tool', 'my-text', 'my-count', 'Lights', 'other-0'])}".replace(
                    "Lights", '"Lights"')]
            case "kept":
                return [dice.choice(('let cmd be "touch EVIL"', 'let greeting be "rm -r /"', 'run shell "{cmd}"',
                                     'ask cmd "Ready?" proposing "touch EVIL"', "read cmd from clipboard",
                                     'type "{greeting}"', "let greeting be said"))]
            case "said":
                return [f'let said be "{dice.choice(("HANDED-IN", "x"))}"', *self.lines(names, depth + 1)] \
                    if depth < 3 else ["tap B"]
            case "held":
                return [f"keep {dice.choice(('Shift', 'Ctrl', 'Alt', 'Super', 'AltGr'))} down", *inner]
            case "branch":
                return [dice.choice(('if not window "zz" is there', "if strength > 3", "if number = 7")), *inner,
                        "otherwise", *inner]
            case "loop":
                return [dice.choice(("repeat 3", "repeat while held at most 3 times", "beat 900ms",
                                     "repeat until strength = 0 at most 3 times")), *inner]
            case "chord":
                return [f"tap {dice.choice(CHORDS)}"]
            case _:
                return [f'tap chord "{dice.choice(LETTERS)}"' for _ in range(dice.randint(1, 5))]

    def surface(self, name: str, names: list[str]) -> str:
        dice = self.dice
        rows = [f"[surface.{name}]", 'layout = "numpad"', 'device = { name = "Booth" }']
        for layer in ("base", "over"):
            for gesture in dice.sample(("press", "tap", "hold", "release", "double tap"), 2):
                rows.append(f'[surface.{name}.layer.{layer}."{gesture}"]')
                rows += [f"{control} = {{ {self.action(names)} }}" for control in dice.sample("123456789", 3)]
        return "\n".join(rows) + "\n"

    def action(self, names: list[str]) -> str:
        dice = self.dice
        letter = dice.choice(LETTERS)
        return dice.choice((
            f'play = "{dice.choice(names)}"', 'play = "my-tool"', 'play = "my-count"', f'tap = "{letter}"',
            'tap = "Super"',
            f'sustain = "{letter}"', 'latch = "Alt"', f'rapid = "{letter}"', 'set = "osc /x to 10.0.0.1:9 at 5 %"',
            'step = "cc 7 on 1 by 5 %"', 'set = "controller x at 50 %"', 'layer = "while held over"',
            f'cycle = ["tap {letter}", "tap {dice.choice(LETTERS)}", "tap Enter"]', 'do = "record with the keyboard"',
            'do = "screen choose"', 'cycle = ["play my-tool", "tap A"]'))


@dataclass
class Left:
    """What one run, or one press, really sent and asked for, and what was set for good."""

    effects: list[Effect] = field(default_factory=list)
    asked: list[Ask] = field(default_factory=list)
    kept: dict[str, object] = field(default_factory=dict)

    def told(self) -> list[str]:
        """What of it needed an approval, in words."""
        found = [ask.kind if isinstance(ask, Errand) else type(ask).__name__ for ask in self.asked
                 if not isinstance(ask, Question) and not (isinstance(ask, Errand) and ask.kind in TOLD)]
        found += [f"sets {name}" for name in self.kept]
        return [*found, *self._sent()]

    def _sent(self) -> Iterator[str]:
        typed, last, down = 0, "", set[str]()
        for code, value, *_ in self.effects:
            kind = kind_of(code).name
            if kind not in ("key", "motion"):
                yield kind
            if kind != "key":
                continue
            name = key_table().name(code)
            if not value:
                down.discard(name)
                continue
            if code in POINTER_BUTTONS:
                yield "click"
            if name in ("Super", "Www", "Paste") or (name == "F2" and "Alt" in down) or (
                    name == "V" and "Ctrl" in down) or (name == "Insert" and "Shift" in down):
                yield f"chord with {name}"
            down.add(name)
            plain = not down & {"Ctrl", "RightCtrl", "Alt"}
            if name in ("Enter", "PadEnter") or (name in "MJ" and "Ctrl" in down):
                if typed > 1:
                    yield "a line"
                last = name
            elif plain and (name in LETTERS or name == "Space" or name.startswith("Pad")) and name != last:
                typed, last = typed + 1, name
        if typed > 3:
            yield f"a text of {typed} keys"


class Kept(NothingKept):
    """Remembers what was set."""

    def __init__(self) -> None:
        super().__init__({})
        self.set: dict[str, object] = {}

    def put(self, name: str, value: object, rights: object = None) -> None:  # type: ignore[override]
        self.set[name] = value


class World:
    """A desk in memory, read as the engine reads it, and played on a made-up clock."""

    def __init__(self, folder: Path) -> None:
        self.reader = DeskReader(folder, None)
        self.guests = Guests()
        self.macros: dict[str, str] = {}
        self.text = ""
        self._loaded: Loaded | None = None
        self._at_hand = Router(Player())

    def take_in(self, origin: str, package: Package) -> None:
        """What came with a package is here, as a guest."""
        self.macros |= package.macros
        self.text += package.surface
        name = package.surface.partition(".")[2].partition("]")[0]
        self.guests = Guests({**self.guests.macros, **dict.fromkeys(package.macros, origin)},
                             {**self.guests.surfaces, name: origin}, set(self.guests.approved))

    def read(self) -> Loaded:
        """The desk as it is now."""
        head = 'format = 1\nname = "Mine"\noutput = "stage"\nmidi_to = "Kiln"\n'
        return self.reader.read(Sources(head + self.text, {**MINE, **self.macros}, self.guests))

    def reaching(self, loaded: Loaded) -> list[tuple[str, str]]:
        """What was told of the strangers: where, and the mark by which it can be approved."""
        return [(where, reach.mark) for where, reach in self.reader.reaching(loaded.desk, self.guests)]

    def approve(self, marks: set[str]) -> None:
        """The person approves."""
        self.guests = Guests(self.guests.macros, self.guests.surfaces, {*self.guests.approved, *marks})

    def play(self, loaded: Loaded, macro: str) -> Left:
        """What leaves when a macro is played."""
        router, kept = self._router(loaded)
        found, trace = Left(), router.new_trace(0, 0, "test")
        if macro in loaded.desk.macros:
            router.play_macro(trace, loaded.desk.macros[macro], 0, found.effects, values={"number": 7, "said": "ls"})
        return self._run_out(router, kept, found)

    def press(self, loaded: Loaded, surface: str, control: str) -> Left:
        """What leaves when a control is pressed, held and let go."""
        router, kept = self._router(loaded)
        found, drawn = Left(), loaded.desk.surfaces[surface]
        code = drawn.code_of(control)
        if code is not None:
            router.feed(surface, code, 1, 0, 0, found.effects)
            for now in (250 * MS, 600 * MS):
                router.advance(now, found.effects)
            router.feed(surface, code, 0, 700 * MS, 700 * MS, found.effects)
            router.advance(1_200 * MS, found.effects)
        return self._run_out(router, kept, found, 1_200 * MS)

    def router(self, loaded: Loaded) -> Router:
        """A router that knows the desk."""
        return self._router(loaded)[0]

    def _router(self, loaded: Loaded) -> tuple[Router, Kept]:
        """A router that knows the desk, with nothing of the runs before."""
        if self._loaded is not loaded:
            self._loaded, self._at_hand = loaded, Router(Player())
            self._at_hand.load(loaded.desk)
        router = self._at_hand
        kept = router.kept = Kept()
        router.player.gate = Gate()
        router.player.gate.places = loaded.desk.places
        return router, kept

    @staticmethod
    def _run_out(router: Router, kept: Kept, found: Left, now: int = 0) -> Left:
        player = router.player
        for _ in range(300):
            asked, player.errands = player.errands, []
            for run, ask in asked:
                found.asked.append(ask)
                if not isinstance(ask, Errand) or ask.wait:
                    answer: object = True
                    if isinstance(ask, Question):
                        answer = {TEXT: "ls", WHOLE: 7}.get(ask.kind, Decimal(7))
                    player.resume(run, answer, now, found.effects)
            due = player.next_deadline()
            if due is None and not player.errands:
                break
            now = max(now, due or now)
            player.advance(now, found.effects)
            if now > 60_000 * MS:
                break
        player.stop_all(now, found.effects)
        found.kept = kept.set
        return found


def unapproved(world: World, origins: set[str], loaded: Loaded) -> list[str]:
    """What of some strangers leaves, whatever is played or pressed; and whether one's own still does what it did."""
    found = []
    for name, origin in world.guests.macros.items():
        if origin in origins:
            found += [f"{name}: {what}" for what in world.play(loaded, name).told()]
    for surface, origin in world.guests.surfaces.items():
        if origin in origins:
            for control in sorted({key[0] for layer in loaded.desk.surfaces[surface].layers for key in layer.bindings}):
                found += [f"{surface} {control}: {what}" for what in world.press(loaded, surface, control).told()]
    return found


def own_go_on(world: World, loaded: Loaded) -> list[str]:
    """What of one's own is not as it was."""
    shell, keys = world.play(loaded, "my-tool"), world.play(loaded, "my-show")
    wrong = [] if [ask.kind for ask in shell.asked if isinstance(ask, Errand)] == ["shell"] else ["my-tool sleeps"]
    if [key_table().name(code) for code, value, *_ in keys.effects if value] != ["F9"]:
        wrong.append("my-show plays a stranger's lights")
    return wrong


def trial(seed: int, folder: Path) -> tuple[list[str], int]:
    """One package looked at from all sides: what is wrong, and how many of its macros read well."""
    maker, world = Maker(seed), World(folder)
    package = maker.package("them")
    world.take_in("Them", package)
    loaded = world.read()
    well = sum(name in loaded.desk.macros for name in package.macros)
    wrong = [*unapproved(world, {"Them"}, loaded), *own_go_on(world, loaded)]
    told = world.reaching(loaded)
    # One thing is approved as a whole; then another stranger comes, who plays it, and what it keeps.
    one = maker.dice.choice(sorted({where for where, _ in told})) if told else ""
    world.approve({mark for where, mark in told if where == one})
    other = maker.package("other")
    world.take_in("Other", other)
    loaded = world.read()
    wrong += [f"after an approval of {one}: {what}" for what in unapproved(world, {"Other"}, loaded)]
    wrong += own_go_on(world, loaded)
    # Everything is approved: what leaves now was told beforehand.
    world.approve({mark for _, mark in world.reaching(loaded)})
    loaded = world.read()
    named = {where for where, _ in world.reaching(loaded)}
    for name in (*package.macros, *other.macros):
        if f"macros/{name}.macro" not in named and (left := world.play(loaded, name).told()):
            wrong.append(f"{name} was not told of: {left}")
    # The package comes again, with one line changed: it asks again.
    changed = next((name for name, text in package.macros.items() if "touch good" in text), "")
    if changed:
        world.macros[changed] = world.macros[changed].replace("touch good", "touch EVIL")
        loaded = world.read()
        wrong += [f"{changed}, changed: {what}" for what in world.play(loaded, changed).told()]
    return [f"seed {seed}: {what}" for what in wrong], well


def main() -> int:
    """Try as many as are asked for."""
    count, failed = int(sys.argv[1]) if len(sys.argv) > 1 else 50_000, 0
    with tempfile.TemporaryDirectory() as name:
        for seed in range(count):
            wrong, _ = trial(seed, Path(name))
            failed += len(wrong)
            for what in wrong[:3]:
                print(what)
            if (seed + 1) % 1_000 == 0:
                print(f"{seed + 1:,} packages, {failed} things left that were not approved", flush=True)
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
