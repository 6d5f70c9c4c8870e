"""The part of the flow in which conditions are met."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field

from tidal_lens.cutting.regions import Content, Limit, cells_skin, region_content, region_skin
from tidal_lens.errors import MissingQuantityError
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.conditions import Condition, levels_of, needs_of, told, with_level
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.isosurface import new_isosurface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Tile
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.tables import Table
from tidal_lens.study.words import Words, number_text


class RegionShape(Cut):
    """Conditions that are all met in it, and whether its skin is exact or that of whole cells."""

    kind: Literal["region"] = "region"
    conditions: Annotated[tuple[Condition, ...], Field(min_length=1, max_length=20)]
    edges: Literal["exact", "cells"] = "exact"
    quick: Annotated[bool, Field(exclude=True)] = False
    how: ClassVar[str] = "all"

    def needs(self) -> tuple[str, ...]:
        """Quantities of the conditions that count."""
        return needs_of(self.conditions)

    def make(self, see: See) -> Made:
        """Its skin with caps, and what it holds."""
        limits = [_limit(c, see) for c in self.conditions if c.on]
        whole = self.edges == "cells"
        blocks = self.own_blocks(see.flow)
        skin = (cells_skin if whole else partial(region_skin, rough=self.quick))(see.flow, limits, see.token, blocks)
        if self.quick:
            return Made(skin)
        try:
            density = see.values("density")
        except MissingQuantityError:
            density = None
        content = region_content(see.flow, limits, density, whole=whole, token=see.token, blocks=blocks)
        return Made(skin, tables=(_table(content, see.flow),),
                    told=_told(content, see.flow, "the flow" if blocks is None else "its blocks"))

    def draft(self) -> Self:
        """Without what it holds, and where conditions meet to the accuracy of the cells."""
        return self.with_(quick=True)

    def tell(self, words: Words) -> str:
        """The conditions."""
        return f"{self.subject_told()}{' in whole cells' if self.edges == 'cells' else ''}, {told(self.conditions, self.how, words)}"

    def levels(self) -> tuple[tuple[str, float], ...]:
        """Its numbers."""
        return levels_of(self.conditions)

    def at_level(self, number: int, value: float) -> Self:
        """At another number."""
        return self.with_(conditions=with_level(self.conditions, number, value))


def _limit(condition: Condition, see: See) -> Limit:
    if condition.other:
        return Limit(condition.over(see.values), 0.0, True)
    return Limit(see.values(condition.quantity), condition.value, condition.keep == "above")


def _units(flow: Flow) -> tuple[str, str]:
    return (" m³", " kg") if flow.si_units else ("", "")


def _told(content: Content, flow: Flow, whole: str) -> str:
    volume, mass = _units(flow)
    weighs = f", {number_text(content.mass)}{mass or ' of mass'}" if content.mass is not None else ""
    return f"{number_text(content.volume)}{volume or ' of volume'}, {number_text(100.0 * content.share, 3)} % of {whole}{weighs}"


def _table(content: Content, flow: Flow) -> Table:
    volume, mass = _units(flow)
    rows: list[tuple[str, float]] = [(f"volume{f' [{volume.strip()}]' if volume else ''}", content.volume),
                                     ("share of the flow", content.share), ("cells", float(content.cells))]
    if content.mass is not None:
        rows.append((f"mass{f' [{mass.strip()}]' if mass else ''}", content.mass))
    return Table("Region", ("what", "value"), tuple(rows))


def new_region(store: QuantityStore) -> Begun:
    """Where Q is above a telling value, or the upper quarter of a scalar: what an isosurface begins with, filled."""
    like = new_isosurface(store).shape
    (name, value), *_ = like.levels()
    return Begun("Region", RegionShape(conditions=(Condition(quantity=name, value=value),)), SurfaceLook(colour_by=name))


KIND = Kind(RegionShape, "The part of the flow in which conditions on quantities are met: its skin with caps, its volume and mass.", "look",
            "region", (Tile("add-region", "Region", "Show the part of the flow in which conditions are met."),),
            lambda store, _argument: new_region(store), slow=True, group="Volume")
