"""The architecture, read off the import statements; and what may never be imported."""

import ast
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import ilvren

SOURCE = Path(ilvren.__file__).parent
ROOT = SOURCE.parent.parent
# A package whose modules still know each other both ways.
TANGLED = ("ilvren.problem",)
# package → what it may import, as docs/architecture.md says.
ALLOWED = {
    "formula": set(),
    "approximate": {"algebra"},
    "models": {"approximate"},
    "dynamics": {"formula", "models"},
    "problem": {"formula", "models", "dynamics", "approximate", "scatter"},
    "evaluate": {"problem", "formula", "models"},
    "algebra": set(),
    "proofs": {"problem", "formula"},
    "methods": {"algebra", "approximate", "plans"},
    "plans": set(),
    "scatter": set(),
    "ledger": set(),
    "runs": {
        "scatter",
        "problem",
        "dynamics",
        "evaluate",
        "methods",
        "ledger",
        "algebra",
        "formula",
        "models",
        "proofs",
    },
    "explore": {
        "runs",
        "problem",
        "evaluate",
        "methods",
        "ledger",
        "formula",
        "models",
        "algebra",
        "proofs",
        "plans",
        "approximate",
        "scatter",
    },
    "judge": {"runs", "dynamics", "proofs", "problem", "evaluate", "methods", "ledger", "formula", "algebra", "models"},
    "draw": {"judge", "explore", "ledger", "problem", "evaluate", "runs", "formula", "algebra"},
    "cli": {
        "algebra",
        "plans",
        "models",
        "formula",
        "problem",
        "evaluate",
        "methods",
        "ledger",
        "runs",
        "judge",
        "explore",
        "draw",
        "scatter",
    },
}


def imported(path: Path) -> list[tuple[str, str]]:
    """Return (module, name) of every import statement of a file."""
    found = []
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.Import):
            found += [(alias.name, "") for alias in node.names]
        elif isinstance(node, ast.ImportFrom):
            found += [(node.module or "", alias.name) for alias in node.names]
    return found


def all_modules() -> dict[str, Path]:
    """Return {name: file} of all modules."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        parts = path.relative_to(SOURCE.parent).with_suffix("").parts
        found[".".join(parts[:-1] if parts[-1] == "__init__" else parts)] = path
    return found


class Layout(unittest.TestCase):
    def test_no_module_imports_itself_by_way_of_others(self):
        """Also where types alone are meant, and where an import is put off into a function."""
        modules = all_modules()
        edges = {
            name: {
                other
                for module, part in imported(path)
                if (other := f"{module}.{part}" if f"{module}.{part}" in modules else module) in modules
            }
            - {name}
            for name, path in modules.items()
            if name.count(".") and not name.startswith(TANGLED)
        }
        sorter = TopologicalSorter(edges)
        try:
            sorter.prepare()
        except CycleError as error:
            self.fail(" ← ".join(error.args[1]))

    def test_packages_import_only_what_they_may_know(self):
        for path in SOURCE.rglob("*.py"):
            package = path.relative_to(SOURCE).parts[0]
            if package not in ALLOWED:
                continue
            for module, _ in imported(path):
                parts = module.split(".")
                if parts[0] == "ilvren" and len(parts) > 1 and parts[1] not in ("errors", "version", package):
                    self.assertIn(parts[1], ALLOWED[package], f"{path.relative_to(SOURCE)} imports {module}")

    def test_methods_do_not_know_each_other(self):
        for path in (SOURCE / "methods").rglob("*.py"):
            for module, _ in imported(path):
                if module.startswith("ilvren.methods.") and not module.startswith("ilvren.methods.pieces."):
                    self.assertEqual(module, "ilvren.methods.base", f"{path.name} imports {module}")

    def test_private_names_stay_in_their_file(self):
        for path in SOURCE.rglob("*.py"):
            for module, name in imported(path):
                if module.startswith("ilvren"):
                    self.assertFalse(name.startswith("_") and not name.startswith("__"), f"{path.name}: {name}")

    def test_the_optimisation_module_of_scipy_is_never_imported(self):
        forbidden = ".".join(("scipy", "optimize"))
        for folder in ("src", "tests", "benchmarks", "docs"):
            for path in (ROOT / folder).rglob("*.py"):
                for module, name in imported(path):
                    self.assertFalse(f"{module}.{name}".startswith(forbidden), str(path))
