"""Cameras as values, with their geometry worked out here so that overlays and pixels agree."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from tidal_lens.study.model import CameraSetting

Vec = NDArray[np.float64]
_UP = np.array([0.0, 0.0, 1.0])


def _unit(v: Vec) -> Vec:
    n = float(np.linalg.norm(v))
    return np.asarray(v / n) if n > 0 else v


def _turn(v: Vec, axis: Vec, angle: float) -> Vec:
    """Rodrigues' rotation."""
    c, s = np.cos(angle), np.sin(angle)
    return np.asarray(v * c + np.cross(axis, v) * s + axis * (axis @ v) * (1 - c))


@dataclass(frozen=True, eq=False)
class Camera:
    """A camera: in perspective, or with parallel rays.

    Attributes
    ----------
    eye, focus, up : ndarray, shape (3,)
        Where it stands, what it looks at, which way is up.
    angle : float
        Vertical opening angle [degrees].
    span : float
        Half the height of what is seen with parallel rays; in perspective for 0.
    """

    eye: Vec
    focus: Vec
    up: Vec
    angle: float = 28.0
    span: float = 0.0

    @property
    def distance(self) -> float:
        """From the eye to the focus."""
        return float(np.linalg.norm(self.focus - self.eye))

    def basis(self) -> tuple[Vec, Vec, Vec]:
        """Unit vectors to the right, up and forward."""
        return self._basis

    @cached_property
    def _basis(self) -> tuple[Vec, Vec, Vec]:
        forward = _unit(self.focus - self.eye)
        right = _unit(np.cross(forward, self.up))
        return right, np.cross(right, forward), forward

    def _scale(self, height: float) -> float:
        return float(0.5 * height / np.tan(np.radians(self.angle) / 2))

    def toggled(self) -> Camera:
        """In the other projection; what is at the focus stays as large as it is."""
        tangent = np.tan(np.radians(self.angle) / 2)
        if self.span:
            return replace(self, span=0.0, eye=self.focus - self.span / tangent * self.basis()[2])
        return replace(self, span=float(self.distance * tangent))

    def project(self, points: Vec, width: float, height: float) -> tuple[Vec, Vec]:
        """Pixels and depths of points.

        Parameters
        ----------
        points : ndarray, shape (n, 3)
            Points in space.
        width, height : float
            Size of the picture.

        Returns
        -------
        pixels : ndarray, shape (n, 2)
            From the top left; meaningless where the depth is not positive.
        depth : ndarray, shape (n,)
            Distance in front of the eye along the view direction.
        """
        right, up, forward = self.basis()
        relative = np.atleast_2d(points) - self.eye
        depth = relative @ forward
        safe = np.where(np.abs(depth) > 1e-12, depth, 1e-12)
        scale = self._scale(height)
        if self.span:
            scale, safe = 0.5 * height / self.span, np.ones_like(depth)
        pixels = np.column_stack([width / 2 + scale * (relative @ right) / safe, height / 2 - scale * (relative @ up) / safe])
        return pixels, depth

    def at_depth(self, x: float, y: float, depth: float, width: float, height: float) -> Vec:
        """The point behind a pixel at a depth."""
        right, up, forward = self.basis()
        if self.span:
            pixel = self.pixel_size(depth, height)
            return np.asarray(self.eye + depth * forward + pixel * ((x - width / 2) * right + (height / 2 - y) * up))
        scale = self._scale(height)
        return np.asarray(self.eye + depth * (forward + (x - width / 2) / scale * right + (height / 2 - y) / scale * up))

    def pixel_size(self, depth: float, height: float) -> float:
        """Length that one pixel covers at a depth."""
        return 2.0 * self.span / height if self.span else depth / self._scale(height)

    def orbited(self, dx: float, dy: float, pivot: Vec) -> Camera:
        """Turned about a pivot by angles [radians], the horizon kept level."""
        right, _, forward = self.basis()
        elevation = float(np.arcsin(np.clip(-forward[2], -1, 1)))
        dy = float(np.clip(dy, -1.55 - elevation, 1.55 - elevation))

        def both(v: Vec) -> Vec:
            return _turn(_turn(v, right, -dy), _UP, -dx)

        sign = 1.0 if self.up[2] > -1e-9 else -1.0
        new_forward = both(forward)
        level = _UP * sign if abs(new_forward[2]) < 0.9995 else both(self.up)
        return replace(self, eye=pivot + both(self.eye - pivot), focus=pivot + both(self.focus - pivot), up=level)

    def panned(self, dx: float, dy: float, height: float) -> Camera:
        """Moved sideways by pixels."""
        right, up, _ = self.basis()
        shift = (-dx * right + dy * up) * self.pixel_size(self.distance, height)
        return replace(self, eye=self.eye + shift, focus=self.focus + shift)

    def zoomed(self, factor: float, target: Vec) -> Camera:
        """Moved towards a target; a factor below 1 brings it nearer, and the target stays where it is in the picture."""
        if self.span:  # the eye keeps its distance: it would not come nearer by going there
            forward = self.basis()[2]
            shift = (1.0 - factor) * (target - self.eye)
            shift = shift - (shift @ forward) * forward
            return replace(self, eye=self.eye + shift, focus=self.focus + shift, span=self.span * factor)
        return replace(self, eye=target + factor * (self.eye - target), focus=target + factor * (self.focus - target))

    def framing(self, low: Vec, high: Vec, aspect: float) -> Camera:
        """The same direction, moved so that a box fills the picture."""
        right, up, forward = self.basis()
        middle = 0.5 * (low + high)
        corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])]) - middle
        tangent = np.tan(np.radians(self.angle) / 2)
        if self.span:
            size = float(np.linalg.norm(high - low)) + 1e-9
            span = 1.06 * max(float(np.abs(corners @ up).max()), float(np.abs(corners @ right).max()) / aspect, 1e-6 * size)
            return replace(self, eye=middle - 2.0 * size * forward, focus=middle, span=span)
        need = np.maximum(np.abs(corners @ up) / tangent, np.abs(corners @ right) / (tangent * aspect)) - corners @ forward
        distance = max(float(need.max()), 1e-9 + 1e-6 * float(np.linalg.norm(high - low))) * 1.06
        return replace(self, eye=middle - distance * forward, focus=middle)

    def along(self, direction: Vec) -> Camera:
        """Looking along a direction at the same focus from the same distance."""
        way = _unit(direction)
        up = _UP if abs(way[2]) < 0.9 else np.array([0.0, 1.0, 0.0])
        return replace(self, eye=self.focus - self.distance * way, up=up)


