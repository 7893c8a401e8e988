"""Writes what checkup can say into the guide: one row for each finding that is not well, read from its source."""

from __future__ import annotations

import ast
import re
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src/brass_pebble/machine/checkup.py"
PAGE = ROOT / "src/brass_pebble/guide/not-working.md"
MARK = "<!-- findings: made by tools/findings_page.py -->"


def _said(node: ast.expr | None, known: dict[str, str]) -> str:
    """A text as it is written in the source; what is only known when it runs is “…”."""
    if isinstance(node, ast.Constant):
        return str(node.value)
    if isinstance(node, ast.Name):
        return known.get(node.id, "…")
    if isinstance(node, ast.JoinedStr):
        return "".join(_said(part, known) if isinstance(part, ast.Constant) else "…" for part in node.values)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        return _said(node.left, known) + _said(node.right, known)
    return "…"


def rows() -> list[tuple[str, str, str]]:
    """What it is about, what is said, and the next step, of every finding that is not well."""
    tree = ast.parse(SOURCE.read_text(encoding="utf-8"))
    known = {target.id: node.value.value for node in tree.body if isinstance(node, ast.Assign)
             for target in node.targets if isinstance(target, ast.Name) and isinstance(node.value, ast.Constant)}
    found = []
    for call in ast.walk(tree):
        if not (isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id == "Finding"):
            continue
        about, state, means = call.args[:3]
        if isinstance(state, ast.Name) and state.id == "GOOD":
            continue
        fix = _said(call.args[3], known) if len(call.args) > 3 else ""
        found.append((call.lineno, _said(about, known), _said(means, known), fix))
    return [row[1:] for row in sorted(found) if row[2].strip("….: ")]


def table() -> str:
    """The rows as Markdown."""
    def cell(text: str) -> str:
        return re.sub("…+", "…", text).replace(", …", "").replace("|", "\\|").replace("\n", " ")
    lines = ["| subject | what it says | next step |", "|---|---|---|"]
    for about, means, fix in rows():
        subject = "the surface’s name" if about == "…" else about.replace(" …", "").replace("…, ", "a device, ")
        lines.append(f"| {cell(subject)} | {cell(means)} | {cell(fix)} |")
    return "\n".join(lines)


def page() -> str:
    """The page with its table."""
    return PAGE.read_text(encoding="utf-8").partition(MARK)[0] + f"{MARK}\n{table()}\n"


if __name__ == "__main__":
    PAGE.write_text(page(), encoding="utf-8")
    sys.exit(0)
