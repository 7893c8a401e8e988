"""Labels that read from far away: block letters, places on the board, cells that are measured; and one real screen."""

from __future__ import annotations

import itertools
import random

import pytest
from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from brass_pebble.core.desk.look.arrange import side_by_side
from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.label.block_letters import (
    BROAD,
    SLIM,
    block_label,
    common_size,
    fits,
    largest_size,
    letter_sizes,
)
from brass_pebble.screen.base.palette import BASALT
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.caps import NARROW, CapState, LabelStyle, draw_cap
from brass_pebble.screen.widgets.placing import LARGEST, Box, bands
from brass_pebble.screen.widgets.short_labels import CUT, fit
from brass_pebble.screen.widgets.trace_list import in_rows
from terminal import Terminal

_DOTS = {char: (number & 1, number >> 1 & 1, number >> 2 & 1, number >> 3 & 1)
         for number, char in enumerate(" ▘▝▀▖▌▞▛▗▚▐▜▄▙▟█")}


def dots(rows: tuple[str, ...]) -> list[str]:
    """Block letters as rows of dots again."""
    found = []
    for row in rows:
        cells = [_DOTS[char] for char in row]
        found += ["".join("#" * a or "." for cell in cells for a in cell[:2]),
                  "".join("#" * a or "." for cell in cells for a in cell[2:])]
    return found


def test_a_letter_is_drawn_as_its_table_has_it() -> None:
    # Stretched by whole numbers, here every dot twice across: a letter is never slender.
    assert dots(block_label("T", 3, 3)) == ["######", *["..##.."] * 4, "......"] and block_label("T", 2, 3) == ()
    # Where a font may lack quadrants, a dot is a whole cell.
    assert block_label("T", 6, 5, whole=True) == ("██████", *["  ██  "] * 4)
    # Small letters look like capitals, an accent stands above.
    assert block_label("oven", 12, 3) == block_label("OVEN", 12, 3)
    accented = dots(block_label("É", 3, 3))
    assert accented == ["....##", "######", "##....", "####..", "##....", "######"]
    # Letters that look alike are alike in every script.
    assert block_label("ТЕСТ", 20, 4) == block_label("TECT", 20, 4)


def test_letters_never_leave_their_cap_and_grow_with_it() -> None:
    rand = random.Random(5)
    letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789 /-+äéñžЖЯ"
    for _ in range(400):
        text = "".join(rand.choice(letters) for _ in range(rand.randint(1, 9))).strip() or "x"
        width, height = rand.randint(1, 60), rand.randint(1, 14)
        rows = block_label(text, width, height)
        assert len(rows) <= height and all(len(row) <= width for row in rows)
        size, larger = largest_size(text, width, height), largest_size(text, width + 8, height + 4)
        assert bool(rows) == (size is not None)
        assert size is None or (larger is not None and larger.reach >= size.reach)
    assert block_label("朝", 40, 10) == () and block_label("مرحبا", 40, 10) == ()


def test_no_letter_gets_larger_than_it_may() -> None:
    slim = next(size for size in reversed(letter_sizes()) if size.face is SLIM)
    assert len(block_label("rye", 60, 12, slim)) == 3 < len(block_label("rye", 60, 12))
    for whole in (False, True):
        sizes = letter_sizes(whole=whole)
        assert any(size.face is BROAD for size in sizes)
        # Without an exception: what is more than three times as high as wide is hard to read.
        assert all(1.0 <= size.high / size.wide <= 3.0 and size.whole is whole for size in sizes)


def test_labels_side_by_side_have_letters_of_one_size_or_none() -> None:
    rooms = [("rec", 40, 8), ("close", 40, 8), ("music off", 40, 8)]
    size = common_size(rooms, 1.0)
    assert size is not None and all(fits(text, size, wide, high) for text, wide, high in rooms)
    larger = common_size(rooms, 0.3)
    assert larger is not None and larger.reach > size.reach
    # Only as many as asked for have to fit; one that cannot be drawn in blocks fits nowhere.
    assert common_size([*rooms, ("朝", 40, 8)], 1.0) is None and common_size([*rooms, ("朝", 40, 8)], 0.7) == size
    assert common_size([], 1.0) is None and common_size([("close", 6, 1)], 1.0) is None


