"""Calling an address over HTTP for a macro: its redirects are followed only where the person would expect it."""

from __future__ import annotations

import contextlib
import ipaddress
import json
import socket
import urllib.error
import urllib.parse
import urllib.request
from typing import Any

from brass_pebble import paths
from brass_pebble.core.desk.model import ANYWHERE
from brass_pebble.core.macro.asks import Errand
from brass_pebble.core.macro.network_steps import SECRET

from .secrets import SecretError, read_one

# So much of an answer is read, in bytes.
MOST_ANSWERED = 1_000_000


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
        if request is not None and urllib.parse.urlsplit(newurl).netloc != urllib.parse.urlsplit(req.full_url).netloc:
            # What is secret goes to the host that it was written for, and to no other.
            for name in self._secret:
                request.remove_header(name)
        return request


def check_redirect(url: str, target: str) -> None:
    """See that a redirect stays where it was meant to go.

    Raises:
        Refused: it leads to another host, from HTTPS to HTTP, or from elsewhere to this machine.
    """
    old, new = urllib.parse.urlsplit(url), urllib.parse.urlsplit(target)
    what = ""
    if old.scheme == "https" and new.scheme != "https":
        what = "it redirects from HTTPS to plain HTTP"
    elif (old.hostname or "").casefold() != (new.hostname or "").casefold():
        what = "it redirects to this machine" if _is_here(new.hostname or "") else \
            f"it redirects to another host, {new.hostname}"
    if what:
        raise Refused(f'{what}. Call that address itself, or write redirects = "{ANYWHERE}" in desk.toml')


def _is_here(host: str) -> bool:
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        pass
    with contextlib.suppress(OSError, UnicodeError):
        return any(ipaddress.ip_address(row[4][0]).is_loopback for row in socket.getaddrinfo(host, None))
    return False


def _headers(words: list[str]) -> tuple[dict[str, str], frozenset[str]]:
    """Headers as they are sent, and the names of those that are secret.

    Raises:
        SecretError: a secret is not there.
    """
    given, secret = {}, set()
    for name, text in zip(words[::2], words[1::2], strict=True):
        if text.startswith(SECRET):
            given[name] = read_one(paths.secrets_file(), text[1:])
            secret.add(name.capitalize())
        else:
            given[name] = text[1:]
    return given, frozenset(secret)


def _decode(data: bytes, charset: str) -> str:
    try:
        return data.decode(charset, "replace")
    except LookupError:
        return data.decode("utf-8", "replace")


def send_request(ask: Errand, *, anywhere: bool = False) -> tuple[str, object]:
    """Send it; a remark for the trace, and whether it was answered well."""
    method, url, content, *rest = ask.words
    if urllib.parse.urlsplit(url).scheme not in ("http", "https"):
        return f"{url} is not an HTTP address", False
    data = content.encode() if content else None
    kind = "text/plain; charset=utf-8"
    if content:
        with contextlib.suppress(ValueError):
            json.loads(content)
            kind = "application/json"
    headers = {"Content-Type": kind} if data else {}
    try:
        given, secret = _headers(rest)
    except SecretError as error:
        return str(error), False
    headers |= given
    try:
        request = urllib.request.Request(url, data=data, method=method.upper(), headers=headers)
        opener = urllib.request.build_opener(_Redirects(anywhere=anywhere, secret=secret))
        with opener.open(request, timeout=ask.limit / 1e9) as reply:
            if not ask.wait:
                return f"{url} answered {reply.status}", True
            answer = reply.read(MOST_ANSWERED + 1)
            if len(answer) > MOST_ANSWERED:
                return f"{url} answered with more than {MOST_ANSWERED:,} bytes", False
            charset = reply.headers.get_content_charset() or "utf-8"
            return f"{url} answered {reply.status}", _decode(answer, charset)
    except urllib.error.HTTPError as error:
        return f"{url} answered {error.code} {error.reason}", False
    except (OSError, ValueError) as error:
        return f"{url} could not be reached: {getattr(error, 'reason', error)}", False
