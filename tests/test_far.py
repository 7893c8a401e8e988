"""Labels that read from far away: block letters, places on the board, cells that are measured; and one real screen."""

from __future__ import annotations

import itertools
import random

import pytest
from rich.cells import cell_len

from brass_pebble.core.desk.look.arrange import side_by_side
from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.label.block_letters import BROAD, SLIM, block_label, largest_size, letter_sizes
from brass_pebble.screen.base.palette import BASALT
from brass_pebble.screen.widgets.canvas import Canvas, paint
from brass_pebble.screen.widgets.caps import CapState, LabelStyle, draw_cap
from brass_pebble.screen.widgets.placing import LARGEST, Box, bands
from brass_pebble.screen.widgets.short_labels import CUT, fit
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
    assert dots(block_label("T", 2, 3)) == ["###.", ".#..", ".#..", ".#..", ".#..", "...."]
    # Stretched by whole numbers: every dot twice across.
    assert dots(block_label("T", 3, 3))[0] == "######" and dots(block_label("T", 3, 3))[1] == "..##.."
    # Small letters look like capitals, an accent stands above.
    assert block_label("oven", 12, 3) == block_label("OVEN", 12, 3)
    assert dots(block_label("É", 2, 3)) == ["..#.", "###.", "#...", "##..", "#...", "###."]
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
    assert any(size.face is BROAD for size in letter_sizes())


def test_two_words_stand_below_one_another_where_that_is_larger() -> None:
    assert len(block_label("next cam", 12, 6)) == 6 and block_label("next cam", 12, 3) == ()


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
            assert strips[height].text.rstrip()[-1] == "╯"


def test_what_is_written_over_half_a_wide_character_takes_it_away() -> None:
    canvas, style = Canvas(8, 1, paint(BASALT.text, BASALT.ground)), paint(BASALT.text, BASALT.ground)
    canvas.put(0, 0, "朝の朝の", style)
    canvas.put(3, 0, "|", style)
    canvas.put(4, 0, "|", style)
    assert canvas.strips()[0].text == "朝 || の"
    canvas.put(7, 0, "朝", style)
    assert cell_len(canvas.strips()[0].text) == 8


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


def test_the_desk_shows_its_labels_in_letters_of_three_rows_and_plain_ones_when_asked() -> None:
    demo = Terminal("demo", large=True)
    try:
        shown = demo.wait("No press yet")
        for label, width in (("wide", 12), ("record", 12), ("marker", 12), ("next cam", 26), ("softer", 12)):
            for row in block_label(label, width, 3 if label != "softer" else 8):
                assert row.strip() in shown, label
        assert "wide" not in shown.replace("◉wide", "")
        demo.keys("T")
        demo.wait(lambda screen: "record" in screen and "softer" in screen)
        # The choice is remembered.
        demo.keys("q")
        demo.wait("ended with 0")
        again = Terminal("demo", large=True)
        again.wait("next cam")
        again.close()
        small = Terminal("demo", size=(80, 24), large=True)
        small.wait("No press yet")
        for label in ("wide", "close", "table", "guest", "crust", "recrd", "titls", "music off", "next cam"):
            assert label in small.screen(), label
        small.close()
    finally:
        demo.close()
