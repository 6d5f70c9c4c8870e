"""How long finding takes, and pictures along the sight: on the demo, and on a larger flow of five million cells."""

from __future__ import annotations

import resource
import threading
import time
from collections.abc import Callable
from typing import Any

import numpy as np

from grids import warped
from tidal_lens.demo.kittiwake import demo_file
from tidal_lens.features.bubbles import find_bubbles
from tidal_lens.features.separation import find_separation
from tidal_lens.features.shocks import find_shocks
from tidal_lens.features.vortex_list import find_vortices
from tidal_lens.flow.case import Block, Field, Flow
from tidal_lens.flow.grid import StructuredGrid
from tidal_lens.flow.reference import ReferenceState
from tidal_lens.flow.roles import recognise_roles
from tidal_lens.quantities.store import QuantityStore
from tidal_lens.study.evaluate import sifting_of
from tidal_lens.study.kinds.finds import sifted
from tidal_lens.study.kinds.kind import See
from tidal_lens.study.kinds.optics import OpticsShape
from tidal_lens.study.kinds.vortices import new_vortices
from tidal_lens.study.model import Study
from tidal_lens.study.said import Sieve
from tidal_lens.study.session import open_session
from tidal_lens.work import Token


def timed(task: Callable[[], Any], rounds: int) -> float:
    """The least time of a task."""
    best = np.inf
    for _ in range(rounds):
        began = time.perf_counter()
        task()
        best = min(best, time.perf_counter() - began)
    return float(best)


def finding(rounds: int) -> None:
    """Print how long each find and each optical picture takes on the demo."""
    session = open_session(demo_file())
    store, flow = session.evaluator.store, session.flow
    stream = np.array(store.reference.velocity)
    finds: dict[str, tuple[Callable[[], Any], str]] = {
        "vortices": (lambda: find_vortices(flow, store.values, store.reference.speed, pressure="cp"), "2 s for the first"),
        "separation": (lambda: find_separation(flow, store.values("wall-shear")), ""),
        "shocks": (lambda: find_shocks(flow, store.values, store.reference.gamma), ""),
        "recirculation": (lambda: find_bubbles(flow, store.values, stream, density="density"), "")}
    total = 0.0
    for task, _ in finds.values():
        task()  # quantities, trees and links are there from now on: warm
    for name, (task, wanted) in finds.items():
        took = timed(task, rounds)
        total += took
        print(f"Find {name:14s} {took:6.2f} s, warm{f'   wanted: {wanted}' if wanted else ''}")
    print(f"Find all four      {total:6.2f} s, warm, one after another   wanted: 6 s")
    study = Study()
    layer = study.layer_of(new_vortices(store))
    made = session.evaluator.evaluate(layer, Token()).unmasked
    look = layer.look

    def sift() -> None:
        assert look.on == "lines"
        sifted(made, sifting_of(layer.with_(look=look.with_(sieve=Sieve(strictness=0.6))), study))

    print(f"Strictness moved   {1e3 * timed(sift, 20):6.2f} ms   wanted: 33 ms")
    see = session.evaluator.sight(Token())
    # 1000 x 700: the stage of the demo is 0.58 as high as it is wide.
    for shows in ("shadowgraph", "schlieren", "interferogram", "sum", "greatest"):
        _optics(OpticsShape(direction=(0.0, 1.0, 0.0), columns=1100, shows=shows, quantity="mach"), see, rounds)


def _optics(shape: OpticsShape, see: See, rounds: int) -> None:
    shape.make(see)  # what it needs is there from now on: warm
    draft = shape.draft()

    def anew(own: OpticsShape) -> None:
        see.flow.__dict__.pop("_sights", None)
        own.make(see)

    print(f"Optics, {shape.shows:14s} {timed(lambda: anew(shape), rounds):6.2f} s, looked along anew   wanted: 0.6 s")
    print(f"  the same light looked at otherwise {1e3 * timed(lambda: shape.make(see), rounds):6.0f} ms   wanted: 0.3 s")
    print(f"  draft while it is turned           {1e3 * timed(lambda: anew(draft), rounds):6.0f} ms   wanted: 30 ms")


def finding_large(millions: float = 5.0) -> None:
    """Print how long finding takes on a warped block of some million cells, and the memory beyond what was there."""
    n = round((millions * 1e6) ** (1 / 3)) + 1
    points = warped(n)
    low, high = points.min(axis=0), points.max(axis=0)
    p = 2.0 * (points - low) / (high - low) - 1.0
    r2 = p[:, 0] ** 2 + p[:, 1] ** 2
    swirl = -np.expm1(-r2 / 0.02) / np.maximum(r2, 1e-12) / (2.0 * np.pi)
    inside = (p[:, 0] + 0.5) ** 2 + p[:, 2] ** 2 < 0.05
    u = np.column_stack([-swirl * p[:, 1], swirl * p[:, 0], np.where(inside, -0.3, 1.0)]).astype(np.float32)
    behind = p[:, 2] > 0.7
    pressure, density = np.where(behind, 0.9, 0.2), np.where(behind, 2.0, 1.0)
    fields = {name: Field(name, "node", v) for name, v in (("Velocity", u), ("Pressure", pressure.astype(np.float32)),
                                                           ("Density", density.astype(np.float32)))}
    flow = Flow("large", demo_file(), points, (Block("a", StructuredGrid((n, n, n)), 0, 0),), fields,
                roles=recognise_roles({f.name: f.components for f in fields.values()}), reference=ReferenceState(0.2, 1.0, (0.0, 0.0, 1.0)))
    store = QuantityStore(flow, flow.reference)
    gradient = 36 * flow.n_points
    began, peak, stop = time.perf_counter(), [_now()], threading.Event()
    before = peak[0]

    def watch() -> None:
        while not stop.wait(0.02):
            peak[0] = max(peak[0], _now())

    watcher = threading.Thread(target=watch)
    watcher.start()
    find_vortices(flow, store.values, 1.0)
    find_shocks(flow, store.values, 1.4)
    find_bubbles(flow, store.values, np.array([0.0, 0.0, 1.0]), density="density")
    took = time.perf_counter() - began
    stop.set()
    watcher.join()
    print(f"Find on {flow.n_cells / 1e6:.1f} M cells: {took:.1f} s with all that it needs   wanted: 45 s")
    most = (peak[0] - before) / gradient
    print(f"  memory at most {most:.1f} velocity gradients of single precision beyond what was there, {0.5 * most:.1f} of double   "
          "wanted: 1.5")
    print(f"  greatest use of the process {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 2**20:.1f} GiB")


def _now() -> int:
    with open("/proc/self/statm", encoding="ascii") as file:
        return int(file.read().split()[1]) * 4096
