"""What goes wrong around the program: broken and monstrous files, full disks, ends at any moment, starts after them."""

from __future__ import annotations

import contextlib
import errno
import hashlib
import json
import os
import random
import re
import resource
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from brass_pebble import file_access
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.demo import ENGINE_OPTIONS, HERE, know
from brass_pebble.engine.disk.edits import Edit, binding_edit
from brass_pebble.engine.disk.store import DeskBusy, DeskStore
from brass_pebble.engine.disk.versions import Damaged, VersionLog
from conftest import wait_for
from mutants import MONSTERS, mutate

# In continuous runs a short form; outside them as many as are asked for.
MUTANTS = int(os.environ.get("MUTANTS", "500"))
KILLS = int(os.environ.get("KILLS", "12"))
SECONDS, MEGABYTES = 2.0, 200
OPTIONS = [*(word for word in ENGINE_OPTIONS if word != "--until-left"), "--may-lack-output"]
# What is large or strange, and works.
FINE = ("3,000 macros", "parentheses in parentheses", "a pipe for a table")


@pytest.fixture
def store(desk: Path, tmp_path: Path) -> DeskStore:
    return DeskStore(desk, tmp_path / "versions", tmp_path / "layouts")


# Broken and monstrous files.


def test_no_mutant_stops_a_start_or_a_reload(tmp_path: Path) -> None:
    """Each is read by a fresh start, and by one that had a good desk before; both tell where the mistake is."""
    good = HERE / "desk"
    files = sorted((*good.glob("*.toml"), *good.glob("macros/*.macro"), *good.glob("layouts/*.toml"),
                    HERE.parent / "layouts" / "numpad.toml"))
    before = _megabytes()
    slowest, told = 0.0, 0
    for number in range(MUTANTS):
        file = files[number % len(files)]
        folder = tmp_path / f"desk-{number % 8}"
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(good, folder)
        running = DeskStore(folder, tmp_path / f"v-{number}")
        assert running.load().ok
        place = folder / file.relative_to(good) if file.is_relative_to(good) else folder / "layouts" / file.name
        place.parent.mkdir(exist_ok=True)
        place.write_bytes(mutate(file.read_text(), number))
        began = time.perf_counter()
        again = running.load()
        fresh = DeskStore(folder, tmp_path / "fresh").load()
        slowest = max(slowest, (time.perf_counter() - began) / 2)
        told += bool(fresh.problems)
        for problem in (*again.problems, *fresh.problems):
            assert problem.what and problem.file, (number, problem)
        # Where the text of desk.toml itself is whole, no surface is lost to another file's mistake.
        if place.name != "desk.toml":
            assert set(again.desk.surfaces) == set(fresh.desk.surfaces) and len(again.desk.surfaces) == 7, number
    assert slowest < SECONDS and _megabytes() - before < MEGABYTES
    assert told > MUTANTS // 3


def _megabytes() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


@pytest.mark.parametrize("name", MONSTERS)
def test_no_monster_stops_a_start_or_a_reload(name: str, tmp_path: Path) -> None:
    folder = Path(shutil.copytree(HERE / "desk", tmp_path / "desk"))
    running = DeskStore(folder, tmp_path / "versions")
    good = running.load()
    MONSTERS[name](folder)
    began = time.process_time()
    again = running.load()
    assert time.process_time() - began < SECONDS
    assert again.problems or name in FINE
    # What was there before goes on: the desk as a whole, or all of it but the monster.
    assert not again.ok or again.desk.macros.keys() >= good.desk.macros.keys()
    began = time.process_time()
    fresh = DeskStore(folder, tmp_path / "other").load()
    assert time.process_time() - began < SECONDS
    assert fresh.problems or name in FINE
    for problem in fresh.problems:
        assert problem.file and problem.what


@pytest.mark.parametrize("name", ["250 nested blocks", "a pipe for desk.toml", "a device for a macro",
                                  "macros that play the next one twice", "wrong kinds further in"])
