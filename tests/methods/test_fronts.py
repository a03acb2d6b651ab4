"""Methods that find fronts, and the algebra that fronts are measured by."""

import itertools
import tempfile
import unittest
from dataclasses import replace
from pathlib import Path

import numpy as np

from ilvren import load, loads, resume, run
from ilvren.algebra import (
    crowding,
    crowding_by_layer,
    dominated_by,
    domination_layers,
    hypervolume,
    lattice,
    nondominated,
    own_shares,
    spread_subset,
)
from ilvren.errors import RequestError
from ilvren.ledger import Ledger
from ilvren.methods.base import method_named
from ilvren.methods.expected_hypervolume import _boxes
from tests.compact import WHOLE, chosen, only_in_whole, pairs, parted
from tests.driving import front_names
from tests.front_problems import FRONTS, front_named

BUDGET = {"expected-hypervolume": 28, "front-direct-search": 2000}
FEW = {"expected-hypervolume": 16}
BOX = "x = { start = 2, lower = -5, upper = 5 }\ny = { start = 2, lower = -5, upper = 5 }\n"
TWO = f'[variables]\n{BOX}[minimize]\na = "x^2 + y^2"\nb = "(x-3)^2 + (y-1)^2"\n'
STEPS = """[variables]
k = { choices = ["a", "b", "c", "d", "e", "f"] }
x = { start = 0.5, lower = 0, upper = 1 }
[parameters]
ks = ["a", "b", "c", "d", "e", "f"]
[derived]
s = "lookup(k, ks, join(0, 1, 2, 3, 4, 5))"
[minimize]
a = "s + x^5"
b = "5 - s + (1 - x)^5"
"""
LIMITED = TWO + '[constraints]\nc = "y + x/4 >= 1.2"\n'


def brute(values):
    return np.array([not any((b <= a).all() and (b < a).any() for b in values) for a in values])


def volume(values, corner):
    """The volume by inclusion and exclusion."""
    total = 0.0
    for size in range(1, len(values) + 1):
        for some in itertools.combinations(values, size):
            sides = np.maximum(corner - np.max(some, axis=0), 0.0)
            total += (-1) ** (size + 1) * float(np.prod(sides))
    return total


def share_of(result, item, points=60):
    front = item.front()
    low, extent = front.min(axis=0), np.ptp(front, axis=0)
    corner = np.full(front.shape[1], 1.1)
    best = hypervolume(((front - low) / extent)[spread_subset(front, points)], corner)
    return hypervolume((result.front.values - low) / extent, corner) / best


