"""What is heard, so large that it reads from two metres: the words, what came of them, readings to choose from."""

from __future__ import annotations

from rich.markup import escape
from rich.text import Text
from textual import events
from textual.message import Message
from textual.widgets import Static

from brass_pebble.core.say.counts import say_count
from brass_pebble.protocol.voice import LessonRow, RecordingRow, TrialRow, TriedRow, VoiceRow
from brass_pebble.screen.base.palette import Palette
from brass_pebble.screen.meet.device_list import show_loudness

# How wide the bar of likeness is, in cells.
BAR = 30
DONE = ("act", "chose", "attend", "begin", "end")
# What stands large while nothing was said.
NOTHING = {"starting": "starting", "gone": "no sound", "cannot": "cannot hear"}


def state_of(voice: VoiceRow) -> tuple[str, bool]:
    """Whether phrases count now, in words; and whether that is as it should be."""
    if voice.state in ("gone", "cannot"):
        return f"✗ {voice.why or 'its microphone is not here'}", False
    if voice.state == "starting":
        return "◌ the recogniser starts", True
    if not voice.on:
        return "◌ listening is off (o)", False
    if voice.attention and not voice.attentive_ms:
        return f"◉ waits for “{voice.attention[0]}”", True
    return "◉ listens", True


class HeardPanel(Static):
    """One microphone's voice."""

    DEFAULT_CSS = """
    HeardPanel { height: 11; border: round $primary; border-title-color: $primary; border-subtitle-color: $text-muted;
        padding: 0 1; }
    HeardPanel.low { height: 7; }
    HeardPanel.asks { height: 50%; }
    """

    class Chosen(Message):
        """A reading was clicked; its number counts from 1."""

        def __init__(self, number: int) -> None:
            super().__init__()
            self.number = number

    def __init__(self) -> None:
        super().__init__()
        # For each line that is shown, the number of the reading on it; 0 for none.
        self._readings: list[int] = []

    def on_click(self, event: events.Click) -> None:
        """A click on a reading chooses it."""
        row = event.y - 1
        if 0 <= row < len(self._readings) and self._readings[row]:
            self.post_message(self.Chosen(self._readings[row]))

    @property
    def _palette(self) -> Palette:
        return self.app.palette  # type: ignore[attr-defined,no-any-return]

    def show(self, voice: VoiceRow | None, words: str, loud: float) -> None:
        """Draw what is heard; `words` are those that are being said, `loud` is in dB."""
        palette = self._palette
        if voice is None:
            self.border_title, self.border_subtitle = "nobody is spoken to", ""
            self.update(Text("Press M, choose a microphone from the list, and speak into it.", style=palette.text))
            return
        state, well = state_of(voice)
        self.border_title = escape(f"{voice.name}   {state}")
        speaks = "speaking" if words or voice.speaking else ""
        kept = voice.recording
        keeps = f"● {kept.seconds:.0f} s recorded   F8: try it   F10: erase it   " \
            if kept is not None and kept.seconds else ""
        self.border_subtitle = f"{keeps}{show_loudness(loud)} {speaks}" if voice.reads else \
            "bench only: no real microphone" if voice.state == "typed" else keeps.strip()
        self.styles.border_title_color = palette.verdigris if well else palette.rust
        self._readings = []
        large = bool(voice.choices or voice.tried or voice.tries_recording or voice.dictated)
        if self.has_class("asks") != large:
            # More room for readings and lists; they are drawn once it is there.
            self.set_class(large, "asks")
            self.call_after_refresh(self.show, voice, words, loud)
        if voice.choices:
            self.update(self._choices(voice))
        elif kept is not None and kept.records:
            self.update(self._recording(kept))
        elif voice.dictated is not None:
            self.update(self._dictated(voice.dictated, words))
        elif voice.tries_recording:
            self.update(self._tried_recording(voice))
        elif voice.trial is not None:
            self.update(self._trial(voice.trial, voice.tried))
        elif voice.lesson is not None:
            self.update(self._lesson(voice.lesson))
        else:
            self.update(self._last(voice, words))

    def _room(self) -> tuple[int, int]:
        return max(10, self.size.width - 2), max(1, self.size.height)

    def _large(self, words: str, style: str, rows: int) -> Text:
        width, _ = self._room()
        lines = self.app.large_text(words, width, rows)  # type: ignore[attr-defined]
        return Text("\n".join(line.rstrip() for line in lines) if lines else words, style=style, no_wrap=True,
                    overflow="ellipsis")

    def _last(self, voice: VoiceRow, words: str) -> Text:
        palette, (_, rows) = self._palette, self._room()
        last = voice.last
        if words:
            return Text("\n").join([self._large(words, palette.text, rows - 1), Text("…", style=palette.dim)])
        if last is None:
            large = NOTHING.get(voice.state, "say something" if voice.on else "not listening")
            count = len(voice.listens)
            hint = voice.why or (f"{say_count(count, 'phrase')} {'counts' if count == 1 else 'count'} now; Enter says "
                                 "the chosen one" if count else "no phrase means anything yet; n: a new one")
            return Text("\n").join([self._large(large, palette.dim, rows - 1), Text(hint, style=palette.dim)])
        done = last.do in DONE
        style = palette.brass if done else palette.dim
        head = self._large(last.said or "?", f"bold {style}", rows - 2)
        mark = "✓" if done else "✗"
        colour = palette.verdigris if done else palette.rust
        parts = [head, Text(f"{mark} {last.words}", style=colour, overflow="ellipsis", no_wrap=True)]
        if last.phrase and last.needed:
            parts.append(_likeness(last.alike, last.needed, palette))
        return Text("\n").join(parts)

    def _recording(self, kept: RecordingRow) -> Text:
        palette, (_, rows) = self._palette, self._room()
        return Text("\n").join([
            self._large(f"{kept.left_ms / 1000:.0f} s left", f"bold {palette.brass}", rows - 2),
            Text("Recording. Nothing is sent. Say your phrases, and talk as you usually do. F8: stop",
                 style=palette.text, overflow="ellipsis", no_wrap=True),
            Text("Only you can read the recording. F10: erase it", style=palette.dim)])

    def _dictated(self, readings: list[str], words: str) -> Text:
        """What a new phrase can have been, to be chosen from."""
        palette, (_, rows) = self._palette, self._room()
        if not readings:
            return Text("\n").join([
                self._large("…" if words else "say it now", f"bold {palette.brass}", rows - 1),
                Text("Say the words of the new phrase. Nothing is sent meanwhile. Esc: cancel", style=palette.text)])
        lines = []
        shown = readings[:4]
        each = max(1, (rows - 1) // len(shown))
        for number, reading in enumerate(shown, 1):
            large = self._large(f"{number} {reading}", f"bold {palette.brass}", each)
            lines.append(large)
            self._readings += [number] * len(large.plain.split("\n"))
        lines.append(Text("Press the number or click it to edit and save it, or say it again. Esc: cancel",
                          style=palette.text))
        return Text("\n").join(lines)

    def _tried_recording(self, voice: VoiceRow) -> Text:
        """What a recording would do, utterance by utterance."""
        palette, (_, rows) = self._palette, self._room()
        kept = voice.recording
        over = kept is None or kept.heard
        acts = sum(row.do in ("act", "chose") for row in voice.tried)
        if kept is not None and kept.trouble:
            head = f"✗ {kept.trouble}"
        elif not over:
            head = "Trying the recording …"
        elif not voice.tried:
            head = "Nothing was said in the recording."
        else:
            of_all = say_count(len(voice.tried), "utterance")
            head = f"{acts} of {of_all} would do something.   F8: try again   Esc: close"
        return Text("\n").join([Text(head, style=f"bold {palette.text}"), *self._rows_tried(voice.tried, rows - 1)])

    def _rows_tried(self, tried: list[TriedRow], rows: int) -> list[Text]:
        """The latest utterances of a trial, a line each."""
        palette, (width, _) = self._palette, self._room()
        found = []
        said = 32 if width > 100 else 22
        for row in tried[-max(1, rows):]:
            done, asks = row.do in DONE, row.do == "ask"
            mark = "✓" if done else "?" if asks else "✗"
            likes = f"{row.alike} of {row.needed} %" if row.said else ""
            found.append(Text.assemble(
                (f"{row.at:5.0f} s  ", palette.dim), (f"{mark} ", palette.verdigris if done else palette.rust),
                (f"{row.said or 'no phrase':{said}.{said}} ", f"bold {palette.brass}" if done else palette.text),
                (f"{likes:12} ", palette.dim), (row.words, palette.text if done else palette.dim)))
            found[-1].truncate(width, overflow="ellipsis")
        return found

    def _trial(self, trial: TrialRow, tried: list[TriedRow]) -> Text:
        palette, (_, rows) = self._palette, self._room()
        if not trial.talks and len(trial.said) < trial.times:
            large, says = "say it", f"Say it {trial.times} times, with a pause between: {len(trial.said)} heard."
        elif not trial.talks:
            large, says = "said", "Enter: now talk about anything for a minute. Esc: cancel"
        elif trial.left_ms:
            large, says = "talk", f"Talk about anything: {trial.left_ms / 1000:.0f} s. Enter: that is enough."
        else:
            large = f"{trial.strict} %"
            says = f"Enter: take {large} as its strictness. Esc: cancel"
        shown = min(len(tried), max(0, rows - 10))
        parts = [self._large(large, f"bold {palette.brass}", rows - 4 - shown), Text(says, style=palette.text),
                 Text(f"said: {_shares(trial.said, trial.times)}", style=palette.text)]
        if trial.talks:
            parts.append(Text(f"talk: {_shares(trial.talked[-12:], 0)}", style=palette.text))
            parts.append(Text(trial.why, style=palette.dim))
        if shown:
            parts += self._rows_tried(tried, shown)
        return Text("\n").join(parts)

    def _lesson(self, lesson: LessonRow) -> Text:
        palette, (_, rows) = self._palette, self._room()
        left = lesson.times - len(lesson.heard)
        parts = [self._large(lesson.word, f"bold {palette.brass}", rows - 3),
                 Text(f"Say just this word {say_count(left, 'more time' if lesson.heard else 'time')}. Esc: cancel",
                      style=palette.text),
                 *(Text(f"heard: {row}", style=palette.dim) for row in lesson.heard)]
        return Text("\n").join(parts)

    def _choices(self, voice: VoiceRow) -> Text:
        palette, (_, rows) = self._palette, self._room()
        shown = voice.choices[:4]
        each = max(1, (rows - 1) // len(shown))
        lines = []
        for number, choice in enumerate(shown, 1):
            large = self._large(f"{number} {choice.said}", f"bold {palette.brass}", max(1, each - 1))
            lines += [large, Text(f"   {choice.does}", style=palette.dim)]
            self._readings += [number] * (len(large.plain.split("\n")) + 1)
        left = f"{voice.left_ms / 1000:.0f} s"
        lines.append(Text(f"Say or press the number, or click it. 0: none of them. {left} left", style=palette.text))
        return Text("\n").join(lines)


def _shares(said: list[int], times: int) -> str:
    return "   ".join([*(f"{each} %" if each else "another" for each in said), *["·"] * (times - len(said))])


def _likeness(alike: int, needed: int, palette: Palette) -> Text:
    """How alike it was, and how alike it had to be, as a bar and in words."""
    full, mark = round(alike * BAR / 100), min(BAR - 1, round(needed * BAR / 100))
    bar = Text()
    for index in range(BAR):
        here = "┃" if index == mark else "▰" if index < full else "▱"
        bar.append(here, style=palette.brass if index < full else palette.dim)
    bar.append(f"  {alike} % alike, {needed} % needed", style=palette.text)
    return bar
