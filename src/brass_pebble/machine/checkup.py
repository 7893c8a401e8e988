"""The checkup: what is wrong on this machine, what that means, and the exact fix."""

from __future__ import annotations

import contextlib
import errno
import os
import shutil
import socket
from collections.abc import Callable, Iterator
from dataclasses import replace
from importlib.util import find_spec
from pathlib import Path

from brass_pebble import paths
from brass_pebble.client import EngineClient, EngineError, running_sockets
from brass_pebble.core.devices.identity import Claim, DeviceFacts, assign
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.finding import GOOD, UNKNOWN, WRONG, Finding
from brass_pebble.engine.disk.guests import known_approvals
from brass_pebble.engine.disk.store import DeskStore
from brass_pebble.kinds.kernel.listing import list_devices

SETUP = "sudo brass-pebble setup --apply; it opens to you just the devices that your desk names"


def checkup(desk: Path) -> Iterator[Finding]:
    """Look at everything, one finding after the other.  Takes nothing over and changes nothing."""
    for look in CHECKS:
        yield from look(desk)


def _reading(desk: Path) -> Iterator[Finding]:
    found = list_devices()
    closed = [facts.name for facts in found if not facts.readable]
    if not Path("/dev/input").is_dir():
        yield Finding("reading devices", WRONG, "/dev/input is not here, so no device can become a surface; the demo "
                      "works all the same", "In a container, hand /dev/input and /sys through to it")
    elif not found:
        yield Finding("reading devices", WRONG, "no device with keys is here", "Plug one in")
    elif closed:
        # What no surface is made of need not be read; a surface whose device may not be read is told by its name.
        yield Finding("reading devices", UNKNOWN, f"{len(closed)} of {say_count(len(found), 'device')} may not be "
                                                  "read by you, the "
                      f"first is “{closed[0]}”", f"For one that is to be a surface: {SETUP}")
    else:
        yield Finding("reading devices", GOOD, f"{say_count(len(found), 'device')} can become surfaces")


def _sending(desk: Path) -> Iterator[Finding]:
    node = Path("/dev/uinput")
    if not node.exists():
        yield Finding("sending keys", WRONG, "the kernel's virtual keyboard is missing, so nothing can be sent",
                      "sudo modprobe uinput; brass-pebble setup tells how to have it at every start")
    elif not os.access(node, os.W_OK):
        yield Finding("sending keys", WRONG, "/dev/uinput may not be written by you, so nothing can be sent",
                      SETUP)
    else:
        yield Finding("sending keys", GOOD, "the virtual keyboard can be made")


def _socket(desk: Path) -> Iterator[Finding]:
    try:
        path = paths.socket_path(desk)
    except OSError as error:
        yield Finding("socket", WRONG, str(error), "Set XDG_RUNTIME_DIR to a short folder of your own, mode 0700")
        return
    base = os.environ.get("XDG_RUNTIME_DIR", "")
    why = "is not set" if not base else "is not a folder" if not Path(base).is_dir() else ""
    kept = f" (in /tmp, since XDG_RUNTIME_DIR {why})" if why else ""
    yield Finding("socket", GOOD, f"screen and engine meet in {path.parent}{kept}")


def _engines(desk: Path) -> Iterator[Finding]:
    for path in running_sockets():
        try:
            with EngineClient(path, "checkup") as client:
                client.set_timeout(3)
                reply = client.ask("desk")["desk"]
                surfaces = reply["surfaces"]
                bad = [s for s in surfaces if s["state"] not in ("taken", "resting")]
                yield Finding(f"engine {client.hello['pid']}", GOOD, f"runs {reply['name']}, "
                              f"{len(surfaces) - len(bad)} of {say_count(len(surfaces), 'surface')} have their device")
                for row in bad:
                    yield Finding(row["name"], WRONG, f"{row['state']}: {row['why']}", FIXES[row["state"]], row["id"])
                for row in surfaces:
                    if row not in bad:
                        known = "; ".join(row["known_by"])
                        yield Finding(row["name"], GOOD, f"{row['device']}, {row['where']}, known by: {known}", "",
                                      row["id"])
        except (EngineError, TimeoutError) as error:
            yield Finding("engine", WRONG, f"the engine at {path} does not answer: {error}", "brass-pebble stop --quit")


