"""What a machine needs once: a rule for udev that lets whoever sits at it use the devices of a desk, and no others.

udev's own tag `uaccess` gives a device to the person whose session is in front, and takes it away when they leave.
Nobody joins a group with which every program of theirs could read every keyboard.  For machines without seats there is
the group, with a warning.
"""

from __future__ import annotations

import os
import pwd
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from fnmatch import fnmatchcase
from pathlib import Path

from brass_pebble.core.devices.identity import DeviceRule

# Before 73-seat-late.rules, which carries the tag out.
RULE_FILE = "etc/udev/rules.d/70-brass-pebble.rules"
OLD_RULE_FILE = "etc/udev/rules.d/60-brass-pebble.rules"
MODULE_FILE = "etc/modules-load.d/brass-pebble.conf"
MODULE = "uinput\n"
SEATS = Path("/run/systemd/seats")
_HEAD = "# Brass Pebble: whoever sits at this computer may send keys, and read the devices below.\n"
_SENDING = 'SUBSYSTEM=="misc", KERNEL=="uinput", TAG+="uaccess", OPTIONS+="static_node=uinput"\n'
_GROUP_SENDING = 'SUBSYSTEM=="misc", KERNEL=="uinput", GROUP="input", MODE="0660", OPTIONS+="static_node=uinput"\n'
_DEVICE = re.compile(r'^SUBSYSTEM=="input", KERNEL=="event\*", .*$', re.MULTILINE)
_ATTRIBUTE = re.compile(r'ATTRS\{([\w/]+)\}=="([^"]*)"')
# A name of fewer letters and figures tells too little.
LEAST_NAME = 3
_HEX = re.compile(r"[0-9a-fA-F]{4}")
GROUP = "input"
WARNING = (f"Every program of a member of the group “{GROUP}” can read every keyboard of this machine, passwords "
           "included. Use this on machines without a seat only")

# Runs a command and returns its exit code.
Run = Callable[[list[str]], int]


@dataclass(frozen=True)
class Task:
    """One thing to do: a file with its new content (None: taken away), or a command with what it is for."""

    what: str
    content: str | None = ""
    command: tuple[str, ...] = ()


@dataclass(frozen=True)
class Done:
    """What became of a task, in a sentence."""

    ok: bool
    said: str


def udev_rule(rule: DeviceRule) -> str:
    """The line that gives a device to whoever sits at the computer; empty if nothing tells it from others.

    Vendor and product are asked for where they are known, the name in any case: identifiers of cheap parts are shared.
    """
    known = dict(rule.fields)
    wanted = [f'ATTRS{{id/{field}}}=="{known[field].lower()}"' for field in ("vendor", "product")
              if _HEX.fullmatch(known.get(field, ""))]
    if name := known.get("name", ""):
        wanted.append(f'ATTRS{{name}}=="{_pattern(name)}"')
    if not wanted or too_wide(rule) or known.get("bus") in ("MIDI", "network MIDI", "OSC"):
        return ""
    return f'SUBSYSTEM=="input", KERNEL=="event*", {", ".join(wanted)}, TAG+="uaccess"'


def too_wide(rule: DeviceRule) -> str:
    """Why a rule gets no line, in words: its name would stand for many devices.  Nothing if it is narrow enough."""
    known = dict(rule.fields)
    name = known.get("name", "")
    if name and (("*" in name and not known.get("vendor")) or sum(char.isalnum() for char in name) < LEAST_NAME):
        return f"“{name}” stands for more than one device. Write the name as brass-pebble devices tells it"
    return ""


def gives(line: str, found: Iterable[tuple[str, str, str]]) -> list[str]:
    """The names of the devices, of those that are there (vendor, product, name), that a line gives to the person."""
    wanted = dict(_ATTRIBUTE.findall(line))
    return list(dict.fromkeys(name for vendor, product, name in found if all(
        fnmatchcase({"id/vendor": vendor, "id/product": product, "name": name}.get(field, ""), pattern)
        for field, pattern in wanted.items())))


def devices_there(sysfs: Path = Path("/sys")) -> list[tuple[str, str, str]]:
    """Every input device that is plugged in: vendor and product as udev has them, and its name."""
    found = []
    for device in sorted((sysfs / "class/input").glob("event*/device")):
        try:
            found.append(tuple((device / part).read_text(errors="replace").strip()
                               for part in ("id/vendor", "id/product", "name")))
        except OSError:
            continue
    return found  # type: ignore[return-value]


