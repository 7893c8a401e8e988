"""Drawings: those that ship, those proposed, those walked key by key, and what editing does to them."""

from __future__ import annotations

import tomllib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.core.devices.identity import DeviceFacts
from brass_pebble.core.devices.layout import Control, Layout, read_layout, write_layout
from brass_pebble.core.devices.proposal import propose
from brass_pebble.core.devices.walk import Learning, Walk, leave_out, move, rename, resize
from brass_pebble.core.signals.keys import key_table
from brass_pebble.paths import SHIPPED_LAYOUTS


def load(file: Path) -> Layout:
    text = file.read_text()
    layout, problems = read_layout(tomllib.loads(text), id=file.stem, file=file.name, text=text)
    assert not problems, problems
    return layout


SHIPPED = {file.stem: load(file) for file in sorted(SHIPPED_LAYOUTS.glob("*.toml"))}


def code(name: str) -> int:
    return key_table().find(name).code


def test_shipped_drawings_are_whole() -> None:
    counts = {name: len(layout.controls) for name, layout in SHIPPED.items()}
    assert counts["full-ansi"] == 104 and counts["full-iso"] == 105
    assert counts["tenkeyless-ansi"] == 87 and counts["tenkeyless-iso"] == 88
    assert counts["compact-60-ansi"] == 61 and counts["compact-60-iso"] == 62
    assert [counts[f"pedals-{n}"] for n in (1, 2, 3, 4)] == [1, 2, 3, 4]
    for name, layout in SHIPPED.items():
        assert len({c.id for c in layout.controls}) == len(layout.controls), name
        assert len({c.code for c in layout.controls}) == len(layout.controls), name


def keys_of(layout: str, *others: str) -> tuple[int, ...]:
    return tuple({c.code for c in SHIPPED[layout].controls} | {code(name) for name in others})


EVERYTHING = tuple(c for c in range(1, 248) if c not in (84, 195, 196, 197, 198, 199))


@pytest.mark.parametrize(("name", "codes", "expected"), [
    ("Marram", keys_of("numpad"), "numpad"),
    ("Marram numeric pad", EVERYTHING, "numpad"),
    ("Harbour keyboard", keys_of("full-ansi"), "full-ansi"),
    ("Harbour keyboard", EVERYTHING, "full-ansi"),
    ("Harbour 60% keyboard", keys_of("compact-60-ansi"), "compact-60-ansi"),
    ("Wick", keys_of("tenkeyless-ansi", "Mute", "VolumeUp"), "tenkeyless-ansi"),
    ("Wick", keys_of("compact-60-ansi"), "compact-60-ansi"),
    ("Tern board", (30, 48, 46), "pedals-3"),
    ("Tern foot switch", (48,), "pedals-1"),
    ("Tern foot switch", (30, 48, 46, 32), "pedals-4"),
    ("Kettle", tuple(range(183, 189)), "grid-3x2"),
    ("Kettle", (*range(183, 189), 113, 114, 115), "knob-pad-6"),
    ("Juniper", tuple(c.code for c in SHIPPED["controller"].controls), "controller"),
    ("Juniper stream pad", tuple(range(2, 17)), "grid-5x3"),
])
def test_the_likeliest_drawing_comes_first(name: str, codes: tuple[int, ...], expected: str) -> None:
    found = propose(DeviceFacts("x", name, codes=codes), SHIPPED.values())
    assert found[0].layout.id == expected, [(p.layout.id, p.points) for p in found[:4]]
    assert found[0].why
    if found[0].layout.any_keys and found[0].keys:
        assert sorted(found[0].keys.values()) == sorted(codes)


def test_a_drawing_made_for_this_make_wins() -> None:
    mine = Layout("mine", "Mine", SHIPPED["grid-3x3"].controls, fits=("4d52:0011",))
    facts = DeviceFacts("x", "Marram numeric pad", vendor="4d52", product="0011", codes=keys_of("numpad"))
    assert propose(facts, [*SHIPPED.values(), mine])[0].layout.id == "mine"


