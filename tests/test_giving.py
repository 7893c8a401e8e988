"""A desk given on: packed, looked at with suspicion, merged, fitted to other hardware; what sleeps until approved."""

from __future__ import annotations

import contextlib
import hashlib
import io
import json
import os
import stat
import struct
import sys
import threading
import time
import tomllib
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from brass_pebble.client import EngineClient, EngineError
from brass_pebble.core.desk.look.drawn import ControlRow
from brass_pebble.core.macro.asks import CatchUp, Errand, Finish, GaveUp
from brass_pebble.core.macro.guests.reach import Guest, put_to_sleep, reaches
from brass_pebble.core.macro.naming import rename_plays
from brass_pebble.core.macro.reader import parse
from brass_pebble.core.macro.timetable import Macro
from brass_pebble.core.macro.value.kinds import Given
from brass_pebble.core.parcel.fitting import Fit, bound_controls, fitted_layers, match
from brass_pebble.core.parcel.look import at_most
from brass_pebble.core.parcel.merge import BOTH, TAKE, Choices, items_of
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.engine.clients.giving_requests import approve, asleep_rows
from brass_pebble.engine.disk.edits import Edit, binding_edit
from brass_pebble.engine.disk.guests import Trust
from brass_pebble.engine.disk.packages import package_reader
from brass_pebble.engine.disk.packages.intake import fit_onto, intake_edit, look, new_desk_files
from brass_pebble.engine.disk.packages.package_reader import read_apart
from brass_pebble.engine.disk.packages.parcel_file import mine_of, pack_desk, parcel_of, read_parcel
from brass_pebble.engine.disk.store import DeskStore
from conftest import run_cli

LAMP = '''name "Lamp on"
label "lamp"
run "lamp-tool" "--level" "80"
wait 200ms
type "Lamp is on"
request post "http://192.168.1.40/lamp" with "on"
'''


def store_in(folder: Path, state: Path) -> DeskStore:
    return DeskStore(folder, state / "versions", state / "layouts", state / "approvals" / "desk.json")


@pytest.fixture
def store(desk: Path, tmp_path: Path) -> DeskStore:
    found = store_in(desk, tmp_path / "state")
    found.trust.know()
    return found


@pytest.fixture
def giver(tmp_path: Path) -> DeskStore:
    """A small desk of somebody else."""
    folder = tmp_path / "giver"
    (folder / "macros").mkdir(parents=True)
    (folder / "layouts").mkdir()
    (folder / "macros" / "lamp-on.macro").write_text(LAMP)
    (folder / "macros" / "both.macro").write_text('name "Both"\nplay lamp-on\nplay "Lamp on"\ntap A\n')
    (folder / "layouts" / "slab.toml").write_text(
        'name = "Slab"\ncontrol = [\n  { id = "a", sends = "F13", x = 0, y = 0 },\n  { id = "b", sends = "F14", x = 1, '
        'y = 0 },\n  { id = "dial", moves = ["turn dial"], x = 2, y = 0 },\n]\n')
    (folder / "desk.toml").write_text('''# The desk of somebody else.
format = 1
name = "Tideline Studio"
output = "stage"
[network]
midi = 5004
[surface.slab]
name = "Slab"          # on the left
layout = "slab"
device = { name = "Kelp slab", serial = "K-000-77", port = "usb-1" }
[surface.slab.layer.base]
name = "Base"
[surface.slab.layer.base.press]
a = { play = "both", label = "go" }
b = { cycle = ["play lamp-on", "tap B"], label = "two" }
[surface.slab.layer.base."turn left"]
dial = { tap = "Left", label = "less" }
[surface.slab.layer.osc]
name = "Far"
[surface.slab.layer.osc.press]
a = { set = "osc /level to 192.168.1.9:9000 at 50 %", label = "far" }
[surface.slab.layer.osc."with b"]
a = { tap = "C" }
''')
    found = store_in(folder, tmp_path / "giver-state")
    found.trust.know()
    return found


# Packing.


def many_lines(macros: int, lines: int) -> bytes:
    """A small file that comes to very many lines."""
    return zipped([(f"macros/m{number}.macro", "".join(f"tap F{line % 12 + 1}\n" for line in range(lines)).encode())
                   for number in range(macros)])


