"""The parts of the command line that answer what macros ask: `questions`, `answer`, and the prompt of `play`."""

from __future__ import annotations

import json
from typing import Annotated, Any

import typer

from brass_pebble.cli.shared import DeskOption, Failure, JsonOption
from brass_pebble.client import EngineClient, EngineError, find_engine

# A run in one of these states may still ask something.
_GOING_ON = ("playing", "holding", "queued")


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.command()(questions)
    app.command()(answer)


def questions(as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """List what macros ask and wait for."""
    with EngineClient(find_engine(desk), "brass-pebble questions") as client:
        rows = client.ask("questions")["questions"]
    for row in rows:
        if as_json:
            print(json.dumps(row, ensure_ascii=False))
        else:
            print(f"{row['name']}: {row['words']} ({row['macro']}, {row['left_ms'] / 1000:.0f} s left; {row['fits']})")
    if not rows and not as_json:
        print("No macro asks anything.")


def answer(words: Annotated[list[str] | None, typer.Argument(metavar="[NAME] TEXT", help="the value that is asked for, "
                                                             "and the answer; without a name the oldest question")] =
           None, none: Annotated[bool, typer.Option("--none", help="close the question without an answer")] = False,
           desk: DeskOption = None) -> None:
    """Answer what a macro asks."""
    given = words or []
    if len(given) > 2 or (not given and not none) or (none and len(given) > 1):
        raise Failure("write the answer, or the value and the answer: brass-pebble answer guest Ada. --none closes "
                      "the question", "usage")
    name = given[0] if len(given) == 2 or (none and given) else ""
    with EngineClient(find_engine(desk), "brass-pebble answer") as client:
        client.ask("answer", question=name, **({} if none else {"text": given[-1]}))


def ask_here(client: EngineClient, trace: int) -> None:
    """Ask in the terminal what a run asks, until it has ended."""
    told: set[str] = set()
    for message in client.news():
        if message["topic"] == "questions":
            for row in message["questions"]:
                if row["trace"] == trace and row["question"] not in told:
                    told.add(row["question"])
                    _prompt(client, row)
        elif message["topic"] == "trace" and _is_over(message["trace"], trace):
            print(message["trace"]["sentence"])
            return


def _is_over(row: dict[str, Any], trace: int) -> bool:
    return bool(row["id"] == trace and row["state"] not in _GOING_ON)


def _prompt(client: EngineClient, row: dict[str, Any]) -> None:
    """Ask one question until its answer fits; Ctrl+C and Ctrl+D close it."""
    for number, choice in enumerate(row["choices"], 1):
        print(f"  {number}  {choice}")
    while True:
        try:
            proposal = f" [{row['proposal']}]" if row["proposal"] else ""
            text = input(f"{row['words']} ({row['fits']}){proposal}: ") or row["proposal"]
        except (EOFError, KeyboardInterrupt):
            print()
            client.ask("answer", question=row["question"])
            return
        try:
            client.ask("answer", question=row["question"], text=text)
            return
        except EngineError as error:
            print(error)
            if "not open any more" in str(error):
                return
