"""Labels: fitted, packed, drawn in exact size, read back from SVG and PDF; the map; what was printed before."""

from __future__ import annotations

import io
import itertools
import json
import re
import subprocess
import tomllib
import xml.etree.ElementTree as Xml
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace
from PIL import Image
from pypdf import PdfReader
from pypdf.generic import ContentStream

from brass_pebble.core.desk.look.drawn import BareSurface, BindingRow, ControlRow, LabelsRow, LayerRow
from brass_pebble.core.devices.layout import read_layout
from brass_pebble.core.label.faces import Entry, Face, changed, faces, layers_shown
from brass_pebble.core.label.fit import COMFORTABLE, LEADING, SMALLEST, abbreviations, fit_text
from brass_pebble.core.label.icons import LINE, SIDE, guess_icon, icons
from brass_pebble.core.label.pack import pack
from brass_pebble.core.label.sheet import MARGIN, PAPERS, Field, Label, lay_out
from brass_pebble.core.label.sizes import label_size, read_size
from brass_pebble.core.say.problem import ProblemError
from brass_pebble.core.say.tints import TINTS
from brass_pebble.paper.desk_map import desk_page, widest_text
from brass_pebble.paper.font import measure, typeface
from brass_pebble.paper.label_files import label_pages, notes_of, read_printed, remember_printed, sheet_of
from brass_pebble.paper.label_sheet import CUT_LINE
from brass_pebble.paper.patterns import INK, patterns, tinted
from brass_pebble.paper.pdf import MM, pages_pdf
from brass_pebble.paper.shapes import Box, Circle, Line, Words, flat
from brass_pebble.paper.surface_map import CARD, card_pages, map_page
from brass_pebble.paper.svg import page_svg
from brass_pebble.paths import SHIPPED_LAYOUTS
from conftest import run
from needed import needs

SVG = "{http://www.w3.org/2000/svg}"
LAYOUTS = ("numpad", "full-iso", "pads-16", "pedals-3", "knobs-sliders-8")
WORDS = ("wide", "next cam", "chapter mark", "mute", "Crème brûlée", "Ω", "a very long label", "cut", "◂ frame", "stop")


def surface(layout: str, *, layers: int = 1, label: str = "", id: str = "board") -> BareSurface:
    """A surface on which every control does something, as clients get it."""
    file = SHIPPED_LAYOUTS / f"{layout}.toml"
    drawn, _ = read_layout(tomllib.loads(file.read_text()), id=layout, file=file.name)
    controls = [ControlRow(id=c.id, code=c.code, x=c.x, y=c.y, w=c.w, h=c.h, legend=c.legend,
                           shape=c.shape if c.shape != "cap" else "") for c in drawn.controls]
    rows = []
    for number in range(layers):
        bindings = [BindingRow(control=c.id, gesture="press", kind="tap", target=f"F{index}", glyph="•", words="Ctrl+A",
                               label=label or WORDS[(index + number) % len(WORDS)],
                               tint=TINTS[index % len(TINTS)] if index % 3 else "")
                    for index, c in enumerate(drawn.controls) if (index + number) % 5 or not number]
        rows.append(LayerRow(id=f"layer-{number}", name=f"Layer {number}", tint="", on=not number,
                             why="" if number else "always", starts="off", follows=None, bindings=bindings))
    return BareSurface(id=id, name="Test board", at=[0, 0], home=[], layout=layout, labels=LabelsRow(cap="", sizes={}),
                       layers=rows, controls=controls)


def with_binding(row: BareSurface, index: int, **changes: Any) -> BareSurface:
    """The surface with another binding in its lowest layer."""
    lowest, *others = row.layers
    bindings = list(lowest.bindings)
    bindings[index] = replace(bindings[index], **changes)
    return replace(row, layers=[replace(lowest, bindings=bindings), *others])


def overlap(one: Field, other: Field) -> bool:
    return (one.x < other.x + other.width - 1e-6 and other.x < one.x + one.width - 1e-6
            and one.y < other.y + other.height - 1e-6 and other.y < one.y + one.height - 1e-6)


