"""One letter, one meaning: in every view, sheet and widget of the screen."""

from __future__ import annotations

import sys
from collections import Counter
from pathlib import Path

from brass_pebble.screen.base.letters import Letter, letters_bound, read_letters

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
import keys_page


def test_a_letter_means_the_same_wherever_it_is_bound() -> None:
    table = {row.letter: row for row in read_letters()}
    assert len(table) == len(read_letters())
    unknown = Letter("", "nothing: it has no row in letters.tsv", ())
    wrong = [f"{row.letter} in {row.owner.__name__} is “{row.words}” ({row.action}); it means {meant.meaning}"
             for row in letters_bound() if row.action not in (meant := table.get(row.letter, unknown)).actions]
    assert not wrong, "\n".join(wrong)


def test_the_table_has_nothing_that_no_view_binds() -> None:
    bound = {(row.letter, row.action) for row in letters_bound()}
    assert len(bound) > 50
    assert not [(row.letter, action) for row in read_letters() for action in row.actions
                if (row.letter, action) not in bound]


def test_a_deed_has_one_letter() -> None:
    # What closes a panel is the letter that opened it.
    ways_out = {"leave", "put_away"}
    letters = Counter(action for row in read_letters() for action in row.actions if action not in ways_out)
    assert not [action for action, count in letters.items() if count > 1]


def test_the_page_of_keys_is_as_the_bindings_are() -> None:
    assert keys_page.FILE.read_text() == keys_page.page(), "make protocol writes it anew"
