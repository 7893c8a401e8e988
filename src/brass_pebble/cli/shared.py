"""What the parts of the command line share: exit codes, options, and the way to fail in a sentence."""

from __future__ import annotations

import re
import sys
from pathlib import Path
from typing import Annotated, Any

import typer

EXIT_CODES = {
    "ok": 0, "failed": 1, "usage": 2, "no engine": 3, "permission": 4, "busy": 5, "mistake in a file": 6,
}


def _inherit(context: typer.Context, value: Path | None) -> Path | None:
    """--desk counts for a command wherever it stands: behind the command, or before it."""
    root = context.find_root()
    before = root.params.get("desk")
    if value is not None and isinstance(before, Path) and before.resolve() != value.resolve():
        raise typer.BadParameter(f"two desks are named, {before} and {value}. Name one")
    if value is None and isinstance(before, Path):
        return before
    return value


DeskOption = Annotated[Path | None, typer.Option("--desk", metavar="DIR", help="the desk's folder",
                                                 callback=_inherit)]
YesOption = Annotated[bool, typer.Option("--yes", help="do not ask")]
JsonOption = Annotated[bool, typer.Option("--json", help="one JSON object a line")]
NumberOption = Annotated[int | None, typer.Option("--number", metavar="N", help="the number that the macro is given")]
StrengthOption = Annotated[int | None, typer.Option("--strength", metavar="N", min=0, max=127,
                                                    help="how hard it was pressed, 0 to 127")]

SaidOption = Annotated[str | None, typer.Option("--said", metavar="TEXT", help="the words that the macro is given")]
AnswerOption = Annotated[list[str] | None, typer.Option("--answer", metavar="NAME=TEXT", help="the answer to what the "
                                                        "macro would ask, by the value's name; several times")]


class PlainText:
    """A stream on which nothing that a file, a device or a stranger said can steer the terminal or hide."""

    def __init__(self, stream: Any) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Write, with what cannot be seen written out."""
        if not text.isprintable():
            text = "".join(part if part in "\n\t" or part.isprintable() else _show(part)
                           for part in _PIECES.findall(text))
        written: int = self._stream.write(text)
        return written

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


_PIECES = re.compile(r"[^\S ]|[^\n\t]+")


def _show(text: str) -> str:
    from brass_pebble.core.devices.identity import show_hidden
    return show_hidden(text)


class BeginAgain(Exception):
    """The program ends what it does, and begins again with other words of its command line."""

    def __init__(self, words: tuple[str, ...]) -> None:
        super().__init__(*words)
        self.words = words


class Failure(Exception):
    """Ends the program with a sentence and an exit code."""

    def __init__(self, text: str, code: str) -> None:
        super().__init__(text)
        self.code = EXIT_CODES[code]


def os_text(error: OSError) -> str:
    """An error of the system in words."""
    return f"{error.filename}: {error.strerror}" if error.filename else str(error)


def tell_saved(saved: Any, *, beside: bool = False) -> None:
    """Which files were written, `beside` what the standard output is for; and what a person should know of them."""
    for note in saved.notes:
        print(f"  ! {note}", file=sys.stderr)
    for file in saved.files:
        print(f"Saved {file}.", file=sys.stderr if beside else sys.stdout)


def given_values(number: int | None, strength: int | None, said: str | None = None) -> dict[str, int | str]:
    """What a person gives in place of a press."""
    given: tuple[tuple[str, int | str | None], ...] = (("number", number), ("strength", strength), ("said", said))
    return {name: value for name, value in given if value is not None}


def given_answers(answers: list[str] | None) -> dict[str, str]:
    """Answers that were given beforehand, by the value's name.

    Raises:
        Failure: one is not written as NAME=ANSWER.
    """
    found = {}
    for answer in answers or ():
        name, sign, text = answer.partition("=")
        if not sign or not name:
            raise Failure(f"“{answer}” names no value. Write --answer guest=Ada", "usage")
        found[name.strip()] = text
    return found


def make_sure(question: str, *, yes: bool) -> None:
    """Ask before something that cannot be undone.

    Raises:
        Failure: the person does not want it, or nobody can be asked.
    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise Failure(f"{question} This cannot be undone, so it wants --yes", "usage")
    if not typer.confirm(f"{question} This cannot be undone", default=False):
        raise Failure("nothing was done", "failed")


def desk_in_use(desk: Path | None) -> Path:
    """The desk's folder that is meant: the one named, that of the only engine that runs, or the usual one.

    Raises:
        Failure: there is no such folder.
    """
    from brass_pebble import paths
    if desk is None:
        from brass_pebble.client import EngineClient, EngineError, find_engine
        try:
            with EngineClient(find_engine(None)) as client:
                return Path(client.hello["folder"])
        except EngineError as error:
            if error.code == "several":
                raise
        desk = paths.default_desk()
    if not (desk / "desk.toml").is_file():
        raise Failure(f"there is no desk in {desk}. Make an empty one with: brass-pebble desk new {desk}", "usage")
    return desk


def read_desk_folder(folder: Path) -> Any:
    """The desk in a folder, read without an engine; what is wrong with it is told.

    Raises:
        Failure: desk.toml cannot be read at all.
    """
    loaded = open_store(folder).load()
    if not loaded.ok:
        raise Failure(str(loaded.problems[0]), "mistake in a file")
    for problem in loaded.problems:
        print(f"! {problem}", file=sys.stderr)
    return loaded.desk


def open_store(folder: Path) -> Any:
    """The store of a desk's files."""
    from brass_pebble import paths
    from brass_pebble.engine.disk.store import DeskStore
    return DeskStore(folder, paths.state_folder() / "versions" / paths.desk_key(folder), paths.user_layouts(),
                     paths.approvals_file(folder))
