"""What light through the whole flow shows on a screen behind it; and sums, means and extremes along the sight."""

from __future__ import annotations

from dataclasses import replace
from functools import lru_cache
from typing import Annotated, ClassVar, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator

from tidal_lens.cutting.planes import unit
from tidal_lens.cutting.surface import OwnSurface
from tidal_lens.flow.case import Flow
from tidal_lens.optics import light
from tidal_lens.optics.projection import Aim, walls_before
from tidal_lens.optics.through import seen_through
from tidal_lens.quantities.names import CONST, OWN
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.study.kinds.first_values import best_name, rounded
from tidal_lens.study.kinds.kind import Begun, Handle, Handles, Kind, Made, See, Shape, Tile, Vec
from tidal_lens.study.looks import SurfaceLook
from tidal_lens.study.value import QuantityName, Vector
from tidal_lens.study.words import Words
from tidal_lens.work import read_only

Shows = Literal["shadowgraph", "screen", "schlieren", "dark", "bending", "interferogram", "sum", "mean", "greatest", "least", "attenuation"]
# What each is called: on its key, and in the controls.
TITLES: dict[str, str] = {
    "shadowgraph": "shadowgraph", "screen": "shadow on a screen", "schlieren": "schlieren", "dark": "schlieren, dark field",
    "bending": "direction of bending", "interferogram": "interferogram", "sum": "sum along the sight", "mean": "mean along the sight",
    "greatest": "greatest along the sight", "least": "least along the sight", "attenuation": "attenuated light"}
OF_LIGHT = ("shadowgraph", "screen", "schlieren", "dark", "bending", "interferogram")
_DRAFT = 4  # times as coarse
_DARK = 0.005  # share of the picture that is darker than silhouettes: a few pixels do not set how dark they are


