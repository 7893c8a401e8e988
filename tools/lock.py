"""Make requirements.lock anew: the newest versions that the ranges allow, exact and with hashes.

    lock.py [--keep] [--check]

With --keep what is locked stays as it is as far as it can; with --check nothing is made: it only tells whether the
lock was made of what is declared now.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from locked import (
    BARE,
    LOCK,
    PROJECT,
    Lock,
    LockError,
    Pin,
    changes,
    declared,
    groups,
    name_of,
    plain,
    pythons,
    read_lock,
    sum_of,
    write_lock,
)

MACHINES = ("x86_64", "aarch64")
# Where the resolver lives: an environment of its own, since nobody else needs it.
OWN = PROJECT / ".cache" / "lock"
# One sentence of the head for what has to be compiled.
COMPILED = "No wheel: "


def own_python() -> Path:
    """The Python that has the resolver; made by the lock itself, if there is one already."""
    python = OWN / "bin" / "python"
    if not python.exists():
        subprocess.run([sys.executable, "-m", "venv", str(OWN)], check=True)
    install = PROJECT / "tools" / "install.py"
    if LOCK.exists():
        done = subprocess.run([python, install, "--only", "lock"], check=False, capture_output=True)
        if done.returncode == 0:
            return python
    subprocess.run([python, "-m", "pip", "install", "--quiet", "--disable-pip-version-check",
                    *groups(declared())["lock"]], check=True)
    return python


def declarations(names: tuple[str, ...]) -> str:
    """A project's file that needs these groups, in the places that count: the resolver takes places from there only."""
    project = declared()
    here = " and ".join(("sys_platform == 'linux'", "platform_python_implementation == 'CPython'",
                         f"python_full_version < '3.{int(pythons(project)[-1].split('.')[1]) + 1}'"))
    rows = [row for name in names for row in plain(groups(project), name)]
    # Lists of JSON are lists of TOML, too.
    return (f'[project]\nname = "wanted"\nversion = "0"\nrequires-python = ">={pythons(project)[0]}"\n'
            f"dependencies = {json.dumps(rows)}\n[tool.uv]\nenvironments = "
            f"{json.dumps([f'{here} and platform_machine == {machine!r}' for machine in MACHINES])}\n")


def compile_all(folder: Path, names: tuple[str, ...], *, target: str, pinned: Path | None = None) -> Path:
    """Resolve these groups for every Python and machine; writes a file named `target`."""
    (folder / "pyproject.toml").write_text(declarations(names), encoding="utf-8")
    words = [str(OWN / "bin" / "uv"), "pip", "compile", "--quiet", "--no-header", "--no-annotate", "--universal",
             "--python-version", pythons(declared())[0], "pyproject.toml", "--output-file", target]
    if pinned:
        words += ["--constraint", str(pinned)]
    subprocess.run(words, check=True, cwd=folder, env={**os.environ, "UV_NO_PROGRESS": "1"})
    return folder / target


def places() -> list[tuple[str, str]]:
    """Every Python and machine that the lock is for."""
    return [(python, machine) for python in pythons(declared()) for machine in MACHINES]


def counts_where(marker: str) -> set[tuple[str, str]]:
    """The places where a marker holds."""
    from packaging.markers import Marker
    if not marker:
        return set(places())
    told = Marker(marker)
    return {(python, machine) for python, machine in places() if told.evaluate({
        "python_version": python, "python_full_version": f"{python}.0", "platform_machine": machine,
        "sys_platform": "linux", "platform_system": "Linux", "os_name": "posix", "implementation_name": "cpython",
        "platform_python_implementation": "CPython", "extra": ""})}


def marker_of(where: set[tuple[str, str]]) -> str:
    """The shortest marker that holds in just these places."""
    everywhere = set(places())
    if where == everywhere:
        return ""
    on = [machine for machine in MACHINES if any(place[1] == machine for place in where)]
    versions = [python for python in pythons(declared()) if any(place[0] == python for place in where)]
    every = pythons(declared())
    together = versions == [*every[every.index(versions[0]):every.index(versions[-1]) + 1]]
    if not together or where != {(python, machine) for python in versions for machine in on}:
        return " or ".join(f"(python_version == '{python}' and platform_machine == '{machine}')"
                           for python, machine in sorted(where, key=places().index))
    parts = []
    if len(versions) < len(every):
        if versions[0] == every[0]:
            parts.append(f"python_version <= '{versions[-1]}'")
        elif versions[-1] == every[-1]:
            parts.append(f"python_version >= '{versions[0]}'")
        else:
            parts.append(f"python_version >= '{versions[0]}' and python_version <= '{versions[-1]}'")
    if len(on) < len(MACHINES):
        parts.append(f"platform_machine == '{on[0]}'")
    return " and ".join(parts)


def fits(file: str) -> set[tuple[str, str]]:
    """The places that a wheel is for, by its name; of the C library any version counts."""
    from packaging.utils import parse_wheel_filename
    found = set()
    for tag in parse_wheel_filename(file)[3]:
        for python, machine in places():
            minor = int(python.split(".")[1])
            right_machine = tag.platform == "any" or (
                tag.platform.startswith(("linux", "manylinux")) and tag.platform.endswith(machine))
            if tag.interpreter.startswith("py"):
                right_python = tag.interpreter in ("py3", "py2.py3", f"py3{minor}")
            elif tag.abi == "abi3":
                right_python = tag.interpreter.startswith("cp3") and int(tag.interpreter[3:] or 0) <= minor
            else:
                right_python = tag.interpreter == tag.abi == f"cp3{minor}" or (
                    tag.abi == "none" and tag.interpreter == f"cp3{minor}")
            if right_machine and right_python:
                found.add((python, machine))
    return found


