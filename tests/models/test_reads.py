"""What a model's file imports from its own folder, and what it is seen to read beside."""

import random
import subprocess
import sys
import tempfile
import textwrap
import unittest
from pathlib import Path

from ilvren.models.python.reads import local_imports

ROOT = Path(__file__).resolve().parents[2]
WATCHED = """
import sys
from pathlib import Path
from ilvren.models.python.reads import begin_watching, undeclared
folder = Path(sys.argv[1])
sys.path.insert(0, str(folder))
owner = folder / "model.py"
begin_watching()
exec(sys.argv[2])
print(undeclared([folder / name for name in sys.argv[3].split(",") if name], owner))
"""


class Imports(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()

    def written(self, name, text=""):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
        return path

    def names(self, path):
        return {str(own.relative_to(self.folder)) for own in local_imports(path)}

    def test_of_every_way_to_write_them(self):
        for name in ("a.py", "b.py", "pack/__init__.py", "pack/inner.py", "pack/deep/__init__.py", "pack/deep/last.py"):
            self.written(name)
        whole = {"pack/__init__.py", "pack/inner.py"}
        for text, expected in (
            ("import a", {"a.py"}),
            ("import a as other, b", {"a.py", "b.py"}),
            ("from a import f", {"a.py"}),
            ("def f(x):\n    import b\n    return x", {"b.py"}),
            ("try:\n    import a\nexcept ImportError:\n    import b", {"a.py", "b.py"}),
            ("from pack import inner", whole),
            ("from pack.inner import f", whole),
            ("import pack.inner", whole),
            ("import pack.deep.last", {"pack/deep/last.py", "pack/deep/__init__.py"}),
            ("import numpy, math, json", set()),
            ("import nothing_of_the_kind", set()),
            ("import a as", set()),  # no Python: it is told elsewhere
            ("", set()),
        ):
            with self.subTest(text=text):
                found = self.names(self.written("model.py", text))
                self.assertEqual(found - {"pack/__init__.py"} if "deep" in text else found, expected)
        self.assertEqual(local_imports(self.folder / "gone.py"), set())

    def test_within_a_package(self):
        inside = self.written("pack/deep/last.py")
        for name in ("inner.py", "pack/__init__.py", "pack/inner.py", "pack/deep/inner.py", "pack/side/__init__.py"):
            self.written(name)
        for text, expected in (
            ("from . import inner", {"pack/deep/inner.py"}),
            ("from .inner import f", {"pack/deep/inner.py"}),
            ("from .. import inner", {"pack/inner.py"}),
            ("from ..inner import f as g", {"pack/inner.py"}),
            ("from ..side import f", {"pack/side/__init__.py"}),
            ("from ........far import f", set()),
        ):
            with self.subTest(text=text):
                inside.write_text(text)
                self.assertEqual(
                    self.names(self.written("model.py", "import pack.deep.last\n")), {"pack/deep/last.py", *expected}
                )

    def test_through_others_around_in_circles_and_after_a_change(self):
        rng = random.Random(3)
        for trial in range(8):
            count = rng.randint(2, 9)
            edges = {k: rng.sample(range(count), rng.randint(0, min(3, count))) for k in range(count)}
            for k, others in edges.items():
                lines = [rng.choice(("import t{0}m{1}", "from t{0}m{1} import f")).format(trial, o) for o in others]
                self.written(f"t{trial}m{k}.py", "\n".join(lines))
            reached, waiting = set(), [0]
            while waiting:
                new = [other for other in edges[waiting.pop()] if other not in reached and other]
                reached |= set(new)
                waiting += new
            self.assertEqual(self.names(self.folder / f"t{trial}m0.py"), {f"t{trial}m{k}.py" for k in reached})
        model = self.written("model.py", "import t0m0\n")
        before = self.names(model)
        self.written("t0m0.py", "import t1m0  # another now\n")
        after = self.names(model)
        self.assertIn("t1m0.py", after)
        self.assertNotEqual(before, after)


class Watched(unittest.TestCase):
    def test_files_that_are_read_and_not_declared_are_named(self):
        with tempfile.TemporaryDirectory() as folder:
            for name in ("table.csv", "other.csv"):
                (Path(folder) / name).write_text("1,2\n")
            (Path(folder) / "helper.py").write_text("VALUE = 3\n")
            read = "open(folder / 'table.csv').read()"
            for code, declared, named in (
                (read, "", "table.csv"),
                (read, "table.csv", ""),
                (f"{read}; open(folder / 'other.csv').read()", "table.csv", "other.csv"),
                ("open(folder / 'made.txt', 'w').write('x')", "", ""),  # what it writes is no input
                ("import json, decimal", "", ""),  # nor is Python
                ("import helper", "", "helper.py"),
                ("import helper", "helper.py", ""),
                ("import os; os.listdir(folder)", "", ""),
                (f"{read}; undeclared([], owner)", "table.csv", "table.csv"),  # once seen it stays so
            ):
                with self.subTest(code=code, declared=declared):
                    done = subprocess.run(
                        [sys.executable, "-c", textwrap.dedent(WATCHED), folder, code, declared],
                        capture_output=True, text=True, check=False, env={"PYTHONPATH": str(ROOT / "src"), "PATH": ""},
                    )  # fmt: skip
                    self.assertEqual((done.stdout.strip(), done.stderr), (named, ""))


if __name__ == "__main__":
    unittest.main()
