"""The command line."""

from __future__ import annotations

import argparse
import gc
import os
import sys
import time
from collections.abc import Callable
from pathlib import Path

from tidal_lens import __version__


def _size(text: str) -> tuple[int, int]:
    try:
        width, height = (int(n) for n in text.lower().split("x"))
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a size such as 1280x800") from None
    if not (640 <= width <= 8192 and 480 <= height <= 8192):
        raise argparse.ArgumentTypeError("sizes go from 640x480 to 8192x8192")
    return width, height


def parser() -> argparse.ArgumentParser:
    """Options and sub-commands."""
    out = argparse.ArgumentParser(prog="tidal-lens", description="See, locate and measure what is in a flow result. Without a "
                                  "file it opens the demo. 'tidal-lens make-demo [FOLDER]' computes the demo's data anew, "
                                  "'tidal-lens simulate-run FOLDER' writes a run as a solver would, 'tidal-lens measures STUDY' writes "
                                  "the tables of a study's measures, 'tidal-lens run STUDY' makes pictures, tables and reports of it "
                                  "for many cases and steps, 'tidal-lens desktop --install' puts it into your desktop's menus, "
                                  "'tidal-lens quantities' tells all "
                                  "quantities and the formula language, 'tidal-lens layers' all kinds of layers.")
    out.add_argument("file", nargs="?", help="a result (.vtu .vtm .vtk .vtkhdf .cgns .xdmf …), a history (.csv) or a study (.tidal)")
    out.add_argument("--picture", metavar="FILE.png", type=Path, help="write a picture of the window and end; needs no display")
    out.add_argument("--size", type=_size, default=(1280, 800), metavar="WxH", help="size of that picture (1280x800)")
    out.add_argument("--theme", choices=("chart", "night"), help="theme of that picture")
    out.add_argument("--station", choices=("case", "derive", "look", "trace", "find", "measure", "tell"),
                     help="station shown in that picture")
    out.add_argument("--warm", action="store_true", help="compile the kernels and end")
    out.add_argument("--version", action="version", version=f"Tidal Lens {__version__}")
    return out


def main(arguments: list[str] | None = None) -> int:
    """Run the program; exit status."""
    given = sys.argv[1:] if arguments is None else arguments
    if given and given[0] in _COMMANDS:
        return _COMMANDS[given[0]](given[1:])
    if given == ["--compile"]:  # what the program itself starts
        from tidal_lens.compiling import serve

        os.nice(5)
        serve()
        return 0
    chosen = parser().parse_args(given)
    path = Path(chosen.file).expanduser() if chosen.file else None
    if chosen.warm:
        from tidal_lens.compiling import prepare_kernels
        from tidal_lens.work import Token

        began = time.monotonic()
        prepare_kernels(Token(), lambda _done, _all: None)
        print(f"Kernels are ready ({time.monotonic() - began:.0f} s).")
        return 0
    if chosen.picture is not None:
        os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
        from tidal_lens.app.start import picture

        return picture(path, chosen.picture, chosen.size, chosen.theme, chosen.station)
    if not _has_display():
        sys.stderr.write("There is no display to open the window on. Use --picture FILE.png to get a picture of it.\n")
        return 2
    _take_threads()
    gc.disable()  # of what is loaded nothing goes; later the window's thread alone looks for garbage
    from tidal_lens.app.start import run

    return run(path)


def _take_threads() -> None:
    """How many threads the user wants, before anything begins any: the preferences are plain text."""
    import configparser

    import platformdirs

    said = configparser.ConfigParser(interpolation=None, strict=False)
    try:
        said.read(Path(platformdirs.user_config_dir("tidal-lens")) / "preferences.ini", encoding="utf-8")
        wanted = said.get("General", "threads", fallback="")
    except (configparser.Error, OSError, UnicodeDecodeError):
        return
    if wanted.isdecimal() and 0 < int(wanted) <= 256:
        os.environ.setdefault("TIDAL_LENS_THREADS", wanted)


def _run(arguments: list[str]) -> int:
    from tidal_lens.tell.command import run_command

    return run_command(arguments)


def _desktop(arguments: list[str]) -> int:
    from tidal_lens.desktop import install, remove
    from tidal_lens.errors import TidalLensError

    out = argparse.ArgumentParser(prog="tidal-lens desktop", description="Put Tidal Lens, its icon, its kinds of files and its manual page "
                                  "where your desktop finds them, or take them away again.")
    what = out.add_mutually_exclusive_group(required=True)
    what.add_argument("--install", action="store_true", help="put them there")
    what.add_argument("--remove", action="store_true", help="take them away")
    chosen = out.parse_args(arguments)
    try:
        for path in install() if chosen.install else remove():
            print(path)
    except TidalLensError as error:
        sys.stderr.write(f"{error}\n")
        return 2
    return 0


def _quantities(_arguments: list[str]) -> int:
    from tidal_lens.quantities.page import page

    sys.stdout.write(page())
    return 0


def _api(_arguments: list[str]) -> int:
    from tidal_lens.api_page import page

    sys.stdout.write(page())
    return 0


def _layers(_arguments: list[str]) -> int:
    from tidal_lens.study.kinds.page import page

    sys.stdout.write(page())
    return 0


def _make_demo(arguments: list[str]) -> int:
    from tidal_lens.demo import dipper, kittiwake, mooring

    out = argparse.ArgumentParser(prog="tidal-lens make-demo", description="Compute the demo's data again from nothing.")
    out.add_argument("folder", nargs="?", type=Path, default=kittiwake.ASSETS.parent, help="where to write (what is shipped)")
    folder = out.parse_args(arguments).folder
    for one in (mooring, dipper, kittiwake):
        one.make(folder / one.ASSETS.name, lambda line: print(line, flush=True))
    return 0


def _simulate_run(arguments: list[str]) -> int:
    from tidal_lens.demo.running import simulate_run

    out = argparse.ArgumentParser(prog="tidal-lens simulate-run", description="Write a history and steps into a folder as a running "
                                  "solver does; open the folder with 'Follow a run…'.")
    out.add_argument("folder", type=Path, help="where to write")
    out.add_argument("--steps", type=int, default=20, help="steps in time (20)")
    out.add_argument("--pause", type=float, default=2.0, metavar="SECONDS", help="seconds between steps (2)")
    chosen = out.parse_args(arguments)
    simulate_run(chosen.folder, steps=chosen.steps, pause=chosen.pause, tell=lambda line: print(line, flush=True))
    return 0


def _measures(arguments: list[str]) -> int:
    from tidal_lens.errors import TidalLensError
    from tidal_lens.study.measuring import write_measures

    out = argparse.ArgumentParser(prog="tidal-lens measures", description="Work out all measures of a study and write their tables as "
                                  "CSV; needs no display.")
    out.add_argument("study", type=Path, help="a study (.tidal)")
    out.add_argument("--to", type=Path, default=Path("."), metavar="FOLDER", help="where to write (here)")
    chosen = out.parse_args(arguments)
    try:
        chosen.to.mkdir(parents=True, exist_ok=True)
        return 1 if write_measures(chosen.study, chosen.to, lambda line: print(line, flush=True)) else 0
    except (TidalLensError, OSError) as error:
        sys.stderr.write(f"{error}\n")
        return 2


_COMMANDS: dict[str, Callable[[list[str]], int]] = {
    "make-demo": _make_demo, "simulate-run": _simulate_run, "measures": _measures, "run": _run, "quantities": _quantities,
    "layers": _layers, "api": _api, "desktop": _desktop}


def _has_display() -> bool:
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


if __name__ == "__main__":
    sys.exit(main())
