"""The catalogue: every text that a person can meet, read out of the source, file by file, to be read as one.

`texts.py [FILE]` prints it, or writes it.  The tests of the wording read the same list.
"""

from __future__ import annotations

import ast
import sys
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "brass_pebble"
# What only programs read: packets, drawings in SVG, styles of the screen.
_NOT_READ = ("core/rtp", "core/osc", "paper/svg", "paper/pdf", "DEFAULT_CSS")


@dataclass(frozen=True)
class Text:
    """One text: where it stands, what it says (`{…}` for what is put in), and what it is given to."""

    file: str
    line: int
    says: str
    given_to: str
    node: ast.expr


def says(node: ast.expr) -> str | None:
    """A text as it is written; None for anything else."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(str(part.value) if isinstance(part, ast.Constant) else "{…}" for part in node.values)
    return None


def _called(call: ast.Call) -> str:
    function = call.func
    if isinstance(function, ast.Attribute):
        return function.attr
    return function.id if isinstance(function, ast.Name) else ""


def _skipped(tree: ast.Module) -> set[int]:
    """Docstrings, parts of larger texts, and styles."""
    found: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef):
            first = node.body[0] if node.body else None
            if isinstance(first, ast.Expr) and isinstance(first.value, ast.Constant):
                found.add(id(first.value))
        elif isinstance(node, ast.JoinedStr):
            found |= {id(part) for part in ast.walk(node) if part is not node}
        elif isinstance(node, ast.Assign | ast.AnnAssign):
            targets = node.targets if isinstance(node, ast.Assign) else [node.target]
            if any(isinstance(target, ast.Name) and target.id in _NOT_READ for target in targets) and node.value:
                found.add(id(node.value))
    return found


def texts() -> Iterator[Text]:
    """All of them, in the order of files and lines."""
    for file in sorted(SOURCE.rglob("*.py")):
        name = str(file.relative_to(SOURCE))
        if name.startswith(_NOT_READ):
            continue
        tree = ast.parse(file.read_text(encoding="utf-8"))
        skipped = _skipped(tree)
        given = {id(argument): _called(call) for call in ast.walk(tree) if isinstance(call, ast.Call)
                 for argument in [*call.args, *(keyword.value for keyword in call.keywords)]}
        given |= {id(keyword.value): keyword.arg or "" for call in ast.walk(tree) if isinstance(call, ast.Call)
                  for keyword in call.keywords if keyword.arg in ("tooltip", "help", "hint")}
        found = []
        for node in ast.walk(tree):
            text = says(node) if isinstance(node, ast.expr) and id(node) not in skipped else None
            # A single word is a name, as often as not.
            if text and " " in text.strip() and any(char.isalpha() for char in text):
                found.append(Text(name, getattr(node, "lineno", 0), text, given.get(id(node), ""), node))
        yield from sorted(found, key=lambda text: text.line)


def main() -> int:
    """Print the catalogue."""
    lines, file = [], ""
    for text in texts():
        if text.file != file:
            file = text.file
            lines += ["", f"# {file}"]
        lines.append(f"{text.line:>5}  {text.says!r}")
    out = "\n".join(lines).strip() + "\n"
    if len(sys.argv) > 1:
        Path(sys.argv[1]).parent.mkdir(parents=True, exist_ok=True)
        Path(sys.argv[1]).write_text(out, encoding="utf-8")
    else:
        print(out, end="")
    return 0


if __name__ == "__main__":
    sys.exit(main())
