"""Compiled loops over velocity gradients: closed forms for the eigenvalues that vortex criteria need."""

from __future__ import annotations

from typing import Any

import numpy as np

from tidal_lens.jit import inlined, kernel, piece

Array = Any
U = np.uint64  # of unsigned numbers none needs to be tested for a negative sign
_TILE = 64  # nodes that are worked on together
_RIGHT = 0.5 * np.pi
# arcsin(s) / s as a polynomial of s² for s up to 1/2, by interpolation at Chebyshev's nodes: to rounding.
_A0, _A1, _A2, _A3, _A4, _A5, _A6, _A7, _A8, _A9, _A10, _A11, _A12 = np.polynomial.Chebyshev.interpolate(
    lambda z: np.arcsin(np.sqrt(z)) / np.sqrt(z), 12, domain=[0.0, 0.25]).convert(kind=np.polynomial.Polynomial).coef.tolist()


@piece
def _middle_eigenvalues(r: Array) -> None:
    """Middle eigenvalue of S² + Ω² in row 9 of r from the nine entries of ∇u in rows 0 … 8, for a whole tile.

    No branches and a fixed length: so the compiler takes several nodes at a time.
    """
    for number in range(_TILE):
        n = U(number)
        a, b, c = r[n], r[n + U(_TILE)], r[n + U(2 * _TILE)]
        d, e, f = r[n + U(3 * _TILE)], r[n + U(4 * _TILE)], r[n + U(5 * _TILE)]
        g, h, i = r[n + U(6 * _TILE)], r[n + U(7 * _TILE)], r[n + U(8 * _TILE)]
        # S² + Ω² is the symmetric part of the gradient's square.
        xx = a * a + b * d + c * g
        yy = d * b + e * e + f * h
        zz = g * c + h * f + i * i
        xy = 0.5 * (a * b + b * e + c * h + d * a + e * d + f * g)
        xz = 0.5 * (a * c + b * f + c * i + g * a + h * d + i * g)
        yz = 0.5 * (d * c + e * f + f * i + g * b + h * e + i * h)
        mean = (xx + yy + zz) / 3.0
        xx -= mean
        yy -= mean
        zz -= mean
        half = 0.5 * (xx * xx + yy * yy + zz * zz) + xy * xy + xz * xz + yz * yz  # minus the second invariant
        det = xx * (yy * zz - yz * yz) - xy * (xy * zz - yz * xz) + xz * (xy * yz - yy * xz)
        radius = np.sqrt(half / 3.0)
        share = 0.5 * det / (radius * radius * radius)
        # The arc sine of its size, by a polynomial up to 1/2 and by way of half the angle beyond.
        size = abs(share)
        size = 1.0 if size > 1.0 else size
        beyond = size > 0.5
        z = 0.5 * (1.0 - size) if beyond else size * size
        angle = np.sqrt(z) * (_A0 + z * (_A1 + z * (_A2 + z * (_A3 + z * (_A4 + z * (_A5 + z * (_A6 + z * (_A7 + z * (_A8 + z * (
            _A9 + z * (_A10 + z * (_A11 + z * _A12))))))))))))
        angle = (_RIGHT - 2.0 * angle if beyond else angle) / 3.0
        # The sine, of an angle of at most π/6, by its series: to rounding, and faster than the general one.
        s = angle * angle
        sine = angle * (1.0 - s / 6.0 * (1.0 - s / 20.0 * (1.0 - s / 42.0 * (1.0 - s / 72.0 * (1.0 - s / 110.0 * (1.0 - s / 156.0))))))
        sine = -sine if share < 0.0 else sine
        # Of the three, the middle one; or three times the same. What is not finite stays so.
        r[n + U(9 * _TILE)] = mean - 2.0 * radius * sine if half > 0.0 else mean + half


@kernel
def lambda2(grad: Array, out: Array, begin: int, end: int) -> None:
    """Middle eigenvalue of S² + Ω² by the trigonometric solution for symmetric matrices."""
    r = np.zeros(10 * _TILE)
    for first in range(begin, end, _TILE):
        count = min(_TILE, end - first)
        for number in range(count):
            n, o = U(number), U(first + number)
            for i in range(3):
                for j in range(3):
                    r[n + U((3 * i + j) * _TILE)] = grad[o, i, j]
        _middle_eigenvalues(r)
        for number in range(count):
            out[U(first + number)] = r[U(9 * _TILE) + U(number)]


