"""Files, read and written with care: nothing but an ordinary file is waited for, and a write is whole or not at all.

Everything that changes a file goes through `layer`, which is as thin as can be, so that a test can let any step fail.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import stat
from collections.abc import Iterable
from pathlib import Path

from brass_pebble.core.say.counts import say_count

# In bytes: no desk.toml, macro or drawing that a person writes is larger.
LARGEST = {"desk.toml": 16_000_000, ".macro": 4_000_000, ".toml": 4_000_000}
LARGEST_OF_ALL = 64_000_000
# What is private to this person: desks hold texts that were typed.
PRIVATE_FILE, PRIVATE_FOLDER = 0o600, 0o700

_SAID = {
    errno.ENOSPC: "the disk is full", errno.EDQUOT: "your share of the disk is used up",
    errno.EROFS: "the disk cannot be written to", errno.EACCES: "you may not do this here",
    errno.EPERM: "the system does not allow it", errno.ENOENT: "it is not there", errno.ENOTDIR: "a folder is missing",
    errno.EISDIR: "it is a folder", errno.ELOOP: "it is a link that leads back to itself",
    errno.ENAMETOOLONG: "its name is too long", errno.EIO: "the disk reports an error",
    errno.EMFILE: "too many files are open", errno.ENFILE: "too many files are open",
}
NEXT_STEP = {
    errno.ENOSPC: "Make room on the disk, then do it again", errno.EDQUOT: "Make room on the disk, then do it again",
    errno.EROFS: "Move the desk to a disk that can be written to, or make this one writable",
    errno.EACCES: "Give yourself the right to write there", errno.EPERM: "See who owns the folder, and whether it is "
    "marked as unchangeable",
}


class Unreadable(OSError):
    """A file that is not read, since it is not an ordinary one, or far too large."""


class Layer:
    """The steps of which every write is made.  Each may raise OSError."""

    def open(self, path: str, flags: int, mode: int) -> int:
        """Open a file for writing."""
        return os.open(path, flags | os.O_CLOEXEC, mode)

    def write(self, fileno: int, data: bytes) -> int:
        """Write some of the data; how much."""
        return os.write(fileno, data)

    def sync(self, fileno: int) -> None:
        """Have it on the disk."""
        os.fsync(fileno)

    def replace(self, source: str, target: str) -> None:
        """Give a file another's name, in one step."""
        os.replace(source, target)

    def remove(self, path: str) -> None:
        """Take a file away."""
        os.unlink(path)


layer = Layer()


def say(error: BaseException) -> str:
    """What went wrong with a file, in words."""
    if isinstance(error, Unreadable):
        return str(error.strerror)
    if isinstance(error, OSError):
        return _SAID.get(error.errno or 0, (error.strerror or str(error)).lower())
    if isinstance(error, UnicodeError):
        return "it is not UTF-8 text"
    return str(error)


def next_step(error: BaseException) -> str:
    """What a person can do about it."""
    number = error.errno if isinstance(error, OSError) else None
    return NEXT_STEP.get(number or 0, "See whether the disk is there and can be written to")


def read_bytes(file: Path, most: int = LARGEST_OF_ALL) -> bytes:
    """A file's contents.

    Raises:
        Unreadable: it is a pipe, a device or a folder, or larger than `most`.
        OSError: it cannot be read.
    """
    # Without waiting: opening a pipe that nobody writes to would never end.
    fileno = os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY)
    try:
        about = os.fstat(fileno)
        if not stat.S_ISREG(about.st_mode):
            raise Unreadable(errno.EINVAL, f"it is {_kind(about.st_mode)}, not a file", str(file))
        if about.st_size > most:
            raise Unreadable(errno.EFBIG, f"it has {say_count(about.st_size, 'byte')}, and at most {most:,} are "
                                          "read", str(file))
        parts, left = [], most + 1
        while left > 0 and (part := os.read(fileno, min(left, 1_048_576))):
            parts.append(part)
            left -= len(part)
        if left <= 0:
            raise Unreadable(errno.EFBIG, f"it has more than {say_count(most, 'byte')}", str(file))
        return b"".join(parts)
    finally:
        os.close(fileno)


