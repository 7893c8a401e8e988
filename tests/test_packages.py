"""What is installed: the lock, the ranges, what the system has to have, and how it is told what a version broke."""

from __future__ import annotations

import ast
import base64
import hashlib
import importlib
import importlib.metadata
import inspect
import io
import itertools
import os
import pkgutil
import re
import subprocess
import sys
import tarfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from packaging.markers import Marker
from packaging.requirements import Requirement
from packaging.version import Version

import brass_pebble
from needed import needs

PROJECT = Path(__file__).parent.parent
sys.path.insert(0, str(PROJECT / "tools"))

import install
import lock as lock_tool
import locked
import system_packages
from locked import BARE, Lock, LockError, Pin, changes, declared, groups, plain, read_lock, write_lock
from other_versions import Blame, Change, blame, differences

TEXT = locked.LOCK.read_text(encoding="utf-8")
LOCK = read_lock(TEXT)
DECLARED = [Requirement(row) for name in groups(declared()) for row in plain(groups(declared()), name)]


def surroundings(python: str, machine: str) -> dict[str, str]:
    """What markers are held against."""
    return {"python_version": python, "python_full_version": f"{python}.0", "platform_machine": machine, "extra": ""}


def test_the_lock_is_of_what_is_declared_and_is_written_as_it_is_read() -> None:
    assert install.usable_lock() == LOCK
    head = [line.removeprefix("# ") for line in TEXT.splitlines() if line.startswith(f"# {lock_tool.COMPILED}")]
    assert write_lock(LOCK, head) == TEXT
    assert "://" not in TEXT


@pytest.mark.parametrize(("python", "machine"), [*itertools.product(LOCK.pythons, lock_tool.MACHINES)])
def test_every_declared_package_is_locked_within_its_range(python: str, machine: str) -> None:
    for group in groups(declared()):
        here = {pin.name: pin for pin in LOCK.of(group)
                if not pin.marker or Marker(pin.marker).evaluate(surroundings(python, machine))}
        for row in map(Requirement, plain(groups(declared()), group)):
            if row.marker is None or row.marker.evaluate(surroundings(python, machine)):
                pin = here[locked.name_of(row.name)]
                assert row.specifier.contains(pin.version), (row, pin.version)


def test_the_readme_and_the_lock_name_the_same_pythons() -> None:
    said = re.search(r"Python (3\.\d+) to (3\.\d+)", (PROJECT / "README.md").read_text(encoding="utf-8"))
    assert said is not None and said.groups() == (LOCK.pythons[0], LOCK.pythons[-1])
    assert declared()["project"]["requires-python"] == f">={LOCK.pythons[0]}"


def test_what_is_young_or_used_inside_has_an_upper_bound() -> None:
    used_inside = {name for distribution in private_parts() for name in [locked.name_of(distribution)]}
    assert "textual" in used_inside
    versions = {pin.name: Version(pin.version) for pin in LOCK.pins}
    for row in DECLARED:
        version = versions[locked.name_of(row.name)]
        if version.major == 0 or locked.name_of(row.name) in used_inside:
            following = f"{version.major}.{version.minor + 1}"
            assert not row.specifier.contains(following), f"{row}: what is newer than {version} was never tried"


def private_parts() -> Iterator[str]:
    """Distributions with a class of whose inside, by an underscore, a class of ours replaces something."""
    owner = importlib.metadata.packages_distributions()
    for info in pkgutil.walk_packages(brass_pebble.__path__, "brass_pebble."):
        module = importlib.import_module(info.name)
        for _, kind in inspect.getmembers(module, inspect.isclass):
            if not kind.__module__.startswith("brass_pebble."):
                continue
            for base in kind.__mro__[1:]:
                package = base.__module__.partition(".")[0]
                shared = {name for name in vars(kind).keys() & vars(base).keys()
                          if name.startswith("_") and not name.endswith("__") and callable(vars(base)[name])}
                if package in owner and package != "brass_pebble" and shared:
                    yield owner[package][0]


def test_every_package_that_is_imported_is_declared() -> None:
    owner = importlib.metadata.packages_distributions()
    names = {locked.name_of(row.name) for row in DECLARED}
    for file in (PROJECT / "src").rglob("*.py"):
        for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            found = [alias.name for alias in node.names] if isinstance(node, ast.Import) else \
                [node.module or ""] if isinstance(node, ast.ImportFrom) and not node.level else []
            for package in {name.partition(".")[0] for name in found}:
                if package in owner and package != "brass_pebble":
                    assert {locked.name_of(name) for name in owner[package]} & names, (file, package)