def first_camera(low: Vec, high: Vec, aspect: float, normal: tuple[float, float, float] | None = None) -> Camera:
    """A view from above the front left quarter that frames a box; of a plane flow one along its normal, upright."""
    middle = 0.5 * (low + high)
    size = max(float(np.linalg.norm(high - low)), 1e-12)
    if normal is not None:
        way = _unit(np.array(normal))
        # From the side from which the axes of the plane turn as on paper: z up, or else y.
        way = way * np.sign(way[int(np.abs(way).argmax())]) * (1.0 if int(np.abs(way).argmax()) == 1 else -1.0)
        return Camera(middle - 2 * size * way, middle, _UP).along(way).framing(low, high, aspect)
    way = _unit(np.array([0.5, 0.95, -0.45]))
    return Camera(middle - 2 * size * way, middle, _UP).framing(low, high, aspect)


def camera_from(setting: CameraSetting) -> Camera:
    """The camera that a study holds."""
    return Camera(np.array(setting.eye), np.array(setting.focus), np.array(setting.up), setting.angle, setting.span)


def setting_of(camera: Camera) -> CameraSetting:
    """A camera as a study holds it."""
    eye, focus, up = ((float(v[0]), float(v[1]), float(v[2])) for v in (camera.eye, camera.focus, camera.up))
    return CameraSetting(eye=eye, focus=focus, up=up, angle=camera.angle, span=camera.span)
