"""Install what requirements.lock names into the environment of the Python that runs this: exact versions, by hash.

    install.py [--only] [--any-version] [--if-ready GROUP] GROUP …

Groups are “program”, “build” and those of pyproject.toml.  Brass Pebble itself is installed as well, from here, so that
a change of its source counts at once; not with --only.  A group after --if-ready is left out, with a sentence, where it
would have to be compiled.  With --any-version the lock is left aside, and the newest versions that the ranges allow are
taken.  Only the standard library is needed.
"""

from __future__ import annotations

import argparse
import platform
import re
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path
from typing import TextIO

sys.path.insert(0, str(Path(__file__).parent))

from locked import LOCK, PROJECT, Lock, LockError, declared, groups, plain, read_lock, sum_of

PIP = [sys.executable, "-m", "pip", "install", "--progress-bar", "off", "--disable-pip-version-check"]
# Where a line cannot be written over, what goes on is told so often, in s.
TOLD_EVERY = 10.0
HERE = f"{sys.version_info.major}.{sys.version_info.minor}"


class Progress:
    """Tells what is being done while it is done: on a terminal in one line, elsewhere now and then in a new one."""

    def __init__(self, many: int, installs: str = "what was fetched", out: TextIO = sys.stdout) -> None:
        self._many, self._installs, self._out = many, installs, out
        self._fetched, self._told, self._width = 0, 0.0, 0

    def hear(self, line: str) -> None:
        """A line that pip said."""
        if found := re.match(r"Collecting ([A-Za-z0-9._-]+)", line):
            self._fetched += 1
            of = f" of {self._many}" if self._many else ""
            self.say(f"Fetching {found[1]} ({self._fetched}{of})")
        elif line.startswith("Installing collected packages"):
            self.say(f"Installing {self._installs}", always=True)

    def say(self, what: str, *, always: bool = False) -> None:
        """What is being done now."""
        now = time.monotonic()
        if self._out.isatty():
            self._out.write(f"\r  {what} …".ljust(self._width))
            self._width = len(what) + 5
        elif always or now - self._told > TOLD_EVERY:
            self._out.write(f"  {what} …\n")
            self._told = now
        self._out.flush()

    def end(self) -> None:
        """Nothing is being done any more."""
        if self._out.isatty() and self._width:
            self._out.write("\r" + " " * self._width + "\r")
            self._out.flush()


