"""What macros do to windows and programs, on threads: found, brought to the front, put into place, closed, opened,
waited for.  Each gives a remark for the trace, and whether it was done."""

from __future__ import annotations

import contextlib
import os
import signal
import subprocess
import time
from collections import deque
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TypeVar

from brass_pebble.core.macro.asks import Errand, Look, Program, Window
from brass_pebble.kinds.outputs.base import OutputError
from brass_pebble.kinds.windows.base import (
    Area,
    CannotDo,
    Desktop,
    WindowGone,
    find,
    focus_and_wait,
    wait_for_window,
)
from brass_pebble.kinds.windows.table import desktop_kind, open_desktop

from .call import Call

T = TypeVar("T")
Done = tuple[str, bool]
LOOK_EVERY = 0.05
# So many names of programs are told, each so long.
MOST_PROGRAMS, LONGEST_NAME = 5_000, 100
# A click lasts longer than this, in s.
PICK_EVERY = 0.01


def _on_desktop(job: Callable[[Desktop], tuple[str, T]], call: Call, pattern: str = "") -> tuple[str, T | bool]:
    """Do something with the desktop; what it cannot do, or a window that was closed meanwhile, is told."""
    try:
        desktop = open_desktop()
    except OutputError as error:
        return str(error), False
    try:
        # A display that hangs is left, so that the thread is free again.
        call.at_end(desktop.abandon)
        return job(desktop)
    except WindowGone:
        return f"the window “{pattern}” was closed meanwhile", False
    except CannotDo as error:
        return str(error), False
    except Exception:
        # Left under its hands, since nobody waits any more.
        if call.over:
            return "", False
        raise
    finally:
        desktop.close()


def do_to_window(ask: Errand, call: Call) -> tuple[str, str | bool]:
    """Focus, raise, close, minimise or place a window; or tell a place of it."""
    pattern, by, *details = ask.words
    deed = ask.kind.removeprefix("window ")

    def do(desktop: Desktop) -> tuple[str, str | bool]:
        window = find(desktop, pattern, by_class=by == "class")
        if window is None:
            return f"there is no window “{pattern}”", False
        if deed == "where":
            area = desktop.area_of(window.key)
            x, y = (_in_pixels(part, size) for part, size in zip(details, (area.width, area.height), strict=True))
            return "", f"{area.x + x} {area.y + y}"
        if deed == "focus":
            return ("", True) if focus_and_wait(desktop, window.key) else (f"“{pattern}” did not take the focus", False)
        if deed == "place":
            return _place(desktop, window.key, details)
        {"raise": desktop.raise_up, "close": desktop.close_window, "minimise": desktop.minimise}[deed](window.key)
        return "", True
    return _on_desktop(do, call, pattern)


def where_the_pointer_is(call: Call) -> tuple[str, str | bool]:
    """The pointer's place in pixels."""
    def ask(desktop: Desktop) -> tuple[str, str]:
        x, y = desktop.pointer()[:2]
        return "", f"{x} {y}"
    return _on_desktop(ask, call)


def pick_place(seconds: float) -> dict[str, object]:
    """The place of the next click, or where the pointer rests when the time is over.

    Raises:
        OutputError, CannotDo: it cannot be told here.
    """
    desktop = open_desktop()
    try:
        x, y, down = desktop.pointer()
        end, was_down, clicked = time.monotonic() + seconds, down, False
        while time.monotonic() < end and not clicked:
            time.sleep(PICK_EVERY)
            x, y, down = desktop.pointer()
            clicked, was_down = down and not was_down, down
        areas = desktop.screens()
        found: dict[str, object] = {"x": x, "y": y, "clicked": clicked, "screen": (
            max(area.x + area.width for area in areas), max(area.y + area.height for area in areas))}
        with contextlib.suppress(CannotDo):
            found["colour"] = "".join(f"{part:02x}" for part in desktop.colour(Area(x, y, 1, 1)))
        seen = desktop.window_at(x, y)
        window = next((each for each in desktop.look() if each.key == seen), None)
        if window is not None and (area := _area(desktop, seen)) is not None:
            found["window"] = {"class": window.cls, "title": window.title}
            found["inside"] = (area.x, area.y, area.width, area.height)
        return found
    finally:
        desktop.close()


def _area(desktop: Desktop, key: int) -> Area | None:
    with contextlib.suppress(WindowGone, CannotDo):
        return desktop.area_of(key)
    return None


def _in_pixels(part: str, size: int) -> int:
    return round(float(part[:-1]) / 100 * max(0, size - 1)) if part.endswith("%") else int(part)


