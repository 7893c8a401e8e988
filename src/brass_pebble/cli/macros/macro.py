"""The command line for macro files, which needs no engine: check, format, times, rehearse, chart."""

from __future__ import annotations

import contextlib
import json
import sys
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from brass_pebble.cli.help_list import OneLineEach
from brass_pebble.cli.shared import (
    EXIT_CODES,
    AnswerOption,
    Failure,
    JsonOption,
    NumberOption,
    SaidOption,
    StrengthOption,
    given_answers,
    given_values,
    os_text,
    tell_saved,
)
from brass_pebble.core.say.counts import say_count

from .names import copy, delete, rename

macro_app = typer.Typer(cls=OneLineEach, rich_markup_mode=None, pretty_exceptions_enable=False,
                        help="Macro files: check, format, rehearse, chart, rename, delete.")
for _command in (rename, copy, delete):
    macro_app.command()(_command)
STANDARD_INPUT = Path("-")


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.add_typer(macro_app, name="macro")


def _read_file(file: Path) -> tuple[Any, list[Any]]:
    from brass_pebble import file_access
    from brass_pebble.core.desk.read.desk import read_typing
    from brass_pebble.core.macro.reader import parse, read_macro
    from brass_pebble.core.say.limits import load_tables
    from brass_pebble.core.say.problem import Problem, ProblemError
    if file == STANDARD_INPUT:
        return read_macro(sys.stdin.read(), id="input", file="standard input")
    try:
        text = file_access.read_text(file)
    except UnicodeDecodeError as error:
        return None, [Problem(f"byte {error.start + 1} is not UTF-8", str(file), hint="Save the file as UTF-8")]
    except OSError as error:
        raise Failure(f"{os_text(error)}. Give the path of a .macro file", "usage") from None
    settings: dict[str, Any] = {}
    folder = file.resolve().parent
    desk = folder.parent / "desk.toml"
    if desk.is_file():
        import tomllib

        from brass_pebble.kinds.outputs.xkb import typist
        with contextlib.suppress(tomllib.TOMLDecodeError, OSError, UnicodeDecodeError, ProblemError):
            settings["tap"], settings["gap"], keyboard = read_typing(load_tables(file_access.read_text(desk)))
            settings["typist"] = typist(keyboard)
    others = {}
    for other in folder.glob("*.macro"):
        with contextlib.suppress(OSError, UnicodeDecodeError):
            others[other.stem] = parse(file_access.read_text(other), id=other.stem, file=str(other))
    return read_macro(text, id=file.stem, file=str(file), others=others, **settings)


@macro_app.command("check")
def macro_check(files: Annotated[list[Path], typer.Argument(metavar="FILE…", help="macro files; - reads the standard "
                                                             "input")], as_json: JsonOption = False) -> None:
    """Show what is wrong in macro files, by line and column."""
    wrong = 0
    for file in files:
        macro, problems = _read_file(file)
        for problem in problems:
            print(json.dumps({"file": problem.file, "line": problem.line, "column": problem.column,
                              "what": problem.what, "hint": problem.hint}, ensure_ascii=False) if as_json else problem)
        if as_json:
            wrong += bool(problems)
            continue
        wrong += bool(problems)
        if not problems:
            from brass_pebble.core.macro.renamed import old_words
            for hint in old_words(macro.source, str(file)):
                print(f"{hint}; brass-pebble macro format writes the new one")
            from brass_pebble.machine.abilities import beyond_here
            for beyond in beyond_here(macro, str(file)):
                print(beyond)
            from brass_pebble.core.say.durations import say_duration
            closest = macro.timetable.closest_pair()
            apart = f", the closest {say_duration(closest)} apart" if closest is not None else ""
            timetable = macro.timetable
            print(f"{file}: fine, {say_duration(timetable.length)}, "
                  f"{say_count(len(timetable.times), 'key event')}{apart}")
    if wrong:
        raise Failure(f"{wrong} of {len(files)} {'file has' if len(files) == 1 else 'files have'} mistakes",
                      "mistake in a file")


@macro_app.command("times")
def macro_times(file: Annotated[Path, typer.Argument(metavar="FILE")], as_json: JsonOption = False) -> None:
    """Show at which millisecond which key goes down and up."""
    from brass_pebble.core.effects.kinds import kind_of, tell
    macro, problems = _read_file(file)
    if problems:
        for problem in problems:
            print(problem, file=sys.stderr)
        raise Failure(f"{file} has mistakes, so it has no timetable", "mistake in a file")
    program = macro.timetable
    rows = zip(program.times, program.codes, program.values, program.lines, strict=True)
    for at, code, value, line in rows:
        if as_json:
            print(json.dumps({"ms": at / 1e6, "key": tell(code, value), "code": code,
                              "down": bool(value) and kind_of(code).holds, "line": line}))
        else:
            way = ("down" if value else "up") if kind_of(code).holds else ""
            print(f"{at / 1e6:12.3f} ms  {tell(code, value):14} {way:4}  line {line}")


