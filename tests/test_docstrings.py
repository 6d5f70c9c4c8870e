"""Public functions and classes say what they take: documented parameters are those of the signature."""

import importlib
import inspect
import pkgutil
import re

import pytest

import tidal_lens

MODULES = sorted(m.name for m in pkgutil.walk_packages(tidal_lens.__path__, "tidal_lens.") if not m.name.endswith("__main__"))


def documented(text, section):
    """Names listed in a section of a numpy docstring."""
    found = re.search(rf"^{section}\n-+\n(.*?)(?=^\S[^\n]*\n-+\n|\Z)", text, re.MULTILINE | re.DOTALL)
    names = []
    for line in found.group(1).splitlines() if found else []:
        if line and not line.startswith(" "):
            names += [n.strip() for n in line.split(":")[0].split(",")]
    return names


def public(module):
    for name, thing in vars(module).items():
        if name.startswith("_") or getattr(thing, "__module__", None) != module.__name__:
            continue
        if inspect.isfunction(thing) or inspect.isclass(thing):
            yield name, thing


def loaded(name):
    """A module with all that it holds: some wait until something of theirs is used."""
    module = importlib.import_module(name)
    getattr(module, "anything", None)
    return module


@pytest.mark.parametrize("name", MODULES)
def test_documented_parameters_are_those_of_the_signature(name):
    module = loaded(name)
    assert module.__doc__, f"{name} does not say what is inside"
    for label, thing in public(module):
        text = inspect.getdoc(thing) or ""
        assert text, f"{name}.{label} has no docstring"
        if not inspect.isfunction(thing):
            continue
        listed = documented(text, "Parameters")
        taken = [p for p in inspect.signature(thing).parameters if p != "self"]
        assert set(listed) <= set(taken), f"{name}.{label} documents {set(listed) - set(taken)}"


@pytest.mark.parametrize("name", [m for m in MODULES if ".app" not in m])
def test_documented_attributes_are_those_of_the_class(name):
    for label, thing in public(loaded(name)):
        if inspect.isclass(thing):
            listed = documented(inspect.getdoc(thing) or "", "Attributes")
            fields = set(getattr(thing, "__annotations__", {})) | set(vars(thing))
            init = inspect.getsource(thing)
            lacking = [n for n in listed if n not in fields and f"self.{n}" not in init]
            assert not lacking, f"{name}.{label} documents {lacking}"


def test_every_kernel_is_made_by_the_one_decorator():
    from pathlib import Path

    for path in Path(tidal_lens.__file__).parent.rglob("*.py"):
        text = path.read_text()
        if path.name in ("jit.py", "light_compiling.py", "late.py"):  # what compiles, how, and when
            continue
        assert "numba" not in re.sub(r'""".*?"""', "", text, flags=re.DOTALL).lower().replace("# ", ""), f"{path.name} compiles by itself"
        if "@kernel" in text:
            assert path.name.endswith("kernels.py")
