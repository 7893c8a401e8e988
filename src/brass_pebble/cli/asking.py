"""Any request of the protocol, from the command line; the shell completes its words from what is declared."""

from __future__ import annotations

import json
from typing import Annotated, Any

import typer

from .shared import DeskOption, Failure


def add_to(app: typer.Typer) -> None:
    """Add these commands."""
    app.command("ask")(ask)


def _words(incomplete: str) -> list[tuple[str, str]]:
    """The requests there are that begin so, and what each does."""
    from brass_pebble.protocol.table import requests
    return [(word, (kind.__doc__ or "").split("\n")[0]) for word, kind in sorted(requests().items())
            if word.startswith(incomplete)]


def _fields(context: typer.Context, incomplete: str) -> list[tuple[str, str]]:
    """The fields of the request that is being typed."""
    from brass_pebble.protocol.table import requests
    kind = requests().get(context.params.get("word") or "")
    if kind is None:
        return []
    given = {str(field).partition("=")[0] for field in context.params.get("fields") or ()}
    return [(f"{name}=", remark) for name, remark in _declared(kind) if name not in given
            and f"{name}=".startswith(incomplete)]


def _declared(kind: type) -> list[tuple[str, str]]:
    from msgspec import inspect as look
    told: Any = look.type_info(kind)
    found = []
    for field in told.fields:
        if field.encode_name != "id":
            remark = (getattr(field.type, "extra_json_schema", None) or {}).get("description", "")
            found.append((field.encode_name, str(remark) or "needed" * field.required))
    return found


def ask(word: Annotated[str, typer.Argument(metavar="REQUEST", help="as docs/protocol.md lists them",
                                            autocompletion=_words)],
        fields: Annotated[list[str] | None, typer.Argument(metavar="FIELD=VALUE", help="a text, or JSON",
                                                           autocompletion=_fields)] = None,
        desk: DeskOption = None) -> None:
    """Send any request of the protocol, and print the reply as JSON.

    For scripts; the engine has to run.
    """
    from brass_pebble.client import EngineClient, find_engine
    with EngineClient(find_engine(desk), "ask") as client:
        texts = _texts(word)
        reply = client.ask(word, **dict(_field(field, texts) for field in fields or ()))
    print(json.dumps({name: value for name, value in reply.items() if name not in ("re", "ok")}, ensure_ascii=False))


def _texts(word: str) -> set[str]:
    """The fields of a request that are texts: `control=7` means the text, not the number."""
    from msgspec import inspect as look

    from brass_pebble.protocol.table import requests
    kind = requests().get(word)
    if kind is None:
        return set()
    told: Any = look.type_info(kind)
    return {field.encode_name for field in told.fields if _is_text(field.type)}


def _is_text(told: Any) -> bool:
    from msgspec import inspect as look
    if isinstance(told, look.Metadata):
        return _is_text(told.type)
    if isinstance(told, look.UnionType):
        return all(isinstance(part, look.StrType) or _is_text(part) for part in told.types
                   if not isinstance(part, look.NoneType))
    return isinstance(told, look.StrType)


def _field(text: str, texts: set[str]) -> tuple[str, Any]:
    name, equals, value = text.partition("=")
    if not equals:
        raise Failure(f"“{text}” is not a field. Write FIELD=VALUE, for example surface=pedals", "usage")
    try:
        read = json.loads(value)
    except ValueError:
        return name, value
    return name, value if name in texts and not isinstance(read, str) and read is not None else read
