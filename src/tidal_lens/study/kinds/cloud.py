"""Particles from a file, with values of their own."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any, ClassVar, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field

from tidal_lens.cutting.points import points_in_flow, scalars_of
from tidal_lens.formats.clouds import Cloud, moment_at, moments_of, read_cloud
from tidal_lens.quantities.names import OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.kinds.first_values import best_name
from tidal_lens.study.kinds.kind import Begun, Kind, Made, See, Shape, Sort, Tile
from tidal_lens.study.looks import BallLook
from tidal_lens.study.value import StudyPath
from tidal_lens.study.words import Words, number_text

_SIZE = re.compile(r"diam|^d(_?p)?$|size|radius", re.IGNORECASE)
_TELLS = re.compile(r"temp|^t$|vel|^u|speed|mass|age|time", re.IGNORECASE)
_NUMBER = re.compile(r"(^|[ _])(id|number|index|rank|origin|proc)", re.IGNORECASE)


class CloudShape(Shape):
    """Particles from a file. Of a file with steps that which goes with the flow's; ``moment`` where the flow has no steps."""

    kind: Literal["cloud"] = "cloud"
    geometry: ClassVar[Sort] = "points"
    of_mesh: ClassVar[bool] = False  # another step of the flow is another of the particles
    path: StudyPath
    moment: Annotated[int, Field(ge=0, le=10_000_000)] = 0

    def make(self, see: See) -> Made:
        """The particles, with the flow's values where they are."""
        moments = moments_of(Path(self.path))
        own = next((n for n, (_, file) in enumerate(moments) if file.name == Path(self.path).name), self.moment)
        at = moment_at(moments, see.flow.times, see.flow.step) if len(see.flow.times) > 1 else min(own, len(moments) - 1)
        cloud = read_cloud(moments[at][1], see.token)
        points = points_in_flow(see.flow, cloud.points, cloud.values, see.token)
        told = f"{len(points.points):,} particles"
        if len(moments) > 1:
            told += f", step {at + 1} of {len(moments)}: {number_text(moments[at][0])}"
        return Made(points, told=told)

    def tell(self, _words: Words) -> str:
        """Name of the file."""
        return Path(self.path).name


def new_cloud(store: QuantityStore, path: Path, cloud: Cloud) -> Begun:
    """Particles of a file that has been read, sized and coloured by what tells most of their own."""
    size, colour = first_choice(cloud)
    sized: Literal["even", "share"] = "share" if size else "even"
    look = BallLook(colour_by=colour or best_name(store), size_by=size, sized=sized)
    return Begun(path.stem[:200], CloudShape(path=str(path)), look)


def first_choice(cloud: Cloud) -> tuple[str, str]:
    """Names of the values by which particles are sized and coloured at first; nothing where none offers itself."""
    scalars = {n: v for n, v in scalars_of(cloud.values).items() if np.ptp(v[np.isfinite(v)]) > 0.0} if len(cloud.points) > 1 else {}
    size = next((n for n in scalars if _SIZE.search(n) and (scalars[n] > 0.0).any()), "")
    other = [n for n, v in scalars.items() if n != size and not _NUMBER.search(n) and not _counts(v)]
    best = next((n for n in other if _TELLS.search(n)), other[0] if other else "")
    return (OWN + size if size else ""), (OWN + best if best else "")


def _counts(values: NDArray[Any]) -> bool:
    """Whether values number the rows of a table."""
    return bool(values[0] in (0.0, 1.0) and (np.diff(values) == 1.0).all())


KIND = Kind(CloudShape, "Particles or points from a file, as balls sized and coloured by values of their own.", "look", "cloud",
            (Tile("add-cloud", "Cloud", "Lay particles from a VTP, VTU or CSV file into the flow."),), group="From a file",
            files=("Particles and points (*.vtp *.vtu *.pvtp *.pvtu *.pvd *.csv *.dat *.txt)",))
