"""The command line.  docs/command-line.md is its reference; exit codes stand there and in `EXIT_CODES`."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble import __version__, paths
from brass_pebble.core.say.durations import clock

from .desk import desk_app
from .layers import add_to as add_layer_commands
from .macro import macro_app
from .motion import add_to as add_motion_commands
from .paper import add_to as add_paper_commands
from .secret import secret_app
from .setup import add_to as add_setup_command
from .shared import (
    EXIT_CODES,
    DeskOption,
    Failure,
    JsonOption,
    NumberOption,
    PlainText,
    StrengthOption,
    given_values,
    os_text,
)
from .usage import add_to as add_usage_commands

_CODE_OF = {"none": "no engine", "gone": "no engine", "several": "usage"}
_EPILOG = "Exit codes: " + ", ".join(f"{code} {name}" for name, code in EXIT_CODES.items())

app = typer.Typer(add_completion=False, invoke_without_command=True, pretty_exceptions_enable=False,
                  rich_markup_mode=None, epilog=_EPILOG,
                  help="Spare keyboards, pedals and pads as command surfaces for timed keystroke macros.")
app.add_typer(macro_app, name="macro")
app.add_typer(desk_app, name="desk")
app.add_typer(secret_app, name="secret")
add_layer_commands(app)
add_motion_commands(app)
add_paper_commands(app)
add_usage_commands(app)
add_setup_command(app)
service_app = typer.Typer(rich_markup_mode=None, pretty_exceptions_enable=False,
                          help="The engine as a service of your own, started at every login.")
app.add_typer(service_app, name="service")

# The common ancestor of everything that can be wrong with a command line, wherever typer keeps it.
_UsageError: Any = typer.BadParameter.__mro__[2]


def main() -> None:
    """The program's entry: no stack trace ever reaches the person."""
    from brass_pebble.client import EngineError, StartError
    code = 0
    for stream, instead in ((sys.stdout, "replace"), (sys.stderr, "backslashreplace")):
        # A terminal or a pipe that knows no such letter gets another one, and no crash.
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors=instead)  # type: ignore[union-attr]
    sys.stdout, sys.stderr = PlainText(sys.stdout), PlainText(sys.stderr)
    try:
        result = app(standalone_mode=False)
        code = result if isinstance(result, int) else 0
    except Failure as failure:
        code = _complain(str(failure), failure.code)
    except EngineError as error:
        code = _complain(str(error), EXIT_CODES[_CODE_OF.get(error.code, "failed")])
    except StartError as error:
        code = _complain(str(error), error.code)
    except typer.Exit as error:
        code = error.exit_code
    except _UsageError as error:
        code = _complain(f"{error.format_message()} Try: brass-pebble --help", EXIT_CODES["usage"])
    except (typer.Abort, KeyboardInterrupt):
        code = 130
    except BrokenPipeError:
        # The reader of a pipe has gone, as `head` does; there is nobody to tell.
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        code = 0
    except PermissionError as error:
        code = _complain(os_text(error), EXIT_CODES["permission"])
    except OSError as error:
        code = _complain(os_text(error), EXIT_CODES["failed"])
    except Exception as error:
        code = _complain(f"something unexpected happened: {error!r}. Run it with BRASS_PEBBLE_DEBUG=1 for the details",
                         EXIT_CODES["failed"])
        if os.environ.get("BRASS_PEBBLE_DEBUG"):
            raise
    sys.exit(code)


def _complain(text: str, code: int) -> int:
    print(f"brass-pebble: {text}", file=sys.stderr)
    return code


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"brass-pebble {__version__}")
        raise typer.Exit


@app.callback()
def start(context: typer.Context, desk: DeskOption = None,
          version: Annotated[bool, typer.Option("--version", callback=_show_version, is_eager=True,
                                                help="show the version")] = False) -> None:
    """Open the screen on the running engine, or start one for as long as the screen is open."""
    if context.invoked_subcommand is not None:
        if desk is not None and not _takes_desk(context, context.invoked_subcommand):
            raise Failure(f"brass-pebble {context.invoked_subcommand} works on no desk that could be named. Leave "
                          "--desk out", "usage")
        return
    from brass_pebble.client import StartingEngine, running_sockets, start_engine
    _need_terminal()
    running = running_sockets()
    if desk is None and len(running) == 1:
        _open_screen(running[0])
        return
    folder = desk or paths.default_desk()
    if paths.socket_path(folder) in running:
        _open_screen(paths.socket_path(folder))
        return
    folder = _desk_folder(desk)
    options = ("--until-left", "--may-lack-output")
    starting = StartingEngine(folder, *options)
    try:
        _open_screen(starting.wait, restart=lambda: start_engine(folder, *options)[0])
    finally:
        _wait_for(starting.process)


