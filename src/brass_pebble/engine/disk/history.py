"""The history of what surfaces did: counted on the loop, stored in SQLite by a thread of its own.

No press is stored, only counts: of which binding, on which day, in which session.  What is typed on surfaces that pass
keys through is not counted at all.
"""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from brass_pebble.core.desk.action import ACTION_KINDS, PASS
from brass_pebble.core.play.trace import Trace
from brass_pebble.core.usage.counter import Batch, Counter
from brass_pebble.core.usage.press import Press
from brass_pebble.core.usage.report import History, Used
from brass_pebble.engine.clients.news import News
from brass_pebble.engine.logs import log
from brass_pebble.engine.loop import Worker
from brass_pebble.engine.ports import Ports
from brass_pebble.file_access import private_folder

MS = 1_000_000
DAY = 86_400
STORE_EVERY = 20_000 * MS
# So many rows are stored at once, however soon they came.
MOST_WAITING = 2_000
# When the engine ends, what was pressed last may not have been counted.
LAST = 50
LIVE = ("playing", "holding", "queued")

# The days come last in the keys: what is summed over days lies together and needs no sorting.
SCHEMA = """
CREATE TABLE IF NOT EXISTS session (id INTEGER PRIMARY KEY, began INTEGER NOT NULL, ended INTEGER NOT NULL);
CREATE TABLE IF NOT EXISTS used (session INTEGER, day INTEGER, surface TEXT, layer TEXT, control TEXT, gesture TEXT,
    does TEXT, macro TEXT, presses INTEGER, stopped INTEGER, cancelled INTEGER, slips INTEGER, waited INTEGER,
    late INTEGER, latest INTEGER,
    PRIMARY KEY (surface, layer, control, gesture, does, macro, day, session)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS total (day INTEGER, session INTEGER, presses INTEGER, stopped INTEGER, slips INTEGER,
    PRIMARY KEY (day, session)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS pair (day INTEGER, surface TEXT, one TEXT, other_surface TEXT, other TEXT, times INTEGER,
    PRIMARY KEY (surface, one, other_surface, other, day)) WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS pair_to ON pair (other_surface, surface, one, other, day, times);
CREATE TABLE IF NOT EXISTS slip (day INTEGER, surface TEXT, control TEXT, does TEXT, meant TEXT, times INTEGER,
    PRIMARY KEY (surface, control, does, meant, day)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS late (day INTEGER, bucket INTEGER, presses INTEGER, PRIMARY KEY (day, bucket)) WITHOUT ROWID;
"""
TABLES = ("session", "total", "used", "pair", "slip", "late")
VERSION = 2
# What has another key since the first version.
REKEYED = ("used", "pair", "slip")


def _make(base: sqlite3.Connection) -> None:
    """Make the tables; those of an earlier version are copied, all or nothing."""
    base.execute("BEGIN IMMEDIATE")
    with base:
        # Somebody else may just have done it.
        version = base.execute("PRAGMA user_version").fetchone()[0]
        old = REKEYED if version == 1 else ()
        for table in old:
            base.execute(f"ALTER TABLE {table} RENAME TO old_{table}")
        if old:
            base.execute("DROP INDEX IF EXISTS pair_to")
        for statement in SCHEMA.split(";"):
            base.execute(statement)
        for table in old:
            base.execute(f"INSERT INTO {table} SELECT * FROM old_{table}")
            base.execute(f"DROP TABLE old_{table}")
        base.execute(f"PRAGMA user_version = {VERSION}")


class HistoryError(Exception):
    """The history cannot be read or written; the text says what to do."""


