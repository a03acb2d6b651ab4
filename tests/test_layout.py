"""The architecture, read off the import statements; and what may never be imported."""

import ast
import functools
import importlib
import re
import subprocess
import sys
import tempfile
import unittest
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

import ilvren

SOURCE = Path(ilvren.__file__).parent
ROOT = SOURCE.parent.parent
# Import statements, those in texts that are programs of their own, too: to read whole files as syntax takes seconds.
IMPORTS = re.compile(r"^[ \t]*((?:from\s+[\w.]+\s+import\s+(?:\([^)]*\)|[^\n(]+))|import\s+[^\n]+)$", re.MULTILINE)
# package → what it may import, as docs/architecture.md says.
ALLOWED = {
    "formula": set(),
    "approximate": {"algebra"},
    "models": {"algebra", "approximate"},
    "dynamics": {"formula", "models"},
    "problem": {"algebra", "formula", "models", "dynamics", "approximate", "scatter"},
    "evaluate": {"algebra", "problem", "formula", "models"},
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


@functools.cache
def imported(path: Path) -> list[tuple[str, str]]:
    """Return (module, name) of every import statement of a file."""
    found = []
    statements = "\n".join(own[1] for own in IMPORTS.finditer(path.read_text("utf-8")))
    for node in ast.walk(ast.parse(statements)):
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


MODULES = all_modules()
PACKAGES = {name for name, path in MODULES.items() if path.name == "__init__.py"}
# package → {public name: module that has it}, as type checkers are told.
DOORS = {
    package: {
        name: module
        for module, name in imported(MODULES[package])
        if module.startswith(f"{package}.") and module != "ilvren.doors"
    }
    for package in PACKAGES
}


# room of judge → rooms it may know.
ROOMS = {
    "standing": set(),
    "checking": set(),
    "optimum": {"standing"},
    "proof": {"standing", "optimum"},
    "worth": {"standing", "optimum", "proof"},
    "verifying": {"standing", "optimum", "proof", "worth"},
    "comparing": {"standing"},
    "fronts": {"standing", "optimum", "proof", "worth", "verifying", "comparing"},
    "diagnosing": {"standing", "optimum", "checking"},
}


def home_of(module: str, name: str) -> str | None:
    """Return the module that `from module import name` is about, behind its package's door; None for none of ours."""
    if f"{module}.{name}" in MODULES:
        return f"{module}.{name}"
    while name in DOORS.get(module, {}):
        module = DOORS[module][name]
    return module if module in MODULES else None


class Layout(unittest.TestCase):
    def test_no_module_imports_itself_by_way_of_others(self):
        """Also where types alone are meant, and where an import is put off into a function."""
        edges = {
            name: {home for module, part in imported(path) if (home := home_of(module, part)) not in (None, name)}
            for name, path in MODULES.items()
            if name not in PACKAGES
        }
        sorter = TopologicalSorter(edges)
        try:
            sorter.prepare()
        except CycleError as error:
            self.fail(" ← ".join(error.args[1]))

    def test_packages_are_entered_by_their_doors(self):
        """Names of other packages come from these packages, never from a module inside, and no package as a whole."""
        for name, path in MODULES.items():
            for module, part in imported(path):
                if not module.startswith("ilvren") or name.count(".") < 2 or name in PACKAGES:
                    continue
                self.assertFalse(
                    f"{module}.{part}" in PACKAGES and module == "ilvren", f"{name} imports all of {module}.{part}"
                )
                if module.split(".")[1] != name.split(".")[1] and module.count(".") > 1:
                    self.assertIn(module, PACKAGES, f"{name} imports {part} past the door of {module}")

    def test_doors_say_the_same_to_programs_and_to_type_checkers(self):
        for package, names in DOORS.items():
            opened = importlib.import_module(package)
            with self.subTest(package=package):
                self.assertEqual(sorted(getattr(opened, "__all__", ())), sorted(names))
                for name in names:
                    self.assertFalse(f"{package}.{name}" in MODULES, f"{name} is also a module beside it")
                    getattr(opened, name)

    def test_packages_import_only_what_they_may_know(self):
        for path in SOURCE.rglob("*.py"):
            package = path.relative_to(SOURCE).parts[0]
            if package not in ALLOWED:
                continue
            for module, _ in imported(path):
                parts = module.split(".")
                if (
                    parts[0] == "ilvren"
                    and len(parts) > 1
                    and parts[1]
                    not in ("errors", "version", "doors", "records", "printable", "regular", "notebooks", package)
                ):
                    self.assertIn(parts[1], ALLOWED[package], f"{path.relative_to(SOURCE)} imports {module}")

    def test_rooms_of_judge_know_only_those_before_them(self):
        for name, path in MODULES.items():
            if not name.startswith("ilvren.judge.") or name in PACKAGES:
                continue
            room = name.split(".")[2]
            for module, part in imported(path):
                home = home_of(module, part) or ""
                if home.startswith("ilvren.judge.") and home.split(".")[2] != room:
                    self.assertIn(home.split(".")[2], ROOMS[room], f"{name} imports {home}")

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

    def test_a_small_run_loads_little(self):
        """What a run of formulas may load: whatever else is needed is for those who ask for it."""
        code = (
            "import io, sys; from ilvren.cli.main import main; from ilvren.cli.terminal import Terminal;"
            "assert main(['run', 'p.toml', '--method', 'sqp'], Terminal(io.StringIO(), io.StringIO())) == 0;"
            "print(*[name for name, own in sys.modules.items() if getattr(own, '__file__', None)])"
        )
        with tempfile.TemporaryDirectory() as folder:
            text = '[variables]\nx = { start = 1, lower = 0 }\n[minimize]\nf = "x^2 + 1/x"\n[constraints]\nc = "x >= 0.5"\n'
            Path(folder, "p.toml").write_text(text)
            done = subprocess.run([sys.executable, "-c", code], cwd=folder, capture_output=True, text=True, check=True)
        names = done.stdout.split()
        own = {name.split(".")[1] for name in names if name.startswith("ilvren.")}
        few = {"algebra", "cli", "evaluate", "formula", "ledger", "methods", "models", "problem", "runs"}
        self.assertLessEqual(own, few | {"doors", "errors", "notebooks", "printable", "records", "regular", "version"})
        foreign = {
            "scipy",
            "pandas",
            "matplotlib",
            "PIL",
            "pint",
            "jinja2",
            "tomlkit",
            "distributed",
            "dask",
            "pygments",
        }
        self.assertEqual(foreign & {name.split(".")[0] for name in names}, set())
        self.assertLess(len([name for name in names if name.startswith("ilvren")]), 175)

    def test_the_optimisation_module_of_scipy_is_never_imported(self):
        forbidden = ".".join(("scipy", "optimize"))
        for folder in ("src", "tests", "benchmarks", "docs"):
            for path in (ROOT / folder).rglob("*.py"):
                for module, name in imported(path):
                    self.assertFalse(f"{module}.{name}".startswith(forbidden), str(path))