def test_a_start_always_reaches_its_socket(name: str, desk: Path) -> None:
    MONSTERS[name](desk)
    socket, process = start_engine(desk, *OPTIONS)
    try:
        with EngineClient(socket) as client:
            reply = client.ask("desk")
            assert reply["problems"] and reply["problems"][0]["what"]
            if not name.endswith(("desk.toml", "further in")):
                assert len(reply["desk"]["surfaces"]) == 7
                assert client.ask("play", macro="welcome")["state"] in ("playing", "done")
        # The engine's own peak, from proc_pid_status(5), in kB.
        peak = re.search(r"^VmHWM:\s+(\d+) kB", Path(f"/proc/{process.pid}/status").read_text(), re.MULTILINE)
        assert peak and int(peak[1]) <= MEGABYTES * 1024
    finally:
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=15) == 0


READING = """
import os, sys
from pathlib import Path
from brass_pebble.core.macro import reader
from brass_pebble.engine.disk import macro_files
from brass_pebble.engine.disk.store import DeskStore
real = macro_files.parse
def parse(text, **named):
    if "fatal" in text:
        os.kill(os.getpid(), 9)
    return real(text, **named)
macro_files.parse = parse
store = DeskStore(Path(sys.argv[1]), Path(sys.argv[2]))
store.lock()
loaded = store.load()
store.started()
print(sorted(loaded.desk.macros), [str(problem) for problem in loaded.problems])
"""


def test_a_file_on_which_two_starts_died_is_left_out(desk: Path, tmp_path: Path) -> None:
    file = desk / "macros" / "trap.macro"
    file.write_text("# fatal\ntap A\n")

    def start() -> subprocess.CompletedProcess[str]:
        return subprocess.run([sys.executable, "-c", READING, str(desk), str(tmp_path / "versions")],
                              capture_output=True, text=True, check=False, timeout=30)
    assert [start().returncode for _ in range(2)] == [-9, -9]
    third = start()
    assert third.returncode == 0 and "welcome" in third.stdout and "'trap'" not in third.stdout
    assert "the last two starts ended while this file was read" in third.stdout
    assert "'trap'" not in start().stdout
    # Corrected, it is read again.
    file.write_text("tap A\ntap B\n")
    assert "'trap'" in start().stdout


# What works is never replaced by what does not.


def test_a_desk_file_that_is_gone_or_empty_for_a_moment_changes_nothing(store: DeskStore) -> None:
    good = store.load()
    store.settle()
    text = store.file.read_text()
    for broken in ("", "   \n", None):
        if broken is None:
            store.file.unlink()
        else:
            store.file.write_text(broken)
        found = store.load()
        assert not found.ok and "The last good desk stays in use" in found.problems[0].hint
        with pytest.raises(ProblemError):
            store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
        # A start meanwhile has the last version that is known.
        start = DeskStore(store.folder, store.versions, store.user_layouts)
        loaded = start.load()
        assert len(loaded.desk.surfaces) == len(good.desk.surfaces)
        assert "Until then the last good version is in use" in loaded.problems[0].hint
    store.file.write_text(text)
    assert store.load().problems == []


def test_a_whole_folder_that_is_exchanged_is_taken_up_live_by_its_path(engine: Path, desk: Path,
                                                                        tmp_path: Path) -> None:
    with EngineClient(engine) as client:
        other = Path(shutil.copytree(desk, tmp_path / "other"))
        (other / "desk.toml").write_text((other / "desk.toml").read_text().replace(
            'name = "Saltmarsh Bakehouse"', 'name = "Second desk"'))
        desk.rename(tmp_path / "away")
        wait_for(lambda: client.ask("desk")["problems"])
        state = client.ask("desk")
        assert state["desk"]["name"] == "Saltmarsh Bakehouse" and len(state["desk"]["surfaces"]) == 7
        assert "The last good desk stays in use" in state["problems"][0]["hint"]
        # Another engine on the same path is refused, though the folder is another one.
        other.rename(desk)
        with pytest.raises(DeskBusy):
            from brass_pebble import paths
            DeskStore(desk, paths.state_folder() / "versions" / paths.desk_key(desk)).lock()
        wait_for(lambda: client.ask("desk")["desk"]["name"] == "Second desk")
        # And it is watched where it lies now.
        (desk / "desk.toml").write_text((desk / "desk.toml").read_text().replace("Second desk", "Third desk"))
        wait_for(lambda: client.ask("desk")["desk"]["name"] == "Third desk")


