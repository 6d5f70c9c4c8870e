"""Tell modules that import one another in a circle, by whatever way, for types alone too. Status 1 if there are any."""

from __future__ import annotations

import sys

import grimp


def circles(package: str) -> list[list[str]]:
    """Modules that reach themselves by imports, circle by circle (the strongly connected components of the graph of imports)."""
    graph = grimp.build_graph(package, cache_dir=None)
    reach = {module: set(graph.find_downstream_modules(module)) for module in graph.modules}
    left = {module for module, others in reach.items() if any(module in reach[other] for other in others)}
    out: list[list[str]] = []
    while left:
        first = min(left)
        own = {first, *(m for m in left if m in reach[first] and first in reach[m])}
        out.append(sorted(own))
        left -= own
    return out


if __name__ == "__main__":
    found = circles("tidal_lens")
    for one in found:
        sys.stdout.write(f"These import one another: {', '.join(one)}\n")
    sys.exit(bool(found))
