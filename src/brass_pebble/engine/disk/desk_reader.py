"""What a desk's files say, read into a desk.  What is broken is reported, and never takes the place of what works.

It reads, and writes nothing.
"""

from __future__ import annotations

import contextlib
import re
import tomllib
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from brass_pebble import file_access
from brass_pebble.core.desk.action import Action
from brass_pebble.core.desk.model import Desk
from brass_pebble.core.desk.read.desk import KnownParts, read_desk, read_typing
from brass_pebble.core.desk.read.surfaces import device_reach
from brass_pebble.core.devices.layout import Layout, read_layout
from brass_pebble.core.effects.reach import Reach
from brass_pebble.core.macro.guests.reach import reach_of_playing, reaches
from brass_pebble.core.macro.reader import Draft
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.limits import load_tables
from brass_pebble.core.say.memo import Memo
from brass_pebble.core.say.problem import Problem, ProblemError
from brass_pebble.core.signals.key_places import US
from brass_pebble.core.signals.keymap import Typist
from brass_pebble.kinds.outputs.table import OUTPUTS
from brass_pebble.kinds.outputs.xkb import typist as find_typist
from brass_pebble.paths import SHIPPED_LAYOUTS

from .guests import FILE, Guests
from .macro_files import CHANGE_IT, LEFT_OUT, STANDS, MacroFiles
from .parsed_toml import parse_tables
from .start_guard import StartGuard

_SYNTAX = re.compile(r"(.*) \(at line (\d+), column (\d+)\)", re.DOTALL)


@dataclass
class Loaded:
    """A desk as read.  Without `ok`, desk.toml itself could not be read, and `desk` is empty."""

    desk: Desk
    problems: list[Problem]
    ok: bool = True


@dataclass(frozen=True)
class Sources:
    """What a desk is made from: the text of desk.toml, the macros' texts by id, and what came from somebody else.

    `layouts` are texts of drawings that count in place of their files (None: as if it were not there), by id;
    `earlier(file)` are texts that a file had before, the newest first.
    """

    text: str
    macros: dict[str, str]
    guests: Guests
    layouts: Mapping[str, str | None] = field(default_factory=dict)
    earlier: Callable[[str], Iterable[str]] = lambda file: ()


