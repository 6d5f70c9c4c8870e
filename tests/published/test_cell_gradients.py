"""Derivatives taken between cells: exact for linear fields, of second order on smooth ones, on every kind of mesh."""

import numpy as np
import pytest

from making import KINDS, abc, cube_flow, flow_of
from tidal_lens.quantities.cell_gradients import cell_gradient
from tidal_lens.quantities.methods import Methods
from tidal_lens.quantities.nodes import cell_values
from tidal_lens.quantities.store import QuantityStore

SLOPE = np.array([[2.0, -1.0, 0.5], [0.3, 4.0, -2.0], [1.0, 1.0, 1.0]])


def of_cells(kind, n, warp, field, name="Velocity"):
    """A flow whose velocity stands in cells, and the middles of these."""
    flow = cube_flow(n, kind, warp)
    middles = cell_values(flow, flow.points)
    return flow_of([(flow.points, flow.blocks[0].grid)], {f"{name}@cell": field(middles)}), middles


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("warp", [0.0, 0.06])
def test_linear_fields_are_met(kind, warp):
    flow, _ = of_cells(kind, 6, warp, lambda p: p @ SLOPE.T)
    assert np.allclose(cell_gradient(flow, flow.fields["Velocity"].values), SLOPE, atol=1e-8)
    store = QuantityStore(flow, flow.reference, Methods(on_cells=True))
    assert np.allclose(store.values("velocity-gradient"), SLOPE, atol=1e-8)
    assert np.allclose(store.values("vorticity"), [SLOPE[2, 1] - SLOPE[1, 2], SLOPE[0, 2] - SLOPE[2, 0], SLOPE[1, 0] - SLOPE[0, 1]])
    assert np.allclose(store.evaluate(store.check("slope(`Velocity`, x).y")), SLOPE[1, 0])


@pytest.mark.parametrize("kind", ["structured", "hexahedra"])
def test_errors_fall_at_second_order(kind):
    """An Arnold-Beltrami-Childress flow, curl U = U (Dombre et al. 1986, J. Fluid Mech. 167)."""
    wrong = []
    for n in (13, 25):
        flow, middles = of_cells(kind, n, 0.03, lambda p: abc(2 * np.pi * p))
        grad = cell_gradient(flow, flow.fields["Velocity"].values)
        curl = np.column_stack([grad[:, 2, 1] - grad[:, 1, 2], grad[:, 0, 2] - grad[:, 2, 0], grad[:, 1, 0] - grad[:, 0, 1]])
        wrong.append(np.sqrt(((curl - 2 * np.pi * abc(2 * np.pi * middles)) ** 2).mean()))
    assert np.log2(wrong[0] / wrong[1]) > 1.7


def test_the_choice_is_for_cell_values_only_and_can_be_taken_back():
    flow, _ = of_cells("hexahedra", 9, 0.05, lambda p: np.column_stack([np.sin(5 * p[:, 1]), 0 * p[:, 0], 0 * p[:, 0]]))
    between = QuantityStore(flow, flow.reference, Methods(on_cells=True))
    before = QuantityStore(flow, flow.reference)
    inside = ((flow.points > 0.2) & (flow.points < 0.8)).all(axis=1)
    wanted = -5 * np.cos(5 * flow.points[:, 1])
    ways = [np.abs(s.values("vorticity-z") - wanted)[inside].max() for s in (between, before)]
    assert 0.0 < ways[0] < ways[1] < 0.7
    again = between.with_context(flow.reference, Methods())
    assert again.kept("vorticity-z") is None
    assert np.allclose(again.values("vorticity-z"), before.values("vorticity-z"))
    nodes = cube_flow(5, velocity=abc)
    assert QuantityStore(nodes, nodes.reference, Methods(on_cells=True)).cell_field("velocity") is None


def test_one_layer_of_cells_falls_back_to_nodes():
    from tidal_lens.flow.grid import StructuredGrid

    flow = cube_flow(4)
    thin = flow.points[:32]
    one = flow_of([(thin, StructuredGrid((4, 4, 2)))], {"Velocity@cell": np.ones((9, 3))})
    store = QuantityStore(one, one.reference, Methods(on_cells=True))
    assert np.allclose(store.values("vorticity"), 0.0)


def test_nodes_to_cells():
    """A linear field is met at the middles of cells (common practice, no source)."""
    for kind in KINDS:
        flow = cube_flow(4, kind)
        assert np.allclose(cell_values(flow, flow.points @ SLOPE.T), cell_values(flow, flow.points) @ SLOPE.T)