def _takes_desk(context: typer.Context, name: str) -> bool:
    """Whether a command, or any of a group, has the option --desk."""
    waiting: list[Any] = [context.command.get_command(context, name)]  # type: ignore[attr-defined]
    while waiting:
        command = waiting.pop()
        if command is not None:
            if any(parameter.name == "desk" for parameter in command.params):
                return True
            waiting += list(getattr(command, "commands", {}).values())
    return False


def _desk_folder(desk: Path | None) -> Path:
    """The folder asked for; the default one is made if it is not there yet."""
    if desk is None:
        desk = paths.default_desk()
        if not desk.exists():
            from brass_pebble import file_access
            file_access.private_folder(desk)
            file_access.private_folder(desk / "macros")
            file_access.write_text(desk / "desk.toml", 'format = 1\nname = "My desk"\n')
    if not desk.is_dir():
        raise Failure(f"there is no folder {desk}. Make one with a desk.toml in it, or leave --desk out", "usage")
    return desk


def _need_terminal() -> None:
    if not sys.stdout.isatty():
        raise Failure("the screen needs a terminal. Use brass-pebble watch, or run it in a terminal window", "usage")


def _open_screen(socket: Path | Callable[[], Path], **options: Any) -> None:
    """Show the screen on an engine, or on one that is still starting while the screen is loaded."""
    import gc
    # Tens of thousands of objects are made, none of them garbage.
    gc.disable()
    if not sys.stderr.isatty():
        # The screen is drawn on this stream; what is told of errors may go to a file all the same.
        sys.__stderr__ = sys.__stdout__  # type: ignore[misc]
    from brass_pebble.screen.app import BrassPebbleApp
    failed = BrassPebbleApp(socket, **options).run()
    if isinstance(failed, Exception):
        raise failed


def _wait_for(process: Any) -> None:
    """Let an engine end by itself; insist after three seconds."""
    try:
        process.wait(timeout=3)
    except Exception:
        process.send_signal(signal.SIGTERM)
        process.wait(timeout=3)


@app.command()
def demo(headless: Annotated[bool, typer.Option("--headless", help="play the class without a screen")] = False,
         seconds: Annotated[float, typer.Option("--seconds", metavar="N", min=0.1,
                                                help="how long the headless class lasts")] = 60.0,
         fresh: Annotated[bool, typer.Option("--fresh", help="forget earlier changes of the demo's desk")] = False,
         ) -> None:
    """Try it without any hardware: a bakery's desk, simulated devices, a simulated program."""
    from brass_pebble.client import EngineClient, StartingEngine, start_engine
    from brass_pebble.demo import ENGINE_OPTIONS, demo_desk
    from brass_pebble.demo.history import seed_history
    if not headless:
        _need_terminal()
    desk = demo_desk(fresh=fresh)
    seed_history(desk)
    if paths.socket_path(desk) in _running():
        if headless:
            raise Failure("the demo is already open on another screen. Close that one first", "busy")
        _open_screen(paths.socket_path(desk))
        return
    starting = StartingEngine(desk, *ENGINE_OPTIONS)
    try:
        if headless:
            with EngineClient(starting.wait(), "demo") as client:
                client.ask("follow", topics=["trace", "script"])
                client.ask("script", run=True)
                _print_news(client, as_json=False, seconds=seconds)
        else:
            _open_screen(starting.wait, restart=lambda: start_engine(desk, *ENGINE_OPTIONS)[0])
    finally:
        _wait_for(starting.process)


def _running() -> list[Path]:
    from brass_pebble.client import running_sockets
    return running_sockets()


@app.command()
def run(desk: DeskOption = None,
        real_time: Annotated[bool, typer.Option("--real-time", help="stay on time beside programs that take every "
                                                "processor, if you may have that priority")] = False) -> None:
    """Run a desk without a screen, until Ctrl+C: its devices are taken over, its macros are sent."""
    from brass_pebble.engine.main import run_here
    raise typer.Exit(run_here(_desk_folder(desk), print, *["--real-time"] * real_time))


