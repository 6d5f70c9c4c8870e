"""Print the packages that pyproject.toml asks for, one a line: for running, or for development too."""

import sys
import tomllib
from pathlib import Path

project = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text())["project"]
wanted = project["dependencies"] + (project["optional-dependencies"]["dev"] if sys.argv[1:] == ["dev"] else [])
sys.stdout.write("\n".join(wanted) + "\n")