def pip(*words: str, many: int = 0, installs: str = "what was fetched") -> tuple[int, str]:
    """Let pip install something, and tell how it goes; its exit code, and what it complained of."""
    progress = Progress(many, installs)
    process = subprocess.Popen([*PIP, *words], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    assert process.stdout is not None and process.stderr is not None
    complaints: list[str] = []
    reader = threading.Thread(target=lambda: complaints.extend(process.stderr or ()))
    reader.start()
    for line in process.stdout:
        progress.hear(line)
    reader.join()
    code = process.wait()
    progress.end()
    return code, "".join(complaints)


def usable_lock(file: Path = LOCK) -> Lock:
    """The lock, if it is of what is declared.

    Raises:
        LockError: there is none, it cannot be read, or it was made of other ranges.
    """
    if not file.exists():
        raise LockError(f"{file.name} is missing. Make it with: make lock")
    lock = read_lock(file.read_text(encoding="utf-8"), file.name)
    if lock.declared != sum_of(declared()):
        raise LockError(f"{file.name} was made of other ranges than pyproject.toml has now. Make it again with: "
                        "make lock")
    return lock


def refusal(said: str, lock: Lock) -> str:
    """What pip said when it would not install, as a sentence; empty if it was not about hashes."""
    if "DO NOT MATCH THE HASHES" not in said:
        return ""
    # Each is told as “NAME==VERSION from WHERE (from -r FILE …):”, before what was expected and what came.
    told = re.findall(r"^ {4}([A-Za-z0-9._-]+)==(\S+)[^\n]*:\n {8}Expected", said, flags=re.M)
    names = " and ".join(f"{name} {version}" for name, version in told) or "one of the packages"
    return (f"Setting up stopped: the file that came for {names} is not the one that requirements.lock names "
            "(its hash does not fit). It was not installed. Try again from another network or mirror; if the file is "
            "right, make the lock again with: make lock")


def install_locked(lock: Lock, names: list[str], *extra: str) -> None:
    """Install these groups.

    Raises:
        LockError: a file is not the one that the lock names, or pip gave up.
    """
    with tempfile.TemporaryDirectory(prefix="bpi") as folder:
        wanted, pins = Path(folder) / "requirements.txt", list(lock.of(*names))
        wanted.write_text("".join(pin.written() for pin in pins), encoding="utf-8")
        code, said = pip("--require-hashes", "--no-deps", *extra, "-r", str(wanted), many=len(pins))
    if code:
        raise LockError(refusal(said, lock) or f"{said.strip()}\nSetting up stopped: pip could not "
                        "install what requirements.lock names. What it says stands above.")


def install_if_ready(lock: Lock, name: str, *extra: str) -> str:
    """Install a group unless something of it would have to be compiled: then why it is left out, else empty.

    Raises:
        LockError: a file is not the one that the lock names.
    """
    try:
        install_locked(lock, [name], "--only-binary", ":all:", *extra)
    except LockError as error:
        missing = re.search(r"No matching distribution found for ([A-Za-z0-9._-]+)==(\S+)", str(error))
        if missing is None:
            raise
        return (f"Left out: “{name}”, because {missing[1]} {missing[2]} is not there ready-made for Python {HERE} on "
                f"{platform.machine()}. Everything else works. To compile it (gcc, cmake and python3-dev are needed): "
                f"{sys.executable} tools/install.py --only {name}")
    return ""


def install_in_range(names: list[str], *extra: str) -> None:
    """Install the newest versions that the ranges of these groups allow.

    Raises:
        LockError: pip gave up.
    """
    rows = [row for name in names for row in plain(groups(declared()), name)]
    code, said = pip("--upgrade", "--upgrade-strategy", "eager", *extra, *rows)
    if code:
        raise LockError(f"{said.strip()}\nSetting up stopped: pip found nothing that fits the ranges. What it "
                        "says stands above.")


def install_self() -> None:
    """Brass Pebble from here; what builds it is installed already.

    Raises:
        LockError: pip gave up.
    """
    code, said = pip("--no-deps", "--no-build-isolation", "-e", str(PROJECT), installs="Brass Pebble itself")
    if code:
        raise LockError(f"{said.strip()}\nSetting up stopped: Brass Pebble itself could not be installed.")


def main() -> int:
    words = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    words.add_argument("groups", nargs="+", metavar="GROUP", choices=[*groups(declared())])
    words.add_argument("--if-ready", metavar="GROUP", choices=[*groups(declared())],
                       help="install this as well, unless it would have to be compiled")
    words.add_argument("--only", action="store_true", help="leave Brass Pebble itself out")
    words.add_argument("--any-version", action="store_true", help="take the newest versions that the ranges allow")
    asked = words.parse_args()
    try:
        lock = usable_lock()
        left_out = ""
        if asked.any_version or HERE not in lock.pythons:
            if not asked.any_version:
                print(f"requirements.lock is for Python {', '.join(lock.pythons)}; for Python {HERE} the newest "
                      "versions that the ranges allow are installed.")
            install_in_range(asked.groups)
            if asked.if_ready:
                try:
                    install_in_range([asked.if_ready], "--only-binary", ":all:")
                except LockError:
                    left_out = f"Left out: “{asked.if_ready}”, because it is not there ready-made for Python {HERE}."
        else:
            install_locked(lock, asked.groups)
            if asked.if_ready:
                left_out = install_if_ready(lock, asked.if_ready)
        if not asked.only:
            install_self()
        if left_out:
            print(left_out)
    except LockError as error:
        print(error, file=sys.stderr)
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
