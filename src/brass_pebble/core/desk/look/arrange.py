"""How the rows of a desk are arranged where its real arrangement would be drawn too small.  Pure."""

from __future__ import annotations

from collections.abc import Sequence


def side_by_side(rows: Sequence[tuple[float, float]], width: float, height: float) -> list[int]:
    """In which column of rows each row of a desk is drawn, so that the whole desk is seen at the largest scale.

    `rows` has each row's width and height with its title, `width` and `height` are the room, in the same units; the
    result counts columns from 0.
    """
    best, best_scale = [0] * len(rows), 0.0
    for columns in range(1, len(rows) + 1):
        limit = sum(h for _, h in rows) / columns
        chosen, used, at = [], 0.0, 0
        for _, high in rows:
            if used and used + high > limit * 1.15 and at < columns - 1:
                at, used = at + 1, 0.0
            chosen.append(at)
            used += high
        wide = sum(max((w for (w, _), c in zip(rows, chosen, strict=True) if c == column), default=0.0)
                   for column in range(columns))
        tall = max(sum(h for (_, h), c in zip(rows, chosen, strict=True) if c == column)
                   for column in range(columns))
        scale = min(width / wide, height / tall)
        if scale > best_scale * 1.02:
            best, best_scale = chosen, scale
    return best
