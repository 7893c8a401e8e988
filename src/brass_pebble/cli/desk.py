"""The part of the command line about the desk as a whole: giving it on, taking one in, its history."""

from __future__ import annotations

import json
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble import paths
from brass_pebble.core.say.counts import say_count

from .help_list import OneLineEach
from .new_desk import check, new
from .shared import DeskOption, Failure, JsonOption, desk_in_use, open_store, os_text

desk_app = typer.Typer(cls=OneLineEach, rich_markup_mode=None, pretty_exceptions_enable=False,
                       help="The whole desk: create, check, export, import, restore.")


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    desk_app.command()(new)
    desk_app.command()(check)
    app.add_typer(desk_app, name="desk")

FileArgument = Annotated[Path, typer.Argument(metavar="FILE", help="the package, a zip")]
SHOWN = 12


@contextmanager


def _told() -> Iterator[None]:
    """What is wrong with a file or a choice ends the program in a sentence."""
    from brass_pebble.core.say.problem import ProblemError
    try:
        yield
    except ProblemError as error:
        raise Failure(str(error.problem), "failed") from None
    except OSError as error:
        raise Failure(os_text(error), "failed") from None


def _client(folder: Path) -> Any:
    """A client of the engine that runs this desk, or None."""
    from brass_pebble.client import EngineClient, running_sockets
    socket = paths.socket_path(folder)
    return EngineClient(socket, "brass-pebble desk") if socket in running_sockets() else None


@desk_app.command("export")
def export(output: Annotated[Path | None, typer.Argument(metavar="[FILE]", help="where to; NAME.zip here without "
                                                         "it")] = None,
           surface: Annotated[list[str] | None, typer.Option("--surface", metavar="SURFACE", help="only this one, with "
                                                             "what it plays")] = None,
           macro: Annotated[list[str] | None, typer.Option("--macro", metavar="MACRO", help="only this one, with those "
                                                           "it plays")] = None,
           values: Annotated[bool, typer.Option("--values", help="with the values that these macros keep")] = False,
           yes: Annotated[bool, typer.Option("--yes", help="write it without asking")] = False,
           desk: DeskOption = None) -> None:
    """Export the desk, a surface or macros as one file.

    For somebody else, or for another computer of yours. What others could read in it is
    listed first."""
    from brass_pebble.core.parcel.look import readable_in
    from brass_pebble.engine.disk.packages.parcel_file import pack_desk, parcel_of
    folder = desk_in_use(desk)
    with _told():
        data = pack_desk(open_store(folder), surfaces=surface or (), macros=macro or (), values=values)
        parcel = parcel_of(data)
        name = "".join(char if char.isalnum() else "-" for char in parcel.manifest.name.lower()).strip("-") or "desk"
        file = output or Path(f"{name}.zip")
        readable = readable_in(parcel)
        if readable:
            print("Anyone who gets this file can read:")
            for row in readable:
                print(f"  {row.reach.does}: {row.reach.text}   [{row.item}, {row.where}]")
            print("Secrets (type secret) are never included.")
        if not yes and sys.stdin.isatty() and not typer.confirm(f"Write {file}?", default=True):
            raise Failure("nothing was written", "failed")
        file.write_bytes(data)
    print(f"Saved {file}, {say_count(len(data), 'byte')}: {_count(parcel)}")
    print("Not included: serial numbers and ports of devices, network settings, history, approvals"
          f"{'' if values else ', values that macros keep (--values)'}.")


def _count(parcel: Any) -> str:
    parts = [f"{len(things)} {what}{'' if len(things) == 1 else 's'}" for what, things in (
        ("surface", parcel.surfaces), ("macro", parcel.macros), ("drawing", parcel.layouts)) if things]
    return ", ".join(parts) or "nothing"


