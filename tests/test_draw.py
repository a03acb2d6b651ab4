"""Figures: the common size, what must be named in them, and shading where limits are missed and only there."""

import tempfile
import unittest
from dataclasses import replace
from pathlib import Path
from types import SimpleNamespace

import numpy as np

from ilvren import compare, load, loads, run
from ilvren.draw.budget import Budget
from ilvren.draw.contours import _label_spot, _levels, _short, draw_contours
from ilvren.draw.curve import draw_curve
from ilvren.draw.histories import draw_histories
from ilvren.draw.pattern import draw_pattern
from ilvren.draw.slices import draw_slices
from ilvren.draw.surface import draw_surface
from ilvren.draw.view import missed, subject_of, view_of
from ilvren.errors import RequestError
from ilvren.evaluate import Gate
from ilvren.judge.comparing.track import track_of_result
from ilvren.judge.standing.pattern import pattern_of
from tests.compact import only_in_whole, some
from tests.problems import two_variables

TEXT = two_variables("(x - 1)^2 + y^2", "x + y <= 0.9", "x - y == 0.5", start=(0.5, 0.5))


def subject(problem, name=None):
    """Return what is drawn: the objective, or an entry by name."""
    return subject_of(problem, Gate(problem), name)


class Extremes(unittest.TestCase):
    def test_every_extreme_listed_was_evaluated_within_the_bounds(self):
        """Beside a pole outside the bounds, and at limits beyond those that a figure has room for."""
        text = "[variables]\nx = { start = 0.5, lower = 0, upper = 2 }\ny = { start = 0.5, lower = 0.1, upper = 2 }\n"
        text += '[minimize]\nf = "1 / (x + 0.05) - 30 * exp(-50 * (x - 1.2)^2) / (y + 0.001) + 1 / (y - 0.0667)"\n'
        text += (
            "[constraints]\n" + "".join(f'c{k} = "x <= {1.9 + 0.01 * k}"\n' for k in range(8)) + 'last = "x <= 1.1"\n'
        )
        problem = loads(text)
        with tempfile.TemporaryDirectory() as folder:
            found = draw_slices(subject(problem), ["x", "y"], np.array(problem.start), str(Path(folder) / "s.svg"))
        self.assertTrue(found["x"])
        for place, name in enumerate(("x", "y")):
            for item in found[name]:
                point = np.array(problem.start)
                point[place] = item.where[0]
                self.assertTrue(problem.variables[place].lower <= point[place] <= problem.variables[place].upper)
                self.assertEqual(item.value, problem.named_values(tuple(point))["f"][0])
                self.assertEqual(item.is_feasible, point[0] <= 1.1)


