"""Which formats are known, and how a file is opened whatever it is called."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from tidal_lens.errors import FileError
from tidal_lens.flow.case import Flow
from tidal_lens.formats import cgns, vtk_xml
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
        From the first bytes of a file: is it one of these?
    open : callable
        Reads one step of the result.
    """

    name: str
    suffixes: tuple[str, ...]
    sniff: Callable[[bytes], bool]
    open: Callable[[Path, Token, bool, int], Flow]


FORMATS: tuple[Format, ...] = (
    Format("VTK XML", (".vti", ".vtr", ".vts", ".vtu", ".vtm", ".vtpc", ".pvti", ".pvtr", ".pvts", ".pvtu", ".pvd"), vtk_xml.sniff,
           vtk_xml.open_file),
    Format("CGNS", (".cgns",), cgns.sniff, cgns.open_file),
)


def open_flow(path: Path, token: Token | None = None, *, anyway: bool = False, step: int = 0) -> Flow:
    """Open a flow result.

    Parameters
    ----------
    path : Path
        The file; recognised by its content, not by its name.
    token : Token, optional
        Progress and cancel.
    anyway : bool
        Open also a result without velocity or with values that are not finite.
    step : int
        Which step of a time series, from 0.

    Raises
    ------
    FileError
        The file is missing, damaged, or of no known kind.
    DoubtfulFlowError
        Something needed is missing or not finite, and ``anyway`` was not given.
    """
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
        if form.sniff(head):
            return form.open(path, token or Token(), anyway, step)
    raise FileError("This is not a kind of file that Tidal Lens knows.", str(path), f"It opens {known}.")