@dataclass
class DeskReader:
    """Reads the desk in a folder; what did not change since it was read last is taken over."""

    folder: Path
    user_layouts: Path | None = None
    written: dict[str, Draft] = field(default_factory=dict)
    guard: StartGuard | None = None
    known: KnownParts = field(default_factory=KnownParts)
    # Drawings by their file and when that was changed, and the last good one by name and by surface.
    _layouts: Memo[Path, Layout] = field(default_factory=Memo)
    _drawn: dict[str, Layout] = field(default_factory=dict)
    _of_surface: dict[str, Layout] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.macro_files = MacroFiles(self.folder / "macros")

    def read(self, sources: Sources) -> Loaded:
        """The desk that some texts make.  Without `ok`, desk.toml itself is broken."""
        if self.left_out("desk.toml"):
            return Loaded(Desk(), [Problem(LEFT_OUT, "desk.toml", hint=CHANGE_IT)], ok=False)
        self.reading("desk.toml")
        try:
            loaded = self._read_tables(sources)
        finally:
            self.reading("")
        return loaded

    def left_out(self, name: str) -> bool:
        """Whether starts died on a file, so that it is not read."""
        return self.guard is not None and name in self.guard.left_out

    def reading(self, name: str) -> None:
        """This file is being read from now on."""
        if self.guard is not None:
            self.guard.reading(name)

    def _read_tables(self, sources: Sources) -> Loaded:
        try:
            data = parse_tables(sources.text)
        except tomllib.TOMLDecodeError as error:
            return Loaded(Desk(), [syntax_problem(str(error), "desk.toml", sources.text)], ok=False)
        try:
            return self._read(data, sources)
        except Exception as error:
            return Loaded(Desk(), [Problem(f"the desk cannot be read: {error!r}", "desk.toml",
                                           hint="Take back what was changed last")], ok=False)

    def _read(self, data: dict[str, Any], sources: Sources) -> Loaded:
        problems: list[Problem] = []
        guests = sources.guests
        tap, gap, layout_name = read_typing(data)
        typist: Typist | None = None
        try:
            typist = find_typist(layout_name)
        except ProblemError as error:
            problems.append(Problem(error.problem.what, "desk.toml", hint=error.problem.hint))
        macros, broken = self._read_macros(sources, (tap, gap, layout_name), typist, problems)
        layouts = self.layout_files()
        names = (layouts.keys() | {name for name, text in sources.layouts.items() if text is not None}) - {
            name for name, text in sources.layouts.items() if text is None}
        read: dict[str, Layout | None] = {}

        def layout(name: str) -> Layout | None:
            if name not in read:
                read[name] = self._layout(name, layouts.get(name), sources, problems)
            return read[name]

        def last_drawing(surface: str) -> Layout | None:
            return self._of_surface.get(surface) or self._drawing_before(surface, sources, layout)

        desk, found = read_desk(data, text=sources.text, file="desk.toml", outputs=tuple(OUTPUTS), layouts=layout,
                                layout_names=names, macros=macros, broken_macros=broken,
                                strangers=_Judge(self, guests), known=self.known,
                                sleeping=self._sleeping_mark(guests),
                                places=typist.places if typist is not None else US,
                                last_drawing=last_drawing)
        self._of_surface = {name: surface.layout for name, surface in desk.surfaces.items() if surface.layout.controls}
        problems += self._sleeping(desk, guests)
        desk = replace(desk, allowed=self._allowed(desk, guests))
        return Loaded(desk, [*found, *problems])

    def _read_macros(self, sources: Sources, typing: tuple[int, int, str], typist: Typist | None,
                     problems: list[Problem]) -> tuple[dict[str, Macro], dict[str, str]]:
        macros: dict[str, Macro] = {}
        broken: dict[str, str] = {}
        tap, gap, keyboard = typing
        guests = sources.guests
        self.macro_files.guard = self.guard
        found = self.macro_files.read(sources.macros, tap, gap, typist, keyboard,
                                      guests,
                                      lambda name: sources.earlier(f"macros/{name}.macro"))
        self.written = found.written
        self.reading("desk.toml")
        for name, draft in found.written.items():
            played = found.played[name]
            stands = played is not draft and not played.problems
            if draft.problems:
                for problem in draft.problems:
                    problems.append(Problem(problem.what, problem.file, problem.line, problem.column,
                                            f"{problem.hint.rstrip('.')}. {STANDS}".removeprefix(". ")) if stands
                                    else problem)
            if stands:
                macros[name] = played.macro
            elif draft.problems:
                first = draft.problems[0]
                where = f"has a mistake in line {first.line}" if first.line else "is broken"
                broken[name] = f"macro “{draft.macro.name}” {where}: {first.what}"
            else:
                macros[name] = draft.macro
        return macros, broken

    # Drawings.

    def layout_files(self) -> dict[str, Path]:
        """The files of all drawings, by id; those of the desk and of the person before those that ship."""
        folders = [SHIPPED_LAYOUTS, self.user_layouts, self.folder / "layouts"]
        return {file.stem: file for folder in folders if folder for file in sorted(folder.glob("*.toml"))}

    def _layout(self, name: str, file: Path | None, sources: Sources, problems: list[Problem]) -> Layout | None:
        """A drawing; the last good one in place of one that is broken."""
        if name in sources.layouts:
            text = sources.layouts[name]
            found = None if text is None else layout_of(text, name, problems)
        else:
            found = self._read_layout(file, problems) if file else None
        if found is not None:
            self._drawn[name] = found
            return found
        if file is not None and name in self._drawn:
            problems.append(Problem("this drawing is broken, so the last good one stays in use",
                                    f"layouts/{name}.toml", hint="Put the file right"))
            return self._drawn[name]
        return None

    def _read_layout(self, file: Path, problems: list[Problem]) -> Layout | None:
        """A drawing, read once for as long as its file stays as it is."""
        try:
            changed = file.stat().st_mtime_ns
        except OSError:
            changed = 0
        if (known := self._layouts.find(file, changed)) is not None:
            return known
        wrong: list[Problem] = []
        shown = f"layouts/{file.name}"
        if self.left_out(shown):
            problems.append(Problem(LEFT_OUT, shown, hint=CHANGE_IT))
            return None
        self.reading(shown)
        layout = read_layout_file(file, wrong)
        self.reading("desk.toml")
        problems += wrong
        if layout is not None and not wrong:
            self._layouts.keep(file, changed, layout)
        return layout

    def _drawing_before(self, surface: str, sources: Sources, layouts: Callable[[str], Layout | None]) -> Layout | None:
        """The drawing that a surface had at an earlier time."""
        for text in sources.earlier("desk.toml"):
            with contextlib.suppress(tomllib.TOMLDecodeError, AttributeError):
                name = load_tables(text).get("surface", {}).get(surface, {}).get("layout")
                if isinstance(name, str) and (found := layouts(name)) is not None:
                    return found
        return None

    # What sleeps.

    def _sleeping(self, desk: Desk, guests: Guests) -> list[Problem]:
        """A word on what sleeps, so that nobody wonders why a press does less than it says."""
        count = sum(1 for reach in self.asleep(desk, guests) if reach)
        if not count:
            return []
        return [Problem(f"{say_count(count, 'step')} from somebody else {'waits' if count == 1 else 'wait'} for your "
                        f"approval", FILE, hint="G on the desk shows each, as does brass-pebble desk asleep")]

    def asleep(self, desk: Desk, guests: Guests) -> list[tuple[str, Reach]]:
        """What sleeps: where (a macro's file, a surface, or surface and control), and what it would do."""
        return [(where, reach) for where, reach in self.reaching(desk, guests) if not guests.approves(reach.mark)]

    def _allowed(self, desk: Desk, guests: Guests) -> frozenset[str]:
        """The approvals that count now: of what is there as it was approved."""
        if not (guests.macros or guests.surfaces or guests.everything):
            return frozenset()
        return frozenset(reach.mark for _, reach in self.reaching(desk, guests) if guests.approves(reach.mark))

    def reaching(self, desk: Desk, guests: Guests) -> list[tuple[str, Reach]]:
        """What of strangers reaches outside, and where it stands."""
        found = [(f"macros/{name}.macro", reach) for name, draft in self.written.items() if draft.guest is not None
                 for reach in (*reaches(draft.steps, through_plays=True, whole=draft.guest.whole),
                               *((draft.keys,) if draft.keys else ()))]
        judge = _Judge(self, guests)
        for surface in desk.surfaces.values():
            found += [(surface.id, device_reach(surface.id, rule)) for rule in surface.wanted]
            found += [(f"{surface.id} {binding.control}", reach) for layer in surface.layers
                      for binding in layer.bindings.values() if binding.rights is not None
                      for reach in judge.reached(f"{surface.id}/{layer.id}", binding.action)]
        return found

    def whole_of(self, where: str) -> str:
        """What something that sleeps leads to, as a text: what an approval of it is for."""
        name = where.removeprefix("macros/").removesuffix(".macro")
        return self.macro_files.wholes.of(name).text if where.startswith("macros/") else ""

    def _sleeping_mark(self, guests: Guests) -> object:
        """What the sleeping of bindings depends on."""
        if not (guests.surfaces or guests.everything):
            return guests.mark
        wholes = self.macro_files.wholes
        return guests.mark, tuple(wholes.of(name).mark for name in self.written)


