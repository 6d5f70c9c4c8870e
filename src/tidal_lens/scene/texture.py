"""Flow texture: streaks along the flow, laid over a picture where a surface is seen."""

from __future__ import annotations

import weakref
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from tidal_lens.cutting import texture_kernels as kernels
from tidal_lens.kept import Kept
from tidal_lens.scene.camera import Camera
from tidal_lens.work import run_chunks

Vec = NDArray[np.float64]
_SLACK = 4e-3  # share of a depth by which a surface may differ from what is seen: neighbours of a pixel differ by as much
_MOST = 1_500_000  # pixels of a picture whose trails are kept: some 40 bytes each
_SPREAD = 0.16  # of the streaks about their mean, at a contrast of one


@dataclass(frozen=True, eq=False)
class Streaks:
    """What a texture is of: vectors (n, 3) at the points of a surface; length of streaks and width of their grain [pixels]; contrast."""

    vectors: Vec
    length: int = 18
    grain: float = 1.0
    contrast: float = 0.6
    phase: float | None = None  # of running streaks, from 0 to 1


def directions(camera: Camera, points: Vec, faces: NDArray[np.int64], vectors: Vec, seen: NDArray[np.float32]) -> NDArray[np.float32]:
    """Unit directions on the screen, shape (h, w, 2), where a surface is what is seen; nothing elsewhere.

    Parameters
    ----------
    camera : Camera
        The camera of the picture.
    points, faces : ndarray
        The surface.
    vectors : ndarray, shape (n, 3)
        Of the flow at its points.
    seen : ndarray, shape (h, w)
        Depths of the picture.
    """
    height, width = seen.shape
    places, depths = camera.project(points, width, height)
    size = np.linalg.norm(vectors, axis=1)
    step = 1e-3 * camera.distance * np.divide(vectors, size[:, None], out=np.zeros_like(vectors), where=size[:, None] > 0.0)
    ahead, _ = camera.project(points + np.where(np.isfinite(step), step, 0.0), width, height)
    out = np.zeros((height, width, 2), np.float32)
    kernels.rasterise(places, depths, ahead - places, np.ascontiguousarray(faces, np.int64), np.ascontiguousarray(seen), _SLACK, out)
    size = np.hypot(out[..., 0], out[..., 1])
    with np.errstate(divide="ignore", invalid="ignore"):
        out /= size[..., None]
    out[~np.isfinite(size) | (size == 0.0)] = 0.0
    return out


@lru_cache(maxsize=8)
def _noise(height: int, width: int, grain: float) -> NDArray[np.float32]:
    """White noise, smeared to a grain of some pixels; the same each time."""
    noise = np.random.default_rng(7).random((height, width), np.float32)
    if grain > 1.0:
        from scipy.ndimage import gaussian_filter  # loaded when first needed

        noise = gaussian_filter(noise, 0.5 * grain, mode="wrap")
        noise = 0.5 + (noise - noise.mean()) * (0.29 / max(float(noise.std()), 1e-9))
    return np.asarray(noise, np.float32)


def weights_of(length: int, phase: float | None) -> Vec:
    """Weights of the steps along a streak: even, or two waves that run with the phase under one hill."""
    s = np.linspace(-1.0, 1.0, 2 * length + 1)
    if phase is None:
        return np.ones_like(s)
    return np.asarray((1.0 + np.cos(np.pi * s)) * (1.0 + np.cos(2.0 * np.pi * (2.0 * s - phase))) + 1e-6)


def smeared(ways: NDArray[np.float32], how: Streaks) -> NDArray[np.float32]:
    """The streaks themselves, from about 0 to 1, shape (h, w); NaN where there are none."""
    height, width = ways.shape[:2]
    noise, weights = _noise(height, width, how.grain), weights_of(how.length, how.phase).astype(np.float32)
    if how.phase is not None and how.length < 128 and height * width <= _MOST:
        return _run_on(ways, noise, how, weights)
    out = np.empty((height, width), np.float32)
    run_chunks(lambda a, b: kernels.streaks(ways, noise, weights, out, a, b), height, 32)
    return out


@dataclass(frozen=True, eq=False)
class _Trails:
    """The noise along each streak of a picture: while streaks run, only its weights change."""

    places: tuple[NDArray[np.int64], NDArray[np.int64]]
    along: NDArray[np.uint8]
    reach: NDArray[np.uint8]
    ways: weakref.ref[NDArray[np.float32]]

    @staticmethod
    def of(ways: NDArray[np.float32], noise: NDArray[np.float32], length: int) -> _Trails:
        rows, columns = (np.ascontiguousarray(a) for a in np.nonzero(ways.any(axis=-1)))
        along, reach = np.empty((len(rows), 2 * length + 1), np.uint8), np.empty((len(rows), 2), np.uint8)
        grey = np.round(255.0 * np.clip(noise, 0.0, 1.0)).astype(np.uint8)
        run_chunks(lambda a, b: kernels.trails(ways, grey, length, rows, columns, along, reach, a, b), len(rows), 16384)
        return _Trails((rows, columns), along, reach, weakref.ref(ways))


_trails: Kept[tuple[int, int, float], _Trails] = Kept("running streaks", lambda own: own.along.nbytes + 9 * own.reach.nbytes)


def _run_on(ways: NDArray[np.float32], noise: NDArray[np.float32], how: Streaks, weights: NDArray[np.float32]) -> NDArray[np.float32]:
    """:func:`smeared`, of streaks that run: what lies along them is looked up once."""
    key = id(ways), how.length, how.grain
    own = _trails.ready(key)
    if own is None or own.ways() is not ways:  # of a picture that is gone it is forgotten in its turn
        own = _Trails.of(ways, noise, how.length)
        _trails.put(key, own)
    sums = np.concatenate([[0.0], np.cumsum(weights, dtype=np.float64)]).astype(np.float32)
    values = np.empty(len(own.along), np.float32)
    run_chunks(lambda a, b: kernels.along_trails(own.along, own.reach, weights, sums, values, a, b), len(values), 16384)
    out = np.full(ways.shape[:2], np.nan, np.float32)
    out[own.places] = values
    return out


def laid_over(pixels: NDArray[np.uint8], streaks: NDArray[np.float32], contrast: float) -> None:
    """Darken and lighten a picture (h, w, 4) by streaks, in place."""
    there = np.isfinite(streaks)
    if not there.any():
        return
    own = streaks[there]
    spread = max(float(own.std()), 1e-6)
    gain = 1.0 + contrast * np.clip((own - float(own.mean())) * (_SPREAD / spread), -0.5, 0.5) * 2.0
    pixels[there, :3] = np.clip(pixels[there, :3] * gain[:, None], 0, 255).astype(np.uint8)
