"""What a terminal can draw: signs that every font has, few colours, contrast of every cell, and only what changed."""

from __future__ import annotations

import ast
import asyncio
import os
import random
import re
import unicodedata
from collections.abc import Callable
from pathlib import Path

import pytest
from rich._palettes import EIGHT_BIT_PALETTE
from rich.color import Color, ColorSystem, ColorType
from rich.segment import Segment
from rich.style import Style
from textual.app import App
from textual.screen import ModalScreen
from textual.strip import Strip

from brass_pebble.cli.outside import OutsideHere
from brass_pebble.core.desk.action import ACTION_KINDS, DEEDS
from brass_pebble.core.say.data_table import read_table
from brass_pebble.paths import PACKAGE
from brass_pebble.screen.app import VIEWS, BrassPebbleApp
from brass_pebble.screen.base.few_colours import SAME_GROUND, few
from brass_pebble.screen.base.look_sheet import LookSheet
from brass_pebble.screen.base.only_changes import TerminalMemory, cells_of
from brass_pebble.screen.base.palette import LEAST_CONTRAST, PALETTES, contrast
from brass_pebble.screen.base.signs import AS_IT_IS, SOLID, draw_signs, plain_sign
from brass_pebble.screen.outside import TerminalLook
from fake_link import screen_on

LINES = set("─│┌┐└┘├┤┬┴┼")
# Red, green and blue of the colours that are used, as xterm and the console of Linux have them.
XTERM = {1: (205, 0, 0), 4: (0, 0, 238), 9: (255, 0, 0), 10: (0, 255, 0), 11: (255, 255, 0), 13: (255, 0, 255),
         14: (0, 255, 255)}
CONSOLE = {1: (170, 0, 0), 4: (0, 0, 170), 9: (255, 85, 85), 10: (85, 255, 85), 11: (255, 255, 85), 13: (255, 85, 255),
           14: (85, 255, 255)}
BLACK, WHITE = (0, 0, 0), (255, 255, 255)
# Keys that open something to look at on the Desk.
SHEETS = ("question_mark", "t", "D", "i", "b", "e", "O", "p", "f")


def is_plain(char: str) -> bool:
    return char in LINES or ord(char) < 0x100


def texts_of_the_source() -> set[str]:
    """Every character in a text of the program, but for letters."""
    found: set[str] = set()
    for file in PACKAGE.rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                found |= set(node.value)
    return {char for char in found if unicodedata.category(char)[0] in "PSN"}


def test_every_sign_of_the_program_has_a_plain_one() -> None:
    signs = texts_of_the_source()
    assert len(signs) > 120
    missing = {sign for sign in signs if plain_sign(sign) != SOLID and not all(map(is_plain, plain_sign(sign)))}
    assert not missing
    # All that the toolkit may draw: lines, blocks and dots.
    for code in (*range(0x2500, 0x25a0), *range(0x2800, 0x2900)):
        plain = plain_sign(chr(code))
        assert plain == SOLID or is_plain(plain), hex(code)
    # What a person wrote is nobody's to change.
    assert plain_sign("朝") == "朝" and plain_sign("ł") == "ł" and plain_sign("é") == "é"


def test_what_signs_tell_apart_plain_ones_tell_apart() -> None:
    glyphs = {kind.glyph for kind in ACTION_KINDS.values()} | {deed.glyph for deed in DEEDS.values()}
    assert len({plain_sign(glyph) for glyph in glyphs}) == len(glyphs)
    for row in read_table("signs.tsv"):
        assert len(row) == 2 and 1 <= len(row[1]) <= 2, row


def test_filled_cells_are_blanks_in_reverse() -> None:
    red, raw = Style(color="red"), Style(color="red", meta=AS_IT_IS)
    line = [Segment("╭─ ██ a█", red), Segment("ok", red), Segment("╭█", raw)]
    # With all signs, too: in many fonts blocks leave gaps.
    assert [segment.text for segment in draw_signs(line, plain=False)] == ["╭─ ", "  ", " a", " ", "ok", "╭█"]
    drawn = draw_signs(line, plain=True)
    assert [segment.text for segment in drawn] == ["┌─ ", "  ", " a", " ", "ok", "╭█"]
    assert [bool(segment.style and segment.style.reverse) for segment in drawn] == [False, True] * 2 + [False] * 2


