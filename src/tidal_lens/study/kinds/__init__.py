"""All kinds of layers: a new one is a module here and a line in the list."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Union

from pydantic import Field

from tidal_lens.study.kinds import (
    body,
    boundaries,
    boundary_layer,
    cloud,
    forces,
    frozen,
    grid_surface,
    isosurface,
    layer_depth,
    mask,
    optics,
    over,
    over_time,
    path,
    points,
    probe,
    profile,
    recirculation,
    region,
    round,
    round_axis,
    round_blade,
    section,
    separation,
    shocks,
    slice,
    slice_set,
    span,
    streamlines,
    volume,
    vortices,
    wall,
)
from tidal_lens.study.kinds.kind import Kind, Shape

KINDS: tuple[Kind, ...] = (
    wall.KIND,
    isosurface.KIND,
    grid_surface.KIND,
    slice.KIND,
    slice_set.KIND,
    round.KIND,
    region.KIND,
    optics.KIND,
    streamlines.KIND,
    vortices.KIND,
    separation.KIND,
    shocks.KIND,
    recirculation.KIND,
    probe.KIND,
    profile.KIND,
    path.KIND,
    layer_depth.KIND,
    section.KIND,
    boundary_layer.KIND,
    forces.KIND,
    over.KIND,
    volume.KIND,
    boundaries.KIND,
    over_time.KIND,
    round_axis.KIND,
    round_blade.KIND,
    span.KIND,
    frozen.KIND,
    body.KIND,
    cloud.KIND,
    points.KIND,
    mask.KIND,
)

if TYPE_CHECKING:
    LayerShape = Shape
else:
    LayerShape = Annotated[Union[tuple(k.shape for k in KINDS)], Field(discriminator="kind")]  # noqa: UP007  (made from the list)