@pytest.mark.parametrize(("text", "said"), [
    ("", "it does not say what it was made of"),
    ("# declared: x\n\n# for: dev\npebble>=1 \\\n    --hash=sha256:" + 64 * "a", "line 4: not an exact version"),
    ("# declared: x\n\n# for: dev\npebble==1\n", "line 4: not an exact version"),
    ("# declared: x\n\npebble==1 --hash=sha256:" + 64 * "a", "line 3: not an exact version"),
    ("# declared: x\n\n# for: dev\npebble==1 --hash=sha256:abc", "line 4: not an exact version"),
])
def test_a_lock_that_was_edited_is_refused_with_its_line(text: str, said: str) -> None:
    with pytest.raises(LockError) as caught:
        read_lock(text)
    assert said in str(caught.value) and "make lock" in str(caught.value)


def test_a_lock_of_other_ranges_is_not_used(tmp_path: Path) -> None:
    file = tmp_path / "requirements.lock"
    with pytest.raises(LockError, match="missing"):
        install.usable_lock(file)
    file.write_text(TEXT.replace(LOCK.declared, "0" * 16))
    with pytest.raises(LockError, match="made of other ranges than pyproject"):
        install.usable_lock(file)


def wheel(folder: Path, version: str) -> str:
    """A wheel of a package that does nothing; its sum."""
    folder.mkdir(exist_ok=True)
    file, info = folder / f"saltmarsh_stone-{version}-py3-none-any.whl", f"saltmarsh_stone-{version}.dist-info"
    parts = {"saltmarsh_stone.py": f'VERSION = "{version}"\n',
             f"{info}/METADATA": f"Metadata-Version: 2.1\nName: saltmarsh-stone\nVersion: {version}\n",
             f"{info}/WHEEL": "Wheel-Version: 1.0\nGenerator: test\nRoot-Is-Purelib: true\nTag: py3-none-any\n"}
    record = "".join(f"{name},sha256={base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()).decode()[:-1]},"
                     f"{len(text)}\n" for name, text in parts.items()) + f"{info}/RECORD,,\n"
    with zipfile.ZipFile(file, "w") as archive:
        for name, text in (*parts.items(), (f"{info}/RECORD", record)):
            archive.writestr(name, text)
    return hashlib.sha256(file.read_bytes()).hexdigest()


class Out(io.StringIO):
    """A terminal, or a file."""

    def __init__(self, *, terminal: bool) -> None:
        super().__init__()
        self._terminal = terminal

    def isatty(self) -> bool:
        return self._terminal


def test_setting_up_says_what_it_is_doing() -> None:
    said = ["Collecting numpy==2.3 (from -r x)\n", "  Downloading numpy.whl (16 MB)\n", "Collecting rich\n",
            "Installing collected packages: numpy, rich\n", "Successfully installed numpy-2.3 rich-14\n"]
    file, terminal = Out(terminal=False), Out(terminal=True)
    for out in (file, terminal):
        progress = install.Progress(2, out=out)
        for line in said:
            progress.hear(line)
        progress.end()
    # A file gets a line now and then, a terminal one that is written over and is gone at the end.
    assert file.getvalue() == "  Fetching numpy (1 of 2) …\n  Installing what was fetched …\n"
    parts = terminal.getvalue().split("\r")
    assert [part.strip() for part in parts if part.strip()] == [
        "Fetching numpy (1 of 2) …", "Fetching rich (2 of 2) …", "Installing what was fetched …"]
    assert "\n" not in terminal.getvalue()
    assert all(len(after) >= len(before.rstrip()) for before, after in itertools.pairwise(parts[:-1]))


def test_only_the_very_file_that_was_locked_is_installed(tmp_path: Path) -> None:
    sums = wheel(tmp_path / "wheels", "1.0")
    into = ("--no-index", "--find-links", str(tmp_path / "wheels"), "--target")

    def of(value: str) -> Lock:
        return Lock((Pin("saltmarsh-stone", "1.0", "", (value,), frozenset({"dev"})),), ("3.11",), "x")
    install.install_locked(of(sums), ["dev"], *into, str(tmp_path / "good"))
    assert (tmp_path / "good" / "saltmarsh_stone.py").exists()
    install.install_locked(of(sums), ["voice"], *into, str(tmp_path / "none"))
    with pytest.raises(LockError) as caught:
        install.install_locked(of("0" * 64), ["dev"], *into, str(tmp_path / "bad"))
    assert str(caught.value).startswith("Setting up stopped: the file that came for saltmarsh-stone 1.0 is not the one "
                                        "that requirements.lock names (its hash does not fit). It was not installed.")
    assert not list((tmp_path / "bad").glob("*")) and not (tmp_path / "none" / "saltmarsh_stone.py").exists()
    with pytest.raises(LockError, match="pip could not install"):
        install.install_locked(of(sums), ["dev"], "--no-index", "--target", str(tmp_path / "away"))


