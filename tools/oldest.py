"""The oldest versions that pyproject.toml allows, as constraints for pip."""

import tomllib
from pathlib import Path

from packaging.requirements import Requirement

project = tomllib.loads((Path(__file__).parents[1] / "pyproject.toml").read_text())["project"]
extras = project["optional-dependencies"]
for text in [*project["dependencies"], *extras["parquet"], *extras["postgres"], *extras["page"]]:
    requirement = Requirement(text)
    for specifier in requirement.specifier:
        if specifier.operator == ">=":
            print(f"{requirement.name}=={specifier.version}.*")
