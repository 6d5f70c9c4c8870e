"""Finders and optics on odd flows: still, undefined, of two nodes, in any unit. They find nothing, or something; they never fail."""

from dataclasses import replace

import numpy as np
import pytest

from making import KINDS as CELLS
from making import cube_flow
from tidal_lens.flow.case import Boundary
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.study.evaluate import Evaluator
from tidal_lens.study.kinds import KINDS
from tidal_lens.study.model import Study
from tidal_lens.work import Token
from vortex_fields import batchelor

LOOKING = [k for k in KINDS if k.station == "find" or k.name == "optics"]
ODD = {
    "still": lambda p: 0 * p,
    "even": lambda p: np.tile([1.0, 0, 0], (len(p), 1)),
    "holes": lambda p: np.where((np.arange(len(p)) % 17 == 0)[:, None], np.nan, batchelor(p)),
    "nothing": lambda p: np.nan * p,
    "noise": lambda p: np.random.default_rng(1).standard_normal(p.shape),
    "huge": lambda p: 1e20 * batchelor(p),
    "tiny": lambda p: 1e-20 * batchelor(p),
}


def on_a_floor(n, cells, velocity):
    flow = cube_flow(n, cells, 0.02 if n > 3 else 0.0, velocity, -1.0, 1.0, Pressure=lambda p: 1 + 0.3 * np.sign(p[:, 0]),
                     Density=lambda p: 1 + 0.1 * p[:, 1])
    faces = flow.outside.faces[(flow.points[flow.outside.faces][:, :, 2] == -1).all(axis=1)]
    return replace(flow, boundaries=(Boundary("floor", "wall", flow.points, faces, np.arange(flow.n_points)),))


@pytest.mark.parametrize("cells", CELLS)
@pytest.mark.parametrize("n", [2, 3, 9])
@pytest.mark.parametrize("name", ODD)
def test_nothing_fails_on_odd_flows(name, n, cells):
    flow = on_a_floor(n, cells, ODD[name])
    for reference in (ReferenceState(1.0, 1.0, (1.0, 0, 0)), ReferenceState(None, None, (0.0, 0, 0))):
        evaluator = Evaluator(flow, reference)
        for kind in LOOKING:
            result = evaluator.evaluate(Study().layer_of(kind.begin(evaluator.store, "")), Token())
            for finding in result.unmasked.findings:
                assert 0.0 <= finding.score <= 1.0
                assert 0.0 < finding.trust <= 1.0
                assert np.isfinite(finding.place).all()
                assert np.isfinite(finding.line).all()
            if name in ("still", "even", "nothing") and kind.name in ("vortices", "recirculation"):
                assert not result.unmasked.findings


def test_a_vortex_is_found_whatever_the_units():
    found = {}
    for scale in (1e-8, 1.0, 1e8):
        flow = cube_flow(25, "structured", 0.0, lambda p, s=scale: s * batchelor(p), -1.0, 1.0)
        evaluator = Evaluator(flow, flow.reference)
        vortices = next(k for k in KINDS if k.name == "vortices")
        (one,) = evaluator.evaluate(Study().layer_of(vortices.begin(evaluator.store, "")), Token()).unmasked.findings
        found[scale] = one.number("circulation") / scale, one.number("radius"), one.score
    assert found[1e-8] == pytest.approx(found[1.0], rel=1e-4)
    assert found[1e8] == pytest.approx(found[1.0], rel=1e-4)
