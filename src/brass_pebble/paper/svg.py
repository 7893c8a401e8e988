"""Pages as SVG 1.1, in millimetres; texts are outlines, so that no font is needed where it is opened."""

from __future__ import annotations

from xml.sax.saxutils import escape, quoteattr

from .font import typeface
from .shapes import Box, Circle, Group, Line, Page, Path, Shape, Words


def page_svg(page: Page, title: str) -> str:
    """One page as SVG text."""
    size = f'width="{page.width:g}mm" height="{page.height:g}mm" viewBox="0 0 {page.width:g} {page.height:g}"'
    lines = [f'<svg xmlns="http://www.w3.org/2000/svg" {size}>', f"<title>{escape(title)}</title>",
             f'<rect class="paper" width="{page.width:g}" height="{page.height:g}" fill="#ffffff"/>']
    lines += [_draw(shape) for shape in page.shapes]
    return "\n".join([*lines, "</svg>", ""])


def _paint(fill: str, stroke: str, line: float) -> str:
    parts = [f'fill="{fill or "none"}"']
    if stroke:
        parts.append(f'stroke="{stroke}" stroke-width="{line:g}" stroke-linecap="round" stroke-linejoin="round"')
    return " ".join(parts)


def _n(number: float) -> str:
    return f"{number:.3f}".rstrip("0").rstrip(".")


def _dash(parts: tuple[float, ...]) -> str:
    return f' stroke-dasharray="{" ".join(_n(part) for part in parts)}"' if parts else ""


def _draw(shape: Shape) -> str:
    if isinstance(shape, Group):
        inner = "\n".join(_draw(inner) for inner in shape.shapes)
        role = f' class="{shape.role}"' if shape.role else ""
        return f"<g{role} data-name={quoteattr(shape.name)}>\n{inner}\n</g>"
    if isinstance(shape, Box):
        role = f' class="{shape.role}"' if shape.role else ""
        radius = f' rx="{_n(shape.radius)}"' if shape.radius else ""
        return (f'<rect{role} x="{_n(shape.x)}" y="{_n(shape.y)}" width="{_n(shape.width)}" '
                f'height="{_n(shape.height)}"{radius} {_paint(shape.fill, shape.stroke, shape.line)}/>')
    if isinstance(shape, Line):
        return (f'<line x1="{_n(shape.x1)}" y1="{_n(shape.y1)}" x2="{_n(shape.x2)}" y2="{_n(shape.y2)}" '
                f'stroke="{shape.stroke}" stroke-width="{_n(shape.line)}"{_dash(shape.dash)}/>')
    if isinstance(shape, Circle):
        return (f'<circle cx="{_n(shape.x)}" cy="{_n(shape.y)}" r="{_n(shape.radius)}" '
                f'{_paint(shape.fill, shape.stroke, shape.line)}/>')
    if isinstance(shape, Path):
        drawn = " ".join(" ".join((letter, *(_n(number) for number in numbers))) for letter, numbers in shape.legs)
        role = f' class="{shape.role}"' if shape.role else ""
        return f'<path{role} d="{drawn}" {_paint(shape.fill, shape.stroke, shape.line)}{_dash(shape.dash)}/>'
    return _text(shape)


def _text(words: Words) -> str:
    face = typeface(words.bold)
    x = words.x
    if words.anchor != "start":
        x -= face.width(words.text, words.size) * (0.5 if words.anchor == "middle" else 1.0)
    drawn = face.outline(words.text, x, words.y, words.size)
    return (f'<path class="text" aria-label={quoteattr(words.text)} d="{drawn}" '
            f'fill="{words.fill}"/>')
