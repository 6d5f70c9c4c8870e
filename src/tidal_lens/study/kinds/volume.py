"""Integrals and means over the flow, some of its blocks, or a region; how a quantity is distributed in it."""

from __future__ import annotations

from dataclasses import replace
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.cutting.points import Points
from tidal_lens.cutting.regions import region_content
from tidal_lens.errors import MissingQuantityError, StudyError
from tidal_lens.measures.volumes import Contents, contents_of, distribution
from tidal_lens.quantities.names import CONST
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.charts import SHARES, Chart, Curve, table_of
from tidal_lens.study.kinds.cut import Cut
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile, Vec
from tidal_lens.study.kinds.measured import first_quantity, node_weights, round_or_deep, told_depth, whole_units
from tidal_lens.study.kinds.region import RegionShape
from tidal_lens.study.looks import BallLook
from tidal_lens.study.tables import Table
from tidal_lens.study.value import LayerId, QuantityName
from tidal_lens.study.words import Words, amount_text


class VolumeShape(Cut):
    """Of what, in what.

    Attributes
    ----------
    card : str
        A region; none takes the flow, or its blocks.
    quantity : str
        What is averaged.
    bins : int
        Of its distribution.
    """

    kind: Literal["volume"] = "volume"
    reckoned: ClassVar[str] = ("Values are trilinear in each cell and integrated exactly; products are taken at the nodes: of second "
                               "order. In a region cells are cut.")
    geometry: ClassVar[Sort] = "points"
    measures: ClassVar[bool] = True
    of_mesh: ClassVar[bool] = False  # it looks at what carries mass besides
    card: LayerId = ""
    quantity: QuantityName
    bins: Annotated[int, Field(ge=4, le=2000)] = 60

    @classmethod
    def takes(cls, shape: Shape) -> bool:
        """Regions."""
        return isinstance(shape, RegionShape)

    def make(self, see: See) -> Made:
        """Where it is least and greatest, the table, and its distribution by volume and by mass."""
        values = see.values(self.quantity)
        density, velocity, vorticity = (_known(see, name) for name in ("density", "velocity", "vorticity"))
        weights = self._weights(see)
        found = contents_of(weights, values, density, velocity, vorticity, see.token)
        if found is None:
            raise StudyError(f"{see.called(self.quantity)} is not known in it.", "", "Choose another quantity, or another part.")
        least, greatest = found.least, found.greatest
        if self.card:
            found = self._within(see, found, values, density, velocity, vorticity)
        si = whole_units(see)
        mean = see.amount(self.quantity, found.mean)
        rows: list[tuple[str | float, ...]] = [
            (f"volume{' [m³]' if si else ''}", found.volume), ("mean by volume", mean),
            ("standard deviation by volume", see.amount(self.quantity, float(np.sqrt(found.square / found.volume)), change=True)),
            ("root of the mean square by volume", see.amount(self.quantity, float(np.hypot(mean, np.sqrt(found.square / found.volume))))),
            ("integral", found.integral)]
        for name, value in ((f"mass{' [kg]' if si else ''}", found.mass),
                            ("mean by mass", see.amount(self.quantity, found.by_mass / found.mass)),
                            (f"kinetic energy{' [J]' if si else ''}", found.kinetic),
                            (f"enstrophy, half of the vorticity squared{' [m³/s²]' if si else ''}", found.enstrophy)):
            if np.isfinite(value):
                rows.append((name, value))
        for word, (value, at) in (("least", least), ("greatest", greatest)):
            rows.append((word, see.amount(self.quantity, value)))
            rows += [(f"{word} at {axis}", float(c)) for axis, c in zip("xyz", see.flow.points[at], strict=True)]
        curves = tuple(Curve(f"by {name}", *distribution(weights, values, least[0], greatest[0], self.bins, by))
                       for name, by in (("volume", None), ("mass", density)) if name == "volume" or by is not None)
        charts = (Chart(see.called(self.quantity), SHARES, curves),)
        both = np.array([least[1], greatest[1]])
        extremes = Points(see.flow.points[both], Stencil(both[:, None], np.ones((2, 1))), {"value": np.array([least[0], greatest[0]])})
        tables = (table_of("Distribution", charts), Table("In a volume", ("what", "value"), tuple(rows)))
        return Made(extremes, tables=tables, charts=charts, told=f"mean by volume {amount_text(mean)}{told_depth(see)}",
                    amounts=(mean,))

    def _region(self, see: See) -> RegionShape:
        region = see.shape(self.card)
        if not isinstance(region, RegionShape):
            raise StudyError("It is taken over a region, but the card that it names is none.", "", "Choose another card.")
        return region

    def _weights(self, see: See) -> Vec:
        """Of the nodes that lie in it."""
        flow, weights = see.flow, node_weights(see)
        region = self._region(see) if self.card else None
        blocks = self.own_blocks(flow) if region is None else region.own_blocks(flow)
        if blocks is None and region is None:
            return weights
        inside = np.ones(flow.n_points, bool)
        for n, block in enumerate(flow.blocks):
            inside[block.points] = blocks is None or n in blocks
        for limit in region.limits(see) if region is not None else ():
            inside &= limit.over(limit.values) >= 0.0
        return np.where(inside, weights, 0.0)

    def _within(self, see: See, near: Contents, values: NDArray[Any], density: NDArray[Any] | None, velocity: NDArray[Any] | None,
                vorticity: NDArray[Any] | None) -> Contents:
        """The same integrals over a region, whose skin cuts cells: each over the tetrahedra within."""
        region = self._region(see)
        by = round_or_deep(see) * np.isfinite(values)  # of what is not known everywhere, what is known counts
        limits, blocks, whole = region.limits(see), region.own_blocks(see.flow), region.edges == "cells"

        def add(node_values: NDArray[Any] | None) -> float:
            if node_values is None:
                return float("nan")
            known = np.nan_to_num(np.asarray(node_values, np.float64), posinf=0.0, neginf=0.0)
            return float(region_content(see.flow, limits, known * by, whole=whole, token=see.token, blocks=blocks).mass or 0.0)

        volume, integral = add(np.ones(see.flow.n_points)), add(values)
        heavy = None if density is None else np.asarray(density, np.float64)
        return replace(near, volume=volume, integral=integral, square=add((np.asarray(values, np.float64) - integral / volume) ** 2),
                       mass=add(heavy), by_mass=add(heavy * values if heavy is not None else None),
                       kinetic=add(0.5 * heavy * _squared(velocity) if heavy is not None and velocity is not None else None),
                       enstrophy=add(0.5 * _squared(vorticity) if vorticity is not None else None))

    def needs(self) -> tuple[str, ...]:
        """What is averaged."""
        return (self.quantity,)

    def constants(self) -> tuple[str, ...]:
        """What a density may follow from."""
        return tuple(f"{CONST}{name}" for name in ("gamma", "R", "rho_ref", "d_ref"))

    def tell(self, words: Words) -> str:
        """What in what."""
        return f"{words.quantity(self.quantity)} in {words.card(self.card) if self.card else self.subject_told()}"


def _known(see: See, name: str) -> NDArray[Any] | None:
    try:
        return see.values(name)
    except MissingQuantityError:
        return None


def _squared(vectors: NDArray[Any]) -> Vec:
    return np.asarray((vectors.astype(np.float64) ** 2).sum(axis=1))


def new_volume(store: QuantityStore, card: str) -> Begun:
    """Of the best quantity, over the flow or the chosen region."""
    return Begun("Volume mean", VolumeShape(card=card, quantity=first_quantity(store) or ""), BallLook(size=0.006))


KIND = Kind(VolumeShape, "Integrals, means and distribution of a quantity over the flow, blocks or a region; kinetic energy, enstrophy.",
            "measure", "volume", (Tile("add-volume", "Volume", "Average and add up over the flow, blocks or the chosen region."),),
            new_volume, slow=True, group="Over")