@desk_app.command("import")
def take(file: FileArgument,
         yes: Annotated[bool, typer.Option("--yes", help="import it; without this, only show it")] = False,
         to: Annotated[Path | None, typer.Option("--to", metavar="DIR", help="make a new desk of it there")] = None,
         theirs: Annotated[list[str] | None, typer.Option("--theirs", metavar="ID", help="of what differs, take "
                                                          "theirs in place of mine")] = None,
         both: Annotated[list[str] | None, typer.Option("--both", metavar="ID", help="of what differs, keep "
                                                        "both")] = None,
         leave: Annotated[list[str] | None, typer.Option("--leave", metavar="ID", help="leave this out")] = None,
         onto: Annotated[list[str] | None, typer.Option("--onto", metavar="THEIRS=MINE[:name]", help="fit their "
                                                        "surface to one of mine, by position or by name")] = None,
         as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show what a package holds; with --yes import it.  Steps that affect more than the keyboard wait for approval."""
    from brass_pebble.engine.disk.packages.package_reader import read_apart
    with _told():
        parcel = read_apart(file)
        if to is not None:
            _make_new(parcel, to, yes=yes)
            return
        folder = desk_in_use(desk)
        store = open_store(folder)
        from brass_pebble.engine.disk.packages.intake import look
        seen = look(parcel, store)
        chosen = _choices(seen, theirs or [], both or [], leave or [])
        fits = _fits(seen, store, onto or [])
        _show(seen, chosen, fits, as_json=as_json)
        if not yes:
            if not as_json:
                print("Nothing has changed. --yes imports it.")
            return
        client = _client(folder)
        fields = {"file": str(file.resolve()), "digest": parcel.digest, "choices": chosen,
                  "onto": {name: {"here": here, "placed": fit.placed} for name, (here, fit) in fits.items()}}
        if client is not None:
            with client:
                print(client.ask("take_in", **fields)["words"])
        else:
            from brass_pebble.core.parcel.merge import Choices
            from brass_pebble.engine.disk.packages.intake import intake_edit
            store.lock()
            edit, _ = intake_edit(parcel, store, Choices(chosen, fits))
            print(store.change(edit))
    if seen.reaching:
        print("Steps that affect more than the keyboard wait for approval: brass-pebble desk asleep.")


def _make_new(parcel: Any, folder: Path, *, yes: bool) -> None:
    from brass_pebble import file_access
    from brass_pebble.engine.disk.packages.intake import new_desk_files
    if folder.exists() and any(folder.iterdir()):
        raise Failure(f"{folder} is not empty. Name a folder that is not there yet", "usage")
    files = new_desk_files(parcel)
    print(f"{parcel.manifest.name}: {_count(parcel)}")
    if not yes:
        print(f"Nothing has been written. --yes creates the desk in {folder}.")
        return
    for name, text in files.items():
        place = folder / name
        file_access.private_folder(place.parent)
        file_access.write_text(place, text)
    print(f"made: {folder}. Open it with: brass-pebble --desk {folder}")


def _choices(seen: Any, theirs: list[str], both: list[str], leave: list[str]) -> dict[str, str]:
    from brass_pebble.core.parcel.merge import BOTH, LEAVE, TAKE
    found: dict[str, str] = {}
    for names, what in ((theirs, TAKE), (both, BOTH), (leave, LEAVE)):
        for name in names:
            items = [item for item in seen.items if name in (item.id, item.key)]
            if not items:
                raise Failure(f"there is no “{name}” in the package; it holds "
                              f"{', '.join(item.id for item in seen.items) or 'nothing'}", "usage")
            found |= {item.key: what for item in items}
    return found


def _fits(seen: Any, store: Any, onto: list[str]) -> dict[str, tuple[str, Any]]:
    from brass_pebble.core.parcel.fitting import HOWS
    from brass_pebble.engine.disk.packages.intake import fit_onto
    found: dict[str, tuple[str, Any]] = {}
    for word in onto:
        name, _, rest = word.partition("=")
        here, _, how = rest.partition(":")
        if name not in seen.parcel.surfaces or not here or (how and how not in HOWS):
            raise Failure(f"“{word}” fits nothing; write --onto {next(iter(seen.parcel.surfaces), 'theirs')}=MINE, or "
                          "=MINE:name", "usage")
        found[name] = (here, fit_onto(seen.parcel, name, store, here, how or "position"))
    return found


def _show(seen: Any, chosen: dict[str, str], fits: dict[str, tuple[str, Any]], *, as_json: bool) -> None:
    from brass_pebble.core.parcel.look import at_most
    parcel = seen.parcel
    if as_json:
        for item in seen.items:
            print(json.dumps({"sort": item.sort, "id": item.id, "name": item.name, "state": item.state,
                              "does": chosen.get(item.key, item.usual), "at_most": at_most(seen, item)},
                             ensure_ascii=False))
        for row in seen.reaching:
            print(json.dumps({"in": row.item, "where": row.where, "does": row.reach.does, "text": row.reach.text,
                              "mark": row.reach.mark, "approved": row.reach.mark in seen.approved}, ensure_ascii=False))
        return
    print(f"{parcel.manifest.name}, made with {parcel.manifest.made_with}: {_count(parcel)}")
    marks = {"new": "+", "the same": "=", "differs": "≠"}
    for item in seen.items:
        does = chosen.get(item.key, item.usual) if item.state != "the same" else "here already"
        does = f"{does:12} {at_most(seen, item)}"
        onto = fits.get(item.id) if item.sort == "surface" else None
        print(f"  {marks[item.state]} {item.sort:8} {item.id:24} {item.name:24} "
              + (f"fits {onto[0]}: {say_count(len(onto[1].placed), 'control')}" + (
                  f", in the tray {', '.join(onto[1].tray)}" if onto[1].tray else "") if onto else does))
    for problem in seen.problems[:SHOWN]:
        print(f"  ! {problem}")
    if seen.reaching:
        print("Affects more than the keyboard, and waits for your approval:")
        for row in seen.reaching:
            approved = " (approved before)" if row.reach.mark in seen.approved else ""
            print(f"  {row.reach.does}: {row.reach.text}   [{row.item}, {row.where}]{approved}")
    else:
        print("Nothing in it affects more than the keyboard.")


@desk_app.command("asleep")
def asleep(approve: Annotated[list[str] | None, typer.Option("--approve", metavar="MARK", help="approve this; “all” "
                                                             "for everything listed")] = None,
           as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show what came from somebody else and waits for approval.

    It reaches outside the keyboard, and does nothing before you approve it.
    """
    from brass_pebble.engine.clients.giving_requests import approve as keep
    from brass_pebble.engine.clients.giving_requests import asleep_rows
    folder = desk_in_use(desk)
    store = open_store(folder)
    with _told():
        rows = asleep_rows(store, store.load().desk)
        wanted = approve or []
        known = {row["mark"][:8]: row["mark"] for row in rows}
        marks = [row["mark"] for row in rows] if "all" in wanted else [known.get(name[:8], "") for name in wanted]
        if "" in marks:
            raise Failure(f"nothing that sleeps has the mark {wanted[marks.index('')]}", "usage")
        if marks:
            client = _client(folder)
            if client is not None:
                with client:
                    client.ask("approve", marks=marks)
            else:
                keep(store, marks)
            print(f"{len(set(marks))} approved; a step that is changed asks again.")
            return
    for row in rows:
        if as_json:
            print(json.dumps(row, ensure_ascii=False))
        else:
            line = f", line {row['line']}" if row["line"] else ""
            print(f"{row['mark'][:8]}  {row['does']}: {row['text']}\n          {row['where']}{line}"
                  + (f", from {row['origin']}" if row["origin"] else "")
                  + "".join(f"\n          {line}" for line in row["changed"]))
    if not rows and not as_json:
        print("Nothing waits for approval.")


@desk_app.command("adopt")
def adopt(names: Annotated[list[str], typer.Argument(metavar="ID…", help="macros or surfaces that came from somebody "
                                                     "else")], desk: DeskOption = None) -> None:
    """Make something that came from somebody else your own.

    Nothing of it waits for approval any more.
    """
    folder = desk_in_use(desk)
    with _told():
        client = _client(folder)
        if client is not None:
            with client:
                print(client.ask("adopt", names=names)["words"])
            return
        store = open_store(folder)
        store.lock()
        print(store.adopt(names))


@desk_app.command("history")
def history(count: Annotated[int, typer.Option("--count", metavar="N", min=1, help="how many")] = 20,
            as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show every change of the desk in words, newest first."""
    store = open_store(desk_in_use(desk))
    store.load()
    with _told():
        if _client(store.folder) is None:
            store.settle()
        entries = store.log.entries()
    for version in entries[::-1][:count]:
        if as_json:
            print(json.dumps({"number": version.number, "at": version.at, "words": version.words,
                              "files": sorted(version.files)}, ensure_ascii=False))
        else:
            at = time.strftime("%Y-%m-%d %H:%M:%S", time.localtime(version.at))
            print(f"{version.number:>5}  {at}  {version.words}")
    if not entries and not as_json:
        print("No change yet.")


@desk_app.command("compare")
def compare_versions(one: Annotated[int, typer.Argument(metavar="N", help="a version, from brass-pebble desk history")],
                     other: Annotated[int, typer.Argument(metavar="[M]", help="another one; as it is now without "
                                                          "it")] = 0,
                     lines: Annotated[bool, typer.Option("--lines", help="line by line, as well")] = False,
                     desk: DeskOption = None) -> None:
    """Show what differs between two versions, in words."""
    from brass_pebble.engine.clients.giving_requests import compare
    store = open_store(desk_in_use(desk))
    with _told():
        store.load()
        found = compare(store, one, other)
    for row in found["words"]:
        print(row["words"])
    if lines:
        last = ""
        for file, line in found["lines"]:
            if file != last:
                print(f"--- {file}")
                last = file
            print(line)
    if not found["words"]:
        print("Only comments and blanks." if found["lines"] else "Nothing.")


@desk_app.command("restore")
def restore(number: Annotated[int, typer.Argument(metavar="N", help="a version, from brass-pebble desk history")],
            desk: DeskOption = None) -> None:
    """Restore the desk as it was after a version.  This is a change like any other: it can be undone."""
    folder = desk_in_use(desk)
    with _told():
        client = _client(folder)
        if client is not None:
            with client:
                print(client.ask("restore", number=number)["words"])
            return
        store = open_store(folder)
        store.lock()
        store.load()
        store.settle()
        print(store.change(store.restoring_edit(number)))
