"""The parts of the command line about layers, the focused window and programs' shortcuts."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble import file_access, paths

from .help_list import OneLineEach
from .shared import EXIT_CODES, DeskOption, Failure, JsonOption

programs_app = typer.Typer(cls=OneLineEach, rich_markup_mode=None, pretty_exceptions_enable=False,
                           help="Shortcut tables of programs, for finding conflicts.")
_HOWS = "on, off, “on or off”, “go to”, “for one press”, next, previous"


def add_to(app: typer.Typer) -> None:
    """Make these commands part of the program's."""
    app.command()(focus)
    app.command()(layer)
    app.command()(clashes)
    app.add_typer(programs_app, name="programs")


def _client(desk: Path | None, name: str) -> Any:
    from brass_pebble.client import EngineClient, find_engine
    return EngineClient(find_engine(desk), f"brass-pebble {name}")


def focus(name: Annotated[str, typer.Argument(metavar="[NAME]", help="the class of the window that has the focus now")]
          = "", title: Annotated[str, typer.Option("--title", help="its title")] = "",
          pin: Annotated[bool, typer.Option("--pin", help="leave the layers as they are")] = False,
          follow: Annotated[bool, typer.Option("--follow", help="follow the focus again")] = False,
          desk: DeskOption = None) -> None:
    """Show which window has the focus, or say it for a compositor.

    With a name, say it, for compositors that do not.
    """
    with _client(desk, "focus") as client:
        if pin or follow:
            reply = client.ask("focus", pin=pin)
        else:
            reply = client.ask("focus", **{"class": name, "title": title})
        window = reply["window"]
        print(f"focus: {window['shown']}" if window else "focus: unknown" + (
            f"; {reply['trouble']}" if reply["trouble"] else ""))
        if reply["pinned"]:
            print("Layers are pinned. --follow lets them follow again.")
        for surface, on in reply["on"].items():
            print(f"{surface}: {', '.join(f'{layer} ({why})' for layer, why in on.items())}")


def layer(surface: Annotated[str, typer.Argument(metavar="SURFACE", help="the surface's id")],
          name: Annotated[str, typer.Argument(metavar="[LAYER]", help="the layer's id or name")] = "",
          how: Annotated[str, typer.Option("--how", help=_HOWS)] = "go to",
          new: Annotated[bool, typer.Option("--new", help="make a new layer of this name, on top")] = False,
          desk: DeskOption = None) -> None:
    """List layers, switch one, or make a new one.

    Without a layer, they are listed.
    """
    with _client(desk, "layer") as client:
        if new:
            print(f"Made the layer {client.ask('add_layer', surface=surface, name=name)['layer']}. It is off.")
            return
        if name or how in ("next", "previous"):
            print(client.ask("layer", surface=surface, layer=name, how=how)["words"])
            return
        found = next((s for s in client.ask("desk")["desk"]["surfaces"] if s["id"] == surface), None)
        if found is None:
            raise Failure(f"there is no surface “{surface}”", "usage")
        for row in found["layers"]:
            why = f", {row['why']}" if row["why"] else ""
            print(f"{'on ' if row['on'] else 'off'} {row['id']}: {row['name']}{why}")


def clashes(as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """List conflicts on the running desk.

    Exit code 6 if there are any.
    """
    with _client(desk, "clashes") as client:
        found = client.ask("clashes")["clashes"]
    for clash in found:
        print(json.dumps(clash, ensure_ascii=False) if as_json else
              f"{'✗' if clash['weight'] == 'bad' else '·'} {clash['kind']}: {clash['text']}")
    bad = sum(clash["weight"] == "bad" for clash in found)
    if not as_json:
        notes = len(found) - bad
        print(f"{bad} {'conflict' if bad == 1 else 'conflicts'}, {notes} {'note' if notes == 1 else 'notes'}.")
    if bad:
        raise typer.Exit(EXIT_CODES["mistake in a file"])


def _own_programs() -> Path:
    return paths.user_layouts().parent / "programs"


@programs_app.command("list")
def list_programs(desk: DeskOption = None) -> None:
    """List the shortcut tables that the running engine knows."""
    with _client(desk, "programs") as client:
        for program in client.ask("clashes")["programs"]:
            print(f"{program['name']} ({program['origin']}): {len(program['shortcuts'])} shortcuts")


@programs_app.command("import")
def import_program(file: Annotated[Path, typer.Argument(metavar="FILE", help="TOML, or columns: chord, meaning")],
                   name: Annotated[str, typer.Option("--name", help="what to call it; the file's name else")] = "",
                   desk: DeskOption = None) -> None:
    """Import a program's shortcut table.

    For all desks, or with --desk for one.
    """
    from brass_pebble.core.say.problem import ProblemError
    from brass_pebble.engine.disk.shortcut_files import import_table
    try:
        found, text = import_table(file)
    except ProblemError as error:
        raise Failure(f"{error.problem.what}. {error.problem.hint}", "mistake in a file") from None
    folder = desk / "programs" if desk else _own_programs()
    file_access.private_folder(folder)
    target = folder / f"{name or found}.toml"
    target.write_text(text, encoding="utf-8")
    print(f"{target}: {text.count('[[shortcut]]')} shortcuts. brass-pebble clashes looks at them.")
