"""Which formats are known, and how a file is opened whatever it is called."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Flow
from tidal_lens.formats import cgns, vtk_legacy, vtk_xml, vtkhdf, xdmf
from tidal_lens.formats.hdf5 import MAGIC
from tidal_lens.formats.numbered import siblings
from tidal_lens.formats.reading import MissingMomentError, Reading, session
from tidal_lens.work import Token


@dataclass(frozen=True)
class Format:
    """A family of files.

    Attributes
    ----------
    name : str
        What to call it on screen.
    suffixes : tuple of str
        Usual file name endings.
    sniff : callable
        From the first bytes of a file, and the file: is it one of these?
    open : callable
        Reads one step of the result.
    """

    name: str
    suffixes: tuple[str, ...]
    sniff: Callable[[bytes, Path], bool]
    open: Callable[[Path, Token, bool, int], Flow]


_MOST_LOST = 10_000
FORMATS: tuple[Format, ...] = (
    Format("VTK XML", (".vti", ".vtr", ".vts", ".vtu", ".vtp", ".vtm", ".vtpd", ".vtpc", ".pvti", ".pvtr", ".pvts", ".pvtu", ".pvd"),
           lambda head, _: vtk_xml.sniff(head), vtk_xml.open_file),
    Format("Legacy VTK", (".vtk",), lambda head, _: vtk_legacy.sniff(head), vtk_legacy.open_file),
    Format("VTKHDF", (".vtkhdf", ".hdf"), lambda head, path: head.startswith(MAGIC) and vtkhdf.is_vtkhdf(path), vtkhdf.open_file),
    Format("XDMF", (".xdmf", ".xmf"), lambda head, _: xdmf.sniff(head), xdmf.open_file),
    Format("CGNS", (".cgns",), lambda head, _: head.startswith(MAGIC), cgns.open_file),
    Format("CGNS on its older file layer", (), lambda head, _: cgns.ADF in head[:64], cgns.refuse_adf),
)


def open_flow(path: Path, token: Token | None = None, *, anyway: bool = False, step: int | None = None, numbered: bool = False,
              reading: Reading | None = None) -> Flow:
    """Open a flow result.

    Parameters
    ----------
    path : Path
        The file; recognised by its content, not by its name.
    token : Token, optional
        Progress and cancel.
    anyway : bool
        Open also a result without velocity or with values that are not finite.
    step : int or None
        Which step of a time series, from 0; None is the first whose files are there, or the file itself among numbered ones.
    numbered : bool
        Take the files beside it that differ in a number only as the steps of one series; times are their numbers.
    reading : Reading, optional
        What to read of it; everything if nothing is said.

    Raises
    ------
    FileError
        The file is missing, damaged, or of no known kind.
    DoubtfulFlowError
        Something needed is missing or not finite, and ``anyway`` was not given.
    """
    wanted = reading or Reading()
    asked = token or Token()
    with session(wanted, asked) as noted:
        flow = _open_any(path, asked, anyway, step, numbered, wanted)
    times = flow.times[wanted.steps]
    if flow.times and not times:
        raise FileError(f"There are {len(flow.times)} steps, and none of them is among those chosen.", str(path),
                        "Choose an earlier first step.")
    new = replace(flow, offered=(tuple(noted.blocks), tuple(noted.quantities)), all_times=flow.times, times=times,
                  step=min(wanted.step_chosen(flow.step), max(len(times) - 1, 0)))
    new.__dict__.update({name: flow.__dict__[name] for name in ("seams", "outside") if name in flow.__dict__})
    return new


def _open_any(path: Path, token: Token, anyway: bool, step: int | None, numbered: bool, reading: Reading) -> Flow:
    if not numbered:
        if step is None:
            return _first_there(path, token, anyway, reading)
        return _open_file(path, token, anyway, reading.step_of_file(step))
    moments = siblings(path)
    if len(moments) < 2:
        raise FileError("There are no other files like it that would make a time series.", str(path), "Open it by itself.")
    own = next((n for n, (_, file) in enumerate(moments) if file.name == path.name), 0)
    at = min(reading.step_of_file(reading.step_chosen(own) if step is None else step), len(moments) - 1)
    flow = _open_file(moments[at][1], token, anyway, 0)
    moment = replace(flow, title=path.stem, path=path, times=tuple(float(number) for number, _ in moments), step=at)
    moment.__dict__.update(seams=flow.seams, outside=flow.outside)  # found already
    return moment


def _first_there(path: Path, token: Token, anyway: bool, reading: Reading) -> Flow:
    """The first of the chosen steps whose files are there; those passed over are told."""
    lost: list[str] = []
    while True:
        step = reading.step_of_file(len(lost))
        try:
            flow = _open_file(path, token, anyway, step)
        except MissingMomentError as error:
            if len(lost) >= _MOST_LOST or (lost and lost[-1] == error.what):  # the last of them is missing too
                raise
            lost.append(error.what)
            continue
        if not lost:
            return flow
        told = f"{lost[0]}" + (f" So are those of {len(lost) - 1} steps after it." if len(lost) > 1 else "")
        new = replace(flow, notices=(*flow.notices, f"{told} The first moment that is there is shown."))
        new.__dict__.update({name: flow.__dict__[name] for name in ("seams", "outside") if name in flow.__dict__})
        return new


def _open_file(path: Path, token: Token, anyway: bool, step: int) -> Flow:
    known = ", ".join(s for f in FORMATS for s in f.suffixes)
    if path.is_dir():
        raise FileError("This is a folder, not a result file.", str(path), f"Open a file in it ({known}).")
    try:
        with path.open("rb") as stream:
            head = stream.read(4096)
    except FileNotFoundError:
        raise FileError("The file does not exist.", str(path), "Check the name, or whether the disk is mounted.") from None
    except OSError as exc:
        raise FileError(f"The file cannot be read: {exc.strerror}.", str(path), "Check its permissions.") from exc
    if not head:
        raise FileError("The file is empty.", str(path), "Was the solver still writing it?")
    for form in FORMATS:
        if form.sniff(head, path):
            with np.errstate(over="ignore", invalid="ignore", divide="ignore"):  # damaged files hold numbers of any size
                return form.open(path, token, anyway, step)
    raise FileError("This is not a kind of file that Tidal Lens knows.", str(path), f"It opens {known}.")
