"""From lines to messages and back: one JSON object a line, UTF-8.

Reading checks everything that the declared type says.  What does not fit is refused with a sentence that names the
field.  Writing shows characters that would steer a terminal instead of sending them.
"""

from __future__ import annotations

import difflib
import json
import re
from functools import cache
from typing import Any

import msgspec

from .base import LONGEST_NUMBER, Request
from .errors import BadMessage, Refusal, UnknownRequest
from .table import requests

Message = dict[str, Any]
Number = int | str | None
# Escapes of control characters in JSON; and what hides or turns the direction of what follows.
_STEERS = re.compile(rb"(?<!\\)((?:\\\\)*)\\u00([01][0-9a-f])")
_HIDES = re.compile("[\x7f-\x9f\u200e\u200f\u202a-\u202e\u2066-\u2069]")
_KINDS = {"int": "a whole number", "float": "a number", "str": "a text", "bool": "true or false", "array": "a list",
          "object": "an object", "null": "nothing"}
_EXPECTED = re.compile(r"Expected `([^`]*)`(?: of length)?(?: (<=|>=|<|>) ([-\d.e+]+))?(?:, got `([^`]*)`)?")
_LIMITS = {"<=": "at most", ">=": "at least", "<": "less than", ">": "more than"}


class _Head(msgspec.Struct):
    """What tells which request a line is."""

    do: str


_head = msgspec.json.Decoder(_Head)


@cache
def _decoder(kind: type[Request]) -> msgspec.json.Decoder[Any]:
    # Each when it is asked for first: one for all of them takes longer than a start should.
    return msgspec.json.Decoder(kind)


def read_request(line: bytes) -> Request:
    """The request that a line holds.

    Raises:
        BadMessage: it is none that is declared; the sentence names the field.
        UnknownRequest: there is no request of that word.
    """
    try:
        kind = requests().get(_head.decode(line).do)
        if kind is None:
            raise _unknown(line)
        request: Request = _decoder(kind).decode(line)
        return request
    except (msgspec.DecodeError, UnicodeError, RecursionError) as error:
        raise _refusal(line, error) from None


def number_of(line: bytes) -> Number:
    """The number of a request that cannot be read, so that its refusal finds back; None if it has none."""
    number = _loosely(line).get("id")
    if isinstance(number, bool) or not isinstance(number, int | str) or len(str(number)) > LONGEST_NUMBER:
        return None
    return number


def _refusal(line: bytes, error: Exception) -> Refusal:
    said = str(error)
    if not isinstance(error, msgspec.ValidationError):
        if isinstance(error, UnicodeError):
            return BadMessage("the line is not UTF-8", "Send one JSON object a line, in UTF-8")
        if re.search(rb"\\u[dD][89a-fA-F]", line):
            return BadMessage("a text holds half a character", "Send whole characters")
        return BadMessage("the line is not JSON", "Send one JSON object a line")
    what, _, path = said.partition(" - at `$")
    field = path.strip("`").lstrip(".")
    if field == "id":
        return BadMessage("“id” must be a number or a short text", f"Send at most {LONGEST_NUMBER} characters")
    if not field and "object" in what and "got" in what:
        return BadMessage("a message must be a JSON object", "Send one JSON object a line")
    if field == "do" or (not field and "`do`" in what):
        return _unknown(line)
    word = _word(line)
    hint = f"docs/protocol.md tells the fields of “{word}”"
    if match := re.fullmatch(r"Object (missing required|contains unknown) field `(.*)`", what):
        inside = f" in “{field}”" if field else ""
        if match[1] == "missing required":
            return BadMessage(f"“{match[2]}” is missing{inside}", hint)
        known = () if field else requests()[word].__struct_encode_fields__
        near = difflib.get_close_matches(match[2], known, 1)
        return BadMessage(f"there is no field “{match[2]}”{inside}", f"Did you mean {near[0]}?" if near else hint)
    return BadMessage(f"“{field}” cannot be so: {_say(what)}", hint)


def _word(line: bytes) -> str:
    return str(_loosely(line).get("do", ""))[:80]


def _unknown(line: bytes) -> UnknownRequest:
    word = _word(line)
    near = difflib.get_close_matches(word, requests(), 1)
    return UnknownRequest(f"there is no request “{word}”", f"Did you mean {near[0]}?" if near else
                          f"Available: {', '.join(requests())}")


def _say(what: str) -> str:
    """What was expected, in plain words."""
    match = _EXPECTED.match(what)
    if match is None:
        return "the number is too large" if "out of range" in what else "it is not as declared"
    kinds, sign, limit, got = match.groups()
    wanted = " or ".join(_KINDS.get(kind.strip(), kind.strip()) for kind in kinds.split("|"))
    if sign:
        long = " of length" in what
        return f"it must be {wanted} {'with ' if long else ''}{_LIMITS[sign]} {limit}{' characters' if long else ''}" \
            if kinds == "str" else f"it must be {wanted}{' with' if long else ','} {_LIMITS[sign]} {limit}"
    return f"it must be {wanted}" + (f", not {_KINDS.get(got, got)}" if got else "")


def _loosely(line: bytes) -> dict[str, Any]:
    """What a line may hold that is not as declared: numbers without end, halves of characters."""
    try:
        message = json.loads(line)
    except (ValueError, RecursionError):
        return {}
    return message if isinstance(message, dict) else {}


def write(message: object) -> bytes:
    """A message as a line, with its end.  What is JSON already goes in as `msgspec.Raw`."""
    try:
        line = msgspec.json.encode(message)
    except UnicodeEncodeError:
        # Whatever a file or a device said that is no text goes out as a question mark.
        line = msgspec.json.encode(_whole(message))
    if b"\\u00" in line:
        # Characters that steer a terminal are shown, wherever a file, a device or a stranger has put them.
        line = _STEERS.sub(rb"\1\\\\u00\2", line)
    if not line.isascii():
        text = line.decode("utf-8")
        if _HIDES.search(text):
            line = _HIDES.sub(lambda match: f"\\\\u{ord(match[0]):04x}", text).encode()
    return line + b"\n"


def raw(message: object) -> msgspec.Raw:
    """A part of messages that is put together once."""
    try:
        return msgspec.Raw(msgspec.json.encode(message))
    except UnicodeEncodeError:
        return msgspec.Raw(msgspec.json.encode(_whole(message)))


def _whole(value: Any) -> Any:
    if isinstance(value, msgspec.Raw):
        return value
    if isinstance(value, str):
        return value.encode("utf-8", "replace").decode()
    if isinstance(value, dict):
        return {_whole(key): _whole(inner) for key, inner in value.items()}
    if isinstance(value, list | tuple):
        return [_whole(inner) for inner in value]
    return value

