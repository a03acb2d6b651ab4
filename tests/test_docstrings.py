"""What public functions say of themselves: meaning, shapes of arrays, errors."""

import ast
import re
import unittest
from pathlib import Path

import ilvren

SOURCE = Path(ilvren.__file__).parent
ARRAYS = re.compile(r"FloatArray|NDArray|\bArray\b|IntArray|BoolArray")
# "(n,)", "(k, *shape)", or words for what has no fixed one.
SHAPES = re.compile(r"\([^()]*,[^()]*\)|[Ss]hape|any one|scalar|flat|design|a number|point|count\)|two axes")
OURS = {"RequestError", "ProblemError", "FormulaError", "InputError", "MachineError", "LedgerFileError"}


def public_functions():
    """Yield (file and line, function) of all that others may call; not of protocols, nor what a base describes."""
    for path in sorted(SOURCE.rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for node in tree.body:
            if isinstance(node, ast.FunctionDef):
                inside, bases = [node], []
            elif isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                inside = [item for item in node.body if isinstance(item, ast.FunctionDef)]
                bases = [ast.unparse(base) for base in node.bases]
            else:
                continue
            if any(base in ("Protocol", "Law") for base in bases):
                continue
            for function in inside:
                if not function.name.startswith("_") and not _is_setter(function):
                    yield f"{path.relative_to(SOURCE)}:{function.lineno} {function.name}", function


def _is_setter(function):
    return any(ast.unparse(item).endswith(".setter") for item in function.decorator_list)


class Docstrings(unittest.TestCase):
    maxDiff = None

    def test_public_functions_say_what_they_are_shaped_like_and_what_they_raise(self):
        mute, shapeless, silent, seen = [], [], [], 0
        for place, function in public_functions():
            seen += 1
            text = ast.get_docstring(function)
            if not text:
                mute.append(place)
                continue
            arguments = [*function.args.args, *function.args.kwonlyargs]
            notes = [ast.unparse(item) for item in (*(a.annotation for a in arguments), function.returns) if item]
            if any(ARRAYS.search(note) for note in notes) and not SHAPES.search(text):
                shapeless.append(place)
            raised = (node.exc for node in ast.walk(function) if isinstance(node, ast.Raise))
            own = {ast.unparse(error.func) for error in raised if isinstance(error, ast.Call)} & OURS
            if own and "raise" not in text.lower():
                silent.append(place)
        self.assertGreater(seen, 2000)
        self.assertEqual((mute, shapeless, silent), ([], [], []))


if __name__ == "__main__":
    unittest.main()
