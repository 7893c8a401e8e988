"""Who imports whom: read from the source, without running it.

Every import counts, also one inside a function or for types only.  `python tools/import_arrows.py` prints the arrows
between folders and the circles; `--files` those between files.
"""

from __future__ import annotations

import ast
import sys
from collections import Counter
from pathlib import Path

SOURCE = Path(__file__).parent.parent / "src"
Graph = dict[str, set[str]]


def modules(source: Path = SOURCE) -> dict[str, Path]:
    """Every module's name and file."""
    found = {}
    for file in sorted(source.rglob("*.py")):
        parts = file.with_suffix("").relative_to(source).parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = file
    return found


def arrows(source: Path = SOURCE) -> Graph:
    """For each module those that it imports, of the same source."""
    known = modules(source)
    return {name: _imports(name, file, known) - {name} for name, file in known.items()}


def _imports(name: str, file: Path, known: dict[str, Path]) -> set[str]:
    package = name if file.name == "__init__.py" else name.rpartition(".")[0]
    found = set()
    for node in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names if alias.name in known}
        elif isinstance(node, ast.ImportFrom):
            base = node.module or ""
            if node.level:
                parents = package.split(".")
                base = ".".join([*parents[:len(parents) - node.level + 1], *filter(None, [node.module])])
            for alias in node.names:
                full = f"{base}.{alias.name}"
                found |= {full} if full in known else {base} & known.keys()
    return found


def circles(graph: Graph) -> list[list[str]]:
    """Groups of modules of which each leads to every other (Tarjan's algorithm)."""
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(node: str) -> None:
        index[node] = low[node] = len(index)
        stack.append(node)
        for other in graph[node]:
            if other not in index:
                visit(other)
                low[node] = min(low[node], low[other])
            elif other in stack:
                low[node] = min(low[node], index[other])
        if low[node] == index[node]:
            group = [stack.pop()]
            while group[-1] != node:
                group.append(stack.pop())
            if len(group) > 1:
                found.append(sorted(group))
    for node in graph:
        if node not in index:
            visit(node)
    return found


def folder_of(module: str, known: dict[str, Path]) -> str:
    """The folder that a module lies in, after the package's name; a file at the top is its own."""
    parent = module if known[module].name == "__init__.py" else module.rpartition(".")[0]
    return parent.partition(".")[2] or module.partition(".")[2] or module


def folder_arrows(graph: Graph, known: dict[str, Path]) -> Counter[tuple[str, str]]:
    """How many arrows lead from one folder to another."""
    counted: Counter[tuple[str, str]] = Counter()
    for module, others in graph.items():
        for other in others:
            pair = folder_of(module, known), folder_of(other, known)
            if pair[0] != pair[1]:
                counted[pair] += 1
    return counted


def main() -> None:
    """Print the arrows."""
    known, graph = modules(), arrows()
    if "--files" in sys.argv:
        for module, others in graph.items():
            print(module, "->", " ".join(sorted(others)))
    else:
        files = Counter(folder_of(module, known) for module in known)
        counted = folder_arrows(graph, known)
        for folder, count in sorted(files.items()):
            leads = [f"{other} {number}" for (one, other), number in sorted(counted.items()) if one == folder]
            print(f"{folder} ({count}) → {', '.join(leads) or 'nothing'}")
    for group in circles(graph):
        print(f"circle of {len(group)}: {' '.join(group)}")


if __name__ == "__main__":
    main()