@macro_app.command("format")
def macro_format(files: Annotated[list[Path], typer.Argument(metavar="FILE…")],
                 check: Annotated[bool, typer.Option("--check", help="only report, change nothing")] = False) -> None:
    """Write macro files in their usual form."""
    from brass_pebble import file_access
    from brass_pebble.core.macro.writer import format_macro
    from brass_pebble.core.say.problem import ProblemError
    wrong = changed = 0
    for file in files:
        try:
            text = file_access.read_text(file)
            tidy = format_macro(text)
        except ProblemError as error:
            wrong += 1
            print(replace(error.problem, file=str(file)))
            continue
        except UnicodeDecodeError as error:
            wrong += 1
            print(f"{file}: byte {error.start + 1} is not UTF-8. Save the file as UTF-8")
            continue
        if tidy != text:
            changed += 1
            if not check:
                file_access.write_text(file, tidy)
            print(f"{file}: {'would be tidied' if check else 'tidied'}")
    if wrong:
        raise Failure(f"{wrong} of {len(files)} {'file has' if len(files) == 1 else 'files have'} mistakes and "
                      "stayed as they are", "mistake in a file")
    if check and changed:
        raise typer.Exit(EXIT_CODES["failed"])


def _good_macro(file: Path) -> Any:
    macro, problems = _read_file(file)
    if problems:
        for problem in problems:
            print(problem, file=sys.stderr)
        raise Failure(f"{file} has mistakes", "mistake in a file")
    return macro


@macro_app.command("rehearse")
def macro_rehearse(file: Annotated[Path, typer.Argument(metavar="FILE")], as_json: JsonOption = False,
                   on: Annotated[str, typer.Option("--on", metavar="PROGRAM", help="a stage program's file name")] = "",
                   number: NumberOption = None, strength: StrengthOption = None, said: SaidOption = None,
                   answer: AnswerOption = None) -> None:
    """Play a macro into simulated programs, and show what landed.

    When, too, and what they did with it.
    """
    from brass_pebble.engine.runs.rehearsal import Rehearsed, rehearse_here
    from brass_pebble.kinds.outputs.stage import StageOutput, read_programs
    from brass_pebble.paths import DEMO_STAGE
    macro = _good_macro(file)
    known = sorted(path.stem for path in DEMO_STAGE.glob("*.toml"))
    if on and on not in known:
        raise Failure(f"there is no stage program “{on}”. Available: {', '.join(known)}", "usage")
    stage = StageOutput(read_programs(DEMO_STAGE, [on] if on else known))
    told: dict[int, dict[str, Any]] = {}

    def say(number: int, event: dict[str, Any]) -> None:
        told[number] = event

    rehearsal = rehearse_here(macro, stage, say, Rehearsed(given_values(number, strength, said), given_answers(answer)))
    for event in told.values():
        if as_json:
            print(json.dumps(event, ensure_ascii=False))
            continue
        reactions = "".join(f"   {'✓' if r['good'] else '✗'} {r['program']}: {r['text']}" for r in event["reactions"])
        print(f"{event['planned_ms']:10.1f} ms  landed {event['at_ms']:10.2f}  {event['what']:20}{reactions}")
    missed = sum(not r["good"] for event in told.values() for r in event["reactions"])
    trouble = f"; {rehearsal.trouble}" if rehearsal.trouble else ""
    print(f"{say_count(len(told), 'event')}, at most {rehearsal.late_ms():.2f} ms late, {missed} ignored or "
          f"refused{trouble}", file=sys.stderr)
    if missed or rehearsal.trouble:
        raise typer.Exit(EXIT_CODES["failed"])


@macro_app.command("chart")
def macro_chart(file: Annotated[Path, typer.Argument(metavar="FILE")],
                out: Annotated[Path, typer.Option("-o", "--output", metavar="FILE.svg|.pdf")]) -> None:
    """Draw a macro's lanes with their ruler, to print and share."""
    if out.suffix not in (".svg", ".pdf"):
        raise Failure(f"a chart is written as .svg or .pdf, not as {out.suffix or 'a file without an ending'}", "usage")
    from brass_pebble.core.macro.lanes import lanes_of
    from brass_pebble.core.macro.reader import link, parse
    from brass_pebble.paper.chart import chart_page
    from brass_pebble.paper.label_files import write_pages
    macro = _good_macro(file)
    draft = parse(macro.source, id=macro.id)
    link({macro.id: draft}, only=())
    draft.macro = macro
    page = chart_page(macro.name, lanes_of(draft), "its events depend on the press; shown for an ordinary one"
                      if macro.live else macro.note)
    tell_saved(write_pages([page], out, macro.name))


@macro_app.command("editor-grammar")
def macro_editor_grammar() -> None:
    """Print the grammar for text editors (a TextMate grammar)."""
    from importlib.resources import files
    print((files("brass_pebble.editors") / "brass-pebble-macro.tmLanguage.json").read_text(encoding="utf-8"), end="")
