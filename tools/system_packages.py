"""See to the system packages that tests need: system_packages.tsv says which, and what each is for.

    system_packages.py [--tell]

As root on Debian what is missing is installed; otherwise, and with --tell, it is said what is left out, and how to
install it.  Only the standard library is needed.
"""

from __future__ import annotations

import ctypes.util
import importlib.util
import os
import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from functools import cache
from pathlib import Path

TABLE = Path(__file__).with_suffix(".tsv")
# Where Debian has what only an administrator runs.
PATHS = f"{os.environ.get('PATH', '')}:/usr/sbin:/sbin"


@dataclass(frozen=True)
class Need:
    """A row of the table.

    `package` may name several, parted by a blank, or another name of other releases behind “|”; `since` is the oldest
    version that was tried, empty where any does.
    """

    what: str
    package: str
    since: str
    without: str

    def here(self) -> bool:
        """Whether it is there."""
        kind, _, name = self.what.rpartition(" ")
        if kind == "module":
            return importlib.util.find_spec(name) is not None and importlib.util.find_spec(f"_{name}") is not None
        if self.what.startswith("font "):
            return self.what.removeprefix("font ") in _said("fc-list", ":", "family")
        if self.what.startswith("/"):
            return Path(self.what).exists()
        if self.what.startswith("lib") and ".so" in self.what:
            return ctypes.util.find_library(self.what.removeprefix("lib").split(".so")[0]) is not None
        return shutil.which(self.what, path=PATHS) is not None


def needs() -> list[Need]:
    """The table."""
    rows = [line.split("\t") for line in TABLE.read_text(encoding="utf-8").splitlines() if line and line[0] != "#"]
    return [Need(*row) for row in rows]


def sentences(missing: Iterable[Need]) -> list[str]:
    """What is left out, a sentence for each part, with what it misses."""
    parts: dict[str, list[Need]] = {}
    for need in missing:
        parts.setdefault(need.without, []).append(need)
    return [f"Left out: {part}. Missing: {', '.join(need.what for need in rows)} (Debian: "
            f"{', '.join(dict.fromkeys(need.package for need in rows))})." for part, rows in parts.items()]


@cache
def _said(*words: str) -> str:
    try:
        return subprocess.run(words, capture_output=True, text=True, check=False).stdout
    except OSError:
        return ""


def packages(missing: Iterable[Need], known: Callable[[str], bool]) -> list[str]:
    """The packages to install; of two names the one that this release has."""
    found = []
    for need in missing:
        names = [name.strip() for name in need.package.split("|")]
        found += next((name for name in names if known(name.split()[0])), names[0]).split()
    return [*dict.fromkeys(found)]


def version(package: str) -> str:
    """The version of a Debian package that is installed; empty if it is not, or elsewhere."""
    return _said("dpkg-query", "-W", "-f", "${Version}", re.split(r"[ |]", package, maxsplit=1)[0])


def older(there: str, since: str) -> bool:
    """Whether a version is older than another, as Debian orders them."""
    return bool(there and since) and subprocess.run(["dpkg", "--compare-versions", there, "lt", since],
                                                    check=False).returncode == 0


def main() -> int:
    missing = [need for need in needs() if not need.here()]
    # Python's own modules come with a package only where Python itself does.
    own = Path(sys.base_prefix) == Path("/usr")
    wanted = [need for need in missing if own or not need.what.startswith("module ")]
    if wanted and "--tell" not in sys.argv and os.getuid() == 0 and shutil.which("apt-get"):
        subprocess.run(["apt-get", "update", "-qq"], check=False)
        names = packages(wanted, lambda name: "Candidate: (none)" not in (
            told := _said("apt-cache", "policy", name)) and bool(told))
        print("Installing:", " ".join(names), flush=True)
        done = subprocess.run(["apt-get", "install", "-y", "-qq", "--no-install-recommends", *names], check=False,
                              stdout=subprocess.DEVNULL, env={**os.environ, "DEBIAN_FRONTEND": "noninteractive"})
        if done.returncode:
            print("apt-get could not install them: what it says stands above.", file=sys.stderr)
            return 1
        _said.cache_clear()
        missing = [need for need in missing if not need.here()]
    told = dict.fromkeys(sentences(missing))
    for package, since in dict.fromkeys((need.package, need.since) for need in needs()):
        if older(there := version(package), since):
            told[f"{package} {there} is older than {since}, the oldest that the tests were tried with."] = None
    for sentence in told:
        print(sentence, file=sys.stderr)
    if to_install := packages([need for need in missing if need in wanted], lambda _: True):
        print("To have all of it: sudo apt-get install " + " ".join(to_install), file=sys.stderr)
    return 0


if __name__ == "__main__":
    sys.exit(main())