def test_a_device_without_keys_gets_no_drawing() -> None:
    assert propose(DeviceFacts("x", "Lamp"), SHIPPED.values()) == []


def test_walking_in_reading_order_draws_rows() -> None:
    walk = Walk(Layout("new", "New", ()), row_key=code("Enter"))
    for name in ("Q", "W", "E", "Enter", "A", "S", "Enter", "Enter", "Z"):
        walk.press(code(name))
    rows: dict[float, list[str]] = {}
    for control in walk.layout.controls:
        rows.setdefault(control.y, []).append(control.legend)
    # Twice in a row: the row key itself, at the end of the row that it closed.
    assert rows == {0: ["q", "w", "e"], 1: ["a", "s", "enter"], 2: ["z"]}
    assert walk.press(code("W")).words == "“w” is drawn already"
    assert len(walk.layout.controls) == 7


def test_learning_which_pedal_sends_what() -> None:
    learning = Learning(SHIPPED["pedals-4"])
    assert learning.wanted == "far-left"
    learning.press(code("C"))
    assert learning.press(code("C")).words == "that is “far-left” already; press “left”"
    learning.press(code("X"))
    learning.back()
    assert learning.wanted == "left"
    learning.press(code("A"))
    learning.skip()
    learning.press(code("PageDown"))
    assert learning.wanted == ""
    assert learning.press(code("F1")).words == "all are known"
    assert [(c.id, c.code) for c in learning.result().controls] == [
        ("far-left", code("C")), ("left", code("A")), ("far-right", code("PageDown"))]


def walked() -> Layout:
    walk = Walk(Layout("new", "New", ()))
    for name in "QWE":
        walk.press(code(name))
    walk.new_row()
    walk.press(code("A"))
    return walk.layout


def places(layout: Layout) -> dict[str, tuple[float, float, float, float]]:
    return {c.id: (c.x, c.y, c.w, c.h) for c in layout.controls}


def test_editing_keeps_a_row_together() -> None:
    layout = resize(walked(), "q", wider=0.5)
    assert places(layout)["w"] == (1.5, 0, 1, 1) and places(layout)["a"] == (0, 1, 1, 1)
    layout = move(layout, "w", 0.25, 0)
    assert places(layout)["e"] == (2.75, 0, 1, 1)
    # Not over its neighbour.
    assert places(move(layout, "w", -3, 0))["w"] == (1.5, 0, 1, 1)
    assert places(resize(layout, "a", taller=1))["a"] == (0, 1, 1, 2)
    assert places(resize(layout, "a", wider=-9))["a"][2] == 0.5
    assert "e" not in places(leave_out(layout, "e"))
    assert rename(layout, "e", " cut ").controls[2].legend == "cut"
    assert rename(layout, "e", " ").controls[2].legend == "e"


@given(st.lists(st.tuples(st.sampled_from(["wider", "taller", "right", "left"]), st.sampled_from("qwea")), max_size=12))
def test_edits_never_lay_keys_of_a_row_on_each_other(edits: list[tuple[str, str]]) -> None:
    layout = walked()
    for what, name in edits:
        if what in ("right", "left"):
            layout = move(layout, name, 0.25 if what == "right" else -0.25, 0)
        else:
            layout = resize(layout, name, **{what: 0.25})
    for row in (0.0, 1.0):
        ends = 0.0
        for control in [c for c in layout.controls if c.y == row]:
            assert control.x >= ends - 1e-9
            ends = control.x + control.w


def test_a_drawing_survives_being_written_and_read() -> None:
    layout = Layout("odd", 'Odd "pad" \\ ÷', (
        Control("a", code("A"), 0, 0, 1.25, 1, "two\nlines"), Control("b c", 250, 1.25, 0, 1, 2, "b c")),
        fits=("4d52:0011",), any_keys=True)
    again, problems = read_layout(tomllib.loads(write_layout(layout)), id="odd", file="odd.toml")
    assert problems == []
    assert again == layout
