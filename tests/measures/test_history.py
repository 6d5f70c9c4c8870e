"""Verdicts on histories whose course is known."""

import numpy as np
import pytest

from tidal_lens.formats.csv_tables import Table
from tidal_lens.measures.history import history_of, orders_fallen, spread_at_the_end, verdict


def table(**columns):
    return Table(tuple(columns), np.column_stack(list(columns.values())))


N = np.arange(1.0, 501.0)


def test_residuals_are_told_from_coefficients_by_name_and_by_their_course():
    history = history_of(table(iteration=N, continuity=10 ** (-N / 100), monitor=10 ** (-N / 200), CL=0.5 + np.exp(-N / 20),
                               drag=0.1 + 0 * N))
    assert history.counter == "iteration"
    assert [c.name for c in history.residuals] == ["continuity", "monitor"]
    assert [c.name for c in history.others] == ["CL", "drag"]


def test_a_converged_run():
    history = history_of(table(iteration=N, continuity=10 ** (-5 * (1 - np.exp(-N / 60))), lift=0.45 * (1 + 0.0002 * np.sin(N))))
    said = verdict(history)
    assert said.state == "converged"
    assert orders_fallen(history.residuals[0]) == pytest.approx(5.0, abs=0.1)
    assert said.lines[0] == "continuity fell 4.9 orders"
    assert said.lines[1] == "lift steady within 0.02 % over the last 100 iterations"
    assert verdict(history, 1e-6).state == "not converged"
    assert verdict(history, 1e-6).lines[0] == "continuity fell 4.9 orders, 6.0 are wanted"


def test_one_that_is_not_and_one_that_blows_up():
    swings = history_of(table(iteration=N, residual=10 ** (-N / 400), CL=0.5 + 0.1 * np.sin(N / 5)))
    said = verdict(swings)
    assert said.state == "not converged"
    assert "CL still moves by 20 % over the last 100 iterations" in said.lines
    assert verdict(history_of(table(iteration=N, residual=10 ** (N / 100)))).state == "rising"
    bursts = np.where(N < 400, 10 ** (-N / 100), np.nan)
    said = verdict(history_of(table(iteration=N, residual=bursts)))
    assert said.state == "rising"
    assert said.lines == ("residual is no longer finite",)


def test_logarithms_of_residuals_are_raised():
    history = history_of(table(iter=N, rms_rho=-N / 100))
    np.testing.assert_allclose(history.residuals[0].values, 10 ** (-N / 100))
    assert orders_fallen(history.residuals[0]) == pytest.approx(4.7, abs=0.2)


def test_short_and_empty_histories():
    few = history_of(table(iteration=N[:3], residual=N[:3], CL=N[:3]))
    assert "CL: too few values to judge" in verdict(few).lines
    assert np.isnan(spread_at_the_end(few.others[0]))
    assert verdict(history_of(table(iteration=N))).state == "not converged"


def test_a_table_without_a_counter_counts_rows():
    history = history_of(table(CL=0 * N + 1))
    assert history.counter == "row"
    np.testing.assert_array_equal(history.at, N)
    assert verdict(history).lines == ("CL steady within 0.001 % over the last 100 rows",)


def test_a_run_in_time_is_not_said_to_converge():
    at = np.linspace(0.0, 20.0, 400)
    swings = Table(("time [s]", "residual", "CL"), np.column_stack([at, 1e-3 + 0 * at, 0.5 + 0.1 * np.sin(2 * np.pi * at)]))
    history = history_of(swings)
    assert history.counter == "time [s]"
    said = verdict(history)
    assert said.state == "in time"
    assert said.lines == ("CL from 0.4 to 0.6, mean 0.5 over the second half; its mean holds",)
    drifting = Table(("t", "CL"), np.column_stack([at, at]))
    assert "still drifts" in verdict(history_of(drifting)).lines[0]
