"""The guide in the terminal: pages, recipes, and a recipe as a desk to begin with."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Annotated

import typer

from .desk_folders import make_desk
from .shared import Failure, os_text


def add_to(app: typer.Typer) -> None:
    """Make this command part of the program's."""
    app.command("help")(show)


def show(page: Annotated[str, typer.Argument(metavar="[PAGE]", help="a page, or “recipes”; their list without "
                                             "it")] = "",
         recipe: Annotated[str, typer.Argument(metavar="[RECIPE]", help="one of the recipes")] = "",
         copy: Annotated[Path | None, typer.Option("--copy", metavar="DIR", help="make a desk of the recipe in a new "
                                                   "folder")] = None) -> None:
    """Read pages that teach, and recipes to begin with."""
    from brass_pebble.guide import pages, recipes
    if copy is not None and not recipe:
        raise Failure("name the recipe to copy: brass-pebble help recipes NAME --copy DIR", "usage")
    if not page:
        _show("\n".join(["# Brass Pebble", "", "Read a page with `brass-pebble help PAGE`:", "",
                         *(f"- `{found.id}`: {found.title}" for found in pages()),
                         "- `recipes`: small desks to begin with", ""]))
    elif page == "recipes":
        _recipes(recipe, copy)
    else:
        from brass_pebble.core.say.problem import nearest
        known = {found.id: found for found in pages()}
        # A recipe is found by its name alone, too.
        if page in {found.id for found in recipes()}:
            _recipes(page, copy)
        elif page not in known:
            near = nearest(page, [*known, "recipes"]) or f"Available: {', '.join(known)}, recipes"
            raise Failure(f"there is no page “{page}”. {near}", "usage")
        else:
            _show(known[page].text)


def _recipes(name: str, copy: Path | None) -> None:
    from brass_pebble import file_access
    from brass_pebble.core.say.problem import nearest
    from brass_pebble.guide import recipes
    known = {found.id: found for found in recipes()}
    if not name:
        whom = sorted({found.whom for found in known.values()})
        lines = ["# Recipes", "", "Each is a whole desk. Show one with `brass-pebble help recipes NAME`, begin with it "
                 "by `--copy DIR`, and try it without hardware by `brass-pebble demo --desk DIR`.", ""]
        for group in whom:
            lines += [f"## For {group}" if group != "everybody" else "## For everybody", "",
                      *(f"- `{found.id}`: {found.title}" for found in known.values() if found.whom == group), ""]
        _show("\n".join(lines))
        return
    if name not in known:
        raise Failure(f"there is no recipe “{name}”. {nearest(name, known) or 'brass-pebble help recipes lists them'}",
                      "usage")
    if copy is None:
        _show(known[name].page())
        return
    make_desk(copy, known[name].title)
    try:
        for file in known[name].files():
            target = copy / file.relative_to(known[name].folder)
            file_access.private_folder(target.parent)
            file_access.write_text(target, file.read_text(encoding="utf-8"))
    except OSError as error:
        raise Failure(f"the desk cannot be made: {os_text(error)}", "failed") from None
    print(f"Made a desk in {copy}. Its devices are named after the sample's: choose yours with M on the screen.")
    print(f"Open it with: brass-pebble --desk {copy}")
    print(f"Try it without hardware with: brass-pebble demo --desk {copy}")


def _show(text: str) -> None:
    """In a terminal set out and page by page, else as it is written."""
    if not sys.stdout.isatty():
        print(text)
        return
    from rich.console import Console
    from rich.markdown import Markdown
    console = Console()
    with console.pager(styles=True):
        console.print(Markdown(text))