# Fitting.


def test_a_text_gets_smaller_then_two_lines_then_is_abbreviated() -> None:
    assert fit_text("cut", 20, 10, measure).lines == ("cut",)
    wide = fit_text("next cam", 40, 10, measure)
    assert wide.lines == ("next cam",) and not wide.abbreviated
    two = fit_text("next camera", 13, 10, measure)
    assert two.lines == ("next", "camera") and not two.abbreviated and two.size >= SMALLEST
    short = fit_text("announcement", 9, 4, measure)
    assert short.abbreviated and short.lines[0].startswith("ann") and len(short.lines[0]) < len("announcement")
    assert fit_text("   ", 9, 4, measure).lines == ()


@given(st.text(st.characters(codec="latin-1", exclude_categories=("C", "Z")), min_size=1, max_size=24),
       st.floats(2, 60), st.floats(2, 40))
def test_what_is_fitted_lies_in_its_field(text: str, width: float, height: float) -> None:
    found = fit_text(text, width, height, measure)
    assert found.lines and all(measure(line, found.size) <= width + 1e-6 for line in found.lines)
    assert len(found.lines) * LEADING * found.size <= height + 1e-6
    if not found.abbreviated:
        assert " ".join(found.lines).replace(" ", "") == "".join(text.split())
        assert found.size >= min(SMALLEST, COMFORTABLE)


def test_abbreviations_become_shorter_to_the_first_letter() -> None:
    found = list(abbreviations("next camera"))
    assert found[0] == "next cmr" and "n cmr" in found and found[-1] == "n"


# Sizes, packing.


def test_sizes_follow_the_controls() -> None:
    def sized(w: float, h: float, shape: str = "") -> ControlRow:
        return ControlRow(id="x", code=1, x=0, y=0, w=w, h=h, legend="", shape=shape)
    key = sized(1.0, 1.0)
    assert label_size("full-iso", key) == (14, 14)
    assert label_size("full-iso", sized(2.0, 1.0)) == (33.05, 14)
    assert label_size("full-iso", sized(1.0, 0.6)) == (14, 9)
    assert label_size("pads-16", key) == (26, 26)
    assert label_size("pedals-3", sized(2.0, 1.5)) == (52, 30)
    assert label_size("numpad", sized(1.0, 2.0), (12, 12)) == (12, 31.05)
    assert label_size("numpad", sized(1.0, 1.0, "knob")) == (14, 7)
    assert read_size(" 33,5 × 14 mm") == (33.5, 14)
    for wrong in ("14", "axb", "1x14", "14x900"):
        with pytest.raises(ProblemError):
            read_size(wrong)


@given(st.lists(st.tuples(st.floats(4, 60), st.floats(4, 60)), max_size=60), st.floats(0, 4))
def test_packed_labels_never_overlap_and_stay_on_the_page(sizes: list[tuple[float, float]], gap: float) -> None:
    spots = pack(sizes, (190, 250), gap)
    assert sorted(spot.index for spot in spots) == list(range(len(sizes)))
    placed = [(spot.page, Field(spot.x, spot.y, *sizes[spot.index])) for spot in spots]
    for _, field in placed:
        assert field.x >= 0 and field.y >= 0 and field.x + field.width <= 190.001 and field.y + field.height <= 250.001
    for (page, one), (other_page, other) in itertools.combinations(placed, 2):
        assert page != other_page or not overlap(one, other)


def test_little_paper_is_wasted() -> None:
    """What the labels and their gaps need, as a share of the rows that they take."""
    for layout in LAYOUTS:
        sheet, _ = sheet_of(surface(layout))
        used = sum((label.at.width + 3.5) * (label.at.height + 3.5) for page in sheet.pages for label in page)
        taken = sum(194 * (max(at.at.y + at.at.height for at in page) - min(at.at.y for at in page) + 3.5)
                    for page in sheet.pages)
        assert used / taken > (0.8 if sheet.count > 20 else 0.3), (layout, used / taken)


# What stands on them.


