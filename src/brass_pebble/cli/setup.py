"""The part of the command line about what a machine needs once."""

from __future__ import annotations

import contextlib
import os
import shlex
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble import paths

from .shared import DeskOption, Failure


def add_to(app: typer.Typer) -> None:
    """Make this command part of the program's."""
    app.command()(setup)


def setup(apply: Annotated[bool, typer.Option("--apply", help="do it; needs root")] = False,
          remove: Annotated[bool, typer.Option("--remove", help="undo an earlier setup instead")] = False,
          group: Annotated[bool, typer.Option("--group", help="for machines without a seat: join the group input, "
                                              "whose members can read every keyboard")] = False,
          device: Annotated[list[str] | None, typer.Option("--device", metavar="VENDOR:PRODUCT:NAME",
                                                           help="one more device that you may read")] = None,
          desk: DeskOption = None) -> None:
    """Show what this machine needs once, or do it with --apply.

    Without it, a desk's devices cannot be read, nor keys sent.
    """
    from brass_pebble.machine import permissions
    user = os.environ.get("SUDO_USER") or os.environ.get("USER") or "root"
    if remove:
        tasks = permissions.removal_plan(group_user=user if group else "")
    else:
        named, left_out = _desk_devices(desk, user)
        for sentence in left_out:
            print(f"! {sentence}.")
        tasks = permissions.setup_plan([*_named_devices(device or []), *named], group_user=user if group else "")
        if not group:
            _tell_what_is_given(tasks[0].content or "")
    if group and not remove:
        print(f"! {permissions.WARNING}.")
    elif not remove and not permissions.has_seats():
        print("! This machine has no seats (no logind), so the rule gives the devices to nobody. --group is the other "
              "way.")
    if not apply:
        for task in tasks:
            if task.command:
                print(f"run   {' '.join(task.command)}\n    # {task.what}")
            elif task.content is None:
                print(f"remove {task.what}")
            else:
                print(f"write {task.what}:\n    " + task.content.strip().replace("\n", "\n    "))
        words = ["sudo", "brass-pebble", "setup", "--apply", *(["--remove"] if remove else []),
                 *(["--group"] if group else []), *(word for one in device or () for word in ("--device", one)),
                 *(["--desk", str(desk.resolve())] if desk is not None else [])]
        print(f"{shlex.join(words)} does all of this.")
        return
    if os.getuid() != 0:
        raise Failure("only root may change this machine. Run: sudo brass-pebble setup --apply", "permission")
    import subprocess

    def run(words: list[str]) -> int:
        try:
            return subprocess.run(words, check=False).returncode
        except OSError:
            return 127
    wrong = []
    for done in permissions.carry_out(tasks, Path("/"), run):
        print(done.said)
        wrong += [] if done.ok else [done.said]
    if not remove and not group and os.environ.get("SUDO_USER"):
        for done in permissions.check_for(user, ["/dev/uinput"], run):
            print(done.said)
            wrong += [] if done.ok else [done.said]
    if wrong:
        raise Failure(f"{len(wrong)} of these did not work: {wrong[0]}", "failed")
    if group and not remove:
        print(f"Log in again, so that {user} is in the group.")


def _named_devices(words: list[str]) -> list[Any]:
    from brass_pebble.core.devices.identity import DeviceRule
    rules = []
    for word in words:
        vendor, product, name = (*word.split(":", 2), "", "")[:3]
        rule = DeviceRule(tuple((field, value) for field, value in (("vendor", vendor), ("product", product),
                                                                    ("name", name)) if value))
        from brass_pebble.machine.permissions import too_wide, udev_rule
        if why := too_wide(rule):
            raise Failure(why, "usage")
        if not udev_rule(rule):
            raise Failure(f"“{word}” names no device. Write VENDOR:PRODUCT:NAME, as brass-pebble devices tells them",
                          "usage")
        rules.append(rule)
    return rules


def _tell_what_is_given(rules: str) -> None:
    """Each line of the rule, and which of the devices that are there it gives."""
    from brass_pebble.machine import permissions
    there = permissions.devices_there()
    for line in rules.splitlines():
        if "event*" in line:
            given = permissions.gives(line, there)
            print(f"You may read: {', '.join(given) if given else 'nothing that is plugged in now'}\n    by {line}")


def _desk_devices(desk: Path | None, user: str) -> tuple[list[Any], list[str]]:
    """The devices that a desk names, and what is left out and why; under sudo, the desk of the person who asked."""
    approvals = paths.approvals_file(desk or paths.default_desk())
    if os.environ.get("SUDO_USER"):
        import pwd
        with contextlib.suppress(KeyError):
            home = Path(pwd.getpwnam(user).pw_dir)
            desk = desk or home / ".config" / paths.APP / "desk"
            approvals = home / paths.USUAL["XDG_STATE_HOME"] / paths.APP / "approvals" / f"{paths.desk_key(desk)}.json"
    desk = desk or paths.default_desk()
    if not (desk / "desk.toml").exists():
        return [], []
    from brass_pebble.engine.disk.guests import known_approvals
    from brass_pebble.engine.disk.store import DeskStore
    from brass_pebble.machine.permissions import too_wide
    found, left_out = [], []
    for surface in DeskStore(
            desk, Path("/nonexistent"), approvals=known_approvals(approvals)).load().desk.surfaces.values():
        left_out += [f"“{surface.name}” came from somebody else and gets no device ({rule}) before you give it one in "
                     "Meet, or approve it with brass-pebble desk asleep" for rule in surface.wanted]
        for rule in (surface.rule, *surface.also):
            if why := too_wide(rule):
                left_out.append(f"“{surface.name}” is left out: {why}")
            else:
                found.append(rule)
    return found, left_out
