"""The house: who may import whom, no circles, and every part plugged in."""

from __future__ import annotations

import ast
import sys
from dataclasses import fields
from pathlib import Path
from typing import get_type_hints

import pytest

from brass_pebble.engine.assemble import assemble
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.engine.engine import Engine
from brass_pebble.engine.setup import Setup
from brass_pebble.kinds.inputs.bench import read_bench
from brass_pebble.kinds.outputs.stage import StageOutput
from brass_pebble.paths import PACKAGE

sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
from import_arrows import arrows, circles, modules

GRAPH = arrows()
# Who never imports whom: the beginning of a module's name after the package's.
NEVERS = [
    ("protocol", ("cli", "client", "demo", "engine", "file_access", "kinds", "machine", "paper", "paths",
                  "screen")),
    ("core", ("cli", "client", "demo", "protocol", "engine", "file_access", "kinds", "machine", "paper", "paths",
              "screen")),
    ("kinds", ("cli", "client", "engine", "machine", "paper", "screen")),
    ("screen", ("cli", "engine", "kinds", "machine")),
    ("engine", ("cli", "client", "machine", "paper", "screen")),
    ("paper", ("cli", "client", "engine", "kinds", "machine", "screen")),
    ("kinds.inputs", ("kinds.outputs", "kinds.focus")),
    ("kinds.outputs", ("kinds.inputs", "kinds.focus")),
    ("core.say", ("core.signals", "core.effects", "core.devices", "core.desk", "core.play", "core.macro")),
    ("core.signals", ("core.effects", "core.devices", "core.desk", "core.play", "core.macro")),
    ("core.desk.model", ("core.desk.read", "core.desk.look")),
    ("core.desk.read", ("core.desk.look",)),
    ("core.play", ("core.desk.read", "core.desk.look")),
]


# Who opens files without `file_access`, and what those are: nothing that a person or a stranger could have made.
OPENERS = {
    "file_access": "the one way",
    "demo": "what ships", "guide": "what ships", "screen.base.letters": "what ships", "core.macro.reader": "what ships",
    "core.signals.keymap": "what ships", "core.signals.keys": "what ships", "cli.macros.macro": "what ships",
    "core.say.data_table": "what ships", "cli.guide": "what ships",
    "kinds.kernel.listing": "sysfs", "kinds.kernel.node": "devices", "kinds.inputs.bystanders": "sysfs",
    "kinds.inputs.listening": "devices", "kinds.voice.sources": "procfs, and recordings of its own",
    "kinds.voice.keeping": "a recording of its own, made anew",
    "kinds.outputs.xkb": "the system's keyboard settings", "machine.checkup": "procfs, sysfs and the system's settings",
    "machine.permissions": "the rule that it wrote itself, as the administrator",
    "kinds.errands.desktop": "procfs", "engine.clients.server": "/dev/null", "cli.main": "/dev/null",
    "engine.disk.store": "the lock, and procfs", "engine.disk.start_guard": "a few bytes that are mapped",
    "engine.disk.history": "made before SQLite opens it",
}


def short(name: str) -> str:
    return name.partition(".")[2]


def within(name: str, place: str) -> bool:
    return name == place or name.startswith(f"{place}.")


def opens_files(file: Path) -> list[int]:
    """The lines where a file is opened or read whole."""
    found = []
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if not isinstance(node, ast.Call):
            continue
        match node.func:
            case ast.Name(id="open") | ast.Attribute(value=ast.Name(id="os" | "io"), attr="open"):
                found.append(node.lineno)
            case ast.Attribute(value=owner, attr="read_text" | "read_bytes") if not (
                    isinstance(owner, ast.Name) and owner.id == "file_access"):
                found.append(node.lineno)
    return found


def test_files_are_opened_in_one_way() -> None:
    """A pipe in a desk's folder, or a package that never ends, is waited for by whoever opens it in another way."""
    found = {}
    for file in PACKAGE.rglob("*.py"):
        name = ".".join(file.relative_to(PACKAGE).with_suffix("").parts).removesuffix(".__init__")
        if lines := opens_files(file):
            found[name] = lines
    assert {name: lines for name, lines in found.items() if not any(within(name, one) for one in OPENERS)} == {}
    assert [one for one in OPENERS if not any(within(name, one) for name in found)] == []


def test_nothing_leads_back_to_itself() -> None:
    assert len(GRAPH) > 250
    assert circles(GRAPH) == []


def test_a_circle_would_be_found(tmp_path: Path) -> None:
    (tmp_path / "p").mkdir()
    for name, text in (("__init__", ""), ("a", "from . import b\n"), ("c", "from p.a import x\n"),
                       ("b", "def f():\n    from .c import y\n"), ("d", "from .a import x\n")):
        (tmp_path / "p" / f"{name}.py").write_text(text)
    assert circles(arrows(tmp_path)) == [["p.a", "p.b", "p.c"]]


@pytest.mark.parametrize(("place", "never"), NEVERS)
def test_who_never_imports_whom(place: str, never: tuple[str, ...]) -> None:
    assert any(within(short(name), place) for name in GRAPH)
    found = {(short(name), short(other)) for name, others in GRAPH.items() if within(short(name), place)
             for other in others if any(within(short(other), one) for one in never)}
    assert found == set()


def test_no_part_sees_the_engine() -> None:
    seen = {short(name) for name, others in GRAPH.items()
            if others & {"brass_pebble.engine.engine", "brass_pebble.engine.assemble"}}
    assert seen == {"engine.main", "engine.assemble"}


def test_no_folder_is_too_full() -> None:
    """A folder is small enough to hold in the head."""
    counts: dict[Path, int] = {}
    for file in modules().values():
        counts[file.parent] = counts.get(file.parent, 0) + 1
    assert {str(folder.relative_to(PACKAGE)): count for folder, count in counts.items() if count > 21} == {}


def test_every_part_is_plugged_in(desk: Path, tmp_path: Path) -> None:
    """Whatever a part says at its top that it needs, `assemble` has given to it, and so on from part to part."""
    store = DeskStore(desk, tmp_path / "versions")
    engine = assemble(Setup(store, tmp_path / "socket", lambda desk: StageOutput({}),
                            read_bench(PACKAGE / "demo" / "bench.toml", store.layout), real_devices=False))
    try:
        missing, seen, waiting = [], set(), [getattr(engine, field.name) for field in fields(Engine)]
        while waiting:
            part = waiting.pop()
            kind = type(part)
            if id(part) in seen or not kind.__module__.startswith("brass_pebble.engine"):
                continue
            seen.add(id(part))
            missing += [f"{kind.__name__}.{name}" for name in get_type_hints(kind) if not hasattr(part, name)]
            waiting += vars(part).values()
        assert missing == [] and len(seen) > 30
    finally:
        for call in engine.ends:
            call()
