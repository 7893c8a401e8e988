"""What requirements.lock says: exact versions with hashes, and for what each of them is needed.

The file is an ordinary requirements file that pip reads as a whole; “# for:” above each entry names the groups that
need it.  Only the standard library is used here, since an empty environment is set up with it.
"""

from __future__ import annotations

import hashlib
import json
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

PROJECT = Path(__file__).parent.parent
LOCK = PROJECT / "requirements.lock"
PYPROJECT = PROJECT / "pyproject.toml"
# The group of what the program needs in any case; the others are named in pyproject.toml.
BARE = "program"
PYTHONS_SAID, DECLARED_SAID, FOR_SAID = "# Python: ", "# declared: ", "# for: "


class LockError(Exception):
    """A sentence for a person: what is wrong with the lock, where, and the next step."""


@dataclass(frozen=True)
class Pin:
    """One exact version of a package.

    `marker` says where it counts (empty: everywhere), `hashes` are the SHA-256 sums (64 hexadecimal digits) of the
    files that may be installed, `groups` is what needs it.
    """

    name: str
    version: str
    marker: str
    hashes: tuple[str, ...]
    groups: frozenset[str]

    def written(self) -> str:
        """The entry as it stands in a requirements file."""
        head = f"{self.name}=={self.version}" + (f" ; {self.marker}" if self.marker else "")
        sums = " \\\n".join(f"    --hash=sha256:{value}" for value in self.hashes)
        return f"{FOR_SAID}{', '.join(sorted(self.groups))}\n{head} \\\n{sums}\n"


@dataclass(frozen=True)
class Lock:
    """All pins, the Pythons (“3.11”) that they were made for, and the sum of what was declared then."""

    pins: tuple[Pin, ...]
    pythons: tuple[str, ...]
    declared: str

    def of(self, *groups: str) -> list[Pin]:
        """The pins that any of these groups needs."""
        return [pin for pin in self.pins if pin.groups & frozenset(groups)]


def declared() -> dict[str, Any]:
    """pyproject.toml, read."""
    return tomllib.loads(PYPROJECT.read_text(encoding="utf-8"))


def pythons(project: Mapping[str, Any]) -> tuple[str, ...]:
    """The Pythons that the classifiers name, as “3.11”."""
    said = "Programming Language :: Python :: 3."
    return tuple(row.rpartition(" ")[2] for row in project["project"]["classifiers"] if row.startswith(said))


def groups(project: Mapping[str, Any]) -> dict[str, list[str]]:
    """Every group of packages that is declared, and what it names."""
    return {BARE: project["project"]["dependencies"], **project["project"]["optional-dependencies"],
            **project["dependency-groups"]}


def plain(declares: Mapping[str, list[str]], name: str) -> list[str]:
    """A group's packages; another group of this package (“brass-pebble[voice]”) is written out."""
    found = []
    for row in declares[name]:
        of_ours = re.fullmatch(r"brass-pebble\[(.+)\]", row)
        found += [part for word in of_ours[1].split(",") for part in plain(declares, word)] if of_ours else [row]
    return found


def name_of(row: str) -> str:
    """The package that a declared row names, in its usual form."""
    found = re.match(r"[A-Za-z0-9._-]+", row)
    return re.sub(r"[-_.]+", "-", found[0]).lower() if found else ""


def sum_of(project: Mapping[str, Any]) -> str:
    """One number for everything that a lock depends on; another as soon as any of it is."""
    told = json.dumps([groups(project), pythons(project)], sort_keys=True)
    return hashlib.sha256(told.encode()).hexdigest()[:16]


_ENTRY = re.compile(r"([A-Za-z0-9][A-Za-z0-9._-]*)==([A-Za-z0-9.!+_-]+)(?: ; (.+))?")


def read_lock(text: str, name: str = LOCK.name) -> Lock:
    """Read a lock.

    Raises:
        LockError: a line is not what `make lock` writes.
    """
    told: dict[str, str] = {}
    pins: list[Pin] = []
    needs: frozenset[str] = frozenset()
    number = 0
    lines = iter(text.splitlines())
    for line in lines:
        number += 1
        start = number
        while line.endswith("\\"):
            line = line[:-1] + next(lines, "")  # noqa: PLW2901
            number += 1
        if line.startswith((PYTHONS_SAID, DECLARED_SAID)):
            word, _, rest = line.partition(": ")
            told[word + ": "] = rest
        elif line.startswith(FOR_SAID):
            needs = frozenset(line.removeprefix(FOR_SAID).split(", "))
        elif line and not line.startswith("#"):
            head, *sums = (part.strip() for part in line.split("--hash=sha256:"))
            found = _ENTRY.fullmatch(head)
            if found is None or not sums or not needs or not all(re.fullmatch("[0-9a-f]{64}", value) for value in sums):
                raise LockError(f"{name}, line {start}: not an exact version with its hashes. Make it anew with: "
                                "make lock")
            pins.append(Pin(found[1], found[2], found[3] or "", tuple(sums), needs))
            needs = frozenset()
    if not told.get(DECLARED_SAID) or not pins:
        raise LockError(f"{name}: it does not say what it was made of. Make it anew with: make lock")
    return Lock(tuple(pins), tuple(told.get(PYTHONS_SAID, "").split(", ")), told[DECLARED_SAID])


def write_lock(lock: Lock, remarks: list[str]) -> str:
    """The file's text; `remarks` are sentences for its head."""
    head = ["# Exact versions, made by “make lock” of what pyproject.toml declares. Do not edit.",
            f"{PYTHONS_SAID}{', '.join(lock.pythons)}", f"{DECLARED_SAID}{lock.declared}",
            *(f"# {remark}" for remark in remarks)]
    ordered = sorted(lock.pins, key=lambda pin: (pin.name, pin.version))
    return "\n".join(head) + "\n\n" + "\n".join(pin.written() for pin in ordered)


def changes(before: Lock | None, after: Lock) -> list[str]:
    """What is another version, new, or gone, a line each."""
    def versions(lock: Lock | None) -> dict[str, list[str]]:
        found: dict[str, list[str]] = {}
        for pin in lock.pins if lock else ():
            found.setdefault(pin.name, []).append(pin.version)
        return {name: sorted(set(rows)) for name, rows in found.items()}
    old, new = versions(before), versions(after)
    lines = []
    for name in sorted({*old, *new}):
        was, now = ", ".join(old.get(name, ())), ", ".join(new.get(name, ()))
        if was != now:
            lines.append(f"{name}: new, {now}" if not was else f"{name}: gone, was {was}" if not now
                         else f"{name}: {was} → {now}")
    hashes = {pin.name: pin.hashes for pin in before.pins} if before else {}
    for pin in after.pins:
        if pin.name in old and old[pin.name] == new[pin.name] and len(new[pin.name]) == 1 \
                and hashes[pin.name] != pin.hashes:
            lines.append(f"{pin.name}: {pin.version} has other files")
    return lines
