"""Typing for other keyboard layouts, checked by the system's own XKB: what is sent, read back under that layout."""

from __future__ import annotations

import contextlib
import ctypes
import time
from collections.abc import Callable

import pytest

from brass_pebble.core.desk.look.clashes import find_clashes
from brass_pebble.core.desk.look.lettered import notice
from brass_pebble.core.desk.read.desk import read_desk
from brass_pebble.core.effects.kinds import tell
from brass_pebble.core.macro.asks import CatchUp
from brass_pebble.core.macro.reader import read_macro
from brass_pebble.core.macro.value.kinds import Given
from brass_pebble.core.play.plan import Planner
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.signals.keymap import type_out
from brass_pebble.core.signals.keys import Chord, key_table, parse_chord
from brass_pebble.kinds.outputs.xkb import XkbTypist, _library, _Names, typist
from standstill import took

LAYOUTS = ["us", "de", "fr", "gb", "es", "us(dvorak)"]
# xkbcommon/xkbcommon-compose.h
COMPOSING, COMPOSED, CANCELLED = 1, 2, 3
UP, DOWN = 0, 1
CAPS = 58


def reader(name: str) -> tuple[ctypes.CDLL, int, int]:
    """The library, a state of the layout, and a compose state, as a receiving program has them."""
    library = _library()
    pointer = ctypes.c_void_p
    for call, result, arguments in (
            ("xkb_compose_table_new_from_locale", pointer, [pointer, ctypes.c_char_p, ctypes.c_int]),
            ("xkb_compose_state_new", pointer, [pointer, ctypes.c_int]),
            ("xkb_compose_state_feed", ctypes.c_int, [pointer, ctypes.c_uint32]),
            ("xkb_compose_state_get_status", ctypes.c_int, [pointer]),
            ("xkb_compose_state_get_utf8", ctypes.c_int, [pointer, ctypes.c_char_p, ctypes.c_size_t]),
            ("xkb_compose_state_reset", None, [pointer]),
            ("xkb_state_update_key", ctypes.c_int, [pointer, ctypes.c_uint32, ctypes.c_int]),
            ("xkb_state_key_get_utf8", ctypes.c_int, [pointer, ctypes.c_uint32, ctypes.c_char_p, ctypes.c_size_t])):
        function = getattr(library, call)
        function.restype, function.argtypes = result, arguments
    context = library.xkb_context_new(0)
    layout, _, variant = name.partition("(")
    names = _Names(b"evdev", b"pc105", layout.encode(), variant.rstrip(")").encode(), b"")
    state = library.xkb_state_new(library.xkb_keymap_new_from_names(context, ctypes.byref(names), 0))
    table = library.xkb_compose_table_new_from_locale(context, b"en_US.UTF-8", 0)
    assert table, "the system's compose table is missing (libx11-data)"
    return library, state, library.xkb_compose_state_new(table, 0)


def received(name: str, strokes: Callable[[str], tuple[Chord, ...]], text: str, *, locked: bool = False) -> str:
    """What a program with this layout reads when `text` is typed."""
    library, state, compose = reader(name)
    places = typist(name).places
    buffer = ctypes.create_string_buffer(64)
    out: list[str] = []
    if locked:
        library.xkb_state_update_key(state, CAPS + 8, DOWN)
        library.xkb_state_update_key(state, CAPS + 8, UP)
    for char in text:
        for chord in strokes(char):
            for code in map(places.place, chord.codes):
                sym = library.xkb_state_key_get_one_sym(state, code + 8)
                library.xkb_compose_state_feed(compose, sym)
                status = library.xkb_compose_state_get_status(compose)
                if status == COMPOSED:
                    library.xkb_compose_state_get_utf8(compose, buffer, 64)
                    out.append(buffer.value.decode())
                    library.xkb_compose_state_reset(compose)
                elif status == CANCELLED:
                    out.append("✗")
                    library.xkb_compose_state_reset(compose)
                elif status != COMPOSING and library.xkb_state_key_get_utf8(state, code + 8, buffer, 64):
                    out.append(buffer.value.decode())
                library.xkb_state_update_key(state, code + 8, DOWN)
            for code in map(places.place, reversed(chord.codes)):
                library.xkb_state_update_key(state, code + 8, UP)
    return "".join(out).replace("\r", "\n")


