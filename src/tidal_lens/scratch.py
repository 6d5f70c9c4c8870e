"""Files written under another name and renamed, and what a kill in the middle of it left behind.

The name of such a file tells which process writes it, so that one whose process is gone can be cleaned away.
"""

from __future__ import annotations

import contextlib
import os
import re
import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import psutil

from tidal_lens.errors import FileError

_OWNER = re.compile(r"~(\d+)-(\d+)~")


def own_mark() -> str:
    """Number and start of this process: a process of the same number after a restart of the machine is told apart."""
    return f"{os.getpid()}-{int(psutil.Process().create_time())}"


def is_alive(number: str, begun: str) -> bool:
    """Whether the process of a mark still runs."""
    try:
        return int(psutil.Process(int(number)).create_time()) == int(begun)
    except (ValueError, psutil.Error, OverflowError):
        return False


@contextlib.contextmanager
def writing(path: Path, what: str = "file", hint: str = "Is there room on the disk, and may you write there?", *,
            make_folder: bool = False) -> Iterator[Path]:
    """Give another name to write to; at the end it takes the place of ``path``. What was there stays if anything fails.

    Parameters
    ----------
    path : Path
        The file.
    what : str
        What it is, for the message.
    hint : str
        What to do if it cannot be written.
    make_folder : bool
        Make its folder where there is none.

    Raises
    ------
    FileError
        It could not be written.
    """
    scratch = ""
    try:
        if make_folder:
            path.parent.mkdir(parents=True, exist_ok=True)
        handle, scratch = tempfile.mkstemp(dir=path.parent, prefix=f".{path.stem[:80]}~{own_mark()}~", suffix=path.suffix)
        os.close(handle)
        yield Path(scratch)
        _sync(scratch)
        os.chmod(scratch, path.stat().st_mode & 0o777 if path.exists() else 0o644)
        os.replace(scratch, path)
    except OSError as exc:
        raise FileError(f"The {what} could not be written: {exc.strerror or exc}.", str(path), hint) from exc
    finally:
        if scratch:
            Path(scratch).unlink(missing_ok=True)


@contextlib.contextmanager
def filling(folder: Path) -> Iterator[Path]:
    """The same for a folder of files, which takes the place of one that is there.

    Raises
    ------
    FileError
        It could not be written.
    """
    scratch = None
    try:
        scratch = Path(tempfile.mkdtemp(dir=folder.parent, prefix=f".{folder.name[:80]}~{own_mark()}~"))
        scratch.chmod(0o755)
        yield scratch
        if folder.exists():
            shutil.rmtree(folder)
        os.replace(scratch, folder)
    except OSError as exc:
        raise FileError(f"The folder could not be written: {exc.strerror or exc}.", str(folder),
                        "Is there room on the disk, and may you write there?") from exc
    finally:
        if scratch is not None:
            shutil.rmtree(scratch, ignore_errors=True)


def _sync(path: str) -> None:
    with open(path, "rb") as stream:
        os.fsync(stream.fileno())


def clean(folder: Path) -> list[Path]:
    """Take away what processes that are gone left half written in a folder; what was taken away."""
    gone: list[Path] = []
    with contextlib.suppress(OSError):
        for path in folder.iterdir():
            mark = _OWNER.search(path.name) if path.name.startswith(".") else None
            if mark is None or is_alive(*mark.groups()):
                continue
            if path.is_dir():
                shutil.rmtree(path, ignore_errors=True)
            else:
                path.unlink(missing_ok=True)
            gone.append(path)
    return gone
