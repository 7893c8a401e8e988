"""Macros under other names: renamed with all that plays them, copied, deleted; by requests, commands and keys."""

from __future__ import annotations

import json
import tomllib
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble.client import EngineClient, EngineError, start_engine
from brass_pebble.core.desk.renaming import plays_in_bindings
from brass_pebble.core.macro.naming import with_name, written_name
from conftest import run_cli, wait_for
from terminal import Terminal

DESK = """format = 1
name = "Names"
output = "stage"

[surface.pad]
name = "Pad"
layout = "numpad"

[surface.pad.layer.base.press]
1 = { play = "chime", label = "ding" } # the first
2 = { cycle = ["tap A", "play chime"] }
3 = { tap = "B" }

[surface.pad.layer.base.hold]
1 = { play = "loop" }
"""
MACROS = {"chime": 'name "Chime"\ntap F13\n', "loop": 'name "Loop"\nrepeat 2\n  play "Chime"\n  play chime\n'}


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    folder = tmp_path / "desk"
    (folder / "macros").mkdir(parents=True, mode=0o700)
    folder.chmod(0o700)
    (folder / "desk.toml").write_text(DESK)
    for name, text in MACROS.items():
        (folder / "macros" / f"{name}.macro").write_text(text)
    return folder


@pytest.fixture
def client(desk: Path) -> Iterator[EngineClient]:
    socket, process = start_engine(desk, "--may-lack-output")
    with EngineClient(socket) as client:
        yield client
    process.terminate()
    process.wait(timeout=10)


def files(desk: Path) -> dict[str, str]:
    return {file.stem: file.read_text() for file in (desk / "macros").glob("*.macro")}


def rows(desk: Path) -> dict[str, object]:
    return dict(tomllib.loads((desk / "desk.toml").read_text())["surface"]["pad"]["layer"]["base"])


@pytest.mark.parametrize(("text", "name", "expected"), [
    ('name "A"\ntap B\n', "C", 'name "C"\ntap B\n'), ("tap B\n", "C", 'name "C"\ntap B\n'),
    ('# first\n  name  "A"  # kept\n', 'say "x"', '# first\n  name  "say \\"x\\""  # kept\n'),
    ('tap A # name "no"\n', "C", 'name "C"\ntap A # name "no"\n')])
def test_a_text_gets_another_name(text: str, name: str, expected: str) -> None:
    assert with_name(text, name) == expected
    assert written_name(expected).replace('\\"', '"') == name


def test_bindings_that_name_a_macro_are_found() -> None:
    found = plays_in_bindings(tomllib.loads(DESK), {"chime": "bell"})
    assert [(path[-2:], row.get("play") or row.get("cycle")) for path, row in found] == [
        (("press", "1"), "bell"), (("press", "2"), ["tap A", "play bell"])]


def test_renaming_takes_file_bindings_and_macros_along_and_is_one_change(client: EngineClient, desk: Path) -> None:
    before = files(desk), (desk / "desk.toml").read_text()
    client.ask("draft_macro", macro="chime", text="tpa B\n")
    assert client.ask("rename_macro", macro="chime", name="Big bell")["macro"] == "big-bell"
    assert {name: row["text"] for name, row in client.ask("macros")["drafts"].items()} == {"big-bell": "tpa B\n"}
    assert files(desk) == {"big-bell": 'name "Big bell"\ntap F13\n',
                           "loop": 'name "Loop"\nrepeat 2\n  play big-bell\n  play big-bell\n'}
    assert '1 = {play = "big-bell", label = "ding"} # the first' in (desk / "desk.toml").read_text()
    assert rows(desk)["press"]["2"] == {"cycle": ["tap A", "play big-bell"]}  # type: ignore[index]
    reply = client.ask("desk")
    assert [row["file"] for row in reply["problems"] if "macro" in row["file"]] == ["macros/big-bell.macro"]
    assert client.ask("play", macro="big-bell")["state"] in ("playing", "done")
    # Only its name: the file stays.
    assert client.ask("rename_macro", macro="big-bell", name="BIG bell")["macro"] == "big-bell"
    for _ in range(2):
        client.ask("undo")
    assert (files(desk), (desk / "desk.toml").read_text()) == before


