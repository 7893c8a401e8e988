"""What stands beside the heat map: lists of what the history tells, as text."""

from __future__ import annotations

import time

from rich.text import Text

from brass_pebble.core.desk.look.drawn import SurfaceRow
from brass_pebble.core.desk.look.shown import show_control
from brass_pebble.core.say.counts import say_count
from brass_pebble.core.say.durations import say_duration
from brass_pebble.core.usage.arrange import Arrangement
from brass_pebble.core.usage.report import History, Report
from brass_pebble.screen.base.palette import Palette

DAY = 86_400
MS = 1_000_000
BAR = 14
PAGES = ("most used", "never used", "slips", "one after another", "days and sessions", "better places")


def bar(share: float, width: int = BAR) -> str:
    """A bar of blocks, as long as a share of 0 to 1."""
    eighths = round(share * width * 8)
    return "█" * (eighths // 8) + ("▏▎▍▌▋▊▉"[eighths % 8 - 1] if eighths % 8 else "")


class Lists:
    """Puts the pages together for one surface."""

    def __init__(self, palette: Palette, surface: SurfaceRow, found: Report, history: History, rows: int) -> None:
        self._palette, self._surface, self._report, self._history = palette, surface, found, history
        self._rows = max(4, rows)
        self._legends = {control.id: control.legend for control in surface.controls}
        self._layers = {layer.id: layer.name for layer in surface.layers}

    def page(self, number: int, arrangement: Arrangement) -> Text:
        """A page, counted from 0."""
        if number == 5:
            return self._better(arrangement)
        return (self._used, self._unused, self._slips, self._pairs, self._days)[number]()

    def _nothing(self, says: str) -> Text:
        return Text(says, style=self._palette.dim)

    def _more(self, text: Text, hidden: int) -> Text:
        if hidden > 0:
            text.append(f"… and {hidden} more\n", style=self._palette.dim)
        return text

    def _used(self) -> Text:
        found, palette = self._report, self._palette
        if not found.bindings:
            return self._nothing("No presses in this period.")
        text, most = Text(), found.bindings[0][4]
        room = max(3, self._rows - 9)
        for layer, control, gesture, label, times in found.bindings[:room]:
            how = "" if gesture == "press" else f" {gesture}"
            text.append(f"{times:>6} ", style=f"bold {palette.text}")
            text.append(f"{bar(times / most):{BAR}} ", style=palette.brass)
            text.append(f"{label[:14]:14} ", style=palette.text)
            text.append(f"{self._legends.get(control, control)}{how}, {self._layers.get(layer, layer)}\n",
                        style=palette.dim)
        self._more(text, len(found.bindings) - room)
        text.append("\n")
        for name, rows in (("macros", [(name, times) for name, times, _ in found.macros]), ("gestures", found.gestures),
                           ("layers", [(self._layers.get(name, name), times) for name, times in found.layers])):
            if rows:
                text.append(f"{name:9} ", style=palette.dim)
                text.append(", ".join(f"{name} {times}" for name, times in rows[:4]) + "\n", style=palette.text)
        lost = say_duration(found.lost * MS)
        text.append("stopped   ", style=palette.dim)
        text.append(f"{say_count(found.stopped, 'run')} before their end, {say_count(found.cancelled, 'press')} had "
                    "no effect\n",
                    style=palette.text)
        text.append("waits     ", style=palette.dim)
        text.append(f"{lost} lost waiting for second taps\n" if found.lost else "none lost to double taps\n",
                    style=palette.text)
        text.append("late      ", style=palette.dim)
        text.append(f"{say_duration(found.mean_late * 1000)} on average, {say_duration(found.latest * 1000)} at worst",
                    style=palette.text)
        return text

    def _unused(self) -> Text:
        found, palette = self._report, self._palette
        if not found.unused:
            return Text("✓ Everything that is bound was used in this time.", style=palette.verdigris)
        text = Text()
        for layer, control, gesture, label in found.unused[:self._rows - 3]:
            how = "" if gesture == "press" else f" {gesture}"
            text.append(f"○ {label[:18]:18} ", style=palette.text)
            text.append(f"{self._legends.get(control, control)}{how}, {self._layers.get(layer, layer)}\n",
                        style=palette.dim)
        self._more(text, len(found.unused) - self._rows + 3)
        return text

    def _slips(self) -> Text:
        found, palette = self._report, self._palette
        if not found.slipped:
            return Text("✓ No likely mis-hits: no press was undone at once.", style=palette.verdigris)
        text = Text("Undone at once, or followed by the opposite:\n\n", style=palette.dim)
        each = max(1, (self._rows - 4) // 3)
        for slip in found.slipped[:each]:
            share = slip.times / max(1, found.heat.get(slip.control, slip.times))
            text.append(f"! {self._legends.get(slip.control, slip.control)}", style=f"bold {palette.rust}")
            text.append(f"   {say_count(slip.times, 'time')}, {share * 100:.0f} % of its presses\n", style=palette.text)
            if slip.meant:
                said = ", ".join(f"{self._legends.get(name, name)} {times}" for name, times in slip.meant[:4])
                text.append(f"   probably meant: {said}\n", style=palette.text)
            beside = ", ".join(self._legends.get(name, name) for name in slip.neighbours)
            text.append(f"   beside it: {beside or 'nothing'}\n", style=palette.dim)
        return self._more(text, len(found.slipped) - each)

    def _pairs(self) -> Text:
        found, palette = self._report, self._palette
        if not found.pairs:
            return self._nothing("No sequence occurred more than once.")
        text, most = Text(), found.pairs[0].times
        for pair in found.pairs[:self._rows - 2]:
            text.append(f"{pair.times:>6} ", style=f"bold {palette.text}")
            text.append(f"{bar(pair.times / most, 8):8} ", style=palette.brass)
            text.append(f"{pair.words[0]} ▸ {pair.words[1]}", style=palette.text)
            where = f"   {self._legends.get(pair.one, pair.one)}, {self._legends.get(pair.other, pair.other)}"
            text.append(where if pair.surface == pair.other_surface else "   on two surfaces", style=palette.dim)
            text.append("\n")
        return self._more(text, len(found.pairs) - self._rows + 2)

    def _days(self) -> Text:
        palette, history, text = self._palette, self._history, Text(no_wrap=True, overflow="ellipsis")
        if not history.days:
            return self._nothing("No presses yet.")
        most = max(times for _, times in history.days)
        total = sum(count for _, count in history.late)
        if total:
            within = sum(count for bucket, count in history.late if bucket <= 10)
            text.append(f"{100 * within / total:.1f} % of all presses had every step within 1 ms of its time\n\n",
                        style=palette.verdigris)
        room = max(3, (self._rows - 8) // 2)
        for day, times in history.days[-room:]:
            text.append(time.strftime("%a %d %b  ", time.gmtime(day * DAY)), style=palette.dim)
            text.append(f"{times:>6} ", style=f"bold {palette.text}")
            text.append(bar(times / most) + "\n", style=palette.brass)
        text.append("\nsessions, the last first; all surfaces\n", style=palette.dim)
        for began, ended, times, stopped, slips in history.sessions[:room - 1]:
            text.append(time.strftime("%d %b %H:%M  ", time.localtime(began)), style=palette.dim)
            length = max(0, ended - began)
            lasted = say_duration(length * 1000 * MS) if length else ""
            text.append(f"{lasted:>9} {times:>6} {'press' if times == 1 else 'presses'}", style=palette.text)
            text.append(f", {stopped} stopped" if stopped else "", style=palette.text)
            text.append(f", {say_count(slips, 'slip')}\n" if slips else "\n",
                        style=palette.rust if slips else palette.text)
        return text

    def _better(self, arrangement: Arrangement) -> Text:
        palette, text = self._palette, Text()
        layer = self._layers.get(arrangement.layer, arrangement.layer)
        if arrangement.empty:
            text.append(f"Layer {layer}: ", style=f"bold {palette.brass}")
            return text.append(arrangement.why + ".", style=palette.text)
        saved = 1 - arrangement.after / arrangement.before if arrangement.before else 0.0
        text.append(f"Layer {layer}: ", style=f"bold {palette.brass}")
        text.append(f"{saved * 100:.0f} % less finger travel\n", style=f"bold {palette.verdigris}")
        text.append("often used → easy to reach, often together → close, never used → free\n\n", style=palette.dim)
        rows = [found for found in self._surface.layers if found.id == arrangement.layer]
        labels = {control.id: show_control(control, rows, (arrangement.layer,)).label or control.id
                  for control in self._surface.controls}
        room = self._rows - 9
        for one, other in arrangement.moves[:room]:
            text.append(f"➜ {labels.get(one, one)[:16]:16} ", style=palette.text)
            text.append(f"{self._legends.get(one, one)} → {self._legends.get(other, other)}\n", style=palette.dim)
        self._more(text, len(arrangement.moves) - room)
        for control in arrangement.freed:
            text.append(f"✂ {labels.get(control, control)[:16]:16} ", style=palette.text)
            text.append(f"{self._legends.get(control, control)}: never used\n", style=palette.dim)
        text.append("\nEnter: do it   u: undo   =: before / after\n", style=palette.dim)
        text.append("k: keep what was never used   Space: the hand rests on the selected control", style=palette.dim)
        return text
