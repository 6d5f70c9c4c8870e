"""The functions of the formula language: what they take, what shape and unit they give, how they are computed."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.quantities.formula.tree import Shape
from tidal_lens.quantities.units import METRE, NUMBER, SECOND, Unit

Values = NDArray[Any]
Shapes = tuple[Shape, ...]
Units = tuple[Unit | None, ...]


@dataclass(frozen=True)
class Function:
    """A function.

    Attributes
    ----------
    takes : str
        How it is written, for messages.
    about : str
        What it gives.
    shape : callable
        From the shapes of what it is given to that of its value; None where they do not fit.
    unit : callable
        From the units of what it is given to that of its value.
    pure : bool
        Whether what it is given must be a pure number.
    compute : callable or None
        Point by point, on arrays of shape (m,), (m, 3) or (m, 3, 3); None for those that need the whole flow.
    """

    takes: str
    about: str
    shape: Callable[[Shapes], Shape | None]
    unit: Callable[[Units], Unit | None]
    compute: Callable[..., Values] | None = None
    pure: bool = False


def _exactly(*wanted: Shape, gives: Shape) -> Callable[[Shapes], Shape | None]:
    return lambda got: gives if got == wanted else None


def _one_of(table: dict[Shapes, Shape]) -> Callable[[Shapes], Shape | None]:
    return table.get


def _scalars(least: int, most: int) -> Callable[[Shapes], Shape | None]:
    return lambda got: "scalar" if least <= len(got) <= most and set(got) <= {"scalar"} else None


def _same(units: Units) -> Unit | None:
    return units[0]


def _number(_units: Units) -> Unit | None:
    return NUMBER


def _power(exponent: float) -> Callable[[Units], Unit | None]:
    return lambda units: units[0] ** exponent if units[0] is not None else None


def _product(units: Units) -> Unit | None:
    found = NUMBER
    for one in units:
        if one is None:
            return None
        found = found * one
    return found


def _per(unit: Unit, times: int = 1) -> Callable[[Units], Unit | None]:
    return lambda units: units[0] / unit**times if units[0] is not None else None


def _where_shape(got: Shapes) -> Shape | None:
    return got[1] if len(got) == 3 and got[0] == "condition" and got[1] == got[2] else None


def _where(chosen: Values, a: Values, b: Values) -> Values:
    rank = max(np.ndim(a), np.ndim(b))
    return np.where(np.reshape(chosen, np.shape(chosen) + (1,) * max(rank - 1, 0)), a, b)


def _dot(a: Values, b: Values) -> Values:
    if a.ndim == 3:
        return np.asarray(np.einsum("nij,nj->ni", a, b))
    if b.ndim == 3:
        return np.asarray(np.einsum("ni,nij->nj", a, b))
    return np.asarray(np.einsum("ni,ni->n", a, b))


def _mag(a: Values) -> Values:
    if a.ndim == 1:
        return np.abs(a)
    return np.asarray(np.sqrt(np.einsum("ni,ni->n", a, a)) if a.ndim == 2 else np.sqrt(np.einsum("nij,nij->n", a, a)))


def _unit_vector(a: Values) -> Values:
    return np.asarray(a / _mag(a)[:, None])


def _angle(a: Values, b: Values) -> Values:
    return np.arctan2(_mag(np.cross(a, b)), _dot(a, b))


def _vector(x: Values, y: Values, z: Values) -> Values:
    return np.atleast_2d(np.stack(np.broadcast_arrays(x, y, z), axis=-1))


def _determinant(a: Values) -> Values:
    return np.asarray(a[:, 0, 0] * (a[:, 1, 1] * a[:, 2, 2] - a[:, 1, 2] * a[:, 2, 1])
                      - a[:, 0, 1] * (a[:, 1, 0] * a[:, 2, 2] - a[:, 1, 2] * a[:, 2, 0])
                      + a[:, 0, 2] * (a[:, 1, 0] * a[:, 2, 1] - a[:, 1, 1] * a[:, 2, 0]))


def _transpose(a: Values) -> Values:
    return np.swapaxes(a, 1, 2)


def _least(*values: Values) -> Values:
    out = values[0]
    for other in values[1:]:
        out = np.minimum(out, other)
    return out


def _greatest(*values: Values) -> Values:
    out = values[0]
    for other in values[1:]:
        out = np.maximum(out, other)
    return out


def _clip(f: Values, low: Values, high: Values) -> Values:
    return np.minimum(np.maximum(f, low), high)


def _plain(name: str, about: str, compute: Callable[[Values], Values]) -> Function:
    return Function(f"{name}(f)", about, _scalars(1, 1), _number, compute, pure=True)


_TENSOR = _exactly("tensor", gives="tensor")
_GRAD = _one_of({("scalar",): "vector", ("vector",): "tensor"})
_LIKE = _one_of({("scalar",): "scalar", ("vector",): "vector"})

FUNCTIONS: dict[str, Function] = {
    **{name: _plain(name, about, compute) for name, about, compute in (
        ("exp", "e to the power of f", np.exp), ("log", "natural logarithm", np.log), ("log10", "logarithm to base 10", np.log10),
        ("sin", "sine of an angle in radians", np.sin), ("cos", "cosine of an angle in radians", np.cos),
        ("tan", "tangent of an angle in radians", np.tan), ("asin", "arc sine, in radians", np.arcsin),
        ("acos", "arc cosine, in radians", np.arccos), ("atan", "arc tangent, in radians", np.arctan),
        ("sinh", "hyperbolic sine", np.sinh), ("cosh", "hyperbolic cosine", np.cosh), ("tanh", "hyperbolic tangent", np.tanh))},
    "sqrt": Function("sqrt(f)", "square root", _scalars(1, 1), _power(0.5), np.sqrt),
    "abs": Function("abs(f)", "without its sign", _scalars(1, 1), _same, np.abs),
    "sign": Function("sign(f)", "−1, 0 or 1", _scalars(1, 1), _number, np.sign),
    "floor": Function("floor(f)", "the whole number below", _scalars(1, 1), _same, np.floor),
    "atan2": Function("atan2(b, a)", "angle of the point (a, b), in radians", _scalars(2, 2), _number, np.arctan2),
    "min": Function("min(f, g, …)", "the least of several, point by point", _scalars(2, 12), _same, _least),
    "max": Function("max(f, g, …)", "the greatest of several, point by point", _scalars(2, 12), _same, _greatest),
    "clip": Function("clip(f, low, high)", "f kept between two limits", _scalars(3, 3), _same, _clip),
    "where": Function("where(condition, a, b)", "a where the condition holds, else b", _where_shape, lambda u: u[1], _where),
    "dot": Function("dot(a, b)", "inner product; of a tensor and a vector, the vector",
                    _one_of({("vector", "vector"): "scalar", ("tensor", "vector"): "vector", ("vector", "tensor"): "vector"}), _product,
                    _dot),
    "cross": Function("cross(a, b)", "vector product", _exactly("vector", "vector", gives="vector"), _product, np.cross),
    "length": Function("length(a)", "length of a vector; of a tensor, the root of the sum of its squares",
                    _one_of({("scalar",): "scalar", ("vector",): "scalar", ("tensor",): "scalar"}), _same, _mag),
    "unit": Function("unit(a)", "vector of length 1 along a", _exactly("vector", gives="vector"), _number, _unit_vector),
    "angle": Function("angle(a, b)", "angle between two vectors, in radians", _exactly("vector", "vector", gives="scalar"), _number,
                      _angle),
    "vector": Function("vector(a, b, c)", "vector of three components",
                    lambda got: "vector" if got == ("scalar",) * 3 else None, _same, _vector),
    "outer": Function("outer(a, b)", "tensor of all products", _exactly("vector", "vector", gives="tensor"), _product,
                      lambda a, b: a[:, :, None] * b[:, None, :]),
    "inner": Function("inner(A, B)", "sum of the products of like entries", _exactly("tensor", "tensor", gives="scalar"), _product,
                      lambda a, b: np.einsum("nij,nij->n", a, b)),
    "symmetric": Function("symmetric(A)", "symmetric part", _TENSOR, _same, lambda a: 0.5 * (a + _transpose(a))),
    "antisymmetric": Function("antisymmetric(A)", "antisymmetric part", _TENSOR, _same, lambda a: 0.5 * (a - _transpose(a))),
    "transpose": Function("transpose(A)", "rows and columns exchanged", _TENSOR, _same, _transpose),
    "trace": Function("trace(A)", "sum of the diagonal", _exactly("tensor", gives="scalar"), _same, lambda a: np.einsum("nii->n", a)),
    "determinant": Function("determinant(A)", "determinant", _exactly("tensor", gives="scalar"), _power(3), _determinant),
    "grad": Function("grad(f)", "gradient; of a vector the tensor ∂f_i/∂x_j", _GRAD, _per(METRE)),
    "div": Function("div(a)", "divergence", _exactly("vector", gives="scalar"), _per(METRE)),
    "curl": Function("curl(a)", "curl", _exactly("vector", gives="vector"), _per(METRE)),
    "laplacian": Function("laplacian(f)", "divergence of the gradient", _exactly("scalar", gives="scalar"), _per(METRE, 2)),
    "slope": Function("slope(f, x)", "derivative along x, y or z", _LIKE, _per(METRE)),
    "rate": Function("rate(f)", "derivative in time at a fixed place", _LIKE, _per(SECOND)),
    "mean_over_time": Function("mean_over_time(f)", "mean over all steps at a fixed place, by the time between them", _LIKE, _same),
    "rms_over_time": Function("rms_over_time(f)", "root of the mean square about that mean", _scalars(1, 1), _same),
    "in_second": Function("in_second(f)", "f of the second case, brought to these nodes; no value outside of it", _LIKE, _same),
    "in_third": Function("in_third(f)", "f of the third case, brought to these nodes", _LIKE, _same),
    "in_fourth": Function("in_fourth(f)", "f of the fourth case, brought to these nodes", _LIKE, _same),
    "smooth": Function("smooth(f, passes)", "f averaged with its neighbours so many times",
                       _one_of({("scalar", "scalar"): "scalar", ("vector", "scalar"): "vector"}), _same),
    "over_cells": Function("over_cells(f)", "mean of the nodes of each cell, brought back to nodes by the chosen mean", _LIKE, _same),
    "mean": Function("mean(f)", "average over the volume of the flow", _scalars(1, 1), _same),
    "least": Function("least(f)", "least value in the flow", _scalars(1, 1), _same),
    "greatest": Function("greatest(f)", "greatest value in the flow", _scalars(1, 1), _same),
}
# What slope(f, x) becomes for each coordinate.
SLOPES = {f"slope {axis}": FUNCTIONS["slope"] for axis in "xyz"}
DERIVATIVES = frozenset({"grad", "div", "curl", "laplacian", *SLOPES})
AVERAGES = frozenset({"mean", "least", "greatest"})
OVER_STEPS = frozenset({"mean_over_time", "rms_over_time"})
IN_TIME = OVER_STEPS | {"rate"}
ELSEWHERE = {"in_second": 1, "in_third": 2, "in_fourth": 3}  # which of the cases, the first being 0
WHOLE = DERIVATIVES | AVERAGES | IN_TIME | ELSEWHERE.keys() | {"smooth", "over_cells"}
