"""The guide: every recipe does what it says, pages name what there is, and the site's links lead somewhere."""

from __future__ import annotations

import ast
import importlib.util
import re
import shlex
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from brass_pebble.cli.main import command_line
from brass_pebble.client import EngineClient, start_engine
from brass_pebble.guide import FOLDER, GuidePage, Recipe, pages, recipes
from brass_pebble.screen.desk.view import DeskView
from conftest import run, run_cli

ROOT = Path(__file__).parent.parent


def do(client: EngineClient, recipe: Recipe, words: list[str]) -> None:
    """One thing that a person does with a recipe: `press 7`, `down left`, `say "new page"`, `turn knob 2` …"""
    what, *rest = words
    if what == "wait":
        time.sleep(int(rest[0].removesuffix("ms")) / 1000)
        return
    if what == "play":
        client.ask("play", macro=rest[0], number=int(rest[1]))
        return
    if what == "say":
        heard = next(row["surface"] for row in client.ask("voices")["voices"])
        client.ask("say", surface=heard, words=rest[0])
        return
    surface, _, control = rest[0].rpartition("/")
    surface = surface or next(row["id"] for row in client.ask("desk")["desk"]["surfaces"]
                              if any(cap["id"] == control for cap in row["controls"]))
    at = {"surface": surface, "control": control}
    if what in ("turn", "move", "push"):
        how = {"steps": int(rest[1])} if what == "turn" else {"to": [float(place) for place in rest[1:]]}
        client.ask("move", **at, **how)
        return
    strength = {"strength": int(rest[1])} if what == "strike" else {}
    if what != "up":
        client.ask("press", **at, **strength)
    if what != "down":
        client.ask("press", **at, down=False)


@pytest.mark.parametrize("recipe", recipes(), ids=lambda recipe: recipe.id)
def test_a_recipe_does_what_it_says(recipe: Recipe, tmp_path: Path) -> None:
    folder = tmp_path / "desk"
    assert run("help", "recipes", recipe.id, "--copy", str(folder)) == 0
    assert run("desk", "check", str(folder)) == 0
    assert recipe.tries and recipe.whom and len(recipe.about) > 60
    socket, process = start_engine(folder, "--on-bench", "--until-left")
    try:
        with EngineClient(socket, "test") as client:
            client.set_timeout(10)
            for doing, says in recipe.tries:
                # A press that lets go what an earlier one holds is told in that one's trace.
                before = max(0, len(client.ask("traces")["traces"]) - 2)
                for part in doing.split(","):
                    do(client, recipe, shlex.split(part))
                if says:
                    def told(before: int = before) -> str:
                        return "\n".join(trace["sentence"] for trace in client.ask("traces")["traces"][before:])
                    end = time.monotonic() + 5
                    while says not in told():
                        assert time.monotonic() < end, f"{doing} → {says}\nbut: {told()}"
                        time.sleep(0.02)
            client.ask("stop")
            assert not client.ask("desk")["desk"].get("problems")
    finally:
        process.send_signal(signal.SIGTERM)
        assert process.wait(timeout=10) == 0


def test_there_are_recipes_for_everybody() -> None:
    assert len(recipes()) >= 30
    assert {recipe.whom for recipe in recipes()} == {"streamer", "editor", "player", "musician", "one hand",
                                                     "one switch", "everybody", "scripting"}


@pytest.mark.parametrize("page", pages(), ids=lambda page: page.id)
def test_a_page_names_only_what_there_is(page: GuidePage) -> None:
    known = {recipe.id for recipe in recipes()}
    # What stands in brackets or alone in a cell, with hyphens, is the name of a recipe.
    named = set(re.findall(r"\(`([a-z-]{3,})`\)|\| `([a-z]+-[a-z-]+)` \|", page.text))
    assert {a or b for a, b in named} <= known
    commands = command_line().registered_commands
    groups = {group.name for group in command_line().registered_groups}
    names = {command.name or (command.callback.__name__ if command.callback else "") for command in commands} | groups
    for command in re.findall(r"(?:`|\n|sudo )brass-pebble ([a-z][a-z-]+)", page.text):
        assert command in names, command
    # Keys of the desk.
    keys = {binding.key for binding in DeskView.BINDINGS if not isinstance(binding, tuple)}
    if page.id in ("streamer", "not-working"):
        for key in re.findall(r"(?<![\w`])`([a-z])`(?! in)", page.text):
            assert key in keys | {"e"}, key
    for link in re.findall(r"\]\((?!http)([^)#]+)", page.text):
        assert (FOLDER / link).exists(), link


def test_the_page_of_troubles_has_every_finding() -> None:
    spec = importlib.util.spec_from_file_location("findings_page", ROOT / "tools" / "findings_page.py")
    assert spec is not None and spec.loader is not None
    tool = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(tool)
    assert tool.page() == tool.PAGE.read_text(), "run tools/findings_page.py"
    calls = [node for node in ast.walk(ast.parse(tool.SOURCE.read_text())) if isinstance(node, ast.Call)
             and isinstance(node.func, ast.Name) and node.func.id == "Finding"]
    assert 15 <= len(tool.rows()) <= len(calls)


def test_help_in_the_terminal() -> None:
    listed = run_cli("help")
    assert listed.returncode == 0 and all(page.id in listed.stdout for page in pages())
    assert "# First pad in ten minutes" in run_cli("help", "first-pad").stdout
    shown = run_cli("help", "recipes", "cough")
    assert "Ctrl+Shift+M" in shown.stdout and "Try:" not in shown.stdout
    assert run_cli("help", "cough").stdout == shown.stdout
    wrong = run_cli("help", "steamer")
    assert wrong.returncode == 2 and "Did you mean streamer?" in wrong.stderr
    assert run_cli("help", "recipes", "caugh").returncode == 2
    there = run_cli("help", "recipes", "cough", "--copy", str(FOLDER))
    assert there.returncode == 2 and "is not empty" in there.stderr


def test_the_site_is_built_and_every_link_leads_somewhere(tmp_path: Path) -> None:
    built = subprocess.run([sys.executable, str(ROOT / "tools" / "site.py"), str(tmp_path / "site")],
                           capture_output=True, text=True, check=False, timeout=120)
    assert built.returncode == 0, built.stdout + built.stderr
    home = (tmp_path / "site" / "index.html").read_text()
    assert "First pad in ten minutes" in home
    assert (tmp_path / "site" / "recipes" / "cough.html").exists()