def _pattern(name: str) -> str:
    """A name as udev compares it: what has a meaning in its patterns, or cannot be written there, stands for anything.

    The receiving side may have added parts for each of a device's interfaces.
    """
    plain = "".join(char if char.isalnum() or char in " -_.,:;/()+#&'@=" else "?" * len(char.encode()) for char in name)
    return plain + "*"


def rules_text(lines: Iterable[str], *, group: bool = False) -> str:
    """The whole file."""
    body = _GROUP_SENDING if group else _SENDING + "".join(f"{line}\n" for line in dict.fromkeys(lines) if line)
    return _HEAD + body


def known_lines(root: Path) -> list[str]:
    """The devices that the file names already."""
    try:
        return _DEVICE.findall((root / RULE_FILE).read_text(encoding="utf-8"))
    except (OSError, UnicodeDecodeError):
        return []


def has_seats() -> bool:
    """Whether anybody can sit at this machine, as far as the system knows."""
    return SEATS.is_dir() and any(SEATS.iterdir())


def setup_plan(rules: Iterable[DeviceRule], *, root: Path = Path("/"), group_user: str = "") -> list[Task]:
    """What has to be done so that keys can be sent and the devices of `rules` be read; those of before stay.

    With `group_user`, that user joins the group instead.
    """
    lines = [*known_lines(root), *filter(None, map(udev_rule, rules))]
    tasks = [Task(f"/{RULE_FILE}", rules_text(lines, group=bool(group_user))), Task(f"/{MODULE_FILE}", MODULE)]
    if (root / OLD_RULE_FILE).exists():
        tasks.append(Task(f"/{OLD_RULE_FILE}", None))
    if group_user:
        tasks.append(_command("lets this user read every device, after the next login", "usermod", "-aG", GROUP,
                              group_user))
    if not (root / "dev/uinput").exists():
        tasks.append(_command("the virtual keyboard, now", "modprobe", "uinput"))
    return [*tasks, *_follow()]


def removal_plan(*, root: Path = Path("/"), group_user: str = "") -> list[Task]:
    """What undoes a setup.  With `group_user`, that user leaves the group, too."""
    tasks = [Task(f"/{file}", None) for file in (RULE_FILE, MODULE_FILE, OLD_RULE_FILE) if (root / file).exists()]
    if group_user:
        tasks.append(_command("takes this user out of the group again", "gpasswd", "-d", group_user, GROUP))
    return [*tasks, *_follow()]


def _follow() -> list[Task]:
    return [_command("takes the rules up", "udevadm", "control", "--reload"),
            _command("has them followed for what is plugged in", "udevadm", "trigger", "--settle",
                     "--subsystem-match=input", "--subsystem-match=misc")]


def _command(why: str, *words: str) -> Task:
    return Task(why, "", words)


def carry_out(tasks: Iterable[Task], root: Path, run: Run) -> Iterator[Done]:
    """Do it below `root` ("/" for the machine itself); each task says how it went, and the others are done all the
    same."""
    for task in tasks:
        if task.command:
            code = run(list(task.command))
            words = " ".join(task.command)
            yield Done(not code, f"ran {words}" if not code else f"{words} failed, with exit code {code}")
            continue
        file = root / task.what[1:]
        try:
            if task.content is None:
                file.unlink(missing_ok=True)
                yield Done(True, f"removed {file}")
            else:
                file.parent.mkdir(parents=True, exist_ok=True)
                file.write_text(task.content, encoding="utf-8")
                yield Done(True, f"saved {file}")
        except OSError as error:
            yield Done(False, f"{file}: {error.strerror}")


def check_for(user: str, nodes: Iterable[str], run: Run) -> Iterator[Done]:
    """Whether a user may now use the nodes: asked as that user."""
    for node in nodes:
        if not os.path.exists(node):
            yield Done(False, f"{node} is not there")
            continue
        words = ["setpriv", "--reuid", user, "--regid", str(_group_of(user)), "--init-groups", "test", "-r", node, "-a",
                 "-w", node]
        ok = not run(words)
        yield Done(ok, f"{user} may use {node}" if ok else f"{user} may not use {node} yet: it is given to whoever has "
                   "the session in front; log in at the machine itself")


def _group_of(user: str) -> int:
    try:
        return pwd.getpwnam(user).pw_gid
    except KeyError:
        return os.getgid()
