"""Compressible flows in closed form, of a gas with p = ρ = 1 and so a speed of sound of √γ before them."""

import numpy as np

GAMMA = 1.4


def behind(mach):
    """Ratios of pressure and density through a normal shock, and the Mach number behind it: NACA Report 1135, equations 93 to 96."""
    m2 = mach**2
    return ((2 * GAMMA * m2 - (GAMMA - 1)) / (GAMMA + 1), (GAMMA + 1) * m2 / ((GAMMA - 1) * m2 + 2),
            np.sqrt(((GAMMA - 1) * m2 + 2) / (2 * GAMMA * m2 - (GAMMA - 1))))


def oblique(points, mach=2.0, angle=50.0, width=0.0):
    """A plane shock through the origin at an angle to the stream along x; ``width`` of its tanh, 0 for a sharp one.

    Returns pressure, density, velocity.
    """
    b = np.radians(angle)
    n, t = np.array([np.sin(b), -np.cos(b), 0.0]), np.array([np.cos(b), np.sin(b), 0.0])
    mn = mach * np.sin(b)
    p2, r2, _ = behind(mn)
    s = points @ n
    share = (s > 0).astype(float) if width == 0.0 else 0.5 * (1 + np.tanh(2.0 * s / width))
    p, r = 1 + share * (p2 - 1), 1 + share * (r2 - 1)
    a = np.sqrt(GAMMA)
    u = (mn * a) / r  # mass is kept
    return p, r, u[:, None] * n + mach * np.cos(b) * a * t


def expansion_fan(points, mach=1.5):
    """A centred fan of Prandtl and Meyer about a corner below the box: NACA Report 1135, equations 167 to 171."""
    k = np.sqrt((GAMMA + 1) / (GAMMA - 1))
    x, y = points[:, 0] + 1.6, points[:, 1] + 2.0
    phi = np.arctan2(x, y)  # from the y axis, clockwise; the fan begins where the flow, along x, has its Mach line
    m0 = np.arcsin(1 / mach)
    first = np.pi / 2 - m0

    def state(angle):
        # Across rays the normal velocity is sonic: with q along the ray, v across it, v = a.
        start = np.arctan(np.sqrt(mach**2 - 1) / k)
        w = start + (angle - first) / k
        # tan w = sqrt(M² − 1) / k
        return np.sqrt(1 + (k * np.tan(w)) ** 2)

    m = state(np.clip(phi, first, first + 0.7))
    total = 1 + 0.5 * (GAMMA - 1) * mach**2
    here = 1 + 0.5 * (GAMMA - 1) * m**2
    p, r = (total / here) ** (GAMMA / (GAMMA - 1)), (total / here) ** (1 / (GAMMA - 1))

    def meyer(m):
        s = np.sqrt(m * m - 1)
        return k * np.arctan(s / k) - np.arctan(s)

    turn = meyer(m) - meyer(mach)
    speed = m * np.sqrt(GAMMA * p / r)
    return p, r, np.column_stack([speed * np.cos(turn), -speed * np.sin(turn), 0 * speed])


def contact(points, width=0.1):
    """A contact surface: density changes, pressure and velocity do not."""
    r = 1 + 2 * 0.5 * (1 + np.tanh(2 * points[:, 1] / width))
    return 0 * r + 1, r, np.tile([2 * np.sqrt(GAMMA), 0.0, 0.0], (len(r), 1))


def boundary_layer(points, rise=0.3, height=0.15):
    """A supersonic layer along the floor of the box, in a slow rise of pressure."""
    x, y, _ = points.T
    p = 1 + rise * (x + 1) / 2
    speed = 2 * np.sqrt(GAMMA) * np.tanh((y + 1) / height)
    return p, p ** (1 / GAMMA), np.column_stack([speed, 0 * x, 0 * x])


def supersonic_vortex(points, inner=0.8):
    """An isentropic vortex about an axis beyond the box, supersonic: Aftosmis, Gaitonde & Tavares 1994 (formula from memory)."""
    x, y, _ = points.T
    x, y = x + 2.2, y + 2.2
    r = np.hypot(x, y)
    m0 = 2.25
    s = inner / r
    rho = (1 + 0.5 * (GAMMA - 1) * m0**2 * (1 - s**2)) ** (1 / (GAMMA - 1))
    p = rho**GAMMA
    speed = m0 * np.sqrt(GAMMA) * s
    return p, rho, np.column_stack([speed * y / r, -speed * x / r, 0 * x])