def _desk(desk: Path) -> Iterator[Finding]:
    store = DeskStore(desk, Path(), paths.user_layouts(), known_approvals(paths.approvals_file(desk)))
    if not store.file.exists():
        yield Finding("desk", UNKNOWN, f"there is no desk in {desk} yet", "brass-pebble makes an empty one")
        return
    loaded = store.load()
    for problem in loaded.problems:
        place = f"{problem.place}: " if problem.place else ""
        yield Finding("desk", WRONG, f"{place}{problem.what}", problem.hint)
    if not loaded.problems:
        yield Finding("desk", GOOD, f"{loaded.desk.name}: {say_count(len(loaded.desk.surfaces), 'surface')}, "
                      f"{say_count(len(loaded.desk.macros), 'macro')}")
    if paths.socket_path(desk) in running_sockets():
        # Its engine knows, and was asked.
        return
    present = list_devices()
    claims = [Claim(surface.id, surface.rule) for surface in loaded.desk.surfaces.values()]
    for name, verdict in assign(claims, present).items():
        shown = loaded.desk.surfaces[name].name
        if verdict.facts is None:
            fix = "Plug it in; or press M on the screen to see which devices are here"
            yield Finding(shown, WRONG, verdict.why, fix, name)
        else:
            yield replace(_grab(shown, verdict.facts), surface=name)
            yield from _power(shown, verdict.facts, name)


def _grab(name: str, facts: DeviceFacts) -> Finding:
    """Whether somebody else has a device, found by asking for it for an instant."""
    import evdev
    for node in facts.nodes:
        try:
            device = evdev.InputDevice(node)
            try:
                device.grab()
                device.ungrab()
            finally:
                device.close()
        except OSError as error:
            if error.errno != errno.EBUSY:
                return Finding(name, WRONG, f"{node} cannot be opened: {(error.strerror or str(error)).lower()}",
                               SETUP if error.errno in (errno.EACCES, errno.EPERM) else "Plug it in again")
            holders = ", ".join(_who_has(node)) or "a program of another user, which only root can name"
            return Finding(name, WRONG, f"“{facts.shown}” is taken over by {holders}", "Close that program")
    return Finding(name, GOOD, f"“{facts.name}” is here and free")