class HistoryStore:
    """The file.  Every method may be called on any thread, one at a time."""

    def __init__(self, file: Path) -> None:
        self.file = file
        self._session = 0

    def _open(self) -> sqlite3.Connection:
        private_folder(self.file.parent)
        if not self.file.exists():
            # Made before the database is, whose own files take its rights.
            os.close(os.open(self.file, os.O_RDWR | os.O_CREAT, 0o600))
        try:
            base = sqlite3.connect(self.file, timeout=5)
            version = base.execute("PRAGMA user_version").fetchone()[0]
            if version > VERSION:
                base.close()
                raise HistoryError(f"{self.file} was written by a later version of this program. Use that one, or "
                                   "move the file away")
            base.execute("PRAGMA journal_mode = WAL")
            base.execute("PRAGMA synchronous = NORMAL")
            if version < VERSION:
                _make(base)
        except sqlite3.DatabaseError as error:
            raise HistoryError(f"the history {self.file} cannot be used: {error}. Move the file away, and a new one is "
                               "begun") from None
        return base

    def add(self, batch: Batch, now: int) -> None:
        """Add counts to this session's; `now` is s since 1970.

        Raises:
            HistoryError: the file cannot be written.
        """
        base = self._open()
        try:
            with base:
                if not self._session:
                    self._session = int(base.execute("INSERT INTO session (began, ended) VALUES (?, ?)",
                                                     (now, now)).lastrowid or 0)
                base.execute("UPDATE session SET ended = ? WHERE id = ?", (now, self._session))
                base.executemany(
                    "INSERT INTO used VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?) ON CONFLICT DO UPDATE SET "
                    "presses = presses + excluded.presses, stopped = stopped + excluded.stopped, "
                    "cancelled = cancelled + excluded.cancelled, "
                    "slips = slips + excluded.slips, waited = waited + excluded.waited, late = late + excluded.late, "
                    "latest = max(latest, excluded.latest)",
                    [(self._session, day, *where, c.presses, c.stopped, c.cancelled, c.slips, c.waited, c.late,
                      c.latest)
                     for (day, where), c in batch.counts.items()])
                totals: dict[int, list[int]] = {}
                for (day, _), count in batch.counts.items():
                    row = totals.setdefault(day, [0, 0, 0])
                    row[0], row[1], row[2] = row[0] + count.presses, row[1] + count.stopped, row[2] + count.slips
                base.executemany("INSERT INTO total VALUES (?,?,?,?,?) ON CONFLICT DO UPDATE SET "
                                 "presses = presses + excluded.presses, stopped = stopped + excluded.stopped, "
                                 "slips = slips + excluded.slips",
                                 [(day, self._session, *row) for day, row in totals.items()])
                base.executemany("INSERT INTO pair VALUES (?,?,?,?,?,?) ON CONFLICT DO UPDATE SET "
                                 "times = times + excluded.times",
                                 [(day, *one, *other, times) for (day, one, other), times in batch.pairs.items()])
                base.executemany("INSERT INTO slip VALUES (?,?,?,?,?,?) ON CONFLICT DO UPDATE SET "
                                 "times = times + excluded.times",
                                 [(*key, times) for key, times in batch.slips.items() if times])
                base.executemany("INSERT INTO late VALUES (?,?,?) ON CONFLICT DO UPDATE SET "
                                 "presses = presses + excluded.presses",
                                 [(*key, presses) for key, presses in batch.late.items()])
        except sqlite3.DatabaseError as error:
            raise HistoryError(f"the history {self.file} cannot be written: {error}") from None
        finally:
            base.close()

    def read(self, since: int = 0, surface: str = "") -> History:
        """Everything since a day (days since 1970): of all surfaces, or what concerns one; days and sessions of all.

        Raises:
            HistoryError: the file cannot be read.
        """
        if not self.file.exists():
            return History()
        base = self._open()
        one, two = ("surface = ? AND", (surface, since)) if surface else ("", (since,))
        # Two passes in the order of a key each, which need no sorting; one with OR would.
        pairs = ("SELECT surface, one, other_surface, other, sum(times) AS n FROM pair WHERE {} day >= ? "
                 "GROUP BY 1, 2, 3, 4")
        both, five = ((f"{pairs.format('surface = ? AND')} UNION ALL "
                       + pairs.format("other_surface = ? AND surface <> ? AND"),
                       (surface, since, surface, surface, since)) if surface else (pairs.format(""), (since,)))
        try:
            def rows(query: str, values: tuple[object, ...] = (since,)) -> list[Any]:
                return base.execute(query, values).fetchall()
            return History(
                [Used(*row) for row in rows(
                    "SELECT surface, layer, control, gesture, does, macro, sum(presses), sum(stopped), sum(cancelled), "
                    f"sum(slips), sum(waited), sum(late), max(latest) FROM used WHERE {one} day >= ? "
                    "GROUP BY 1, 2, 3, 4, 5, 6", two)],
                rows("SELECT day, sum(presses) FROM total WHERE day >= ? GROUP BY day ORDER BY day"),
                rows("SELECT began, ended, sum(presses), sum(stopped), sum(slips) FROM session JOIN total "
                     "ON total.session = session.id WHERE day >= ? GROUP BY session.id ORDER BY began DESC LIMIT 500"),
                rows(f"{both} ORDER BY n DESC LIMIT 5000", five),
                rows(f"SELECT surface, control, does, meant, sum(times) AS n FROM slip WHERE {one} day >= ? "
                     "GROUP BY 1, 2, 3, 4 HAVING n > 0 ORDER BY n DESC", two),
                rows("SELECT bucket, sum(presses) FROM late WHERE day >= ? GROUP BY bucket ORDER BY bucket"))
        except sqlite3.DatabaseError as error:
            raise HistoryError(f"the history {self.file} cannot be read: {error}. Move the file away, and a new one is "
                               "begun") from None
        finally:
            base.close()

    def erase(self) -> None:
        """Forget everything, for good.

        Raises:
            HistoryError: the file cannot be written.
        """
        self._session = 0
        if not self.file.exists():
            return
        base = self._open()
        try:
            with base:
                for table in TABLES:
                    base.execute(f"DELETE FROM {table}")
            # Nothing of it is left in free pages or in the journal.
            base.execute("VACUUM")
            base.execute("PRAGMA wal_checkpoint(TRUNCATE)")
        except sqlite3.DatabaseError as error:
            raise HistoryError(f"the history {self.file} cannot be erased: {error}. Delete the file itself") from None
        finally:
            base.close()


