"""The part of the flow in which conditions are met."""

from __future__ import annotations

from functools import partial
from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from pydantic import Field

from tidal_lens.cutting.regions import Content, Limit, cells_skin, region_content, region_skin
from tidal_lens.errors import MissingQuantityError
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.conditions import Condition, levels_of, needs_of, told, with_level
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.isosurface import new_isosurface
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Tile, Vec
from tidal_lens.study.kinds.measured import node_weights, round_or_deep, told_depth, whole_units
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.tables import Amount, Table
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
        limits = self.limits(see)
        whole = self.edges == "cells"
        blocks = self.own_blocks(see.flow)
        skin = (cells_skin if whole else partial(region_skin, rough=self.quick))(see.flow, limits, see.token, blocks)
        if self.quick:
            return Made(skin)
        try:
            density = np.asarray(see.values("density"), np.float64)
        except MissingQuantityError:
            density = None
        content = region_content(see.flow, limits, density, whole=whole, token=see.token, blocks=blocks)
        if see.flow.normal is not None:
            content = self._as_plane(see, limits, density, content.cells)
        units = (" m³", " kg") if whole_units(see) else ("", "")
        return Made(skin, tables=(_table(content, *units),),
                    told=_told(content, *units, "the flow" if blocks is None else "its blocks") + told_depth(see),
                    amounts=tuple(Amount(v, u.strip()) for v, u in zip((content.volume, content.mass), units, strict=True)
                                  if v is not None and u))

    def _as_plane(self, see: See, limits: list[Limit], density: Vec | None, cells: int) -> Content:
        """What it holds in a plane flow, over the depth that is said, or once round."""
        blocks, by = self.own_blocks(see.flow), round_or_deep(see)

        def add(values: Vec) -> float:
            found = region_content(see.flow, limits, values * by, whole=self.edges == "cells", token=see.token, blocks=blocks)
            return float(found.mass or 0.0)

        weights = node_weights(see)
        inside = np.concatenate([weights[b.points] for n, b in enumerate(see.flow.blocks) if blocks is None or n in blocks])
        return Content(add(np.ones(len(by))), float(inside.sum()), add(density) if density is not None else None, cells)

    def limits(self, see: See) -> list[Limit]:
        """Its conditions as they are cut."""
        return [_limit(c, see) for c in self.conditions if c.on]

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


def _told(content: Content, volume: str, mass: str, whole: str) -> str:
    weighs = f", {number_text(content.mass)}{mass or ' of mass'}" if content.mass is not None else ""
    return f"{number_text(content.volume)}{volume or ' of volume'}, {number_text(100.0 * content.share, 3)} % of {whole}{weighs}"


def _table(content: Content, volume: str, mass: str) -> Table:
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