def wait_for_look(ask: Look, call: Call) -> Done:
    """Wait until a place has a colour."""
    wanted = tuple(int(ask.colour[at:at + 2], 16) for at in (0, 2, 4))
    end = time.monotonic() + ask.limit / 1e9

    def wait(desktop: Desktop) -> Done:
        screen = desktop.screens()[0]
        x, y = (_in_pixels(part, size) for part, size in zip(ask.place, (screen.width, screen.height), strict=True))
        width, height = (max(1, _in_pixels(part, size)) for part, size in
                         zip(ask.size, (screen.width, screen.height), strict=True))
        while True:
            seen = desktop.colour(Area(screen.x + x, screen.y + y, width, height))
            if all(abs(a - b) <= ask.tolerance for a, b in zip(seen, wanted, strict=True)):
                return "", True
            left = end - time.monotonic()
            if left <= 0 or call.over:
                said = "".join(f"{part:02x}" for part in seen)
                return (f"the place looked {said}" if ask.limit else ""), False
            desktop.pause(min(left, LOOK_EVERY))
    return _on_desktop(wait, call)


def wait_for(ask: Window, call: Call) -> Done:
    """Wait until a window is there, focused, or gone."""
    def wait(desktop: Desktop) -> Done:
        return "", wait_for_window(desktop, ask.pattern, by_class=ask.by_class, focused=ask.focused,
                                   seconds=ask.limit / 1e9, given_up=call.given_up, gone=ask.gone)
    return _on_desktop(wait, call)


def title(call: Call) -> tuple[str, str | bool]:
    """The title of the window that has the focus."""
    def read(desktop: Desktop) -> tuple[str, str | bool]:
        window = next((one for one in desktop.look() if one.focused), None)
        return ("", window.title) if window is not None else ("no window has the focus", False)
    return _on_desktop(read, call)


def _place(desktop: Desktop, key: int, details: list[str]) -> Done:
    *place, number = details
    screens = desktop.screens()
    if int(number) > len(screens):
        return f"there is no screen {number}: {len(screens)} {'is' if len(screens) == 1 else 'are'} here", False
    screen = screens[int(number) - 1]
    if place[0].endswith("%"):
        shares = [float(part[:-1]) / 100 for part in place]
        left, top = screen.x + round(shares[0] * screen.width), screen.y + round(shares[1] * screen.height)
        right = screen.x + round((shares[0] + shares[2]) * screen.width)
        bottom = screen.y + round((shares[1] + shares[3]) * screen.height)
        area = Area(left, top, right - left, bottom - top)
    else:
        x, y, width, height = map(int, place)
        area = Area(screen.x + x, screen.y + y, width, height)
    desktop.place(key, area)
    return "", True


def processes_of(name: str) -> list[int]:
    """This person's processes of a program, by the name of its file or of itself; kernel: proc(5)."""
    found = []
    wanted, uid = os.path.basename(name), os.getuid()
    for folder in Path("/proc").iterdir():
        if not folder.name.isdigit():
            continue
        with contextlib.suppress(OSError):
            if folder.stat().st_uid != uid or int(folder.name) == os.getpid():
                continue
            called = _called(folder)
            ended = (folder / "stat").read_text().rpartition(")")[2].split()[0] in ("Z", "X")
            if not ended and (wanted in called or wanted[:LONGEST_COMM] in called):
                found.append(int(folder.name))
    return found


# The kernel keeps so much of a process's own name, the rest is cut off.
LONGEST_COMM = 15


def _called(folder: Path) -> set[str]:
    """What a process is called: by its file, by itself, and a script by its own file, too.  Raises: OSError."""
    words = (folder / "cmdline").read_bytes().split(b"\0")
    called = {os.path.basename(os.fsdecode(words[0])), (folder / "comm").read_text().strip()}
    if len(words) > 1 and called & INTERPRETERS:
        called.add(os.path.basename(os.fsdecode(words[1])))
    return called


def programs() -> list[str]:
    """Names of programs: those of this person that run, then those of the search path; `MOST_PROGRAMS` at most."""
    running, startable = set(), set()
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            # A thread of the kernel has no command line.
            if folder.stat().st_uid == os.getuid() and "" not in (called := _called(folder)):
                running |= {name for name in called if len(name) != LONGEST_COMM}
    for path in os.get_exec_path():
        with contextlib.suppress(OSError), os.scandir(path) as files:
            startable |= {file.name for file in files if os.access(file.path, os.X_OK)}
    # A process may call itself whatever it likes; what is no plain name helps nobody.
    running = {name for name in running if name.isprintable() and " " not in name and name[0].isalnum()
               and len(name) <= LONGEST_NAME}
    return [*sorted(running), *sorted(startable - running)][:MOST_PROGRAMS]


INTERPRETERS = {"python3", "python", "sh", "bash", "perl", "node", "ruby"}


def is_there(name: str) -> bool:
    """Whether a program runs."""
    return bool(processes_of(name))