def test_linked_files_are_written_through(store: DeskStore, tmp_path: Path) -> None:
    kept = tmp_path / "kept"
    kept.mkdir()
    for name in ("desk.toml", "macros/welcome.macro"):
        target = kept / Path(name).name
        (store.folder / name).rename(target)
        (store.folder / name).symlink_to(target)
    store.load()
    store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    store.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap W\n"),)))
    assert store.file.is_symlink() and 'tap = "F20"' in (kept / "desk.toml").read_text()
    assert (store.folder / "macros" / "welcome.macro").is_symlink()
    assert (kept / "welcome.macro").read_text() == "tap W\n"
    assert not list(kept.glob(".*")) and not list(store.folder.glob(".*"))


def test_an_unknown_drawing_leaves_the_one_before(store: DeskStore) -> None:
    before = store.load().desk.surfaces["left-numpad"].layout
    store.settle()
    store.file.write_text(store.file.read_text().replace('layout = "numpad"', 'layout = "numpda"', 1))
    for opened in (store, DeskStore(store.folder, store.versions, store.user_layouts)):
        loaded = opened.load()
        assert loaded.desk.surfaces["left-numpad"].layout.controls == before.controls
        assert any("the last drawing stays in use" in problem.what for problem in loaded.problems)


def test_a_broken_macro_plays_as_it_did_also_after_a_start(store: DeskStore) -> None:
    good = store.load().desk.macros["welcome"].timetable.length
    store.settle()
    (store.folder / "macros" / "welcome.macro").write_text("tap Ctrl+\n")
    for opened in (store, DeskStore(store.folder, store.versions, store.user_layouts)):
        loaded = opened.load()
        assert loaded.desk.macros["welcome"].timetable.length == good and not loaded.desk.broken_macros
        (problem,) = loaded.problems
        assert problem.line == 1 and "The last good version stays in use" in problem.hint
        # What is broken is no version to go back to.
        opened.settle()
    assert "tap Ctrl+\n" not in [text for version in store.log.entries() for text in
                                 store.log.texts(version.number).values()]


# Several hands on the same files.


def test_a_file_saved_from_an_older_copy_is_told_and_both_stay_reachable(store: DeskStore) -> None:
    store.load()
    store.settle()
    older = store.file.read_text()
    store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    # An editor that had the file open before saves something of its own.
    store.file.write_text(older.replace('label = "hob"', 'label = "stove"'))
    loaded = store.load()
    (told,) = [problem for problem in loaded.problems if "older copy" in problem.what]
    assert "pedals left: tap F20" in told.what and "history" in told.hint
    store.settle()
    texts = [store.log.texts(version.number)["desk.toml"] for version in store.log.entries()]
    assert any("F20" in text for text in texts) and "stove" in texts[-1]
    # Undoing what is gone would overwrite the newer work: it is told, and passed over.
    with pytest.raises(ProblemError, match="was changed by another program since"):
        store.undo()
    assert "stove" in store.file.read_text()
    with pytest.raises(ProblemError, match="nothing to undo"):
        store.undo()


def test_undo_never_overwrites_a_macro_that_was_changed_since(store: DeskStore) -> None:
    file = store.folder / "macros" / "welcome.macro"
    store.load()
    store.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap A\n"),)))
    store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    file.write_text("tap B\n")
    store.undo()
    with pytest.raises(ProblemError, match=r"macros/welcome\.macro was changed by another program"):
        store.undo()
    assert file.read_text() == "tap B\n"
    store.load()
    store.settle()
    assert {"tap A\n", "tap B\n"} <= {store.log.texts(version.number)["macros/welcome.macro"]
                                      for version in store.log.entries()}


