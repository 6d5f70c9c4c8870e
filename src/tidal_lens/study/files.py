"""Study files: readable JSON, written to a temporary name and renamed."""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from tidal_lens.errors import FileError, StudyError
from tidal_lens.scratch import clean, writing
from tidal_lens.study.model import SCHEMA, BodyLayer, Study

SUFFIX = ".tidal"
_LARGEST = 50_000_000
_PATHS = ("case", "history")


def save_study(study: Study, path: Path) -> None:
    """Write a study; paths are stored relative to the file.

    Raises
    ------
    FileError
        It could not be written; a file that was there is left as it was.
    """
    paths = {}
    for name in _PATHS:
        paths[name] = getattr(study, name)
        if paths[name]:
            with contextlib.suppress(ValueError):  # another drive: keep it absolute
                paths[name] = Path(os.path.relpath(paths[name], path.parent.resolve())).as_posix()
    raw = {**study.model_dump(mode="json"), **paths}
    for layer in raw["layers"]:
        if layer["kind"] == "body":
            with contextlib.suppress(ValueError):
                layer["shape"]["path"] = Path(os.path.relpath(layer["shape"]["path"], path.parent.resolve())).as_posix()
    text = json.dumps(raw, indent=1, ensure_ascii=False) + "\n"
    with writing(path, "study", "Choose another folder.", make_folder=True) as scratch:
        scratch.write_text(text, encoding="utf-8")
    clean(path.parent)


def load_study(path: Path) -> Study:
    """Read a study; its paths come back absolute.

    Raises
    ------
    FileError
        The file is missing or cannot be read.
    StudyError
        It is not a study, was written by a newer version, or holds settings that make no sense.
    """
    try:
        if path.stat().st_size > _LARGEST:
            raise StudyError("A study of more than 50 MB is not believed.", str(path), "Open another file.")
        raw: Any = json.loads(path.read_text(encoding="utf-8"))
    except OSError as exc:
        raise FileError(f"The study cannot be read: {exc.strerror}.", str(path), "Check its name and permissions.") from exc
    except (ValueError, RecursionError) as exc:
        raise StudyError(f"This is not a study file: {str(exc)[:120]}.", str(path), "Studies end in .tidal.") from exc
    version = raw.get("schema_version") if isinstance(raw, dict) else None
    if not isinstance(version, int):
        raise StudyError("This is not a study file: it has no schema version.", str(path), "Studies end in .tidal.")
    if version > SCHEMA:
        raise StudyError(f"The study was written by a newer version (schema {version}, known {SCHEMA}).", str(path),
                         "Update Tidal Lens.")
    try:
        study = Study.model_validate_json(json.dumps(raw))
    except ValidationError as exc:
        first = exc.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        raise StudyError(f"The setting {place} makes no sense: {first['msg']}.", str(path),
                         "Mend it with a text editor, or open another study.") from exc
    folder = path.parent.resolve()
    for layer in study.layers:
        if isinstance(layer, BodyLayer):
            study = study.replacing(layer.with_(shape=layer.shape.with_(path=str((folder / layer.shape.path).resolve()))))
    return study.model_copy(update={name: str((folder / getattr(study, name)).resolve()) for name in _PATHS if getattr(study, name)})
