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

from brass_pebble.core.desk.model import ANYWHERE
from brass_pebble.core.macro.asks import Errand


class Refused(OSError):
    """A redirect that is not followed; the text says why."""


class _Redirects(urllib.request.HTTPRedirectHandler):
    def __init__(self, *, anywhere: bool) -> None:
        self._anywhere = anywhere

    def redirect_request(self, req: urllib.request.Request, fp: Any, code: int, msg: str, headers: Any,
                         newurl: str) -> urllib.request.Request | None:
        if not self._anywhere:
            check_redirect(req.full_url, newurl)
        return super().redirect_request(req, fp, code, msg, headers, newurl)


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


def send_request(ask: Errand, *, anywhere: bool = False) -> tuple[str, object]:
    """Send it; a remark for the trace, and whether it was answered well."""
    method, url, content = ask.words
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
        request = urllib.request.Request(url, data=data, method=method.upper(), headers=headers)
        opener = urllib.request.build_opener(_Redirects(anywhere=anywhere))
        with opener.open(request, timeout=ask.limit / 1e9) as reply:
            return f"{url} answered {reply.status}", True
    except urllib.error.HTTPError as error:
        return f"{url} answered {error.code} {error.reason}", False
    except (OSError, ValueError) as error:
        return f"{url} could not be reached: {getattr(error, 'reason', error)}", False