@app.command()
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
        print("No device is here that a surface could be made of. Plug one in; in a container, /dev/input and "
              "/sys/class/input must be there. brass-pebble demo works without any.")
    twins = {f.make for f in found if sum(g.make == f.make and not real_serial(f.serial) for g in found) > 1}
    for facts in found:
        notes = ["looks like a full keyboard"] if facts.full else []
        if facts.points:
            notes.append("one can point with it")
        if facts.make in twins:
            notes.append("has a twin, tell them apart by port")
        if not facts.readable:
            notes.append("you may not read it, see “Permissions” in the README")
        # JSON's way of writing texts is TOML's, too.
        rule = ", ".join(f"{name} = {show_hidden(json.dumps(value, ensure_ascii=False))}"
                         for name, value in facts.rule().fields)
        print(f"{facts.shown}\n    {facts.bus} {facts.vendor}:{facts.product}"
              f"{', serial ' + _plain(facts.serial) if facts.serial else ''}, {facts.can}"
              f"{'; ' + '; '.join(notes) if notes else ''}\n    device = {{ {rule} }}")
    print("\nbrass-pebble opens the screen; there, m tells which device is which, by pressing it.")


def _plain(text: str) -> str:
    """A text without characters that could steer the terminal or hide."""
    from brass_pebble.core.devices.identity import show_hidden
    return show_hidden(text)


@app.command()
def watch(as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Tell what every press leads to, as it happens, until Ctrl+C."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "watch") as client:
        client.ask("follow", topics=["trace"])
        if not as_json:
            print(f"Watching {client.hello['desk']}; Ctrl+C ends.", flush=True)
        _print_news(client, as_json=as_json, seconds=None)
    raise Failure("the engine has ended", "no engine")


def _print_news(client: Any, *, as_json: bool, seconds: float | None) -> None:
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


@app.command()
def play(name: Annotated[str, typer.Argument(metavar="NAME", help="the macro's file name or its name")],
         number: NumberOption = None, strength: StrengthOption = None, desk: DeskOption = None) -> None:
    """Play a macro on the running engine."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "brass-pebble play") as client:
        reply = client.ask("play", macro=name, **given_values(number, strength))
        if reply["why"]:
            print(reply["why"])


@app.command()
def stop(quit_engine: Annotated[bool, typer.Option("--quit", help="end the engine, too")] = False,
         desk: DeskOption = None) -> None:
    """Stop everything and release everything, at once."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "brass-pebble stop") as client:
        runs = client.ask("stop")["runs"]
        print(f"Stopped {runs} {'run' if runs == 1 else 'runs'}; nothing is down.")
        if quit_engine:
            client.ask("quit")
            with contextlib.suppress(Exception):
                client.ask("devices")
            print("The engine has ended.")


SurfaceArgument = Annotated[str, typer.Argument(metavar="[SURFACE]", help="a surface's id; all without it")]


@app.command()
def rest(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a surface type normally, as if the program were not there."""
    _set_state("rest", surface, desk)


@app.command()
def wake(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a resting surface command again."""
    _set_state("wake", surface, desk)


SecondsOption = Annotated[float, typer.Option("--for", metavar="SECONDS", help="how long it lasts")]


@app.command("hands-off")
def hands_off(surface: SurfaceArgument = "", desk: DeskOption = None, seconds: SecondsOption = 120.0) -> None:
    """Let presses of a surface, or of all, only select for a while: nothing is sent."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "brass-pebble hands-off") as client:
        for name, left in client.ask("hands_off", surface=surface, seconds=seconds)["surfaces"].items():
            print(f"{name}: hands off for {left / 1000:.0f} s")


@app.command("hands-on")
def hands_on(surface: SurfaceArgument = "", desk: DeskOption = None) -> None:
    """Let a surface, or all, command again."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "brass-pebble hands-on") as client:
        client.ask("hands_on", surface=surface)
    print("Presses command again.")


@app.command()
def release(desk: DeskOption = None) -> None:
    """Give every device back at once: everything stops, every surface rests."""
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "brass-pebble release") as client:
        client.ask("stop")
    _set_state("rest", "", desk)


def _set_state(do: str, surface: str, desk: Path | None) -> None:
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), f"brass-pebble {do}") as client:
        for name, state in client.ask(do, surface=surface)["states"].items():
            print(f"{name}: {state}")


@app.command()
def checkup(privacy: Annotated[bool, typer.Option("--privacy", help="every device that is open, and why")] = False,
            as_json: JsonOption = False, desk: DeskOption = None) -> None:
    """Say what is wrong on this machine, what that means, and the exact fix."""
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
    _tell_service(install(_desk_folder(desk)))


@service_app.command("remove")
def service_remove() -> None:
    """Stop the service and take it away."""
    from brass_pebble.machine.service import remove
    _tell_service(remove())


@service_app.command("status")
def service_status() -> None:
    """Whether the service is installed, and whether it runs."""
    from brass_pebble.machine.service import status
    _tell_service(status())


def _tell_service(outcome: Any) -> None:
    for sentence in outcome.said[:-1] if not outcome.ok else outcome.said:
        print(sentence)
    if not outcome.ok:
        raise Failure(outcome.said[-1], "failed")


if __name__ == "__main__":
    main()
