"""What the files of a board are: the role of each image, the side it is of, and how its file is called."""

from __future__ import annotations

from typing import Literal, NamedTuple

from zesty_trace.core.design.model import LayerName

LayerRole = Literal["copper", "mask", "paste", "silk", "outline"]


class Image(NamedTuple):
    """An image of a board: its role, and the side or layer it is of; the outline is of none."""

    role: LayerRole
    side: LayerName | None = None

    @property
    def file(self) -> str:
        """The name of its file.

        >>> Image("mask", "top").file
        'mask-top.gbr'
        """
        return f"{self.role}-{self.side}.gbr" if self.side else f"{self.role}.gbr"


OUTLINE = Image("outline")


def drill_name(plated: bool) -> str:
    """Return the name of a drill file."""
    return f"drill-{'plated' if plated else 'bare'}.xnc"
