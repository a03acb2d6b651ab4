"""The architecture, read off the import statements; and what may never be imported."""

import ast
import unittest
from pathlib import Path

import ilvren

SOURCE = Path(ilvren.__file__).parent
ROOT = SOURCE.parent.parent
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


class Layout(unittest.TestCase):
    def test_packages_import_only_what_they_may_know(self):
        for path in SOURCE.rglob("*.py"):
            package = path.relative_to(SOURCE).parts[0]
            if package not in ALLOWED:
                continue
            for module, _ in imported(path):
                parts = module.split(".")
                if parts[0] == "ilvren" and len(parts) > 1 and parts[1] not in ("errors", package):
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
