"""What is kept of the user from one start to the next, in a readable file."""

from __future__ import annotations

from pathlib import Path

import platformdirs
from pydantic import ValidationError
from PyQt6.QtCore import QSettings

from tidal_lens.study.shown import UnitsSetting

_MOST = 12


def settings() -> QSettings:
    """The user's preferences."""
    path = Path(platformdirs.user_config_dir("tidal-lens")) / "preferences.ini"
    return QSettings(str(path), QSettings.Format.IniFormat)


def preferred_units() -> UnitsSetting:
    """What numbers of a result that is opened anew are shown in."""
    try:
        return UnitsSetting.model_validate_json(str(settings().value("units", "") or "{}"))
    except ValidationError:
        return UnitsSetting()


def prefer_units(units: UnitsSetting) -> None:
    """What is opened anew begins with these units; those of single quantities are the study's own."""
    settings().setValue("units", units.with_(by_quantity={}).model_dump_json())


def recent() -> list[Path]:
    """Files that were opened or saved last, the newest first, as far as they are there still."""
    said = settings().value("recent", [])
    names = [said] if isinstance(said, str) else said if isinstance(said, list) else []
    return [Path(str(name)) for name in names if name and Path(str(name)).exists()]


def note_recent(path: Path) -> None:
    """A file was opened or saved."""
    own = path.resolve()
    names = [str(own), *(str(p) for p in recent() if p != own)]
    settings().setValue("recent", names[:_MOST])


def forget_recent() -> None:
    """None is remembered any more."""
    settings().remove("recent")