def test_few_colours_keep_what_is_filled_and_what_is_not() -> None:
    ground = (20, 23, 27)
    on = Style.parse("#1a1408 on #dfaa45")
    assert few(on, ground, dark=True, coloured=True).reverse
    assert not few(Style.parse("#8a939c on #1b1f25"), ground, dark=True, coloured=True).reverse
    assert few(Style.parse("#e2724a on #14171b"), ground, dark=True, coloured=True).color == Color.from_ansi(9)
    for letter in ("#e2724a", "#5cc0a7", "#dfaa45"):
        # Without colours only the terminal's own ink and ground are left.
        none = few(Style.parse(f"{letter} on #14171b"), ground, dark=True, coloured=False)
        assert none.color == none.bgcolor == Color.default()
    assert few(Style.parse("#e2e4e6 on #14171b reverse"), ground, dark=True, coloured=True).reverse
    for palette in PALETTES.values():
        for colour in (palette.brass, palette.rust, palette.verdigris):
            colours = [Color.parse(name).get_truecolor() for name in (colour, palette.ground)]
            assert contrast(*colours) > SAME_GROUND


def test_there_is_an_ink_for_every_fill() -> None:
    for palette in PALETTES.values():
        for red in range(0, 256, 17):
            for green in range(0, 256, 17):
                fill = (red, green, (red * 3 + green) % 256)
                ink = Color.parse(palette.ink_on("#{:02x}{:02x}{:02x}".format(*fill))).get_truecolor()
                assert contrast(ink, fill) >= LEAST_CONTRAST


# Every view, in every theme and every number of colours, from the screen's own cells.

def walk(engine: Path, look: TerminalLook, theme: str, size: tuple[int, int],
         see: Callable[[BrassPebbleApp, str], None]) -> None:
    """Open every view and some sheets, and look at each."""
    async def run() -> None:
        app = BrassPebbleApp(engine, outside=OutsideHere(), look=look)
        app.theme = theme
        async with app.run_test(size=size) as pilot:
            await pilot.pause(0.3)
            see(app, "desk")
            for key in SHEETS:
                await pilot.press(key)
                await pilot.pause(0.15)
                see(app, f"sheet {key}")
                while len(app.screen_stack) > 2:
                    await pilot.press("escape")
                    await pilot.pause()
            for name in VIEWS:
                app.open_view(name, **options(app, name))
                await pilot.pause(0.25)
                for _ in range(100):
                    if any(strip.text.strip() for strip in drawn(app)):
                        break
                    await pilot.pause(0.05)
                see(app, name)
                await app.pop_screen()
                await pilot.pause()
    asyncio.run(run())


def options(app: BrassPebbleApp, name: str) -> dict[str, object]:
    """What a view is opened on: a macro with many keys, a control that has a curve, a package."""
    desk = app.known.desk
    if name == "curve":
        return {"spot": next((surface.id, control.id) for surface in desk.surfaces for control in surface.controls
                             if control.moves and not control.turns)}
    if name == "take in":
        file = Path(os.environ["XDG_DOCUMENTS_DIR"]) / "desk.pebbledesk"
        file.write_bytes(app.outside.pack(desk.folder, [], [])[0])
        return {"look": app.outside.look_at(file, desk.folder), "file": str(file)}
    return {"macro": "oven-close-up"} if name == "macro" else {}


def drawn(app: BrassPebbleApp) -> list[Strip]:
    """The lines of the topmost screen as they are sent."""
    way = app.way_out()
    return [way.through(strip) for strip in app.screen._compositor.render_strips()]


def colour_of(colour: Color | None, own: tuple[int, int, int], numbered: dict[int, tuple[int, int, int]]
              ) -> tuple[int, int, int]:
    if colour is None or colour.type is ColorType.DEFAULT:
        return own
    if colour.number is not None:
        return numbered[colour.number]
    red, green, blue = colour.get_truecolor()
    return red, green, blue


def rounded(colour: Color | None) -> Color | None:
    """A colour as a terminal with 256 of them shows it."""
    if colour is None or colour.type is not ColorType.TRUECOLOR:
        return colour
    return Color.from_triplet(EIGHT_BIT_PALETTE[colour.downgrade(ColorSystem.EIGHT_BIT).number or 0])


