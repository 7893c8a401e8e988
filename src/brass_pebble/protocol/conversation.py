"""The client's side of a connection, without the connection: what to send, and what came.  Two drivers use it.

`client.EngineClient` waits for each reply; `screen.link.Link` is asynchronous.
"""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from .version import VERSION

Message = dict[str, Any]


class EngineError(Exception):
    """No engine, or it refused.  `hint` is the next step, `code` the protocol's word for it."""

    def __init__(self, what: str, hint: str = "", code: str = "") -> None:
        super().__init__(f"{what}. {hint}" if hint else what)
        self.what, self.hint, self.code = what, hint, code


class NotDeclared(Exception):
    """What came is not what the protocol declares."""


@dataclass(frozen=True)
class Came:
    """What a line was: news (`number` None), or a reply; `error` if the engine refused."""

    message: Message
    number: int | None = None
    error: EngineError | None = None


class Conversation:
    """Numbers requests and knows what was asked.  With `checks`, whatever comes is held against its declared type."""

    def __init__(self, *, checks: bool = False) -> None:
        self._number = 0
        self._checks = checks
        self._asked: dict[int, str] = {}

    def ask(self, do: str, fields: Message) -> tuple[int, bytes]:
        """The number and the line of a request."""
        self._number += 1
        if self._checks:
            self._asked[self._number] = do
        return self._number, json.dumps({"id": self._number, "do": do, **fields}).encode() + b"\n"

    def greeting(self, client: str) -> Message:
        """The fields of the first request, `hello`."""
        return {"protocol": VERSION, "client": client}

    def take(self, line: bytes) -> Came:
        """What a line of the engine is.

        Raises:
            ValueError: it is not a message.
            NotDeclared: it is not as declared.
        """
        message: Message = json.loads(line)
        number = message.get("re")
        if "topic" in message:
            if self._checks:
                check_news(message)
            return Came(message)
        if not isinstance(number, int):
            # The connection is refused or closed.
            row = message.get("error", {})
            return Came(message, 0, EngineError(row.get("what", ""), row.get("hint", ""), row.get("code", "")))
        if not message["ok"]:
            row = message["error"]
            if self._checks:
                check_error(row)
            return Came(message, number, EngineError(row["what"], row["hint"], row["code"]))
        if self._checks:
            check_reply(self._asked.pop(number, ""), message)
        return Came(message, number)


def check_news(message: Message) -> None:
    """Hold news against their declared type.  Raises: NotDeclared."""
    from .table import news
    kind = news().get(message["topic"])
    if kind is None:
        raise NotDeclared(f"there is no topic {message['topic']}")
    _check(message, kind, {"topic"})


def check_reply(do: str, message: Message) -> None:
    """Hold a reply against its declared type.  Raises: NotDeclared."""
    from .table import requests
    kind = requests().get(do)
    if kind is None:
        raise NotDeclared(f"{do} was replied to, and is not declared")
    _check({name: value for name, value in message.items() if name not in ("re", "ok")}, kind.reply, set())


def check_error(row: Message) -> None:
    """Hold an error against the table of codes.  Raises: NotDeclared."""
    from .errors import ERRORS
    if row["code"] not in ERRORS or not row["what"]:
        raise NotDeclared(f"not declared: {row}")


def _check(message: Message, kind: Any, besides: set[str]) -> None:
    import msgspec
    try:
        msgspec.convert(message, kind)
    except msgspec.ValidationError as error:
        raise NotDeclared(f"{kind.__name__} is not as declared: {error}") from None
    if unknown := message.keys() - set(kind.__struct_encode_fields__) - besides:
        raise NotDeclared(f"{kind.__name__} has fields that are not declared: {', '.join(sorted(unknown))}")
