"""First values of a range that something is limited to."""

from __future__ import annotations

from tidal_lens.app.document import Document


def half_of_usual(document: Document, name: str, *, upper: bool) -> tuple[float, float]:
    """The upper or lower half of a quantity's usual values, in round numbers; 0 to 1 while they are not known."""
    evaluator = document.evaluator
    spread = evaluator.store.known_distribution(name) if evaluator is not None else None
    low, high = spread.usual if spread is not None else (0.0, 1.0)
    middle = 0.5 * (low + high)
    a, b = (middle, high) if upper else (low, middle)
    return float(f"{a:.4g}"), float(f"{b:.4g}")