def test_undo_keeps_little_of_a_large_desk(store: DeskStore) -> None:
    store.load()
    big = "".join(f"# {random.Random(n).random()} a remark that makes the file large\n" for n in range(12_000))
    store.file.write_text(store.file.read_text() + big)
    store.load()
    for number in range(60):
        store.change(binding_edit("pedals", "class", "left", "tap", f"F{1 + number % 20}"))
    steps = store._undo.done
    assert len(steps) > 20 and sum(step.size for step in steps) < 26_000_000
    for _ in range(20):
        store.undo()
    assert store.file.read_text().endswith(big[-200:])


# The history.


def test_a_damaged_history_costs_what_is_damaged_and_nothing_else(store: DeskStore) -> None:
    store.load()
    for key in ("F13", "F14", "F15", "F16"):
        store.change(binding_edit("pedals", "class", "left", "tap", key))
    log = store.log.folder / "log.jsonl"
    lines = log.read_bytes().split(b"\n")
    log.write_bytes(b"\n".join([lines[0], lines[1][:30] + b"\xff" + lines[1][30:], *lines[2:4], lines[4][:-9]]))
    again = VersionLog(store.log.folder)
    assert [version.words for version in again.entries()] == [
        "initial state", "pedals left: tap F14", "pedals left: tap F15"]
    assert again.damaged == 2
    # The next change stands, though the last line had been cut off.
    again.record("one more", {"desk.toml": "format = 1\n"})
    assert VersionLog(store.log.folder).entries()[-1].words == "one more"
    # A number changed by a flipped bit is no longer believed.
    log.write_bytes(log.read_bytes().replace(b'"number": 4', b'"number": 5'))
    last = VersionLog(store.log.folder)
    assert len(last.entries()) == 3 and last.damaged == 3


def test_a_torn_text_is_never_brought_back(store: DeskStore) -> None:
    store.load()
    store.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap A\n"),)))
    store.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap B\n"),)))
    names = store.log.state(2)
    torn = store.log.folder / "texts" / f"{names['macros/welcome.macro']}.z"
    torn.write_bytes(torn.read_bytes()[:3])
    fresh = DeskStore(store.folder, store.versions, store.user_layouts)
    fresh.load()
    with pytest.raises(Damaged):
        fresh.log.texts(2)
    with pytest.raises(ProblemError, match="cannot be brought back"):
        fresh.restoring_edit(2)
    assert (store.folder / "macros" / "welcome.macro").read_text() == "tap B\n"
    # Written once more, it is whole again.
    fresh.change(Edit("macro welcome: written", files=(("macros/welcome.macro", "tap A\n"),)))
    assert fresh.log.texts(2)["macros/welcome.macro"] == "tap A\n"


