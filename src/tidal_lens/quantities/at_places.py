"""All quantities at a few places, worked out near them only."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.distinct import distinct
from tidal_lens.errors import CancelledError, TidalLensError
from tidal_lens.quantities.moment import Moment
from tidal_lens.quantities.offer import Quantity
from tidal_lens.quantities.store import FILE, QuantityStore
from tidal_lens.sampling.mesh import Stencil
from tidal_lens.work import Token

# What cannot be had at a place without all others: told where it is there already.
WHOLE = frozenset({"span-share", "stream-function", "stokes-stream-function", "mass-stream-function", "mass-stokes-stream-function",
                   "wall-distance"})


def everything_at(store: QuantityStore, stencil: Stencil, token: Token | None = None, *, walls: bool = False
                  ) -> list[tuple[Quantity, NDArray[np.float64]]]:
    """Values of all quantities at some places, shape (n,), or (n, 3) of vectors; those that cannot be had are left out.

    Parameters
    ----------
    store : QuantityStore
        The flow's quantities.
    stencil : Stencil
        The places.
    token : Token, optional
        Progress and cancel.
    walls : bool
        Whether the places are nodes of walls: what is known there only is worked out over all walls.
    """
    used = distinct(stencil.ids)  # those of no weight too: nothing is read that was not worked out
    moment = Moment(store, token, [(int(n), int(n) + 1) for n in used])
    out = []
    for quantity in store.quantities():
        if token is not None:
            token.check()
        whole = quantity.place == "wall" or quantity.name in WHOLE
        if quantity.missing or quantity.components == 9 or (quantity.components == 3 and quantity.name.startswith(FILE)):
            continue  # vectors of the file stand there by their components
        if whole and not (quantity.place == "wall" and walls) and store.kept(quantity.name) is None:
            continue
        try:
            values: Any = store.values(quantity.name, token) if whole else moment.get(quantity.name)
        except CancelledError:
            raise
        except TidalLensError:
            continue
        values = np.asarray(values)
        out.append((quantity, stencil.apply(values) if values.ndim == 1 else stencil.apply_vectors(values)))
    return out