class OpticsShape(Shape):
    """Rays through the whole flow along a direction.

    Attributes
    ----------
    direction : tuple
        In which one looks.
    shows : str
        What the picture is.
    quantity : str
        What is added up, where it is not light.
    columns : int
        Of the picture.
    knife, strength, distance, wavelength, gladstone
        As of :class:`tidal_lens.optics.light.Bench`; a strength of 0 goes by the data.
    """

    kind: Literal["optics"] = "optics"
    of_passages: ClassVar[bool] = False
    lit: ClassVar[bool] = False
    of_mesh: ClassVar[bool] = False
    direction: Vector
    shows: Shows = "shadowgraph"
    quantity: QuantityName = ""
    columns: Annotated[int, Field(ge=20, le=2000)] = 640
    knife: Annotated[float, Field(ge=-360.0, le=360.0)] = 0.0
    strength: Annotated[float, Field(ge=0.0, le=1e6)] = 0.0
    distance: Annotated[float, Field(ge=0.0, le=1e9)] = 1.0
    wavelength: Annotated[float, Field(gt=0.0, le=1.0)] = 633e-9
    gladstone: Annotated[float, Field(gt=0.0, le=1e6)] = light.AIR
    quick: Annotated[bool, Field(exclude=True)] = False

    @model_validator(mode="after")
    def _has_direction(self) -> Self:
        if not 1e-150 < float(np.linalg.norm(self.direction)) < 1e150:
            raise ValueError("the direction needs a length")
        return self

    @property
    def title(self) -> str:
        """What its values are called."""
        return TITLES[self.shows]

    def needs(self) -> tuple[str, ...]:
        """The density and what follows from it, or what is added up."""
        if self.shows not in OF_LIGHT:
            return (self.quantity,)
        return ("density", "density-laplacian") if self.shows == "shadowgraph" else ("density",)

    def constants(self) -> tuple[str, ...]:
        """The density round the flow."""
        return (f"{CONST}rho_ref",) if self.shows == "interferogram" else ()

    def draft(self) -> Self:
        """A coarser picture."""
        return self.with_(columns=max(self.columns // _DRAFT, 20), quick=True)

    def make(self, see: See) -> Made:
        """The picture, on a plane behind the flow."""
        aim = Aim.of(see.flow, np.array(self.direction), self.columns)
        walls = walls_before(see.flow, aim)
        seen = self._seen(see, aim, walls)
        shaded = np.isfinite(walls)
        if self.shows in OF_LIGHT and shaded.any() and not shaded.all():
            seen[shaded] = np.nan if self.shows == "bending" else float(np.nanquantile(seen[~shaded], _DARK))
        faces, nothing = _sheet(aim.rows, aim.columns)
        own = {self.title: np.ascontiguousarray(seen.ravel())}
        finite = seen[np.isfinite(seen)]
        told = f"{finite.min():.3g} to {finite.max():.3g}" if len(finite) else "nothing is met"
        places = aim.places()
        return Made(OwnSurface(places, faces, nothing, own), told=told,
                    frame=(np.asarray(0.5 * (places[0] + places[-1])), aim.way))

    def _seen(self, see: See, aim: Aim, walls: Vec) -> Vec:
        flow, token = see.flow, see.token
        bench = light.Bench(self.gladstone, self.knife, self.strength, self.distance, self.wavelength)
        if self.shows not in OF_LIGHT:
            return seen_through(flow, see.values(self.quantity), self.shows, aim, walls, token,  # type: ignore[arg-type]
                                quick=self.quick)
        density: NDArray[np.float64] = see.values("density")
        if self.shows == "shadowgraph":
            return light.shadow(flow, see.values("density-laplacian"), aim, walls, bench, token, quick=self.quick)
        if self.shows == "interferogram":
            around = see.reference.density or float(np.nanmedian(density))
            bench = replace(bench, around=around)
            return light.fringes(light.path(flow, density, aim, walls, bench, token, quick=self.quick), bench)
        if self.shows in ("schlieren", "dark"):
            return light.knife_edge(light.across_knife(flow, density, aim, walls, bench, token, quick=self.quick), bench,
                                    dark=self.shows == "dark")
        bent = light.deflections(flow, density, aim, walls, bench, token, quick=self.quick)
        if self.shows == "screen":
            return light.true_shadow(bent, aim, walls, bench)
        return np.asarray(np.arctan2(bent[:, :, 1], bent[:, :, 0]))

    def tell(self, words: Words) -> str:
        """What it shows, and along which way; through the whole flow, unlike the quantities of the same names."""
        way = ", ".join(words.number(c, 3) for c in unit(self.direction))
        of = f" of {words.quantity(self.quantity)}" if self.shows not in OF_LIGHT else ""
        return f"{self.title}{of} through the whole flow, along ({way})"

    def handles(self, flow: Flow, made: Made | None) -> Handles | None:
        """A bead that turns the sight, and the ray through the middle."""
        low, high = flow.stage
        middle, way = 0.5 * (low + high), unit(self.direction)
        arm = 0.55 * float(np.linalg.norm(high - low))
        told = "looks along " + ", ".join(f"{c:.2f}" for c in way)
        bead = Handle("sight", middle - arm * way, label=told, value=self.direction, turns=True)
        end = made.frame[0] if made is not None and made.frame is not None else middle + arm * way
        return Handles("optics", (bead,), ((np.array([middle - arm * way, end]), False),))

    def moved(self, _handle: str, to: Vec, flow: Flow, *, snap: bool) -> Self:
        """Looked along from a place; along an axis with ``snap``."""
        low, high = flow.stage
        way = 0.5 * (low + high) - to
        if not float(np.linalg.norm(way)) > 0.0:
            return self
        if snap:
            at = int(np.abs(way).argmax())
            way = np.sign(way[at]) * np.eye(3)[at]
        return self.with_(direction=rounded(unit(way), 1e-3))

    def typed(self, _handle: str, value: Vector) -> Self:
        """Along a direction."""
        return self.with_(direction=value) if any(value) else self


@lru_cache(maxsize=2)
def _sheet(rows: int, columns: int) -> tuple[NDArray[np.int64], Stencil]:
    """Faces between so many pixels, and that they lie at no nodes; not to be written to."""
    number = np.arange(rows * columns, dtype=np.int64).reshape(rows, columns)
    faces = np.stack([number[:-1, :-1], number[:-1, 1:], number[1:, 1:], number[1:, :-1]], axis=-1).reshape(-1, 4)
    return read_only(faces), Stencil(np.zeros((number.size, 1), np.int64), np.full((number.size, 1), np.nan))


def new_optics(store: QuantityStore) -> Begun:
    """A shadowgraph from the side; without a density the mean of the best quantity."""
    stream = np.abs(np.array(store.reference.velocity))
    side = 1 if stream[1] <= max(stream[0], stream[2]) else 0
    way = tuple(float(c) for c in (store.flow.normal or np.eye(3)[side]))
    quantity = best_name(store) or ""
    shows: Shows = "mean" if store.missing("density-laplacian") else "shadowgraph"
    shape = OpticsShape(direction=way, shows=shows, quantity=quantity)
    return Begun(shape.title.capitalize(), shape, SurfaceLook(colour_by=OWN + shape.title, lit=False))


KIND = Kind(OpticsShape, "What light through the whole flow shows on a screen behind it; also sums and extremes along the sight.", "look",
            "optics", (Tile("add-optics", "Optics", "Show a shadowgraph, schlieren or interferogram through the whole flow."),),
            lambda store, _argument: new_optics(store), slow=True, group="Volume")