@pytest.mark.parametrize("locked", [False, True])
@pytest.mark.parametrize("name", LAYOUTS)
def test_every_character_of_a_layout_comes_back(name: str, locked: bool) -> None:
    layout = XkbTypist(name)
    text = "".join(layout.typable)
    assert len(text) >= 97
    typed = [char for char in text if _has(layout, char, locked)]
    back = received(name, lambda char: layout.strokes(char, locked=locked), "".join(typed), locked=locked)
    wrong = [(a, b) for a, b in zip(typed, back, strict=False) if a != b]
    assert back == "".join(typed), wrong[:10]
    # Caps Lock takes nothing away that people write.
    assert set("abcxyzABCXYZ0189 .,;:!?\n") <= set(typed)


@pytest.mark.parametrize("locked", [False, True])
@pytest.mark.parametrize("name", LAYOUTS)
def test_any_text_is_right_whatever_caps_lock_is(name: str, locked: bool) -> None:
    layout = XkbTypist(name)
    # Dead keys beside Caps Lock are told apart by the test before.
    text = "".join(char for char in layout.typable if len(layout.strokes(char)) == 1)
    typed = list(type_out(layout, text, locked=locked))
    strokes = [stroke for _, chords in typed for stroke in chords]
    back = received(name, lambda index: (strokes[ord(index)],), "".join(map(chr, range(len(strokes)))), locked=locked)
    assert back == text
    # The lamp is as it was before.
    assert sum(chord.codes == (CAPS,) for chord in strokes) in (0, 2)


@pytest.mark.parametrize(("name", "moved"), [
    ("de", {"Z": 21, "Y": 44, "Minus": 53}), ("fr", {"A": 16, "Q": 30, "Z": 17, "W": 44, "M": 39}), ("gb", {}),
    ("us(dvorak)", {"S": 39, "Semicolon": 44, "A": 30})])
def test_a_letter_in_a_chord_is_the_key_that_types_it(name: str, moved: dict[str, int]) -> None:
    places = typist(name).places
    for key, place in moved.items():
        assert places.place(key_table().find(key).code) == place
        assert key_table().name(places.name(place)) == key
    library, state, _ = reader(name)
    buffer = ctypes.create_string_buffer(64)
    for letter in "ABCDEFGHIJKLMNOPQRSTUVWXYZ":
        code = places.settle(parse_chord(letter).codes)[0]
        library.xkb_state_key_get_utf8(state, places.place(code) + 8, buffer, 64)
        assert buffer.value.decode() == letter.lower()
        # The place is meant where it says so, and what is at a place has one name only.
        placed = places.settle(parse_chord(f"Place{letter}").codes)[0]
        assert places.place(placed) == key_table().find(letter).code
        assert places.name(places.place(placed)) == placed


def test_chords_of_bindings_and_macros_are_laid_for_the_layout_and_told_as_written() -> None:
    german = typist("de")
    macro, problems = read_macro("tap Ctrl+Z\nkeep Shift down\n  tap PlaceZ", typist=german)
    assert not problems
    codes = [code for code, value in zip(macro.timetable.codes, macro.timetable.values, strict=True) if value]
    assert [tell(code, 1) for code in codes] == ["Ctrl", "Z", "Shift", "Y"]
    assert [german.places.place(code) for code in codes] == [29, 21, 42, 44]
    desk, _ = read_desk({"keyboard": "de", "surface": {"pad": {"layer": {"base": {"press": {
        "A": {"tap": "Ctrl+Y"}, "B": {"tap": "Ctrl+PlaceZ"}, "Z": {"do": "pass through"}}}}}}}, text="", file="",
        layouts=lambda name: None, layout_names=(), macros={"undo": macro}, broken_macros={}, places=german.places)
    planner = Planner(desk)
    for control, sent in ((30, [29, 44]), (48, [29, 44]), (44, [44])):
        answer = planner.plan(desk.surfaces["pad"], control, ("base",)).press
        assert answer.timetable is not None
        assert [german.places.place(code) for code in answer.first] == sent
    # What two bindings send alike is found, however it is written.
    assert any(clash.kind == "duplicate" for clash in find_clashes(desk, []))
    told = notice(desk)
    assert told is not None and "Ctrl+Y" in told.what and "PlaceY" in told.hint


