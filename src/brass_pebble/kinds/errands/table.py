"""The kinds of calls that there are."""

from __future__ import annotations

from collections.abc import Callable

from .base import CallKind


def call_kinds(secret: Callable[[str], str], anywhere: Callable[[], bool]) -> dict[str, Callable[[], CallKind]]:
    """Every kind, by the word of its errands.  What is slow to import is imported when it is first called for."""
    def request() -> CallKind:
        from .http import Request
        return Request(secret, anywhere)

    def line() -> CallKind:
        from .lines import Line
        return Line()

    def osc() -> CallKind:
        from .osc import Osc
        return Osc()
    return {"request": request, "line": line, "osc": osc}