class _Judge:
    """Knows what of a desk came from somebody else, and what its bindings reach."""

    def __init__(self, reader: DeskReader, guests: Guests) -> None:
        self._reader, self._guests = reader, guests
        self.of_place, self.approves, self.opening = guests.of_place, guests.approves, guests.opening
        self.brought = guests.brought

    def reached(self, place: str, action: Action) -> tuple[Reach, ...]:
        """What a stranger's action does outside the keyboard, by itself and by macros that are not the same
        stranger's."""
        found = [replace(reach, whole=place) for reach in action.reaches(self.opening)]
        for macro in action.macros():
            draft = self._reader.written.get(macro)
            if draft is not None and self._guests.of_macro(macro) != self.of_place(place):
                whole = f"{place} {self._reader.macro_files.wholes.of(macro).mark}"
                played = reach_of_playing(draft.steps, draft.macro.name, f"play {macro}", whole=whole)
                found += [played] if played is not None else []
        return tuple(found)


def read_layout_file(file: Path, problems: list[Problem]) -> Layout | None:
    """A drawing from its file; None, and reported, if it cannot be read at all."""
    try:
        text = file_access.read_text(file)
    except (OSError, UnicodeDecodeError) as error:
        problems.append(Problem(f"cannot be read: {file_access.say(error)}", f"layouts/{file.name}"))
        return None
    return layout_of(text, file.stem, problems)


def layout_of(text: str, name: str, problems: list[Problem]) -> Layout | None:
    """A drawing from its text; None, and reported, if it cannot be read at all."""
    shown = f"layouts/{name}.toml"
    try:
        layout, found = read_layout(load_tables(text), id=name, file=shown, text=text)
    except tomllib.TOMLDecodeError as error:
        problems.append(syntax_problem(str(error), shown, text))
        return None
    except Exception as error:
        problems.append(Problem(f"cannot be read: {error!r}", shown))
        return None
    problems.extend(found)
    return layout


def syntax_problem(message: str, file: str, text: str) -> Problem:
    """What the TOML reader complains of, with its place."""
    match = _SYNTAX.fullmatch(message)
    if match:
        what, line, column = match[1], int(match[2]), int(match[3])
    else:
        what, line, column = message.removesuffix(" (at end of document)"), len(text.splitlines()), 0
    return Problem(what[0].lower() + what[1:], file, line, column, "The file is left as it is; put it right and save")
