"""The history of a desk: every change in words, compared, gone back to; edits of large desks in their part alone."""

from __future__ import annotations

import json
import os
import time
import tomllib
from pathlib import Path

import pytest
import tomlkit
from hypothesis import given, settings
from hypothesis import strategies as st

from brass_pebble.client import EngineClient, EngineError
from brass_pebble.core.desk.look.changes import differences
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.clients.giving_requests import compare
from brass_pebble.engine.disk.edits import Edit, Row, apply_edit, binding_edit
from brass_pebble.engine.disk.partial_edit import edited_parts, find_table
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.disk.versions import KEPT, VersionLog
from conftest import run_cli


@pytest.fixture
def store(desk: Path, tmp_path: Path) -> DeskStore:
    return DeskStore(desk, tmp_path / "versions", tmp_path / "layouts")


def words(store: DeskStore) -> list[str]:
    return [version.words for version in store.log.entries()]


# The log.


def test_every_change_is_kept_in_words_also_those_from_outside(store: DeskStore) -> None:
    store.load()
    store.settle()
    store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    store.load()
    store.settle()
    store.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap W\n"),)))
    (store.folder / "macros" / "new.macro").write_text("tap N\n")
    store.file.write_text(store.file.read_text().replace('"rec"', '"recording"'))
    store.load()
    store.settle()
    (store.folder / "macros" / "new.macro").unlink()
    store.load()
    store.settle()
    store.undo()
    assert words(store) == [
        "initial state", "pedals left: tap F20", "macro welcome: written",
        "edited in another program: desk.toml, macros/new.macro", "edited in another program: macros/new.macro",
        "undone: macro welcome: written"]
    # Another start begins where this one ended, and finds nothing new.
    again = DeskStore(store.folder, store.versions, store.user_layouts)
    again.load()
    again.settle()
    assert words(again) == words(store)
    assert again.log.texts(1)["desk.toml"].count('"rec"') and "macros/new.macro" in again.log.texts(4)
    assert "macros/new.macro" not in again.log.texts(5)


def test_a_version_is_brought_back_and_that_is_a_change_too(store: DeskStore) -> None:
    store.load()
    before = store.file.read_text()
    store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    store.change(Edit("macro welcome: taken away", files=(("macros/welcome.macro", None),)))
    store.change(Edit("macro more: written", files=(("macros/more.macro", "tap M\n"),)))
    store.change(store.restoring_edit(1))
    assert store.file.read_text() == before and (store.folder / "macros" / "welcome.macro").exists()
    assert not (store.folder / "macros" / "more.macro").exists()
    assert words(store)[-1] == "back to version 1, initial state"
    store.undo()
    assert (store.folder / "macros" / "more.macro").exists() and 'tap = "F20"' in store.file.read_text()
    with pytest.raises(ProblemError, match="as the desk is now"):
        store.restoring_edit(store.log.entries()[-1].number)
    with pytest.raises(ProblemError, match="no version 99"):
        store.restoring_edit(99)


def test_old_versions_are_folded_and_their_texts_dropped(tmp_path: Path) -> None:
    log = VersionLog(tmp_path / "log")
    log.record("begin", {"desk.toml": "0", "macros/a.macro": "tap A"})
    for number in range(1, KEPT + 140):
        log.record(f"change {number}", {"desk.toml": str(number)})
    entries = log.entries()
    assert len(entries) < KEPT * 1.2 + 2 and entries[-1].words == f"change {KEPT + 139}"
    # The oldest one that is kept still has everything.
    assert log.texts(entries[0].number)["macros/a.macro"] == "tap A"
    assert len(list((log.folder / "texts").iterdir())) <= len(entries) + 2
    again = VersionLog(tmp_path / "log")
    assert again.state() == log.state()
    # A line cut off by a crash costs that line only.
    with (log.folder / "log.jsonl").open("a") as stream:
        stream.write('{"number": 9')
    assert VersionLog(tmp_path / "log").state() == log.state()


def test_a_history_that_cannot_be_written_stops_nothing(client: EngineClient, desk: Path) -> None:
    """The change is made all the same, and what is wrong is told."""
    client.ask("versions")
    folder = next(Path(os.environ["XDG_STATE_HOME"]).rglob("log.jsonl")).parent
    (folder / "log.jsonl").unlink()
    (folder / "log.jsonl").mkdir()
    client.ask("bind", surface="pedals", layer="class", control="left", kind="tap", target="F20")
    assert 'tap = "F20"' in (desk / "desk.toml").read_text()
    end = time.monotonic() + 10
    while not (told := [row for row in client.ask("desk")["problems"] if "history could not be kept" in row["what"]]):
        assert time.monotonic() < end
        time.sleep(0.05)
    assert told
    client.ask("undo")
    assert 'tap = "F20"' not in (desk / "desk.toml").read_text()


# Differences in words.


