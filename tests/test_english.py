"""The mechanical rules of the wording, over every text that a person can meet, as the catalogue has them."""

from __future__ import annotations

import ast
import importlib.util
import re
import sys
from pathlib import Path
from typing import Any

from brass_pebble.core.say.counts import plural, say_count

_ROOT = Path(__file__).parent.parent
_TOOL = _ROOT / "tools" / "texts.py"
_SPEC = importlib.util.spec_from_file_location("catalogue_of_texts", _TOOL)
assert _SPEC is not None and _SPEC.loader is not None
catalogue: Any = importlib.util.module_from_spec(_SPEC)
sys.modules[_SPEC.name] = catalogue
_SPEC.loader.exec_module(catalogue)
TEXTS = list(catalogue.texts())
# Words that are not the usual ones, and what is written in their place.
BANNED = {
    r"\bKnown are\b": "Available:", r"\b[Hh]ere belongs\b": "Expected …", r"\bputs? (this|it) away\b": "close",
    r"(?<!there )(?<!There )\bis no (?!longer|keyboard|device)[a-z]+": "is not a …", r"\bthat shall\b": "that should",
    r"\bslipped on\b": "likely mis-hits", r"\bgets? in the way\b": "conflict", r"\bin vain\b": "timed out",
    r"\blooked at once\b": "reloads at once", r"\blets? (it|somebody) in\b": "allow", r"\bgives? it on\b": "export",
    r"\bbrings? it back\b": "undo", r"\btakes? (it|them) back\b": "undo", r"\bdone again\b": "redo",
    r"\banew\b": "again",
    r"\blies between\b": "must be between", r"\btells why\b": "see", r"\bEsc leaves?\b": "Esc: cancel",
    r"\bnothing of (it|them|the parcel)\b": "none of", r"\bcommands? again\b": "act again",
    r"\bblank\. b\b": "not bound", r"\bdo(es)? what it says\b": "approve", r"\blet in no longer\b": "revoke",
    r"\btaken away\b(?! from)": "deleted", r"\btaken in\b(?! (part|pieces))": "imported", r"\bGive on\b": "Export",
    r"% alike needed": "Match needed", r"\bbehind its time\b": "late", r"(^|\n)(wrote|written:) ": "Saved …",
    r"\bnobody (knows|hears)\b": "unknown, not heard", r"\bLeave it so\b": "No change needed",
}
# What developers and scripts read.
_PAGES = [*(_ROOT / "docs").glob("*.md"), *(_ROOT / "src" / "brass_pebble" / "guide").glob("*.md"),
          *(_ROOT / name for name in ("README.md", "CONTRIBUTING.md", "CHANGELOG.md"))]
# In a page or a docstring these are about something else: what is not yet imported, or a part of a device.
_NOT_THERE = ("taken away", "taken in", "nobody")
# What is counted; the number before one has to agree with it.
_NOUNS = ("press", "event", "run", "surface", "control", "macro", "key", "layer", "step", "label", "page", "device",
          "problem", "change", "line", "trace", "mistake", "binding", "note", "session", "minute", "file", "version",
          "action", "slip", "choice", "day", "conflict", "program", "window", "message", "byte")
_COUNTED = re.compile(rf"^ (?:more |free |key )?({'|'.join(plural(noun) for noun in _NOUNS)})\b")


def where(text: Any) -> str:
    """For the report."""
    return f"{text.file}:{text.line}: {text.says!r}"


def test_the_catalogue_has_the_texts() -> None:
    assert len(TEXTS) > 1500 and len({text.file for text in TEXTS}) > 150
    assert any("Click a key, or select one" in text.says for text in TEXTS)


def test_nothing_is_said_in_a_way_that_is_not_usual() -> None:
    wrong = [f"{where(text)} (write: {better})" for text in TEXTS for banned, better in BANNED.items()
             if re.search(banned, text.says)]
    assert wrong == []


def test_pages_and_docstrings_are_written_in_the_same_english() -> None:
    read = [(f"{page.name}:{number}", line) for page in _PAGES
            for number, line in enumerate(page.read_text().splitlines(), 1)]
    read += [(f"{file.relative_to(catalogue.SOURCE)}:{getattr(node, 'lineno', 1)}", ast.get_docstring(node) or "")
             for file in sorted(catalogue.SOURCE.rglob("*.py")) for node in ast.walk(ast.parse(file.read_text()))
             if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef | ast.AsyncFunctionDef)]
    assert len(read) > 3000
    wrong = [f"{place}: {found[0]!r} (write: {better})" for place, text in read for banned, better in BANNED.items()
             if not any(word in banned for word in _NOT_THERE) for found in [re.search(banned, text)] if found]
    assert wrong == []


def test_numbers_agree_with_what_they_count() -> None:
    wrong = []
    for text in TEXTS:
        if not isinstance(text.node, ast.JoinedStr):
            continue
        for part, behind in zip(text.node.values, text.node.values[1:], strict=False):
            if not (isinstance(part, ast.FormattedValue) and isinstance(behind, ast.Constant)):
                continue
            name = part.value.id if isinstance(part.value, ast.Name) else ""
            # A limit is never 1.
            fixed = name.isupper() or name in ("most", "missed", "factor") or "say_count" in ast.dump(part.value) \
                or isinstance(part.value, ast.IfExp)
            if not fixed and _COUNTED.match(str(behind.value)):
                wrong.append(where(text))
    assert wrong == []
    assert [say_count(number, "press") for number in (0, 1, 2)] == ["0 presses", "1 press", "2 presses"]
    assert say_count(1, "free key") == "1 free key" and say_count(12_345, "entry") == "12,345 entries"
    assert [plural(noun) for noun in ("match", "day", "box", "choice")] == ["matches", "days", "boxes", "choices"]


def test_a_message_is_a_sentence_and_a_label_is_none() -> None:
    wrong = []
    for text in TEXTS:
        if isinstance(text.node, ast.Constant) and text.given_to == "tooltip":
            # Labels of keys: small letters, no full stop.
            name = text.says.split()[0] in ("A4", "MIDI", "OSC")
            if text.says.endswith(".") or (text.says[0].isupper() and not name):
                wrong.append(where(text))
        elif text.given_to == "hint" and text.says.rstrip().endswith("."):
            # The full stop of a hint is set where it is shown.
            wrong.append(where(text))
    messages = [(file, call) for file in sorted(catalogue.SOURCE.rglob("*.py"))
                for call in ast.walk(ast.parse(file.read_text()))
                if isinstance(call, ast.Call) and isinstance(call.func, ast.Attribute) and call.func.attr == "notify"]
    for file, call in messages:
        said = catalogue.says(call.args[0]) if call.args else None
        if said and " " in said and not (re.match(r"[A-Z“{✓✗●>]", said) and re.search(r"[.?…}”\n]$|quit$", said)):
            wrong.append(f"{file.name}:{call.lineno}: {said!r}")
    assert len(messages) > 60 and wrong == []
