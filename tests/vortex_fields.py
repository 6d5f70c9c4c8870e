"""Velocity fields whose vortices are known in closed form."""

import numpy as np

ALPHA = 1.2564312086  # root of e^a = 1 + 2a: the greatest swirl of exp(−r²/c²) is at r = c √a


def swirl(r2, gamma, radius):
    """Speed round a Gaussian vortex by r, at squared distances; greatest at the radius."""
    c2 = radius**2 / ALPHA
    r2 = np.maximum(r2, 1e-30)
    return gamma / (2 * np.pi * r2) * -np.expm1(-r2 / c2)


def greatest_circulation(gamma):
    """Circulation within the radius of the greatest swirl."""
    return gamma * -np.expm1(-ALPHA)


def batchelor(points, at=(0.0, 0.0), gamma=1.0, radius=0.2, along=0.5, jet=0.3):
    """Batchelor's vortex about a line along z: a Gaussian one with a jet in it."""
    x, y = points[:, 0] - at[0], points[:, 1] - at[1]
    r2 = x * x + y * y
    w = swirl(r2, gamma, radius)
    return np.column_stack([-w * y, w * x, along + jet * np.exp(-r2 * ALPHA / radius**2)])


def burgers(points, gamma=1.0, radius=0.2, strain=0.2, drift=(0.5, 0.2)):
    """Burgers' vortex along z, stretched, in a frame that drifts across it."""
    x, y, z = points.T
    w = swirl(x * x + y * y, gamma, radius)
    return np.column_stack([-w * y - strain * x + drift[0], w * x - strain * y + drift[1], 2 * strain * z])


def shear_layer(points, thickness=0.1):
    """A plane shear layer: no vortex."""
    return np.column_stack([np.tanh(points[:, 1] / thickness), 0.05 * np.ones(len(points)), 0.3 * np.ones(len(points))])


def helix(z, bend=0.25, pitch=2.5):
    """Place of a bent core at heights z."""
    return np.column_stack([bend * np.cos(2 * np.pi * z / pitch), bend * np.sin(2 * np.pi * z / pitch), z])


def bent(points, gamma=1.0, radius=0.2, along=1.0, bend=0.25, pitch=2.5):
    """A vortex whose core is a helix: in each plane z = constant round where the core is, which is a line of the flow."""
    core = helix(points[:, 2], bend, pitch)
    x, y = points[:, 0] - core[:, 0], points[:, 1] - core[:, 1]
    w = swirl(x * x + y * y, gamma, radius)
    turn = 2 * np.pi / pitch
    return np.column_stack([-w * y - along * turn * core[:, 1], w * x + along * turn * core[:, 0], np.full(len(points), along)])


def noisy(velocity, share=0.01, seed=5):
    """With noise of a share of the greatest speed at every node."""
    greatest = np.linalg.norm(velocity, axis=1).max()
    return velocity + share * greatest * np.random.default_rng(seed).standard_normal(velocity.shape)
