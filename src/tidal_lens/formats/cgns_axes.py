"""Cylindrical and spherical coordinates of CGNS zones, and vectors along them, turned to Cartesian ones.

Data-name identifiers of the CGNS standard: cylindrical R, Theta, Z about z; spherical R, Theta (from the z axis), Phi (about it).
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, Literal, TypeVar

import numpy as np
from numpy.typing import NDArray

from tidal_lens.flow.case import Field
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.formats.cgns_tree import Tree
from tidal_lens.formats.content import Sheet, Solid
from tidal_lens.formats.structured import lattice_cells

_Content = TypeVar("_Content", Solid, Sheet)
Axes = tuple[str, str, str]


@dataclass(frozen=True)
class System:
    """A coordinate system.

    Attributes
    ----------
    name : str
        ``Cartesian``, ``cylindrical`` or ``spherical``.
    axes : tuple of str
        Endings of the names of coordinates and components.
    degrees : bool
        Whether its angles are in degrees.
    """

    name: Literal["Cartesian", "cylindrical", "spherical"]
    axes: Axes
    degrees: bool = False

    def points(self, given: NDArray[np.float64]) -> NDArray[np.float64]:
        """Cartesian points (n, 3) of coordinates (n, 3)."""
        if self.name == "Cartesian":
            return given
        out = self._turned(given)
        out[np.abs(out) < 1e-14 * np.abs(given[:, :1])] = 0.0  # once round is where it began: sin 2π is not quite 0
        return out

    def _turned(self, given: NDArray[np.float64]) -> NDArray[np.float64]:
        r = given[:, 0]
        turn = np.radians if self.degrees else np.asarray
        if self.name == "cylindrical":
            angle = turn(given[:, 1])
            return np.column_stack([r * np.cos(angle), r * np.sin(angle), given[:, 2]])
        theta, phi = turn(given[:, 1]), turn(given[:, 2])
        return np.column_stack([r * np.sin(theta) * np.cos(phi), r * np.sin(theta) * np.sin(phi), r * np.cos(theta)])

    def vectors(self, own: NDArray[Any], places: NDArray[np.float64]) -> NDArray[Any]:
        """Cartesian components (n, 3) of vectors (n, 3) along the system's axes at Cartesian places (n, 3)."""
        phi = np.arctan2(places[:, 1], places[:, 0])
        c, s = np.cos(phi), np.sin(phi)
        a, b, e = own[:, 0], own[:, 1], own[:, 2]
        if self.name == "cylindrical":
            return np.column_stack([a * c - b * s, a * s + b * c, e])
        theta = np.arctan2(np.hypot(places[:, 0], places[:, 1]), places[:, 2])
        ct, st = np.cos(theta), np.sin(theta)
        along = a * st + b * ct
        return np.column_stack([along * c - e * s, along * s + e * c, a * ct - b * st])


_CARTESIAN = System("Cartesian", ("X", "Y", "Z"))


def system_of(tree: Tree, zone: Any) -> System:
    """The coordinate system of a zone."""
    grid = tree.first(zone, "GridCoordinates_t")
    arrays = dict(tree.children(grid, "DataArray_t")) if grid is not None else {}
    if "CoordinateR" not in arrays or "CoordinateTheta" not in arrays or "CoordinateX" in arrays:
        return _CARTESIAN
    degrees = any(_in_degrees(tree, node) for node in (arrays["CoordinateTheta"], grid, zone))
    if "CoordinatePhi" in arrays:
        return System("spherical", ("R", "Theta", "Phi"), degrees)
    return System("cylindrical", ("R", "Theta", "Z"), degrees)


def _in_degrees(tree: Tree, node: Any) -> bool:
    for _, units in tree.children(node, "DimensionalUnits_t"):
        words = bytes(tree.numbers(units).ravel()[:320].astype(np.int8)).decode("ascii", "replace")
        if "Degree" in words:
            return True
    return False


def cartesian(content: _Content, system: System) -> _Content:
    """A block or sheet with the components of its vectors turned; its points are Cartesian already."""
    if system.name == "Cartesian":
        return content
    fields, told = _turned(content, system)
    text = f"Its {system.name} coordinates were turned to Cartesian ones" + (f", and with them {', '.join(told)}." if told else ".")
    return replace(content, fields=fields, notices=[*content.notices, text])


def _turned(content: Solid | Sheet, system: System) -> tuple[list[Field], list[str]]:
    by_name = {(f.name, f.place): f for f in content.fields if f.components == 1}
    out, told, gone = [], [], set()
    for (name, place), f in by_name.items():
        if not name.endswith(system.axes[0]) or len(name) == len(system.axes[0]):
            continue
        base = name[: -len(system.axes[0])]
        trio = [by_name.get((base + a, place)) for a in system.axes]
        if trio[1] is None or (trio[2] is None and system.name == "spherical"):
            continue
        columns = [t.values if t is not None else np.zeros_like(f.values) for t in trio]
        places = content.points if place == "node" else _middles(content)
        new = system.vectors(np.column_stack(columns), places).astype(f.values.dtype)
        out += [Field(base + a, f.place, np.ascontiguousarray(new[:, n])) for n, a in enumerate("XYZ")]
        gone |= {(base + a, place) for a in system.axes}
        told.append(base)
    return [*(f for f in content.fields if (f.name, f.place) not in gone), *out], list(dict.fromkeys(told))


def _middles(content: Solid | Sheet) -> NDArray[np.float64]:
    if isinstance(content, Sheet):
        return np.asarray(content.points[content.faces].mean(axis=1))
    grid = content.grid
    corners = lattice_cells(grid.dims) if isinstance(grid, StructuredGrid) else grid.corners
    return np.asarray(content.points[corners].mean(axis=1))
