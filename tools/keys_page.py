"""Write the guide's page of keys from the table of letters and the bindings of the screen."""

from __future__ import annotations

from pathlib import Path

from brass_pebble.screen.base.letters import letters_bound, read_letters

FILE = Path(__file__).parents[1] / "src" / "brass_pebble" / "guide" / "keys.md"
HEAD = """# Keys of the screen

A letter means one thing, in whichever view it is pressed. Small letters act on what is selected; capital letters lead
to a view or concern the whole desk. `?` lists all keys of a view, with those that are not letters; each row can be
clicked.

In every view: the arrows select, `Enter` does what is usual for the selection, `Esc` goes back, `Tab` goes to the
other side or the next surface, `Del` clears, `Ctrl+S` saves a file, `F5` looks again, and `F12` opens a keyboard to
click.

| key | meaning | what it does in the views that have it |
| --- | --- | --- |
"""


def _view(owner: type) -> str:
    said = str(getattr(owner, "NAME", "")) or owner.__name__
    return said.removesuffix("View").removesuffix("Panel").removesuffix("Sheet")


def page() -> str:
    """The whole page."""
    words: dict[str, dict[str, list[str]]] = {}
    for row in letters_bound():
        if row.words:
            views = words.setdefault(row.letter, {}).setdefault(row.words, [])
            name = _view(row.owner)
            if name and name not in views:
                views.append(name)
    rows = []
    for letter in read_letters():
        said = "; ".join(f"{text} ({', '.join(sorted(views))})" if views else text
                         for text, views in sorted(words.get(letter.letter, {}).items()))
        rows.append(f"| `{letter.letter}` | {letter.meaning} | {said} |\n")
    return HEAD + "".join(rows)


if __name__ == "__main__":
    FILE.write_text(page(), encoding="utf-8")
