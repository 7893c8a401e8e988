"""Packages are read in a process of their own, with limits on memory, time and lines: whatever is in one, nobody else
waits for it or shares its memory with it.

    python -m brass_pebble.engine.disk.packages.package_reader FILE

prints one message, as JSON: `Read` with its texts, or `Refused` with a sentence.
"""

from __future__ import annotations

import resource
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import msgspec

from brass_pebble.core.macro.reader import link, parse
from brass_pebble.core.parcel.contents import MOST_IN_ALL, Manifest, Parcel
from brass_pebble.core.say.problem import ProblemError

from .parcel_file import NOTHING, parcel_from, read_parcel

# In bytes and in s of the processor; and how long somebody waits for it in all, in s.
MOST_MEMORY, MOST_SECONDS, WAITS = 1_000_000_000, 15, 30.0
# What the answer may come to: the texts, and as much again for how JSON writes them.
MOST_ANSWERED = 2 * MOST_IN_ALL


class Read(msgspec.Struct, frozen=True, tag="read"):
    """A package that is as it should be: its manifest, its texts by their names, and what its bytes are known by."""

    manifest: Manifest
    texts: dict[str, str]
    digest: str


class Refused(msgspec.Struct, frozen=True, tag="refused"):
    """What is wrong with a package, and what to do."""

    what: str
    hint: str


def read_apart(file: Path, begun: Callable[[subprocess.Popen[bytes]], None] = lambda child: None) -> Parcel:
    """What is in a package, read by another process, which `begun` is told.  Not for the loop: it waits.

    Raises:
        ProblemError: see `read_parcel`; or it takes too much time or memory.
    """
    try:
        with subprocess.Popen([sys.executable, "-m", __name__, str(file.absolute())], stdin=subprocess.DEVNULL,
                              stdout=subprocess.PIPE, stderr=subprocess.DEVNULL) as child:
            begun(child)
            try:
                said, _ = child.communicate(timeout=WAITS)
            except subprocess.TimeoutExpired:
                child.kill()
                raise
        if len(said) > MOST_ANSWERED:
            raise ValueError("more was said than there can be")
        told = msgspec.json.decode(said, type=Read | Refused)
    except (OSError, subprocess.TimeoutExpired, ValueError) as error:
        raise ProblemError(f"{file.name} takes too much time or memory to read",
                           hint=f"No desk needs so much. {NOTHING}") from error
    if isinstance(told, Refused):
        raise ProblemError(told.what, hint=told.hint)
    return parcel_from(told.manifest, told.texts, told.digest)


def main() -> int:
    """Read the package that is named, within the limits."""
    resource.setrlimit(resource.RLIMIT_AS, (MOST_MEMORY, MOST_MEMORY))
    resource.setrlimit(resource.RLIMIT_CPU, (MOST_SECONDS, MOST_SECONDS))
    try:
        parcel = read_parcel(Path(sys.argv[1]))
        # Whoever takes it in reads its macros, too: what that costs is found out here.
        drafts = {name: parse(text, id=name) for name, text in parcel.macros.items()}
        link(drafts)
        texts = {**({"desk.toml": parcel.text} if parcel.text else {}), **{
            f"{folder}/{name}{ending}": text for folder, ending, found in (
                ("macros", ".macro", parcel.macros), ("layouts", ".toml", parcel.layouts),
                ("programs", ".toml", parcel.programs), ("values", ".toml", parcel.values))
            for name, text in found.items()}}
        told: Read | Refused = Read(parcel.manifest, texts, parcel.digest)
    except ProblemError as error:
        told = Refused(error.problem.what, error.problem.hint)
    except OSError as error:
        told = Refused(f"{sys.argv[1]} cannot be read: {error.strerror}", "Name a file that was exported")
    except (MemoryError, RecursionError):
        told = Refused("the package takes too much memory to read", NOTHING)
    sys.stdout.buffer.write(msgspec.json.encode(told))
    return 0


if __name__ == "__main__":
    sys.exit(main())
