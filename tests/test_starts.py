"""It always starts: whatever is wrong with the disk on which it keeps what happened, the desk runs from its files."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import time
from pathlib import Path

import pytest

from brass_pebble import paths
from brass_pebble.client import EngineClient, EngineError
from conftest import run_cli, wait_for
from needed import needs

# Runs in a process of its own, on whatever disks that has: the last line tells what came of it.
INSIDE = """
import json, signal, sys, time
from pathlib import Path
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.demo import ENGINE_OPTIONS
desk = Path(sys.argv[1])
socket, process = start_engine(desk, *(word for word in ENGINE_OPTIONS if word != "--until-left"))
with EngineClient(socket, "test") as client:
    client.set_timeout(15)
    for down in (True, False):
        client.ask("press", surface="pedals", control="left", down=down)
    while client.ask("traces")["traces"][-1]["state"] != "done":
        time.sleep(0.05)
    told = {"traces": [row["state"] for row in client.ask("traces")["traces"]],
            "problems": [[row["what"], row["file"]] for row in client.ask("desk")["problems"]]}
    client.ask("bind", surface="pedals", layer="class", control="left", kind="tap", target="F13")
process.send_signal(signal.SIGTERM)
told["ended"] = process.wait(15)
print(json.dumps(told))
"""
NOT_KEPT = "versions, drafts, usage and approvals of this desk are not kept: "
# How the folder of what is kept is made, in a place of mounts of its own; and what is told of it.
DISKS = {
    "read-only and empty": ("mount -t tmpfs -o ro tmpfs {state}", "the disk cannot be written to"),
    "read-only, with everything of last time": (
        "mount -t tmpfs tmpfs {state} && {run} > /dev/null && mount -o remount,ro {state}",
        "the disk cannot be written to"),
    "full": ("mount -t tmpfs -o size=64k tmpfs {state} && {{ dd if=/dev/zero of={state}/x bs=1k count=100 "
             "2> /dev/null; true; }}", ""),
    "without a free inode": ("mount -t tmpfs -o nr_inodes=2 tmpfs {state} && touch {state}/x", "the disk is full"),
}


def started(desk: Path, before: str = "", **environment: str) -> dict[str, list[object]]:
    """What an engine on this desk tells; with `before`, after these commands in a place of mounts of its own."""
    words = [sys.executable, "-c", INSIDE, str(desk)]
    if before:
        needs("unshare")
        if subprocess.run(["unshare", "-rm", "true"], capture_output=True, check=False).returncode:
            pytest.skip("no mounts of one's own can be made here")
        run = f"'{sys.executable}' -c \"$INSIDE\" '{desk}'"
        script = before.format(state=os.environ["XDG_STATE_HOME"], run=run)
        words = ["unshare", "-rm", "sh", "-c", f"{script} && exec {run}"]
    done = subprocess.run(words, capture_output=True, text=True, timeout=90, check=False,
                          env={**os.environ, "INSIDE": INSIDE, **environment})
    assert done.returncode == 0, done.stderr[-2000:]
    return dict(json.loads(done.stdout.splitlines()[-1]))


@pytest.mark.parametrize("disk", DISKS)
def test_it_starts_whatever_the_state_disk_is(disk: str, desk: Path) -> None:
    before, says = DISKS[disk]
    told = started(desk, before)
    assert told["traces"] == ["done"] and told["ended"] == 0
    said = [row for row in told["problems"] if str(row[0]).startswith(NOT_KEPT)]  # type: ignore[index]
    assert [row[0] for row in said] == ([NOT_KEPT + says] if says else [])  # type: ignore[index]
    assert (desk / "desk.toml").read_text().count("F13"), "an edit of the desk's own files is kept"


@pytest.mark.parametrize("place", ["/dev/null/state", "/proc/nowhere"])
def test_it_starts_where_no_state_folder_can_be_made(place: str, desk: Path) -> None:
    told = started(desk, XDG_STATE_HOME=place)
    assert told["traces"] == ["done"] and told["ended"] == 0
    assert any(str(row[0]).startswith(NOT_KEPT) for row in told["problems"])  # type: ignore[index]


@pytest.mark.parametrize("kind", ["pipe", "file", "link to itself"])
def test_it_starts_whatever_stands_where_it_keeps_things(kind: str, desk: Path) -> None:
    folder = Path(os.environ["XDG_STATE_HOME"]) / "brass-pebble"
    folder.mkdir(mode=0o700, exist_ok=True)
    for name in ("engine.log", "versions", "trust", "approvals", "history", "known"):
        place = folder / name
        # Some are here since the desk was made.
        if place.is_dir():
            shutil.rmtree(place)
        if kind == "pipe":
            os.mkfifo(place)
        elif kind == "file":
            place.write_text("something else")
        else:
            place.symlink_to(place)
    told = started(desk)
    assert told["traces"] == ["done"] and told["ended"] == 0


def test_a_relative_folder_of_the_environment_counts_for_nothing(tmp_path: Path,
                                                                 monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("HOME", str(tmp_path))
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_RUNTIME_DIR"):
        monkeypatch.setenv(name, "here")
    assert paths.state_folder() == tmp_path / ".local/state/brass-pebble"
    assert paths.data_folder() == tmp_path / ".local/share/brass-pebble"
    assert paths.default_desk() == tmp_path / ".config/brass-pebble/desk"
    assert paths.user_layouts().is_absolute() and paths.secrets_file().is_absolute()
    assert paths.runtime_folder().is_absolute()


def test_a_pipe_among_values_programs_or_packages_is_waited_for_by_nobody(engine: Path, client: EngineClient,
                                                                           tmp_path: Path) -> None:
    """Nor is what never ends: a device, or a link to one."""
    folder = Path(client.hello["folder"])
    given = run_cli("desk", "export", str(tmp_path / "given.zip"), "--desk", str(folder))
    assert given.returncode == 0, given.stderr
    for place in ("values", "programs"):
        (folder / place).mkdir(exist_ok=True)
        os.mkfifo(folder / place / "pipe.toml")
        (folder / place / "zero.toml").symlink_to("/dev/zero")
    os.mkfifo(tmp_path / "pipe.zip")
    for file, says in ((tmp_path / "pipe.zip", "it is a pipe"), (Path("/dev/zero"), "it is a device")):
        with pytest.raises(EngineError, match=says):
            client.ask("take_in", file=str(file))
        done = run_cli("desk", "import", str(file), "--desk", str(folder))
        assert done.returncode == 1 and says in done.stderr, done
    # The one worker that saves is free.
    with pytest.raises(EngineError, match="here already"):
        client.ask("take_in", file=str(tmp_path / "given.zip"))
    client.ask("bind", surface="pedals", layer="class", control="left", kind="tap", target="F13")
    done = run_cli("desk", "export", str(tmp_path / "whole.zip"), "--desk", str(folder))
    assert done.returncode == 0 and (tmp_path / "whole.zip").exists(), done


def engines(runtime: str) -> list[int]:
    """Engines of this test."""
    found = []
    for folder in Path("/proc").glob("[0-9]*"):
        try:
            if b"engine.main" in (folder / "cmdline").read_bytes() and \
                    runtime.encode() in (folder / "environ").read_bytes():
                found.append(int(folder.name))
        except OSError:
            continue
    return found


@pytest.mark.parametrize("after", [0.0, 0.2, 0.6])
def test_an_engine_whose_screen_dies_before_it_comes_ends_by_itself(after: float, desk: Path) -> None:
    begins = ("import sys, time\nfrom pathlib import Path\nfrom brass_pebble.client import StartingEngine\n"
              "from brass_pebble.demo import ENGINE_OPTIONS\n"
              "starting = StartingEngine(Path(sys.argv[1]), *ENGINE_OPTIONS)\nprint('begun', flush=True)\n"
              "time.sleep(60)\n")
    screen = subprocess.Popen([sys.executable, "-c", begins, str(desk)], stdout=subprocess.PIPE, text=True)
    assert screen.stdout is not None and screen.stdout.readline() == "begun\n"
    time.sleep(after)
    runtime = os.environ["XDG_RUNTIME_DIR"]
    assert engines(runtime)
    screen.kill()
    screen.wait()
    wait_for(lambda: not engines(runtime), 15)