class Figures(unittest.TestCase):
    def setUp(self):
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def drawn(self, draw, *arguments):
        """Return the text of the figure as SVG."""
        path = self.folder / "figure.svg"
        draw(*arguments, str(path))
        return path.read_text()

    @only_in_whole
    def test_histories_name_every_run_and_what_was_not_measured(self):
        runs = [run(loads(TEXT), method=name) for name in ("sqp", "nelder-mead")]
        text = self.drawn(draw_histories, compare(*runs))
        for word in (
            "sqp: converged",
            "nelder-mead: settled",
            "not measured: nelder-mead",
            "evaluations",
            "feasible below",
        ):
            self.assertIn(word, text)

    def test_histories_of_nothing_feasible(self):
        hopeless = run(loads(two_variables("x", "x^2 <= -1")), method="sqp")
        self.assertIn("no run found a feasible design", self.drawn(draw_histories, compare(hopeless)))

    def test_contours_name_limits_paths_and_held_variables(self):
        problem = loads(TEXT + "\n")
        result = run(problem, method="sqp")
        text = self.drawn(
            draw_contours, subject(problem), ("x", "y"), np.array(result.point), [track_of_result(result)]
        )
        for word in ("c0 = 0.9", "c0 missed", "c1 met", "start", "its design"):
            self.assertIn(word, text)
        three = loads(
            '[variables]\nx = 1.0\ny = 2.0\nz = { start = 3, unit = "m" }\n[minimize]\nf = "log(x - 0.9) * y + z"\n'
        )
        text = self.drawn(draw_contours, subject(three), ("x", "y"), np.array(three.start), [])
        self.assertIn("z = 3 m", text)
        self.assertIn("no finite value", text)  # log of what is left of 0

    def test_curve(self):
        problem = loads(
            '[variables]\nx = { start = 1, lower = 0, upper = 4 }\n[minimize]\nf = "sin(3 * x)"\n[constraints]\nc = "x^2 <= 9"\n'
        )
        text = self.drawn(
            draw_curve, subject(problem), "x", np.array([1.0]), [track_of_result(run(problem, method="sqp"))]
        )
        for word in ("c missed", "start", "its design"):
            self.assertIn(word, text)

    def test_a_curve_over_many_members_spans_their_whole_range(self):
        text = '[variables]\nn = { start = 1, lower = 1, upper = 5000, spacing = 1 }\n[minimize]\nf = "(n - 3000)^2"\n'
        problem = loads(text)
        members = view_of(problem, "n", np.array([1.0]), []).values(200)
        self.assertEqual((members[0], members[-1], len(members)), (1.0, 5000.0, 200))
        self.assertTrue((members == members.round()).all())

    def test_extremes_of_a_curve_are_where_calculus_puts_them(self):
        problem = loads('[variables]\nx = { start = 1, lower = 0, upper = 4 }\n[minimize]\nf = "sin(3 * x)"\n')
        path = str(self.folder / "a.svg")
        found = draw_curve(subject(problem), "x", np.array([1.0]), [], path, tangent=True)
        self.assertIn(f"slope {3 * np.cos(3.0):.5g}", Path(path).read_text())
        expected = {"low": [np.pi / 2, 7 * np.pi / 6], "high": [np.pi / 6, 5 * np.pi / 6]}
        for kind, places in expected.items():
            own = sorted(item.where[0] for item in found if item.kind == kind)
            np.testing.assert_allclose(own, places, atol=1e-5)

    @only_in_whole
    def test_a_narrow_valley_has_one_lowest_point(self):
        """A grid across it sees dozens; only what holds when looked at closer is listed, and as a start."""
        valley = loads(
            "[variables]\nx = { start = -1, lower = -1.5, upper = 2 }\ny = { start = 1, lower = -1, upper = 3 }\n"
            '[minimize]\nf = "(x - 1.2)^2 + 100 * (y - x^2)^2"\n[constraints]\nc = "y <= 1.4"\n'
        )
        for draw in some((draw_contours, draw_surface)):
            found = draw(subject(valley), ("x", "y"), np.array(valley.start), [], str(self.folder / "a.svg"))
            (low,) = [item for item in found if item.kind == "low"]
            np.testing.assert_allclose(low.where, (1.2, 1.44), atol=5e-3)
            self.assertFalse(low.is_feasible)

    @only_in_whole
    def test_slices_and_entries_of_a_vector_problem(self):
        problem = loads(
            "[variables]\nu = { start = 0.5, lower = 0, upper = 1, shape = 3 }\n"
            '[derived]\nsteps = "diff(u)"\n[minimize]\nf = "sum(u^2)"\n[constraints]\nrise = "steps <= 0.3"\n'
        )
        names = ["u[0]", "u[2]"]
        found = draw_slices(subject(problem, "steps[1]"), names, np.array(problem.start), str(self.folder / "s.svg"))
        text = (self.folder / "s.svg").read_text()
        self.assertEqual(list(found), names)
        for word in ("steps[1]", "rise[0] missed", "rise[1] missed", "u[2]"):
            self.assertIn(word, text)
        for name, words in (("steps", "draw one: steps[0] to steps[1]"), ("stp", "steps"), ("steps[7]", "steps[1]")):
            with self.subTest(name=name), self.assertRaises(RequestError) as caught:
                subject(problem, name)
            self.assertIn(words, caught.exception.advice)
        text = self.drawn(draw_pattern, problem, pattern_of(Gate(problem)))
        for word in ("2 x 3, 4 non-zeros", "3 x 3, 3 non-zeros", "rise"):
            self.assertIn(word, text)

    def test_only_what_is_missed_is_shaded(self):
        row = loads(two_variables("x", "x + y <= 2")).rows[0]
        values = np.array([1.0, 2.0, 2.0 + 1e-9, 2.1, np.nan])
        self.assertEqual(missed(values, row, 2.0).tolist(), [False, False, False, True, True])

    def test_views_show_bounds_starts_and_paths(self):
        problem = loads(
            '[variables]\nx = { start = 1, lower = 0, upper = 4 }\ny = 2.0\nz = 0.0\n[minimize]\nf = "x + y + z"\n'
        )
        point = np.array([1.0, 9.0, 0.0])
        for name, inside in (("x", (0.0, 4.0)), ("y", (2.0, 9.0)), ("z", (0.0,))):
            view = view_of(problem, name, point, [])
            for value in inside:
                self.assertTrue(view.low < value < view.high)

    def test_labels_keep_inside_and_away_from_marks(self):
        def contour(height):
            return SimpleNamespace(allsegs=[[np.column_stack([np.linspace(0, 10, 101), np.full(101, height)])]])

        sides, taken = np.array([0.0, 10.0]), [np.array([0.2, 0.5])]
        x, y = _label_spot(contour(5.0), sides, sides, taken)
        self.assertTrue(8.0 < x < 9.0 and y == 5.0)
        self.assertEqual(len(taken), 2)
        self.assertIsNone(_label_spot(contour(0.1), sides, sides, taken))

    def test_levels_show_a_valley(self):
        valley = np.concatenate([np.linspace(0, 1, 900), np.linspace(1, 1e6, 100)])
        self.assertGreater((_levels(valley) < 1.0).sum(), 8)
        self.assertEqual(_short(147000.0, 40000.0), "147000")
        self.assertEqual(float(_short(0.25, 1.0)), 0.25)