@pytest.mark.parametrize(("fields", "wrong"), [
    ({"macro": "nothing", "name": "X"}, "no macro “nothing”"), ({"macro": "chime", "name": " "}, "needs a name"),
    ({"macro": "chime", "name": "loop"}, "another macro is called"), ({"macro": "chime", "name": "a\nb"}, "one line")])
def test_names_that_cannot_be(client: EngineClient, desk: Path, fields: dict[str, str], wrong: str) -> None:
    before = files(desk)
    with pytest.raises(EngineError, match=wrong):
        client.ask("rename_macro", **fields)
    assert files(desk) == before


def test_what_came_from_somebody_else_stays_so_under_another_name(client: EngineClient, desk: Path) -> None:
    (desk / "guests.toml").write_text('[macro]\nchime = "a friend"\n')
    client.ask("rename_macro", macro="chime", name="Gong")
    client.ask("copy_macro", macro="gong", name="Copy")
    listed = tomllib.loads((desk / "guests.toml").read_text())["macro"]
    assert listed == {"gong": "a friend", "copy": "a friend"}


def test_on_the_command_line(client: EngineClient, desk: Path) -> None:
    at = ("--desk", str(desk))
    assert run_cli("macro", "rename", "Chime", "Gong", *at).stdout == "Renamed to “Gong”, macros/gong.macro.\n"
    assert run_cli("macro", "copy", "gong", *at).stdout == "Copied to macros/gong-2.macro.\n"
    assert files(desk)["gong-2"] == 'name "Gong (2)"\ntap F13\n'
    assert "macros/gong-2.macro" in run_cli("macro", "delete", "Gong (2)", *at).stdout
    assert set(files(desk)) == {"gong", "loop"}
    done = run_cli("macro", "delete", "Gon", *at)
    assert done.returncode == 2 and "Did you mean gong?" in done.stderr


def test_checking_the_standard_input_and_places_as_json() -> None:
    done = run_cli("macro", "check", "-", given="tap A\n")
    assert done.returncode == 0 and "fine" in done.stdout
    done = run_cli("macro", "check", "--json", "-", given="tap A\ntpa B\n")
    assert done.returncode == 6
    row = json.loads(done.stdout)
    assert (row["line"], row["column"]) == (2, 1) and row["what"] == "“tpa” is not a step" and "tap" in row["hint"]
    assert run_cli("macro", "check", "--json", "-", given="tap A\n").stdout == ""


def test_in_the_macros_own_view(desk: Path) -> None:
    terminal = Terminal("demo", "--desk", str(desk))
    try:
        terminal.wait("PAD")
        terminal.keys("O")
        terminal.wait("✓ live")
        terminal.keys("F2")
        terminal.wait("Rename “Chime”")
        terminal.keys("C-u")
        terminal.type("loop")
        terminal.keys("Enter")
        terminal.wait("another macro is called “loop”")
        terminal.keys("C-u")
        terminal.type("Gong")
        terminal.keys("Enter")
        terminal.wait(lambda screen: "Gong" in screen and "Rename" not in screen and "✓ live" in screen)
        assert rows(desk)["press"]["1"] == {"play": "gong", "label": "ding"}  # type: ignore[index]
        terminal.keys("F3")
        terminal.wait("Copy “Gong”")
        terminal.keys("Enter")
        wait_for(lambda: set(files(desk)) == {"gong", "gong-2", "loop"})
        # The sheet proposes the name, too: only when it is gone, the copy's own view is there.
        terminal.wait(lambda screen: "Copy “" not in screen and "Gong (2)" in screen and "✓ live" in screen)
        terminal.keys("F10")
        terminal.wait("No control plays it.")
        terminal.keys("Enter")
        wait_for(lambda: set(files(desk)) == {"gong", "loop"})
        terminal.wait("PAD")
        terminal.keys("u")
        wait_for(lambda: set(files(desk)) == {"gong", "gong-2", "loop"})
    finally:
        terminal.close()