class Algebra(unittest.TestCase):
    def setUp(self):
        self.rng = np.random.default_rng(5)

    def test_domination_and_layers_agree_with_their_definitions(self):
        for count, p, digits in itertools.product((1, 9, 80), (1, 2, 3, 4), (1, 9)):
            values = np.round(self.rng.random((count, p)), digits)
            values[self.rng.random(count) < 0.1] = np.nan
            with self.subTest(count=count, p=p, digits=digits):
                finite = np.isfinite(values).all(axis=1)
                np.testing.assert_array_equal(nondominated(values)[finite], brute(values[finite]))
                self.assertFalse(nondominated(values)[~finite].any())
                layers = domination_layers(values)
                for layer in range(int(layers[finite].max(initial=-1)) + 1):
                    left = values[finite & (layers >= layer)]
                    np.testing.assert_array_equal(brute(left), (layers[finite & (layers >= layer)] == layer))

    def test_the_fast_layers_of_many_pairs_are_those_of_few(self):
        values = np.round(self.rng.random((900, 2)), 2)
        found, left, layer = domination_layers(values), np.arange(900), 0
        while len(left):
            own = nondominated(values[left])
            self.assertTrue((found[left[own]] == layer).all())
            layer, left = layer + 1, left[~own]

    def test_limits_come_before_objectives(self):
        values, misses = np.array([[0.0, 0.0], [9.0, 9.0], [1.0, 1.0]]), np.array([0.2, 0.0, 0.1])
        np.testing.assert_array_equal(domination_layers(values, misses), [2, 0, 1])

    def test_hypervolume_by_inclusion_and_exclusion(self):
        for p, count in itertools.product((1, 2, 3, 4, 5), (1, 2, 5, 8)):
            values, corner = self.rng.random((count, p)) * 1.2, np.ones(p)
            with self.subTest(p=p, count=count):
                self.assertAlmostEqual(hypervolume(values, corner), volume(values, corner), places=12)
                kept = values[nondominated(values)]
                for own, place in zip(own_shares(kept, corner), range(len(kept)), strict=True):
                    rest = np.delete(kept, place, axis=0)
                    self.assertAlmostEqual(own, volume(kept, corner) - volume(rest, corner), places=12)

    def test_a_subset_keeps_the_ends_and_nearly_all_of_the_volume(self):
        angle = self.rng.random(3000) * np.pi / 2
        curve = 1.0 - np.column_stack([np.cos(angle), np.sin(angle)])
        chosen = curve[spread_subset(curve, 50)]
        np.testing.assert_array_equal(chosen.min(axis=0), curve.min(axis=0))
        self.assertGreater(hypervolume(chosen, np.ones(2)), 0.985 * hypervolume(curve, np.ones(2)))
        ball = np.abs(self.rng.normal(size=(2000, 3)))
        ball /= np.linalg.norm(ball, axis=1)[:, np.newaxis]
        self.assertEqual(len(np.unique(spread_subset(ball, 40))), 40)

    def test_crowding_is_the_room_between_neighbours(self):
        found = crowding(np.array([[0.0, 4.0], [1.0, 2.0], [2.0, 1.0], [4.0, 0.0]]))
        np.testing.assert_allclose(found, [np.inf, 2 / 4 + 3 / 4, 3 / 4 + 2 / 4, np.inf])
        values, layers = self.rng.random((60, 3)), self.rng.integers(0, 5, 60)
        whole = crowding_by_layer(values, layers)
        for layer in range(5):
            own = np.flatnonzero(layers == layer)
            np.testing.assert_allclose(whole[own], crowding(values[own]))

    def test_a_lattice_holds_all_weights_that_add_up_to_one(self):
        found = lattice(4, 3)
        self.assertEqual(len(found), 15)
        np.testing.assert_allclose(found.sum(axis=1), 1.0)

    def test_boxes_hold_what_is_not_dominated_each_once(self):
        for p in (2, 3, 4):
            values, corner = self.rng.random((6, p)), np.ones(p)
            low, high = _boxes(values, corner)
            points = self.rng.random((400, p)) * 1.2 - 0.2
            points = points[(points < corner).all(axis=1)]
            inside = ((points[:, np.newaxis] > low) & (points[:, np.newaxis] <= high)).all(axis=2).sum(axis=1)
            np.testing.assert_array_equal(inside, ~dominated_by(points, values))


