"""Vortex criteria that rest on eigenvalues of the velocity gradient."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.quantities import criteria_kernels as kernels
from tidal_lens.work import Token, read_only, run_chunks

_CHUNK = 65536
Values = NDArray[Any]


def _checked(grad_u: Values) -> Values:
    if grad_u.ndim != 3 or grad_u.shape[1:] != (3, 3):
        raise ValueError(f"a velocity gradient has the shape (n, 3, 3), not {grad_u.shape}")
    return read_only(np.ascontiguousarray(grad_u))


def lambda2(grad_u: Values, token: Token | None = None) -> Values:
    """Middle eigenvalue of S² + Ω², negative in vortices (Jeong & Hussain 1995, J. Fluid Mech. 285).

    Parameters
    ----------
    grad_u : ndarray, shape (n, 3, 3)
        [p, i, j] = ∂u_i/∂x_j [1/s].
    token : Token, optional
        Progress and cancel.

    Returns
    -------
    ndarray, shape (n,)
        [1/s²].
    """
    grad_u = _checked(grad_u)
    out = np.empty(len(grad_u), grad_u.dtype)
    run_chunks(lambda a, b: kernels.lambda2(grad_u, out, a, b), len(out), _CHUNK, token)
    return out


def discriminant(grad_u: Values, token: Token | None = None) -> Values:
    """Discriminant Δ of the velocity gradient (Chong, Perry & Cantwell 1990, Phys. Fluids A 2).

    That of the characteristic equation without the trace: positive where two eigenvalues are complex.

    Parameters and shape as of :func:`lambda2`; [1/s⁶], always in double precision.
    """
    grad_u = _checked(grad_u)
    out = np.empty(len(grad_u))
    run_chunks(lambda a, b: kernels.swirl(grad_u, out, 0, a, b), len(out), _CHUNK, token)
    return out


def swirling_strength(grad_u: Values, token: Token | None = None) -> Values:
    """Imaginary part λci of the complex eigenvalues of the velocity gradient (Zhou et al. 1999, J. Fluid Mech. 387).

    0 where all are real.

    Parameters and shape as of :func:`lambda2`; [1/s].
    """
    grad_u = _checked(grad_u)
    out = np.empty(len(grad_u), grad_u.dtype)
    run_chunks(lambda a, b: kernels.swirl(grad_u, out, 1, a, b), len(out), _CHUNK, token)
    return out


def swirl_axis(grad_u: Values, token: Token | None = None) -> Values:
    """Unit vector about which the flow swirls: the real eigenvector where the others are complex, on the side of the vorticity.

    Parameters as of :func:`lambda2`.

    Returns
    -------
    ndarray, shape (n, 3)
        Zero where nothing swirls.
    """
    grad_u = _checked(grad_u)
    out = np.empty((len(grad_u), 3), grad_u.dtype)
    run_chunks(lambda a, b: kernels.swirl_axis(grad_u, out, a, b), len(out), _CHUNK, token)
    return out