def files_of(package: dict[str, Any]) -> tuple[tuple[str, ...], set[tuple[str, str]]]:
    """The sums of a package's files that count here, and the places for which it has a wheel."""
    sums, where = [], set()
    for wheel in package.get("wheels", ()):
        at = fits(unquote(wheel["url"].rpartition("/")[2]))
        if at:
            where |= at
            sums.append(wheel["hashes"]["sha256"])
    if "sdist" in package:
        sums.append(package["sdist"]["hashes"]["sha256"])
    return tuple(sorted(set(sums))), where


def without_wheels(missing: dict[str, set[tuple[str, str]]]) -> list[str]:
    """Sentences for the head."""
    lines = []
    for name, where in sorted(missing.items()):
        told = [f"Python {', '.join(python for python, m in places() if m == machine and (python, m) in where)} on "
                f"{machine}" for machine in MACHINES if any(m == machine for _, m in where)]
        lines.append(f"{COMPILED}{name} for {', '.join(told)}")
    return lines


def newer_outside(lock: Lock) -> list[str]:
    """Newer versions of what is declared that its range shuts out: for “make newest”, after the bound was raised."""
    wanted = {name_of(row) for name in groups(declared()) for row in plain(groups(declared()), name)}
    with tempfile.TemporaryDirectory(prefix="bpl") as name:
        folder = Path(name)
        (folder / "in").write_text("\n".join(sorted(wanted)) + "\n", encoding="utf-8")
        found = subprocess.run([str(OWN / "bin" / "uv"), "pip", "compile", "--quiet", "--no-header", "--no-annotate",
                                "--no-deps", "--universal", "--python-version", lock.pythons[-1], str(folder / "in")],
                               check=True, capture_output=True, text=True, env={**os.environ, "UV_NO_PROGRESS": "1"})
    newest = dict(line.split(" ;")[0].split("==") for line in found.stdout.splitlines() if "==" in line)
    locked = {pin.name: pin.version for pin in lock.pins}
    return [f"{name}: {locked[name]} is locked, {version} is out" for name, version in sorted(newest.items())
            if locked.get(name, version) != version]


def make(*, keep: bool) -> tuple[Lock, list[str]]:
    """Resolve everything: the lock, and the sentences of its head."""
    project = declared()
    with tempfile.TemporaryDirectory(prefix="bpl") as name:
        folder = Path(name)
        kept = None
        if keep and LOCK.exists():
            # The resolver prefers what stands in its output already.
            shutil.copyfile(LOCK, folder / "kept.txt")
            kept = compile_all(folder, tuple(groups(project)), target="kept.txt")
        found = compile_all(folder, tuple(groups(project)), target="pylock.toml", pinned=kept)
        packages = tomllib.loads(found.read_text(encoding="utf-8"))["packages"]
        every = folder / "every.in"
        every.write_text("".join(f"{row['name']}=={row['version']} ; {row['marker']}\n" if row.get("marker") else
                                 f"{row['name']}=={row['version']}\n" for row in packages), encoding="utf-8")
        needed: dict[str, set[str]] = {}
        for group in groups(project):
            text = compile_all(folder, (group,), target=f"{group}.txt", pinned=every).read_text(encoding="utf-8")
            for line in text.splitlines():
                if "==" in line:
                    needed.setdefault(line.partition("==")[0], set()).add(group)
    pins, missing = [], dict[str, set[tuple[str, str]]]()
    for row in packages:
        where = counts_where(row.get("marker", ""))
        if not where:
            continue
        sums, has = files_of(row)
        if where - has:
            missing[f"{row['name']} {row['version']}"] = where - has
        pins.append(Pin(row["name"], row["version"], marker_of(where), sums, frozenset(needed[row["name"]])))
    return Lock(tuple(pins), pythons(project), sum_of(project)), without_wheels(missing)


def main() -> int:
    words = argparse.ArgumentParser(description=__doc__.splitlines()[0] if __doc__ else "")
    words.add_argument("--keep", action="store_true", help="keep what is locked as far as it can be kept")
    words.add_argument("--check", action="store_true", help="only tell whether the lock is of what is declared")
    asked = words.parse_args()
    try:
        before = read_lock(LOCK.read_text(encoding="utf-8")) if LOCK.exists() else None
    except LockError as error:
        print(error, file=sys.stderr)
        before = None
    if asked.check:
        good = before is not None and before.declared == sum_of(declared())
        print("requirements.lock is of what pyproject.toml declares." if good else
              "requirements.lock is not of what pyproject.toml declares. Make it anew with: make lock")
        return 0 if good else 1
    python = own_python()
    if Path(sys.prefix) != OWN:
        return subprocess.run([python, __file__, *sys.argv[1:]], check=False).returncode
    lock, remarks = make(keep=asked.keep)
    LOCK.write_text(write_lock(lock, remarks), encoding="utf-8")
    print("\n".join(changes(before, lock)) or "Nothing changed.")
    print(f"\n{LOCK.name}: {len(lock.pins)} versions; the program alone needs {len(lock.of(BARE))}.")
    print("\n".join(remarks))
    if outside := newer_outside(lock):
        print("\nNewer than the ranges allow (raise a bound, then: make newest):\n" + "\n".join(outside))
    return 0


if __name__ == "__main__":
    sys.exit(main())
