"""Reading XML with care: no entities, no more than a limit, and links only inside the file's own folder."""

from __future__ import annotations

from pathlib import Path
from xml.etree import ElementTree as ET

from tidal_lens.errors import FileError

_DAMAGED = "Copy it again, or write it again from the solver."


def parse_xml(path: Path, most: int) -> ET.Element:
    """The root of an XML file.

    Parameters
    ----------
    path : Path
        The file.
    most : int
        Size that is believed [bytes].

    Raises
    ------
    FileError
        It is too large, not well-formed, or defines entities of its own.
    """
    try:
        if path.stat().st_size > most:
            raise FileError(f"An index of more than {most / 1e6:.0f} MB is not believed.", str(path), _DAMAGED)
        text = path.read_bytes()
    except OSError as exc:
        raise FileError(f"The file cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    if b"<!ENTITY" in text:
        raise FileError("The file defines XML entities, which are not read.", str(path), _DAMAGED)
    try:
        return ET.fromstring(text)
    except (ET.ParseError, ValueError, LookupError) as exc:
        raise FileError(f"The file is not well-formed XML: {exc}.", str(path), _DAMAGED) from exc


def linked_file(link: str, path: Path, *, must_exist: bool = True) -> Path:
    """A file that another links to.

    Raises
    ------
    FileError
        It is not inside the other's folder, or is not there.
    """
    folder = path.parent.resolve()
    try:
        file = (folder / link).resolve()
        there = file.is_file()
    except (OSError, ValueError) as exc:
        raise FileError(f"It links to {link[:80]!r}, which is no file.", str(path), _DAMAGED) from exc
    if not file.is_relative_to(folder):
        raise FileError(f"The index links to {link}, outside its own folder.", str(path), "Put the linked files beside it.")
    if must_exist and not there:
        raise FileError(f"The linked file {link} does not exist.", str(path), "Copy the whole folder, not the index alone.")
    return file
