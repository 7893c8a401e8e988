"""The parts of the command line about this machine: devices, the checkup, the service."""

from __future__ import annotations

import json
from typing import Annotated, Any

import typer

from brass_pebble import paths

from .desk_folders import desk_folder
from .help_list import OneLineEach
from .shared import DeskOption, Failure, JsonOption

service_app = typer.Typer(cls=OneLineEach, rich_markup_mode=None, pretty_exceptions_enable=False,
                          help="The engine as a service of your own, started at every login.")


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.command()(devices)
    app.command()(checkup)
    app.add_typer(service_app, name="service")


def devices(as_json: JsonOption = False) -> None:
    """List the devices that could become surfaces."""
    from brass_pebble.core.devices.identity import real_serial, show_hidden
    from brass_pebble.kinds.kernel.listing import list_devices
    found = list_devices()
    if as_json:
        for facts in found:
            print(json.dumps(facts.as_dict(), ensure_ascii=False))
        return
    if not found:
        print("No usable device found. Plug one in; in a container, /dev/input and "
              "/sys/class/input must be there. brass-pebble demo works without any.")
    twins = {f.make for f in found if sum(g.make == f.make and not real_serial(f.serial) for g in found) > 1}
    for facts in found:
        notes = ["full keyboard"] if facts.full else []
        if facts.points:
            notes.append("pointer")
        if facts.make in twins:
            notes.append("one of a pair, told apart by port")
        if not facts.readable:
            notes.append("no permission to read it; see “Permissions” in the README")
        # JSON's way of writing texts is TOML's, too.
        rule = ", ".join(f"{name} = {show_hidden(json.dumps(value, ensure_ascii=False))}"
                         for name, value in facts.rule().fields)
        print(f"{facts.shown}\n    {facts.bus} {facts.vendor}:{facts.product}"
              f"{', serial ' + _plain(facts.serial) if facts.serial else ''}, {facts.can}"
              f"{'; ' + '; '.join(notes) if notes else ''}\n    device = {{ {rule} }}")
    print("\nbrass-pebble opens the screen; there, M tells which device is which, by pressing it.")


def _plain(text: str) -> str:
    """A text without characters that could steer the terminal or hide."""
    from brass_pebble.core.devices.identity import show_hidden
    return show_hidden(text)


def checkup(privacy: Annotated[bool, typer.Option("--privacy", help="every device that is open, and why")] = False,
            as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show what is wrong on this machine, and the exact fix.

    What each finding means, too.
    """
    from brass_pebble.machine.checkup import GOOD, UNKNOWN, WRONG
    from brass_pebble.machine.checkup import checkup as look
    from brass_pebble.machine.checkup import privacy as open_devices
    marks = {GOOD: "✓", WRONG: "✗", UNKNOWN: "?"}
    wrong = 0
    for finding in open_devices() if privacy else look(desk or paths.default_desk()):
        wrong += finding.state == WRONG
        if as_json:
            print(json.dumps(finding.as_dict(), ensure_ascii=False), flush=True)
            continue
        print(f"{marks[finding.state]} {finding.about}: {finding.means}", flush=True)
        if finding.fix and finding.state != GOOD:
            print(f"    {finding.fix}", flush=True)
    if wrong:
        raise Failure(f"{wrong} {'thing needs' if wrong == 1 else 'things need'} your attention", "failed")


@service_app.command("install")
def service_install(desk: DeskOption = None) -> None:
    """Start the engine now and at every login."""
    from brass_pebble.machine.service import install
    _tell_service(install(desk_folder(desk)))


@service_app.command("remove")
def service_remove() -> None:
    """Stop the service and remove it."""
    from brass_pebble.machine.service import remove
    _tell_service(remove())


@service_app.command("status")
def service_status() -> None:
    """Show whether the service is installed, and whether it runs."""
    from brass_pebble.machine.service import status
    _tell_service(status())


def _tell_service(outcome: Any) -> None:
    for sentence in outcome.said[:-1] if not outcome.ok else outcome.said:
        print(sentence)
    if not outcome.ok:
        raise Failure(outcome.said[-1], "failed")
