"""The client's side of a connection with declared types: requests as they are declared, and whatever comes likewise.

`conversation.py` is the same for clients that want plain values and a quick start.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from functools import cache
from typing import Any

import msgspec

from .base import News, Reply, Request
from .conversation import EngineError, NotDeclared, check_news, check_reply
from .rows import ErrorRow
from .table import news, requests, word_of


class _Head(msgspec.Struct):
    """What tells what a line is."""

    re: int | str | None = None
    topic: str = ""
    ok: bool = False
    error: ErrorRow | None = None


_head = msgspec.json.Decoder(_Head)


@cache
def _decoder(kind: type[News] | type[Reply]) -> msgspec.json.Decoder[Any]:
    return msgspec.json.Decoder(kind)


@dataclass(frozen=True)
class Came:
    """What a line was: `news`, or the reply to the request of that number, or why it was refused."""

    news: News | None = None
    number: int = 0
    reply: Reply | None = None
    error: EngineError | None = None


def declared(do: str, fields: dict[str, Any]) -> Request:
    """The request of a word, with these fields.

    Raises:
        TypeError: it is not declared so.
    """
    try:
        request: Request = msgspec.convert({"do": do, **fields}, requests()[do])
    except (KeyError, msgspec.ValidationError) as error:
        raise TypeError(f"{do} is not declared so: {error}") from None
    return request


class TypedConversation:
    """Numbers requests and knows what was asked.  With `checks`, fields that are not declared are a mistake, too."""

    def __init__(self, *, checks: bool = False) -> None:
        self._number = 0
        self._checks = checks
        self._asked: dict[int, type[Request]] = {}

    def ask(self, request: Request) -> tuple[int, bytes]:
        """The number and the line of a request."""
        self._number += 1
        self._asked[self._number] = type(request)
        return self._number, msgspec.json.encode(msgspec.structs.replace(request, id=self._number)) + b"\n"

    def take(self, line: bytes) -> Came:
        """What a line of the engine is.

        Raises:
            ValueError: it is not a message.
            NotDeclared: it is news, and not as declared.
        """
        head = _head.decode(line)
        if head.topic:
            kind = news().get(head.topic)
            if kind is None:
                raise NotDeclared(f"there is no topic {head.topic}")
            if self._checks:
                check_news(json.loads(line))
            try:
                return Came(_decoder(kind).decode(line))
            except msgspec.ValidationError as error:
                raise NotDeclared(f"{head.topic} is not as declared: {error}") from None
        if not isinstance(head.re, int):
            # The connection is refused or closed.
            return Came(error=_error(head.error))
        asked = self._asked.pop(head.re, None)
        if not head.ok or asked is None:
            return Came(number=head.re, error=_error(head.error))
        try:
            if self._checks:
                check_reply(word_of(asked), json.loads(line))
            return Came(number=head.re, reply=_decoder(asked.reply).decode(line))
        except (msgspec.ValidationError, NotDeclared) as error:
            # It hurts this request, and nothing else.
            return Came(number=head.re, error=EngineError(f"the reply to {word_of(asked)} is not as declared: {error}",
                                                          "This is a mistake of the program", "undeclared"))


def _error(row: ErrorRow | None) -> EngineError:
    return EngineError(row.what, row.hint, row.code) if row is not None else EngineError("", "", "")
