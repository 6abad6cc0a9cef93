"""Pages of the sheet: which blocks are drawn on which, and where a named link goes on."""

from __future__ import annotations

from msgspec.structs import replace

from zesty_trace.core.catalogue.kinds import Catalogue
from zesty_trace.core.design.model import Design, Page
from zesty_trace.core.schematic.blocks import block_order, propose_blocks

PARTS_A_PAGE = 45


def pages_of(design: Design, catalogue: Catalogue) -> list[Page]:
    """Return the pages, each block on just one: blocks that no page names go on the first. Empty if all is on one sheet."""
    if not design.pages:
        return []
    blocks = block_order(set(propose_blocks(design, catalogue).values()))
    seen: set[str] = set()
    found = []
    for page in design.pages:
        own = tuple(b for b in page.blocks if b in blocks and b not in seen)
        seen |= set(own)
        found.append(replace(page, blocks=own))
    loose = tuple(b for b in blocks if b not in seen)
    found[0] = replace(found[0], blocks=(*found[0].blocks, *loose))
    return [p for p in found if p.blocks]


def propose_pages(design: Design, catalogue: Catalogue, most: int = PARTS_A_PAGE) -> tuple[Page, ...]:
    """Return pages of whole blocks in reading order, up to `most` parts each (a larger block has its own)."""
    by_ref = propose_blocks(design, catalogue)
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


def page_marks(design: Design, catalogue: Catalogue, page: Page) -> dict[str, str]:
    """Return, for each net that goes on elsewhere, what its tags say: ` ›2` for page 2."""
    by_ref = propose_blocks(design, catalogue)
    home = {block: p.name for p in pages_of(design, catalogue) for block in p.blocks}
    found = {}
    for net, pins in design.nets.items():
        there = {home.get(by_ref.get(p.ref, ""), "") for p in pins} - {page.name, ""}
        if there:
            found[net] = f" ›{','.join(sorted(there))}"
    return found