def test_letters_that_are_taken_for_one_another_differ() -> None:
    for face in (SLIM, BROAD):
        size = next(size for size in letter_sizes() if size.face is face)
        for group in ("OD0UQ", "VUWMNH", "KXHZ2", "Z27", "S5830", "B83", "MWNH"):
            for one, other in itertools.combinations(group, 2):
                rows, others = (dots(block_label(letter, 99, 99, size)) for letter in (one, other))
                wide, high = max(len(rows[0]), len(others[0])), max(len(rows), len(others))
                cells = [[row.ljust(wide, ".") for row in letter] + ["." * wide] * (high - len(letter))
                         for letter in (rows, others)]
                apart = sum(a != b for row, beside in zip(*cells, strict=True)
                            for a, b in zip(row, beside, strict=True))
                assert apart >= 2 * size.across * size.down, (face.name, one, other)


def test_two_words_stand_below_one_another_where_that_is_larger() -> None:
    assert len(block_label("next cam", 18, 6)) == 6 and block_label("next cam", 18, 3) == ()


@pytest.mark.parametrize("text", ["朝の準備", "مرحبا بك", "e\u0301te\u0301", "👩\u200d🍳 dough", "ｗｉｄｅ", "ไทย",
                                  "Ünï\u0308cødé", "plain"])
def test_a_label_of_any_script_keeps_the_drawing_whole(text: str) -> None:
    for width in range(4, 40):
        for height in (3, 4, 6):
            canvas = Canvas(width + 6, height + 2, paint(BASALT.text, BASALT.ground))
            row = ControlRow(id="a", code="Pad1", x=0, y=0, w=1, h=1, legend="准 1", kind="tap", label=text, glyph="•")
            draw_cap(canvas, row, (3, 1, width, height), CapState(), BASALT, LabelStyle(rivals=frozenset({text + "!"})))
            strips = canvas.strips()
            assert all(cell_len(strip.text) == canvas.width for strip in strips)
            # Left and right of the cap nothing was written, and its right edge stands where it belongs.
            assert all(strip.text[:3] == "   " and strip.text[-3:] == "   " for strip in strips)
            if width > NARROW:
                assert strips[height].text.rstrip()[-1] == "╯"


def test_what_is_written_over_half_a_wide_character_takes_it_away() -> None:
    canvas, style = Canvas(8, 1, paint(BASALT.text, BASALT.ground)), paint(BASALT.text, BASALT.ground)
    canvas.put(0, 0, "朝の朝の", style)
    canvas.put(3, 0, "|", style)
    canvas.put(4, 0, "|", style)
    assert canvas.strips()[0].text == "朝 || の"
    canvas.put(7, 0, "朝", style)
    assert cell_len(canvas.strips()[0].text) == 8


def test_a_sentence_in_few_rows_loses_no_letter() -> None:
    text = Text('Left numpad 4, press, in Class: played “Oven close-up”; 18 key events over 2.64 s, and more.')
    for width in range(20, 110):
        for rows in (1, 2, 3):
            lines = in_rows(text, Console(width=200), width, rows)
            assert len(lines) <= rows and all(cell_len(line.plain.rstrip()) <= width for line in lines[:-1])
            assert "".join("".join(line.plain.split()) for line in lines) == "".join(text.plain.split()), width