class Costly(unittest.TestCase):
    def test_grids_follow_the_measured_cost_and_say_so(self):
        with tempfile.TemporaryDirectory() as folder:
            Path(folder, "slow.py").write_text(
                "import time\n\ndef f(x, y):\n    time.sleep(0.002)\n    return {'f': (x - 1) ** 2 + (y - x) ** 2}\n"
            )
            Path(folder, "p.toml").write_text(
                "[variables]\nx = { start = 2, lower = -1, upper = 3 }\ny = { start = 1, lower = -1, upper = 3 }\n"
                '[models.m]\npython = "slow.py:f"\noutputs = ["f"]\nderivatives = "differences"\n[minimize]\ng = "m.f"\n'
            )
            problem = load(Path(folder, "p.toml"))
            for draw, names in ((draw_contours, ("x", "y")), (draw_surface, ("x", "y")), (draw_curve, "x")):
                told: list[str] = []
                gate = Gate(problem)
                subject = replace(subject_of(problem, gate, None), budget=Budget(0.6), told=told.append)
                found = draw(subject, names, np.array(problem.start), [], str(Path(folder, "d.png")))
                with self.subTest(draw=draw.__name__):
                    self.assertRegex(" ".join(told), "a grid of [0-9]+ along each variable, not .* ms")
                    self.assertLess(gate.calls[0].calls, 2500)
                    self.assertTrue(found)
                    for item in found:  # what nobody has looked at closer says so
                        self.assertTrue(item.is_followed or subject.budget.is_used_up)

    def test_formulas_are_never_cut(self):
        problem, told = loads(two_variables("(x-1)^2 + y^2", bounds=(-2, 2))), list[str]()
        subject = replace(subject_of(problem, Gate(problem), None), told=told.append)
        self.assertEqual(subject.grid_of((3, 9), lambda _: 0, lambda _: np.zeros((0, 2))), 9)
        self.assertEqual(told, [])
