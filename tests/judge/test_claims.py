"""Whatever is called proved is tried to be refuted: random formulas, random boxes, dense samples."""

import math
import unittest
from collections import Counter

import numpy as np

from ilvren import loads, run, verify
from ilvren.evaluate import Gate
from ilvren.proofs import convexity, is_convex, nothing_below, proved_conflict
from ilvren.proofs.bounding import Bounder
from tests.compact import tries

LEAVES = ("x", "y", "z", "x", "y", "1.5", "0.3", "2")
ONE = ("sin({})", "cos({})", "exp(0.5 * {})", "({})^2", "({})^3", "sqrt(1.1 + ({})^2)", "tanh({})", "abs({})", "-({})",
       "log(4 + ({})^2)", "atan({})", "1 / (2 + ({})^2)")  # fmt: skip
TWO = (
    "({}) + ({})",
    "({}) - ({})",
    "({}) * ({})",
    "({}) * ({})",
    "max({}, {})",
    "min({}, {})",
    "({}) / (1.2 + ({})^2)",
)

KINKED = ("abs", "max", "min")


def formula(rng, depth):
    if depth == 0 or rng.random() < 0.15:
        return LEAVES[rng.integers(len(LEAVES))]
    if rng.random() < 0.4:
        return ONE[rng.integers(len(ONE))].format(formula(rng, depth - 1))
    return TWO[rng.integers(len(TWO))].format(formula(rng, depth - 1), formula(rng, depth - 1))


def problem_of(rng, *, depth=3, rows=2, width=2.0, members=False, is_bowl=False):
    low = rng.uniform(-2.0, 1.0, 3)
    high = low + width * rng.uniform(0.2, 1.0, 3)
    lines = ["[variables]"]
    for name, a, b in zip("xyz", low.tolist(), high.tolist(), strict=True):
        more = f", spacing = {(b - a) / 7!r}" if members and name == "z" else ""
        start = a if more else 0.5 * (a + b)
        lines.append(f"{name} = {{ start = {start!r}, lower = {a!r}, upper = {b!r}{more} }}")
    value = formula(rng, depth)
    while is_bowl and any(word in value for word in KINKED):
        value = formula(rng, depth)
    more = " + 4 * (x^2 + y^2 + z^2)" if is_bowl else ""
    lines += ["[minimize]", f'f = "{value} + 0.01 * (x + y + z){more}"']
    if rows:
        lines += ["[constraints]"]
        for k in range(rows):
            value = formula(rng, depth - 1)
            lines.append(f'c{k} = "{value} + 0.01 * (x - y + z) {rng.choice(["<=", ">="])} {float(rng.normal())!r}"')
    return loads("\n".join(lines))


