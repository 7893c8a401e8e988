"""The guide: pages that teach, and recipes to begin with.  Shipped with the program and read in the terminal."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

FOLDER = Path(__file__).parent
RECIPES = FOLDER / "recipes"
# In the order in which they are read.
PAGES = ("first-pad", "streamer", "editor", "player", "musician", "voice", "few-movements", "accessibility",
         "not-working", "scripting", "keys")


@dataclass(frozen=True)
class GuidePage:
    """One page in Markdown."""

    id: str
    title: str
    text: str


@dataclass(frozen=True)
class Recipe:
    """A small desk to begin with; `tries` are what can be done with it, and what its trace then says."""

    id: str
    title: str
    whom: str
    about: str
    tries: tuple[tuple[str, str], ...]
    folder: Path

    def files(self) -> list[Path]:
        """Its files, the desk first."""
        return [self.folder / "desk.toml", *sorted(self.folder.glob("macros/*.macro")),
                *sorted(self.folder.glob("programs/*.toml"))]

    def page(self) -> str:
        """The recipe in Markdown, with its files."""
        lines = [f"# {self.title}", "", self.about, "", f"For: {self.whom}", ""]
        for file in self.files():
            text = file.read_text(encoding="utf-8")
            if file.name == "desk.toml":
                text = "\n".join(line for line in text.splitlines() if not line.startswith("# ")) + "\n"
            lines += [f"`{file.relative_to(self.folder)}`", "", "```", text.rstrip(), "```", ""]
        return "\n".join(lines)


def pages() -> list[GuidePage]:
    """All pages."""
    found = []
    for name in PAGES:
        text = (FOLDER / f"{name}.md").read_text(encoding="utf-8")
        found.append(GuidePage(name, text.splitlines()[0].lstrip("# "), text))
    return found


def recipes() -> list[Recipe]:
    """All recipes, by their titles."""
    return sorted((_recipe(folder) for folder in RECIPES.iterdir() if (folder / "desk.toml").exists()),
                  key=lambda recipe: recipe.title.lower())


def _recipe(folder: Path) -> Recipe:
    """What the remarks at the head of its desk say: title, whom it is for, what it is, what can be tried."""
    remarks = []
    for line in (folder / "desk.toml").read_text(encoding="utf-8").splitlines():
        if not line.startswith("# "):
            break
        remarks.append(line[2:])
    title, whom, *rest = remarks
    tries = tuple((doing.strip(), says.strip()) for line in rest if line.startswith("Try: ")
                  for doing, _, says in [line.removeprefix("Try: ").partition("→")])
    about = " ".join(line for line in rest if not line.startswith("Try: "))
    return Recipe(folder.name, title, whom.removeprefix("For: "), about, tries, folder)
