"""Any script on paper: in a font that has it, shaped, right to left where it goes so; and what no font has."""

from __future__ import annotations

import io
import re
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from pypdf import PdfReader

from brass_pebble.paper import scripts, system_fonts
from brass_pebble.paper.font import typeface, what_no_font_has
from brass_pebble.paper.pdf import pages_pdf
from brass_pebble.paper.scripts import write_line
from brass_pebble.paper.shapes import Page, Words
from brass_pebble.paper.svg import page_svg
from conftest import know, run
from needed import needs
from standstill import took

# A label in each script, and a font of the system that has it, or whose package has one that does.
COMMON = "DejaVu Sans Mono"
LABELS = {"Japanese": ("北カメラ", "VL Gothic"), "Arabic": ("كاميرا", COMMON), "Hebrew": ("מצלמה 2", COMMON),
          "Thai": ("กล้อง", "Loma"), "Devanagari": ("हिन्दी", "Lohit Devanagari"), "emoji": ("😀 ok", COMMON)}


def said_in(pdf: bytes) -> list[str]:
    """What is told beside outlines, for whoever reads a page out or looks for a word in it (ActualText)."""
    found = []
    for page in PdfReader(io.BytesIO(pdf)).pages:
        content = page.get_contents()
        assert content is not None
        found += [bytes.fromhex(text).decode("utf-16") for text in
                  re.findall(r"/ActualText <([0-9A-F]+)>", content.get_data().decode("latin-1"))]
    return found


@pytest.mark.parametrize("name", LABELS)
def test_a_text_in_any_script_is_drawn_and_read_back(name: str, tmp_path: Path) -> None:
    text, font = LABELS[name]
    needs(f"font {font}", "pdftotext", "pdftoppm")
    for bold in (True, False):
        line = write_line(text, bold=bold)
        assert line.missing == "" and len(line.legs) > 20 and 0.5 < line.width < len(text) * 1.4
        assert not typeface(bold).lacks(text)
    page = Page(80, 30, [Words(5, 20, text, 10), Words(75, 28, "Kamera", 4, anchor="end")])
    pdf, svg = pages_pdf([page], "x"), page_svg(page, "x")
    assert said_in(pdf) == [text] and f'aria-label="{text}"' in svg
    file = tmp_path / "x.pdf"
    file.write_bytes(pdf)
    read = subprocess.run(["pdftotext", str(file), "-"], capture_output=True, text=True, check=True).stdout
    assert "Kamera" in read and set(text) - set(read) - {" "} == set()
    # It is black on white where it should be, and about as much as a text of that size.
    subprocess.run(["pdftoppm", "-r", "100", "-gray", str(file), str(tmp_path / "x")], check=True)
    (picture,) = tmp_path.glob("x*.pgm")
    from PIL import Image
    image = Image.open(picture).crop((0, 20, 200, 90))
    dark = sum(pixel < 128 for pixel in image.tobytes())
    assert 150 < dark < 6000


def test_letters_join_and_change_places_as_they_are_written() -> None:
    needs("font DejaVu Sans Mono", "font Lohit Devanagari")
    # Letters of Arabic have other forms beside one another; a vowel of Devanagari stands before what it follows.
    assert write_line("كام", bold=False).width != pytest.approx(sum(write_line(c, bold=False).width for c in "كام"))
    assert write_line("हि", bold=False).legs != write_line("ह", bold=False).legs + write_line("ि", bold=False).legs
    # The first letter of a text from right to left is the one at the right.
    both, last = write_line("של", bold=False), write_line("ל", bold=False)
    assert both.legs[:len(last.legs)] == last.legs


@pytest.mark.parametrize(("text", "order"), [
    ("abc שלום def", ["abc ", "שלום", " ", "def"]), ("שלום abc", ["abc", "שלום "]),
    ("שלום 12 abc", ["abc", " ", "12", "שלום "]), ("plain", ["plain"]), ("", [])])