def test_a_short_form_stands_for_a_label_where_letters_are_large() -> None:
    size = largest_size("REC", 20, 5)
    assert size is not None
    for far, letters in (("rec", "REC"), ("", "")):
        control = ControlRow(id="1", code=1, x=0, y=0, w=1, h=1, legend="1", kind="tap", label="recording", far=far)
        canvas = Canvas(22, 7, paint(BASALT.text, BASALT.ground))
        draw_cap(canvas, control, (0, 0, 22, 7), CapState(), BASALT, LabelStyle(large=size))
        shown = "\n".join(strip.text for strip in canvas.strips())
        if letters:
            assert all(row.strip() in shown for row in block_label(letters, 20, 5, size)) and "recording" not in shown
        else:
            assert "recording" in shown
        canvas = Canvas(22, 7, paint(BASALT.text, BASALT.ground))
        draw_cap(canvas, control, (0, 0, 22, 7), CapState(), BASALT)
        assert "recording" in "\n".join(strip.text for strip in canvas.strips())


def test_short_labels_stay_apart_and_say_when_they_are_cut() -> None:
    labels = ["soft bell", "loud bell", "title", "titles", "camera 1", "camera 2", "next camera", "record", "rec"]
    for width in range(3, 12):
        shown = [fit(label, width, labels) for label in labels]
        assert all(cell_len(text) <= width for text in shown)
        assert all(text == label or len(text) >= 5 or CUT in text for text, label in zip(shown, labels, strict=True))
        if width >= 5:
            assert len(set(shown)) == len(labels), shown


def test_the_width_goes_to_the_columns_with_the_narrowest_caps() -> None:
    desk = [Box(0, 0, 4, 5), Box(4.7, 0, 4, 5), Box(9.4, 0, 6.4, 1.4, 2.0), Box(9.4, 1.6, 6.4, 2.4, 0.0)]
    columns = bands(desk, 160)
    assert [column.scale for column in columns[:2]] == [14, 14] and columns[2].cells >= 44
    assert columns[-1].at + columns[-1].cells <= 159
    # Nothing overlaps, at any width at which the smallest caps fit.
    for width in range(76, 300):
        columns = bands(desk, width)
        assert all(one.at + one.cells < two.at for one, two in itertools.pairwise(columns))
        assert columns[-1].at + columns[-1].cells < width and all(5 <= c.scale <= LARGEST[0] for c in columns[:2])
    assert [column.scale for column in bands(desk, 80)[:2]] == [6, 6]


def test_the_rows_of_a_desk_stand_side_by_side_where_that_is_larger() -> None:
    rows = [(15.8, 5.3), (8.5, 4.3), (8.0, 4.3)]
    assert side_by_side(rows, 32, 9.3) != [0, 0, 0]
    assert side_by_side(rows, 16, 27) == [0, 0, 0]
    assert side_by_side([(4.0, 5.0)], 16, 8) == [0]


def test_the_desk_shows_plain_labels_and_large_ones_when_asked_or_alone() -> None:
    demo = Terminal("demo", large=True)
    try:
        shown = demo.wait("No press yet")
        for label in ("wide", "record", "marker", "next cam", "softer", "music off"):
            assert label in shown, label
        demo.keys("T")
        demo.wait("large on every surface")
        # A surface alone has the room for it.
        demo.keys("z")
        demo.wait(lambda screen: "RIGHT NUMPAD" not in screen and ("▀" in screen or "▄" in screen))
        demo.keys("z", "z", "T")
        demo.wait("plain everywhere")
        demo.wait(lambda screen: "record" in screen and "softer" in screen and "█" not in screen)
        # The choice is remembered.
        demo.keys("q")
        demo.wait("ended with 0")
        again = Terminal("demo", large=True)
        again.wait("next cam")
        again.keys("z")
        again.wait(lambda screen: "RIGHT NUMPAD" not in screen and "record" in screen)
        again.close()
        small = Terminal("demo", size=(80, 24), large=True)
        small.wait("No press yet")
        for label in ("wide", "close", "table", "guest", "crust", "recrd", "titls", "music off", "next cam", "marker"):
            assert label in small.screen(), label
        small.close()
    finally:
        demo.close()