def test_icons_are_many_lie_in_their_square_and_are_guessed_from_words() -> None:
    assert len(icons()) >= 60
    for icon in icons().values():
        for part in icon.parts:
            for letter, numbers in part.commands:
                if letter == "O":
                    x, y, radius = numbers
                    assert min(x, y) - radius >= 0 and max(x, y) + radius <= SIDE, icon.name
                elif letter == "P":
                    assert numbers[0] + numbers[2] <= SIDE and numbers[1] + numbers[3] <= SIDE, icon.name
                else:
                    edge = LINE / 2 if part.line and not part.carved else 0
                    assert all(edge <= number <= SIDE - edge for number in numbers), icon.name
    assert (guess_icon("next cam"), guess_icon("Mute mic"), guess_icon("zz")) == ("next", "mute", "")


def test_each_tint_has_a_pattern_of_its_own_that_stays_in_its_field() -> None:
    assert set(patterns()) == set(TINTS)
    shapes = {(found.kind, found.angle) for found in patterns().values()}
    assert len(shapes) == len(TINTS)
    for tint in TINTS:
        for shape in tinted(tint, 3, 4, 17, 5):
            if isinstance(shape, Line):
                assert shape.stroke == INK
                assert all(2.99 <= x <= 20.01 for x in (shape.x1, shape.x2))
                assert all(3.99 <= y <= 9.01 for y in (shape.y1, shape.y2))
            elif isinstance(shape, Circle):
                assert shape.x - shape.radius >= 3 and shape.x + shape.radius <= 20


def test_up_to_four_layers_have_their_corners() -> None:
    entries = tuple(Entry(f"L{number}", word, "", "sky") for number, word in enumerate(("one", "two", "three", "four")))
    parts = lay_out(Face("1", "1", entries, {}), 16, 16, measure)
    assert [(part.text.x < 8, part.text.y < 8) for part in parts] == [(True, True), (False, True), (True, False),
                                                                    (False, False)]
    for one, other in itertools.combinations(parts, 2):
        assert not overlap(one.text, other.text)
    # Where the layer beside it has nothing, a text reaches over; its own corner stays.
    parts = lay_out(Face("1", "1", (entries[0], Entry("L1"), entries[2]), {}), 16, 16, measure)
    assert [part.entry.label for part in parts] == ["one", "three"] and parts[0].text.width > 12


def test_an_icon_and_a_label_of_the_desk_count() -> None:
    row = with_binding(with_binding(surface("numpad"), 0, icon="bell"), 1, icon="none", label="mute")
    found = {face.control: face.entries[0] for face in faces(row, layers_shown(row))}
    first, second = (binding.control for binding in row.layers[0].bindings[:2])
    assert found[first].icon == "bell" and found[second].icon == ""


# The sheet, read back.


def cuts_in_svg(text: str) -> list[tuple[str, Field]]:
    """The labels of a page, and where they are cut."""
    root = Xml.fromstring(text)
    found = []
    for group in root.iter(f"{SVG}g"):
        if group.get("class") == "label":
            box = next(rect for rect in group.iter(f"{SVG}rect") if rect.get("class") == "cut")
            found.append((str(group.get("data-name")),
                          Field(*(float(str(box.get(name))) for name in ("x", "y", "width", "height")))))
    return found


def cuts_in_pdf(data: bytes) -> list[tuple[tuple[float, float], list[Field]]]:
    """For each page its size and the rectangles drawn with the cut line's width, in mm from the upper left corner."""
    reader, pages = PdfReader(io.BytesIO(data)), []
    for page in reader.pages:
        width, height = float(page.mediabox.width) / MM, float(page.mediabox.height) / MM
        found, line, last = [], 0.0, None
        for operands, operator in ContentStream(page.get_contents(), reader).operations:
            if operator == b"w":
                line = float(operands[0]) / MM
            elif operator == b"re":
                last = [float(number) / MM for number in operands]
            elif operator in (b"f", b"f*", b"m", b"B", b"n"):
                last = None
            elif operator == b"S" and last is not None and abs(line - CUT_LINE) < 0.01:
                found.append(Field(last[0], height - last[1] - last[3], last[2], last[3]))
                last = None
        pages.append(((width, height), found))
    return pages


