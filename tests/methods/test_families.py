"""Manufactured families: what sqp, interior-point and the default choice solve, and that none of them says more than
it knows."""

import unittest

from ilvren import run, verify
from tests.compact import only_in_whole, some
from tests.families import FAMILIES, made

SEEDS = some(range(100, 103), 3)


class Families(unittest.TestCase):
    def share(self, method, families=FAMILIES, most_unsolved=1):
        unsolved = []
        for family in families:
            for seed in SEEDS:
                case = made(family, seed)
                result = run(case.problem, method=method, evaluations=2000, second_look=0)
                gap = (result.objective - case.best) / abs(case.best)
                is_solved = result.violation <= 1e-6 and abs(gap) <= 1e-6
                if not is_solved:
                    is_solved = verify(result).holds
                if not is_solved:
                    unsolved.append((case.name, result.outcome, gap, result.reason))
                    with self.subTest(case.name):
                        self.assertNotEqual(result.outcome, "converged", "a false claim")
        self.assertLessEqual(len(unsolved), most_unsolved, unsolved)

    def test_sqp(self):
        self.share("sqp", families=some(FAMILIES, 3))

    @only_in_whole
    def test_interior_point(self):
        self.share("interior-point", families=some(FAMILIES, 2, 1))

    @only_in_whole
    def test_the_default_choice(self):
        self.share(None, families=("bounded", "degenerate", "far"), most_unsolved=0)

    @only_in_whole
    def test_methods_for_bounds(self):
        for method in ("newton", "bfgs", "l-bfgs", "conjugate-gradient"):
            self.share(method, families=("unconstrained", "bounded"), most_unsolved=0)

    def test_without_second_derivatives(self):
        for method in ("sqp", "interior-point"):
            for seed in SEEDS:
                case = made("equalities", seed)
                result = run(case.problem, method=method, options={"exact": False})
                self.assertTrue(result.holds, f"{case.name}: {result.reason}")
                self.assertLessEqual(result.counts["hessians"], 0)

    def test_scaling_and_its_absence_end_at_the_same_optimum(self):
        for seed in SEEDS:
            case = made("convex", seed)
            for method in ("sqp", "interior-point"):
                on, off = (run(case.problem, method=method, scaling=scaling) for scaling in (True, False))
                self.assertTrue(on.holds and off.holds)
                self.assertLess(abs(on.objective - off.objective), 1e-5 * abs(case.best))
                self.assertIs(off.settings["scaling"], False)


if __name__ == "__main__":
    unittest.main()
