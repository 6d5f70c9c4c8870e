"""Shocks: where the flow runs into a pressure rise at the speed of sound, and a jump fits that a shock of this strength has.

References
----------
.. [1] Lovely & Haimes 1999, Shock detection from computational fluid dynamics results, AIAA 99-3285.
.. [2] NACA Report 1135, 1953, Equations, tables, and charts for compressible flow: jumps through shocks.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting.contour import isosurface
from tidal_lens.cutting.surface import Surface, point_normals
from tidal_lens.features import shock_kernels as kernels
from tidal_lens.features.finding import Finding, Number, Reason, between, over, under
from tidal_lens.features.scales import Values, cell_widths
from tidal_lens.features.sheets import averaged, clipped, edges_of, evened, opened, part_of, pieces, welded
from tidal_lens.flow.case import Flow
from tidal_lens.quantities.gradients import flow_gradient
from tidal_lens.quantities.smoothing import smoothed
from tidal_lens.sampling.mesh import Stencil, mesh_of
from tidal_lens.work import Token, read_only, run_chunks, stage

Vec = NDArray[np.float64]
RISE = 0.02  # of the pressure, a cell: less is no candidate
STRONG, WEAK = 1.03, 1.01  # Mach number by the pressure jump: where a shock begins, and to where it is grown
WIDE, WIDER = 8.0, 12.0  # cells
DENSE = (0.6, 1.5)  # ln of the density ratio by that of Rankine and Hugoniot
MASS = 0.3  # of the mass flux that may be missing
SHARE = 0.3  # of a piece that is strong
LARGE = 100.0  # squares of a cell's width
SMOOTH = 6
NARROW = 3.0  # cells: half the width of what is but a tooth at the rim
SONIC = 0.5  # χ: above, what changes the Mach number is pressure
_MOST = 0.99  # of a shock is weaker than what is told as its greatest strength; of a gas has a pressure above zero
FEW = 12  # vertices: smaller pieces are nothing
_PASSES = 6  # averagings of the pressure gradient: where it is taken through a step within one cell, normals are rough


@dataclass(frozen=True, eq=False)
class Sheet:
    """A finding that is a surface, with values at its vertices."""

    finding: Finding
    surface: Surface
    own: Mapping[str, Vec] = field(default_factory=dict)


@dataclass(frozen=True, eq=False)
class _Gas:
    """The state of the gas at the nodes."""

    flow: Flow
    pressure: Vec
    density: Vec
    velocity: Vec
    gamma: float

    @property
    def sound(self) -> Vec:
        """Speed of sound."""
        with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
            return np.asarray(np.sqrt(self.gamma * self.pressure / self.density))


def find_shocks(flow: Flow, values: Values, gamma: float, token: Token | None = None) -> list[Sheet]:
    """All candidates for shocks, and the sonic surfaces.

    Parameters
    ----------
    flow : Flow
        The flow.
    values : callable
        Node values of pressure, density and velocity.
    gamma : float
        Ratio of specific heats.
    token : Token, optional
        Progress and cancel.
    """
    pressure, density, velocity = (np.asarray(values(n)) for n in ("pressure", "density", "velocity"))
    if not np.mean(pressure > 0.0) > _MOST or not np.mean(density > 0.0) > _MOST:  # against something, so that it is no gas's
        return []
    gas = _Gas(flow, pressure, density, velocity, gamma)
    gradient = np.asarray(flow_gradient(flow, pressure, stage(token, 0.0, 0.1))[:, 0])
    width = cell_widths(flow, stage(token, 0.1, 0.15))
    sonic = _sonic(gas, gradient, width, stage(token, 0.15, 0.3))
    for axis in range(3):  # one by one: it takes a third of the memory
        gradient[:, axis] = smoothed(flow, np.ascontiguousarray(gradient[:, axis]), _PASSES, stage(token, 0.3, 0.3))
    # In units in which it is about one: squares of single precision have their limits.
    scale = float(np.abs(np.nan_to_num(gradient)).max(initial=0.0)) or 1.0
    gradient /= scale
    size = np.sqrt(np.einsum("ij,ij->i", gradient, gradient))
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        rise = size * (scale * width / pressure)
        into = np.einsum("ij,ij->i", velocity, gradient) / (size * gas.sound)
    into = np.where(np.isfinite(into) & (rise > 0.25 * RISE), into, 0.0)
    del size
    surface = isosurface(flow, into, 1.0, stage(token, 0.35, 0.35))
    del into
    if not len(surface.faces):
        return sonic
    surface = welded(surface, float(np.median(surface.stencil.apply(width))))
    steep = averaged(np.nan_to_num(surface.stencil.apply(rise)), edges_of(surface.faces), 3)
    del rise
    surface, _ = clipped(surface, steep - RISE)
    if not len(surface.faces):
        return sonic
    ways = surface.stencil.apply_vectors(gradient)
    del gradient
    ways /= np.maximum(np.linalg.norm(ways, axis=1), 1e-300)[:, None]
    fits = _fitted(gas, surface, ways, stage(token, 0.4, 0.95))
    return [*_pieces(surface, ways, fits, gamma), *sonic]


def _fitted(gas: _Gas, surface: Surface, ways: Vec, token: Token | None) -> Vec:
    """What is fitted at each vertex, shape (n, 14), in units of the mean pressure and density."""
    flow, pressure, density, gamma = gas.flow, gas.pressure, gas.density, gas.gamma
    p0, r0 = float(np.nanmean(np.abs(pressure))) or 1.0, float(np.nanmean(np.abs(density))) or 1.0
    field = np.empty((flow.n_points, 5), np.float32)
    field[:, 0], field[:, 1] = pressure / p0, density / r0
    field[:, 2:] = gas.velocity / np.sqrt(p0 / r0)
    out = np.empty((len(surface.points), kernels.FITTED))
    mesh, own, at, along = mesh_of(flow, token), read_only(field), read_only(surface.points), read_only(ways)
    run_chunks(lambda a, b: kernels.fit(mesh.arrays, own, at, along, gamma, out, a, b), len(out), 512, token)
    return out


@dataclass(frozen=True, eq=False)
class _Jump:
    """What follows from the fits at the vertices of a surface."""

    by_pressure: Vec  # Mach number normal to the shock, from the pressure jump
    before: Vec  # the same as it is, before and behind
    behind: Vec
    denser: Vec  # ln of the density ratio by Rankine and Hugoniot's
    lost: Vec  # of the mass flux
    width: Vec
    ratio: Vec  # of pressures

    @staticmethod
    def of(f: Vec, gamma: float) -> _Jump:
        with np.errstate(divide="ignore", invalid="ignore"):
            ratio = f[:, kernels.P2] / f[:, kernels.P1]
            squared = 1.0 + (ratio - 1.0) * (gamma + 1.0) / (2.0 * gamma)
            by_pressure = np.sqrt(np.maximum(squared, 0.0))
            before = f[:, kernels.U1] / np.sqrt(gamma * f[:, kernels.P1] / f[:, kernels.R1])
            behind = f[:, kernels.U2] / np.sqrt(gamma * f[:, kernels.P2] / f[:, kernels.R2])
            right = (gamma + 1.0) * squared / ((gamma - 1.0) * squared + 2.0)
            denser = np.log(f[:, kernels.R2] / f[:, kernels.R1]) / np.log(right)
            m1, m2 = f[:, kernels.R1] * f[:, kernels.U1], f[:, kernels.R2] * f[:, kernels.U2]
            lost = np.abs(m1 - m2) / np.abs(m1)
        return _Jump(by_pressure, before, behind, denser, lost, f[:, kernels.WIDTH], ratio)

    def passes(self, mach: float, wide: float) -> NDArray[np.bool_]:
        """Where it is a shock of at least a strength, and no wider."""
        return self.margin(mach, wide) > 0.0

    def margin(self, mach: float, wide: float) -> Vec:
        """How far inside all limits each vertex is, from −1 to 1; −1 where nothing was fitted."""
        with np.errstate(invalid="ignore"):
            parts = ((self.by_pressure - mach) / 0.02, (self.before - 1.0) / 0.02, (1.02 - self.behind) / 0.02,
                     (self.denser - DENSE[0]) / 0.2, (DENSE[1] - self.denser) / 0.2, (MASS - self.lost) / 0.1,
                     (wide - self.width) / 2.0 + 1e-9)
            least = np.minimum.reduce([np.clip(part, -1.0, 1.0) for part in parts])
        return np.where(np.isfinite(least), least, -1.0)


def _pieces(surface: Surface, ways: Vec, fits: Vec, gamma: float) -> list[Sheet]:
    """Connected pieces of what passes, each moved to the middle of its jump."""
    jump = _Jump.of(fits, gamma)
    strong = jump.passes(STRONG, WIDE).astype(np.float64)
    # Averaged with neighbours before it is cut: what is missing in one place is noise, and edges are smooth.
    edges = edges_of(surface.faces)
    margin = averaged(jump.margin(WEAK, WIDER), edges, SMOOTH)
    own = margin > -0.5
    shift = averaged(np.where(own, fits[:, kernels.SHIFT], np.nan), edges[own[edges].all(axis=1)], SMOOTH)
    moved = Surface(surface.points + np.nan_to_num(shift)[:, None] * ways, surface.faces, surface.stencil)
    whole, rows = clipped(moved, margin)
    if not len(whole.faces):
        return []
    values, strong = _mixed(rows, fits), rows.apply(strong)
    part = pieces(len(whole.points), edges_of(whole.faces), np.ones(len(whole.points), bool))
    out = []
    for k in range(int(part.max(initial=-1)) + 1):
        on = part == k
        if int(on.sum()) < FEW:
            break
        sheet, used = part_of(whole, on)
        if len(sheet.faces):
            cell = values[used, kernels.CELL]
            sheet, rows = opened(sheet, np.nan_to_num(cell, nan=_median(cell)), NARROW)
            sheet, jumps = evened(sheet, SMOOTH), _mixed(rows, values[used])
            here = _Jump.of(jumps, gamma)
            names = {"normal Mach number before it": here.before, "normal Mach number by the jump": here.by_pressure,
                     "pressure ratio": here.ratio, "thickness [cells]": here.width}
            out.append(Sheet(_shock(sheet, here, jumps, rows.apply(strong[used]) > 0.5, gamma), sheet, names))
    return out


def _mixed(rows: Stencil, values: Vec) -> Vec:
    """Values (n, k) of vertices that are mixtures of others; not numbers where any of those is not."""
    out = np.column_stack([rows.apply(np.nan_to_num(values[:, k], nan=0.0)) for k in range(values.shape[1])])
    out[rows.apply(np.isnan(values[:, 0]).astype(np.float64)) > 0.0] = np.nan
    return out


def _median(values: Vec) -> float:
    finite = values[np.isfinite(values)]
    return float(np.median(finite)) if len(finite) else float("nan")


def _shock(sheet: Surface, jump: _Jump, f: Vec, strong: NDArray[np.bool_], gamma: float) -> Finding:
    m = jump.by_pressure
    cell, share, area, wide = _median(f[:, kernels.CELL]), float(strong.mean()), sheet.area, _median(jump.width)
    top = int(np.nanargmax(np.where(strong | ~strong.any(), np.nan_to_num(m), -np.inf)))
    with np.errstate(invalid="ignore", divide="ignore"):
        sine = np.abs((f[:, kernels.WAY:kernels.WAY + 3] * _even_normals(sheet)).sum(axis=1))
        angle = np.degrees(np.arcsin(np.clip(sine, 0.0, 1.0)))
    off, denser, median = _median(np.abs(jump.before - m)), _median(jump.denser), _median(m)
    fitted = float(np.isfinite(m).mean())
    large = min(area / max(cell, 1e-300) ** 2, float(len(sheet.faces)))
    score = min(over(share, SHARE), over(large, LARGE), over(median - 1.0, STRONG - 1.0), under(wide, WIDE))
    numbers = (Number("normal Mach number", median), Number("pressure ratio", _median(jump.ratio)), Number("angle", _median(angle), "°"),
               Number("pressure ratio by the Mach number before it", _by_mach(_median(jump.before), gamma)),
               Number("greatest normal Mach number", float(np.nanquantile(m, _MOST))),
               Number("Mach number before it", _median(f[:, kernels.M1])), Number("Mach number behind it", _median(f[:, kernels.M2])),
               Number("normal Mach number behind it", _median(jump.behind)), Number("area", area, "m²"), Number("thickness", wide, "cells"))
    reasons = (Reason(between(WIDER - wide, 0.0, 8.0), f"{wide:.1f} cells thick (good: 4)"),
               Reason(between(0.3 - off, 0.0, 0.25), f"Mach numbers by the jump and before it differ by {off:.2g}"),
               Reason(between(1.0 - abs(denser - 1.0), 0.5, 0.95), f"the density rises {denser:.0%} as it should (of its logarithm)"),
               Reason(between(fitted, 0.5, 1.0), f"a jump was fitted on {fitted:.0%} of it"))
    reach = 0.5 * float(np.linalg.norm(np.ptp(sheet.points, axis=0)))
    return Finding("shock", sheet.points[top], reach, score, 2.0 * reach, area * max(median - 1.0, 0.0), numbers, reasons=reasons,
                   told=(f"Strongest at {', '.join(f'{c:.4g}' for c in sheet.points[top])}.",))


def _even_normals(sheet: Surface) -> Vec:
    """Unit normals of a surface, averaged with those beside: truer than the pressure gradient, which leans to the mesh's directions."""
    edges = edges_of(sheet.faces)
    raw = point_normals(sheet)
    even = np.column_stack([averaged(raw[:, d], edges, 2 * SMOOTH) for d in range(3)])
    return np.asarray(even / np.maximum(np.linalg.norm(even, axis=1), 1e-300)[:, None])


