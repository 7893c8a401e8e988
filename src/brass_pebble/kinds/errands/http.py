"""Calling an address over HTTP for a macro: its redirects are followed only where the person would expect it."""

from __future__ import annotations

import contextlib
import http.client
import json
import urllib.error
import urllib.parse
import urllib.request
from collections.abc import Callable
from ipaddress import ip_address
from typing import Any, ClassVar

from brass_pebble.core.desk.model import ANYWHERE
from brass_pebble.core.macro.asks import Ask, Errand
from brass_pebble.core.macro.network_steps import SECRET

from .base import Done, usual_limit, why
from .call import Call
from .names import is_number

# So much of an answer is read, in bytes.
MOST_ANSWERED = 1_000_000
# So much of what a server says beside its number is told, in characters.
MOST_REASON = 80
Origin = tuple[str, str, int | None]
PORTS = {"http": 80, "https": 443, "ws": 80, "wss": 443}


class Refused(OSError):
    """A redirect that is not followed; the text says why."""


class _Redirects(urllib.request.HTTPRedirectHandler):
    def __init__(self, *, anywhere: bool, secret: frozenset[str] = frozenset()) -> None:
        self._anywhere, self._secret = anywhere, secret

    def redirect_request(self, req: urllib.request.Request, fp: Any, code: int, msg: str, headers: Any,
                         newurl: str) -> urllib.request.Request | None:
        if not self._anywhere:
            check_redirect(req.full_url, newurl)
        request = super().redirect_request(req, fp, code, msg, headers, newurl)
        if request is not None and not same_place(origin(req.full_url), origin(newurl)):
            # What is secret goes to the place that it was written for, and to no other.
            for name in self._secret:
                request.remove_header(name)
        return request


def origin(url: str) -> Origin:
    """Who answers at an address: scheme, host and port (RFC 6454)."""
    parts = urllib.parse.urlsplit(url)
    return parts.scheme, (parts.hostname or "").casefold(), parts.port or PORTS.get(parts.scheme)


def same_place(old: Origin, new: Origin) -> bool:
    """Whether the same one answers, or HTTP is only made safer at the usual ports."""
    return old == new or (old == ("http", new[1], 80) and new == ("https", old[1], 443))


def check_redirect(url: str, target: str) -> None:
    """See that a redirect stays where it was meant to go: the same host and port, and HTTP only made safer.

    Raises:
        Refused: it leads elsewhere.
    """
    old, new = origin(url), origin(target)
    if same_place(old, new):
        return
    if old[0] == "https" and new[0] == "http":
        what = "it redirects from HTTPS to plain HTTP"
    elif new[0] not in ("http", "https"):
        what = "it redirects to what is not HTTP"
    elif old[1] != new[1] and (new[1] == "localhost" or (is_number(new[1]) and ip_address(new[1]).is_loopback)):
        what = "it redirects to this machine"
    elif old[1] != new[1]:
        what = f"it redirects to another host, {new[1]}"
    else:
        what = f"it redirects to another port, {new[2]}"
    raise Refused(f'{what}. Call that address itself, or write redirects = "{ANYWHERE}" in desk.toml')


class _Plain(http.client.HTTPConnection):
    """A connection that the call can end."""

    call: Call

    def connect(self) -> None:
        self._create_connection = lambda place, *rest: self.call.connect(*place)
        super().connect()


class _Safe(http.client.HTTPSConnection):
    """The same with TLS."""

    call: Call

    def connect(self) -> None:
        self._create_connection = lambda place, *rest: self.call.connect(*place)
        super().connect()


class _Opening(urllib.request.HTTPHandler, urllib.request.HTTPSHandler):
    """Opens both kinds of addresses with connections of this call."""

    def __init__(self, call: Call) -> None:
        super().__init__()
        self._call = call

    def http_open(self, request: urllib.request.Request) -> http.client.HTTPResponse:
        return self.do_open(self._plain, request)

    def https_open(self, request: urllib.request.Request) -> http.client.HTTPResponse:
        return self.do_open(self._safe, request)

    def _plain(self, host: str, /, **settings: Any) -> http.client.HTTPConnection:
        connection = _Plain(host, **settings)
        connection.call = self._call
        return connection

    def _safe(self, host: str, /, **settings: Any) -> http.client.HTTPConnection:
        connection = _Safe(host, **settings)
        connection.call = self._call
        return connection


def _decode(data: bytes, charset: str) -> str:
    try:
        return data.decode(charset, "replace")
    except LookupError:
        return data.decode("utf-8", "replace")


class Request:
    """`secret(name)` is the text of a secret, and raises an OSError without it; `anywhere` says whether redirects are
    followed wherever they lead."""

    fields: ClassVar[tuple[str, ...]] = ("method", "address", "content", "header…")
    pool: ClassVar[str] = "request"
    reach: ClassVar[str] = "calls an address"
    tells: ClassVar[bool] = False

    def __init__(self, secret: Callable[[str], str], anywhere: Callable[[], bool]) -> None:
        self._secret, self._anywhere = secret, anywhere

    def limit(self, ask: Ask) -> int:
        return usual_limit(ask)

    def whom(self, ask: Ask) -> str:
        assert isinstance(ask, Errand)
        return ask.words[1]

    def _headers(self, words: list[str]) -> tuple[dict[str, str], frozenset[str]]:
        """Headers as they are sent, and the names of those that are secret."""
        given, secret = {}, set()
        for name, text in zip(words[::2], words[1::2], strict=True):
            if text.startswith(SECRET):
                given[name] = self._secret(text[1:])
                secret.add(name.capitalize())
            else:
                given[name] = text[1:]
        return given, frozenset(secret)

    def do(self, ask: Ask, call: Call) -> Done:
        assert isinstance(ask, Errand)
        method, url, content, *rest = ask.words
        if urllib.parse.urlsplit(url).scheme not in ("http", "https"):
            return f"{url} is not an HTTP address", False
        data = content.encode() if content else None
        kind = "text/plain; charset=utf-8"
        if content:
            with contextlib.suppress(ValueError):
                json.loads(content)
                kind = "application/json"
        try:
            given, secret = self._headers(rest)
        except OSError as error:
            return str(error), False
        headers = {"Content-Type": kind} if data else {}
        request = urllib.request.Request(url, data=data, method=method.upper(), headers=headers | given)
        opener = urllib.request.build_opener(_Redirects(anywhere=self._anywhere(), secret=secret), _Opening(call))
        try:
            with opener.open(request, timeout=call.left()) as reply:
                if not ask.wait:
                    return f"{url} answered {reply.status}", True
                answer = reply.read(MOST_ANSWERED + 1)
                # Without a length a shut connection looks like the end of the answer.
                call.left()
                if len(answer) > MOST_ANSWERED:
                    return f"{url} answered with more than {MOST_ANSWERED:,} bytes", False
                charset = reply.headers.get_content_charset() or "utf-8"
                return f"{url} answered {reply.status}", _decode(answer, charset)
        except urllib.error.HTTPError as error:
            error.close()
            return f"{url} answered {error.code} {str(error.reason)[:MOST_REASON]}", False
        except (OSError, ValueError, http.client.HTTPException) as error:
            cause = error.reason if isinstance(error, urllib.error.URLError) else error
            if secret and not isinstance(cause, Refused) and not (isinstance(cause, OSError) and cause.strerror):
                # A library's sentence may hold what it could not send.
                return f"{url} could not be reached; why is not told, since a secret goes with it", False
            return f"{url} could not be reached: {why(cause if isinstance(cause, Exception) else error)}", False
