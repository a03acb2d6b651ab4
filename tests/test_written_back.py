"""Designs written back into problem files, however these are written: what is read again is the design, and nothing else has
changed."""

import tempfile
import tomllib
import unittest
from pathlib import Path

import numpy as np

from ilvren import load
from ilvren.errors import RequestError
from ilvren.runs import told_by_block
from ilvren.runs.applying import fixed_at, parameters_at, starts_at

# Variables as they may be written: (lines, name, values a design may have, key of its kind).
FORMS = (
    ("{n} = 1.5                      # bare", [2.25, -3.0]),
    ("{n} = 2", [2.5, 7.0]),
    ("{n} = {{ start = 1.0, lower = -5, upper = 5, unit = \"m\" }}   # inline", [0.125, -4.0]),
    ("{n} = {{ start = 3, lower = -9, upper = 9 }}", [4.0, 0.1]),
    ("{n} = {{ start = [1.0, 2.0, 3.0], lower = -9 }}", [[0.5, 2.0, -1.0]]),
    ("{n} = {{ start = 0.5, shape = [2, 2] }}", [[[1.0, 2.0], [3.0, 4.5]]]),
    ("{n} = {{ start = \"oak\", choices = [\"ash\", \"oak\", \"larch\"] }}", ["ash", "larch"]),
    ("{n} = {{ start = 4, catalogue = [2, 4, 8.5] }}", [8.5, 2.0]),
    ("{n} = {{ start = 1.0, lower = 0, upper = 3, spacing = 0.25 }}", [2.75, 0.25]),
)  # fmt: skip
TABLE = (
    '\n[variables.{n}]   # a table of its own\nstart = 2.0\nlower = -8.0\n# between\nupper = 8.0\nabout = "said so"\n'
)


def made(rng):
    """Return (the text of a problem file, {variable: value of another design})."""
    lines, design = ["# the head of the file", "title = 'written back'", "", "[variables]   # chosen"], {}
    for place, number in enumerate(rng.permutation(len(FORMS))[: int(rng.integers(3, 8))].tolist()):
        form, values = FORMS[number]
        name = f"v{place}"
        lines.append(form.format(n=name))
        if rng.random() < 0.3:
            lines.append("# a remark between")
        design[name] = values[int(rng.integers(0, len(values)))]
    lines.append(TABLE.format(n="own"))
    design["own"] = -7.5
    lines += ["[parameters]", "p = 3.0    # not chosen", "q = { value = [1, 2], unit = \"kN\" }", "", "[minimize]", "f = 'own^2 + p'"]  # fmt: skip
    return "\n".join(lines) + "\n", design


def flat(problem, design):
    """Return a design by name as numbers (n,)."""
    found = []
    for block in problem.blocks:
        value = design[block.name]
        found += [block.words.index(value) + 1.0] if block.words else np.ravel(value).tolist()
    return found


def comments(text):
    return [line[line.index("#") :] for line in text.splitlines() if "#" in line]