def weak_cells(app: BrassPebbleApp, least: float, terminal: tuple[tuple[int, int, int], tuple[int, int, int]],
               numbered: dict[int, tuple[int, int, int]]) -> set[str]:
    """What is written with less contrast than that: letters, and signs that say something."""
    ink, ground = terminal
    weak: set[str] = set()
    lines = drawn(app)
    if isinstance(app.screen, ModalScreen):
        # What lies below a sheet is dimmed, and not to be read.
        sheet = app.screen.children[0].region
        lines = [strip.crop(sheet.x, sheet.right) for strip in lines[sheet.y:sheet.bottom]]
    for strip in lines:
        for text, style, _ in strip:
            if not any(unicodedata.category(char)[0] in "LNS" and ord(char) not in range(0x2500, 0x25a0)
                       for char in text):
                continue
            assert style is not None
            for one, other in ((style.color, style.bgcolor), (rounded(style.color), rounded(style.bgcolor))):
                ratio = contrast(colour_of(one, ink, numbered), colour_of(other, ground, numbered))
                if ratio < least:
                    names = [colour.name if colour else "its own" for colour in (one, other)]
                    weak.add(f"{text.strip()!r} {names[0]} on {names[1]}: {ratio:.2f}")
    return weak


@pytest.mark.parametrize("theme", PALETTES)
@pytest.mark.parametrize("colours", ["all", "sixteen"])
def test_every_cell_of_every_view_stands_out(engine: Path, theme: str, colours: str) -> None:
    dark = PALETTES[theme].dark
    look = TerminalLook(colours=colours, dark=dark)  # type: ignore[arg-type]
    terminal = (WHITE, BLACK) if dark else (BLACK, WHITE)
    seen: list[str] = []
    weak: dict[str, set[str]] = {}

    def see(app: BrassPebbleApp, name: str) -> None:
        seen.append(name)
        for numbered in (XTERM, CONSOLE):
            if found := weak_cells(app, LEAST_CONTRAST, terminal, numbered):
                weak.setdefault(name, set()).update(found)
    walk(engine, look, theme, (160, 40), see)
    assert len(seen) == 1 + len(SHEETS) + len(VIEWS)
    assert not weak, "\n".join(f"{name}: {', '.join(sorted(found))}" for name, found in weak.items())


@pytest.mark.parametrize("size", [(160, 40), (80, 24)])
def test_in_plain_signs_every_view_is_drawn_with_what_every_font_has(engine: Path, size: tuple[int, int]
                                                                     ) -> None:
    strange: dict[str, set[str]] = {}

    def see(app: BrassPebbleApp, name: str) -> None:
        if isinstance(app.screen, LookSheet):
            # It shows the full signs, for the person to see whether they are there.
            return
        lines = drawn(app)
        assert any(strip.text.strip() for strip in lines), name
        if found := {char for strip in lines for char in strip.text if not is_plain(char)}:
            strange[name] = found
    walk(engine, TerminalLook(signs="plain"), "basalt", size, see)
    assert not strange


# Only what changed.

class Paper:
    """A terminal of the test's own: what stands in its cells after what was sent."""

    def __init__(self, width: int, height: int) -> None:
        self.cells = [[(" ", "")] * width for _ in range(height)]
        self._x = self._y = 0
        self._pen = ""

    def take(self, sent: str) -> None:
        for move, pen, text in re.findall(r"\x1b\[(\d+;\d+)H|\x1b\[([0-9;]*)m|([^\x1b])", sent):
            if move:
                y, x = move.split(";")
                self._x, self._y = int(x) - 1, int(y) - 1
            elif text:
                self.cells[self._y][self._x] = (text, self._pen)
                self._x += 2 if unicodedata.east_asian_width(text) == "W" else 1
            else:
                self._turn(pen)

    def seen(self) -> list[list[tuple[str, str]]]:
        """The cells without what cannot be seen: the ink of a blank."""
        return [[(char, pen if char != " " or "7=on" in pen else " ".join(
            part for part in pen.split() if part.startswith("48"))) for char, pen in line] for line in self.cells]

    def _turn(self, codes: str) -> None:
        now = dict(part.split("=") for part in self._pen.split()) if self._pen else {}
        words = codes.split(";")
        while words:
            word = words.pop(0)
            if word in ("0", ""):
                now = {}
            elif word in ("38", "48"):
                count = 3 if words[0] == "2" else 1
                now[word] = ",".join(words[:count + 1])
                del words[:count + 1]
            elif word in ("39", "49"):
                now.pop(f"{word[0]}8", None)
            elif len(word) == 2:
                now[f"{word[0]}8"] = word[1]
            else:
                now[word] = "on"
        self._pen = " ".join(f"{key}={value}" for key, value in sorted(now.items()))