def test_differences_are_told_in_words(store: DeskStore) -> None:
    store.load()
    store.change(binding_edit("pedals", "class", "left", "tap", "F20", settings={"label": "x"}))
    store.change(binding_edit("left-numpad", "class", "times", "play", "welcome"))
    store.change(binding_edit("left-numpad", "class", "9", gesture="hold"))
    store.change(Edit("x", ((("tap",), "50ms"), (("surface", "dial"), None),
                            (("surface", "pads", "layer", "two"), {"name": "Two"}))))
    (store.folder / "macros" / "welcome.macro").write_text("tap W\n")
    found = [row["words"] for row in compare(store, 1)["words"]]
    assert "tap: 40ms → 50ms" in found
    assert "pedals left, in class: sustain Ctrl+M → tap F20" in found
    assert "left-numpad times, in class: new, play welcome" in found
    assert "left-numpad 9, hold, in class: cleared, was tap Ctrl+Alt+L" in found
    assert "surface dial: deleted" in found and "layer two of pads: new" in found
    assert not [one for one in found if "welcome: changed" in one]
    store.load()
    reply = compare(store, 1)
    assert [one for one in reply["words"] if one["words"].startswith("macro welcome: changed")]
    assert ["desk.toml", '+tap = "50ms"         # how long a tap holds its key'] in reply["lines"]
    assert {(row["surface"], row["control"]) for row in reply["words"]} >= {("pedals", "left"), ("left-numpad", "9")}
    assert compare(store, 2, 2) == {"words": [], "lines": [], "more": 0}


def test_a_label_alone_is_told_as_a_label() -> None:
    def desk(label: str) -> dict[str, object]:
        return {"surface": {"a": {"layer": {"b": {"press": {"1": {"tap": "A", "label": label}}}}}}}
    assert [row.words for row in differences(desk("x"), desk("y"))] == ["a 1, in b: label x → y"]
    assert differences(desk("x"), desk("x")) == []


# Edits of a part.


def large(count: int = 40) -> str:
    """A desk of many surfaces, with remarks in every place."""
    lines = ["# begin", "format = 1", 'name = "Large"', ""]
    for number in range(count):
        lines += [f"# above {number}", f"[surface.s{number}]", f'name = "S {number}"  # name', "",
                  f"[surface.s{number}.layer.base]", 'name = "Base"', "",
                  f"[surface.s{number}.layer.base.press]", *(
                      f'{key} = {{ tap = "A", label = "k{key}" }}  # {key} of {number}' for key in range(12)), ""]
    return "\n".join([*lines, "[stage.x]", "at = [0, 0]", ""])


def whole(text: str, edit: Edit) -> str:
    """The edit made on the whole document, without any short way."""
    from brass_pebble.engine.disk import edits
    document = tomlkit.parse(text)
    for path, value in edit.values:
        edits._set(document, path, value)
    return tomlkit.dumps(document)


@settings(max_examples=40)
@given(st.integers(0, 39), st.integers(0, 14), st.sampled_from(["tap F20", "clear", "hold", "layer", "setting"]))
def test_an_edit_of_a_part_is_that_of_the_whole(number: int, key: int, what: str) -> None:
    text = large()
    where = ("surface", f"s{number}", "layer", "base")
    edit = {"tap F20": Edit("x", (((*where, "press", str(key)), Row({"tap": "F20"})),)),
            "clear": Edit("x", (((*where, "press", str(key)), None),)),
            "hold": Edit("x", (((*where, "hold", str(key)), Row({"tap": "B"})),)),
            "layer": Edit("x", ((("surface", f"s{number}", "layer", "new"), {"name": "New"}),)),
            "setting": Edit("x", ((("surface", f"s{number}", "debounce"), "5ms"),))}[what]
    after = apply_edit(text, edit)
    assert tomllib.loads(after) == tomllib.loads(whole(text, edit))
    # Every other line stands as it stood.
    kept = [line for line in text.splitlines() if f"s{number}." not in line and not line.endswith(f"of {number}")]
    assert [line for line in after.splitlines() if line in set(kept)][:len(kept)] == kept or what in ("hold", "layer")


def test_a_part_without_blank_lines_around_it_stays_apart_from_what_follows() -> None:
    text = "\n".join(line for line in large().splitlines() if line and not line.startswith("#"))
    where = ("surface", "s3", "layer", "base")
    for edit in (Edit("x", (((*where, "hold", "1"), Row({"tap": "B"})),)),
                 Edit("x", (((*where, "press", "z"), Row({"tap": "B"})),)),
                 Edit("x", ((("surface", "s3", "layer", "new"), {"name": "New"}),))):
        assert tomllib.loads(apply_edit(text, edit)) == tomllib.loads(whole(text, edit))


