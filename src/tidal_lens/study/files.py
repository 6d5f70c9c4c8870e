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
from tidal_lens.study.model import SCHEMA, Study
from tidal_lens.study.value import retold

SUFFIX = ".tidal"
_LARGEST = 50_000_000


def save_study(study: Study, path: Path) -> None:
    """Write a study; paths are stored relative to the file.

    Raises
    ------
    FileError
        It could not be written; a file that was there is left as it was.
    """
    def relative(held: str) -> str:
        with contextlib.suppress(ValueError):  # another drive: keep it absolute
            return Path(os.path.relpath(held, path.parent.resolve())).as_posix()
        return held

    raw = retold(study, "path", relative).model_dump(mode="json")
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
        study = Study.model_validate_json(json.dumps(upgrade(raw)))
    except ValidationError as exc:
        first = exc.errors()[0]
        place = ".".join(str(p) for p in first["loc"])
        raise StudyError(f"The setting {place} makes no sense: {first['msg']}.", str(path),
                         "Mend it with a text editor, or open another study.") from exc
    folder = path.parent.resolve()
    whole: Study = retold(study, "path", lambda held: str((folder / held).resolve()))
    return whole


def upgrade(raw: dict[str, Any]) -> dict[str, Any]:
    """What a study of an earlier schema is today. Settings that make no sense are left for the check that comes after."""
    new = dict(raw)
    if new["schema_version"] < 2:
        layers = new.get("layers", [])
        new["layers"] = [_layer_of_1(layer) for layer in layers] if isinstance(layers, list) else layers
    if isinstance(new.get("layers"), list):
        new["layers"] = [_points_of_2(layer) for layer in new["layers"]]
    new["schema_version"] = SCHEMA
    return new


def _layer_of_1(layer: Any) -> Any:
    """A kind was named beside its shape, and looks did not say what they are of."""
    if not (isinstance(layer, dict) and isinstance(layer.get("shape"), dict)):
        return layer
    new = dict(layer)
    kind = new.pop("kind", "")
    new["shape"] = {"kind": kind, **layer["shape"]}
    on = "lines" if kind == "streamlines" else "surface"
    look = layer.get("look", {})
    new["look"] = {"on": on, **look} if isinstance(look, dict) else look
    return new



def _points_of_2(layer: Any) -> Any:
    """Listed points were surfaces of small bodies, whose size was a part of their shape."""
    shape, look = (layer.get("shape"), layer.get("look")) if isinstance(layer, dict) else (None, None)
    if not (isinstance(shape, dict) and isinstance(look, dict)) or shape.get("kind") != "points" or look.get("on") != "surface":
        return layer
    kept = {k: look[k] for k in ("colour_by", "colour", "opacity") if k in look}
    own = {k: v for k, v in shape.items() if k != "size"}
    return {**layer, "shape": own, "look": {"on": "points", "size": shape.get("size", 0.006), **kept}}
