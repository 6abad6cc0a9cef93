"""Pages of the sheet: which blocks are drawn on which, and where a named link goes on."""

from __future__ import annotations

from msgspec.structs import replace

from zesty_trace.core.circuit.wired import Wired
from zesty_trace.core.design.model import Page
from zesty_trace.core.schematic.blocks import block_order, propose_blocks

PARTS_A_PAGE = 45


def pages_of(wired: Wired) -> list[Page]:
    """Return the pages, each block on just one: blocks that no page names go on the first.

    Empty if all is on one sheet.
    """
    design = wired.design
    if not design.pages:
        return []
    blocks = block_order(set(propose_blocks(wired).values()))
    seen: set[str] = set()
    found = []
    for page in design.pages:
        own = tuple(b for b in page.blocks if b in blocks and b not in seen)
        seen |= set(own)
        found.append(replace(page, blocks=own))
    loose = tuple(b for b in blocks if b not in seen)
    found[0] = replace(found[0], blocks=(*found[0].blocks, *loose))
    return [p for p in found if p.blocks]


def propose_pages(wired: Wired, most: int = PARTS_A_PAGE) -> tuple[Page, ...]:
    """Return pages of whole blocks in reading order, up to `most` parts each (a larger block has its own)."""
    by_ref = propose_blocks(wired)
    counts: dict[str, int] = {}
    for block in by_ref.values():
        counts[block] = counts.get(block, 0) + 1
    groups: list[list[str]] = []
    filled = 0
    for block in block_order(set(counts)):
        if not groups or filled + counts[block] > most:
            groups.append([])
            filled = 0
        groups[-1].append(block)
        filled += counts[block]
    return tuple(Page(name=f"{k}", blocks=tuple(group)) for k, group in enumerate(groups, 1))


def page_marks(wired: Wired, page: Page) -> dict[str, str]:
    """Return, for each net that goes on elsewhere, what its tags say: ` ›2` for page 2."""
    design = wired.design
    by_ref = propose_blocks(wired)
    home = {block: p.name for p in pages_of(wired) for block in p.blocks}
    found = {}
    for net, pins in design.nets.items():
        there = {home.get(by_ref.get(p.ref, ""), "") for p in pins} - {page.name, ""}
        if there:
            found[net] = f" ›{','.join(sorted(there))}"
    return found
