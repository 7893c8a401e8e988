"""Makes the tables of settings in docs/desk-files.md of what is declared; with --check, only compares."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from brass_pebble.core.desk.binding import Binding
from brass_pebble.core.desk.model import Desk, Layer, NetworkSettings, Surface
from brass_pebble.core.play.axis import AxisSettings
from brass_pebble.core.say.setting import Setting, settings_of
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import Phrase

PAGE = Path(__file__).parent.parent / "docs" / "desk-files.md"
BEGIN, END = "<!-- settings: made by tools/settings_page.py -->\n", "<!-- end of settings -->\n"
PARTS = {
    "Of the desk, at the top of the file": Desk,
    "Of the network, in `[network]`": NetworkSettings,
    "Of a surface, in `[surface.NAME]`": Surface,
    "Of a layer, in `[surface.NAME.layer.LAYER]`": Layer,
    "Of a binding, in its braces": Binding,
    "Of an axis, in `[surface.NAME.axis.CONTROL]`": AxisSettings,
    "Of a microphone, in `[surface.NAME.listening]`": Listening,
    "Of a phrase, in `[surface.NAME.phrase.PHRASE]`": Phrase,
}


def _default(row: Setting) -> str:
    usual = row.kind.write(sorted(row.default) if isinstance(row.default, frozenset) else row.default) \
        if row.default is not None else ""
    if usual in ("", [], "0ms", False):
        return ""
    return f"`\"{usual}\"`" if isinstance(usual, str) else f"`{str(usual).lower()}`"


def table() -> str:
    """Every setting: its name, what it may be, what it is without it, and what it does."""
    lines = []
    for title, model in PARTS.items():
        lines += [f"### {title}", "", "| setting | is | without it | what it does |", "|---|---|---|---|"]
        lines += [f"| `{row.name}` | {row.kind.describe()} | {_default(row)} | {row.means} |"
                  for row in settings_of(model).values()]
        lines.append("")
    return "\n".join(lines)


def page(text: str) -> str:
    """The page with its tables made anew."""
    return re.sub(re.escape(BEGIN) + ".*?" + re.escape(END), lambda _: f"{BEGIN}\n{table()}\n{END}", text, flags=re.S)


def main() -> int:
    text = PAGE.read_text(encoding="utf-8")
    now = page(text)
    if "--check" in sys.argv:
        return int(now != text)
    PAGE.write_text(now, encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
