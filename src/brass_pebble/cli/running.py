"""The parts of the command line that ask a running engine: playing, stopping, watching."""

from __future__ import annotations

import contextlib
import json
import sys
import time
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble.client import EngineClient, find_engine
from brass_pebble.core.say.durations import clock

from .shared import (
    AnswerOption,
    DeskOption,
    Failure,
    JsonOption,
    NumberOption,
    SaidOption,
    StrengthOption,
    given_answers,
    given_values,
)


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    for command in (watch, play, stop, rest, wake, keep, release):
        app.command()(command)
    app.command("hands-off")(hands_off)
    app.command("hands-on")(hands_on)


def watch(as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Show what every press leads to, as it happens.

    Until Ctrl+C.
    """
    with EngineClient(find_engine(desk), "watch") as client:
        client.ask("follow", topics=["trace"])
        if not as_json:
            print(f"Watching {client.hello['desk']}; Ctrl+C ends.", flush=True)
        print_news(client, as_json=as_json, seconds=None)
    raise Failure("the engine has ended", "no engine")


def print_news(client: Any, *, as_json: bool, seconds: float | None) -> None:
    """Print traces: those that last when they begin, and all when they end."""
    end = time.monotonic() + seconds if seconds is not None else None
    told: set[tuple[int, str]] = set()
    news = client.news()
    while end is None or time.monotonic() < end:
        client.set_timeout(max(0.01, end - time.monotonic()) if end else None)
        try:
            message = next(news, None)
        except TimeoutError:
            return
        if message is None:
            return
        if message["topic"] == "script":
            if not message["running"]:
                return
            print(f"              ~ {message['caption']}", flush=True)
        elif message["topic"] == "trace":
            trace = message["trace"]
            if as_json:
                print(json.dumps(trace, ensure_ascii=False), flush=True)
                continue
            lasting = trace["holds"] or trace["length_ms"] > 400
            ended = trace["state"] not in ("playing", "holding", "queued")
            key = (trace["id"], "end" if ended else "begin")
            if key not in told and (ended or lasting):
                told.add(key)
                print(f"{clock(trace['at'])}  {trace['sentence']}", flush=True)


def play(name: Annotated[str, typer.Argument(metavar="NAME", help="the macro's file name or its name")],
         number: NumberOption = None, strength: StrengthOption = None, said: SaidOption = None,
         answer: AnswerOption = None, desk: DeskOption = None) -> None:
    """Play a macro on the running engine.

    What it asks can be answered beforehand, or here in the terminal.
    """
    answers = given_answers(answer)
    with EngineClient(find_engine(desk), "brass-pebble play") as client:
        if sys.stdin.isatty():
            client.ask("follow", topics=["questions", "trace"])
        reply = client.ask("play", macro=name, **given_values(number, strength, said), answers=answers)
        if reply["why"]:
            print(reply["why"])
        if sys.stdin.isatty() and set(reply["asks"]) - set(answers):
            from .macros.questions import ask_here
            ask_here(client, reply["trace"])


def stop(quit_engine: Annotated[bool, typer.Option("--quit", help="end the engine, too")] = False,
         desk: DeskOption = None) -> None:
    """Stop everything and release everything, at once."""
    with EngineClient(find_engine(desk), "brass-pebble stop") as client:
        runs = client.ask("stop")["runs"]
        print(f"Stopped {runs} {'run' if runs == 1 else 'runs'}; nothing is down.")
        if quit_engine:
            client.ask("quit")
            with contextlib.suppress(Exception):
                client.ask("devices")
            print("The engine has ended.")


SurfaceArgument = Annotated[str, typer.Argument(metavar="[SURFACE]", help="a surface's id; all without it")]


def rest(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a surface type normally again, until it is woken."""
    _set_state("rest", surface, desk)


def wake(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a resting surface act again; a refused one on trial."""
    _set_state("wake", surface, desk)


def keep(surface: Annotated[str, typer.Argument(metavar="SURFACE", help="a surface's id")],
         desk: DeskOption = None) -> None:
    """Keep a device that was taken over on trial."""
    with EngineClient(find_engine(desk), "brass-pebble keep") as client:
        print(f"Done: {client.ask('keep', surface=surface)['words']}.")


SecondsOption = Annotated[float, typer.Option("--for", min=0, max=1800, metavar="SECONDS",
                                               help="how long it lasts")]


def hands_off(surface: SurfaceArgument = "", desk: DeskOption = None, seconds: SecondsOption = 120.0) -> None:
    """Let presses only select for a while: nothing is sent.

    Of one surface, or of all.
    """
    with EngineClient(find_engine(desk), "brass-pebble hands-off") as client:
        for name, left in client.ask("hands_off", surface=surface, seconds=seconds)["surfaces"].items():
            print(f"{name}: hands off for {left / 1000:.0f} s")


def hands_on(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a surface, or all, act again."""
    with EngineClient(find_engine(desk), "brass-pebble hands-on") as client:
        client.ask("hands_on", surface=surface)
    print("Presses act again.")


def release(desk: DeskOption = None) -> None:
    """Give every device back at once, and stop everything.

    Every surface rests until it is woken.
    """
    with EngineClient(find_engine(desk), "brass-pebble release") as client:
        client.ask("stop")
    _set_state("rest", "", desk)


def _set_state(do: str, surface: str, desk: Path | None) -> None:
    with EngineClient(find_engine(desk), f"brass-pebble {do}") as client:
        for name, state in client.ask(do, surface=surface)["states"].items():
            print(f"{name}: {state}")
        if do != "wake" or not surface:
            return
        for name in [row["id"] for row in client.ask("desk")["desk"]["surfaces"] if row["trial"]]:
            print(f"{name} is on trial: it is given back after ten seconds. To keep it: brass-pebble keep {name}")