def test_mixed_directions_stand_in_their_order(text: str, order: list[str]) -> None:
    needs("font DejaVu Sans Mono")
    placed = [run.text for run in scripts._in_order(list(scripts._runs(text, False)))]
    assert placed == order


def test_what_no_font_has_is_a_box_and_told_with_the_package(no_system_fonts: None) -> None:
    line = write_line("a北ก้", bold=False)
    # A mark is no box of its own.
    assert line.missing == "北ก้" and len(line.legs) > 2 * 10
    assert line.width == pytest.approx(write_line("a", bold=False).width + 2 * scripts.FRAME_WIDTH)
    page = Page(50, 50, [Words(1, 9, "a北", 4), Words(1, 20, "ก", 4, bold=True), Words(1, 30, "fine", 4)])
    assert what_no_font_has([page]) == [
        "no font on this computer has “北”, so empty boxes are drawn. Install one: apt install fonts-noto-cjk",
        "no font on this computer has “ก”, so empty boxes are drawn. Install one: apt install fonts-noto-core"]


def test_every_export_says_what_no_font_has(tmp_path: Path, no_system_fonts: None,
                                            capsys: pytest.CaptureFixture[str]) -> None:
    folder = tmp_path / "desk"
    (folder / "macros").mkdir(parents=True)
    (folder / "macros" / "kita.macro").write_text('name "北"\ntap A\n')
    (folder / "desk.toml").write_text('format = 1\nname = "北"\n[surface.pad]\nname = "北 pad"\nlayout = "numpad"\n'
                                      'device = { name = "x" }\n[surface.pad.layer.base.press]\n'
                                      '7 = { tap = "A", label = "北" }\n')
    know(folder)
    at = ("--desk", str(folder))
    for words in (("labels", "pad", *at), ("map", "pad", *at), ("map", *at), ("map", "pad", "--card", *at),
                  ("usage", *at), ("macro", "chart", str(folder / "macros" / "kita.macro"))):
        for kind in ("pdf", "svg"):
            assert run(*words, "-o", str(tmp_path / f"x.{kind}")) == 0
            told = capsys.readouterr()
            assert "has “北”" in told.out + told.err and "fonts-noto-cjk" in told.out + told.err, words


@pytest.fixture
def asked_again() -> Iterator[None]:
    """What fontconfig said is forgotten, before and after."""
    def forget() -> None:
        system_fonts.font_for.cache_clear()
        system_fonts._offers.cache_clear()
    forget()
    yield
    forget()


@pytest.mark.parametrize("says", [None, "exec /bin/sleep 30", "echo no; exit 1", "echo '/nowhere/x.ttf\t0\t4e00-9fff'",
                                  "echo '/etc/passwd\t0\t5317'", "echo 'x\tzz\tzz-'; printf '\\377\\t0\\t5317\\n'"])
def test_a_font_of_the_system_that_cannot_be_had_is_none_and_waited_for_once(
        says: str | None, asked_again: None, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("PATH", str(tmp_path))
    monkeypatch.setattr(system_fonts, "AT_MOST", 0.3)
    if says is not None:
        (tmp_path / "fc-match").write_text(f"#!/bin/sh\n{says}\n")
        (tmp_path / "fc-match").chmod(0o755)
    began = time.monotonic()
    assert [system_fonts.font_for(char, bold=False) for char in "北海道の長い文字列"] == [None] * 9
    assert took(began) < 2


def test_a_label_of_many_letters_asks_the_system_once(asked_again: None, monkeypatch: pytest.MonkeyPatch) -> None:
    needs("font VL Gothic")
    asked: list[object] = []
    run_one = subprocess.run
    monkeypatch.setattr(system_fonts.subprocess, "run", lambda *given, **how: asked.append(given) or run_one(
        *given, **how))
    found = {system_fonts.font_for(chr(code), bold=False) for code in range(0x3041, 0x3090)}
    assert len(asked) == 1 and len(found) == 1 and None not in found
