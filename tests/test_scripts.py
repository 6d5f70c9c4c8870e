"""The commands beside the product can be loaded: what they take from it is still there."""

import importlib.util
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
COMMANDS = sorted([*(ROOT / "bench").glob("*.py"), *(ROOT / "scripts").glob("[!w]*.py"), ROOT / "tests" / "random_use" / "run.py"])


@pytest.mark.parametrize("path", COMMANDS, ids=lambda p: f"{p.parent.name}/{p.stem}")
def test_a_command_can_be_loaded(path, monkeypatch):
    monkeypatch.setattr(sys, "path", [str(path.parent), *sys.path])
    spec = importlib.util.spec_from_file_location(f"command_{path.stem}", path)
    module = importlib.util.module_from_spec(spec)
    monkeypatch.setitem(sys.modules, spec.name, module)  # where dataclasses look
    spec.loader.exec_module(module)
    assert module.__doc__
