"""Entries for the desktop: the program among others, its icon, its kinds of files, its manual page."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from importlib import resources
from pathlib import Path

from tidal_lens.errors import FileError
from tidal_lens.scratch import writing

LAUNCHER = "TIDAL_LENS_LAUNCHER"  # what starts the program, where it is not installed
_KINDS = {
    "x-tidal-lens-study": ("Tidal Lens study", ("*.tidal",)), "x-cgns": ("CFD general notation system file", ("*.cgns",)),
    "x-vtk": ("VTK data", ("*.vtk", "*.vtu", "*.vts", "*.vtm", "*.vtp", "*.vti", "*.vtr", "*.pvtu", "*.pvts", "*.pvd", "*.vtkhdf")),
    "x-xdmf": ("XDMF data", ("*.xdmf", "*.xmf"))}


def data_home() -> Path:
    """The user's own data, as the XDG base directory specification has it."""
    return Path(os.environ.get("XDG_DATA_HOME") or Path.home() / ".local" / "share")


def paths(home: Path) -> dict[str, Path]:
    """Where each file goes."""
    icons = home / "icons" / "hicolor" / "scalable"
    return {"entry": home / "applications" / "tidal-lens.desktop", "icon": icons / "apps" / "tidal-lens.svg",
            "study": icons / "mimetypes" / "application-x-tidal-lens-study.svg",
            "kinds": home / "mime" / "packages" / "tidal-lens.xml", "manual": home / "man" / "man1" / "tidal-lens.1"}


def entry() -> str:
    """The desktop entry (freedesktop.org, Desktop Entry Specification)."""
    command = _command()
    kinds = "".join(f"application/{kind};" for kind in _KINDS)
    return f"""[Desktop Entry]
Type=Application
Version=1.0
Name=Tidal Lens
GenericName=Flow analysis
Comment=See, locate and measure vortices, separation, shocks and recirculation in flow results
Exec={command} %f
Icon=tidal-lens
Terminal=false
StartupNotify=true
StartupWMClass=tidal-lens
Categories=Science;Engineering;
Keywords=CFD;aerodynamics;vortex;shock;streamlines;
MimeType={kinds}
"""


def _command() -> str:
    """What starts the program, quoted as entries want it."""
    beside = Path(sys.executable).with_name("tidal-lens")
    launcher = os.environ.get(LAUNCHER) or (str(beside) if beside.is_file() else shutil.which("tidal-lens"))
    words = [launcher] if launcher else [sys.executable, "-m", "tidal_lens"]

    def quoted(word: str) -> str:
        plain = all(c.isalnum() or c in "/._-+" for c in word)
        text = word.replace("%", "%%")
        for sign in ("\\", '"', "`", "$"):
            text = text.replace(sign, f"\\{sign}")
        return word if plain else '"' + text.replace("\\", "\\\\") + '"'

    return " ".join(map(quoted, words))


def kinds() -> str:
    """Kinds of files (freedesktop.org, Shared MIME-info Database)."""
    out = ['<?xml version="1.0" encoding="UTF-8"?>', '<mime-info xmlns="http://www.freedesktop.org/standards/shared-mime-info">']
    for kind, (told, patterns) in _KINDS.items():
        out.append(f'  <mime-type type="application/{kind}">')
        out.append(f"    <comment>{told}</comment>")
        out += [f'    <glob pattern="{pattern}"/>' for pattern in patterns]
        out.append("  </mime-type>")
    return "\n".join([*out, "</mime-info>", ""])


def install(home: Path | None = None) -> list[Path]:
    """Write all entries; where they were written.

    Raises
    ------
    FileError
        They cannot be written.
    """
    where = paths(home or data_home())
    assets = resources.files("tidal_lens").joinpath("assets")
    icon = assets.joinpath("icons/mark.svg").read_text(encoding="utf-8").replace("currentColor", "#0E6E7E")
    manual = assets.joinpath("man/tidal-lens.1").read_text(encoding="utf-8")
    for name, text in (("entry", entry()), ("icon", icon), ("study", icon), ("kinds", kinds()), ("manual", manual)):
        with writing(where[name], "entry", "Is your home folder writable?", make_folder=True) as scratch:
            scratch.write_text(text, encoding="utf-8")
    _refresh(home or data_home())
    return list(where.values())


def remove(home: Path | None = None) -> list[Path]:
    """Take all entries away; those that were there.

    Raises
    ------
    FileError
        One cannot be taken away.
    """
    gone = []
    for path in paths(home or data_home()).values():
        try:
            path.unlink()
            gone.append(path)
        except FileNotFoundError:
            continue
        except OSError as why:
            raise FileError(f"It cannot be taken away: {why.strerror}.", str(path), "Check its permissions.") from why
    _refresh(home or data_home())
    return gone


def _refresh(home: Path) -> None:
    """Let the desktop look again, where it has the programs for it."""
    for name, folder in (("update-desktop-database", "applications"), ("update-mime-database", "mime"),
                         ("gtk-update-icon-cache", "icons/hicolor")):
        program = shutil.which(name)
        if program is not None and (home / folder).is_dir():
            subprocess.run([program, *(["-q", "-t", "-f"] if "icon" in name else []), str(home / folder)], check=False, timeout=60,
                           stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