def read_text(file: Path) -> str:
    """A file of a desk, as text.

    Raises:
        OSError: it cannot be read, or is not an ordinary file.
        UnicodeDecodeError: it is not UTF-8 text.
    """
    return read_bytes(file, largest(file.name)).decode("utf-8")


def texts_in(folder: Path, ending: str) -> dict[str, str]:
    """The texts of a folder's files that end so, by their names without it; what is not a readable file is left out."""
    found = {}
    for file in sorted(folder.glob(f"*{ending}")):
        with contextlib.suppress(OSError):
            found[file.name.removesuffix(ending)] = read_bytes(file, largest(file.name)).decode("utf-8", "replace")
    return found


def largest(name: str) -> int:
    """How large a file of this name may be, in bytes."""
    return LARGEST.get(name) or LARGEST.get(os.path.splitext(name)[1]) or LARGEST_OF_ALL


def _kind(mode: int) -> str:
    for test, what in ((stat.S_ISFIFO, "a pipe"), (stat.S_ISCHR, "a device"), (stat.S_ISBLK, "a device"),
                       (stat.S_ISDIR, "a folder"), (stat.S_ISSOCK, "a socket")):
        if test(mode):
            return what
    return "something else"


def write_text(file: Path, text: str, mode: int | None = None) -> None:
    """Replace a file in one step: see `write_bytes`."""
    write_bytes(file, text.encode("utf-8"), mode)


def write_bytes(file: Path, data: bytes, mode: int | None = None) -> None:
    """Replace a file in one step: whoever reads it sees the old or the new one, whatever happens meanwhile.

    A link is followed, and what it leads to is replaced.  A file that is there keeps its mode, a new one has `mode` or
    is private.

    Raises:
        OSError: it could not be written; the old one is untouched, and nothing is left behind.
    """
    target = os.path.realpath(file)
    folder, name = os.path.split(target)
    if mode is None:
        try:
            mode = stat.S_IMODE(os.stat(target).st_mode)
        except OSError:
            mode = PRIVATE_FILE
    temporary = os.path.join(folder, f".{name[:180]}.{os.getpid()}.new")
    fileno = -1
    try:
        fileno = layer.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, mode)
        os.fchmod(fileno, mode)
        view = memoryview(data)
        while view:
            view = view[layer.write(fileno, bytes(view[:1_048_576])):]
        layer.sync(fileno)
        os.close(fileno)
        fileno = -1
        layer.replace(temporary, target)
    except BaseException:
        if fileno >= 0:
            os.close(fileno)
        with contextlib.suppress(OSError):
            os.unlink(temporary)
        raise
    sync_folder(folder)


_LEFT_BEHIND = re.compile(r"\..+\.(\d+)\.new")


def clear(folders: Iterable[Path]) -> None:
    """Take away what processes that were killed in the middle of a write have left behind."""
    for folder in folders:
        with contextlib.suppress(OSError):
            for entry in os.scandir(folder):
                found = _LEFT_BEHIND.fullmatch(entry.name)
                if found and not _lives(int(found[1])):
                    with contextlib.suppress(OSError):
                        os.unlink(entry.path)


def _lives(pid: int) -> bool:
    return os.path.exists(f"/proc/{pid}")


def sync_folder(folder: str) -> None:
    """Have a folder's entries on the disk; where that cannot be done, the file itself is there all the same."""
    with contextlib.suppress(OSError):
        fileno = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            layer.sync(fileno)
        finally:
            os.close(fileno)


def remove(file: Path) -> None:
    """Take a file away, if it is there.

    Raises:
        OSError: it is there and cannot be taken away.
    """
    with contextlib.suppress(FileNotFoundError):
        layer.remove(str(file))


def private_folder(folder: Path) -> None:
    """A folder that nobody else may look into, made if it is not there.

    Raises:
        OSError: it cannot be made.
    """
    if not folder.is_dir():
        # Those above it, too: a mode that is asked for counts for the last one only.
        if folder.parent != folder:
            private_folder(folder.parent)
        folder.mkdir(exist_ok=True, mode=PRIVATE_FOLDER)
