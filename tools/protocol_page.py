"""Makes docs/protocol.md and docs/protocol.schema.json of the declared messages; with --check, only compares."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from string import Template
from typing import Any

import msgspec
from msgspec import inspect as look
from schema_form import in_our_form

from brass_pebble.engine.clients import server
from brass_pebble.protocol import table
from brass_pebble.protocol.base import VERSION, Reply, Request
from brass_pebble.protocol.errors import ERRORS

DOCS = Path(__file__).parent.parent / "docs"
PAGE, SCHEMA = DOCS / "protocol.md", DOCS / "protocol.schema.json"
HEAD = Template((Path(__file__).parent / "protocol_head.md").read_text()).substitute(
    version=VERSION, most_line=f"{server.MOST_LINE:,}", most_greeting=f"{server.MOST_GREETING:,}",
    greeting_seconds=server.GREETING // 1_000_000_000, most_clients=server.MOST_CLIENTS,
    drop_above=f"{server.DROP_ABOVE:,}", most_waiting=f"{server.MOST_WAITING:,}")


def say_type(kind: Any) -> str:
    """A type in words."""
    match kind:
        case look.Metadata():
            return say_type(kind.type)
        case look.IntType() | look.FloatType():
            word = "whole number" if isinstance(kind, look.IntType) else "number"
            return word + _range(kind.ge, kind.le)
        case look.StrType():
            return "text"
        case look.BoolType():
            return "true or false"
        case look.NoneType():
            return "null"
        case look.ListType() | look.VarTupleType() | look.CollectionType():
            return f"list of {say_type(kind.item_type)}"
        case look.TupleType():
            return f"list of {', '.join(map(say_type, kind.item_types))}"
        case look.DictType():
            return f"object of {say_type(kind.value_type)}"
        case look.StructType():
            return f"[{kind.cls.__name__}](#{kind.cls.__name__.lower()})" if not issubclass(kind.cls, Request) else "…"
        case look.UnionType():
            parts = dict.fromkeys(map(say_type, kind.types))
            return " or ".join(part for part in parts if part)
        case _:
            return "any value"


def _range(least: Any, most: Any) -> str:
    if least is None and most is None:
        return ""
    if most is None:
        return f" from {least:,}"
    return f", {least:,} to {most:,}"


def _remark(kind: Any) -> str:
    if isinstance(kind, look.Metadata):
        return str((kind.extra_json_schema or {}).get("description", ""))
    return ""


def say_field(field: Any) -> str:
    """A field with its type, its limits, what it is without it, and its remark."""
    notes = [say_type(field.type)]
    if field.required:
        notes.append("needed")
    elif field.default not in (look.NODEFAULT, msgspec.UNSET, "", None, False, 0, []):
        notes.append(f"{json.dumps(field.default)} without it")
    if remark := _remark(field.type):
        notes.append(remark)
    return f"`{field.encode_name}` ({'; '.join(notes)})"


def _fields(kind: type, *, needed: bool) -> list[str]:
    fields = [field for field in look.type_info(kind).fields
              if field.encode_name != "id" or not issubclass(kind, Request)]
    if needed:
        return [say_field(field) for field in fields]
    return [f"`{field.encode_name}` ({'; '.join(filter(None, (say_type(field.type), _remark(field.type))))})"
            for field in fields]


def _cell(parts: list[str]) -> str:
    return "<br>".join(part.replace("|", "\\|") for part in parts)


def _short(text: str | None) -> str:
    return " ".join((text or "").split())


def page() -> str:
    """The whole reference."""
    lines = [HEAD]
    rows: dict[str, type] = {}

    def note(kind: type) -> None:
        for field in look.type_info(kind).fields:
            for struct in _structs(field.type):
                if struct.__name__ not in rows:
                    rows[struct.__name__] = struct
                    note(struct)
    for module in table.GROUPS:
        lines += [f"### {_short(module.__doc__)}", "", "| do | what it does | fields | reply |", "|---|---|---|---|"]
        for kind in table.group_of(module):
            reply: type[Reply] = kind.reply
            lines.append(f"| `{table.word_of(kind)}` | {_short(kind.__doc__)} | {_cell(_fields(kind, needed=True))} | "
                         f"{_cell(_fields(reply, needed=False))} |")
            note(kind)
            note(reply)
        lines.append("")
    lines += ["## Errors", "", "| code | what it means |", "|---|---|"]
    lines += [f"| `{code}` | {_short(kind.__doc__)} |" for code, kind in ERRORS.items()]
    lines += ["", "## News", "", "`{\"topic\": …}` and the fields; only topics that are followed come.", "",
              "| topic | when | fields |", "|---|---|---|"]
    for word, news in table.news().items():
        lines.append(f"| `{word}` | {_short(news.__doc__)} | {_cell(_fields(news, needed=False))} |")
        note(news)
    lines += ["", "## Rows", "", "What lists and objects above hold."]
    for name, struct in sorted(rows.items()):
        lines += ["", f"### {name}", "", _short(struct.__doc__), ""]
        lines += [f"- {text}" for text in _fields(struct, needed=False)]
    return "\n".join(lines) + "\n"


def _structs(kind: Any) -> list[type]:
    found = [kind.cls] if isinstance(kind, look.StructType) else []
    for name in ("type", "item_type", "value_type", "key_type"):
        inner = getattr(kind, name, None)
        if isinstance(inner, look.Type):
            found += _structs(inner)
    for name in ("types", "item_types"):
        for inner in getattr(kind, name, ()):
            found += _structs(inner)
    return found


def _all_structs(kinds: list[type]) -> list[type]:
    """These and everything that they hold, each once."""
    found: dict[type, None] = {}
    waiting = [*kinds]
    while waiting:
        kind = waiting.pop(0)
        if kind not in found:
            found[kind] = None
            waiting += [struct for field in look.type_info(kind).fields for struct in _structs(field.type)]
    return [*found]


def schema() -> str:
    """Every message as JSON Schema (draft 2020-12)."""
    kinds = _all_structs([*table.requests().values(), *(kind.reply for kind in table.requests().values()),
                          *table.news().values()])
    refs, components = msgspec.json.schema_components(kinds, ref_template="#/$defs/{name}")
    by_kind = dict(zip(kinds, refs, strict=True))
    named = {ref["$ref"].rpartition("/")[2]: kind for kind, ref in by_kind.items()}
    whole = {
        "$schema": "https://json-schema.org/draft/2020-12/schema", "title": "The socket's protocol",
        "description": f"Version {VERSION}.  A line from a client is a request; one from the engine a reply or news.",
        "requests": {table.word_of(kind): {"request": by_kind[kind], "reply": by_kind[kind.reply]}
                     for kind in table.requests().values()},
        "oneOf": [by_kind[kind] for kind in (*table.requests().values(), *table.news().values())],
        "$defs": in_our_form(components, named)}
    return json.dumps(whole, indent=1, ensure_ascii=False, sort_keys=False) + "\n"


def main() -> int:
    """Write both, or tell whether they are as they would be."""
    made = {PAGE: page(), SCHEMA: schema()}
    if "--check" in sys.argv:
        old = [file.name for file, text in made.items() if not file.exists() or file.read_text() != text]
        print(f"{', '.join(old)}: make them anew with make protocol" if old else "as declared")
        return bool(old)
    for file, text in made.items():
        file.write_text(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