def wait_for_program(ask: Program, call: Call) -> Done:
    """Wait until a program is there, or gone."""
    end = time.monotonic() + ask.limit / 1e9
    while is_there(ask.name) == ask.gone:
        left = end - time.monotonic()
        if left <= 0 or call.over:
            return "", False
        time.sleep(min(left, LOOK_EVERY))
    return "", True


def _windows_of(desktop: Desktop, name: str, cls: str) -> Iterable[int]:
    """The windows of a program, the focused one first."""
    pids = set() if cls else set(processes_of(name))
    short = os.path.basename(name).casefold()
    found = [window for window in desktop.look()
             if (window.cls.casefold() == cls.casefold() if cls else
                 window.pid in pids or window.cls.casefold() == short)]
    return [window.key for window in sorted(found, key=lambda window: not window.focused)]


def bring_to_front(name: str, cls: str) -> Done | None:
    """Bring a program's window to the front; None if it has none and is to be started."""
    if desktop_kind() is None:
        return (f"{name} is already running", True) if not cls and is_there(name) else None
    desktop = open_desktop()
    try:
        keys = list(_windows_of(desktop, name, cls))
        if not keys:
            return (f"{name} is already running, without a window", True) if not cls and is_there(name) else None
        focus_and_wait(desktop, keys[0])
        return f"{name} is already running: its window was brought to the front", True
    except WindowGone:
        return None
    except CannotDo as error:
        return f"{name} is already running, and its window could not be brought to the front: {error}", True
    finally:
        desktop.close()


def close_program(ask: Errand, call: Call) -> Done:
    """Close a program: its windows are asked to, or it is itself; by force when the time is over.

    Unless every one of that name is meant, only what a macro has started and what has a window is closed; the program's
    own helpers never are.
    """
    name, every = ask.words
    there = [pid for pid in processes_of(name) if not is_own(pid)]
    if not there:
        return f"{name} does not run", False
    keys, owners = _windows(name) if desktop_kind() is not None else ([], set())
    pids = [pid for pid in there if every or pid in owners or _session(pid) in STARTED]
    if not pids:
        return (f"“{name}” is left alone: it was not started by a macro and has no window. "
                f'Write close every program "{name}" to end it'), False
    if not keys or not _ask_windows(keys):
        _send(pids, signal.SIGTERM)

    def left() -> list[int]:
        return [pid for pid in processes_of(name) if pid in pids]
    end = time.monotonic() + ask.limit / 1e9
    while left() and time.monotonic() < end and not call.over:
        time.sleep(LOOK_EVERY)
    if not (still := left()) or call.over:
        return "", not still
    _send(still, signal.SIGKILL)
    while left() and time.monotonic() < end + 2:
        time.sleep(LOOK_EVERY)
    return f"{name} did not end by itself within {ask.limit / 1e9:g} s and was ended by force", True


def _session(pid: int) -> int:
    """The session that a process belongs to; 0 if it is gone."""
    try:
        return os.getsid(pid)
    except OSError:
        return 0


def is_own(pid: int) -> bool:
    """Whether a process is a part of this program, of this engine or another: by its own words, or its parent's."""
    with contextlib.suppress(OSError, ValueError):
        folder = Path(f"/proc/{pid}")
        # A program that was started to stay has a session of its own, whoever is its parent.
        parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
        child_of_ours = b"brass_pebble.engine" in Path(f"/proc/{parent}/cmdline").read_bytes()
        words = (folder / "cmdline").read_bytes()
        return b"brass_pebble." in words or b"brass-pebble" in words or (
            child_of_ours and pid not in STARTED)
    return False


# What macros have started to stay, by the process that was started: the session is called after it.
STARTED: deque[int] = deque(maxlen=1_000)


def _windows(name: str) -> tuple[list[int], set[int]]:
    """The windows of a program, and the processes that they belong to."""
    with contextlib.suppress(OutputError, WindowGone, CannotDo):
        desktop = open_desktop()
        try:
            keys = list(_windows_of(desktop, name, ""))
            return keys, {window.pid for window in desktop.look() if window.key in keys and window.pid}
        finally:
            desktop.close()
    return [], set()


def _ask_windows(keys: list[int]) -> bool:
    with contextlib.suppress(OutputError, WindowGone, CannotDo):
        desktop = open_desktop()
        try:
            for key in keys:
                desktop.close_window(key)
            return True
        finally:
            desktop.close()
    return False


def _send(pids: Iterable[int], number: int) -> None:
    for pid in pids:
        with contextlib.suppress(OSError):
            os.kill(pid, number)


def start_to_stay(words: tuple[str, ...], umask: int) -> subprocess.Popen[bytes]:
    """A program of its own: in a session of its own, with nothing of ours open, and ended by nothing of ours.

    Raises:
        OSError: it cannot be started.
    """
    child = subprocess.Popen(words, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                             start_new_session=True, close_fds=True, umask=umask)
    STARTED.append(child.pid)
    return child
