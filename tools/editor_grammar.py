"""Writes the grammar for editors (a TextMate grammar, which many of them read) from the grammar of macros.  --check
compares."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

from brass_pebble.core.macro.help.reference import step_rows
from brass_pebble.core.macro.help.words import keywords
from brass_pebble.core.macro.value.functions import FUNCTIONS

FILE = (Path(__file__).parent.parent / "src" / "brass_pebble" / "editors" / "brass-pebble-macro.tmLanguage.json")


def _any(names: set[str]) -> str:
    return "|".join(sorted((re.escape(name) for name in names), key=lambda name: (-len(name), name)))


def grammar() -> str:
    """The file's text."""
    first = {part.split()[0] for row in step_rows().values() for part in row.written.split(", ")
             if part[:1].isalpha()}
    rest = {word for phrase in keywords() for word in phrase.split()}
    rules = {
        "note": {"match": "#.*$", "name": "comment.line.number-sign"},
        "lines": {"begin": r"^(\s*)((?:type|paste) +lines\b.*)$", "end": r"^(?!\1\s+\S|\s*$)",
                  "beginCaptures": {"2": {"name": "keyword.control"}},
                  "contentName": "string.unquoted.block", "patterns": [{"include": "#value"}]},
        "step": {"match": rf"^\s*(?:{_any(first)})\b", "name": "keyword.control"},
        "text": {"begin": '"', "end": '"', "name": "string.quoted.double",
                 "patterns": [{"match": r"\\.", "name": "constant.character.escape"}, {"include": "#value"}]},
        "value": {"match": r"\{[a-z][a-z0-9_]*\}", "name": "variable.other"},
        "function": {"match": rf"\b(?:{_any(set(FUNCTIONS))})(?=\()", "name": "support.function"},
        "number": {"match": r"-?\b[0-9]+(?:\.[0-9]+)?(?:us|µs|ms|s|min|%)?", "name": "constant.numeric"},
        "chord": {"match": r"\b(?:[A-Z][A-Za-z0-9]*)(?:\+[A-Za-z0-9]+)*", "name": "constant.other.key"},
        "word": {"match": rf"\b(?:{_any(rest)})\b", "name": "keyword.other"},
    }
    return json.dumps({
        "name": "Brass Pebble macro", "scopeName": "source.brass-pebble.macro", "fileTypes": ["macro"],
        "patterns": [{"include": f"#{name}"} for name in ("note", "lines", "step", "text", "function", "number", "word",
                                                          "chord")],
        "repository": rules}, indent=2, ensure_ascii=False) + "\n"


if __name__ == "__main__":
    made = grammar()
    if "--check" in sys.argv:
        sys.exit(f"{FILE.name} is not as the grammar is" if not FILE.exists() or made != FILE.read_text(
            encoding="utf-8") else 0)
    FILE.write_text(made, encoding="utf-8")