def test_a_package_that_takes_its_time_holds_up_no_save(engine: Path, client: EngineClient, tmp_path: Path) -> None:
    """Seen: 140 KB of package, and no edit was saved for a hundred seconds."""
    file = tmp_path / "many.zip"
    file.write_bytes(many_lines(700, 2_000))
    assert file.stat().st_size < 4_000_000
    began = time.monotonic()
    with pytest.raises(EngineError, match=r"1,400,\d+ lines in all, and at most 50,000 are read"):
        client.ask("take_in", file=str(file))
    assert time.monotonic() - began < 10
    # The largest that is read: edits of others go on meanwhile.
    file.write_bytes(many_lines(24, 2_000))
    replies, stop = [], threading.Event()

    def edit() -> None:
        with EngineClient(engine, "other") as other:
            other.set_timeout(60)
            while not stop.is_set():
                asked = time.monotonic()
                other.ask("write_macro", macro="mine", text=f"tap F{len(replies) % 12 + 1}\n")
                replies.append(time.monotonic() - asked)
    editing = threading.Thread(target=edit)
    editing.start()
    client.set_timeout(60)
    client.ask("take_in", file=str(file))
    stop.set()
    editing.join()
    assert max(replies) < 20 and sorted(replies)[len(replies) // 2] < 1, sorted(replies)[-3:]


def test_a_package_is_read_with_limits(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "x.zip"
    file.write_bytes(many_lines(20, 2_000))
    assert len(read_apart(file).macros) == 20
    monkeypatch.setattr(package_reader, "WAITS", 0.05)
    with pytest.raises(ProblemError, match="too much time or memory"):
        read_apart(file)
    os.mkfifo(tmp_path / "pipe.zip")
    monkeypatch.setattr(package_reader, "WAITS", 20)
    for name, what in (("pipe.zip", "is not a package"), ("nothing.zip", "cannot be read")):
        with pytest.raises(ProblemError, match=what):
            read_apart(tmp_path / name)
    (tmp_path / "said").write_text("#!/bin/sh\necho '{\"type\":\"read\",\"texts\":7}'\n")
    (tmp_path / "said").chmod(0o755)
    monkeypatch.setattr(sys, "executable", str(tmp_path / "said"))
    with pytest.raises(ProblemError, match="too much time or memory"):
        read_apart(file)


def test_a_whole_desk_comes_back_as_it_was_without_what_is_the_givers_own(giver: DeskStore, tmp_path: Path) -> None:
    data = pack_desk(giver)
    assert data == pack_desk(giver)
    parcel = parcel_of(data)
    assert (parcel.manifest.kind, parcel.manifest.name) == ("desk", "Tideline Studio")
    text = parcel.text
    assert "K-000-77" not in text and "usb-1" not in text and "5004" not in text
    assert "# The desk of somebody else." in text and "# on the left" in text
    assert parcel.macros["lamp-on"] == LAMP and set(parcel.layouts) == {"slab"}
    folder = tmp_path / "new"
    for name, content in new_desk_files(parcel).items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(content)
    made = store_in(folder, tmp_path / "new-state")
    loaded = made.load()
    assert set(loaded.desk.surfaces) == {"slab"} and set(loaded.desk.macros) == {"lamp-on", "both"}
    # Everything in it is a guest; what it does outside sleeps, its device included, and that is told.
    assert set(made.guests().macros) == {"lamp-on", "both"} and len(made.asleep(loaded.desk)) == 7
    assert "7 steps from somebody else wait for your approval" in str(loaded.problems[-1])


def test_how_a_microphone_is_listened_to_stays_with_whom_it_belongs_to(giver: DeskStore, store: DeskStore) -> None:
    def booth(desk: DeskStore, say: str, second: str) -> None:
        file = desk.folder / "desk.toml"
        file.write_text(f'''{file.read_text()}
[surface.stall]
name = "Stall"
layout = "phrases"
[surface.stall.listening]
attention = ["{say}"]
second = "{second}"
[surface.stall.phrase.go]
say = ["{say} go"]
[surface.stall.layer.base.press]
go = {{ tap = "F13" }}
''')
        desk.load()
    booth(giver, "hello tide", "/home/ada/models/large")
    parcel = parcel_of(pack_desk(giver, surfaces=["stall"]))
    assert "/home/ada" not in parcel.text and "hello tide" in parcel.text
    # A new one comes as it is; one that takes the place of mine leaves me mine.
    store.change(intake_edit(parcel, store, Choices())[0])
    assert store.load().desk.surfaces["stall"].listening.attention == ("hello tide",)
    store.change(Edit("mine", ((("surface", "stall", "listening"), {"attention": ["ho hum"], "second": "/my/own"}),
                              (("surface", "stall", "phrase", "go", "say"), ["mine"]))))
    store.change(intake_edit(parcel, store, Choices({"surface stall": TAKE}))[0])
    mine = store.load().desk.surfaces["stall"]
    assert (mine.listening.attention, mine.listening.second) == (("ho hum",), "/my/own")
    assert [phrase.say[0].text for phrase in mine.phrases] == ["hello tide go"]


def test_a_surface_takes_what_it_plays_along_and_a_macro_those_it_plays(giver: DeskStore, store: DeskStore) -> None:
    parcel = parcel_of(pack_desk(giver, surfaces=["slab"]))
    assert parcel.manifest.kind == "surfaces" and set(parcel.macros) == {"lamp-on", "both"}
    only = parcel_of(pack_desk(giver, macros=["both"]))
    assert only.manifest.kind == "macros" and not only.surfaces and set(only.macros) == {"lamp-on", "both"}
    # Drawings that ship are not packed, and remarks stay.
    pads = parcel_of(pack_desk(store, surfaces=["pads"]))
    assert set(pads.surfaces) == {"pads"} and not pads.layouts and "welcome" in pads.macros
    assert "# A soft stroke is a quiet sting" in pads.text and "[surface.dial" not in pads.text
    for wrong in ({"surfaces": ["pad"]}, {"macros": ["nothing"]}):
        with pytest.raises(ProblemError, match="there is no"):
            pack_desk(store, **wrong)


# Suspicion.


def zipped(members: list[tuple[str, bytes]], *, manifest: Any = None, attributes: dict[str, int] | None = None,
           method: int = zipfile.ZIP_DEFLATED) -> bytes:
    """A zip, with a manifest that fits its members unless another one is given."""
    if manifest is None:
        kind = "desk" if any(name == "desk.toml" for name, _ in members) else "macros"
        manifest = {"format": 1, "kind": kind, "name": "x", "made_with": "x", "files": {
            name: {"bytes": len(data), "sha256": hashlib.sha256(data).hexdigest()} for name, data in members}}
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", method) as archive:
        text = manifest if isinstance(manifest, bytes) else json.dumps(manifest).encode()
        for name, data in [("manifest.json", text), *members]:
            info = zipfile.ZipInfo(name)
            info.compress_type = method
            info.external_attr = (attributes or {}).get(name, stat.S_IFREG | 0o644) << 16
            archive.writestr(info, data)
    return stream.getvalue()


DESK = ("desk.toml", b'format = 1\nname = "x"\n')


def lying_about_size() -> bytes:
    """A member that says it is small, and is not."""
    data = zipped([DESK, ("macros/a.macro", b"tap A\n" * 900_000)])
    place = data.rfind(b"macros/a.macro")
    header = data.rfind(b"PK\x01\x02", 0, place)
    return data[:header + 24] + struct.pack("<I", 600) + data[header + 28:]


HOSTILE: dict[str, tuple[Callable[[], bytes], str]] = {
    "a way out of the folder": (lambda: zipped([DESK, ("../../.profile", b"x")]), "does not belong to a desk"),
    "a way out below macros": (lambda: zipped([DESK, ("macros/../../x.macro", b"x")]), "does not belong to a desk"),
    "a whole path": (lambda: zipped([DESK, ("/etc/cron.d/x", b"x")]), "does not belong to a desk"),
    "a path of another system": (lambda: zipped([DESK, ("macros\\..\\x.macro", b"x")]), "belong to a desk|twice"),
    "a file that is no part": (lambda: zipped([DESK, ("run.sh", b"x")]), "does not belong to a desk"),
    "its own approvals": (lambda: zipped([DESK, ("guests.toml", b"x")]), "does not belong to a desk"),
    "a name with an escape": (lambda: zipped([DESK, ("macros/\x1b[2J.macro", b"x")]), "does not belong to a desk"),
    "a hidden file": (lambda: zipped([DESK, ("macros/.x.macro", b"x")]), "does not belong to a desk"),
    "a link": (lambda: zipped([DESK, ("macros/a.macro", b"/etc/passwd")],
                              attributes={"macros/a.macro": stat.S_IFLNK | 0o777}), "not a plain file but a link"),
    "a device": (lambda: zipped([DESK, ("macros/a.macro", b"")],
                                attributes={"macros/a.macro": stat.S_IFCHR | 0o666}), "not a plain file"),
    "a bomb": (lambda: zipped([DESK, ("macros/a.macro", b"\0" * 3_900_000)]), "too large"),
    "a larger bomb": (lambda: zipped([DESK, ("macros/a.macro", b" " * 50_000_000)]), "too large"),
    "a lie about its size": (lying_about_size, "too large|damaged"),
    "two of a name": (lambda: zipped([DESK, ("macros/a.macro", b"x"), ("macros/A.macro", b"x")]), "twice"),
    "too many files": (lambda: zipped([DESK, *((f"macros/m{n}.macro", b"") for n in range(5_100))]), "files"),
    "no manifest": (lambda: zipped([DESK]).replace(b"manifest.json", b"manifest.jsen"), "not belong to a desk"),
    "a manifest that is no JSON": (lambda: zipped([DESK], manifest=b"{"), "not JSON"),
    "a manifest that is a list": (lambda: zipped([DESK], manifest=[]), "not valid"),
    "a manifest without a format": (lambda: zipped([DESK], manifest={}), "no format"),
    "a manifest without files": (lambda: zipped([DESK], manifest={"format": 1, "kind": "desk"}), "broken"),
    "a deep manifest": (lambda: zipped([DESK], manifest=b"[" * 200_000, method=zipfile.ZIP_STORED), "not JSON"),
    "a later version": (lambda: zipped([DESK], manifest={"format": 2, "kind": "desk", "files": {}}), "later version"),
    "a later desk": (lambda: zipped([("desk.toml", b"format = 9\n")]), "format 9"),
    "a file beside the manifest": (
        lambda: zipped([DESK, ("macros/a.macro", b"x")], manifest={"format": 1, "kind": "desk", "name": "x", "files": {
            "desk.toml": {"bytes": len(DESK[1]), "sha256": hashlib.sha256(DESK[1]).hexdigest()}}}),
        "not in its manifest"),
    "a file that is missing": (lambda: zipped([], manifest={"format": 1, "kind": "desk", "name": "x", "files": {
        "desk.toml": {"bytes": 1, "sha256": "0"}}}), "missing"),
    "a file that was changed": (lambda: zipped([DESK], manifest={"format": 1, "kind": "desk", "name": "x", "files": {
        "desk.toml": {"bytes": len(DESK[1]), "sha256": "0" * 64}}}), "not as it was"),
    "bytes that are no text": (lambda: zipped([DESK, ("macros/a.macro", b"\xff\xfe")]), "UTF-8"),
    "a broken desk": (lambda: zipped([("desk.toml", b"format = = 1")]), "desk.toml is broken"),
    "a broken drawing": (lambda: zipped([DESK, ("layouts/a.toml", b"control = [")]), "drawing “a”"),
    "a text that steers the terminal": (lambda: zipped([DESK, ("macros/a.macro", b"type \"\x1b[2J\"\n")]),
                                        "control a terminal"),
    "an escape in a name": (lambda: zipped([("desk.toml", b'name = "\\u001b]0;x"\n')]), "control a terminal"),
    "an escape in a drawing": (lambda: zipped([DESK, ("layouts/a.toml", b'name = "\\u0007"\n')]), "control a terminal"),
    "a text that reads backwards": (
        lambda: zipped([DESK, ("macros/a.macro", 'run "\u202etxt.hs"\n'.encode())]), "hide text"),
    "no zip": (lambda: b"PK\x03\x04 and nothing else", "not a package"),
    "half a zip": (lambda: zipped([DESK])[:-30], "not a package"),
    "nothing": (lambda: b"", "not a package"),
}


def snapshot(folder: Path) -> dict[str, tuple[int, int]]:
    return {str(file): (file.stat().st_mtime_ns, file.stat().st_size) for file in folder.rglob("*") if file.is_file()}


@pytest.mark.parametrize("name", list(HOSTILE))
def test_hostile_parcels_are_refused_and_nothing_changes(name: str, desk: Path, tmp_path: Path) -> None:
    make, says = HOSTILE[name]
    file = tmp_path / "given.zip"
    file.write_bytes(make())
    before = snapshot(tmp_path)
    with pytest.raises(ProblemError, match=says) as caught:
        read_parcel(file)
    assert caught.value.problem.hint and "\x1b" not in str(caught.value)
    assert snapshot(tmp_path) == before


def test_hostile_parcels_on_the_command_line(desk: Path, tmp_path: Path) -> None:
    file = tmp_path / "given.zip"
    file.write_bytes(zipped([DESK, ("../../.profile", b"x")]))
    before = snapshot(desk)
    for words in (("--yes",), (), ("--to", str(tmp_path / "made"), "--yes")):
        done = run_cli("desk", "import", str(file), "--desk", str(desk), *words)
        assert done.returncode == 1 and "does not belong to a desk" in done.stderr
    assert snapshot(desk) == before and not (tmp_path / "made").exists()
    assert run_cli("desk", "import", str(tmp_path / "none.zip"), "--desk", str(desk)).returncode == 1


def test_no_parcel_takes_the_only_keyboard(store: DeskStore, tmp_path: Path) -> None:
    text = b'[surface.keys]\nlayout = "full-iso"\nmay_be_only_keyboard = true\ndevice = { bus = "usb" }\n'
    parcel = parcel_of(zipped([("desk.toml", b"format = 1\n" + text)]))
    store.change(intake_edit(parcel, store, Choices())[0])
    assert not store.load().desk.surfaces["keys"].may_be_only_keyboard
    assert "may_be_only_keyboard" not in new_desk_files(parcel)["desk.toml"]
    # Mine keeps what I gave it.
    store.change(Edit("x", ((("surface", "keys", "may_be_only_keyboard"), True),)))
    other = parcel_of(zipped([("desk.toml", b"format = 1\n" + text + b'name = "Theirs"\n')]))
    store.change(intake_edit(other, store, Choices({"surface keys": TAKE}))[0])
    found = store.load().desk.surfaces["keys"]
    assert found.may_be_only_keyboard and found.name == "Theirs"


# What sleeps.


def test_every_step_that_reaches_outside_is_found_and_sleeps() -> None:
    text = LAMP + 'speak "on"\nshow "on"\nring\ntap B\nrepeat 2\n  paste "x"\nif number = 1\n  send note 36 on 10\n' \
        'otherwise\n  send osc "/a" 1 to "10.0.0.1:9000"\nrun shell "rm -r /"\n'
    draft = parse(text, id="x")
    assert not draft.problems
    found = list(reaches(draft.steps))
    assert [reach.does for reach in found] == [
        "runs a program", "types a text", "calls an address", "speaks", "pastes a text", "sends MIDI",
        "sends to an address", "runs a program"]
    assert len({reach.mark for reach in found}) == 8
    assert put_to_sleep(draft.steps, Guest("them", lambda mark: mark == found[0].mark)) == 7
    assert put_to_sleep(draft.steps, Guest("them", lambda mark: True)) == 0
    # Asleep, they are still told, and still written as they are.
    assert [reach.text for reach in reaches(draft.steps)] == [reach.text for reach in found]


def test_an_approval_is_for_the_very_words(giver: DeskStore, store: DeskStore) -> None:
    parcel = parcel_of(pack_desk(giver, surfaces=["slab"]))
    store.load()
    edit, _ = intake_edit(parcel, store, Choices())
    store.change(edit)
    desk = store.load().desk
    asleep = store.asleep(desk)
    assert sorted(reach.does for _, reach in asleep) == [
        "calls an address", "runs a program", *["runs a program, types a text, calls an address"] * 2,
        "sends to an address", "takes a device or opens a microphone", "types a text"]
    # What the one plays sleeps as a whole; only its own tap is left of it.
    assert desk.macros["lamp-on"].live and len(set(desk.macros["both"].timetable.codes)) == 1
    run = next(reach for _, reach in asleep if reach.does == "runs a program")
    assert store.approvals is not None
    approve(store, [run.mark])
    assert len(store.asleep(store.load().desk)) == 6
    # Changed by one character, the macro and what plays it ask again, and the difference is shown.
    file = store.folder / "macros" / "lamp-on.macro"
    file.write_text(file.read_text().replace('"80"', '"81"'))
    assert len(store.asleep(store.load().desk)) == 7
    changed = next(row["changed"] for row in asleep_rows(store, store.load().desk) if row["does"] == "runs a program")
    assert [line[0] for line in changed] == ["-", "+"] and '"80"' in changed[0] and '"81"' in changed[1]
    # A list of guests that cannot be read lets nothing through: steps of the person's own sleep then, too.
    (store.folder / "guests.toml").write_text("[macro")
    assert len(store.asleep(store.load().desk)) > 7
    with pytest.raises(ProblemError, match="cannot be read"):
        intake_edit(parcel, store, Choices({"macro lamp-on": TAKE}))
    # Without it, they are known all the same.
    (store.folder / "guests.toml").unlink()
    assert len(store.asleep(store.load().desk)) == 7


def test_what_comes_onto_a_surface_of_mine_sleeps_and_mine_does_not(giver: DeskStore, store: DeskStore) -> None:
    store.load()
    store.change(binding_edit("left-numpad", "class", "times", "set", "osc /mine to 127.0.0.1:9 at 1 %"))
    parcel = parcel_of(pack_desk(giver, surfaces=["slab"]))
    fit = Fit({"a": "7", "b": "8"}, ("dial",))
    edit, intake = intake_edit(parcel, store, Choices(onto={"slab": ("left-numpad", fit)}))
    store.change(edit)
    loaded = store.load()
    assert not [problem for problem in loaded.problems if "approval" not in problem.what]
    surface = loaded.desk.surfaces["left-numpad"]
    assert [layer.id for layer in surface.layers][-2:] == ["base", "osc"] and intake.surfaces == ("left-numpad",)
    mine, theirs = surface.layers[0].bindings["times", "press"], surface.layers[-1].bindings["7", "press"]
    assert theirs.asleep and not mine.asleep
    assert ("7", "with 8") in surface.layers[-1].bindings
    # Undone, it is all gone, the guests with it.
    store.undo()
    assert not store.guests().surfaces and "lamp-on" not in store.load().desk.macros


# Merging.


def test_what_differs_is_kept_unless_theirs_or_both_is_wanted(giver: DeskStore, tmp_path: Path) -> None:
    parcel = parcel_of(pack_desk(giver, surfaces=["slab"]))
    mine = tmp_path / "mine"
    (mine / "macros").mkdir(parents=True)
    (mine / "desk.toml").write_text('format = 1\nname = "Mine"\n[surface.slab]\nname = "Mine"\n')
    (mine / "macros" / "lamp-on.macro").write_text('name "Lamp on"\ntap L\n')
    (mine / "macros" / "both.macro").write_text(giver.macro_files.texts()["both"] + "\n\n")
    store = store_in(mine, tmp_path / "mine-state")
    states = {item.key: item.state for item in items_of(parcel, mine_of(store))}
    assert states == {"surface slab": "differs", "macro both": "the same", "macro lamp-on": "differs",
                      "layout slab": "new"}
    edit, intake = intake_edit(parcel, store, Choices())
    assert not intake.values and not intake.macros
    assert dict(edit.files).keys() == {"here/layouts/slab.toml", "guests.toml"}
    # Both: theirs under a name of its own, and everything of theirs names it so.
    edit, intake = intake_edit(parcel, store, Choices({"surface slab": BOTH, "macro lamp-on": BOTH}))
    assert intake.renamed == {"surface slab": "slab-2", "macro lamp-on": "lamp-on-2"}
    store.change(edit)
    data = tomllib.loads((mine / "desk.toml").read_text())
    assert data["surface"]["slab"] == {"name": "Mine"}
    assert data["surface"]["slab-2"]["layer"]["base"]["press"]["b"]["cycle"] == ["play lamp-on-2", "tap B"]
    assert (mine / "macros" / "lamp-on.macro").read_text() == 'name "Lamp on"\ntap L\n'
    assert 'name "Lamp on (2)"' in (mine / "macros" / "lamp-on-2.macro").read_text()
    assert (mine / "layouts" / "slab.toml").exists()
    store.undo()
    # Theirs in place of mine.
    edit, _ = intake_edit(parcel, store, Choices({"surface slab": TAKE, "macro lamp-on": TAKE}))
    store.change(edit)
    assert (mine / "macros" / "lamp-on.macro").read_text() == LAMP
    with pytest.raises(ProblemError, match="nothing selected to import"):
        intake_edit(parcel, store, Choices())


def test_plays_of_renamed_macros_are_renamed_by_id_and_by_name() -> None:
    text = 'name "Both"\nplay lamp-on\nrepeat 2\n  play "Lamp on"\nplay other\n'
    assert rename_plays(text, {"lamp-on": "lamp-on-2"}, {"lamp-on": LAMP}) == (
        'name "Both"\nplay lamp-on-2\nrepeat 2\n  play lamp-on-2\nplay other\n')


# Fitting.


def rows(*places: tuple[str, float, float]) -> list[ControlRow]:
    return [ControlRow(id=name, legend=name.upper(), code=30 + number, x=x, y=y, w=1.0, h=1.0)
            for number, (name, x, y) in enumerate(places)]


def test_controls_are_matched_by_position_and_by_name() -> None:
    grid = rows(("a", 0, 0), ("b", 1, 0), ("c", 0, 1), ("d", 1, 1))
    wide = rows(("p", 0, 0), ("q", 5, 0), ("r", 0, 5), ("s", 5, 5), ("d", 9, 9))
    bound = {"a": ["press"], "d": ["press", "hold"]}
    assert match(grid, bound, wide, "position").placed == {"a": "p", "d": "d"}
    assert match(grid, bound, wide, "name").placed["d"] == "d"
    few = match(grid, {name: ["press"] for name in "abcd"}, rows(("x", 0, 0)), "position")
    assert few.placed == {} or len(few.placed) + len(few.tray) == 4
    # Gestures that a control cannot make do not come to it.
    knob = [replace(rows(("k", 0, 0))[0], moves=1, turns=True, code=0x400100)]
    assert match(grid, {"a": ["press"]}, knob, "position").tray == ("a",)
    assert match(knob, {"k": ["turn left"]}, grid, "position").tray == ("k",)


def test_the_tray_is_placed_by_hand() -> None:
    fit = Fit({"a": "x"}, ("b",))
    fit = fit.with_hand("b", "x")
    assert fit.placed == {"b": "x"} and fit.tray == ("a",)
    fit = fit.with_hand("a", "y")
    assert fit.placed == {"b": "x", "a": "y"} and fit.tray == ()
    assert fit.with_hand("a", "") == Fit({"b": "x"}, ("a",))
    layers = {"base": {"name": "Base", "press": {"a": {"tap": "A"}, "b": {"tap": "B"}}, "with a": {"b": {"tap": "C"}},
                       "follows": {"class": "X"}}}
    assert bound_controls(layers.values()) == {"a": ["press"], "b": ["press", "with a"]}
    assert fitted_layers(layers, Fit({"b": "x"}, ("a",))) == {"base": {
        "name": "Base", "press": {"x": {"tap": "B"}}, "follows": {"class": "X"}}}
    assert "with y" in fitted_layers(layers, fit)["base"]


def test_pads_fit_a_numpad(store: DeskStore) -> None:
    parcel = parcel_of(pack_desk(store, surfaces=["pads"]))
    fit = fit_onto(parcel, "pads", store, "right-numpad", "position")
    # Strokes of a strength cannot be made on keys.
    assert set(fit.tray) == {"1", "2"} and len(fit.placed) == 13 and len(set(fit.placed.values())) == 13
    assert fit_onto(parcel, "pads", store, "right-numpad", "name").placed["7"] == "7"
    with pytest.raises(ProblemError, match="no surface"):
        fit_onto(parcel, "pads", store, "nothing", "name")


# In a running engine, and on the command line.


def wait_until(what: Callable[[], Any], seconds: float = 10) -> Any:
    end = time.monotonic() + seconds
    while not (found := what()) and time.monotonic() < end:
        time.sleep(0.05)
    return found


def test_a_parcel_is_taken_in_live_and_its_steps_sleep(client: EngineClient, desk: Path, giver: DeskStore,
                                                       tmp_path: Path) -> None:
    touched = tmp_path / "touched"
    (giver.folder / "macros" / "lamp-on.macro").write_text(f'run "touch" "{touched}"\ntap F19\n')
    (giver.folder / "macros" / "both.macro").write_text('name "Both"\nplay lamp-on\n')
    file = tmp_path / "given.zip"
    file.write_bytes(pack_desk(giver, surfaces=["slab"]))
    digest = hashlib.sha256(file.read_bytes()).hexdigest()
    with pytest.raises(EngineError, match="another one"):
        client.ask("take_in", file=str(file), digest="0")
    client.ask("take_in", file=str(file), digest=digest)
    assert "slab" in tomllib.loads((desk / "desk.toml").read_text())["surface"]
    rows_asleep = client.ask("asleep")["asleep"]
    run = next(row for row in rows_asleep if row["does"] == "runs a program" and not row["via"])
    assert run["origin"] == "Slab" and str(touched) in run["text"]
    client.ask("play", macro="both")
    trace = wait_until(lambda: next((t for t in client.ask("traces")["traces"] if t["state"] == "done"), None))
    assert "waiting for your approval" in trace["sentence"] and not trace["count"]
    assert not touched.exists()
    # Both: that it runs the program, and that the other one plays it.
    client.ask("approve", marks=[run["mark"]])
    client.ask("play", macro="both")
    time.sleep(0.3)
    assert not touched.exists()
    client.ask("approve", marks=[row["mark"] for row in client.ask("asleep")["asleep"] if row["via"] == "lamp-on"])
    client.ask("play", macro="both")
    assert wait_until(touched.exists)
    client.ask("undo")
    assert "slab" not in tomllib.loads((desk / "desk.toml").read_text())["surface"]


def test_a_binding_that_reaches_outside_sleeps_and_says_so(client: EngineClient, desk: Path, tmp_path: Path,
                                                          store: DeskStore) -> None:
    parcel_desk = tmp_path / "other"
    parcel_desk.mkdir()
    (parcel_desk / "desk.toml").write_text('''format = 1
[surface.left-numpad]
name = "Left numpad"
layout = "numpad"
device = { name = "Marram numeric pad" }
[surface.left-numpad.layer.class]
[surface.left-numpad.layer.class.press]
7 = { set = "osc /x to 127.0.0.1:9 at 50 %", label = "far" }
''')
    file = tmp_path / "given.zip"
    file.write_bytes(pack_desk(store_in(parcel_desk, tmp_path / "s")))
    client.ask("take_in", file=str(file), choices={"surface left-numpad": "take"})
    client.ask("press", surface="left-numpad", control="7")
    trace = wait_until(lambda: next(iter(client.ask("traces")["traces"]), None))
    assert "waiting for your approval: osc /x to 127.0.0.1:9" in trace["sentence"] and not trace["count"]


def test_giving_and_taking_on_the_command_line(desk: Path, giver: DeskStore, tmp_path: Path,
                                               monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    at = ["--desk", str(desk)]
    done = run_cli("desk", "export", "--surface", "slab", "--desk", str(giver.folder))
    assert done.returncode == 0 and (tmp_path / "slab.zip").exists() and "Not included" in done.stdout
    # What others could read in it stands before what was written.
    listed, _, written = done.stdout.partition("Saved ")
    assert written and 'runs a program: run "lamp-tool"' in listed and "types a text:" in listed
    before = snapshot(desk)
    done = run_cli("desk", "import", "slab.zip", *at)
    assert "+ surface  slab" in done.stdout and 'runs a program: run "lamp-tool"' in done.stdout
    assert "Nothing has changed" in done.stdout and snapshot(desk) == before
    rows_told = [json.loads(line) for line in run_cli("desk", "import", "slab.zip", *at, "--json").stdout.splitlines()]
    assert {row["does"] for row in rows_told if "mark" in row} >= {"runs a program", "calls an address"}
    done = run_cli("desk", "import", "slab.zip", *at, "--onto", "slab=pedals:name")
    assert "in the tray" in done.stdout
    assert run_cli("desk", "import", "slab.zip", *at, "--both", "zz").returncode == 2
    done = run_cli("desk", "import", "slab.zip", *at, "--yes", "--leave", "both")
    assert "Imported" in done.stdout and not (desk / "macros" / "both.macro").exists()
    done = run_cli("desk", "asleep", *at)
    mark = done.stdout.split()[0]
    assert "from Slab" in done.stdout
    assert "1 approved" in run_cli("desk", "asleep", "--approve", mark, *at).stdout
    assert mark not in run_cli("desk", "asleep", *at).stdout
    run_cli("desk", "asleep", "--approve", "all", *at)
    assert "Nothing waits for approval." in run_cli("desk", "asleep", *at).stdout
    assert run_cli("desk", "asleep", "--approve", "zz", *at).returncode == 2
    # A new desk of it.
    run_cli("desk", "export", "whole.zip", "--desk", str(giver.folder))
    assert "--yes creates the desk" in run_cli("desk", "import", "whole.zip", "--to", "made").stdout
    assert run_cli("desk", "import", "whole.zip", "--to", "made", "--yes").returncode == 0
    assert tomllib.loads((tmp_path / "made" / "desk.toml").read_text())["name"] == "Tideline Studio"
    assert run_cli("desk", "import", "whole.zip", "--to", "made", "--yes").returncode == 2


def test_looking_reads_and_never_writes(giver: DeskStore, store: DeskStore, tmp_path: Path) -> None:
    before = snapshot(store.folder)
    found = look(parcel_of(pack_desk(giver)), store)
    assert len(found.reaching) == 7 and {row.item for row in found.reaching} == {"macro lamp-on", "macro both",
                                                                                       "surface slab"}
    assert snapshot(store.folder) == before and not store.log.entries()
    assert Trust(None).read(tmp_path / "nowhere").macros == {}
    assert os.access(store.folder, os.W_OK)


# Who does it counts, not how it is spelled.


SHELL = 'run shell "date"\n'
OWN = {"own-tool": 'name "My tool"\nrun shell "mine"\n', "own-plain": "tap F1\n"}
TAPPED = "".join(f"tap {key}\n" for key in ("D", "A", "T", "E", "Enter"))


@pytest.mark.parametrize(("text", "does"), [
    pytest.param("".join(f"tap {key}\n" for key in "XTERM"), "taps keys", id="a name, key by key"),
    pytest.param(TAPPED, "taps keys", id="a line, key by key"),
    pytest.param("tap L\ntap S\ntap Enter\n", "taps keys", id="two letters and Enter"),
    pytest.param("tap Alt+F2\nwait 1s\ntap A\n", "taps keys: opens", id="a place for commands"),
    pytest.param("tap Super\n", "taps keys", id="the menu key alone"),
    pytest.param("down R\nup R\ndown M\nup M\ntap Enter\n", "taps keys", id="down and up"),
    pytest.param("repeat 2\n  tap R\n  tap M\ntap Enter\n", "taps keys", id="in a block"),
    pytest.param("keep Shift down\n  tap R\n  tap M\n  tap A\n  tap B\n", "taps keys", id="under Shift"),
    pytest.param("beat 200ms\n  tap E\n  tap X\n  tap I\n  tap T\n", "taps keys", id="in a rhythm"),
    pytest.param("if number = 7\n  tap R\n  tap M\n  tap Enter\n", "taps keys", id="on a way that is seldom taken"),
    pytest.param('play "My tool"\n', "runs a program", id="by a macro of mine"),
    pytest.param('repeat 2\n  play own-tool\n', "runs a program", id="by a macro of mine, in a block"),
    pytest.param("play between\n", "runs a program", id="by two macros"),
    pytest.param('paste "rm -r /\\n"\n', "pastes a text", id="pasted"),
    pytest.param('start "tool"\n', "starts a program", id="started"),
    pytest.param("let x be 5\nrun shell \"{x}\"\n", "runs a program", id="by a value"),
    pytest.param("send bytes \"F0 7D 01 F7\"\n", "sends MIDI", id="to an instrument"),
])
def test_a_strangers_macro_sleeps_whichever_way_it_reaches_out(store: DeskStore, text: str, does: str) -> None:
    for name, mine in {**OWN, "between": "play own-tool\n"}.items():
        (store.folder / "macros" / f"{name}.macro").write_text(mine)
    store.load()
    parcel = parcel_of(zipped([("macros/theirs.macro", text.encode())]))
    # It is shown before anything changes.
    seen = look(parcel, store)
    assert any(row.reach.does.startswith(does) for row in seen.reaching), seen.reaching
    assert does in at_most(seen, seen.items[0])
    store.change(intake_edit(parcel, store, Choices())[0])
    loaded = store.load()
    assert any(reach.does.startswith(does) for _, reach in store.asleep(loaded.desk))
    assert_asleep(loaded.desk.macros["theirs"])
    # What is mine goes on, and does what it did.
    assert [ask.kind for ask in asked(loaded.desk.macros["own-tool"])] == ["shell"]


def asked(macro: Macro) -> list[Errand]:
    """What a macro asks of the world when it is played."""
    if macro.score is None:
        return []
    _, laying = macro.score.start(Given({"strength": 127, "position": 0, "number": 7}))
    found, answer = [], None
    with contextlib.suppress(StopIteration, Finish, GaveUp):
        while True:
            ask = laying.send(answer)
            answer = None if isinstance(ask, CatchUp) else True
            if isinstance(ask, Errand):
                found.append(ask)
    return found


def assert_asleep(macro: Macro) -> None:
    """Nothing of it reaches outside: it only says that it sleeps, and types nothing."""
    assert [ask.kind for ask in asked(macro)].count("asleep") >= 1
    assert {ask.kind for ask in asked(macro)} == {"asleep"}
    assert len(macro.timetable.codes) <= 2


def test_plain_keys_of_a_stranger_work_at_once(store: DeskStore) -> None:
    store.load()
    parcel = parcel_of(zipped([("macros/theirs.macro", b"tap Ctrl+Alt+4\nwait 1s\ntap F5\nplay own-plain\n")]))
    (store.folder / "macros" / "own-plain.macro").write_text("tap F1\n")
    store.load()
    store.change(intake_edit(parcel, store, Choices())[0])
    loaded = store.load()
    assert store.asleep(loaded.desk) == [] and len(loaded.desk.macros["theirs"].timetable.codes) == 10


def import_shell(store: DeskStore, text: str = SHELL) -> None:
    store.load()
    parcel = parcel_of(zipped([("macros/theirs.macro", text.encode())]))
    store.change(intake_edit(parcel, store, Choices())[0])


def fresh(store: DeskStore) -> DeskStore:
    """As another start would read it."""
    return DeskStore(store.folder, store.versions, store.user_layouts, store.approvals)


def test_a_guest_stays_one_under_another_name_and_without_its_list(store: DeskStore, tmp_path: Path) -> None:
    import_shell(store, 'play "My tool"\n' + SHELL)
    macros = store.folder / "macros"
    (macros / "own-tool.macro").write_text(OWN["own-tool"])
    (macros / "theirs.macro").rename(macros / "innocent.macro")
    (store.folder / "guests.toml").unlink()
    for opened in (store, fresh(store)):
        desk = opened.load().desk
        assert_asleep(desk.macros["innocent"])
        assert {where for where, _ in opened.asleep(desk)} == {"macros/innocent.macro"}
        opened.settle()
    # Renamed once more, and edited then.
    (macros / "innocent.macro").rename(macros / "harmless.macro")
    store.load()
    store.settle()
    with (macros / "harmless.macro").open("a") as file:
        file.write("tap F9\n")
    assert_asleep(fresh(store).load().desk.macros["harmless"])
    # The list edited by whoever: it makes nobody one's own.
    (store.folder / "guests.toml").write_text("# empty\n")
    assert_asleep(fresh(store).load().desk.macros["harmless"])


def test_what_others_bring_puts_no_line_of_mine_to_sleep(store: DeskStore, tmp_path: Path) -> None:
    """Seen: a macro that had worked for months stopped after a restart, since a package elsewhere had the same line."""
    import_shell(store)
    (store.folder / "macros" / "mine.macro").write_text(SHELL)
    other = tmp_path / "other"
    (other / "macros").mkdir(parents=True)
    (other / "desk.toml").write_text("format = 1\n")
    (other / "macros" / "x.macro").write_text(SHELL)
    assert store.approvals is not None
    second = DeskStore(other, tmp_path / "v2", None, store.approvals.with_name("other.json"))
    second.trust.know()
    for opened, name in ((store, "mine"), (fresh(store), "mine"), (second, "x"), (fresh(second), "x")):
        assert [ask.kind for ask in asked(opened.load().desk.macros[name])] == ["shell"]
    assert_asleep(fresh(store).load().desk.macros["theirs"])


BOOTH = b'format = 1\n[surface.theirs]\nlayout = "phrases"\ndevice = { name = "Booth" }\n'


def test_a_strangers_surface_takes_what_the_person_gives_it(store: DeskStore) -> None:
    """Seen: a package guessed the name of a microphone, and it was opened."""
    store.load()
    parcel = parcel_of(zipped([("desk.toml", BOOTH)]))
    assert [(row.where, row.reach.does) for row in look(parcel, store).reaching] == [
        ("its device", "takes a device or opens a microphone")]
    store.change(intake_edit(parcel, store, Choices())[0])
    surface = store.load().desk.surfaces["theirs"]
    assert not surface.rule.fields and str(surface.wanted[0]) == "name “Booth”"
    # Given one in Meet, it has that, also after another start.
    store.change(Edit("met", ((("surface", "theirs", "device"), {"name": "Booth", "port": "usb-2"}),)))
    for opened in (store, fresh(store)):
        surface = opened.load().desk.surfaces["theirs"]
        assert surface.rule.get("port") == "usb-2" and not surface.wanted
    # Another one written there asks again: the surface is still theirs.
    (store.folder / "desk.toml").write_text((store.folder / "desk.toml").read_text().replace("usb-2", "usb-3"))
    assert store.load().desk.surfaces["theirs"].wanted


def test_an_approval_covers_the_values(store: DeskStore) -> None:
    import_shell(store, 'let x be 5\nrun shell "tool {x}"\n')
    (_, reach), = store.asleep(store.load().desk)
    store.trust.approve([reach.mark])
    assert store.asleep(store.load().desk) == []
    file = store.folder / "macros" / "theirs.macro"
    file.write_text(file.read_text().replace("5", "6"))
    (_, other), = store.asleep(store.load().desk)
    assert other.text == reach.text and other.values == "let x be 6"
    assert_asleep(store.load().desk.macros["theirs"])


def test_what_i_write_myself_is_live_at_once_even_beside_a_guest(store: DeskStore) -> None:
    (store.folder / "macros" / "mine.macro").write_text(SHELL)
    import_shell(store)
    macros = store.folder / "macros"
    # I had this very step before: mine goes on, theirs sleeps.
    desk = store.load().desk
    assert [ask.kind for ask in asked(desk.macros["mine"])] == ["shell"]
    assert_asleep(desk.macros["theirs"])
    (macros / "new.macro").write_text('run shell "something of mine"\ntype "hello"\n')
    assert [ask.kind for ask in asked(store.load().desk.macros["new"])] == ["shell"]
    # Made my own, theirs does what it says.
    assert "yours from now on" in store.adopt(["theirs"])
    assert [ask.kind for ask in asked(store.load().desk.macros["theirs"])] == ["shell"]
    assert "theirs" not in (store.folder / "guests.toml").read_text()
    with pytest.raises(ProblemError, match="is not a guest"):
        store.adopt(["mine"])


def test_a_desk_that_was_never_open_here_asks_once(tmp_path: Path) -> None:
    folder = tmp_path / "synchronised"
    (folder / "macros").mkdir(parents=True)
    (folder / "macros" / "tool.macro").write_text(SHELL)
    (folder / "macros" / "plain.macro").write_text("tap F1\n")
    (folder / "desk.toml").write_text("""format = 1
[surface.pad]
layout = "numpad"
[surface.pad.layer.base.press]
1 = { play = "tool" }
2 = { set = "osc /x to 127.0.0.1:9 at 5 %" }
""")
    store = store_in(folder, tmp_path / "here")
    store.lock()
    store.get_to_know()
    desk = store.load().desk
    assert {where for where, _ in store.asleep(desk)} == {"macros/tool.macro", "pad 2"}
    assert_asleep(desk.macros["tool"])
    assert desk.surfaces["pad"].answer("2", "press")[1].asleep
    # Once approved, it asks no more; and what is written now is the person's own.
    store.trust.approve([reach.mark for _, reach in store.asleep(desk)])
    (folder / "macros" / "more.macro").write_text('run shell "mine"\n')
    store.unlock()
    again = fresh(store)
    again.get_to_know()
    desk = again.load().desk
    assert again.asleep(desk) == [] and [ask.kind for ask in asked(desk.macros["more"])] == ["shell"]
    # Where it was open before anybody kept this, it stays the person's own.
    old = store_in(folder, tmp_path / "elsewhere")
    old.log.record("an edit", {"desk.toml": "format = 1\n"})
    old.get_to_know()
    assert old.asleep(old.load().desk) == []


def test_a_strangers_key_that_plays_a_macro_of_mine_has_no_more_rights(store: DeskStore) -> None:
    (store.folder / "macros" / "own-tool.macro").write_text(OWN["own-tool"])
    store.load()
    text = b"""format = 1
[surface.theirs]
layout = "numpad"
[surface.theirs.layer.base.press]
1 = { play = "own-tool" }
2 = { cycle = ["tap A", "play own-tool"] }
3 = { tap = "A" }
"""
    parcel = parcel_of(zipped([("desk.toml", text)]))
    assert {row.where.split(",")[0] for row in look(parcel, store).reaching} == {"1 press", "2 press"}
    store.change(intake_edit(parcel, store, Choices())[0])
    bound = store.load().desk.surfaces["theirs"].layers[0].bindings
    assert [bound[key, "press"].asleep for key in "123"] == [True, True, False]
    store.trust.approve([reach.mark for _, reach in store.asleep(store.load().desk)])
    assert not store.load().desk.surfaces["theirs"].layers[0].bindings["1", "press"].asleep
    # My macro becomes another one: the stranger's key asks again.
    (store.folder / "macros" / "own-tool.macro").write_text('name "My tool"\nrun shell "more"\n')
    assert store.load().desk.surfaces["theirs"].layers[0].bindings["1", "press"].asleep