class EveryFrontMethod(unittest.TestCase):
    def each(self, *needed):
        able = [name for name in front_names() if set(needed) <= method_named(name).handles]
        return parted(able, self._testMethodName)

    def found(self, name, problem, **more):
        return run(problem, method=name, **{"evaluations": BUDGET.get(name, 4000), "points": 30, **more})

    def test_known_fronts_with_and_without_limits(self):
        cases = (("along-a-limit", 0.95), ("binh-korn", 0.97), ("triangle", 0.85))
        for number, name in enumerate(self.each("inequalities")):
            for place, (problem, least) in enumerate(cases):
                if not chosen(number, place, 3):
                    continue
                if name == "expected-hypervolume" and problem == "binh-korn":
                    continue  # surfaces take their time, and are tested on the others
                item = front_named(problem)
                with self.subTest(method=name, problem=problem):
                    result = self.found(name, item.problem())
                    self.assertIn(result.outcome, ("settled", "exhausted"))
                    self.assertGreater(share_of(result, item, 30), least)
                    values = result.front.values
                    self.assertTrue(nondominated(values).all())
                    self.assertLessEqual(max(member.violation for member in result.front.members), 1e-6)
                    self.assertIsNone(result.to_dict()["objectives"])

    @only_in_whole
    def test_what_is_maximized_is_what_would_be_minimized_turned_round(self):
        turned = TWO.replace('b = "(x-3)^2 + (y-1)^2"', '[maximize]\nb = "-(x-3)^2 - (y-1)^2"')
        for name in self.each():
            with self.subTest(method=name):
                one, other = (self.found(name, loads(text), evaluations=FEW.get(name, 900)) for text in (TWO, turned))
                self.assertEqual([m.objectives["a"] for m in one.front.members],
                                 [m.objectives["a"] for m in other.front.members])  # fmt: skip
                self.assertEqual([m.objectives["b"] for m in one.front.members],
                                 [-m.objectives["b"] for m in other.front.members])  # fmt: skip

    def test_objectives_without_a_conflict_have_one_best_design(self):
        text = TWO.replace("(x-3)^2 + (y-1)^2", "2 * x^2 + 3 * y^2 + 1")
        for name in self.each():
            with self.subTest(method=name):
                result = self.found(name, loads(text))
                values = result.front.values
                self.assertLess(float(np.ptp(values[:, 0])), 0.1)
                self.assertLess(values[:, 0].min(), 1e-2)

    def test_nonsense_ends_in_words(self):
        bad = {
            "invalid everywhere": TWO.replace("x^2 + y^2", "sqrt(-1 - x^2)"),
            "invalid on one side": TWO.replace("x^2 + y^2", "x^2 + y^2 + 0 * log(x + 4)"),
            "no feasible design": TWO + '[constraints]\nc = "x^2 + y^2 <= -1"\n',
            "one variable": '[variables]\nx = { start = 1, lower = -1, upper = 2 }\n[minimize]\na = "x^2"\nb = "(x-1)^2"',
            "flat on most of the box": TWO.replace("x^2 + y^2", "max(0, x - 4) + 1"),
        }
        for name in self.each("inequalities"):
            for what, text in bad.items():
                with self.subTest(method=name, what=what):
                    result = self.found(name, loads(text), evaluations=FEW.get(name, 400))
                    if what in ("invalid everywhere", "no feasible design"):
                        self.assertFalse(result.holds)
                        self.assertFalse(result.front.members)
                    else:
                        self.assertTrue(
                            all(np.isfinite(list(m.objectives.values())).all() for m in result.front.members)
                        )

    def test_an_objective_that_is_the_same_everywhere_is_left_out(self):
        flat = TWO.replace("x^2 + y^2", "0 * x + 1 + max(0, -9 - x)")
        self.assertEqual(run(loads(flat)).objectives.keys(), {"b"})
        fixed = TWO.replace("lower = -5, upper = 5", "lower = 2, upper = 2")
        self.assertEqual(run(loads(fixed)).outcome, "converged")
        with self.assertRaisesRegex(RequestError, "the same at all designs"):
            run(loads(flat), method="nondominated-sorting")

    def test_an_objective_that_falls_without_end_is_no_settled_front(self):
        text = '[variables]\nx = { start = 1 }\ny = { start = 1 }\n[minimize]\na = "x + y^2"\nb = "(x-3)^2 + y^2"\n'
        for name in ("boundary-intersection", "epsilon-limits", "front-continuation"):
            self.assertNotEqual(self.found(name, loads(text)).outcome, "settled", name)

    def test_members_of_catalogues_are_kept_exactly(self):
        text = TWO.replace(
            "x = { start = 2, lower = -5, upper = 5 }", "x = { start = 2, catalogue = [-1, 0, 0.7, 2, 3] }"
        )
        for name in self.each("catalogue"):
            with self.subTest(method=name):
                most = 20 if name == "expected-hypervolume" else 2000 if WHOLE else 400
                result = self.found(name, loads(text), evaluations=most)
                self.assertLessEqual({m.point[0] for m in result.front.members}, {-1.0, 0.0, 0.7, 2.0, 3.0})
                self.assertGreaterEqual(len(result.front.members), 4)

    def test_a_list_with_more_room_than_it_may_fill_comes_to_an_end(self):
        """A stair: designs in the room asked for are more than the list may hold, and what was left out came back."""
        s, x = np.meshgrid(np.arange(6.0), np.linspace(0.0, 1.0, 400))
        all_of_it = np.column_stack([(s + x**5).ravel(), (5.0 - s + (1.0 - x) ** 5).ravel()])
        for seed in range(3):
            with self.subTest(seed):
                found = run(loads(STEPS), method="front-direct-search", points=8, evaluations=3000, seed=seed)
                self.assertEqual(found.outcome, "settled")
                own = np.array([list(design.objectives.values()) for design in found.front.members])
                share = hypervolume(own, np.full(2, 6.5)) / hypervolume(all_of_it, np.full(2, 6.5))
                self.assertGreater(share, 0.95)

    def test_the_same_seed_takes_the_same_path_and_a_stopped_run_goes_on_along_it(self):
        model = "def two(x, y):\n    return {'a': x*x + y*y, 'b': (x-3)**2 + (y-1)**2}\n"
        python = (
            f'[variables]\n{BOX}[models.m]\npython = "two.py:two"\noutputs = ["a", "b"]\nderivatives = "differences"\n'
        )
        python += '[minimize]\na = "m.a"\nb = "m.b"\n[constraints]\nc = "y + x/4 >= 1.2"\n'
        with tempfile.TemporaryDirectory() as folder:
            (Path(folder) / "two.py").write_text(model)
            (Path(folder) / "p.toml").write_text(python)
            for name, kind in pairs(self.each("inequalities"), ("formula", "model")):
                problem = loads(LIMITED) if kind == "formula" else load(Path(folder) / "p.toml")
                most = 24 if name == "expected-hypervolume" else 40
                with self.subTest(method=name, kind=kind), Ledger(Path(folder) / f"{name}-{kind}.ledger") as ledger:
                    whole = run(problem, method=name, evaluations=most, points=12, seed=3, ledger=ledger)
                    run(problem, method=name, evaluations=most // 2 - 3, points=12, seed=3, ledger=ledger)
                    again = resume("r2", ledger, evaluations=most)
                    self.assertEqual([e.point for e in again.evaluations], [e.point for e in whole.evaluations])
                    self.assertEqual(again.front.values.tolist(), whole.front.values.tolist())
                    self.assertEqual(replace(again, id="").counts["evaluations"], whole.counts["evaluations"])


class Derivatives(unittest.TestCase):
    @only_in_whole
    def test_a_tenth_of_the_evaluations_of_a_population(self):
        for name in ("fonseca", "binh-korn") if WHOLE else ("fonseca",):
            item = front_named(name)
            population = run(item.problem(), method="nondominated-sorting", points=60,
                             options={"population": 100, "generations": 200, "idle": 1000})  # fmt: skip
            for method in ("boundary-intersection", "front-continuation"):
                result = run(item.problem(), method=method, points=60)
                work = result.counts["evaluations"] + 3 * result.counts["gradients"]
                with self.subTest(problem=name, method=method):
                    self.assertGreater(share_of(result, item), 0.995 * share_of(population, item))
                    self.assertLess(work, 0.1 * population.counts["evaluations"])

    @only_in_whole
    def test_dents_and_parts_are_found_by_the_default(self):
        for name in ("tanaka", "poloni", "quarter-circle") if WHOLE else ("tanaka",):
            item = front_named(name)
            self.assertGreater(share_of(run(item.problem(), points=60), item), 0.98, name)

    def test_every_problem_has_its_own_front_on_it(self):
        # The closed forms are right: no design of a population's front beats them by more than rounding.
        for number, item in enumerate(FRONTS):
            if item.name in ("kursawe", "dtlz1", "zdt4", "zdt6") or not chosen(number, 0, 3):
                continue
            result = run(item.problem(), method="nondominated-sorting", evaluations=1500, points=20)
            front = item.front()
            extent = np.ptp(front, axis=0)
            beaten = dominated_by(front, result.front.values + 2e-3 * extent)
            self.assertFalse(beaten.any(), item.name)


if __name__ == "__main__":
    unittest.main()