@inlined
def _cubic(a: float, b: float, c: float, d: float, e: float, f: float, g: float, h: float,
           i: float) -> tuple[float, float, float, float]:
    """Discriminant, real root, imaginary part of the complex pair (0 without one), and a third of the trace."""
    third = (a + e + i) / 3.0
    a -= third
    e -= third
    i -= third
    second = a * e - b * d + a * i - c * g + e * i - f * h
    det = a * (e * i - f * h) - b * (d * i - f * g) + c * (d * h - e * g)
    p, q = second / 3.0, 0.5 * det  # λ³ + 3 p λ − 2 q = 0 for the part without trace
    delta = p * p * p + q * q
    root = imaginary = 0.0
    if delta > 0.0:
        r = np.sqrt(delta)
        # The larger of the two cubes is free of cancellation, the other follows from their product.
        u = np.cbrt(q + r) if q >= 0.0 else np.cbrt(q - r)
        v = -p / u if u != 0.0 else 0.0
        root = u + v
        imaginary = 0.8660254037844386 * abs(u - v)
    return delta, root, imaginary, third


@kernel
def swirl(grad: Array, out: Array, what: int, begin: int, end: int) -> None:
    """Discriminant Δ (what = 0) or the imaginary part λci of the complex eigenvalues (what = 1), shape (n,)."""
    for node in range(begin, end):
        n = np.uint64(node)
        delta, _, imaginary, _ = _cubic(
            np.float64(grad[n, 0, 0]), np.float64(grad[n, 0, 1]), np.float64(grad[n, 0, 2]), np.float64(grad[n, 1, 0]),
            np.float64(grad[n, 1, 1]), np.float64(grad[n, 1, 2]), np.float64(grad[n, 2, 0]), np.float64(grad[n, 2, 1]),
            np.float64(grad[n, 2, 2]))
        if not np.isfinite(delta):
            out[n] = np.nan
        else:
            out[n] = delta if what == 0 else imaginary


@kernel
def swirl_axis(grad: Array, out: Array, begin: int, end: int) -> None:
    """Real eigenvector of the velocity gradient where the others are complex, along the vorticity; zero elsewhere."""
    for node in range(begin, end):
        n = np.uint64(node)
        a, b, c = np.float64(grad[n, 0, 0]), np.float64(grad[n, 0, 1]), np.float64(grad[n, 0, 2])
        d, e, f = np.float64(grad[n, 1, 0]), np.float64(grad[n, 1, 1]), np.float64(grad[n, 1, 2])
        g, h, i = np.float64(grad[n, 2, 0]), np.float64(grad[n, 2, 1]), np.float64(grad[n, 2, 2])
        delta, root, imaginary, third = _cubic(a, b, c, d, e, f, g, h, i)
        out[n, 0] = out[n, 1] = out[n, 2] = 0.0 if np.isfinite(delta) else np.nan
        if imaginary <= 0.0:
            continue
        shift = root + third
        a0, e0, i0 = a - shift, e - shift, i - shift
        # Rows of A − λ1 span the plane across the eigenvector: the longest of their products points along it.
        x, y, z = b * f - c * e0, c * d - a0 * f, a0 * e0 - b * d
        best = x * x + y * y + z * z
        x1, y1, z1 = b * i0 - c * h, c * g - a0 * i0, a0 * h - b * g
        size = x1 * x1 + y1 * y1 + z1 * z1
        if size > best:
            x, y, z, best = x1, y1, z1, size
        x1, y1, z1 = e0 * i0 - f * h, f * g - d * i0, d * h - e0 * g
        size = x1 * x1 + y1 * y1 + z1 * z1
        if size > best:
            x, y, z, best = x1, y1, z1, size
        if best > 0.0:
            scale = 1.0 / np.sqrt(best)
            if x * (h - f) + y * (c - g) + z * (d - b) < 0.0:
                scale = -scale
            out[n, 0], out[n, 1], out[n, 2] = scale * x, scale * y, scale * z
