"""Prints the oldest release of each library that `pyproject.toml` allows, as constraints for pip."""

from __future__ import annotations

import re
import tomllib
from pathlib import Path

project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text(encoding="utf-8"))["project"]
for requirement in project["dependencies"]:
    bound = re.match(r"([\w-]+)>=([\w.]+)", requirement)
    if bound is not None:
        print(f"{bound[1]}=={bound[2]}")
