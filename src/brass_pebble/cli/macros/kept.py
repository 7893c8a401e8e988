"""The part of the command line that sees to kept values: `values`."""

from __future__ import annotations

import json
from typing import Annotated

import typer

from brass_pebble.cli.help_list import OneLineEach
from brass_pebble.cli.shared import DeskOption, JsonOption
from brass_pebble.client import EngineClient, find_engine

values_app = typer.Typer(cls=OneLineEach, invoke_without_command=True,
                         help="Values that macros keep: see, change and reset them.")
NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="the value")]


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.add_typer(values_app, name="values")


@values_app.callback()
def values(context: typer.Context, as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """List the values that macros keep."""
    if context.invoked_subcommand is not None:
        return
    with EngineClient(find_engine(desk), "brass-pebble values") as client:
        rows = client.ask("values")["values"]
    for row in rows:
        if as_json:
            print(json.dumps(row, ensure_ascii=False))
            continue
        state = "" if row["is_set"] else ", not set yet"
        trouble = f". {row['trouble']}" if row["trouble"] else ""
        print(f"{row['name']} = {row['value']}  ({row['kind']}{state}; {', '.join(row['macros']) or 'no macro'} "
              f"{'uses' if len(row['macros']) <= 1 else 'use'} it{trouble})")
    if not rows and not as_json:
        print("No macro keeps a value. Write kept take from 1 into one.")


@values_app.command("set")
def values_set(name: NameArgument, to: Annotated[str, typer.Argument(metavar="VALUE")],
               desk: DeskOption = None) -> None:
    """Change a value."""
    with EngineClient(find_engine(desk), "brass-pebble values") as client:
        print(f"Done: {client.ask('set_value', value=name, to=to)['words']}.")


@values_app.command("reset")
def values_reset(name: NameArgument, desk: DeskOption = None) -> None:
    """Reset a value to what it begins with."""
    with EngineClient(find_engine(desk), "brass-pebble values") as client:
        print(f"Done: {client.ask('reset_value', value=name)['words']}.")
