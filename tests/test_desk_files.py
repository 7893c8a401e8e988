"""The desk on disk: read with exact complaints, edited with its comments kept, undone, locked."""

from __future__ import annotations

import os
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest

from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.disk.edits import Edit, Row, apply_edit, binding_edit
from brass_pebble.engine.disk.store import DeskBusy, DeskStore


@pytest.fixture
def store(desk: Path, tmp_path: Path) -> DeskStore:
    return DeskStore(desk, tmp_path / "versions")


def broken(store: DeskStore, old: str, new: str) -> list[str]:
    text = store.file.read_text()
    assert old in text
    store.file.write_text(text.replace(old, new, 1))
    return [str(problem) for problem in store.load().problems]


def test_the_demo_desk_is_read_whole(store: DeskStore) -> None:
    loaded = store.load()
    assert loaded.problems == []
    desk = loaded.desk
    assert (desk.name, desk.output, list(desk.surfaces)) == (
        "Saltmarsh Bakehouse", "stage", ["left-numpad", "right-numpad", "pedals", "pads", "dial", "controller",
                                         "booth"])
    left, right = desk.surfaces["left-numpad"], desk.surfaces["right-numpad"]
    assert len(left.layout.controls) == 17
    assert left.answer("5", "press", ("class",))[1].action.target == "Ctrl+Alt+5"
    assert right.answer("5", "press")[1].action.target == "F16"
    assert right.answer("1", "press") is None
    assert set(desk.macros) == {file.stem for file in (store.folder / "macros").glob("*.macro")}


@pytest.mark.parametrize(("old", "new", "complaint"), [
    ('tap = "Ctrl+Alt+2"', 'tap = "Ctrl+Alr+2"',
     "desk.toml:LINE:14: there is no key called “Alr”. Did you mean Alt?"),
    ('play = "oven-close-up"', 'play = "oven-closeup"',
     "desk.toml:LINE:15: there is no macro “oven-closeup”. Did you mean oven-close-up?"),
    ('layout = "pedals-3"', 'layout = "pedal-3"',
     "desk.toml:LINE:11: there is no layout “pedal-3”. Did you mean pedals-3?"),
    ('sustain = "Ctrl+M"', 'sustian = "Ctrl+M"', "desk.toml:LINE:10: “left” has no action. Did you mean sustain?"),
    ('tap = "40ms" ', 'tap = "40" ', "desk.toml:LINE:8: “40” has no unit. Write 40ms or 40s"),
    ('output = "stage"', 'output = "stge"',
     "desk.toml:LINE:11: “stge” is not a value for “output”. Did you mean stage?"),
    ('do = "stop everything"', 'do = "stop everthing"',
     "desk.toml:LINE:17: “stop everthing” is not something that can be done here. Did you mean stop everything?"),
    ('tint = "sky" }', 'tint = "skye" }', "desk.toml:LINE:51: “skye” is not a value for “tint”. Did you mean sky?"),
    ("[surface.pedals]", "[surfaces.pedals]", "desk.toml:LINE:2: “surfaces” is not known here. Did you mean surface?"),
    ("right = {", "rigth = {", "desk.toml:LINE:1: “Floor pedals” has no control “rigth”. Did you mean right?"),
    ("format = 1", "format = 9", "desk.toml:LINE:1: this desk has format 9. This program reads format 1"),
])
def test_a_mistake_is_told_with_its_place_and_the_rest_stands(store: DeskStore, old: str, new: str,
                                                              complaint: str) -> None:
    text = store.file.read_text()
    line = text[:text.index(old)].count("\n") + 1
    assert complaint.replace("LINE", str(line)) in broken(store, old, new)
    assert store.load().ok
    assert "left-numpad" in store.load().desk.surfaces


def test_a_file_that_is_no_toml_is_told_and_left_alone(store: DeskStore) -> None:
    line = store.file.read_text().split("[surface.pedals]")[0].count("\n") + 1
    (problem,) = broken(store, "[surface.pedals]", "[surface.pedals")
    assert problem.startswith(f"desk.toml:{line}:16: ")
    text = store.file.read_text()
    assert not store.load().ok
    with pytest.raises(ProblemError, match=f"mistake in line {line}, so nothing was changed"):
        store.change(binding_edit("left-numpad", "class", "7", "tap", "A"))
    assert store.file.read_text() == text


def test_a_broken_macro_keeps_the_others(store: DeskStore) -> None:
    (store.folder / "macros" / "welcome.macro").write_text("tpa A\n")
    loaded = store.load()
    assert [str(p) for p in loaded.problems] == ["macros/welcome.macro:1:1: “tpa” is not a step. Did you mean tap?"]
    assert "rye-title" in loaded.desk.macros
    assert "mistake in line 1" in loaded.desk.broken_macros["welcome"]
    (store.folder / "macros" / "welcome.macro").write_bytes(b"\xff\xfe")
    assert "cannot be read" in str(store.load().problems[0])


