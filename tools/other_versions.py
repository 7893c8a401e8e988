"""Run every check and test with other versions than the locked ones, and tell which package broke what.

    other_versions.py newest|oldest [ARGUMENT OF PYTEST …]

“newest” takes the newest version that each range allows, “oldest” the lower bound of everything that is declared.  What
fails there and not with the lock is tried again with one package changed at a time.  The checks of the source are left
out with the oldest: what is declared of types in old packages says nothing of what runs.
"""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from pathlib import Path

from lock import OWN, declarations, own_python
from locked import PROJECT, declared, groups, name_of, plain

GROUPS = ("build", "program", "dev")
LONGEST_NAME = 1_000
# What is run beside the tests, as it is told.
CHECKS = {"ruff": ("ruff", "check", "src", "tests", "benchmarks", "tools"), "mypy": ("mypy",)}


@dataclass(frozen=True)
class Change:
    """A package that is there in another version than the locked one."""

    name: str
    locked: str
    other: str

    def __str__(self) -> str:
        return f"{self.name} {self.locked} → {self.other}"


@dataclass
class Blame:
    """What each package broke; what none did alone; what fails with the lock, too."""

    broke: dict[Change, list[str]] = field(default_factory=dict)
    together: list[str] = field(default_factory=list)
    anyway: list[str] = field(default_factory=list)

    def lines(self) -> list[str]:
        """All of it, in sentences."""
        found = []
        for change, names in self.broke.items():
            found += [f"{change} breaks:", *(f"    {name}" for name in names)]
        if self.together:
            found += ["No single package breaks:", *(f"    {name}" for name in self.together)]
        if self.anyway:
            found += ["Fails with the locked versions, too:", *(f"    {name}" for name in self.anyway)]
        return found


def blame(failed: Iterable[str], changes: Iterable[Change], with_lock: Callable[[list[str]], list[str]],
          with_one: Callable[[Change, list[str]], list[str]]) -> Blame:
    """Find out which change breaks what; `with_lock` and `with_one` run what failed and say what fails again."""
    told = Blame()
    left = list(failed)
    told.anyway = with_lock(left)
    left = [name for name in left if name not in told.anyway]
    for change in changes:
        if not left:
            break
        if broken := with_one(change, left):
            told.broke[change] = broken
            left = [name for name in left if name not in broken]
    told.together = left
    return told


def differences(locked: Mapping[str, str], there: Mapping[str, str], first: Iterable[str] = ()) -> list[Change]:
    """What is there in another version; those named in `first` before the others."""
    wanted = set(first)
    found = [Change(name, locked[name], version) for name, version in there.items()
             if name in locked and locked[name] != version]
    return sorted(found, key=lambda change: (change.name not in wanted, change.name))


@dataclass(frozen=True)
class Place:
    """An environment of its own in .cache."""

    folder: Path

    @property
    def python(self) -> str:
        return str(self.folder / "bin" / "python")

    def make(self) -> None:
        """Make it anew, with nothing in it."""
        shutil.rmtree(self.folder, ignore_errors=True)
        subprocess.run([sys.executable, "-m", "venv", str(self.folder)], check=True)

    def install(self, *words: str) -> None:
        """Install by tools/install.py."""
        subprocess.run([self.python, str(PROJECT / "tools" / "install.py"), *words], check=True)

    def pip(self, *words: str) -> bool:
        """Whether pip could install this."""
        return subprocess.run([self.python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check", *words],
                              check=False).returncode == 0

    def versions(self) -> dict[str, str]:
        """What is installed."""
        told = subprocess.run([self.python, "-m", "pip", "list", "--format", "json", "--disable-pip-version-check"],
                              check=True, stdout=subprocess.PIPE, text=True)
        return {row["name"].lower().replace("_", "-"): row["version"] for row in json.loads(told.stdout)}

    def run(self, names: list[str], *words: str, every_test: bool = False) -> list[str]:
        """Run these checks and tests: those that fail."""
        failed = [name for name, command in CHECKS.items() if name in names and subprocess.run(
            [str(self.folder / "bin" / command[0]), *command[1:]], check=False, cwd=PROJECT).returncode]
        tests = [name for name in names if name not in CHECKS]
        if not tests and not every_test:
            return failed
        cache = self.folder / "pytest"
        shutil.rmtree(cache, ignore_errors=True)
        # What failed is run by its names alone, whatever was asked for at first.
        asked = [word for word in words if every_test or word.startswith("-")]
        done = subprocess.run([self.python, "-m", "pytest", "-o", f"cache_dir={cache}", *asked, *tests], check=False,
                              cwd=PROJECT)
        last = cache / "v" / "cache" / "lastfailed"
        found = json.loads(last.read_text(encoding="utf-8")) if last.exists() else {}
        # A name may be longer than a process can be given.
        found = [*dict.fromkeys(name if len(name) < LONGEST_NAME else name.partition("[")[0] for name in found)]
        if done.returncode not in (0, 1) and not found:
            found = ["pytest itself"]
        return failed + found


def oldest_of_all(folder: Path) -> list[str]:
    """The lower bound of everything declared, and what else that needs, as exact versions for this Python."""
    own_python()
    names = tuple(name for name in groups(declared()) if name != "lock")
    (folder / "pyproject.toml").write_text(declarations(names), encoding="utf-8")
    found = subprocess.run([str(OWN / "bin" / "uv"), "pip", "compile", "--quiet", "--no-header", "--no-annotate",
                            "--resolution", "lowest-direct", "--python", sys.executable, "pyproject.toml"],
                           check=True, cwd=folder, stdout=subprocess.PIPE, text=True)
    return [line for line in found.stdout.splitlines() if "==" in line]


def main() -> int:
    if len(sys.argv) < 2 or sys.argv[1] not in ("newest", "oldest"):
        print(__doc__, file=sys.stderr)
        return 2
    which, words = sys.argv[1], sys.argv[2:]
    began = time.monotonic()
    folder = PROJECT / ".cache" / which
    folder.mkdir(parents=True, exist_ok=True)
    place, one = Place(folder / "all"), Place(folder / "one")
    print(f"Installing the {which} versions …", flush=True)
    place.make()
    if which == "newest":
        place.install("--any-version", *GROUPS)
    else:
        if not place.pip(*oldest_of_all(folder)):
            print("The lower bounds cannot be installed: what pip says stands above.", file=sys.stderr)
            return 1
        place.pip("--no-deps", "--no-build-isolation", "-e", str(PROJECT))
    # Run by the environment that “make test” sets up.
    locked = Place(Path(sys.prefix)).versions()
    direct = [name_of(row) for name in groups(declared()) for row in plain(groups(declared()), name)]
    changed = differences(locked, place.versions(), direct)
    print(f"{len(changed)} packages differ from the lock:\n" + "\n".join(f"    {change}" for change in changed),
          flush=True)
    failed = place.run([*CHECKS] if which == "newest" else [], *words, every_test=True)
    minutes = (time.monotonic() - began) / 60
    if not failed:
        print(f"Everything passes with the {which} versions ({minutes:.0f} min).")
        return 0
    print(f"{len(failed)} fail with the {which} versions ({minutes:.0f} min); looking for the packages …", flush=True)
    one.make()
    one.install(*GROUPS)

    def with_one(change: Change, names: list[str]) -> list[str]:
        if not one.pip(f"{change.name}=={change.other}"):
            return []
        broken = one.run(names, *words)
        one.install("--only", *GROUPS)
        return broken
    told = blame(failed, changed, lambda names: one.run(names, *words), with_one)
    print("\n".join(told.lines()))
    return 1


if __name__ == "__main__":
    sys.exit(main())