def sampled(problem, rng, count=4000, low=None, high=None):
    """Return designs of the box and which of them are feasible, with their values."""
    low = problem.joined("lower") if low is None else low
    high = problem.joined("upper") if high is None else high
    points = low + rng.random((count, len(low))) * (high - low)
    points[: count // 8] = np.where(rng.random((count // 8, len(low))) < 0.5, low, high)
    for place, variable in problem.grid:
        points[:, place] = [variable.member(float(value)) for value in points[:, place]]
    with np.errstate(all="ignore"):
        values, rows = Gate(problem).batch_values(points)
    meets = ((rows >= problem.joined_rows("lower")) & (rows <= problem.joined_rows("upper"))).all(axis=1)
    return points, values, meets & np.isfinite(values)


class Refuted(unittest.TestCase):
    def test_no_design_lies_below_what_is_proved(self):
        rng = np.random.default_rng(11)
        claimed = 0
        for trial in range(tries(20)):
            problem = problem_of(rng, rows=trial % 3, members=trial % 5 == 4)
            _, values, feasible = sampled(problem, rng)
            if not feasible.any():
                continue
            least = float(values[feasible].min())
            span = float(np.ptp(values[feasible])) + 1e-6
            for share in (0.2, 0.02, 1e-3):
                proved, boxes = nothing_below(problem, least - share * span, 400)
                self.assertLessEqual(boxes, 400 + 600)
                claimed += proved
            # Above what was seen there is nothing to be proved.
            self.assertFalse(nothing_below(problem, least + 0.05 * span, 400)[0], trial)
        self.assertGreater(claimed, tries(20))

    def test_every_bound_of_a_box_is_below_its_designs(self):
        rng = np.random.default_rng(12)
        compared = better = 0
        for trial in range(tries(40)):
            problem = problem_of(rng, rows=2 * (trial % 2), is_bowl=trial % 2 == 0)
            bounder = Bounder(problem)
            low, high = problem.joined("lower"), problem.joined("upper")
            for _ in range(4):
                ends = np.sort(low + rng.random((2, 3)) * (high - low), axis=0)
                points, values, feasible = sampled(problem, rng, 600, *ends)
                if not feasible.any():
                    continue
                least = float(values[feasible].min())
                with np.errstate(all="ignore"):
                    found = bounder.bound(ends[:1].copy(), ends[1:].copy(), math.inf)
                    convex = float(bounder.convex_bound(ends[:1].copy(), ends[1:].copy())[0])
                slack = 1e-9 * max(1.0, abs(least))
                self.assertLessEqual(found.bound[0], least + slack)
                self.assertLessEqual(convex, least + slack)
                kept = points[feasible]
                self.assertTrue((kept >= found.lows[0] - 1e-9).all() and (kept <= found.highs[0] + 1e-9).all())
                compared += 1
                better += convex > -math.inf
        self.assertGreater(compared, tries(25))
        self.assertGreater(better, tries(3))

    def test_what_can_never_hold_never_does(self):
        rng = np.random.default_rng(13)
        claimed = 0
        for _ in range(tries(150)):
            problem = problem_of(rng, rows=3, width=0.8)
            found = proved_conflict(problem)
            if found is None:
                continue
            claimed += 1
            points, _, _ = sampled(problem, rng, 3000)
            with np.errstate(all="ignore"):
                _, rows = Gate(problem).batch_values(points)
            names = {name.partition("[")[0] for name in found.names}
            own = [place for place, row in enumerate(problem.rows) if row.name.partition("[")[0] in names]
            lower, upper = problem.joined_rows("lower")[own], problem.joined_rows("upper")[own]
            meets = ((rows[:, own] >= lower) & (rows[:, own] <= upper)).all(axis=1)
            self.assertFalse(meets.any(), found.sentence)
        self.assertGreater(claimed, tries(20))

    def test_what_is_called_convex_lies_below_its_chords(self):
        rng = np.random.default_rng(14)
        claimed = 0
        for trial in range(tries(250)):
            problem = problem_of(rng, depth=1 + trial % 3, rows=trial % 2)
            if not is_convex(problem):
                continue
            claimed += 1
            low, high = problem.joined("lower"), problem.joined("upper")
            a, b = (low + rng.random((800, 3)) * (high - low) for _ in range(2))
            with np.errstate(all="ignore"):
                ends = [Gate(problem).batch_values(points) for points in (a, b, 0.5 * (a + b))]
            (fa, ra), (fb, rb), (fm, rm) = ends
            self.assertTrue((fm <= 0.5 * (fa + fb) + 1e-9 * (1.0 + np.abs(fm))).all(), problem.source.text)
            lower, upper = problem.joined_rows("lower"), problem.joined_rows("upper")
            both = ((ra >= lower) & (ra <= upper) & (rb >= lower) & (rb <= upper)).all(axis=1)
            middle = ((rm >= lower - 1e-9) & (rm <= upper + 1e-9)).all(axis=1)
            self.assertTrue(middle[both].all(), problem.source.text)
        self.assertGreater(claimed, tries(12))

    def test_what_is_convex_by_rule_is_seen_to_be(self):
        for text, expected in (
            ("x^2 + y^2 + exp(z)", True),
            ("max(x, y) + abs(z)", True),
            ("x^2 + x*y + y^2 + z", True),
            ("x^2 + 3*x*y + y^2", False),
            ("(x - y + z)^4", True),
            ("-log(4 + x) + y", True),
            ("x^3", False),
            ("sin(x)", False),
            ("-x^2", False),
            ("exp(x^2 + y^2)", True),
        ):
            head = "".join(f"{n} = {{ start = 0.1, lower = -1.5, upper = 2 }}\n" for n in "xyz")
            self.assertIs(is_convex(loads(f'[variables]\n{head}[minimize]\nf = "{text}"\n')), expected, text)
            turned = loads(f'[variables]\n{head}[maximize]\nf = "-({text})"\n')
            self.assertIs(is_convex(turned), expected, text)

    def test_rows_of_either_side_must_bend_the_right_way(self):
        head = "[variables]\n" + "".join(f"{n} = {{ start = 0.1, lower = -1.5, upper = 2 }}\n" for n in "xy")
        for row, expected in (
            ("x^2 + y^2 <= 1", True),
            ("x^2 + y^2 >= 1", False),
            ("-x^2 - y^2 >= -1", True),
            ("x + 2*y == 0.5", True),
            ("x^2 + y == 0.5", False),
            ("-1 <= x - y <= 2", True),
            ("0.1 <= x^2 <= 2", False),
        ):
            problem = loads(f'{head}[minimize]\nf = "x^2 + y"\n[constraints]\nc = "{row}"\n')
            self.assertIs(is_convex(problem), expected, row)


class Verdicts(unittest.TestCase):
    """Runs of random problems, judged: what holds is held against every design of a dense sample."""

    def test_no_sample_beats_what_is_said_to_hold(self):
        rng = np.random.default_rng(21)
        said = Counter()
        for trial in range(tries(24)):
            problem = problem_of(rng, depth=2, rows=trial % 3, members=trial % 4 == 3)
            result = run(problem, second_look=0)
            verdict = verify(result)
            said[verdict.verdict] += 1
            if not verdict.holds:
                continue
            self.assertLessEqual(result.violation, 1e-6)
            point, sizes = np.array(result.full_point), problem.joined("upper") - problem.joined("lower")
            here = Gate(problem).evaluate(point).objective
            size = max(abs(here), 1.0)
            if verdict.verdict == "global-proved":
                _, values, feasible = sampled(problem, rng, 6000)
                self.assertFalse((values[feasible] < here - 1e-6 * size).any(), problem.source.text)
            for radius in (1e-4, 1e-3):
                low = np.maximum(point - radius * sizes, problem.joined("lower"))
                high = np.minimum(point + radius * sizes, problem.joined("upper"))
                for place, _ in problem.grid:
                    low[place] = high[place] = point[place]
                points = low + rng.random((3000, 3)) * (high - low)
                with np.errstate(all="ignore"):
                    values, rows = Gate(problem).batch_values(points)
                lower, upper = problem.joined_rows("lower"), problem.joined_rows("upper")
                meets = ((rows >= lower) & (rows <= upper)).all(axis=1)
                self.assertFalse((values[meets] < here - 1e-6 * size).any(), (verdict.verdict, problem.source.text))
        self.assertGreater(
            sum(count for word, count in said.items() if word.startswith(("local", "global"))), tries(8), said
        )

    def test_a_design_moved_along_a_way_down_never_holds(self):
        rng = np.random.default_rng(22)
        moved = 0
        for _ in range(tries(16)):
            problem = problem_of(rng, depth=2, rows=0)
            low, high = problem.joined("lower"), problem.joined("upper")
            point = low + rng.uniform(0.3, 0.7, 3) * (high - low)
            found = Gate(problem).evaluate(point, derivatives=True)
            steep = float(np.abs(found.gradient * (high - low)).max())
            if not steep > 1e-2 * max(abs(found.objective), 1.0):
                continue
            moved += 1
            verdict = verify(problem, at=dict(zip("xyz", point.tolist(), strict=True)))
            self.assertFalse(verdict.holds, problem.source.text)
        self.assertGreater(moved, tries(8))


class Semidefinite(unittest.TestCase):
    def test_no_matrix_between_has_a_negative_eigenvalue(self):
        rng = np.random.default_rng(15)
        claimed = refused_rightly = 0
        for trial in range(tries(300)):
            n = int(rng.integers(1, 5))
            root = rng.normal(size=(n, n))
            middle = root @ root.T + rng.uniform(-0.3, 0.6) * np.eye(n)
            radius = rng.uniform(0.0, 0.3) * rng.random((n, n))
            radius = 0.5 * (radius + radius.T)
            if trial % 3 == 0:
                radius[:] = 0.0
                middle = np.round(middle * 8) / 8  # exact fractions
            low, high = middle - radius, middle + radius
            draws = low + rng.random((400, n, n)) * (high - low)
            draws = np.triu(draws) + np.transpose(np.triu(draws, 1), (0, 2, 1))
            corners = np.where(rng.random((400, n, n)) < 0.5, low, high)
            corners = np.triu(corners) + np.transpose(np.triu(corners, 1), (0, 2, 1))
            least = float(np.linalg.eigvalsh(np.concatenate([draws, corners])).min())
            if convexity._is_semidefinite(low, high):
                claimed += 1
                self.assertGreaterEqual(least, -1e-9)
            elif least < -1e-9:
                refused_rightly += 1
        self.assertGreater(min(claimed, refused_rightly), tries(40))

    def test_singular_matrices_are_decided_in_fractions(self):
        for matrix, expected in (
            ([[1.0, 1.0], [1.0, 1.0]], True),
            ([[1.0, -2.0], [-2.0, 4.0]], True),
            ([[1.0, 2.0], [2.0, 3.0]], False),
            ([[0.0, 0.0], [0.0, 2.0]], True),
            ([[0.0, 1.0], [1.0, 2.0]], False),
            ([[2.0, 1.0, 1.0], [1.0, 2.0, -1.0], [1.0, -1.0, 2.0]], True),
            ([[-0.5]], False),
            ([[0.0]], True),
        ):
            own = np.array(matrix)
            self.assertIs(convexity._is_semidefinite(own, own), expected, matrix)
        wide = np.array([[1.0, 0.9], [0.9, 1.0]])
        self.assertTrue(convexity._is_semidefinite(wide - 0.04, wide + 0.04))
        self.assertFalse(convexity._is_semidefinite(wide - 0.2, wide + 0.2))


if __name__ == "__main__":
    unittest.main()
