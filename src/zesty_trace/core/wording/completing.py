"""Words that could finish what is being typed on the Say-it line."""

from __future__ import annotations

import re

from zesty_trace.core.catalogue.shelf import search
from zesty_trace.core.circuit.wired import Wired

VERBS = (
    "add",
    "block",
    "connect",
    "copy",
    "decouple",
    "delete",
    "disconnect",
    "fit",
    "leave",
    "pull down",
    "pull up",
    "remove",
    "rename",
    "repeat",
    "set",
)


def completions(text: str, wired: Wired) -> list[str]:
    """Return words that could finish the last word of `text`: references, nets, or pins after a dot."""
    design = wired.design
    word = re.split(r"[\s,=]", text)[-1]
    ref, dot, start = word.partition(".")
    if dot and ref in design.parts:
        names = [p.name for p in wired.kind(ref).pins]
        return [f"{ref}.{n}" for n in names if n.lower().startswith(start.lower())]
    first = text.strip() == word
    known = [*(VERBS if first else ()), *design.parts, *sorted(design.nets)]
    if said := re.search(r"(?:^add\s+|^|\s-\s*)([A-Za-z]{1,4})\d{1,4}\s+(\S*)$", text):
        prefix = said.group(1).upper()
        mine = [k.id for k in search(wired.catalogue, said.group(2).replace("_", " ")) if k.prefix == prefix]
        if text.lower().startswith("add ") and not mine:
            mine = [k.id for k in search(wired.catalogue, said.group(2).replace("_", " "))]
        if mine:
            return mine[:12]
    return [w for w in known if word and w.lower().startswith(word.lower())][:12]