def test_an_edit_keeps_every_comment_and_all_other_lines(store: DeskStore) -> None:
    before = store.file.read_text().replace('label = "wide", tint = "sky" }', 'label = "wide", tint = "sky" }  # main')
    store.file.write_text(before)
    store.change(binding_edit("left-numpad", "class", "7", "sustain", "F20", settings={"label": "all", "tint": "rose"}))
    after = store.file.read_text()
    changed = [(a, b) for a, b in zip(before.splitlines(), after.splitlines(), strict=True) if a != b]
    assert changed == [('7 = { tap = "Ctrl+Alt+1", label = "wide", tint = "sky" }  # main',
                        '7 = {sustain = "F20", label = "all", tint = "rose"}  # main')]
    assert store.load().desk.surfaces["left-numpad"].answer("7", "press", ("class",))[1].action.kind == "sustain"
    first, second = store.log.entries()
    assert store.log.texts(first.number)["desk.toml"] == before and second.words == "left-numpad 7: sustain F20"


def test_undo_and_redo_bring_the_very_text_back(store: DeskStore) -> None:
    texts = [store.file.read_text()]
    for change in (("left-numpad", "class", "7", "tap", "F20"), ("pedals", "class", "left"),
                   ("right-numpad", "stings", "1", "play", "welcome")):
        store.change(binding_edit(*change))
        texts.append(store.file.read_text())
    assert len(set(texts)) == 4
    for text in reversed(texts[:-1]):
        store.undo()
        assert store.file.read_text() == text
    with pytest.raises(ProblemError, match="nothing to undo"):
        store.undo()
    for text in texts[1:]:
        store.redo()
        assert store.file.read_text() == text


@pytest.mark.parametrize("remark", ["", 'remark = """\n[surface.b]\n"""\n'])
def test_a_table_that_is_added_leaves_what_stands_above_the_next_one(remark: str) -> None:
    text = (f'format = 1\n\n[surface.a]\nlayout = "numpad"\n{remark}\n[surface.b]\nlayout = "numpad"\n\n'
            '# about c\n[surface.c]\nlayout = "numpad"\n')
    for surface in "abc":
        row = ("surface", surface, "layer", "base", "press", "7")
        after = apply_edit(text, Edit("x", ((row, Row({"tap": "A"})),)))
        assert tomllib.loads(after)["surface"][surface]["layer"]["base"]["press"]["7"] == {"tap": "A"}
        assert tomllib.loads(after)["surface"]["a"].get("remark", "") in ("", "[surface.b]\n")
        assert "\n\n[surface.b]\nlayout" in after
        # Where a text looks like tables, the whole is taken apart, and a remark goes to the table above it.
        assert remark or "\n\n# about c\n[surface.c]" in after


def test_undo_keeps_what_was_edited_elsewhere_meanwhile(store: DeskStore) -> None:
    store.change(binding_edit("left-numpad", "class", "7", "tap", "F20"))
    store.file.write_text(store.file.read_text().replace("# titles", "# titles and such"))
    store.undo()
    assert "# titles and such" in store.file.read_text()
    assert store.load().desk.surfaces["left-numpad"].answer("7", "press", ("class",))[1].action.target == "Ctrl+Alt+1"


@pytest.mark.parametrize("change", [
    ("left-numpad", "class", "7", "tap", "Ctlr+1"), ("left-numpad", "class", "7", "play", "nothing"),
    ("left-numpad", "nowhere", "7", "tap", "A"), ("nobody", "class", "7", "tap", "A"),
])
def test_an_impossible_change_writes_nothing(store: DeskStore, change: tuple[str, ...]) -> None:
    before = store.file.read_text()
    with pytest.raises(ProblemError):
        store.change(binding_edit(*change, macros=store.macro_names()))
    with pytest.raises(ProblemError):
        store.change(binding_edit("left-numpad", "class", "7", "tap", "A", settings={"label": "thirteen chars"}))
    assert store.file.read_text() == before


def test_the_first_binding_of_a_layer(store: DeskStore) -> None:
    store.file.write_text('format = 1\nname = "x"\n[surface.s]\nlayout = "numpad"\n[surface.s.layer.base]\n'
                          'name = "Base"\n')
    store.change(binding_edit("s", "base", "5", "tap", "Ctrl+A"))
    assert store.load().problems == []
    assert store.load().desk.surfaces["s"].answer("5", "press")[1].action.target == "Ctrl+A"


def test_a_second_process_on_the_same_desk_is_refused_by_name(store: DeskStore) -> None:
    holder = subprocess.Popen(
        [sys.executable, "-c", "import sys, time\nfrom pathlib import Path\n"
         "from brass_pebble.engine.disk.store import DeskStore\n"
         f"DeskStore(Path({str(store.folder)!r}), Path({str(store.versions)!r})).lock()\nprint('locked', flush=True)\n"
         "time.sleep(60)"], stdout=subprocess.PIPE, env=os.environ)
    try:
        assert holder.stdout and holder.stdout.readline() == b"locked\n"
        with pytest.raises(DeskBusy, match=f"process id {holder.pid}"):
            store.lock()
    finally:
        holder.kill()
        holder.wait()
    store.lock()
    store.unlock()
