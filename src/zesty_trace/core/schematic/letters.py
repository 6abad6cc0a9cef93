"""Sizes of lettering on a sheet, and how wide a text is: in grid units, from the letters of the shipped font.

Nothing is written smaller than LEAST_SIZE, which a page makes as high as ISO 3098 wants its smallest lettering, 1.8 mm.
"""

from __future__ import annotations

from functools import lru_cache

REF_SIZE, VALUE_SIZE, PIN_SIZE, TAG_SIZE, RAIL_SIZE, TITLE_SIZE = 1.5, 1.3, 1.3, 1.3, 1.6, 1.8
LEAST_SIZE = 1.3
CAPITAL = 0.73  # height of a capital as a share of the size
_FIRST, _OTHER = 32, 0.8
# hundredths of the size, from the space to the tilde: regular, bold
_WIDTHS = tuple(
    bytes.fromhex(h)
    for h in (
        "1d1c293f40524017252532421c2e1c243f2f3d40413d3f3a3e3f1c1c424242335e444149483c3b4b4a1b374239594c4d"
        "404d4040414b445f41433f2524252f2e32393e383e3b243d3b18183718573b3c3d3d2635253a385236383725212542",
        "1821284142564415292939441f2f1e2745313f424441423c42421e1f44444439674b424c493e3b4c4b1c3945395c4a4f"
        "414f424243494b684849432927293130323a403b403c27403f1c1c3b1c5c3f3e40402939273f3b553a3b3a29262944",
    )
)


@lru_cache(8192)
def text_width(text: str, size: float, bold: bool = False) -> float:
    """Return how wide a text is, grid units."""
    widths = _WIDTHS[bold]
    known = (ord(c) - _FIRST for c in text)
    return size * sum(widths[k] / 100 if 0 <= k < len(widths) else _OTHER for k in known)
