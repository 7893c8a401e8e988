"""Macro files on the command line: formatted, rehearsed, drawn."""

from __future__ import annotations

import json
import re
import subprocess
import xml.etree.ElementTree as Xml
from pathlib import Path

import pytest

from brass_pebble.core.macro.lanes import lanes_of
from brass_pebble.core.macro.reader import link, parse
from brass_pebble.paper.chart import HEAD, MARGIN, NAMES, ROW, WIDTH, chart_page
from brass_pebble.paper.svg import page_svg
from conftest import run_cli
from needed import needs

SVG = "{http://www.w3.org/2000/svg}"


@pytest.fixture
def file(tmp_path: Path) -> Path:
    (tmp_path / "macros").mkdir()
    file = tmp_path / "macros" / "oven.macro"
    file.write_text('name "Oven"\nkeep ctrl+alt down\n   tap 4   # near\nwait 300 ms\nplay bell\n')
    (tmp_path / "macros" / "bell.macro").write_text("tap F13\n")
    return file


def test_formatting_files(file: Path) -> None:
    before = file.read_text()
    done = run_cli("macro", "format", "--check", str(file))
    assert (done.returncode, done.stdout) == (1, f"{file}: would be tidied\n") and file.read_text() == before
    assert run_cli("macro", "format", str(file)).returncode == 0
    assert file.read_text() == 'name "Oven"\nkeep Ctrl+Alt down\n  tap 4  # near\nwait 300ms\nplay bell\n'
    assert run_cli("macro", "format", "--check", str(file)).returncode == 0
    file.write_text("tap A\ntpa B\n")
    done = run_cli("macro", "format", str(file))
    assert done.returncode == 6 and f"{file}:2:1: “tpa” is not a step" in done.stdout
    assert file.read_text() == "tap A\ntpa B\n"


def test_a_macro_that_plays_another_is_checked_with_its_folder(file: Path) -> None:
    assert run_cli("macro", "check", str(file)).stdout.startswith(f"{file}: fine, 380 ms, 8 key events")
    rows = [json.loads(line) for line in run_cli("macro", "times", "--json", str(file)).stdout.splitlines()]
    assert [(row["ms"], row["key"], row["line"]) for row in rows[-2:]] == [(340.0, "F13", 5), (380.0, "F13", 5)]
    file.write_text("play bel\n")
    done = run_cli("macro", "check", str(file))
    assert done.returncode == 6 and "there is no macro “bel”. Did you mean bell?" in done.stdout


def test_rehearsing_a_file(file: Path) -> None:
    done = run_cli("macro", "rehearse", "--on", "ovenlight", str(file))
    assert "✓ Ovenlight: camera close on air" in done.stdout and "✓ Ovenlight: sting: bell" in done.stdout
    assert "8 events, at most " in done.stderr
    file.write_text("tap Ctrl+Alt+2 for 2ms\n")
    done = run_cli("macro", "rehearse", "--json", str(file))
    events = [json.loads(line) for line in done.stdout.splitlines()]
    assert done.returncode == 1 and not events[-1]["reactions"][0]["good"]
    assert all(event["at_ms"] >= event["planned_ms"] for event in events)
    assert run_cli("macro", "rehearse", "--on", "nothing", str(file)).returncode == 2
    file.write_text("repeat most(number / 4, 25) every 60ms\n  tap Ctrl+Alt+Up\n")
    assert "18 events" in run_cli("macro", "rehearse", "--number", "12", str(file)).stderr


def test_a_chart_is_to_scale(file: Path, tmp_path: Path) -> None:
    out = tmp_path / "oven.svg"
    assert run_cli("macro", "chart", str(file), "-o", str(out)).returncode == 0
    root = Xml.parse(out).getroot()
    bars = [(float(bar.get("x", 0)), float(bar.get("y", 0)), float(bar.get("width", 0)))
            for bar in root.iter(f"{SVG}rect") if bar.get("class") == "bar"]
    room = WIDTH - 2 * MARGIN - NAMES
    # Texts are outlines, so that they look the same where the font is missing.
    said = {path.get("aria-label") for path in root.iter(f"{SVG}path")}
    assert {"Oven", "Ctrl", "Alt", "4", "F13", "0 ms", "200 ms"} <= said
    assert len(bars) == 4
    for x, y, width in bars:
        start = 340 if y > HEAD + 3 * ROW else 0
        assert x == pytest.approx(MARGIN + NAMES + room * start / 380, abs=0.02)
        assert width == pytest.approx(room * 40 / 380, abs=0.02)


def test_a_chart_as_pdf_with_odd_names(tmp_path: Path) -> None:
    file = tmp_path / "odd.macro"
    file.write_text('name "A < B & \\"C\\", Хлеб"\ntype "<&>"\nspeak "hello"\n')
    out = tmp_path / "odd.pdf"
    assert run_cli("macro", "chart", str(file), "-o", str(out)).returncode == 0
    needs("pdftotext", "pdffonts", "pdfinfo")
    text = subprocess.run(["pdftotext", str(out), "-"], capture_output=True, text=True, check=True).stdout
    assert 'A < B & "C", Хлеб' in text and "speak hello" in text
    # In letters of a font that the file brings along, not in boxes.
    fonts = subprocess.run(["pdffonts", str(out)], capture_output=True, text=True, check=True).stdout.splitlines()[2:]
    assert fonts and all(line.split()[-5] == "yes" for line in fonts)
    info = subprocess.run(["pdfinfo", str(out)], capture_output=True, text=True, check=True).stdout
    assert re.search(r"Pages:\s+1\n", info)
    assert run_cli("macro", "chart", str(file), "-o", str(tmp_path / "odd.png")).returncode == 2


def test_an_empty_macro_is_drawn_too() -> None:
    draft = parse("")
    link({"": draft})
    assert Xml.fromstring(page_svg(chart_page("Nothing", lanes_of(draft)), "Nothing")).tag == f"{SVG}svg"
