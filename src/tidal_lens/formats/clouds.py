"""Particles with values of their own: points of VTK XML files without cells but vertices, and of tables; step by step."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from tidal_lens.errors import FileError
from tidal_lens.formats.csv_tables import Table, read_table
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.reading import Reading, session
from tidal_lens.formats.vtk_xml import collection, point_pieces, sniff
from tidal_lens.work import Token

TABLES = (".csv", ".dat", ".txt")
_COORDINATE = {axis: re.compile(rf"^(coordinate|points?|pos|position)?[ _:.]*({axis}|{n})([ _]*[\[(].*)?$", re.IGNORECASE)
               for n, axis in enumerate("xyz")}
_AXIS = re.compile(r"^(.*?)(?:[ _:.]+([xyz012])|([XYZ]))(\s*[\[(].*)?$")


@dataclass(frozen=True, eq=False)
class Cloud:
    """Points (n, 3), and named values of theirs: (n,), or (n, 3) for vectors."""

    points: NDArray[np.float64]
    values: dict[str, NDArray[Any]]


def columns_of_points(table: Table) -> list[str] | None:
    """Names of the columns x, y, z of a table; None where there are no such columns, or no complete row."""
    columns = [next((n for n in table.names if _COORDINATE[axis].match(n.strip())), None) for axis in "xyz"]
    if any(c is None for c in columns) or len(set(columns)) != 3:
        return None
    names = [c for c in columns if c is not None]
    return names if np.isfinite(np.column_stack([table.column(c) for c in names])).all(axis=1).any() else None


def is_cloud(path: Path) -> bool:
    """Whether a file that is no flow holds particles: a VTK XML file whose only cells are vertices."""
    try:
        with path.open("rb") as stream:
            if not sniff(stream.read(4096)):
                return False
        return len(read_cloud(path).points) > 0
    except (FileError, OSError):
        return False


def moments_of(path: Path) -> list[tuple[float, Path]]:
    """Times and files of the steps that a file is one of, or names; itself alone where there are no others.

    Raises
    ------
    FileError
        It is an index that names no files.
    """
    if path.suffix.lower() == ".pvd":
        return collection(path)
    found = [(float(number), file) for number, file in siblings(path)]
    return found if len(found) > 1 else [(0.0, path)]


def moment_at(moments: Sequence[tuple[float, Path]], times: Sequence[float], step: int) -> int:
    """Which of the moments of particles goes with a step of the flow.

    That of the same time or number, else, of as many steps, that of the same place in the row; the one nearest in time if neither.
    """
    if not times or len(moments) == 1:
        return 0
    own = np.array([time for time, _ in moments])
    apart = np.abs(own - times[step])
    nearest = int(apart.argmin())
    steps = np.diff(np.unique([*own, *times]))
    if apart[nearest] <= 1e-6 * max(abs(times[step]), float(steps.min()) if len(steps) else 0.0):
        return nearest
    return min(step, len(moments) - 1) if len(moments) == len(times) else nearest


def read_cloud(path: Path, token: Token | None = None) -> Cloud:
    """Read particles.

    Parameters
    ----------
    path : Path
        A ``.vtp`` or ``.vtu`` file, whole or in pieces, whose cells are vertices, or a table with columns x, y and z.
    token : Token, optional
        Progress and cancel.

    Raises
    ------
    FileError
        It cannot be read, or holds no particles.
    """
    try:
        with path.open("rb") as stream:
            head = stream.read(4096)
    except OSError as exc:
        raise FileError(f"The particles cannot be read: {exc.strerror}.", str(path), "Check the file's name and permissions.") from exc
    with session(Reading(), token or Token()):
        if sniff(head):
            return _of_pieces(path)
        if path.suffix.lower() in TABLES:
            return _of_table(path)
    raise FileError("This is no file of particles that Tidal Lens knows.", str(path),
                    "It takes VTP and VTU files whose cells are vertices, and tables with columns x, y and z.")


def _of_pieces(path: Path) -> Cloud:
    pieces = point_pieces(path)
    there = [p for p in pieces if len(p.points)]
    if not pieces or not there:
        raise FileError("There are no particles in it: it has no cells that are vertices.", str(path), "Open it as a result or a body.")
    names = [n for n in there[0].values if all(n in p.values and p.values[n].shape[1:] == there[0].values[n].shape[1:] for p in there)]
    return Cloud(np.concatenate([p.points for p in there]), {n: np.concatenate([p.values[n] for p in there]) for n in names})


def _of_table(path: Path) -> Cloud:
    table = read_table(path)
    places = columns_of_points(table)
    if places is None:
        raise FileError("There are no columns x, y and z in it.", str(path), "Name the columns in the first row.")
    points = np.column_stack([table.column(c) for c in places])
    good = np.isfinite(points).all(axis=1)
    return Cloud(points[good], vectors_joined({n: table.column(n)[good] for n in table.names if n not in places}))


def vectors_joined(columns: dict[str, NDArray[Any]]) -> dict[str, NDArray[Any]]:
    """Columns, three of which make a vector where they are called alike but for their axis: ``U x``, ``U y``, ``U z``."""
    parts: dict[str, dict[str, str]] = {}
    for name in columns:
        found = _AXIS.match(name)
        if found is not None and found.group(1):
            axis = (found.group(2) or found.group(3)).lower()
            parts.setdefault(found.group(1).strip(" _:."), {})["xyz"["012".find(axis)] if axis in "012" else axis] = name
    out: dict[str, NDArray[Any]] = {}
    joined = {part: stem for stem, three in parts.items() if len(three) == 3 and stem not in columns for part in three.values()}
    for name, values in columns.items():
        stem = joined.get(name)
        if stem is None:
            out[name] = values
        elif stem not in out:
            out[stem] = np.column_stack([columns[parts[stem][axis]] for axis in "xyz"])
    return out