def test_what_would_have_to_be_compiled_is_left_out_with_a_sentence(tmp_path: Path) -> None:
    sums = wheel(tmp_path / "wheels", "1.0")
    lock = Lock((Pin("saltmarsh-stone", "1.0", "", (sums,), frozenset({"voice"})),), ("3.11",), "x")
    into = ("--no-index", "--find-links", str(tmp_path / "wheels"), "--target", str(tmp_path / "there"))
    assert install.install_if_ready(lock, "voice", *into) == "" and (tmp_path / "there" / "saltmarsh_stone.py").exists()
    # Only its source is to be had.
    source = tmp_path / "sources" / "saltmarsh_stone-1.0.tar.gz"
    source.parent.mkdir()
    with tarfile.open(source, "w:gz") as archive:
        (tmp_path / "PKG-INFO").write_text("Metadata-Version: 2.1\nName: saltmarsh-stone\nVersion: 1.0\n")
        archive.add(tmp_path / "PKG-INFO", "saltmarsh_stone-1.0/PKG-INFO")
    said = install.install_if_ready(lock, "voice", "--no-index", "--find-links", str(source.parent))
    assert said.startswith("Left out: “voice”, because saltmarsh-stone 1.0 is not there ready-made for Python 3.")
    with pytest.raises(LockError, match="hash does not fit"):
        install.install_if_ready(Lock((Pin("saltmarsh-stone", "1.0", "", ("0" * 64,), frozenset({"voice"})),), (), "x"),
                                 "voice", *into)


def test_what_changed_in_a_lock_is_told() -> None:
    def of(*rows: tuple[str, str, str]) -> Lock:
        return Lock(tuple(Pin(name, version, "", (value,), frozenset({BARE})) for name, version, value in rows), (),
                    "x")
    assert changes(of(("a", "1", "s"), ("b", "1", "s"), ("d", "1", "s")),
                   of(("a", "2", "s"), ("c", "1", "s"), ("d", "1", "t"))) == [
        "a: 1 → 2", "b: gone, was 1", "c: new, 1", "d: 1 has other files"]
    assert changes(LOCK, LOCK) == [] and len(changes(None, LOCK)) == len({pin.name for pin in LOCK.pins})


def test_a_marker_says_just_where_a_version_counts() -> None:
    places = lock_tool.places()
    for count in range(1, len(places) + 1):
        for where in map(set, itertools.combinations(places, count)):
            assert lock_tool.counts_where(lock_tool.marker_of(where)) == where


@pytest.mark.parametrize(("file", "where"), [
    ("a-1-py3-none-any.whl", set(lock_tool.places())),
    ("a-1-cp312-cp312-manylinux_2_28_x86_64.whl", {("3.12", "x86_64")}),
    ("a-1-cp39-abi3-manylinux_2_17_aarch64.manylinux2014_aarch64.whl", {
        (python, "aarch64") for python in LOCK.pythons}),
    ("a-1-cp313-abi3-manylinux_2_17_x86_64.whl", {(python, "x86_64") for python in LOCK.pythons if python >= "3.13"}),
    ("a-1-cp313-cp313t-manylinux_2_28_x86_64.whl", set()),
    ("a-1-pp311-pypy311_pp73-manylinux_2_28_x86_64.whl", set()),
    ("a-1-cp311-cp311-macosx_11_0_arm64.whl", set()),
    ("a-1-cp311-cp311-win_amd64.whl", set()),
])
def test_a_wheel_says_where_it_fits(file: str, where: set[tuple[str, str]]) -> None:
    assert lock_tool.fits(file) == where


