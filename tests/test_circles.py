"""The check for circles of imports finds one where there is one."""

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "scripts"))
from circles import circles


def package(folder, name, **modules):
    (folder / name).mkdir()
    (folder / name / "__init__.py").write_text("")
    for module, text in modules.items():
        (folder / name / f"{module}.py").write_text(text)


def test_a_circle_is_found_by_types_alone_too(tmp_path, monkeypatch):
    package(tmp_path, "round_about", a="from round_about import b", b="def f():\n    from round_about import c", c="import round_about.a",
            d="from round_about import a")
    typed = "from typing import TYPE_CHECKING\nif TYPE_CHECKING:\n    from typed_only import a"
    package(tmp_path, "typed_only", a="from typed_only import b", b=typed)
    monkeypatch.syspath_prepend(tmp_path)
    assert circles("round_about") == [["round_about.a", "round_about.b", "round_about.c"]]
    assert circles("typed_only") == [["typed_only.a", "typed_only.b"]]