def _by_mach(mach: float, gamma: float) -> float:
    return 1.0 + 2.0 * gamma / (gamma + 1.0) * (mach * mach - 1.0)


def _sonic(gas: _Gas, gradient: Vec, width: NDArray[np.float32], token: Token | None) -> list[Sheet]:
    """Where the flow takes the speed of sound by pressure, not by friction."""
    flow, pressure, gamma = gas.flow, gas.pressure, gas.gamma
    with np.errstate(divide="ignore", invalid="ignore"):
        mach = np.sqrt(np.einsum("ij,ij->i", gas.velocity, gas.velocity, dtype=np.float64)) / gas.sound
    mach = np.nan_to_num(mach).astype(gas.velocity.dtype)
    if not mach.max(initial=0.0) > 1.0:
        return []
    surface = isosurface(flow, mach, 1.0, token)
    if not len(surface.faces):
        return []
    surface = welded(surface, float(np.median(surface.stencil.apply(width))))
    slope = surface.stencil.apply_vectors(np.asarray(flow_gradient(flow, mach, token)[:, 0]))
    steep = np.linalg.norm(slope, axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        rise = (surface.stencil.apply_vectors(gradient) * slope).sum(axis=1) / steep / surface.stencil.apply(pressure)
        chi = -rise / (gamma * steep / (1.0 + 0.5 * (gamma - 1.0)))
    chi = averaged(chi, edges_of(surface.faces), SMOOTH)
    whole, rows = clipped(surface, np.nan_to_num(chi) - SONIC)
    if not len(whole.faces):
        return []
    chi, cell = rows.apply(np.nan_to_num(chi)), whole.stencil.apply(width)
    part = pieces(len(whole.points), edges_of(whole.faces), np.ones(len(whole.points), bool))
    out = []
    for k in range(int(part.max(initial=-1)) + 1):
        on = part == k
        if int(on.sum()) < FEW:
            break
        sheet, used = part_of(whole, on)
        if not len(sheet.faces):
            continue
        area, typical = sheet.area, _median(chi[used])
        score = min(over(min(area / _median(cell[used]) ** 2, float(len(sheet.faces))), LARGE), over(typical, SONIC))
        reach = 0.5 * float(np.linalg.norm(np.ptp(sheet.points, axis=0)))
        why = Reason(between(typical, SONIC, 0.9), f"{typical:.0%} of what changes the Mach number is pressure")
        out.append(Sheet(Finding("sonic surface", sheet.points[0], reach, score, 2.0 * reach, 1e-3 * area,
                                 (Number("area", area, "m²"), Number("share of pressure", typical)), reasons=(why,),
                                 told=("The Mach number is 1 on it, for the pressure's sake.",)), sheet))
    return out