def press_of(trace: Trace, wall_offset: int, zone: int) -> Press | None:
    """What the history counts of a trace; None for what no binding answered, and for keys passed through.

    `wall_offset` makes ns since 1970 of the engine's clock; `zone` is what to add for the person's time, in s.
    """
    answer = trace.answer
    if answer is None or answer.action is None or answer.action.target == PASS or trace.origin != "press":
        return None
    action, at = answer.action, (trace.arrived + wall_offset) // MS
    chord = str(action.chord) if action.chord else ""
    return Press(at, (at // 1000 + zone) // DAY, answer.surface.id, answer.layer.id if answer.layer else "",
                 answer.control, answer.gesture, f"{action.kind} {action.target}",
                 action.target if action.kind == "play" else "", chord, trace.waited // MS,
                 max(0, trace.worst) // 1000, trace.state == "stopped", trace.state == "nothing",
                 ACTION_KINDS[action.kind].quick or "turn" in answer.gesture)


def local_zone(now: float) -> int:
    """What to add to s since 1970 for the time of day here."""
    return time.localtime(now).tm_gmtoff


class Historian:
    """Counts for an engine, and stores now and then."""

    news: News

    def __init__(self, ports: Ports, file: Path | None) -> None:
        self._ports = ports
        self._counter = Counter()
        self.store = HistoryStore(file) if file is not None else None
        # From the start, so that the first press finds everything in place.
        self._worker = Worker(self._ports.loop) if file is not None else None
        self._booked = False
        self._broken = ""

    @property
    def on(self) -> bool:
        """Whether presses are counted."""
        return self.store is not None and self._ports.desk.history

    def note(self, traces: Iterable[Trace]) -> None:
        """Traces that have changed: each is counted once, and once more what became of it, when it is over."""
        if not self.on:
            return
        offset = self._ports.wall_offset()
        zone = local_zone(time.time())
        for trace in sorted(traces, key=lambda trace: trace.id):
            over = trace.state not in LIVE
            if trace.counted == "over" or (trace.counted and not over):
                continue
            press = press_of(trace, offset, zone)
            if press is not None and not trace.counted:
                self._counter.begin(press)
            if press is not None and over:
                self._counter.finish(press)
            trace.counted = "over" if over else "begun"
        if self._counter.waiting >= MOST_WAITING:
            self.save()
        elif self._counter.waiting and not self._booked:
            self._booked = True
            self._ports.alarms.later("history", STORE_EVERY, lambda now: self.save())

    def _do(self, job: Callable[[], object], then: Callable[[object], None]) -> None:
        if self._worker is not None:
            self._worker.do(job, then)
        else:
            then(job())

    def save(self) -> None:
        """Store what has been counted."""
        self._booked = False
        store, batch = self.store, self._counter.take()
        if store is not None and batch.size:
            self._do(lambda: store.add(batch, int(time.time())), self._saved)

    def _saved(self, result: object) -> None:
        if isinstance(result, Exception) and str(result) != self._broken:
            self._broken = str(result)
            log.error("%s", result)
            from brass_pebble.core.say.problem import Problem
            self._ports.problems.add(Problem(f"what surfaces did is not counted: {result}"))

    def read(self, since: int, surface: str, then: Callable[[object], None]) -> None:
        """Hand on the history since a day, of one surface or of all, with everything up to now."""
        self.save()
        store = self.store or HistoryStore(Path("/nonexistent"))
        self._do(lambda: store.read(since, surface), then)

    def erase(self, then: Callable[[object], None]) -> None:
        """Forget everything."""
        self._counter.take()
        store = self.store
        self._do(store.erase if store is not None else lambda: None, then)

    def close(self) -> None:
        """Store what is left."""
        self.note(list(self.news.history)[-LAST:])
        self.save()
        if self._worker is not None:
            self._worker.close()
