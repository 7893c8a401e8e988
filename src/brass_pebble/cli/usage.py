"""The part of the command line about use."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brass_pebble import paths
from brass_pebble.core.say.counts import say_count

from .shared import (
    DeskOption,
    Failure,
    JsonOption,
    YesOption,
    desk_in_use,
    make_sure,
    os_text,
    read_desk_folder,
    tell_saved,
)

if TYPE_CHECKING:
    from brass_pebble.core.desk.look.drawn import BareDesk

DAY = 86_400


def add_to(app: typer.Typer) -> None:
    """Make this command part of the program's."""
    app.command()(usage)


def _days(text: str) -> int:
    """Days of `30d`, `2w` or `12`; 0 for all."""
    if text in ("", "all"):
        return 0
    number, factor = (text[:-1], {"d": 1, "w": 7}[text[-1]]) if text[-1:] in ("d", "w") else (text, 1)
    if not number.isdigit() or not int(number):
        raise Failure(f"“{text}” is not a valid period. Write --since 30d, --since 4w or --since all", "usage")
    return int(number) * factor


def usage(since: Annotated[str, typer.Option("--since", metavar="30d", help="how far back: days, weeks (4w), or "
                                             "all")] = "all",
          surface: Annotated[str, typer.Option("--surface", metavar="SURFACE", help="only this one")] = "",
          output: Annotated[Path | None, typer.Option("-o", "--output", metavar="FILE", help="draw charts: .pdf or .svg"
                                                      )] = None,
          erase: Annotated[bool, typer.Option("--erase", help="erase the history permanently")] = False,
          counting: Annotated[bool | None, typer.Option("--on/--off", help="switch counting on or off")] = None,
          yes: YesOption = False, as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show how often everything was used, and likely mis-hits.

    What earns its place, and what is never used.
    """
    from brass_pebble.core.desk.look.drawn import BareDesk
    from brass_pebble.core.desk.look.rows import macro_rows, surface_row
    from brass_pebble.core.usage.report import report
    from brass_pebble.engine.disk.history import HistoryError, HistoryStore, local_zone
    folder = desk_in_use(desk)
    store = HistoryStore(paths.history_file(folder))
    if counting is not None:
        _switch(folder, counting)
    if erase:
        make_sure(f"Erase the history of the desk {folder}?", yes=yes)
        _erase(folder, store)
        return
    days = _days(since)
    _flush(folder)
    try:
        history = store.read(int((time.time() + local_zone(time.time())) // DAY) - days + 1 if days else 0)
    except HistoryError as error:
        raise Failure(str(error), "failed") from None
    read = read_desk_folder(folder)
    if surface and surface not in read.surfaces:
        raise Failure(f"there is no surface “{surface}”; available: {', '.join(read.surfaces) or 'none yet'}", "usage")
    rows = [surface_row(read, found) for found in read.surfaces.values() if surface in ("", found.id)]
    whole = BareDesk(surfaces=rows, macros=macro_rows(read))
    if output is not None:
        _draw(whole, read.name, history, f"the last {say_count(days, 'day')}" if days else "all the time", output)
        return
    for row in rows:
        found = report(whole, row, history)
        if as_json:
            print(json.dumps({"surface": row.id, "presses": found.presses, "stopped": found.stopped,
                              "cancelled": found.cancelled, "slips": found.slips,
                              "waited_ms": found.lost, "latest_us": found.latest,
                              "controls": found.heat, "unused": [list(place) for place in found.unused],
                              "macros": {name: times for name, times, _ in found.macros},
                              "layers": dict(found.layers), "gestures": dict(found.gestures)}, ensure_ascii=False))
            continue
        print(f"{row.name}: {say_count(found.presses, 'press')}, {found.stopped} stopped, {found.cancelled} had no "
              "effect, "
              f"{found.slips} likely mis-hits")
        for layer, control, gesture, label, times in found.bindings[:12]:
            print(f"  {times:>7,}  {label:16} {control}, {gesture}, in {layer}")
        for slip in found.slipped[:3]:
            meant = f", probably meant {', '.join(name for name, _ in slip.meant)}" if slip.meant else ""
            print(f"  likely mis-hits on {slip.control}: {slip.times}{meant}")
        if found.unused:
            print(f"  never used: {', '.join(dict.fromkeys(label for *_, label in found.unused))}")
    if not read.history and not as_json:
        print("Counting is off. --on switches it on.")


def _client(folder: Path) -> Any:
    """A client of the engine that runs this desk, or None."""
    from brass_pebble.client import EngineClient, running_sockets
    socket = paths.socket_path(folder)
    return EngineClient(socket, "brass-pebble usage") if socket in running_sockets() else None


def _flush(folder: Path) -> None:
    """Let a running engine store what it has counted."""
    client = _client(folder)
    if client is not None:
        with client:
            client.ask("usage", days=1)


def _switch(folder: Path, counting: bool) -> None:
    client = _client(folder)
    if client is not None:
        with client:
            client.ask("count_usage", on=counting)
    else:
        from brass_pebble.engine.disk.edits import Edit

        from .shared import open_store
        words = "history: on" if counting else "history: off"
        open_store(folder).change(Edit(words, ((("history",), None if counting else False),)))
    print("Presses are counted." if counting else "Counting is off. The history stays until --erase.")


def _erase(folder: Path, store: Any) -> None:
    from brass_pebble.engine.disk.history import HistoryError
    client = _client(folder)
    try:
        if client is not None:
            with client:
                client.ask("erase_usage")
        else:
            store.erase()
    except HistoryError as error:
        raise Failure(str(error), "failed") from None
    print("The history is erased.")


def _draw(whole: BareDesk, name: str, history: Any, period: str, output: Path) -> None:
    from brass_pebble.core.say.problem import ProblemError
    from brass_pebble.paper.label_files import write_pages
    from brass_pebble.paper.usage_chart import usage_pages
    try:
        tell_saved(write_pages(usage_pages(whole, history, period), output, f"{name}, usage"))
    except ProblemError as error:
        raise Failure(str(error.problem), "usage") from None
    except OSError as error:
        raise Failure(f"the chart cannot be written: {os_text(error)}", "failed") from None