@pytest.mark.parametrize("paper", list(PAPERS))
@pytest.mark.parametrize("layout", LAYOUTS)
def test_a_sheet_is_exact_in_svg_and_pdf(layout: str, paper: str, tmp_path: Path) -> None:
    row = surface(layout, layers=2)
    sheet, about = sheet_of(row, paper=paper, layers=["layer-0", "layer-1"])
    pages = label_pages(row, sheet, about)
    width, height = PAPERS[paper]
    pdf = pages_pdf(pages, "labels")
    in_pdf = cuts_in_pdf(pdf)
    assert sheet.count == len(row.controls) and len(in_pdf) == len(sheet.pages)
    for number, labels in enumerate(sheet.pages):
        text = page_svg(pages[number], "labels")
        root = Xml.fromstring(text)
        assert (root.get("width"), root.get("height")) == (f"{width:g}mm", f"{height:g}mm")
        assert root.get("viewBox") == f"0 0 {width:g} {height:g}"
        # No font is needed: every text is an outline.
        assert not list(root.iter(f"{SVG}text"))
        drawn, (size, cut) = dict(cuts_in_svg(text)), in_pdf[number]
        assert abs(size[0] - width) < 0.01 and abs(size[1] - height) < 0.01
        assert len(cut) == len(labels) == len(drawn)
        for label in labels:
            wanted = label_size(layout, label.face.row)
            at = label.at
            for found in (drawn[label.face.control], min(cut, key=lambda f: abs(f.x - at.x) + abs(f.y - at.y))):
                assert abs(found.width - wanted[0]) < 0.1 and abs(found.height - wanted[1]) < 0.1
                assert abs(found.x - label.at.x) < 0.1 and abs(found.y - label.at.y) < 0.1
                assert found.x - sheet.bleed >= MARGIN - 0.01 and found.x + found.width <= width - MARGIN + 0.01
        for one, other in itertools.combinations(cut, 2):
            assert not overlap(one, other)
    file = tmp_path / "sheet.pdf"
    file.write_bytes(pdf)
    needs("pdffonts")
    fonts = subprocess.run(["pdffonts", file], capture_output=True, text=True, check=True).stdout.splitlines()[2:]
    assert fonts and all(line.split()[-5] == "yes" for line in fonts), fonts
    check_ruler(file, tmp_path, width, height)


def check_ruler(file: Path, folder: Path, width: float, height: float) -> None:
    """The ruler on the picture of a page is 100 mm long, and has a tick for each."""
    needs("pdftoppm")
    subprocess.run(["pdftoppm", "-r", "254", "-gray", "-f", "1", "-l", "1", "-singlefile", file, folder / "page"],
                   check=True)
    image = Image.open(folder / "page.pgm")
    # 254 dots an inch are 10 dots a mm.
    assert abs(image.width - width * 10) < 3 and abs(image.height - height * 10) < 3
    base = round((height - MARGIN - 5) * 10)
    dark = max((sum(image.getpixel((x, y)) < 128 for x in range(80, 1120)), y) for y in range(base - 3, base + 4))
    assert abs(dark[0] - 1000) <= 4
    row = [image.getpixel((x, base - 8)) < 128 for x in range(80, 1120)]
    ticks = sum(now and not before for before, now in itertools.pairwise(row))
    assert ticks == 101


def test_labels_larger_than_the_page_are_told(no_system_fonts: None) -> None:
    sheet, _ = sheet_of(surface("pedals-3"), sizes={"left": "150x150", "middle": "140x40"})
    assert sheet.too_large == () and sheet.count == 3
    row = surface("numpad", label="Zusammenfassung 日本")
    sheet, _ = sheet_of(row, sizes={"7": "8x4"})
    notes = notes_of(sheet)
    assert any("is printed as" in note for note in notes)
    assert any("no font on this computer has “日本”" in note for note in notes)
    assert typeface(True).lacks("Кнопка Ωmega ◂▸ é") == ""