def test_the_history_is_bounded_in_size(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from brass_pebble.engine.disk import versions
    monkeypatch.setattr(versions, "MOST_BYTES", 200_000)
    log = VersionLog(tmp_path / "log")
    for number in range(120):
        log.record(f"change {number}", {"desk.toml": random.Random(number).randbytes(4_000).hex()})
    assert sum(file.stat().st_size for file in (log.folder / "texts").iterdir()) < 400_000
    assert len(VersionLog(log.folder).entries()) >= 20 and log.entries()[-1].words == "change 119"


# A disk that fails at any step.


class Failing(file_access.Layer):
    """Fails at the n-th step, in one of several ways."""

    def __init__(self, at: int, how: int) -> None:
        self.at, self.how, self.count, self.failed = at, how, 0, False

    def _step(self) -> bool:
        self.count += 1
        if self.count == self.at:
            self.failed = True
            return True
        return False

    def open(self, path: str, flags: int, mode: int) -> int:
        if self._step():
            raise OSError(errno.ENOSPC, "full", path)
        return super().open(path, flags, mode)

    def write(self, fileno: int, data: bytes) -> int:
        if self._step():
            # Part of it arrives.
            super().write(fileno, data[:len(data) // 2])
            raise OSError((errno.ENOSPC, errno.EIO, errno.EROFS)[self.how % 3], "full")
        return super().write(fileno, data)

    def sync(self, fileno: int) -> None:
        if self._step():
            raise OSError(errno.EIO, "broken")
        super().sync(fileno)

    def replace(self, source: str, target: str) -> None:
        if self._step():
            raise OSError(errno.EPERM, "not allowed")
        super().replace(source, target)

    def remove(self, path: str) -> None:
        if self._step():
            raise OSError(errno.EACCES, "not allowed")
        super().remove(path)


def session(store: DeskStore) -> Iterator[str]:
    """Edits of every sort: one file, several, taken away, undone, an earlier version brought back."""
    yield store.change(binding_edit("pedals", "class", "left", "tap", "F20"))
    yield store.change(Edit("two at once", ((("surface", "pedals", "name"), "Feet"),),
                            (("macros/new.macro", "tap N\n"), ("macros/welcome.macro", "tap W\n"))))
    yield store.undo()
    yield store.redo()
    yield store.change(Edit("taken away", files=(("macros/new.macro", None),)))
    yield store.change(store.restoring_edit(1))


def snapshot(folder: Path) -> dict[str, bytes]:
    return {str(file.relative_to(folder)): file.read_bytes() for file in sorted(folder.rglob("*")) if file.is_file()}


CHECK = """
import json, sys
from pathlib import Path
from brass_pebble.engine.disk.store import DeskStore
for line in sys.stdin:
    folder, versions = map(Path, json.loads(line))
    store = DeskStore(folder, versions)
    store.lock()
    loaded = store.load()
    whole = all(store.log.texts(version.number) is not None for version in store.log.entries())
    print(json.dumps([loaded.ok, [str(problem) for problem in loaded.problems], len(loaded.desk.surfaces), whole]))
    store.unlock()
"""


def test_a_start_whose_disk_fails_at_any_step_has_its_desk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """For every n: the n-th open, write, sync, rename or removal of a start fails; it starts from the desk's files."""
    folder = tmp_path / "desk"
    for name in ("macros", "values"):
        (folder / name).mkdir(parents=True)
    (folder / "desk.toml").write_text('format = 1\n[surface.pad]\nlayout = "numpad"\n[surface.pad.layer.base.press]\n'
                                      '1 = { play = "x" }\n')
    (folder / "macros" / "x.macro").write_text("tap F1\n")
    (folder / "values" / ".take.toml.99999999.new").write_text("left behind")
    at = 0
    while True:
        at += 1
        state = tmp_path / f"state-{at}"
        store = DeskStore(folder, state / "versions" / "x", state / "layouts", state / "approvals" / "x.json")
        failing = Failing(at, at)
        monkeypatch.setattr(file_access, "layer", failing)
        store.lock()
        # As the engine does: what cannot be noted is told, and nothing else.
        with contextlib.suppress(OSError):
            store.get_to_know()
        loaded = store.load()
        store.started()
        with contextlib.suppress(OSError):
            store.settle()
        store.unlock()
        monkeypatch.setattr(file_access, "layer", file_access.Layer())
        assert loaded.ok and {*loaded.desk.surfaces} == {"pad"} and {*loaded.desk.macros} == {"x"}, at
        if not failing.failed:
            break
    assert at > 5, at


def test_a_disk_that_fails_at_any_step_leaves_the_state_before_or_after(tmp_path: Path,
                                                                          monkeypatch: pytest.MonkeyPatch) -> None:
    """For every n: the n-th open, write, sync, rename or removal fails; then another process starts."""
    jobs: list[str] = []
    at = 0
    while True:
        at += 1
        folder = Path(shutil.copytree(HERE / "desk", tmp_path / f"desk-{at}"))
        store = DeskStore(folder, tmp_path / f"versions-{at}")
        store.load()
        store.settle()
        failing = Failing(at, at)
        monkeypatch.setattr(file_access, "layer", failing)
        steps = session(store)
        before = snapshot(folder)
        try:
            for _ in steps:
                before = snapshot(folder)
        except ProblemError as error:
            # Told in words, and nothing was changed.
            assert "could not be saved" in str(error) and "Errno" not in str(error) and ".new" not in str(error)
            assert snapshot(folder) == before
        monkeypatch.setattr(file_access, "layer", file_access.Layer())
        assert not [name for name in snapshot(folder) if Path(name).name.startswith(".")], at
        jobs.append(json.dumps([str(folder), str(store.versions)]))
        if not failing.failed:
            break
    assert at > 40
    done = subprocess.run([sys.executable, "-c", CHECK], input="\n".join(jobs), capture_output=True, text=True,
                          check=True, timeout=300)
    for line in done.stdout.splitlines():
        assert json.loads(line) == [True, [], 7, True]
    # What a start finishes is nothing: it was all there, or nothing of it.
    for job in jobs:
        folder, versions = map(Path, json.loads(job))
        assert not (versions / "pending.json").exists()


def test_a_change_that_was_cut_off_between_two_files_is_finished_by_the_next_start(
        store: DeskStore, monkeypatch: pytest.MonkeyPatch) -> None:
    store.load()
    store.settle()

    class Cut(Exception):
        """The process is gone."""

    class Cutting(file_access.Layer):
        left = 2

        def replace(self, source: str, target: str) -> None:
            self.left -= 1
            if self.left < 0:
                raise Cut
            super().replace(source, target)
    monkeypatch.setattr(file_access, "layer", Cutting())
    with pytest.raises(Cut):
        store.change(Edit("both", ((("surface", "pedals", "name"), "Feet"),), (("macros/new.macro", "tap N\n"),)))
    monkeypatch.setattr(file_access, "layer", file_access.Layer())
    assert (store.folder / "macros" / "new.macro").exists() and "Feet" not in store.file.read_text()
    again = DeskStore(store.folder, store.versions, store.user_layouts)
    again.lock()
    assert 'name = "Feet"' in again.file.read_text() and again.load().problems == []
    again.unlock()


EDITING = """
import sys
from pathlib import Path
from brass_pebble.engine.disk.edits import Edit
from brass_pebble.engine.disk.store import DeskStore
store = DeskStore(Path(sys.argv[1]), Path(sys.argv[2]))
store.lock()
store.load()
number = int(sys.argv[3])
while True:
    number += 1
    store.change(Edit(f"change {number}", ((("surface", "pedals", "name"), f"Feet {number}"),),
                      (("macros/count.macro", f"# {number}\\ntap F{1 + number % 20}\\n"),)))
    print(number, flush=True)
"""


def test_ends_at_random_moments_lose_nothing_that_was_acknowledged(desk: Path, tmp_path: Path) -> None:
    """Killed while it saves: the next start has the last change that was acknowledged, or the one begun after it."""
    chance, last = random.Random(7), 0
    for _ in range(KILLS):
        child = subprocess.Popen([sys.executable, "-c", EDITING, str(desk), str(tmp_path / "v"), str(last)],
                                 stdout=subprocess.PIPE, text=True)
        assert child.stdout and child.stdout.readline()
        time.sleep(chance.uniform(0.0, 0.15))
        child.kill()
        told = [int(line) for line in child.stdout.read().split()]
        child.wait()
        acknowledged = told[-1] if told else last + 1
        store = DeskStore(desk, tmp_path / "v")
        store.lock()
        loaded = store.load()
        assert loaded.ok and not loaded.problems
        name = loaded.desk.surfaces["pedals"].name
        macro = (desk / "macros" / "count.macro").read_text().split("\n")[0].removeprefix("# ")
        assert name == f"Feet {macro}" and int(macro) in (acknowledged, acknowledged + 1)
        last = int(macro)
        assert all(store.log.texts(version.number) for version in store.log.entries()[-5:])
        store.unlock()
        # Nor is anything left behind of what it was writing.
        assert not [file for root in (desk, tmp_path / "v") for file in root.rglob(".*")]


# Starting once more.


DUMP = """
import json, sys
from pathlib import Path
from brass_pebble.core.play.player import Player
from brass_pebble.core.play.router import Router
from brass_pebble.core.effects.kinds import tell
from brass_pebble.core.signals.signal import signal_name
from brass_pebble.engine.disk.store import DeskStore
store = DeskStore(Path(sys.argv[1]), Path(sys.argv[2]))
loaded = store.load()
router = Router(Player())
router.load(loaded.desk)

def program(found):
    return found and [[at, tell(code, value), value, line] for at, code, value, line in
                      zip(found.times, found.codes, found.values, found.lines)]
rows = {}
for name in loaded.desk.surfaces:
    for code, plan in router._plans[name].items():
        rows[f"{name} {signal_name(code)}"] = [
            [answer.words, answer.deed, program(answer.timetable), [target.text for target in answer.drives]]
            for answer in plan.any()]
print(json.dumps([rows, sorted(loaded.desk.receivers), [str(problem) for problem in loaded.problems],
                  {name: program(macro.timetable) for name, macro in loaded.desk.macros.items()}], sort_keys=True))
store.settle()
"""


def test_a_desk_of_every_effect_is_planned_the_same_by_every_start(tmp_path: Path) -> None:
    desk = tmp_path / "desk"
    (desk / "macros").mkdir(parents=True)
    (desk / "layouts").mkdir()
    (desk / "layouts" / "far.toml").write_text(
        'control = [\n  { id = "glow", moves = ["osc /glow"], x = 0, y = 0 },\n'
        '  { id = "go", sends = "osc press /go", x = 1, y = 0 },\n'
        '  { id = "dial", moves = ["turn dial"], x = 2, y = 0 },\n'
        '  { id = "pad", sends = "note 36 on 10", x = 3, y = 0 },\n]\n')
    (desk / "desk.toml").write_text("""format = 1
midi_to = "Usual"
[surface.far]
layout = "far"
[surface.far.layer.base.move]
glow = { drive = "cc 7 on 1 to Kiln" }
[surface.far.layer.base."at 0 to 50 %"]
glow = { tap = "F13" }
[surface.far.layer.base."turn left"]
dial = { tap = "Left" }
[surface.far.layer.base.press]
go = { play = "m3" }
pad = { set = "osc /level to 127.0.0.1:9000 at 50 %" }
""")
    for number in range(60):
        to = ("Kiln", "Gull", "Tern")[number % 3]
        (desk / "macros" / f"m{number}.macro").write_text(
            f'send note {number} on 1 to "{to}"\nsend cc 7 on 2 at {number} to "{to}"\n'
            f'send bytes "F0 7D 01 02 03 04 05 06 07 F7" to "{to}"\nsend osc "/x" {number} to "127.0.0.1:9000"\n'
            if number % 5 else
            f'tap Ctrl+F{1 + number % 12}\nmove by {number} 0\nscroll up 2\nclick\nclock 120 to "{to}"\n  wait 100ms\n')

    def start(state: str) -> str:
        return subprocess.run([sys.executable, "-c", DUMP, str(desk), str(tmp_path / state)], check=True, text=True,
                              capture_output=True, timeout=60).stdout
    first = start("kept")
    assert '"note 3 on 1, strength 100 to Kiln"' in first and '"osc press /go"' not in json.loads(first)[2]
    assert start("kept") == first == start("none")
    # Another receiver comes, the first by name, and a macro that sends to it.
    (desk / "macros" / "a-first.macro").write_text('send note 1 on 1 to "Auk"\n')
    second = start("kept")
    assert second == start("other") and second != first
    rows, receivers, problems, macros = json.loads(second)
    assert receivers == ["Auk", "Gull", "Kiln", "Tern"] and not problems
    assert macros["m3"] == json.loads(first)[3]["m3"] and rows == json.loads(first)[0]


def test_what_was_kept_for_a_quick_start_is_plain_and_believed_only_if_it_is_whole(
        desk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    for number in range(60):
        text = f'label "m{number}"\ntype "Text {number}"\n' if number % 2 else \
            f"keep Ctrl down\n  tap F{1 + number % 20}\n"
        (desk / "macros" / f"m{number}.macro").write_text(text)
    (desk / "macros" / "plays.macro").write_text("play m3\nplay m4\n")

    def start() -> DeskStore:
        opened = DeskStore(desk, tmp_path / "v")
        opened.lock()
        opened.unlock()
        return opened
    first = start()
    before = first.load().desk.macros
    first.keep()
    file = tmp_path / "v" / "quick.json"
    assert file.stat().st_mode & 0o777 == 0o600 and json.loads(file.read_bytes().partition(b"\n")[2])["macros"]

    def parsed(opened: DeskStore) -> int:
        """How many macros were taken apart; what came of them is the same in any case."""
        from brass_pebble.engine.disk import macro_files
        count = 0
        real = macro_files.parse

        def counting(*words: object, **named: object) -> object:
            nonlocal count
            count += 1
            return real(*words, **named)  # type: ignore[arg-type]
        monkeypatch.setattr(macro_files, "parse", counting)
        found = opened.load().desk.macros
        monkeypatch.setattr(macro_files, "parse", real)
        for name, macro in before.items():
            one, other = macro.timetable, found[name].timetable
            assert (one.times, one.codes, one.values, one.lines, one.length) == (
                other.times, other.codes, other.values, other.lines, other.length), name
            assert (macro.label, macro.name, macro.tint) == (found[name].label, found[name].name, found[name].tint)
            assert (macro.locked_timetable is None) == (found[name].locked_timetable is None)
        return count
    few = parsed(start())
    assert few < 10
    # Changed, it is read again; and what plays it.
    (desk / "macros" / "m3.macro").write_text("tap F9\n")
    again = start()
    assert again.load().desk.macros["m3"].timetable.codes != before["m3"].timetable.codes
    assert len(again.load().desk.macros["plays"].timetable.codes) == 6
    (desk / "macros" / "m3.macro").write_text('label "m3"\ntype "Text 3"\n')
    good = file.read_bytes()
    # Cut off, changed by a bit, of others' rights, of another program, with numbers that cannot be: not believed.
    body = json.loads(good.partition(b"\n")[2])
    for wrong in ("cut", "bit", "open", "columns", "codes"):
        data = good
        if wrong == "cut":
            data = good[:-5]
        elif wrong == "bit":
            data = good[:200] + bytes((good[200] ^ 1,)) + good[201:]
        elif wrong in ("columns", "codes"):
            bad = json.loads(json.dumps(body))
            for row in bad["macros"].values():
                if wrong == "columns":
                    row["times"] = "AAAA"
                else:
                    row["codes"] = row["codes"][:-12] + "/" * 12
            text = json.dumps(bad).encode()
            data = hashlib.sha256(text).hexdigest().encode() + b"\n" + text
        file.write_bytes(data)
        file.chmod(0o644 if wrong == "open" else 0o600)
        assert parsed(start()) > 50, wrong


def test_an_engine_that_was_used_starts_again(desk: Path) -> None:
    for number in range(60):
        (desk / "macros" / f"n{number}.macro").write_text(f'send note {number} on 1 to "Kiln"\n')
    know(desk)
    said = []
    for _ in range(3):
        socket, process = start_engine(desk, *OPTIONS)
        with EngineClient(socket) as client:
            client.ask("play", macro="n7")
            wait_for(lambda: any("note 7 on 1" in json.dumps(trace) for trace in client.ask("traces")["traces"]))
            said.append([trace["sent"][0]["key"] for trace in client.ask("traces")["traces"] if trace["sent"]][-1])
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=15) == 0
    assert said == ["note 7 on 1, strength 100 to Kiln"] * 3
