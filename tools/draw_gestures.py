"""Draws the gesture recogniser from its table: docs/gestures.svg, and the table in docs/gestures.md.

`--check` changes nothing and fails if they are not what the table says.
"""

from __future__ import annotations

import sys
from html import escape
from pathlib import Path

from brass_pebble.core.play.gesture import AGAIN, DOWN, HELD, STATES, TABLE, UP, USED, WAITING, Rule

DOCS = Path(__file__).parent.parent / "docs"
BEGIN, END = "<!-- table: made by tools/draw_gestures.py -->", "<!-- end of the table -->"
# Where each state stands, and how arrows bend: (from, to) → offset of the middle, and of the words.
AT = {UP: (110, 290), DOWN: (430, 290), HELD: (430, 150), USED: (430, 430), WAITING: (850, 290), AGAIN: (850, 430)}
BEND = {(UP, DOWN): (0, -40), (DOWN, UP): (0, 40), (DOWN, WAITING): (0, 0), (DOWN, HELD): (0, 0), (DOWN, USED): (0, 0),
        (HELD, UP): (-40, -40), (USED, UP): (-40, 40), (WAITING, AGAIN): (0, 0), (WAITING, UP): (0, -460),
        (AGAIN, UP): (0, 330)}
WIDE, HIGH = 130, 44


def words(rules: list[Rule]) -> list[str]:
    """What stands on an arrow: rules that differ only in what happens share a line."""
    alike: dict[tuple[object, ...], list[str]] = {}
    for rule in rules:
        alike.setdefault((rule.wants, rule.makes, rule.timer), []).append(rule.event)
    lines = []
    for (wants, makes, timer), events in alike.items():
        asked = f" [{', '.join(wants)}]" if wants else ""  # type: ignore[arg-type]
        made = f" → {', '.join(makes)}" if makes else ""  # type: ignore[arg-type]
        lines.append(f"{', '.join(events)}{asked}{made}{f', starts {timer}' if timer else ''}")
    return lines


def svg() -> str:
    """The drawing."""
    parts = ['<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 980 600" font-family="sans-serif" font-size="11">',
             '<defs><marker id="tip" viewBox="0 0 8 8" refX="8" refY="4" markerWidth="8" markerHeight="8" '
             'orient="auto"><path d="M0 0L8 4L0 8z" fill="#6d7883"/></marker></defs>',
             '<rect width="980" height="600" fill="#f3f0e8"/>']
    arrows: dict[tuple[str, str], list[Rule]] = {}
    for rule in TABLE:
        arrows.setdefault((rule.state, rule.to), []).append(rule)
    for (here, there), rules in arrows.items():
        (x, y), (to_x, to_y), (dx, dy) = AT[here], AT[there], BEND[here, there]
        middle_x, middle_y = (x + to_x) / 2 + dx, (y + to_y) / 2 + dy
        start, end = _edge(AT[here], (middle_x, middle_y)), _edge(AT[there], (middle_x, middle_y))
        way = f"M{start[0]:.0f} {start[1]:.0f}Q{middle_x:.0f} {middle_y:.0f} {end[0]:.0f} {end[1]:.0f}"
        parts.append(f'<path d="{way}" fill="none" stroke="#6d7883" stroke-width="1.4" marker-end="url(#tip)"/>')
        # The curve passes half-way between its control point and the straight line.
        text_x, text_y = (x + to_x) / 4 + middle_x / 2, (y + to_y) / 4 + middle_y / 2
        lines = words(rules)
        for index, line in enumerate(lines):
            row = text_y + (index - (len(lines) - 1) / 2) * 14 + (-8 if dy < 0 else 14 if dy > 0 else 0)
            parts.append(f'<text x="{text_x:.0f}" y="{row:.0f}" text-anchor="middle" fill="#22262a" stroke="#f3f0e8" '
                         f'stroke-width="3" paint-order="stroke">{escape(line)}</text>')
    for state, (x, y) in AT.items():
        parts.append(f'<rect x="{x - WIDE / 2}" y="{y - HIGH / 2}" width="{WIDE}" height="{HIGH}" rx="12" '
                     'fill="#e9e4d8" stroke="#8f6210" stroke-width="2"/>'
                     f'<text x="{x}" y="{y + 5}" text-anchor="middle" font-weight="bold" font-size="15" '
                     f'fill="#22262a">{escape(state)}</text>')
    return "\n".join([*parts, "</svg>\n"])


def _edge(centre: tuple[float, float], towards: tuple[float, float]) -> tuple[float, float]:
    """Where a line from the centre of a box leaves it."""
    dx, dy = towards[0] - centre[0], towards[1] - centre[1]
    scale = min(WIDE / 2 / abs(dx) if dx else 9e9, HIGH / 2 / abs(dy) if dy else 9e9)
    return centre[0] + dx * min(scale, 1), centre[1] + dy * min(scale, 1)


def table() -> str:
    """The table as text."""
    lines = ["| state | what happens | if bound | then | gestures made | time started |",
             "| --- | --- | --- | --- | --- | --- |"]
    lines += [f"| {rule.state} | {rule.event} | {', '.join(rule.wants) or '–'} | {rule.to} | "
              f"{', '.join(rule.makes) or '–'} | {rule.timer or '–'} |" for rule in TABLE]
    lines += ["", "| state | means |", "| --- | --- |", *(f"| {state} | {means} |" for state, means in STATES.items())]
    return "\n".join(lines)


def main() -> int:
    """Write both, or check them."""
    page, drawing = DOCS / "gestures.md", DOCS / "gestures.svg"
    text = page.read_text(encoding="utf-8")
    before, rest = text.split(BEGIN)
    made = f"{before}{BEGIN}\n{table()}\n{END}{rest.split(END)[1]}"
    if "--check" in sys.argv:
        current = made == text and drawing.read_text(encoding="utf-8") == svg()
        print("as the table says" if current else "not as the table says: run tools/draw_gestures.py")
        return 0 if current else 1
    page.write_text(made, encoding="utf-8")
    drawing.write_text(svg(), encoding="utf-8")
    return 0


if __name__ == "__main__":
    sys.exit(main())
