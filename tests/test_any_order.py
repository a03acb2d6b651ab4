"""Entries in any order: named values that need each other at random are worked out whatever line they stand on, and a value
that needs itself is told with the whole ring."""

import itertools
import random
import re
import unittest

import numpy as np

from ilvren.errors import ProblemError
from ilvren.evaluate import Gate
from ilvren.problem import loads

WAYS = ("{a} + 0.5 * {b}", "sin({a}) - {b}", "{a} * {b} / (1 + {b}^2)", "max({a}, {b}) * 0.7", "{a} - 1.25")


def network(rng, count):
    """Return (entries {name: formula} that need only earlier ones, values as NumPy would have them)."""
    names = ["x", "y", "p"]
    values = {"x": 0.6, "y": -1.2, "p": 2.0}
    entries = {}
    for k in range(count):
        a, b = rng.choice(names), rng.choice(names)
        formula = rng.choice(WAYS).format(a=a, b=b)
        name = f"{rng.choice('abcdefg')}{k}"
        plain = formula.replace("^", "**")
        values[name] = float(eval(plain, {"sin": np.sin, "max": max}, values))  # noqa: S307
        entries[name] = formula
        names.append(name)
    return entries, values


def depends(entries, name):
    """Return all names that a value is made of."""
    found, waiting = set(), [name]
    while waiting:
        for other in re.findall(r"[a-z]\d+|\b[xyp]\b", entries.get(waiting.pop(), "")):
            if other not in found:
                found.add(other)
                waiting.append(other)
    return found


def text_of(rng, entries, objective):
    lines = [f'{name} = "{formula}"' for name, formula in entries.items()]
    rng.shuffle(lines)
    parts = [
        "[variables]\nx = { start = 0.6, lower = -3, upper = 3 }\ny = { start = -1.2, lower = -3, upper = 3 }\n",
        "[parameters]\np = 2.0\n",
        "[derived]\n" + "\n".join(lines) + "\n",
        f'[minimize]\nf = "{objective}"\n',
    ]
    rng.shuffle(parts)
    return "".join(parts)


class AnyOrder(unittest.TestCase):
    def test_values_and_slopes_are_those_of_the_definitions(self):
        rng = random.Random(4)
        for trial in range(25):
            entries, values = network(rng, rng.randint(3, 25))
            last = list(entries)[-1]
            problem = loads(text_of(rng, entries, f"{last} + x^2"))
            gate = Gate(problem)
            found = gate.written.values(np.array(problem.start))
            with self.subTest(trial=trial):
                for name in entries:
                    self.assertAlmostEqual(found[name], values[name], delta=1e-12 * (1.0 + abs(values[name])))
                slope = gate.written.gradient(np.array(problem.start), last)
                for place, variable in enumerate("xy"):
                    if variable not in depends(entries, last):
                        self.assertEqual(slope[place], 0.0)
                step = 1e-7
                for place in range(2):
                    at = np.array(problem.start)
                    at[place] += step
                    up = gate.written.values(at)[last]
                    at[place] -= 2 * step
                    seen = (up - gate.written.values(at)[last]) / (2 * step)
                    if "max" not in "".join(entries.values()):
                        self.assertAlmostEqual(slope[place], seen, delta=1e-6 * (1.0 + abs(seen)))

    def test_the_order_told_puts_every_value_after_what_it_is_made_of(self):
        rng = random.Random(5)
        for _ in range(15):
            entries, _ = network(rng, 20)
            problem = loads(text_of(rng, entries, "x^2"))
            place = {name: k for k, name in enumerate(problem.order)}
            for name in entries:
                for other in depends(entries, name) & set(entries):
                    self.assertLess(place[other], place[name])

    def test_a_value_that_needs_itself_is_told_with_the_ring(self):
        rng = random.Random(6)
        for _ in range(20):
            entries, _ = network(rng, 12)
            names = list(entries)
            last = rng.choice(names[6:])
            first = rng.choice([name for name in names if name in depends(entries, last)] or [last])
            broken = {**entries, first: f"{entries[first]} + 0 * {last}"}
            text = text_of(rng, broken, "x^2")
            with self.assertRaises(ProblemError) as caught:
                loads(text)
            message = str(caught.exception)
            ring = message[message.index("needs itself: ") + len("needs itself: ") :].split("\n")[0].split(" -> ")
            self.assertEqual(ring[0], ring[-1])
            for name, other in itertools.pairwise(ring):
                needs = re.findall(r"[a-z]\d+", broken[name]), re.findall(r"[a-z]\d+", broken[other])
                self.assertTrue(other in needs[0] or name in needs[1], (name, other))
            line = text.splitlines()[caught.exception.line - 1]
            self.assertTrue(any(line.startswith(f"{name} = ") for name in ring), line)


if __name__ == "__main__":
    unittest.main()