def test_only_what_changed_is_printed(tmp_path: Path) -> None:
    row, record = surface("numpad"), tmp_path / "printed" / "board.json"
    sheet, _ = sheet_of(row)
    assert read_printed(record) == {}
    remember_printed(record, sheet)
    assert sheet_of(row, printed=read_printed(record))[0].count == 0
    row = with_binding(row, 3, label="other")
    sheet, about = sheet_of(row, printed=read_printed(record))
    wanted = row.layers[0].bindings[3].control
    assert [label.face.control for page in sheet.pages for label in page] == [wanted]
    assert "only what changed" in about
    assert changed(faces(row, layers_shown(row)), {}) == faces(row, layers_shown(row))
    record.write_text("not JSON")
    assert read_printed(record) == {}


def test_a_map_holds_everything_on_one_page_and_cards_have_their_size() -> None:
    row = surface("full-iso", layers=4)
    page = map_page(row)
    text = page_svg(page, "map")
    assert (page.width, page.height) == (297, 210)
    labels = re.findall(r'aria-label="([^"]*)"', text)
    legends = {control.legend for control in row.controls}
    assert len(legends - set(labels)) < 20
    for entry in ("1 press: wide (Ctrl+A)", "4 press: cut (Ctrl+A)"):
        assert any(entry in label for label in labels) or any(label in entry for label in labels)
    cards = card_pages(row)
    boxes = [shape for page in cards for group in page.shapes for shape in getattr(group, "shapes", ())
             if isinstance(shape, Box) and shape.role == "cut"]
    assert len(boxes) == 4 and all((box.width, box.height) == CARD for box in boxes)


# The command line.