def _has(layout: XkbTypist, char: str, locked: bool) -> bool:
    try:
        layout.strokes(char, locked=locked)
        return True
    except ProblemError:
        return False


@pytest.mark.parametrize(("name", "text"), [
    ("de", "Süße Brötchen: 3 €, \\ [x] {y} @ ~ ´ ^ ê É"), ("fr", "Été à Noël, ça coûte 5 € @ #"),
    ("es", "¿Qué pasó, señor? ¡Ñandú! ü"), ("gb", 'It costs £5, "quoted" @ #'), ("us(dvorak)", "Sourdough, 24 hours!"),
    ("us", "Rye: 24 hours? \"Yes\"")])
def test_sentences_people_write(name: str, text: str) -> None:
    layout = typist(name)
    assert received(name, layout.strokes, text) == text


def test_what_cannot_be_typed_is_said_before_the_run_with_a_way_out() -> None:
    macro, problems = read_macro('tap A\ntype "кнопка"', file="m.macro", typist=typist("de"))
    assert str(problems[0]) == ("m.macro:2:7: the de layout cannot type “к”. Leave it out, or write paste instead of "
                                "type: that goes through the clipboard")
    assert list(macro.timetable.times) == []


@pytest.mark.parametrize(("name", "said"), [
    ("nowhere", "there is no keyboard layout “nowhere” on this system"),
    ("de; rm", "“de; rm” is not the name of a keyboard layout")])
def test_layouts_that_are_none(name: str, said: str) -> None:
    with pytest.raises(ProblemError, match=said.replace("(", r"\(")):
        typist(name)


@pytest.mark.parametrize("text", [
    pytest.param('type "' + "abc " * 2_400 + '"\nshow "x"\n', id="a long text"),
    pytest.param("type lines clearing indents\n" + "  a\n" * 6_000 + 'show "x"\n', id="many short lines"),
    pytest.param("type lines\n" + "  ab\n" * 6_000 + 'show "x"\n', id="lines"),
])
def test_a_very_long_text_is_laid_in_pieces(text: str) -> None:
    """Seen: presses stood for four seconds, while a text of 150,000 lines was laid in one go."""
    macro, problems = read_macro(text)
    assert not problems and macro.score is not None
    timeline, laying = macro.score.start(Given())
    most = before = 0
    answer = None
    with contextlib.suppress(StopIteration):
        while True:
            ask = laying.send(answer)
            answer = None if isinstance(ask, CatchUp) else True
            laid = len(timeline.timetable.times)
            most, before = max(most, laid - before), laid
    assert before > 9_000 and most < 900
    # To a clock everything is put into order first, and so laid in one go.
    macro, problems = read_macro('clock 120\n  type "' + "abc " * 100 + '"\n')
    assert not problems and list(macro.timetable.times) == sorted(macro.timetable.times)


def test_a_chord_that_is_a_novel_is_refused_at_once() -> None:
    macro, _ = read_macro('tap chord said\n')
    assert macro.score is not None
    _, laying = macro.score.start(Given({"said": "Ctrl+" * 200_000}))
    began = time.monotonic()
    with pytest.raises(ProblemError, match="a text of 1,000,000 characters is not a chord"):
        laying.send(None)
    assert took(began) < 0.5
