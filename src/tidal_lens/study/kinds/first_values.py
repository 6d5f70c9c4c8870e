"""What first values of layers are chosen by."""

from __future__ import annotations

import re

import numpy as np
from numpy.typing import NDArray

from tidal_lens.quantities.store import FILE, Quantity, QuantityStore

AXES = ("x", "y", "z")
_SLOW = 0.3  # Mach number: below it the speed tells more
_LABELS = re.compile(r"(?<![a-z])(id|ids|index|rank|proc|processor|partition|part|zone|block|region|material|physical|entity|number|group|"
                     r"level|normal|normals|valid|mask)(?![a-z])", re.IGNORECASE)


def round_to(value: float, step: float) -> float:
    """The value at the nearest round number finer than a step."""
    if step <= 0 or not np.isfinite(step):
        return value
    unit = 10.0 ** np.floor(np.log10(step))
    return float(f"{round(value / unit) * unit:.12g}")


def best_quantity(store: QuantityStore) -> Quantity | None:
    """What a flow is first coloured by: Mach number, or speed where that is low or unknown; without velocity the most telling array."""
    offered = {q.name: q for q in store.quantities() if q.components == 1 and not q.missing}
    if "mach" in offered and store.distribution("mach").high >= _SLOW:
        return store.describe("mach")
    if "speed" in offered:
        return offered["speed"]
    for role in ("pressure", "temperature", "density"):
        field = getattr(store.flow.roles, role)
        if field is not None and f"{FILE}{field}" in offered:
            return offered[f"{FILE}{field}"]
    own = [q for name, q in offered.items() if name.startswith(FILE)]
    return max(own, key=lambda q: _telling(store, q), default=next(iter(offered.values()), None))


def is_at_hand(store: QuantityStore) -> bool:
    """Whether :func:`best_quantity` answers without working anything out."""
    missing = {q.name: bool(q.missing) for q in store.quantities()}
    return not missing.get("speed", True) and (missing.get("mach", True) or store.known_distribution("mach") is not None)


def _telling(store: QuantityStore, quantity: Quantity) -> float:
    """How much of its range an array uses: numbers of parts and constants are below all others."""
    if _LABELS.search(quantity.title):
        return -1.0
    counts = store.distribution(quantity.name).counts
    filled = counts[counts > 0] / max(int(counts.sum()), 1)
    return float(-(filled * np.log(filled)).sum())


def best_name(store: QuantityStore) -> str | None:
    """Name of the best quantity."""
    best = best_quantity(store)
    return best.name if best is not None else None


def rounded(point: NDArray[np.float64], step: float) -> tuple[float, float, float]:
    """A place with round coordinates."""
    x, y, z = (round_to(float(c), step) for c in point)
    return x, y, z