def _who_has(node: str) -> list[str]:
    """Processes that have a node open, as far as this user may look."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        try:
            if any(os.readlink(fd) == node for fd in (process / "fd").iterdir()) and int(process.name) != os.getpid():
                found.append(f"{(process / 'comm').read_text().strip()} (process {process.name})")
        except OSError:
            continue
    return found


def _power(name: str, facts: DeviceFacts, surface: str) -> Iterator[Finding]:
    """Whether the kernel may send a USB device to sleep, which costs its first press."""
    for node in facts.nodes:
        device = Path("/sys/class/input") / Path(node).name / "device"
        for folder in device.resolve().parents if device.exists() else ():
            control = folder / "power" / "control"
            if (folder / "idVendor").exists() and control.exists():
                if control.read_text().strip() == "auto" and facts.bus == "USB":
                    delay = folder / "power" / "autosuspend_delay_ms"
                    after = f" after {delay.read_text().strip()} ms" if delay.exists() else ""
                    yield Finding(f"{name}, power", UNKNOWN, f"the kernel may let it sleep{after}; some devices then "
                                  "lose the press that wakes them", f"If that happens: echo on | sudo tee {control}",
                                  surface)
                return


def _modifiers(desk: Path) -> Iterator[Finding]:
    """Whether the main keyboard can be asked for modifiers that would mix in."""
    keyboards = [facts for facts in list_devices() if facts.full]
    closed = [facts for facts in keyboards if not facts.readable]
    if closed and len(closed) == len(keyboards):
        yield Finding("main keyboard", UNKNOWN, "it may not be opened, so a modifier that you hold on it while a "
                      "surface sends keys is not seen and mixes in; Caps Lock is seen", "Let go of Ctrl, Alt, Shift "
                      "and Super before you press a surface. Nothing has to be changed for that")
    elif keyboards:
        yield Finding("main keyboard", GOOD, "an engine asks it which modifiers are down when a surface is pressed; no "
                      "key of it is read")


def privacy() -> Iterator[Finding]:
    """Every device that an engine has open, and why."""
    for path in running_sockets():
        try:
            with EngineClient(path, "checkup") as client:
                client.set_timeout(3)
                rows = client.ask("privacy")["open"]
                yield Finding(f"engine {client.hello['pid']}", GOOD, f"has {len(rows)} "
                              f"{'device' if len(rows) == 1 else 'devices'} open")
                for row in rows:
                    state = GOOD if row["known"] else WRONG
                    yield Finding(row["device"] or row["node"], state, f"{row['node']}: {row['why']}")
        except (EngineError, TimeoutError) as error:
            yield Finding("engine", WRONG, f"the engine at {path} does not answer: {error}", "brass-pebble stop --quit")


def _midi(desk: Path) -> Iterator[Finding]:
    node = Path("/dev/snd/seq")
    if not node.exists():
        yield Finding("MIDI", UNKNOWN, "the kernel's MIDI sequencer is not here, so no MIDI pad could be used",
                      "If you have one: sudo modprobe snd-seq")
    elif not os.access(node, os.R_OK | os.W_OK):
        yield Finding("MIDI", WRONG, f"{node} may not be used by you",
                      "sudo usermod -aG audio $USER, then log in again")
    else:
        yield Finding("MIDI", GOOD, "the MIDI system is there")


def _voice(desk: Path) -> Iterator[Finding]:
    """Whether phrases can be spoken here.  No microphone is opened."""
    from brass_pebble.kinds.voice.sources import microphones, pulse_server
    reads = "parec" if pulse_server() else "arecord"
    if find_spec("pocketsphinx") is None:
        yield Finding("spoken phrases", UNKNOWN, "the recogniser is not installed, so nothing can be said; everything "
                      "else works", "pip install 'brass-pebble[voice]'")
    elif shutil.which(reads) is None:
        yield Finding("spoken phrases", UNKNOWN, f"{reads} is missing, which reads microphones",
                      f"Install {'pulseaudio-utils' if reads == 'parec' else 'alsa-utils'}")
    elif not (found := microphones()):
        yield Finding("spoken phrases", UNKNOWN, "the recogniser is there, but no microphone is", "Plug one in, if you "
                      "want to speak")
    else:
        yield Finding("spoken phrases", GOOD, f"{say_count(len(found), 'microphone')} can be met (M, F6); none is open")


def _display(desk: Path) -> Iterator[Finding]:
    wayland, display = os.environ.get("WAYLAND_DISPLAY", ""), os.environ.get("DISPLAY", "")
    if wayland:
        path = Path(os.environ.get("XDG_RUNTIME_DIR", "/run")) / wayland
        state = GOOD if path.exists() else WRONG
        yield Finding("display", state, f"Wayland, {wayland}" + ("" if path.exists() else ", and its socket is gone"),
                      "Start this from a terminal of the running session")
    elif display.startswith(":"):
        number = display[1:].split(".")[0]
        reached = False
        with contextlib.suppress(OSError), socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as probe:
            probe.connect(f"/tmp/.X11-unix/X{number}")
            reached = True
        yield Finding("display", GOOD if reached else WRONG, f"X11, {display}" + ("" if reached else ", but nobody "
                      "answers there"), "Start this from a terminal of the running session")
    else:
        yield Finding("display", UNKNOWN, "no graphical session is seen from here; keys are sent all the same, to "
                      "whatever has the console", "Start this from a terminal of your session")


def _focus(desk: Path) -> Iterator[Finding]:
    """Whether layers can follow the focused window."""
    from brass_pebble.kinds.focus.table import NOWHERE, teller
    kind = teller()
    if kind is None:
        yield Finding("focused window", UNKNOWN, NOWHERE.split(". ")[0], "Let your compositor's own scripts call: "
                      "brass-pebble focus NAME")
    else:
        yield Finding("focused window", GOOD, f"layers can follow it; {kind.source} tells it")


def _windows(desk: Path) -> Iterator[Finding]:
    """What macros can do to windows, and to the clipboard."""
    from brass_pebble.kinds.clipboard.table import clipboard_here
    from brass_pebble.kinds.clipboard.wayland import MISSING, ClipboardOfWayland
    from brass_pebble.kinds.windows.base import EVERYTHING
    from brass_pebble.kinds.windows.table import NOWHERE, desktop_kind
    kind = desktop_kind()
    if kind is None:
        yield Finding("windows", UNKNOWN, f"{NOWHERE}, so macros cannot wait for one or bring one to the front",
                      "pip install 'brass-pebble[wayland]' lets other compositors be asked, too"
                      if os.environ.get("WAYLAND_DISPLAY") else "Start this from a terminal of your session")
    else:
        missing = [deed for deed in EVERYTHING if deed not in kind.can]
        cannot = f"; it cannot {' or '.join(missing)} them" if missing else ""
        can = ", ".join(deed for deed in EVERYTHING if deed in kind.can)
        yield Finding("windows", UNKNOWN if missing else GOOD, f"by {kind.source}, macros can {can} them{cannot}",
                      "Write an otherwise for these steps" if missing else "")
    clipboard = clipboard_here()
    if isinstance(clipboard, ClipboardOfWayland) and shutil.which("wl-copy") is None:
        yield Finding("clipboard", WRONG, "macros cannot paste: wl-copy is missing", MISSING.split(". ")[1])
    elif clipboard is None:
        yield Finding("clipboard", UNKNOWN, "no clipboard is seen from here",
                      "Start this from a terminal of your session")
    else:
        yield Finding("clipboard", GOOD, "macros can paste, and what it holds comes back")


def _sleep(desk: Path) -> Iterator[Finding]:
    """Sleep settings that would end a show.  What the desktop itself decides cannot be seen from here."""
    state = Path("/sys/power/state")
    if not state.exists() or not state.read_text().split():
        yield Finding("sleep", GOOD, "this machine does not sleep")
        return
    settings: dict[str, str] = {}
    folders = [Path("/usr/lib/systemd/logind.conf.d"), Path("/etc/systemd/logind.conf.d")]
    files = [Path("/etc/systemd/logind.conf"), *(f for d in folders for f in sorted(d.glob("*.conf")))]
    for file in files:
        with contextlib.suppress(OSError):
            for line in file.read_text(errors="replace").splitlines():
                name, equals, value = line.strip().partition("=")
                if equals and not name.startswith("#"):
                    settings[name.strip()] = value.strip()
    idle = settings.get("IdleAction", "ignore")
    if idle not in ("ignore", "lock"):
        yield Finding("sleep", WRONG, f"after {settings.get('IdleActionSec', '30min')} without input the system does "
                      f"“{idle}”, and a pedal may not count as input",
                      "For a show: systemd-inhibit --what=sleep:idle brass-pebble run")
    else:
        yield Finding("sleep", UNKNOWN, "the system itself does not sleep when idle; what your desktop's own power "
                      "settings do cannot be seen from here", "For a show: systemd-inhibit --what=sleep:idle "
                      "brass-pebble run")


def _service(desk: Path) -> Iterator[Finding]:
    from .service import status, unit_file
    found = status()
    state = UNKNOWN if not unit_file().exists() else GOOD if found.ok else WRONG
    yield Finding("service", state, found.said[0], "brass-pebble service install starts the engine at every login")


FIXES = {
    "missing": "Plug it in; or press M on the screen, then its key, if it is another device now",
    "refused": "The reason tells what to do",
    "unsure": "On the device that it is, press one key three times",
    "waiting": "Let go of every key on it",
}
CHECKS: tuple[Callable[[Path], Iterator[Finding]], ...] = (_reading, _sending, _modifiers, _socket, _engines, _desk,
                                                             _midi, _voice,
                                                             _display, _focus, _windows, _sleep, _service)
