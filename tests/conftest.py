"""What several tests share: folders of their own, the demo's desk, an engine, a terminal."""

from __future__ import annotations

import os
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

# Whatever an engine says is held against its declared type, in this process and in all that tests start.
os.environ["BRASS_PEBBLE_CHECKS"] = "1"
# As on a person's machine, every start but the first finds what Python has compiled.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
os.environ.setdefault("PYTHONPYCACHEPREFIX", str(Path(__file__).parent.parent / ".cache" / "bytecode"))

from hypothesis import settings

from brass_pebble.cli.main import main
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.demo import ENGINE_OPTIONS, HERE, know
from brass_pebble.engine.disk.tighten import tighten
from displays import display_server
from needed import needs
from terminal import BRASS_PEBBLE, Terminal

# A busy machine pauses now and then; what has to be quick is measured by the benchmarks.
settings.register_profile("patient", deadline=None)
settings.load_profile("patient")

def pytest_collection_modifyitems(session: pytest.Session, items: list[pytest.Item]) -> None:
    """The emulated machine works for as long as all other tests together: it begins first, and is asked last."""
    real = [item for item in items if item.path.name == "test_real_devices.py"]
    if real and len(real) < len(items) and not session.config.option.collectonly and (os.cpu_count() or 1) > 1:
        items[:] = [item for item in items if item not in real] + real
        real[0].module.MACHINE.start()  # type: ignore[attr-defined]


@pytest.fixture(autouse=True)
def own_folders(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """No test touches the person's own folders."""
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME", "XDG_DOCUMENTS_DIR"):
        folder = tmp_path / name.lower()
        folder.mkdir(mode=0o700)
        monkeypatch.setenv(name, str(folder))
    monkeypatch.delenv("NO_COLOR", raising=False)
    # A socket's path has to be short.
    with tempfile.TemporaryDirectory(prefix="bp") as folder:
        monkeypatch.setenv("XDG_RUNTIME_DIR", folder)
        yield


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    """A copy of the demo's desk, as the person's own."""
    folder = Path(shutil.copytree(HERE / "desk", tmp_path / "desk"))
    # In place of a remark: a test is not to fail because the machine that it runs on stands still for a second or two.
    file = folder / "desk.toml"
    remark = "# Hands are in dough, so feet and spare keys do the work.\n"
    text = file.read_text()
    assert remark in text
    file.write_text(text.replace(remark, 'overtaken_after = "20s"\n'))
    know(folder)
    tighten((folder,))
    return folder


@pytest.fixture
def engine(desk: Path) -> Iterator[Path]:
    """An engine on the demo's desk with its bench and stage: its socket."""
    options = [word for word in ENGINE_OPTIONS if word != "--until-left"]
    socket, process = start_engine(desk, *options)
    yield socket
    process.send_signal(signal.SIGTERM)
    assert process.wait(timeout=15) == 0


@pytest.fixture
def client(engine: Path) -> Iterator[EngineClient]:
    """A client of that engine; waiting for more than ten seconds is a failure."""
    with EngineClient(engine, "test") as connected:
        connected.set_timeout(10)
        yield connected


def run(*words: str) -> int:
    """The command line without a process of its own; its exit code."""
    before, sys.argv = sys.argv, ["brass-pebble", *words]
    try:
        main()
    except SystemExit as end:
        return int(end.code or 0)
    finally:
        sys.argv = before
    return 0


def run_cli(*words: str, seconds: float = 30, given: str = "", **environment: str) -> subprocess.CompletedProcess[str]:
    """The command line, as a person would call it; `given` is its standard input."""
    return subprocess.run([BRASS_PEBBLE, *words], capture_output=True, text=True, timeout=seconds, check=False,
                          env={**os.environ, **environment}, input=given)


def wait_for(what: Callable[[], object], seconds: float = 30) -> None:
    """Wait until `what()` is true."""
    end = time.monotonic() + seconds
    while not what():
        if time.monotonic() > end:
            raise AssertionError(f"waited {seconds} s in vain")
        time.sleep(0.02)


@pytest.fixture
def demo() -> Iterator[Terminal]:
    """The demo in a real terminal, with its surfaces taken, and its first control selected."""
    terminal = Terminal("demo")
    terminal.wait("LEFT NUMPAD")
    terminal.wait("◉ armed")
    terminal.wait("Left numpad ▸ 7")
    terminal.keys("Up")
    terminal.wait("Left numpad ▸ num")
    yield terminal
    terminal.close()


@pytest.fixture
def no_system_fonts(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A computer whose system has no font at all."""
    from brass_pebble.paper import scripts
    scripts.write_line.cache_clear()
    monkeypatch.setattr(scripts, "font_for", lambda char, bold: None)
    yield
    scripts.write_line.cache_clear()


@pytest.fixture
def display(monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """An X server of its own, without a monitor."""
    needs("Xvfb")
    name = f":{200 + os.getpid() % 300}"
    server = display_server(name)
    monkeypatch.setenv("DISPLAY", name)
    monkeypatch.delenv("WAYLAND_DISPLAY", raising=False)
    yield name
    server.terminate()
    server.wait()
