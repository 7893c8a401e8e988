"""The command line.  docs/command-line.md is its reference; exit codes stand there and in `EXIT_CODES`."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Sequence
from importlib import import_module
from typing import Annotated, Any

import typer

from brass_pebble import __version__

from .help_list import OneLineEach
from .shared import EXIT_CODES, BeginAgain, DeskOption, Failure, PlainText, os_text

_CODE_OF = {"none": "no engine", "gone": "no engine", "several": "usage"}
_EPILOG = "Exit codes: " + ", ".join(f"{code} {name}" for name, code in EXIT_CODES.items())

# Which file has which commands: only that one is loaded when a command is named.
PARTS = {
    "running": ("watch", "play", "stop", "rest", "wake", "keep", "release", "hands-off", "hands-on"),
    "opening": ("demo", "run"),
    "layers": ("focus", "layer", "clashes", "programs"),
    "motion": ("sessions", "curve", "ports"),
    "macros.macro": ("macro",), "macros.questions": ("questions", "answer"), "macros.kept": ("values",),
    "desk": ("desk",),
    "paper": ("labels", "map", "glance"),
    "usage": ("usage",),
    "machine": ("devices", "checkup", "service"),
    "setup": ("setup",),
    "secret": ("secret",), "asking": ("ask",), "guide": ("help",),
    "line_by_line": ("take", "bind", "unbind", "write", "undo", "redo"),
}
# How --help lists them; every command stands once.
GROUPS = {
    "Run and stop": ("demo", "run", "service", "play", "watch", "questions", "answer", "stop", "rest", "wake",
                     "keep", "release", "hands-off", "hands-on"),
    "Change the desk": ("desk", "take", "bind", "unbind", "layer", "macro", "write", "values", "programs", "secret",
                        "undo", "redo"),
    "Look and print": ("glance", "map", "labels", "usage", "clashes", "curve", "focus", "ask"),
    "This machine": ("help", "checkup", "setup", "devices", "ports", "sessions"),
}
# The shell sets this when it asks how a word could end.
COMPLETES = "_BRASS_PEBBLE_COMPLETE"


class Grouped(OneLineEach):
    """The whole command line's list."""

    headings = GROUPS


def command_line(words: Sequence[str] = ()) -> typer.Typer:
    """The command line; of the command that `words` begin with, if they do, that one alone."""
    # What the shell asks for completions by costs time that no other command should pay.
    completes = not words or words[0].startswith("-") or COMPLETES in os.environ
    app = typer.Typer(add_completion=completes, cls=Grouped, invoke_without_command=True,
                      pretty_exceptions_enable=False, rich_markup_mode=None, epilog=_EPILOG,
                      help="Spare keyboards, pedals and pads as command surfaces for timed keystroke macros.")
    app.callback()(start)
    wanted = words[0] if words else ""
    named = [part for part, known in PARTS.items() if wanted in known]
    for part in named or PARTS:
        import_module(f"brass_pebble.cli.{part}").add_to(app)
    if named:
        app.registered_commands = [info for info in app.registered_commands if name_of(info) == wanted]
        app.registered_groups = [info for info in app.registered_groups if info.name == wanted]
    return app


def name_of(info: Any) -> str:
    """The word of a command."""
    return str(info.name or info.callback.__name__)


# The common ancestor of everything that can be wrong with a command line, wherever typer keeps it.
_UsageError: Any = typer.BadParameter.__mro__[2]


def main() -> None:
    """The program's entry: no stack trace ever reaches the person."""
    from brass_pebble.client import EngineError, StartError
    code = 0
    again: tuple[str, ...] = ()
    for stream, instead in ((sys.stdout, "replace"), (sys.stderr, "backslashreplace")):
        # A terminal or a pipe that knows no such letter gets another one, and no crash.
        with contextlib.suppress(AttributeError, ValueError):
            stream.reconfigure(errors=instead)  # type: ignore[union-attr]
    sys.stdout, sys.stderr = PlainText(sys.stdout), PlainText(sys.stderr)
    try:
        result = command_line(sys.argv[1:])(standalone_mode=False)
        code = result if isinstance(result, int) else 0
    except Failure as failure:
        code = _complain(str(failure), failure.code)
    except EngineError as error:
        code = _complain(str(error), EXIT_CODES[_CODE_OF.get(error.code, "failed")])
    except StartError as error:
        code = _complain(str(error), error.code)
    except typer.Exit as error:
        code = error.exit_code
    except BeginAgain as begin:
        again = begin.words
    except _UsageError as error:
        code = _complain(f"{error.format_message().rstrip('.')}. Try: {_path_of(error)} --help", EXIT_CODES["usage"])
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
    if again:
        os.execv(sys.executable, [sys.executable, "-m", "brass_pebble", *again])
    sys.exit(code)


def _path_of(error: Any) -> str:
    """The command that was called, as far as it was known: brass-pebble desk check."""
    context = getattr(error, "ctx", None)
    words = context.command_path.split()[1:] if context is not None else []
    return " ".join(("brass-pebble", *words))


def _complain(text: str, code: int) -> int:
    print(f"brass-pebble: {text}", file=sys.stderr)
    return code


def _show_version(wanted: bool) -> None:
    if wanted:
        print(f"brass-pebble {__version__}")
        raise typer.Exit


def start(context: typer.Context, desk: DeskOption = None,
          version: Annotated[bool, typer.Option("--version", callback=_show_version, is_eager=True,
                                                help="show the version")] = False) -> None:
    """Open the screen on the running engine, or start one for as long as the screen is open."""
    if context.invoked_subcommand is not None:
        if desk is not None and not _takes_desk(context, context.invoked_subcommand):
            raise Failure(f"brass-pebble {context.invoked_subcommand} works on no desk that could be named. Leave "
                          "--desk out", "usage")
        return
    from .opening import open_usual
    open_usual(desk)


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


if __name__ == "__main__":
    main()
