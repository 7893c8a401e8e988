"""The checkup: what is wrong on this machine, what that means, and the exact fix."""

from __future__ import annotations

import errno
import os
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

from brass_pebble import paths
from brass_pebble.client import EngineClient, EngineError, running_sockets
from brass_pebble.core.identity import DeviceFacts, choose
from brass_pebble.engine.store import DeskStore
from brass_pebble.inputs.listing import list_devices

GOOD, WRONG, UNKNOWN = "good", "wrong", "not known"
RULE_FILE = "etc/udev/rules.d/60-brass-pebble.rules"
RULE = 'KERNEL=="uinput", GROUP="input", MODE="0660", OPTIONS+="static_node=uinput"\n'
MODULE_FILE = "etc/modules-load.d/brass-pebble.conf"
MODULE = "uinput\n"


@dataclass(frozen=True)
class Finding:
    """One thing that was looked at: its state, what that means for the person, and what to do."""

    about: str
    state: str
    means: str
    fix: str = ""

    def as_dict(self) -> dict[str, str]:
        """For JSON."""
        return dict(self.__dict__)


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
        yield Finding("reading devices", WRONG, f"{len(closed)} of {len(found)} devices may not be read by you, the "
                      f"first is “{closed[0]}”", "sudo usermod -aG input $USER, then log in again")
    else:
        yield Finding("reading devices", GOOD, f"{len(found)} devices can become surfaces")


def _sending(desk: Path) -> Iterator[Finding]:
    node = Path("/dev/uinput")
    if not node.exists():
        yield Finding("sending keys", WRONG, "the kernel's virtual keyboard is missing, so nothing can be sent",
                      "sudo modprobe uinput; brass-pebble setup tells how to have it at every start")
    elif not os.access(node, os.W_OK):
        yield Finding("sending keys", WRONG, "/dev/uinput may not be written by you, so nothing can be sent",
                      "sudo brass-pebble setup --apply, then log in again")
    else:
        yield Finding("sending keys", GOOD, "the virtual keyboard can be made")


def _socket(desk: Path) -> Iterator[Finding]:
    try:
        path = paths.socket_path(desk)
    except OSError as error:
        yield Finding("socket", WRONG, str(error), "Set XDG_RUNTIME_DIR to a short folder of your own, mode 0700")
        return
    kept = " (in /tmp, since XDG_RUNTIME_DIR is not set)" if str(path).startswith("/tmp/") else ""
    yield Finding("socket", GOOD, f"screen and engine meet in {path.parent}{kept}")


def _engines(desk: Path) -> Iterator[Finding]:
    for path in running_sockets():
        try:
            with EngineClient(path, "checkup") as client:
                client.set_timeout(3)
                reply = client.ask("desk")["desk"]
                surfaces = reply["surfaces"]
                bad = [f"“{s['name']}” is {s['state']}: {s['why']}" for s in surfaces if s["state"] != "taken"]
                about = f"engine {client.hello['pid']}"
                yield Finding(about, WRONG if bad else GOOD, "; ".join(bad) or
                              f"runs {reply['name']}, {len(surfaces)} surfaces armed",
                              "The reasons tell what to do" if bad else "")
        except (EngineError, TimeoutError) as error:
            yield Finding("engine", WRONG, f"the engine at {path} does not answer: {error}", "brass-pebble stop --quit")


def _desk(desk: Path) -> Iterator[Finding]:
    store = DeskStore(desk, Path(), paths.user_layouts())
    if not store.file.exists():
        yield Finding("desk", UNKNOWN, f"there is no desk in {desk} yet", "brass-pebble makes an empty one")
        return
    loaded = store.load()
    for problem in loaded.problems:
        place = f"{problem.file}, line {problem.line}: " if problem.line else ""
        yield Finding("desk", WRONG, f"{place}{problem.what}", problem.hint)
    if not loaded.problems:
        yield Finding("desk", GOOD, f"{loaded.desk.name}: {len(loaded.desk.surfaces)} surfaces, "
                      f"{len(loaded.desk.macros)} macros")
    ours = {path for path in running_sockets() if path == paths.socket_path(desk)}
    present = list_devices()
    for surface in loaded.desk.surfaces.values():
        facts, why = choose(surface.rule, present)
        if facts is None:
            yield Finding(surface.name, WRONG, why, "brass-pebble devices lists what is here")
        elif not ours:
            yield _grab(surface.name, facts)


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
                return Finding(name, WRONG, f"{node}: {error.strerror}", "See “reading devices”")
            holders = ", ".join(_who_has(node)) or "a program of another user, which only root can name"
            return Finding(name, WRONG, f"“{facts.name}” is taken over by {holders}", "Close that program")
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


CHECKS: tuple[Callable[[Path], Iterator[Finding]], ...] = (_reading, _sending, _socket, _engines, _desk)


def setup_plan(user: str) -> list[tuple[str, str]]:
    """What has to be done once on a machine: (file or command, content or why)."""
    return [(f"/{RULE_FILE}", RULE), (f"/{MODULE_FILE}", MODULE),
            (f"usermod -aG input {user}", "lets you read devices and send keys, after the next login"),
            ("modprobe uinput", "the virtual keyboard, now"),
            ("udevadm control --reload", "takes the rule up"), ("udevadm trigger /dev/uinput", "and follows it")]


def apply_setup(user: str, root: Path, run: Callable[[list[str]], object]) -> Iterator[str]:
    """Carry the plan out below `root` ("/" for the machine itself); yields what was done."""
    for what, content in setup_plan(user):
        if what.startswith("/"):
            file = root / what[1:]
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(content, encoding="utf-8")
            yield f"wrote {file}"
        else:
            run(what.split())
            yield f"ran {what}"