class WrittenBack(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.path = Path(folder.name) / "p.toml"
        self.rng = np.random.default_rng(8)

    def test_the_file_begins_at_the_design_and_is_else_as_it_was(self):
        for trial in range(40):
            text, design = made(self.rng)
            self.path.write_text(text)
            problem = load(self.path)
            wanted = flat(problem, design)
            found = starts_at(problem, wanted, self.path)
            with self.subTest(trial=trial):
                self.assertEqual((found.path, found.before), (self.path, text))
                self.path.write_text(found.after)
                again = load(self.path)
                self.assertEqual(list(again.start), wanted)
                self.assertEqual(comments(found.after), comments(text))
                before, after = tomllib.loads(text), tomllib.loads(found.after)
                self.assertEqual(list(before["variables"]), list(after["variables"]))
                for name, entry in before["variables"].items():
                    own = after["variables"][name]
                    if isinstance(entry, dict):
                        self.assertEqual({**entry, "start": 0}, {**own, "start": 0}, name)
                self.assertEqual({**before, "variables": 0}, {**after, "variables": 0})
                # whole numbers that were written so stay so
                changed = {change.name.partition("[")[0] for change in found.changes}
                self.assertEqual(changed, {block.name for block in problem.blocks
                                           if list(problem.start[block.first : block.first + block.size])
                                           != wanted[block.first : block.first + block.size]})  # fmt: skip
                self.assertFalse(starts_at(again, wanted, self.path).is_changed)  # once is enough

    def test_the_lines_that_change_are_those_of_the_starts(self):
        text, design = made(self.rng)
        self.path.write_text(text)
        problem = load(self.path)
        found = starts_at(problem, flat(problem, design), self.path)
        told = [line for line in found.diff() if line[:1] in "+-"]
        self.assertTrue(told)
        old, new = ([line[1:] for line in told if line[0] == sign] for sign in "-+")
        self.assertEqual(len(old), len(new))
        self.assertEqual([line for line in text.splitlines() if line not in old],
                         [line for line in found.after.splitlines() if line not in new])  # fmt: skip

    def test_what_is_fixed_is_free_no_more_and_what_cannot_be_is_told(self):
        for _ in range(20):
            text, _ = made(self.rng)
            self.path.write_text(text)
            problem = load(self.path)
            names = [block.name for block in problem.blocks]
            wanted = [name for name in names if self.rng.random() < 0.6]
            elements = [f"{name}[{k}]" if problem.blocks[names.index(name)].size > 1 else name
                        for name in wanted for k in range(problem.blocks[names.index(name)].size)]  # fmt: skip
            matrix = {b.name for b in problem.blocks if len(b.shape) == 2}
            elements = [name for name in elements if name.partition("[")[0] not in matrix]
            found, left = fixed_at(problem, elements, self.path)
            self.path.write_text(found.after)
            again = load(self.path)
            self.assertEqual(
                told_by_block(again.blocks, list(again.start)), told_by_block(problem.blocks, list(problem.start))
            )
            held = {
                name
                for name, entry in tomllib.loads(found.after)["variables"].items()
                if isinstance(entry, dict)
                and (
                    entry.get("lower", 0) == entry.get("upper", 1)
                    or 1 in map(len, (entry.get("choices", ()), entry.get("catalogue", ())))
                )
            }
            bare = {name for name in wanted if not isinstance(tomllib.loads(text)["variables"][name], dict)}
            fixed = set(wanted) - bare - matrix
            self.assertEqual(held, fixed)
            self.assertEqual({name.partition("[")[0] for name in left}, bare)
            self.assertEqual(comments(found.after), comments(text))

    def test_variables_become_parameters_of_another_file(self):
        text, design = made(self.rng)
        self.path.write_text(text)
        problem = load(self.path)
        other = self.path.with_name("other.toml")
        other.write_text(
            "[variables]\nx = { start = 1, lower = 0 }\n[parameters]\nown = 1.0  # taken over\nfree = 4\n"
            "[minimize]\nf = 'x + own * free'\n"
        )
        found, left = parameters_at(problem, flat(problem, design), other)
        other.write_text(found.after)
        self.assertEqual({item.name: item.value for item in load(other).parameters}, {"own": -7.5, "free": 4.0})
        self.assertEqual(set(left), set(design) - {"own"})
        self.assertIn("# taken over", found.after)
        other.write_text("no toml [")
        self.assertRaises(RequestError, parameters_at, problem, flat(problem, design), other)
        other.unlink()
        self.assertRaises(RequestError, parameters_at, problem, flat(problem, design), other)
        self.assertRaises(RequestError, starts_at, problem, flat(problem, design), other)

    def test_a_variable_that_is_there_no_more(self):
        text, design = made(self.rng)
        self.path.write_text(text)
        problem = load(self.path)
        self.path.write_text(text.replace("[variables.own]", "[variables.mine]").replace("own^2", "mine^2"))
        with self.assertRaises(RequestError) as caught:
            starts_at(problem, flat(problem, design), self.path)
        self.assertIn('has no variable "own" any more', str(caught.exception))


if __name__ == "__main__":
    unittest.main()