@pytest.fixture
def desk(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    folder = tmp_path / "desk"
    (folder / "macros").mkdir(parents=True)
    (folder / "desk.toml").write_text("""format = 1
name = "Paper desk"
[surface.pad]
name = "Pad"
layout = "numpad"
[surface.pad.labels]
cap = "12x12"
[surface.pad.labels.sizes]
enter = "12x30"
[surface.pad.layer.base]
name = "Base"
[surface.pad.layer.base.press]
7 = { tap = "A", label = "wide", icon = "camera", tint = "sky" }
enter = { tap = "B", label = "bell" }
[surface.pad.layer.more]
name = "More"
[surface.pad.layer.more.press]
7 = { tap = "C", label = "cut" }
[surface.pad.layer.more.hold]
7 = { tap = "D", label = "cut all" }
""")
    monkeypatch.chdir(tmp_path)
    return folder


def test_labels_on_the_command_line(desk: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    at = ["--desk", str(desk)]
    assert run("labels", "pad", *at, "--json") == 0
    rows = [json.loads(line) for line in capsys.readouterr().out.splitlines()]
    assert {row["control"]: (row["width_mm"], row["height_mm"]) for row in rows} == {"7": (12, 12), "enter": (12, 30)}
    assert run("labels", "pad", *at, "-o", "sheet.pdf", "--paper", "letter") == 0
    assert "Saved sheet.pdf." in capsys.readouterr().out
    assert cuts_in_pdf((tmp_path / "sheet.pdf").read_bytes())[0][0] == pytest.approx(PAPERS["letter"], abs=0.01)
    assert run("labels", "pad", *at, "--changed") == 0
    assert "0 labels, only what changed" in capsys.readouterr().out
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text.replace('label = "bell"', 'label = "gong"'))
    assert run("labels", "pad", *at, "--changed", "-o", "new.svg") == 0
    assert [name for name, _ in cuts_in_svg((tmp_path / "new.svg").read_text())] == ["enter"]
    assert run("labels", "pad", *at, "--layer", "base", "--layer", "more", "--size", "7=20x20", "-o", "both.svg") == 0
    assert dict(cuts_in_svg((tmp_path / "both.svg").read_text()))["7"].width == 20
    capsys.readouterr()
    for words, says in ((["nopad"], "no surface “nopad”"), (["pad", "--layer", "x"], "has no layer “x”"),
                        (["pad", "--cap", "big"], "“big” is not a valid size"),
                        (["pad", "--paper", "a9"], "no paper “a9”"),
                        (["pad", "--size", "x=1x1"], "names no control"), (["pad", "-o", "x.doc"], "is not a drawing"),
                        (["pad", "-o", "/nowhere/x.pdf"], "cannot be written")):
        assert run("labels", *words, *at) in (1, 2)
        assert says in capsys.readouterr().err


def test_a_map_on_the_command_line(desk: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    at = ["--desk", str(desk)]
    assert run("map", "pad", *at) == 0
    out = capsys.readouterr().out
    assert "Base (always on)" in out and "7  hold: cut all (D)" in out and "│  wide  │" in out
    assert run("map", "pad", *at, "--json") == 0
    assert json.loads(capsys.readouterr().out.splitlines()[0])["label"] == "wide"
    assert run("map", "pad", *at, "-o", "map.pdf") == 0 and run("map", "pad", *at, "--card", "-o", "card.svg") == 0
    assert len(PdfReader(tmp_path / "map.pdf").pages) == 1 and (tmp_path / "card.svg").exists()
    capsys.readouterr()
    assert run("map", "pad", *at, "--card") == 2 and run("map", *at, "--card", "-o", "card.svg") == 2
    assert "cards are for one surface, and drawn" in capsys.readouterr().err


def test_the_whole_desk_is_one_diagram_and_nothing_is_cut(desk: Path, tmp_path: Path,
                                                          capsys: pytest.CaptureFixture[str]) -> None:
    (desk / "programs").mkdir()
    (desk / "programs" / "cutter.toml").write_text(
        'name = "Cutter"\n[[shortcut]]\nchord = "D"\ndoes = "cut everything"\n')
    at = ["--desk", str(desk)]
    assert run("map", *at, "-o", "desk.pdf") == 0
    (page,) = PdfReader(tmp_path / "desk.pdf").pages
    text = page.extract_text()
    assert "Programs: Cutter" in text and "Base (always on)" in text
    assert "hold: cut all (D) → Cutter: cut everything" in text
    assert run("map", *at) == 0 and run("map", *at, "--json") == 0
    assert json.loads(capsys.readouterr().out.splitlines()[-1])["surface"]
    # However much there is to tell: nothing lies outside the page, and nothing over anything else.
    many = [replace(surface("full-iso", layers=4, id=f"board-{n}"), name=f"Board {n}", at=[n % 3 * 24, n // 3 * 7])
            for n in range(6)]
    page = desk_page("Hall", many)
    texts = [shape for shape in flat(page.shapes) if isinstance(shape, Words)]
    assert all(0 <= word.y <= page.height and word.x <= page.width for word in texts)
    assert widest_text(page) <= page.width and page.width == 297
    told = " ".join(word.text for word in texts)
    assert all(f"Board {n}" in told for n in range(6))
    caps = [shape for shape in flat(page.shapes) if isinstance(shape, Box) and shape.role == "cap"]
    assert len(caps) == sum(len(board.controls) for board in many)
    for one, two in itertools.combinations(caps[:400], 2):
        assert (one.x + one.width <= two.x + 1e-6 or two.x + two.width <= one.x + 1e-6
                or one.y + one.height <= two.y + 1e-6 or two.y + two.height <= one.y + 1e-6)


def test_a_broken_label_of_the_desk_is_told(desk: Path, capsys: pytest.CaptureFixture[str]) -> None:
    text = (desk / "desk.toml").read_text()
    (desk / "desk.toml").write_text(text.replace('icon = "camera"', 'icon = "camra"').replace('"12x30"', '"12"'))
    assert run("labels", "pad", "--desk", str(desk)) == 0
    err = capsys.readouterr().err
    assert "there is no icon “camra”. Did you mean camera?" in err and "“12” is not a valid size" in err


def test_every_label_is_named(desk: Path) -> None:
    """Nothing that a layer binds is lost on the way to the sheet."""
    row = surface("full-iso")
    sheet, _ = sheet_of(row)
    labels: list[Label] = [label for page in sheet.pages for label in page]
    assert {label.face.control for label in labels} == {binding.control for binding in row.layers[0].bindings}
