"""Steps that talk to other programs over the network: HTTP, lines by TCP and UDP, WebSocket messages; with an answer
as a value, if that is wanted."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import ClassVar

from lark import Tree

from brass_pebble.core.say.durations import SECOND, write_duration
from brass_pebble.core.say.problem import ProblemError

from .asks import CatchUp, Errand, GaveUp, Laying
from .steps import SETS_KEPT, Piece, Pieces, Step, fill, read_text, read_time, token
from .timetable import Timeline
from .value.kinds import TEXT, Known
from .value.reckon import Text

CALL_LIMIT = 30 * SECOND
LINE_LIMIT = 5 * SECOND
# Before a header's text: as it is, or the name of a secret.
PLAIN, SECRET = "=", "*"


@dataclass(eq=False, repr=False)
class Calls(Step):
    """A step whose answer may become a value; what stands under otherwise is played when there is none."""

    reach: ClassVar[str] = "calls an address"
    into: str = ""
    limit: int | None = None
    takes_otherwise: ClassVar[bool] = True
    sets: ClassVar[bool] = True
    usual_limit: ClassVar[int] = CALL_LIMIT

    @property
    def fixed(self) -> bool:
        return False

    def _read_end(self, into: Piece | None, limit: Piece | None, known: Known) -> None:
        self.limit = read_time(limit, self.line)
        if into is not None:
            self.into = str(token(into))
            known.learn(self.into, TEXT, self.line, token(into).column or 0)
            self.keeps = known[self.into].kept

    def does(self) -> str:
        return f"{self.reach} and {SETS_KEPT}" if self.keeps else self.reach

    def lay_call(self, timeline: Timeline, kind: str, words: tuple[str, ...]) -> Laying:
        """Make the call; it is waited for only where its answer matters."""
        yield CatchUp(self.line)
        matters = bool(self.into) or self.otherwise is not None
        answer = timeline.given.answers.get(self.into) if self.into else None
        if answer is None:
            answer = yield Errand(self.line, kind, words, wait=matters,
                                  limit=self.usual_limit if self.limit is None else self.limit)
        if not matters:
            return
        if answer is False or answer is None:
            if self.otherwise is None:
                raise GaveUp(self.line, f"there was no answer for “{self.into}”")
            yield from self.otherwise.lay(timeline)
        elif self.into:
            # Only looked at, or rehearsed, it is called after itself.
            timeline.values.put(self.into, answer if isinstance(answer, str) else self.into)

    def _end_words(self) -> str:
        into = f" into {self.into}" if self.into else ""
        return f"{into}{f' at most {write_duration(self.limit)}' if self.limit is not None else ''}"


@dataclass(eq=False, repr=False)
class Request(Calls):
    """An HTTP request; a body is sent as plain text, or as JSON if it is."""

    reach: ClassVar[str] = "calls an address"
    method: str = "get"
    url: Text = field(default_factory=lambda: Text('""', []))
    content: Text | None = None
    # Name, what stands before its text (PLAIN or SECRET), the text.
    headers: list[tuple[str, str, Text]] = field(default_factory=list)

    def read(self, pieces: Pieces, known: Known) -> None:
        self.method, self.url = str(pieces[0]), read_text(pieces[1], self.line, known)
        self.content = read_text(pieces[2], self.line, known) if pieces[2] is not None else None
        if not self.url.parts[0][0].startswith(("http://", "https://")):
            raise ProblemError("an address begins with http:// or https://", line=self.line,
                               column=token(pieces[1]).column or 0, hint='Write request get "http://…"')
        for piece in pieces[3:-2]:
            assert isinstance(piece, Tree)
            name, text = (read_text(part, self.line, known) for part in piece.children)
            if not name.fixed or not name.parts[0][0].replace("-", "").isalnum():
                raise ProblemError(f"a header cannot be called {name.source}", line=self.line,
                                   hint='Write header "Accept" "application/json"')
            self.headers.append((name.parts[0][0], SECRET if piece.data == "secret_header" else PLAIN, text))
        self._read_end(pieces[-2], pieces[-1], known)

    def lay(self, timeline: Timeline) -> Laying:
        headers = [word for name, how, text in self.headers for word in (name, how + fill(text, timeline))]
        content = fill(self.content, timeline) if self.content else ""
        yield from self.lay_call(timeline, "request", (self.method, fill(self.url, timeline), content, *headers))

    def words(self) -> str:
        body = f" with {self.content.source}" if self.content else ""
        headers = "".join(f' header "{name}" {"secret " if how == SECRET else ""}{text.source}'
                          for name, how, text in self.headers)
        return f"request {self.method} {self.url.source}{body}{headers}{self._end_words()}"


@dataclass(eq=False, repr=False)
class SendMessage(Calls):
    """A line by TCP or UDP, or a WebSocket message."""

    reach: ClassVar[str] = "sends a message"
    kind: str = "line"
    text: Text = field(default_factory=lambda: Text('""', []))
    target: Text = field(default_factory=lambda: Text('""', []))
    udp: bool = False
    usual_limit: ClassVar[int] = LINE_LIMIT

    def read(self, pieces: Pieces, known: Known) -> None:
        self.kind = str(pieces[0])
        self.text, self.target = (read_text(piece, self.line, known) for piece in pieces[1:3])
        self.udp = pieces[3] is not None
        begins = self.target.parts[0][0]
        column = token(pieces[2]).column or 0
        if self.kind == "message" and not begins.startswith(("ws://", "wss://")):
            raise ProblemError("a WebSocket address begins with ws:// or wss://", line=self.line, column=column,
                               hint='Write to "ws://127.0.0.1:4455"')
        host, colon, port = begins.rpartition(":")
        if self.kind == "line" and self.target.fixed and not (host and colon and port.isdigit() and int(port) < 65536):
            raise ProblemError("the receiver is written as HOST:PORT", line=self.line, column=column,
                               hint='Write to "127.0.0.1:7000"')
        if self.udp and self.kind == "message":
            raise ProblemError("a WebSocket message does not go by UDP", line=self.line, column=column,
                               hint="Leave by udp out")
        self._read_end(pieces[4], pieces[5], known)

    def lay(self, timeline: Timeline) -> Laying:
        way = "websocket" if self.kind == "message" else "udp" if self.udp else "tcp"
        yield from self.lay_call(timeline, "line", (way, fill(self.text, timeline), fill(self.target, timeline),
                                                    "answer" if self.into else ""))

    def words(self) -> str:
        udp = " by udp" if self.udp else ""
        return f"send {self.kind} {self.text.source} to {self.target.source}{udp}{self._end_words()}"


NETWORK_STEPS: dict[str, type[Step]] = {"request": Request, "message": SendMessage}