def test_what_broke_is_laid_to_one_package_where_it_can_be() -> None:
    """Four tests fail: two for a package each, one only with two at once, one with the lock as well."""
    textual, msgspec, lark = (Change(name, "1", "2") for name in ("textual", "msgspec", "lark"))
    tried: list[tuple[str, list[str]]] = []

    def with_one(change: Change, names: list[str]) -> list[str]:
        tried.append((change.name, names))
        return [name for name in names if name == {"textual": "screen", "msgspec": "schema"}.get(change.name)]
    told = blame(["screen", "schema", "both", "always"], [textual, msgspec, lark],
                 lambda names: [name for name in names if name == "always"], with_one)
    assert told == Blame({textual: ["screen"], msgspec: ["schema"]}, ["both"], ["always"])
    assert tried == [("textual", ["screen", "schema", "both"]), ("msgspec", ["schema", "both"]), ("lark", ["both"])]
    assert told.lines() == [
        "textual 1 → 2 breaks:", "    screen", "msgspec 1 → 2 breaks:", "    schema", "No single package breaks:",
        "    both", "Fails with the locked versions, too:", "    always"]
    tried.clear()
    assert blame(["screen"], [textual, lark], lambda names: [], with_one).broke == {textual: ["screen"]}
    assert tried == [("textual", ["screen"])]
    assert differences({"a": "1", "b": "1", "c": "1"}, {"a": "2", "b": "2", "c": "1", "d": "1"}, ["b"]) == [
        Change("b", "1", "2"), Change("a", "1", "2")]


def commands_called(tree: ast.AST) -> set[str]:
    """What a test starts: the first word of every list that is handed to a process."""
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.args \
                and node.func.attr in ("run", "Popen", "check_output") \
                and isinstance(node.func.value, ast.Name) and node.func.value.id == "subprocess" \
                and isinstance(node.args[0], ast.List):
            first = node.args[0].elts[0]
            if isinstance(first, ast.Constant):
                found.add(str(first.value))
    return found


def test_every_command_of_the_tests_is_asked_for_first() -> None:
    """Otherwise a test fails where it should be left out with a sentence."""
    # What is on every system.
    usual = {"sh", "git", "sleep", "true", "cat", "env", "bash"}
    known = {need.what for need in system_packages.needs()}
    for file in Path(__file__).parent.glob("*.py"):
        tree = ast.parse(file.read_text(encoding="utf-8"))
        asked = {str(part.value) for node in ast.walk(tree) if isinstance(node, ast.Call)
                 and isinstance(node.func, ast.Name) and node.func.id == "needs" for part in node.args
                 if isinstance(part, ast.Constant)}
        called = commands_called(tree) - usual
        assert called <= known, f"{file.name}: no row of system_packages.tsv for {called - known}"
        assert called <= asked, f"{file.name}: needs() is not asked for {called - asked}"


def test_a_missing_command_leaves_its_tests_out_and_says_so(tmp_path: Path) -> None:
    (tmp_path / "test_one.py").write_text(
        "from needed import needs\n\ndef test_one():\n    needs('sway')\n    raise OSError\n")
    bare = {**os.environ, "PATH": str(tmp_path), "PYTHONPATH": str(Path(__file__).parent)}
    done = subprocess.run([sys.executable, "-m", "pytest", "-rs", "-q", "-p", "no:cacheprovider", "-c", os.devnull,
                           "--rootdir", str(tmp_path), str(tmp_path)], capture_output=True, text=True, check=False,
                          env=bare)
    assert done.returncode == 0 and "1 skipped" in done.stdout
    assert "Left out: windows, the clipboard and layers under Wayland. Missing: sway (Debian: sway)." in done.stdout
    told = subprocess.run([sys.executable, str(PROJECT / "tools" / "system_packages.py"), "--tell"],
                          capture_output=True, text=True, check=True, env=bare).stderr
    assert "Left out: the screen in a terminal. Missing: tmux, ps (Debian: tmux, procps)." in told
    assert re.search(r"^To have all of it: sudo apt-get install tmux procps xvfb .*sway", told, flags=re.M)


def test_of_two_names_of_a_package_the_one_that_the_release_has_is_taken() -> None:
    rows = [system_packages.Need("a", "one | two", "", "x"), system_packages.Need("b", "three four", "", "x"),
            system_packages.Need("c", "two", "", "x")]
    assert system_packages.packages(rows, lambda name: name != "one") == ["two", "three", "four"]
    assert system_packages.packages(rows, lambda name: False) == ["one", "three", "four", "two"]


def test_an_older_version_than_was_tried_is_told() -> None:
    needs("dpkg")
    assert system_packages.older("3.1c-1", "3.3") and not system_packages.older("3.3a-3", "3.3")
    assert not system_packages.older("1:7.2+dfsg-7", "1:7.2") and not system_packages.older("", "3.3")
    assert all(need.without and need.package for need in system_packages.needs())