def test_a_part_is_only_used_where_it_lies_together_and_says_the_same() -> None:
    text = large()
    s3 = ("surface", "s3")
    start, end = find_table(text, s3) or (0, 0)
    assert text[start:].startswith("[surface.s3]") and text[end:].lstrip().startswith("# above 4")
    start, end = find_table(text, (*s3, "layer", "base", "press")) or (0, 0)
    assert text[start:].startswith("[surface.s3.layer.base.press]") and "[" not in text[start + 1:end]
    assert find_table(text, ("surface", "s99")) is None
    scattered = text + '\n[surface.s3.layer.late]\nname = "Late"\n'
    assert find_table(scattered, s3) is None
    edit = Edit("x", ((("surface", "s3", "layer", "late", "press", "1"), Row({"tap": "Z"})),))
    assert tomllib.loads(apply_edit(scattered, edit))["surface"]["s3"]["layer"]["late"]["press"]["1"] == {"tap": "Z"}
    # A header in a text of several lines is none; the whole document is taken then.
    tricky = text.replace('name = "S 3"  # name', 'name = """S\n[surface.s3]\n[surface.s4]\n"""')
    edit = Edit("x", ((("surface", "s3", "layer", "base", "press", "1"), Row({"tap": "Z"})),))
    after = tomllib.loads(apply_edit(tricky, edit))
    assert after["surface"]["s3"]["layer"]["base"]["press"]["1"] == {"tap": "Z"}
    assert after["surface"]["s3"]["name"] == "S\n[surface.s3]\n[surface.s4]\n"
    assert edited_parts("short", [(s3, lambda document: None)]) is None


# What is read once.


def test_only_what_changed_is_read_again_and_all_that_plays_it(store: DeskStore) -> None:
    macros = store.folder / "macros"
    (macros / "inner.macro").write_text('name "Inner"\ntap A\n')
    (macros / "outer.macro").write_text('play "Inner"\n')
    first = store.load().desk
    second = store.load().desk
    assert second.macros["outer"] is first.macros["outer"] and second.surfaces["dial"] is first.surfaces["dial"]
    (macros / "inner.macro").write_text('name "Inner"\ntap B\ntap C\n')
    third = store.load().desk
    assert len(third.macros["outer"].timetable.times) == 4 and third.macros["welcome"] is first.macros["welcome"]
    (macros / "inner.macro").write_text('name "Inner"\ntap\n')
    broken = store.load()
    assert not broken.desk.broken_macros and len(broken.desk.macros["outer"].timetable.times) == 4
    assert "The last good version stays in use" in broken.problems[0].hint
    (macros / "inner.macro").unlink()
    assert "there is no macro" in store.load().desk.broken_macros["outer"]
    (macros / "inner.macro").write_text('name "Inner"\ntap D\n')
    assert len(store.load().desk.macros["outer"].timetable.times) == 2
    # Another length of taps changes every macro.
    store.file.write_text(store.file.read_text().replace('tap = "40ms"', 'tap = "90ms"'))
    assert store.load().desk.macros["outer"].timetable.length == 90_000_000
    # A layout that changed, or a macro that came, is not missed by surfaces that did not.
    store.file.write_text(store.file.read_text().replace('play = "welcome"', 'play = "wlcome"'))
    assert any("there is no macro “wlcome”" in str(problem) for problem in store.load().problems)
    (macros / "wlcome.macro").write_text("tap A\n")
    assert not store.load().problems


# In a running engine, and on the command line.


def test_versions_are_asked_for_compared_and_restored(client: EngineClient, desk: Path) -> None:
    before = (desk / "desk.toml").read_text()
    client.ask("bind", surface="pedals", layer="class", control="left", kind="tap", target="F20")
    newest, oldest = client.ask("versions")["versions"]
    assert newest["words"] == "pedals left: tap F20" and oldest["words"] == "initial state"
    assert abs(newest["at"] - time.time()) < 60
    found = client.ask("compare", one=oldest["number"])
    assert [row["words"] for row in found["words"]] == ["pedals left, in class: sustain Ctrl+M → tap F20"]
    client.ask("restore", number=oldest["number"])
    assert (desk / "desk.toml").read_text() == before
    client.ask("undo")
    assert 'tap = "F20"' in (desk / "desk.toml").read_text()
    for wrong in ({"one": 77}, {"one": 1, "other": 77}):
        with pytest.raises(EngineError, match="no version 77"):
            client.ask("compare", **wrong)
    with pytest.raises(EngineError):
        client.ask("restore", number=77)


def test_history_on_the_command_line(desk: Path) -> None:
    at = ["--desk", str(desk)]
    assert "initial state" in run_cli("desk", "history", *at).stdout
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text.replace('name = "Stings"', 'name = "Stings and drums"'))
    rows = [json.loads(line) for line in run_cli("desk", "history", *at, "--json").stdout.splitlines()]
    assert [row["words"] for row in rows] == ["edited in another program: desk.toml", "initial state"]
    done = run_cli("desk", "compare", "1", *at, "--lines")
    assert "layer stings name: Stings → Stings and drums" in done.stdout
    assert "+name = \"Stings and drums\"" in done.stdout
    assert "back to version 1" in run_cli("desk", "restore", "1", *at).stdout
    assert (desk / "desk.toml").read_text() == text
    assert run_cli("desk", "restore", "77", *at).returncode == 1
    assert "Nothing." in run_cli("desk", "compare", "1", "1", *at).stdout
