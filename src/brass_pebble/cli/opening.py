"""The parts of the command line that open a screen or run an engine here."""

from __future__ import annotations

import gc
import os
import signal
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import typer
from msgspec.structs import replace

from brass_pebble import paths

from .desk_folders import desk_folder
from .shared import BeginAgain, DeskOption, Failure


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.command()(demo)
    app.command()(run)


def need_terminal() -> None:
    if not sys.stdout.isatty():
        raise Failure("the screen needs a terminal. Use brass-pebble watch, or run it in a terminal window", "usage")


def open_screen(socket: Path | Callable[[], Path], **options: Any) -> None:
    """Show the screen on an engine, or on one that is still starting while the screen is loaded."""
    # Tens of thousands of objects are made, none of them garbage.
    gc.disable()
    if not sys.stderr.isatty():
        # The screen is drawn on this stream; what is told of errors may go to a file all the same.
        sys.__stderr__ = sys.__stdout__  # type: ignore[misc]
    from .outside import OutsideHere
    outside = OutsideHere()
    remembered = outside.recall()
    from brass_pebble.machine.terminal_answers import asking_terminal, look_of
    with asking_terminal(sys.__stdin__.fileno() if sys.__stdin__ else 0) as answers:
        # What the terminal answers arrives while the screen is loaded, which asks how many colours there are.
        from brass_pebble.screen.app import BrassPebbleApp
    told = answers[0] if answers else None
    if not remembered.theme:
        # The first time on this computer: a theme that suits the terminal.
        from brass_pebble.screen.base.palette import theme_for
        remembered = replace(remembered, theme=theme_for(told.brightness or 0.0 if told else 0.0))
        outside.remember(remembered)
    from brass_pebble.screen.outside import Reopen
    look = look_of(told, os.environ, remembered)
    failed = BrassPebbleApp(socket, outside=outside, look=look, **options).run()
    if isinstance(failed, Reopen):
        raise BeginAgain(failed.words)
    if isinstance(failed, Exception):
        raise failed


def wait_for(process: Any) -> None:
    """Let an engine end by itself; insist after three seconds."""
    try:
        process.wait(timeout=3)
    except Exception:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=3)


def demo(headless: Annotated[bool, typer.Option("--headless", help="play the class without a screen")] = False,
         seconds: Annotated[float, typer.Option("--seconds", metavar="N", min=0.1,
                                                help="how long the headless class lasts")] = 60.0,
         fresh: Annotated[bool, typer.Option("--fresh", help="forget earlier changes of the demo's desk")] = False,
         desk: Annotated[Path | None, typer.Option("--desk", metavar="DIR", help="put this desk on the bench, in place "
                                                   "of the bakery's")] = None) -> None:
    """Try it without any hardware, on a bakery's desk or your own.

    Its devices and programs are simulated.
    """
    from brass_pebble.client import EngineClient, StartingEngine, start_engine
    from brass_pebble.demo import ENGINE_OPTIONS, demo_desk
    if desk is not None:
        if headless or fresh:
            raise Failure("--headless and --fresh are for the bakery's desk. Leave them out, or leave out --desk",
                          "usage")
        need_terminal()
        open_desk(desk_folder(desk), "--on-bench", "--until-left")
        return
    if not headless:
        need_terminal()
    desk = demo_desk(fresh=fresh)
    if not paths.history_file(desk).exists():
        from brass_pebble.demo.history import seed_history
        seed_history(desk)
    if paths.socket_path(desk) in running():
        if headless:
            raise Failure("the demo is already open on another screen. Close that one first", "busy")
        open_screen(paths.socket_path(desk))
        return
    starting = StartingEngine(desk, *ENGINE_OPTIONS)
    try:
        if headless:
            with EngineClient(starting.wait(), "demo") as client:
                client.ask("follow", topics=["trace", "script"])
                client.ask("script", run=True)
                from .running import print_news
                print_news(client, as_json=False, seconds=seconds)
        else:
            open_screen(starting.wait, restart=lambda: start_engine(desk, *ENGINE_OPTIONS)[0])
    finally:
        wait_for(starting.process)


def running() -> list[Path]:
    from brass_pebble.client import running_sockets
    return running_sockets()


def run(desk: DeskOption = None,
        real_time: Annotated[bool, typer.Option("--real-time", help="stay on time beside programs that take every "
                                                "processor, if you may have that priority")] = False) -> None:
    """Run a desk without a screen, until Ctrl+C.

    Its devices are taken over, and its macros are sent.
    """
    from brass_pebble.engine.main import run_here
    raise typer.Exit(run_here(desk_folder(desk), print, *["--real-time"] * real_time))


def open_usual(desk: Path | None) -> None:
    """Open the screen on the running engine, or start one for as long as the screen is open."""
    from brass_pebble.client import running_sockets
    need_terminal()
    running = running_sockets()
    if desk is None and len(running) == 1:
        open_screen(running[0])
        return
    folder = desk or paths.default_desk()
    if paths.socket_path(folder) in running:
        open_screen(paths.socket_path(folder))
        return
    open_desk(desk_folder(desk))


def open_desk(folder: Path, *options: str, first_view: str = "") -> None:
    """Start an engine on a desk for as long as the screen is open, with another view on top if one is named.

    Raises:
        Failure: another engine runs it, which would have to be ended first.
    """
    if paths.socket_path(folder) in running():
        raise Failure(f"the desk {folder} is already open. Close that screen, or end its engine with: brass-pebble "
                      f"stop --quit --desk {folder}", "busy")
    options = options or ("--until-left", "--may-lack-output")
    from brass_pebble.client import StartingEngine, start_engine
    starting = StartingEngine(folder, *options)
    try:
        open_screen(starting.wait, restart=lambda: start_engine(folder, *options)[0], first_view=first_view,
                    on_bench="--on-bench" in options)
    finally:
        wait_for(starting.process)
