"""A study as a script of :mod:`tidal_lens.api`, that makes the same pictures and tables."""

from __future__ import annotations

import keyword
import pprint
import re
from pathlib import PurePath
from typing import Any, get_args, get_origin

from pydantic_core import PydanticUndefined

from tidal_lens import __version__
from tidal_lens.study.model import Layer, Study
from tidal_lens.study.value import Value

_WIDE = 112
_OWN = ("schema_version", "case", "layers", "counter", "others", "numbered")  # said otherwise, or follow from it
_AS_READ = ("roles", "kinds", "reading", "turned", "step")  # of the case itself, and so first
_UNFIT = re.compile(r"[^\w .,()+=-]+")


def script_of(study: Study, title: str = "") -> str:
    """A study as Python: opening its case, laying its cards, and pictures and tables of all of them.

    Parameters
    ----------
    study : Study
        What is on the table.
    title : str
        What it is called.
    """
    lines = [f'"""{_plain(title or PurePath(study.case).stem)}: made by Tidal Lens {__version__}, to be run with its Python."""', "",
             "from pathlib import Path", "", "from tidal_lens import api", "",
             f"CASE = Path({study.case!r})", 'OUT = Path(".")', "",
             f"with api.open(CASE{', numbered=True' if study.numbered else ''}) as case:",
             "    for card in case.cards:  # what a result first shows", "        case.remove(card)"]
    said = {n: getattr(study, n) for n in type(study).model_fields if n not in _OWN}
    early = {n: said.pop(n) for n in _AS_READ}
    defaults = Study()
    if study.others:
        early["others"] = study.others
    for group in (early, said):
        lines += [_indented(f"case.set({n}={_told(v)})") for n, v in group.items()
                  if n in ("choices", "step") or v != getattr(defaults, n)]
        if group is early:
            for layer in study.layers:
                lines += ["", _indented(_card(layer))]
            lines.append("")
    lines += ["", *_results(study)]
    return "\n".join(lines) + "\n"


def _results(study: Study) -> list[str]:
    """Pictures of plates, or of the table as it is, and tables of what measures and finds."""
    name = _file(PurePath(study.case).stem)
    out = []
    if study.plates:
        out += ["    for plate in case.plates:", "        case.picture(OUT / f\"{plate}.png\", plate=plate)"]
    else:
        out.append(f"    case.picture(OUT / {name + '.png'!r})")
    out += [f"    case.table({x.id!r}, OUT / {_file(x.name) + '.csv'!r})" for x in study.layers if x.shape.measures or x.shape.finds]
    return out


def _card(layer: Layer) -> str:
    more = "".join(f", {n}={_told(getattr(layer, n))}" for n in ("shown", "subject", "stack", "case", "expected")
                   if getattr(layer, n) != type(layer).model_fields[n].default)
    shape = {n: v for n, v in _fields(layer.shape).items() if n != "kind"}
    return f"case.add({layer.kind!r}, {_text(shape)},\nlook={_told(layer.look)},\nid={layer.id!r}, name={layer.name!r}{more})"


def _fields(value: Value) -> dict[str, Any]:
    """What is not as usual in a value, and what tells its sort."""
    out = {}
    for name, info in type(value).model_fields.items():
        own = getattr(value, name)
        usual = info.get_default(call_default_factory=True)
        sort = get_origin(info.annotation) is not None and len(get_args(info.annotation)) == 1 and isinstance(own, str)
        if sort or usual is PydanticUndefined or own != usual:
            out[name] = _plainly(own)
    return out


def _plainly(own: Any) -> Any:
    if isinstance(own, Value):
        return _fields(own)
    if isinstance(own, tuple | list):
        return tuple(_plainly(one) for one in own)
    if isinstance(own, dict):
        return {key: _plainly(one) for key, one in own.items()}
    if isinstance(own, bytes):
        return own
    return own


def _told(value: Any) -> str:
    return _text(_plainly(value))


def _text(plain: Any) -> str:
    """As Python writes it."""
    return pprint.pformat(plain, width=_WIDE, sort_dicts=False, compact=True)


def _indented(text: str) -> str:
    first, *rest = text.split("\n")
    return "\n".join([f"    {first}", *(f"             {line.strip() if line.startswith(('look=', 'id=')) else line}" for line in rest)])


def _plain(text: str) -> str:
    return re.sub(r'["\\\n\r]+', " ", text)


def _file(name: str) -> str:
    plain = _UNFIT.sub("_", name).strip(" .") or "table"
    return plain + "_" if keyword.iskeyword(plain) else plain
