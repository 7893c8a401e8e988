"""The protocol: what is declared is what is read, written, answered and told."""

from __future__ import annotations

import inspect
import json
import subprocess
import sys
from pathlib import Path
from typing import Any, get_type_hints

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brass_pebble.client import EngineClient, EngineError
from brass_pebble.engine.clients import (
    asking_requests,
    giving_requests,
    layer_requests,
    macro_requests,
    meet_requests,
    motion_requests,
    network_requests,
    paper_requests,
    requests,
    usage_requests,
    voice_requests,
)
from brass_pebble.protocol import table
from brass_pebble.protocol.base import Request
from brass_pebble.protocol.conversation import Conversation, NotDeclared
from brass_pebble.protocol.errors import ERRORS, Refusal
from brass_pebble.protocol.wire import number_of, raw, read_request, write

PARTS = (asking_requests.AskingRequests, giving_requests.GivingRequests, layer_requests.LayerRequests,
         macro_requests.MacroRequests, meet_requests.MeetRequests, motion_requests.MotionRequests,
         network_requests.NetworkRequests, paper_requests.PaperRequests, requests.Requests,
         usage_requests.UsageRequests, voice_requests.VoiceRequests)
TOOLS = Path(__file__).parent.parent / "tools"


def test_the_reference_and_the_schema_are_what_is_declared() -> None:
    for page in ("protocol_page.py", "settings_page.py"):
        said = subprocess.run([sys.executable, TOOLS / page, "--check"], capture_output=True, text=True, check=False)
        assert said.returncode == 0, f"make protocol: {page} {said.stdout}{said.stderr}"
    schema = json.loads((TOOLS.parent / "docs" / "protocol.schema.json").read_text())
    assert schema["requests"].keys() == table.requests().keys()
    play = schema["$defs"]["Play"]
    assert play["properties"]["do"] == {"enum": ["play"]} and "macro" in play["required"]


def test_the_schema_has_one_form_whichever_version_of_the_library_wrote_it(monkeypatch: pytest.MonkeyPatch) -> None:
    """Libraries differ in the indentation of docstrings, and in the order of keys and of alternatives."""
    monkeypatch.syspath_prepend(str(TOOLS))
    import schema_form

    class Held:
        """What is held.

            A line that is set in.

        Another one.
        """

    def written(*, backwards: bool) -> dict[str, Any]:
        turn: Any = reversed if backwards else list
        text = Held.__doc__ if backwards else inspect.cleandoc(Held.__doc__ or "")
        field = dict(turn([("anyOf", [*turn([{"type": "null"}, {"type": "string"}, {"$ref": "#/$defs/Other"}])]),
                           ("default", None)]))
        return dict(turn([
            ("Other", {"type": "object", "title": "Other", "properties": {}, "description": "Not a class of ours."}),
            ("Held", dict(turn([
                ("title", "Held"), ("type", "object"), ("required", [*turn(["b", "a"])]), ("description", text),
                ("properties", {"b": field, "a": {"enum": [*turn(["off", "on", "far"])]}})])))]))

    one, other = (json.dumps(schema_form.in_our_form(written(backwards=way), {"Held": Held})) for way in (True, False))
    assert one == other
    held = json.loads(one)["Held"]
    assert held["description"] == "What is held.\n\n    A line that is set in.\n\nAnother one."
    assert held["properties"]["b"]["anyOf"] == [{"$ref": "#/$defs/Other"}, {"type": "string"}, {"type": "null"}]
    assert held["required"] == ["b", "a"] and [*held["properties"]] == ["b", "a"]


def test_every_request_has_one_handler_that_takes_its_type() -> None:
    found: dict[str, Any] = {}
    for part in PARTS:
        for name, method in inspect.getmembers(part, inspect.isfunction):
            if name.startswith("do_"):
                word = name.removeprefix("do_")
                assert word not in found, word
                found[word] = get_type_hints(method)["ask"]
    assert found.keys() == table.requests().keys() - {"hello", "follow"}
    assert {word: kind for word, kind in found.items() if kind is not table.requests()[word]} == {}


def test_everything_declared_says_what_it_is_for() -> None:
    for word, kind in {**table.requests(), **table.news()}.items():
        assert kind.__doc__ and kind.__doc__.split("\n")[0].endswith((".", ":")), word
        assert kind.__struct_config__.frozen
    assert all(kind.__doc__ for kind in ERRORS.values())


