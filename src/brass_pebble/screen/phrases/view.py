"""The Phrases view: what is listened for now, what was heard last and how near it was, and readings to choose from."""

from __future__ import annotations

import re
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from typing import ClassVar

from rich.text import Text
from textual import events, on, work
from textual.app import ComposeResult
from textual.binding import Binding, BindingType
from textual.containers import Horizontal, Vertical
from textual.widgets import OptionList, Static

from brass_pebble.core.desk.look.drawn import PhraseRow, SurfaceRow
from brass_pebble.core.voice.sounds import sounds_as_in
from brass_pebble.protocol.base import News
from brass_pebble.protocol.topics import LoudnessNews, TraceNews
from brass_pebble.protocol.voice import AskVoices, NewPhrase, VoiceRow, Voices
from brass_pebble.screen.base.desk_actions import STOP, UNDO
from brass_pebble.screen.base.list_view import ListedView
from brass_pebble.screen.base.sheets import AskText, Choose, Sheet, explain
from brass_pebble.screen.giving.reading import sketch_rows
from brass_pebble.screen.known import Known, Spot
from brass_pebble.screen.link import Asks
from brass_pebble.screen.widgets.key_footer import KeyFooter
from brass_pebble.screen.widgets.path_bar import Hop, PathBar
from brass_pebble.screen.widgets.sketch import Sketch
from brass_pebble.screen.widgets.status_line import StatusLine

from .heard_panel import HeardPanel, state_of
from .panels import BETWEEN, ListeningPanel, PhrasePanel

# For so long loudness is asked for, and it is asked for again so often, in s.
LOOKS, LOOKS_AGAIN = 60, 30.0
LOW = 30
# A recording is at most so long, in s.
RECORDS = 60
REPLIES = {"sound": "by a short sound", "voice": "by voice"}
SLOT = re.compile(r"\{([a-z][a-z0-9_]*)\}")
SAID = "What is said, as it is spoken: [words] in brackets may be left out, {level} is a slot."


@dataclass(frozen=True)
class Line:
    """A row of the list: a microphone, or one of its phrases."""

    surface: SurfaceRow
    phrase: PhraseRow | None = None


