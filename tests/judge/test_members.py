"""Spaced and catalogue variables: better neighbours are found whatever direction they lie in, ties are told, what was tried
is said, and nothing holds that was only searched."""

import itertools
import unittest

import numpy as np

from ilvren import loads, run, verify
from ilvren.judge import VerifyOptions

WHOLE = "{{ start = 0, lower = 0, upper = {}, spacing = 1 }}"


def whole(count, upper, objective, *rows):
    names = "abcdefghij"[:count]
    lines = [f"{name} = {WHOLE.format(upper)}" for name in names]
    limits = [f'r{k} = "{row}"' for k, row in enumerate(rows)]
    return loads(
        "\n".join(
            ["[variables]", *lines, f'[minimize]\ncost = "{objective}"', *(["[constraints]", *limits] if rows else [])]
        )
    )


class Neighbours(unittest.TestCase):
    def test_diagonals_and_moves_along_equalities(self):
        many = "+".join(f"({name} - 3.2)^2" for name in "abcdefghi")
        at = dict.fromkeys("abcdefghi", 3)
        for objective, rows, where, verdict in (
            (f"{many} - 2.2 * a * b", (), at, "improvable"),
            (many, ("2 * a + 3 * b == 12",), at | {"a": 0, "b": 4}, "improvable"),
            (many, ("2 * a + 3 * b == 12",), at | {"a": 3, "b": 2}, "local-strict"),
            (many, ("a + b + c == 10",), at | {"c": 4}, "local-weak"),
            (many.replace("3.2", "3.5"), (), at, "local-weak"),
            (many, (), at, "local-strict"),
        ):
            with self.subTest(rows=rows, where=where):
                found = verify(whole(9, 90, objective, *rows), at=where)
                self.assertEqual(found.verdict, verdict, found.reason)
                if found.holds:
                    self.assertRegex(found.reason, r"all [\d,]+ neighbours \(singles")

    def test_few_designs_are_all_tried(self):
        rng = np.random.default_rng(3)
        for _ in range(5):
            q = rng.integers(-3, 4, size=(3, 3))
            terms = " + ".join(f"({q[i, j]}) * {'abc'[i]} * {'abc'[j]}" for i in range(3) for j in range(3))
            problem = whole(3, 6, f"{terms} + 3 * sin(a * b + c)", "a + b <= 9")
            result = run(problem)
            best = min(
                problem.named_values(point)["cost"][0]
                for point in itertools.product(range(7), repeat=3)
                if point[0] + point[1] <= 9
            )
            self.assertEqual(result.objective, best)
            self.assertEqual(verify(result).verdict, "global-proved")

    def test_what_is_cut_short_or_only_searched_does_not_hold(self):
        text = (
            "[variables]\ni = { start = 0, lower = 0, upper = 900, spacing = 1 }\n"
            "y = { shape = 8, start = 0.5, lower = -3, upper = 3 }\n"
            '[minimize]\nf = "(i - 4.3)^2 + sum((y - 0.3 * i)^2) + sum(sin(8 * y))"\n'
        )
        found = verify(run(loads(text)))
        self.assertFalse(found.holds)
        check = next(c for c in found.checks if c.name == "members")
        self.assertEqual(check.result, "unknown")
        self.assertIn("which proves nothing", check.detail)

    def test_a_neighbour_that_needs_more_than_a_local_search(self):
        text = (
            "[variables]\ni = { start = 0, lower = 0, upper = 9, spacing = 1 }\ny = { start = 0.5, lower = -3, upper = 3 }\n"
            '[minimize]\nf = "(i - 4.3)^2 * 0.1 + (y - 0.3 * i)^2 + 3 * sin(8 * y)"\n'
        )
        self.assertEqual(verify(loads(text), at={"i": 4, "y": 0.6}).verdict, "improvable")
        self.assertEqual(
            verify(run(loads(text), method="branch-and-bound")).verdict in ("global-proved", "improvable"), True
        )


class Worths(unittest.TestCase):
    def test_neighbouring_members_bring_what_every_design_with_them_shows(self):
        text = (
            "[variables]\nn = { start = 2, lower = 0, upper = 5, spacing = 1 }\nm = { start = 2, catalogue = [1, 2, 5] }\n"
            "x = { start = 1, lower = 0, upper = 5 }\nw = { start = 'a', choices = ['a', 'b'] }\n[minimize]\n"
            "f = '(n-3.3)^2 + (x-2)^2 + (m-3)^2 + 0.1*n*x + 0.2*m*n'\n[constraints]\nc = 'n + x <= 5'\n"
        )
        problem = loads(text)
        worth = verify(run(problem, method="branch-and-bound"), extra=VerifyOptions(worth=True)).worth
        grid = np.linspace(0.0, 5.0, 20_001)

        def best(n=None, m=None):
            found = np.inf
            for one in range(6) if n is None else (n,):
                for other in (1, 2, 5) if m is None else (m,):
                    x = grid[grid + one <= 5.0 + 1e-9]
                    values = (one - 3.3) ** 2 + (x - 2) ** 2 + (other - 3) ** 2 + 0.1 * one * x + 0.2 * other * one
                    found = min(found, values.min(initial=np.inf))
            return found

        self.assertEqual(
            [(item.name, item.side) for item in worth.members][:2], [("n", "next lower"), ("n", "next higher")]
        )
        self.assertGreaterEqual(len(worth.members), 3)
        for item in worth.members:
            self.assertAlmostEqual(item.objective, best(**{item.name: item.member}), places=5)
        self.assertRegex(" ".join(worth.notes), "words have no neighbours")


if __name__ == "__main__":
    unittest.main()