@pytest.mark.parametrize(("line", "code", "what", "hint"), [
    ('{"do": "plai"}', "unknown-request", "there is no request “plai”", "Did you mean play?"),
    ("{}", "unknown-request", "there is no request “”", "Available: hello, follow"),
    ('{"do": "play"}', "bad-message", "“macro” is missing", "docs/protocol.md tells the fields of “play”"),
    ('{"do": "play", "macros": "x"}', "bad-message", "there is no field “macros”", "Did you mean macro?"),
    ('{"do": "play", "macro": 4}', "bad-message", "“macro” cannot be so: it must be a text, not a whole number", ""),
    ('{"do": "traces", "count": 501}', "bad-message", "“count” cannot be so: it must be a whole number, at most 500",
     ""),
    ('{"do": "home", "surface": "x", "home": [1]}', "bad-message", "“home[0]” cannot be so: it must be a text", ""),
    ('{"do": "main", "device": "' + 1001 * "x" + '"}', "bad-message",
     "“device” cannot be so: it must be a text with at most 1000 characters", ""),
    ('{"do": "take_in", "file": "x", "onto": {"a": {"her": "b"}}}', "bad-message", "“here” is missing in “onto[...]”",
     ""),
    ('{"do": "play", "macro": "\\ud800"}', "bad-message", "a text holds half a character", "Send whole characters"),
    ("[1]", "bad-message", "a message must be a JSON object", "Send one JSON object a line"),
    ("nope", "bad-message", "the line is not JSON", "Send one JSON object a line"),
    ('{"id": 1.5, "do": "stop"}', "bad-message", "“id” must be a number or a short text", "Send at most 100"),
    ('{"id": "' + 101 * "x" + '", "do": "stop"}', "bad-message", "“id” must be a number or a short text", ""),
])
def test_what_is_not_declared_is_refused_with_a_sentence(line: str, code: str, what: str, hint: str) -> None:
    with pytest.raises(Refusal) as caught:
        read_request(line.encode())
    assert caught.value.code == code
    assert caught.value.what.startswith(what), caught.value.what
    assert caught.value.hint.startswith(hint), caught.value.hint


JSON = st.recursive(st.none() | st.booleans() | st.integers() | st.floats() | st.text(max_size=9),
                    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=6), inner, max_size=4),
                    max_leaves=9)
FIELDS = sorted({name for kind in table.requests().values() for name in kind.__struct_encode_fields__})


@given(st.binary(max_size=60) | st.dictionaries(
    st.sampled_from([*FIELDS, "x"]), JSON, max_size=5).flatmap(lambda row: st.sampled_from(
        [{**row, "do": word} for word in table.requests()])).map(lambda row: json.dumps(row).encode()))
def test_whatever_comes_is_a_request_or_is_refused(line: bytes) -> None:
    number = number_of(line)
    assert number is None or isinstance(number, int | str)
    try:
        assert isinstance(read_request(line), Request)
    except Refusal as refusal:
        assert refusal.what and refusal.code in ERRORS
        # The refusal itself can be sent.
        assert json.loads(write({"re": number, "what": refusal.what}))


def test_what_steers_a_terminal_is_shown() -> None:
    line = write({"a": "\x1b[31m \u202e \x9b \\u001b", "b": raw({"c": "\x07"})})
    assert line == b'{"a":"\\\\u001b[31m \\\\u202e \\\\u009b \\\\u001b","b":{"c":"\\\\u0007"}}\n'
    # Halves of characters, which names of files may hold, go out as question marks.
    assert json.loads(write({"a": ["\ud83d", {"\udc00": 1}], "b": raw("\ud83d")})) == {"a": ["?", {"?": 1}], "b": "?"}


def test_a_client_finds_what_was_not_declared() -> None:
    talk = Conversation(checks=True)
    number, line = talk.ask("stop", {})
    assert json.loads(line) == {"id": number, "do": "stop"}
    assert talk.take(json.dumps({"re": number, "ok": True, "runs": 2}).encode()).message["runs"] == 2
    for message, said in (({"runs": "2"}, "Stopped is not as declared: Expected `int`, got `str`"), ({}, "runs"),
                          ({"runs": 2, "more": 1}, "fields that are not declared: more")):
        number, _ = talk.ask("stop", {})
        with pytest.raises(NotDeclared, match=said):
            talk.take(json.dumps({"re": number, "ok": True, **message}).encode())
    with pytest.raises(NotDeclared, match="no topic weather"):
        talk.take(b'{"topic": "weather"}')
    with pytest.raises(NotDeclared, match="not declared"):
        talk.take(b'{"re": 9, "ok": false, "error": {"code": "odd", "what": "x", "hint": ""}}')
    # News, and a refusal by its code.
    assert talk.take(b'{"topic": "note", "text": "x", "bell": false}').number is None
    came = talk.take(b'{"re": 9, "ok": false, "error": {"code": "refused", "what": "no", "hint": "Try again"}}')
    assert came.error is not None and str(came.error) == "no. Try again"


def test_the_engine_refuses_by_class(client: EngineClient) -> None:
    for do, fields, code in (("play", {"macro": "welcom"}, "unknown-macro"), ("plai", {}, "unknown-request"),
                             ("play", {"macros": "x"}, "bad-message"), ("main", {"device": "x"}, "refused"),
                             ("rehearse", {"text": "tapp A"}, "broken")):
        with pytest.raises(EngineError) as caught:
            client.ask(do, **fields)
        assert caught.value.code == code and caught.value.what
