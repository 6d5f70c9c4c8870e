"""What meshes of one flow say of a number."""

import numpy as np
import pytest

from tidal_lens.measures.mesh_study import convergence_of
from tidal_lens.study.side_by_side import mesh_study
from tidal_lens.study.tables import Table


def test_the_worked_example_of_uneven_meshes():
    """Celik et al. 2008, J. Fluids Eng. 130, 078001, table 1, first column (values from memory): 18,000, 8,000 and 4,500 cells."""
    found = convergence_of([1.0, 1.5, 2.0], [6.063, 5.972, 5.863])
    assert found.order == pytest.approx(1.53, abs=0.005)
    assert found.extrapolated == pytest.approx(6.1685, abs=5e-4)
    assert found.index == pytest.approx(0.022, abs=5e-4)
    assert found.verdict == "converges"


@pytest.mark.parametrize(("order", "sizes"), [(1.0, (1, 2, 4)), (2.0, (1, 2, 4)), (2.0, (0.5, 0.8, 1.1)), (3.3, (0.1, 0.13, 0.2))])
def test_an_exact_power_of_the_cell_size_is_found(order, sizes):
    """f = 4 − 0.3 h^p: order and limit come back; Roache's index is 1.25 times the error of the finest mesh against the limit."""
    h = np.array(sizes, float)
    found = convergence_of(h, 4.0 - 0.3 * h**order)
    assert found.order == pytest.approx(order, rel=1e-6)
    assert found.extrapolated == pytest.approx(4.0, rel=1e-9)
    assert found.index == pytest.approx(1.25 * 0.3 * h[0] ** order / (4.0 - 0.3 * h[0] ** order), rel=1e-6)


def test_two_meshes_are_taken_to_be_of_second_order_with_a_factor_of_three():
    """Roache 1994, J. Fluids Eng. 116, 405: with two meshes the order is assumed and the safety factor is 3."""
    found = convergence_of([1.0, 2.0], [1.01, 1.04])
    assert np.isnan(found.order)
    assert found.extrapolated == pytest.approx(1.0)
    assert found.index == pytest.approx(3.0 * (0.03 / 1.01) / 3.0)
    assert found.verdict == "order 2 assumed"


def test_what_does_not_converge_is_told_and_gets_no_limit():
    away = convergence_of([1.0, 1.5, 2.0], [1.1, 1.0, 0.99])
    assert away.verdict == "diverges"
    assert np.isnan(away.extrapolated)
    assert convergence_of([1.0, 1.5, 2.0], [1.1, 1.0, 1.3]).verdict == "oscillates"
    same = convergence_of([1.0, 1.5, 2.0], [2.0, 2.0, 2.0])
    assert (same.verdict, same.extrapolated, same.index) == ("the same", 2.0, 0.0)
    with pytest.raises(ValueError, match="coarser"):
        convergence_of([1.0, 1.0], [2.0, 3.0])


def test_the_finest_comes_first_whatever_the_order_of_the_cases():
    def told(value):
        return [Table("t", ("what", "value"), (("drag", value), ("lift", 2 * value)))]

    found = mesh_study([told(1.04), told(1.0025), told(1.01)], ["middle", "finest", "other"], [4.0, 1.0, 2.0])
    assert found.heads[1:4] == ("finest", "other", "middle")
    name, a, b, c, order, limit, index, verdict = found.rows[0]
    assert (name, a, b, c, verdict) == ("drag", 1.0025, 1.01, 1.04, "converges")
    assert order == pytest.approx(2.0)
    assert limit == pytest.approx(1.0)
    assert index == pytest.approx(100 * 1.25 * 0.0025 / 1.0025)