class PhrasesView(ListedView[Line]):
    """Microphones and their phrases."""

    NAME = "Phrases"
    DEFAULT_CSS = """
    PhrasesView #summary { display: none; }
    PhrasesView OptionList { text-wrap: nowrap; text-overflow: ellipsis; }
    """
    FRESH: ClassVar[tuple[str, ...]] = ("desk", "layers")
    ALSO: ClassVar[tuple[tuple[str, str], ...]] = (("1 to 4, 0", "choose a reading, or none of them"),)
    BINDINGS: ClassVar[list[BindingType]] = [
        Binding("enter", "say", "say it", tooltip="do what it does when it is spoken"),
        Binding("n", "add_phrase", "new phrase", tooltip="a new phrase"),
        Binding("i", "settings", "change", tooltip="its words and settings; of the microphone: how it listens"),
        Binding("b", "bind", "bind", tooltip="give it an action"),
        Binding("o", "switch", "listen or not", tooltip="let phrases count, or not"),
        Binding("delete", "take_away", "delete", tooltip="delete the phrase"), *UNDO, STOP,
        Binding("f6", "teach", "teach a word", show=False, tooltip="how a word is pronounced: hear, say, type it"),
        Binding("f9", "say_new", "say a new phrase",
                tooltip="say the words of a new phrase, and accept what was understood"),
        Binding("f8", "record", "record", tooltip="record what you say; then: see what it would do"),
        Binding("f5", "try_out", "try it", tooltip="say it five times, then talk: how strict it should be"),
        Binding("f10", "erase", "erase the recording", show=False, tooltip="erase the recording"),
        Binding("e", "explain", "explain", show=False, tooltip="explain what was heard last, step by step"),
        *(Binding(str(number), f"take_reading({number})", show=False) for number in range(5)),
    ]

    def __init__(self, known: Known, link: Asks, surface: str = "") -> None:
        super().__init__(known, link)
        self._first = surface
        self._words, self._loud = "", -120.0
        # The microphone whose recording is tried as soon as it is whole.
        self._tries_next = ""

    def compose(self) -> ComposeResult:
        """From top to bottom."""
        yield StatusLine(self.known)
        yield PathBar(self.known)
        yield HeardPanel()
        yield Static(id="summary", markup=False)
        with Horizontal():
            yield OptionList(markup=False)
            with Vertical(id="about"):
                yield from self.beside()
        yield KeyFooter()

    def on_mount(self) -> None:
        """Ask for loudness for as long as the view is open."""
        self._look()
        self.set_interval(LOOKS_AGAIN, self._look)
        self.set_interval(1.0, self._count_down)

    def on_unmount(self) -> None:
        """Nobody looks any more."""
        self.app.run_worker(self.link.ask("look_at_voice", seconds=0), exit_on_error=False)

    @work(group="look", exclusive=True)
    async def _look(self) -> None:
        if self.known.connected:
            await self.ask("look_at_voice", seconds=LOOKS)

    def on_resize(self, event: events.Resize) -> None:
        """Less room for what is heard on a low terminal."""
        self.query_one(HeardPanel).set_class(event.size.height < LOW, "low")
        self.call_after_refresh(self._show_heard)

    # What is shown.

    @property
    def voice(self) -> VoiceRow | None:
        """The microphone of the chosen row, or the one that asks."""
        asks = next((voice for voice in self.known.voices if voice.choices), None)
        if asks is not None:
            return asks
        surface = self.row.surface.id if self.row is not None else ""
        return next((voice for voice in self.known.voices if voice.surface == surface), None)

    @work(group="voices", exclusive=True)
    async def load(self) -> None:
        """Ask, and show."""
        reply = await self.query_engine(Voices, AskVoices())
        if reply is not None:
            self.known.voices = reply.voices
        self._show_rows()
        if self._first and self.rows:
            at = next((index for index, line in enumerate(self.rows) if line.surface.id == self._first), 0)
            self.query_one(OptionList).highlighted = at
            self._first = ""
        self._show_heard()
        await self._try_next()

    async def _try_next(self) -> None:
        """A recording that has just become whole is tried."""
        kept = next((voice.recording for voice in self.known.voices if voice.surface == self._tries_next), None)
        if kept is not None and kept.seconds and not kept.records:
            surface, self._tries_next = self._tries_next, ""
            await self.ask("try_recording", surface=surface)

    def _show_rows(self) -> None:
        self.put([line for surface in self.known.desk.surfaces if surface.layout == "phrases"
                  for line in (Line(surface), *(Line(surface, phrase) for phrase in surface.phrases))])

    def same(self, one: Line, other: Line) -> bool:
        return one.surface.id == other.surface.id and (one.phrase.id if one.phrase else "") == (
            other.phrase.id if other.phrase else "")

    def line(self, row: Line) -> Text:
        palette = self.palette
        if row.phrase is None:
            voice = next((each for each in self.known.voices if each.surface == row.surface.id), None)
            state, well = state_of(voice) if voice is not None else ("", True)
            return Text.assemble((f"{row.surface.name}  ", f"bold {palette.brass}"),
                                 (state, palette.verdigris if well else palette.rust), no_wrap=True,
                                 overflow="ellipsis")
        voice = next((each for each in self.known.voices if each.surface == row.surface.id), None)
        counts = voice is not None and row.phrase.id in voice.listens
        control = next((each for each in row.surface.controls if each.id == row.phrase.id), None)
        means = f"{control.glyph} {control.words}" if control is not None and control.kind else "nothing bound yet (b)"
        return Text.assemble(("  ◖ " if counts else "  ◌ ", palette.verdigris if counts else palette.dim),
                             (f"{row.phrase.say[0]}  ", f"bold {palette.text}" if counts else palette.dim),
                             (means, palette.tint(control.tint) if control is not None and control.kind
                              else palette.dim), no_wrap=True, overflow="ellipsis")

    def summary(self) -> Text:
        return Text()

    def show_row(self, row: Line | None) -> None:
        palette, sketch = self.palette, self.query_one(Sketch)
        says, bar = self.query_one("#says", Static), self.query_one(PathBar)
        sketch.display = row is not None and bool(row.surface.phrases)
        if row is None:
            says.update(Text("Nothing here is spoken to yet. M: meet a microphone.", style=palette.text))
            bar.set_hops([Hop("no microphone", "visit('meet')")])
            return
        if row.phrase is None:
            says.update(self._about_microphone(row.surface))
            bar.set_hops([Hop(row.surface.name, "settings")])
        else:
            control = next((each for each in row.surface.controls if each.id == row.phrase.id), None)
            says.update(self._about_phrase(row.phrase))
            bar.set_hops([Hop(row.surface.name, "settings"), Hop(f"“{row.phrase.say[0]}”", "settings"),
                          Hop(control.layer if control is not None and control.layer else "no layer", "bind"),
                          Hop(f"{control.words}" if control is not None and control.kind else "nothing bound",
                              "bind")])
        rows, seen = sketch_rows(row.surface)
        sketch.show(rows, seen=seen)
        self._show_heard()

    def _about_microphone(self, surface: SurfaceRow) -> Text:
        palette = self.palette
        voice = self.voice
        listening = surface.listening
        text = Text.assemble((f"{surface.name}\n", f"bold {palette.brass}"),
                             (f"{surface.device or 'no device'}\n\n" if surface.device else f"{surface.why}\n\n",
                              palette.text))
        attention = listening.get("attention", [])
        text.append(f"phrases count {'after “' + BETWEEN.join(attention) + '”' if attention else 'at any time'}\n",
                    style=palette.text)
        text.append(f"replies {REPLIES.get(str(listening.get('reply', '')), 'on the screen')}\n", style=palette.text)
        if voice is not None and voice.unknown:
            text.append(f"✗ cannot pronounce: {', '.join(voice.unknown)}\n", style=palette.rust)
        if voice is not None and voice.second:
            ready = voice.second == "ready"
            text.append(f"{'has a second opinion' if ready else f'✗ {voice.second}'}\n",
                        style=palette.text if ready else palette.rust)
        text.append("\ni: how it listens   o: listen or not   F6: teach a word\n"
                    "n: a new phrase, typed   F9: a new phrase, said\n"
                    "F8: record, and see what it would do   F10: erase it\n", style=palette.dim)
        return text

    def _about_phrase(self, phrase: PhraseRow) -> Text:
        palette = self.palette
        text = Text()
        for index, say in enumerate(phrase.say):
            text.append(f"{'' if not index else 'or '}“{say}”\n", style=f"bold {palette.brass}" if not index
                        else palette.text)
        if phrase.counts:
            text.append(f"\n{phrase.counts}\n", style=palette.text)
        text.append(f"\nMatch needed: {phrase.strict} %", style=palette.text)
        text.append("" if phrase.attention else "; counts without the attention word", style=palette.text)
        if phrase.reply:
            text.append(f"\nreplies “{phrase.reply}”", style=palette.text)
        voice = self.voice
        unknown = [word for word in voice.unknown if any(word in say.split() for say in phrase.say)] if voice else []
        if unknown:
            text.append(f"\n✗ cannot pronounce: {', '.join(unknown)} (F6)", style=palette.rust)
        return text

    def _show_heard(self) -> None:
        self.query_one(HeardPanel).show(self.voice, self._words, self._loud)

    def _count_down(self) -> None:
        if any(voice.choices or voice.attentive_ms or voice.trial or (voice.recording and voice.recording.records)
               for voice in self.known.voices):
            self.load()

    async def take(self, message: News, changed: set[Spot]) -> None:
        """News of the engine."""
        if isinstance(message, LoudnessNews):
            self._words, self._loud = message.words, message.loud
            self._show_heard()
            return
        if message.topic == "voice":
            self._words = ""
            self.query_one(StatusLine).redraw()
            self._show_heard()
            self.load()
            return
        if not isinstance(message, TraceNews):
            await super().take(message, changed)

    # What can be done.

    async def _type_in(self, title: str, says: str, value: str, save: Callable[[str], Awaitable[str]]) -> None:
        await self.app.push_screen_wait(AskText(title, says, value, save=save))

    def enter(self) -> None:
        voice = self.voice
        if voice is not None and voice.trial is not None:
            self._go_on_trying(voice)
        elif voice is not None and voice.dictated:
            self._accept(1)
        elif voice is None or voice.lesson is None:
            self.action_say()

    @work(exclusive=True, group="trial")
    async def action_try_out(self) -> None:
        """Say it five times, then talk about anything: how strict it should be."""
        row = self.row
        if row is None or row.phrase is None:
            self.notify("Choose a phrase first.", timeout=4)
            return
        await self.ask("try_phrase", surface=row.surface.id, phrase=row.phrase.id, step="say")

    @work(exclusive=True, group="trial")
    async def _go_on_trying(self, voice: VoiceRow) -> None:
        trial = voice.trial
        assert trial is not None
        fields = {"surface": voice.surface, "phrase": trial.phrase}
        if not trial.talks:
            await self.ask("try_phrase", **fields, step="talk")
            return
        await self.ask("try_phrase", **fields, step="end")
        if await self.change("set_phrase", **fields, strict=trial.strict):
            self.notify("Saved. u: undo.", title=f"Match needed: {trial.strict} %", timeout=5)

    async def action_leave(self) -> None:
        """End a trial or a lesson, or go back to the view before."""
        voice = self.voice
        if voice is not None and voice.trial is not None:
            await self.ask("try_phrase", surface=voice.surface, phrase=voice.trial.phrase, step="leave")
        elif voice is not None and voice.lesson is not None:
            await self.ask("learn_word", surface=voice.surface)
        elif voice is not None and voice.dictated is not None:
            await self.ask("hear_words", surface=voice.surface, on=False)
        elif voice is not None and voice.recording is not None and voice.recording.records:
            self._tries_next = ""
            await self.ask("record_voice", surface=voice.surface, seconds=0)
        elif voice is not None and voice.tries_recording:
            await self.ask("try_recording", surface=voice.surface, on=False)
        else:
            await super().action_leave()

    @work(exclusive=True, group="teach")
    async def action_teach(self) -> None:
        """How a word is pronounced: hear it, say it, or type its sounds."""
        row = self.row
        if row is None:
            return
        words = self._words_to_teach(row)
        at = 0 if len(words) == 1 else await self.app.push_screen_wait(Choose(
            "Which word?", "Words that are not known stand first.", words)) if words else -1
        if at < 0:
            return
        word = words[at].split()[0]
        now = row.surface.pronounced.get(word, "")
        how = await self.app.push_screen_wait(Choose(
            f"“{word}”", f"Its sounds: {now or 'as the recogniser knows it'}.",
            ["say it three times", "type its sounds", *(["hear it", "forget it"] if now else [])]))
        if how == 0:
            await self.ask("learn_word", surface=row.surface.id, word=word)
        elif how == 1:
            async def save(text: str) -> str:
                reply, wrong = await self.ask_or_say("set_pronunciation", surface=row.surface.id, word=word,
                                                     sounds=text)
                return wrong if reply is None else ""
            known = "  ".join(f"{sound} {as_in}" for sound, as_in in sounds_as_in().items())
            await self._type_in(f"“{word}”", f"Its sounds, as in: {known}", now, save)
        elif how == 2:
            await self.ask("say_word", sounds=now)
        elif how == 3:
            await self.change("set_pronunciation", surface=row.surface.id, word=word)

    def _words_to_teach(self, row: Line) -> list[str]:
        phrases = row.surface.phrases if row.phrase is None else [row.phrase]
        unknown = self.voice.unknown if self.voice is not None else []
        said = dict.fromkeys(word for phrase in phrases for say in phrase.say
                             for word in re.findall(r"[^\W\d_]+", SLOT.sub(" ", say.casefold())))
        first = [f"{word}   not known" for word in said if word in unknown]
        return [*first, *(word for word in said if word not in unknown)]

    @work(exclusive=True, group="say")
    async def action_say(self) -> None:
        """Take the chosen phrase as if it had been said; what is typed, where it has slots or on the microphone."""
        row = self.row
        if row is None:
            return
        said = "" if row.phrase is None else row.phrase.example
        voice = next((each for each in self.known.voices if each.surface == row.surface.id), None)
        if voice is not None and voice.attention and not voice.attentive_ms and said and row.phrase is not None and \
                row.phrase.attention:
            said = f"{voice.attention[0]} {said}"
        if row.phrase is None or row.phrase.slots:
            async def save(text: str) -> str:
                reply, wrong = await self.ask_or_say("say", surface=row.surface.id, words=text)
                return wrong if reply is None else ""
            await self._type_in("Type what was said", "It works as if it had been spoken. Give a value for each slot.",
                                said, save)
        else:
            await self.ask("say", surface=row.surface.id, words=said)

    @work(exclusive=True, group="change")
    async def action_add_phrase(self) -> None:
        """A new phrase on the chosen microphone."""
        if self.row is not None:
            await self._make_phrase(self.row.surface.id, "")

    async def _make_phrase(self, surface: str, words: str) -> None:
        async def save(text: str) -> str:
            say = [part.strip() for part in text.split("/") if part.strip()]
            # A slot is a number until it is told otherwise.
            slots = {name: {"low": 0, "high": 100} for name in SLOT.findall(text)}
            reply, wrong = await self.ask_or_say("add_phrase", surface=surface, say=say, slots=slots)
            if isinstance(reply, NewPhrase):
                made.append(reply.phrase)
                if slots:
                    self.notify(f"{', '.join(slots)}: a number from 0 to 100. i changes that.", timeout=6)
            return wrong
        made: list[str] = []
        await self._type_in("A new phrase", SAID, words, save)
        if made:
            self._choose(surface, made[0])
            await self.bind((surface, made[0]))

    @work(exclusive=True, group="change")
    async def action_say_new(self) -> None:
        """Say the words of a new phrase instead of typing them."""
        if self.row is not None:
            await self.ask("hear_words", surface=self.row.surface.id)

    @work(exclusive=True, group="change")
    async def _accept(self, number: int) -> None:
        """One of the readings of a new phrase: it can be put right before it is saved."""
        voice = self.voice
        if voice is None or voice.dictated is None or not 1 <= number <= len(voice.dictated):
            return
        words = voice.dictated[number - 1]
        await self.ask("hear_words", surface=voice.surface, on=False)
        await self._make_phrase(voice.surface, words)

    @work(exclusive=True, group="record")
    async def action_record(self) -> None:
        """Record, end the recording, or try the one that there is."""
        row, voice = self.row, self.voice
        if row is None or voice is None:
            return
        kept = voice.recording
        if kept is None or (kept.trouble and not kept.seconds):
            if await self.ask("record_voice", surface=voice.surface, seconds=RECORDS) is not None:
                # It is tried as soon as it is whole, whether it is stopped or full.
                self._tries_next = voice.surface
        elif not kept.records:
            await self.ask("try_recording", surface=voice.surface)
        else:
            await self.ask("record_voice", surface=voice.surface, seconds=0)

    @work(exclusive=True, group="record")
    async def action_erase(self) -> None:
        """Erase the recording."""
        if self.voice is not None and await self.ask("erase_recording", surface=self.voice.surface) is not None:
            self.notify("The recording is erased.", timeout=4)

    def _choose(self, surface: str, phrase: str) -> None:
        self._show_rows()
        at = next((index for index, line in enumerate(self.rows) if line.surface.id == surface
                   and line.phrase is not None and line.phrase.id == phrase), None)
        if at is not None:
            self.query_one(OptionList).highlighted = at

    @work(exclusive=True, group="change")
    async def action_settings(self) -> None:
        """What is set for the chosen phrase, or the microphone."""
        row = self.row
        if row is None:
            return
        await self.app.push_screen_wait(
            ListeningPanel(row.surface.id, self.known, self.ask, self._type_in) if row.phrase is None else
            PhrasePanel(row.surface.id, row.phrase.id, self.known, self.ask, self._type_in))

    @work(exclusive=True, group="change")
    async def action_bind(self) -> None:
        """Give the chosen phrase an action."""
        if self.row is not None and self.row.phrase is not None:
            await self.bind((self.row.surface.id, self.row.phrase.id))

    @work(exclusive=True, group="change")
    async def action_take_away(self) -> None:
        """Take the chosen phrase away."""
        if self.row is not None and self.row.phrase is not None and (reply := await self.change(
                "remove_phrase", surface=self.row.surface.id, phrase=self.row.phrase.id)):
            self.notify("Saved. u: undo.", title=reply.words, timeout=4)

    @work(group="switch")
    async def action_switch(self) -> None:
        """Let phrases count, or not."""
        voice = self.voice
        if voice is not None:
            await self.ask("set_hearing", surface=voice.surface, on=not voice.on)

    @work(group="readings")
    async def action_take_reading(self, number: int) -> None:
        """Choose one of the readings that stand, or none."""
        if any(voice.choices for voice in self.known.voices):
            await self.ask("take_reading", number=number)
        elif self.voice is not None and self.voice.dictated:
            self._accept(number)

    @on(HeardPanel.Chosen)
    def _clicked_reading(self, event: HeardPanel.Chosen) -> None:
        self.action_take_reading(event.number)

    def action_explain(self) -> None:
        """The trace of what was heard last."""
        voice = self.voice
        trace = next((each for each in reversed(self.known.traces)
                      if voice is not None and voice.last is not None and each.id == voice.last.trace), None)
        if trace is not None:
            self.app.push_screen(Sheet("What was heard last", explain(trace, self.palette)))
