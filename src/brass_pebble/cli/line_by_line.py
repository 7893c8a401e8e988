"""Setting a desk up line by line, without the screen: for screen readers, for scripts, for slow connections.

Every command says in one sentence what it did, and changes what runs at once; `undo` undoes it.
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any

import typer

from .shared import DeskOption, Failure, os_text

SurfaceName = Annotated[str, typer.Argument(metavar="SURFACE", help="the surface's id")]
ControlName = Annotated[str, typer.Argument(metavar="CONTROL", help="the control's id: 7, plus, left")]
GestureOption = Annotated[str, typer.Option("--gesture", metavar="GESTURE", help="press, tap, “double tap”, hold, "
                                            "release, “turn left” …")]
LayerOption = Annotated[str, typer.Option("--layer", metavar="LAYER", help="the layer's id; the topmost that is on "
                                          "without it")]


def add_to(app: typer.Typer) -> None:
    """Make these commands part of the program's."""
    for command in (take, bind, unbind, write, undo, redo):
        app.command()(command)


@contextmanager
def _client(desk: Path | None, name: str) -> Iterator[Any]:
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), f"brass-pebble {name}") as client:
        yield client


def _did(words: str) -> None:
    print(f"{words[:1].upper()}{words[1:]}.")


def take(device: Annotated[str, typer.Argument(metavar="DEVICE", help="part of its name or port; brass-pebble devices "
                                               "lists them")],
         name: Annotated[str, typer.Option("--name", metavar="NAME", help="what the surface is called")] = "",
         layout: Annotated[str, typer.Option("--layout", metavar="LAYOUT", help="its drawing, such as numpad or "
                                             "pedals-3")] = "",
         part: Annotated[list[str] | None, typer.Option("--part", metavar="PART", help="only this part of it")] = None,
         desk: DeskOption = None) -> None:
    """Take a device over as a surface of the running desk."""
    with _client(desk, "take") as client:
        rows = [row for row in client.ask("devices")["devices"] if not row["surface"] and not row["main"]]
        wanted = device.casefold()
        found = [row for row in rows if wanted in f"{row['shown']} {row['where']} {row['id']}".casefold()]
        if len(found) != 1:
            shown = ", ".join(f"{row['shown']} ({row['where']})" for row in found or rows) or "none"
            raise Failure(f"“{device}” fits {'several devices' if found else 'no free device'}. "
                          f"{'Name one of' if found else 'Available'}: {shown}", "usage")
        reply = client.ask("take", device=found[0]["id"], name=name, layout=layout, takes=part or [])
        surface = next(row for row in client.ask("desk")["desk"]["surfaces"] if row["id"] == reply["surface"])
        print(f"Took over {found[0]['shown']} as the surface {reply['surface']}.")
        print(f"Its controls: {', '.join(control['id'] for control in surface['controls']) or 'not drawn yet'}.")
        if reply["trial_seconds"]:
            print(f"On trial: it is given back after {reply['trial_seconds']:.0f} s. To keep it: brass-pebble keep "
                  f"{reply['surface']}")


def bind(surface: SurfaceName, control: ControlName,
         action: Annotated[list[str], typer.Argument(metavar="ACTION…", help="a chord; or an action and its target: "
                                                     "sustain Ctrl+M, play welcome, layer while held cut")],
         gesture: GestureOption = "press", layer: LayerOption = "",
         label: Annotated[str, typer.Option("--label", metavar="TEXT", help="up to 12 characters")] = "",
         far: Annotated[str, typer.Option("--far", metavar="TEXT", help="its short form for large letters, up to 6 "
                                                                        "characters")] = "",
         tint: Annotated[str, typer.Option("--tint", metavar="TINT", help="clay, wheat, moss …")] = "",
         plays: Annotated[str, typer.Option("--plays", metavar="HOW", help="once, “while held”, “until pressed again”, "
                                            "“3 times”")] = "",
         desk: DeskOption = None) -> None:
    """Give a control something to do; it takes effect at once."""
    from brass_pebble.core.desk.action import ACTION_KINDS
    kind, target = (action[0], " ".join(action[1:])) if action[0] in ACTION_KINDS else ("tap", " ".join(action))
    given = (("label", label), ("far", far), ("tint", tint), ("plays", plays))
    settings = {name: value for name, value in given if value}
    with _client(desk, "bind") as client:
        _did(client.ask("bind", surface=surface, control=control, layer=layer, gesture=gesture, kind=kind,
                        target=target, **settings)["words"])


def unbind(surface: SurfaceName, control: ControlName, gesture: GestureOption = "press", layer: LayerOption = "",
           desk: DeskOption = None) -> None:
    """Clear a gesture of a control."""
    with _client(desk, "unbind") as client:
        _did(client.ask("bind", surface=surface, control=control, layer=layer, gesture=gesture)["words"])


def write(name: Annotated[str, typer.Argument(metavar="NAME", help="what the macro is called")],
          file: Annotated[Path | None, typer.Argument(metavar="[FILE]", help="its text; read from the standard input "
                                                      "without it")] = None,
          desk: DeskOption = None) -> None:
    """Write a macro of the running desk.

    A text with errors is refused, with line and column.
    """
    from brass_pebble import file_access
    from brass_pebble.core.macro.naming import with_name, written_name
    try:
        text = file_access.read_text(file) if file is not None else sys.stdin.read()
    except (OSError, UnicodeDecodeError) as error:
        raise Failure(f"the text cannot be read: {os_text(error) if isinstance(error, OSError) else error}",
                      "usage") from None
    if not written_name(text):
        text = with_name(text, name)
    with _client(desk, "write") as client:
        there = {row["name"]: row["id"] for row in client.ask("desk")["desk"]["macros"]}
        reply = client.ask("write_macro", macro=there.get(name, ""), name=name, text=text)
        if why := client.ask("desk")["desk"].get("broken_macros", {}).get(reply["macro"]):
            raise Failure(f"saved as macros/{reply['macro']}.macro, but it cannot be played yet: {why}",
                          "mistake in a file")
        print(f"Saved the macro {reply['macro']}. Play it with: brass-pebble play {reply['macro']}")


def undo(desk: DeskOption = None) -> None:
    """Undo the last change of the running desk."""
    with _client(desk, "undo") as client:
        _did(client.ask("undo")["words"])


def redo(desk: DeskOption = None) -> None:
    """Redo the last undone change."""
    with _client(desk, "redo") as client:
        _did(client.ask("redo")["words"])
