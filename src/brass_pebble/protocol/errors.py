"""Why a request was refused: one class for each code, with what it means and what a client can do."""

from __future__ import annotations

from typing import ClassVar


class Refusal(Exception):
    """It cannot be done as things are."""

    code: ClassVar[str] = "refused"

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.what, self.hint = what, hint


class BadMessage(Refusal):
    """The message is not one that was declared: no JSON, an unknown field, a value out of its limits."""

    code = "bad-message"


class NoHello(Refusal):
    """The first message was no greeting."""

    code = "no-hello"


class WrongProtocol(Refusal):
    """The two sides speak different versions of the protocol."""

    code = "wrong-protocol"


class TooLong(Refusal):
    """The line is longer than is taken; the connection is closed."""

    code = "too-long"


class TooMany(Refusal):
    """Too many clients are connected; the connection is closed."""

    code = "too-many"


class UnknownRequest(Refusal):
    """There is no such request."""

    code = "unknown-request"


class UnknownMacro(Refusal):
    """There is no such macro."""

    code = "unknown-macro"


class Broken(Refusal):
    """The macro has mistakes."""

    code = "broken"


class ChangedMeanwhile(Refusal):
    """Another program has changed the same thing; what was sent is kept as a draft."""

    code = "changed"


class OnlyKeyboard(Refusal):
    """It would be the last keyboard: the phrase that the hint names has to be sent with it."""

    code = "only-keyboard"


class NoKeyboard(Refusal):
    """There is no keyboard to listen to."""

    code = "no-keyboard"


class NoWindows(Refusal):
    """The system does not tell which windows are open."""

    code = "no-windows"


class Failed(Refusal):
    """A mistake of the program; the log has the details."""

    code = "failed"


ERRORS: dict[str, type[Refusal]] = {kind.code: kind for kind in (
    Refusal, BadMessage, NoHello, WrongProtocol, TooLong, TooMany, UnknownRequest, UnknownMacro, Broken,
    ChangedMeanwhile, OnlyKeyboard, NoKeyboard, NoWindows, Failed)}