def test_what_is_sent_makes_of_any_screen_any_other() -> None:
    rand = random.Random(11)
    width, height = 30, 6
    styles = [Style(), Style.parse("bold red"), Style.parse("#102030 on #405060"), Style.parse("reverse"),
              Style.parse("#a0b0c0"), Style.parse("on blue"), Style.parse("bold #a0b0c0 on #405060")]
    memory, paper = TerminalMemory(), Paper(width, height)
    for _ in range(300):
        pieces = []
        for _ in range(rand.randint(0, 5)):
            x, y = rand.randrange(width), rand.randrange(height)
            segments = [Segment("".join(rand.choice("ab   ─") for _ in range(rand.randint(1, 12))), rand.choice(styles))
                        for _ in range(rand.randint(1, 4))]
            pieces.append((x, y, Strip(segments).crop(0, width - x)))
        sent = memory.changes(pieces, (width, height), ColorSystem.TRUECOLOR)
        paper.take(sent)
        whole = Paper(width, height)
        for y in range(height):
            fresh = TerminalMemory()
            line = Strip([Segment(char or " ", style) for char, style in memory._lines[y]])
            whole.take(fresh.changes([(0, y, line)], (width, height), ColorSystem.TRUECOLOR))
        assert paper.seen() == whole.seen()
        # The same again sends nothing.
        assert memory.changes(pieces[-1:], (width, height), ColorSystem.TRUECOLOR) == ""
    memory.forget()
    line = Strip([Segment("abc", styles[1])])
    assert memory.changes([(0, 0, line)], (width, height), ColorSystem.TRUECOLOR).count("abc") == 1


@pytest.mark.parametrize("text", ["朝の準備 x", "👩\u200d🚀 dough x", "हिन्दी x", "e\u0301te\u0301 x"])
def test_behind_characters_of_any_width_a_row_goes_on_where_it_belongs(text: str) -> None:
    strip = Strip([Segment(text, Style())])
    cells = cells_of(strip)
    assert len(cells) == strip.cell_length and cells[-1][0] == "x"
    sent = TerminalMemory().changes([(3, 0, strip)], (40, 1), ColorSystem.TRUECOLOR)
    # What stands behind them is placed, whatever a terminal thinks of those before it.
    behind = text.split()[-2] if "dough" in text else ""
    place = f"\x1b[1;{4 + len(cells) - 2 - len(behind) - bool(behind)}H {behind}{' ' if behind else ''}x"
    assert place in sent, repr(sent)


def test_the_screen_sends_a_line_only_for_what_differs(desk: Path, tmp_path: Path) -> None:
    sent: list[int] = []

    class Counted(TerminalMemory):
        def changes(self, *arguments: object) -> str:  # type: ignore[override]
            text = super().changes(*arguments)  # type: ignore[arg-type]
            sent.append(len(text))
            return text

    async def run() -> None:
        with screen_on(desk, tmp_path) as (app, _):
            async with app.run_test(size=(160, 40)) as pilot:
                await pilot.pause(0.3)
                lines = drawn(app)
                memory = Counted()
                everything = memory.changes([(0, y, strip) for y, strip in enumerate(lines)], (160, 40),
                                            ColorSystem.TRUECOLOR)
                await pilot.press("right")
                await pilot.pause(0.2)
                arrow = memory.changes([(0, y, strip) for y, strip in enumerate(drawn(app))], (160, 40),
                                       ColorSystem.TRUECOLOR)
                assert isinstance(app, App) and 0 < len(arrow) < 2000 < len(everything) < 40000
    asyncio.run(run())
    assert len(sent) == 2
