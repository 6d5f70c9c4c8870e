"""The public API as a page of the user guide, from its docstrings."""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable
from typing import Any

from tidal_lens import api

_UNDERLINED = re.compile(r"^(\w[\w ]*)\n-+$", re.MULTILINE)


def page() -> str:
    """The page as Markdown."""
    out = ["# Scripts", "", *_prose(api.__doc__ or ""), "",
           "*Script…* in the Tell station writes the study that is on the table as such a script. Run it with the Python that Tidal Lens "
           "runs with: `.venv/bin/python` beside `./start` (with `PYTHONPATH=src`), or that of the environment it was installed into.", ""]
    for name in ("open", "demo"):
        out += _of(f"api.{name}", getattr(api, name), 2)
    for kind in (api.Case, api.Result):
        out += [f"## {kind.__name__}", "", *_prose(inspect.getdoc(kind) or ""), ""]
        for name, own in vars(kind).items():
            if name.startswith("_"):
                continue
            if isinstance(own, property):
                out += [f"**`{name}`**: {(inspect.getdoc(own) or '').strip()}", ""]
            elif inspect.isfunction(own):
                out += _of(name, own, 3)
    return "\n".join(out).rstrip() + "\n"


def _of(name: str, function: Callable[..., Any], level: int) -> list[str]:
    return [f"{'#' * level} {name}", "", "```python", f"{name}{_signature(function)}", "```", "",
            *_prose(inspect.getdoc(function) or ""), ""]


def _signature(function: Callable[..., Any]) -> str:
    """As it is called, without the first argument of methods."""
    signature = inspect.signature(function)
    parts = [p for p in signature.parameters.values() if p.name != "self"]
    text = str(signature.replace(parameters=parts))
    text = re.sub(r"(: |-> )'([^']*)'", r"\1\2", text)
    for wordy, short in (("PathLike", "str | Path"), ("Fields", "Mapping[str, Any]"), ("NDArray", "ndarray")):
        text = text.replace(wordy, short)
    return text


def _prose(text: str) -> list[str]:
    """A docstring as Markdown: headings bold, parameters as a list, examples as code."""
    plain = inspect.cleandoc(text).replace("``", "`").replace(":class:", "").replace(":meth:", "")
    blocks = _UNDERLINED.split(plain)
    out = [*blocks[0].strip().splitlines()]
    for title, body in zip(blocks[1::2], blocks[2::2], strict=True):
        out += ["", f"**{title}**", ""]
        if title == "Examples":
            code = [re.sub("^(>>>|[.]{3}) | *# doctest: [+]SKIP$", "", line).rstrip() for line in body.strip().splitlines()]
            out += ["```python", *code, "```"]
            continue
        for line in body.strip("\n").splitlines():
            if line.startswith("    "):
                out.append(f"  {line.strip()}")
            elif line.strip():
                out.append(f"- {line.strip()}")
    return out
