"""What all cuts through cells have in common: the blocks that they are of."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from tidal_lens.errors import StudyError
from tidal_lens.flow.case import Flow
from tidal_lens.study.kinds.kind import Shape
from tidal_lens.study.value import Name

Blocks = Annotated[tuple[Name, ...], Field(max_length=10_000)]


class Cut(Shape):
    """A shape that is made from cells: of the whole flow, or of some of its blocks."""

    blocks: Blocks = ()

    def own_blocks(self, flow: Flow) -> frozenset[int] | None:
        """Numbers of its blocks; None for all.

        Raises
        ------
        StudyError
            The flow has none of them.
        """
        if not self.blocks:
            return None
        found = frozenset(n for n, block in enumerate(flow.blocks) if block.name in self.blocks)
        if not found:
            raise StudyError(f"This result has no block {' or '.join(self.blocks[:3])}.", "", "Choose other blocks.")
        return found

    def subject_told(self) -> str:
        """What it is of, in words."""
        return ", ".join(self.blocks) or "whole flow"
