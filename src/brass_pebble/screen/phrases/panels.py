"""What is set for one phrase, and for one microphone; changed at once."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping
from typing import Any, ClassVar

from textual.binding import BindingType

from brass_pebble.core.desk.look.drawn import PhraseRow, SurfaceRow
from brass_pebble.core.say.setting import Setting, settings_of
from brass_pebble.core.voice.listening import Listening
from brass_pebble.core.voice.phrase import Phrase
from brass_pebble.screen.known import NO_SURFACE, Known
from brass_pebble.screen.settings.panel import Ask, SettingsPanel

# What stands between wordings where several are typed in one line.
BETWEEN = " / "
NO_PHRASE = PhraseRow(id="", say=[], slots={}, strict=70, attention=True, reply="")
Type = Callable[[str, str, str, Callable[[str], Awaitable[str]]], Awaitable[None]]


class PhrasePanel(SettingsPanel):
    """One phrase: its wordings, its slots, how sure it has to be."""

    BINDINGS: ClassVar[list[BindingType]] = [("i", "leave", "back")]
    MODEL = Phrase

    def __init__(self, surface: str, phrase: str, known: Known, ask: Ask, type_in: Type) -> None:
        super().__init__(ask)
        self._surface, self._phrase, self._known, self._type_in = surface, phrase, known, type_in

    @property
    def phrase(self) -> PhraseRow:
        """The phrase as it is now."""
        row = self._known.surface(self._surface) or NO_SURFACE
        return next((each for each in row.phrases if each.id == self._phrase), NO_PHRASE)

    def heading(self) -> str:
        return f"“{self.phrase.short or self._phrase}”"

    def about(self) -> str:
        return f"Slots: {self.phrase.counts}." if self.phrase.counts else "It has no slots."

    def written(self) -> Mapping[str, Any]:
        phrase = self.phrase
        return {"strict": phrase.strict, "attention": phrase.attention, "reply": phrase.reply}

    def more(self) -> list[tuple[str, str]]:
        """Its wordings, a row each, and one more."""
        rows = [(f"say {index}", f"{'said as' if not index else 'or as':18} {text}")
                for index, text in enumerate(self.phrase.say)]
        return [*rows, ("say more", f"{'':18} + another wording"), ("slots", f"{'slots':18} change what can be said")]

    async def put(self, what: str, value: Any) -> bool:
        row = settings_of(Phrase)[what]
        usual = row.kind.write(row.default)
        name = "reply_text" if what == "reply" else what
        return bool(await self._ask("set_phrase", surface=self._surface, phrase=self._phrase,
                                    **{name: usual if value is None else value}))

    async def choose(self, what: str) -> None:
        if what == "slots":
            await self._type_in("Slots", "As in desk.toml: level = 0 to 100 by 1, camera = oven: Ctrl+1; bench: "
                                         "Ctrl+2, text = 6 words.", write_slots(self.phrase), self._put_slots)
            return
        say = list(self.phrase.say)
        at = len(say) if what == "say more" else int(what.split()[1])

        async def save(text: str) -> str:
            return await self._put_say([*say[:at], text, *say[at + 1:]])
        await self._type_in("What is said", "[words] in brackets may be left out, {level} is a slot. Empty it to take "
                            "the wording away.", say[at] if at < len(say) else "", save)

    async def _put_say(self, say: list[str]) -> str:
        return await self._save(say=[text for text in say if text.strip()])

    async def _put_slots(self, text: str) -> str:
        try:
            slots = read_slots(text)
        except ValueError as error:
            return str(error)
        return await self._save(slots=slots)

    async def _save(self, **fields: Any) -> str:
        reply = await self._ask("set_phrase", surface=self._surface, phrase=self._phrase, **fields)
        return "" if reply is not None else "it was not changed"


class ListeningPanel(SettingsPanel):
    """One microphone: its attention word, how it replies."""

    BINDINGS: ClassVar[list[BindingType]] = [("i", "leave", "back")]
    MODEL = Listening

    def __init__(self, surface: str, known: Known, ask: Ask, type_in: Type) -> None:
        super().__init__(ask)
        self._surface, self._known, self._type_in = surface, known, type_in

    @property
    def surface(self) -> SurfaceRow:
        """The surface as it is now."""
        return self._known.surface(self._surface) or NO_SURFACE

    def heading(self) -> str:
        return f"Listening: {self.surface.name}"

    def written(self) -> Mapping[str, Any]:
        return self.surface.listening

    def more(self) -> list[tuple[str, str]]:
        """The words that govern listening."""
        rows = []
        for name, label in (("attention", "attention word"), ("start", "starts listening"),
                            ("stop", "stops listening")):
            rows.append((name, f"{label:18} {BETWEEN.join(self._texts(name)) or 'none'}"))
        return rows

    def _texts(self, name: str) -> list[str]:
        usual: Setting = settings_of(Listening)[name]
        return list(self.surface.listening.get(name, usual.default))

    async def put(self, what: str, value: Any) -> bool:
        return bool(await self._ask("set_listening", surface=self._surface, what=what, value=value))

    async def choose(self, what: str) -> None:
        async def save(text: str) -> str:
            texts = [part.strip() for part in text.split("/") if part.strip()]
            return "" if await self.put(what, texts) else "it was not changed"
        await self._type_in(settings_of(Listening)[what].means[:1].upper() + settings_of(Listening)[what].means[1:],
                            "Several ways to say it stand with / between them.", BETWEEN.join(self._texts(what)), save)


def write_slots(phrase: PhraseRow) -> str:
    """Slots on one line: `level = 0 to 100 by 5, camera = oven: Ctrl+1; bench: 2, text = 6 words`."""
    parts = []
    for name, slot in phrase.slots.items():
        if slot.one_of:
            parts.append(f"{name} = " + "; ".join(f"{words}: {gives}" for words, gives in slot.one_of.items()))
        elif slot.words:
            parts.append(f"{name} = {slot.words} words")
        else:
            parts.append(f"{name} = {slot.low or 0:g} to {100 if slot.high is None else slot.high:g} by "
                         f"{slot.step or 1:g}")
    return ", ".join(parts)


def read_slots(text: str) -> dict[str, dict[str, Any]]:
    """Slots from one line, as the request has them.

    Raises:
        ValueError: it cannot be read; the text says what and how it is written.
    """
    found: dict[str, dict[str, Any]] = {}
    for part in text.split(","):
        if not part.strip():
            continue
        name, equals, what = (piece.strip() for piece in part.partition("="))
        if not equals or not name.isidentifier() or not what:
            raise ValueError(f"“{part.strip()}” names no slot; write level = 0 to 100 by 1")
        if what.endswith(("words", "word")) and what.split()[0].isdigit():
            found[name] = {"words": int(what.split()[0])}
        elif ":" in what:
            found[name] = {"one_of": _choices(what)}
        else:
            found[name] = _numbers(what)
    return found


def _choices(text: str) -> dict[str, int | str]:
    chosen: dict[str, int | str] = {}
    for each in text.split(";"):
        words, _, gives = (piece.strip() for piece in each.partition(":"))
        if words and gives:
            chosen[words] = int(gives) if gives.lstrip("-").isdigit() else gives
    return chosen


def _numbers(text: str) -> dict[str, Any]:
    low, _, rest = text.partition(" to ")
    high, _, step = rest.partition(" by ")
    try:
        return {"low": float(low), "high": float(high), "step": float(step or 1)}
    except ValueError:
        raise ValueError(f"“{text}” is not a range; write 0 to 100 by 1, or oven: Ctrl+1; bench: Ctrl+2, or 6 words"
                         ) from None
